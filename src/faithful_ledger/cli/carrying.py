"""`carry` and `kit`: values and records of one save, put into another one."""

from __future__ import annotations

import argparse
from pathlib import Path

from faithful_ledger.cli.opening import opened
from faithful_ledger.cli.output import print_json, print_table, say
from faithful_ledger.cli.saves import plan_json, posted, print_plan, split_paths, split_setting
from faithful_ledger.core.carry import LeftOut, carry_rows, kits, put_values, taken
from faithful_ledger.core.errors import AddressError
from faithful_ledger.core.posting.files import new_file
from faithful_ledger.core.save import Save

__all__ = ["carry", "kit"]


def carry(options: argparse.Namespace) -> int:
    """Values or records of one save into another; status 1 where nothing could be carried."""
    source, target = (opened(options, Path(name)) for name in (options.source, options.target))
    if source.path.absolute() == target.path.absolute():
        raise AddressError(f"{source.path} is both sides of the carry", "nothing was changed; name two saves")
    into = dict(_both(each) for each in options.take)
    if options.what == "rows":
        left = carry_rows(source, target, into, options.on_clash)
    else:
        values = taken(source, into)
        chosen = {path: where for path, where in into.items() if where != path}
        left = put_values(target, values, only_empty=options.only_empty, anyway=options.anyway, into=chosen)
    return _posted(options, target, left)


def kit(options: argparse.Namespace) -> int:
    """Take values of a save as a kit, or apply one."""
    if options.action == "take":
        return _take(options)
    given = options.kit
    found = kits.kit_of_text(given) if given.startswith(kits.LINE) else kits.read_kit(Path(given))
    save = opened(options, Path(options.file))
    left = put_values(save, found.values, only_empty=options.only_empty, anyway=options.anyway)
    return _posted(options, save, left)


def _take(options: argparse.Namespace) -> int:
    save = opened(options, Path(options.file))
    template = save.template
    values = taken(save, [path for each in options.fields for path in split_paths(each)])
    if not values:
        raise AddressError("nothing was named that has a value", "no kit was made; say what with --fields PATH,…")
    made = kits.Kit(template.game if template else "", template.id if template else "", tuple(values))
    if options.out is not None:
        new_file(Path(options.out), made.file())
    if options.json:
        print_json({"written": options.out, "line": made.line(), **made.document()})
        return 0
    print_table("Kit", ("Field", "Value"), [(each.path, each.text) for each in values])
    say(f"Written to {options.out}." if options.out is not None else made.line())
    return 0


def _posted(options: argparse.Namespace, save: Save, left: list[LeftOut]) -> int:
    plan, kept, written = posted(options, save)
    document = plan_json(plan, written, kept)
    if options.json:
        files = [str(file.file.path) for file in plan.files if file.changes] if written else []
        document |= {"written": files, "kept": [kept] if kept else []}
        print_json({**document, "left_out": [each._asdict() for each in left]})
    else:
        print_plan(plan, written, kept, knows_seals=save.knows_seals)
        print_table("Left out", ("Field", "Why"), [(each.path, each.why) for each in left])
    return 0 if plan.entries or not left else 1


def _both(given: str) -> tuple[str, str]:
    """A path, and where its value goes: the same path where nothing else is said."""
    try:
        path, where = split_setting(given)
    except AddressError:
        return given.strip(), given.strip()
    return path, where.strip()
