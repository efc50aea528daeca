"""The parts of a template that are about carrying: slots, a card, and what kind of files are in a folder."""

from __future__ import annotations

from collections.abc import Callable, Mapping
from typing import Any

from faithful_ledger.core.address import Expression
from faithful_ledger.core.errors import LedgerError
from faithful_ledger.core.template.carries import CardSpec, CarryRule, SlotSpec
from faithful_ledger.core.template.compile.mistakes import Keys, Mistakes, Where
from faithful_ledger.core.template.model import ElementSpec, FieldSpec, GroupSpec, RowsSpec, Template

__all__ = ["Carrying", "naming"]


def naming(keys: Keys) -> dict[str, Any]:
    """How a name says a value, for a rule and for slots."""
    names = {name: str(value) for name, value in keys.get("names", {}).items()}
    return {"of_folder": keys.get("of") == "folder", "pattern": keys.get("pattern", ""), "names": names}


class Carrying:
    """`whole_path` finds the element that a path from outside leads to, or notes the mistake."""

    def __init__(
        self,
        keys: Keys,
        mistakes: Mistakes,
        template: Template,
        whole_path: Callable[[Template, str, Where], ElementSpec | None],
    ) -> None:
        self.keys, self.mistakes, self.template, self.whole_path = keys, mistakes, template, whole_path

    def add(self) -> None:
        """Put into the template what its keys say."""
        self.template.slots, self.template.card = self.slots(), self.card()
        rules = self.keys.get("carries", ())
        self.template.carries = tuple(self.carry_rule(keys, number) for number, keys in enumerate(rules))

    def slots(self) -> SlotSpec | None:
        """The slots, by what `slots` says, else by the first rule about the name of a file."""
        keys, rule = self.keys.get("slots") or {}, next(iter(self.template.name_rules), None)
        shows = tuple(keys.get("shows", ()))
        if keys.get("rows"):
            return self.inner_slots(keys, shows)
        for path in shows:
            self.whole_path(self.template, path, ("slots", "shows"))
        if (keys.get("first") is None) != (keys.get("last") is None) or keys.get("first", 0) > keys.get("last", 0):
            self.mistakes.append((("slots",), "numbered slots have a first and a last one"))
        numbers: dict[str, Any] = {"first": keys.get("first"), "last": keys.get("last"), "shows": shows}
        if keys.get("pattern") or keys.get("names"):
            if "{}" not in keys.get("pattern", "{}"):
                self.mistakes.append((("slots", "pattern"), "say where in the name the slot is: {}"))
            return SlotSpec(file=self.template.main.name, **numbers, **naming(keys))
        if rule is None:
            if keys:
                text = "say with `pattern` where in the name the slot is: {}, or with a rule `named` which field it is"
                self.mistakes.append((("slots",), text))
            return None
        first = rule.path.partition(".")[0]
        file = (
            first
            if self.template.main.root.named(first) is None and first in self.template.files
            else self.template.main.name
        )
        said: dict[str, Any] = {"of_folder": rule.of_folder, "pattern": rule.pattern, "names": rule.names}
        return SlotSpec(file=file, path=rule.path, **numbers, **said)

    def inner_slots(self, keys: Keys, shows: tuple[str, ...]) -> SlotSpec:
        """Slots that are records of one file."""
        found = self.whole_path(self.template, keys["rows"], ("slots", "rows"))
        record = found.item if isinstance(found, RowsSpec) else None
        if found is not None and not isinstance(record, GroupSpec):
            self.mistakes.append((("slots", "rows"), f"“{keys['rows']}” is not rows of records"))
        keep = tuple(keys.get("keep", ()))
        for key, names in (("shows", shows), ("keep", keep)):
            for name in names:
                if isinstance(record, GroupSpec) and not isinstance(record.named(name), FieldSpec):
                    self.mistakes.append((("slots", key), f"the records of {keys['rows']} have no field “{name}”"))
        main, first = self.template.main.name, keys.get("first")
        return SlotSpec(file=main, first=first, shows=shows, rows=keys["rows"], keep=keep)

    def card(self) -> CardSpec | None:
        """How a card holds files."""
        keys = self.keys.get("card")
        if not keys:
            return None
        entries = self.whole_path(self.template, keys["entries"], ("card", "entries"))
        record = entries.item if isinstance(entries, RowsSpec) else None
        if entries is not None and not isinstance(record, GroupSpec):
            self.mistakes.append((("card", "entries"), f"“{keys['entries']}” is not rows of records"))
        elif isinstance(entries, RowsSpec) and not entries.empty:
            self.mistakes.append((("card", "entries"), "say with `empty` at these rows which entries are free"))
        named = [(key, keys.get(key)) for key in ("name", "first", "size", "count", "state", "icon")]
        for key, name in [*named, *(("fill", name) for name in keys.get("fill", {}))]:
            if name and isinstance(record, GroupSpec) and not isinstance(record.named(name), FieldSpec):
                self.mistakes.append((("card", key), f"the records of {keys['entries']} have no field “{name}”"))
        following = self.whole_path(self.template, keys["next"], ("card", "next"))
        if keys["next"].startswith(f"{keys['entries']}[*]."):
            if not keys.get("state") or not keys.get("states"):
                text = "where `next` is a field of the entries, say with `state` and `states` which block is which"
                self.mistakes.append((("card", "next"), text))
        elif following is not None and not (isinstance(following, RowsSpec) and isinstance(following.item, FieldSpec)):
            self.mistakes.append((("card", "next"), f"“{keys['next']}” is not rows of single numbers"))
        elif not keys.get("first"):
            self.mistakes.append((("card",), "say with `first` which field has the number of the first block"))
        if not keys.get("size") and not keys.get("count"):
            text = "an entry says with `size` how many bytes it has, or with `count` how many blocks"
            self.mistakes.append((("card",), text))
        if keys.get("free_count"):
            self.whole_path(self.template, keys["free_count"], ("card", "free_count"))
        for path in (path for both in keys.get("copies", ()) for path in both):
            self.whole_path(self.template, path, ("card", "copies"))
        try:
            size, at = Expression(keys["block_size"]), Expression(keys.get("at", 0))
        except LedgerError as error:
            self.mistakes.append((("card", "block_size"), str(error)))
            return None
        states = keys.get("states") or ("", "", "")
        return CardSpec(
            entries=keys["entries"],
            name=keys["name"],
            next=keys["next"],
            block_size=size,
            at=at,
            first=keys.get("first") or "",
            size=keys.get("size") or "",
            count=keys.get("count") or "",
            free=keys.get("free", 0),
            last=keys.get("last", 0xFFFF),
            state=keys.get("state") or "",
            states=(str(states[0]), str(states[1]), str(states[2])),
            free_count=keys.get("free_count") or "",
            icon=keys.get("icon") or "",
            copies=tuple((one, other) for one, other in keys.get("copies", ())),
            fill=tuple(
                (pattern, name, str(value))
                for name, given in keys.get("fill", {}).items()
                for pattern, value in (given if isinstance(given, Mapping) else {"*": given}).items()
            ),
            pairs=tuple((one, other) for one, other in keys.get("pairs", ())),
            apart=tuple((one, other) for one, other in keys.get("apart", ())),
        )

    def carry_rule(self, keys: Keys, number: int) -> CarryRule:
        """What kind of files some are."""
        patterns = keys["files"] if isinstance(keys["files"], list) else [keys["files"]]
        if (keys["kind"] == "add-on") is not bool(keys.get("needs")):
            text = "files of an add-on, and only those, say what they need: `needs`"
            self.mistakes.append((("carries", number), text))
        return CarryRule(tuple(patterns), keys["kind"], keys.get("needs") or "", keys.get("why", ""))
