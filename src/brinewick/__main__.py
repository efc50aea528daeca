"""`python -m brinewick [--saves FOLDER] [--slot N] ACTION …`: one action a call."""

from __future__ import annotations

import argparse
import sys
from collections.abc import Callable
from dataclasses import replace
from functools import partial
from pathlib import Path
from typing import TypeAlias

from brinewick import play, tether
from brinewick.atlas import Atlas
from brinewick.card import Card
from brinewick.company import SaveRefused
from brinewick.console import OWNERS, REGIONS, Export
from brinewick.deep import Depot
from brinewick.harbour import Harbour
from brinewick.pocket import Pocket
from brinewick.quill import Quill

Keeper: TypeAlias = Harbour | Depot | Pocket | Export | Card | Quill | Atlas
KEEPERS: dict[str, Callable[[Path], Keeper]] = {
    "desktop": Harbour,
    "pocket": Pocket,
    "console": Export,
    "card": Card,
    "deep": Depot,
    "atlas": Atlas,
    **{name: partial(Quill, kind=name) for name in ("quill", "quill-zip", "quill-db")},
}
WITH_SLOTS = ("desktop", "pocket", "console", "card", "deep", "quill", "quill-zip", "quill-db")


def parser() -> argparse.ArgumentParser:
    top = argparse.ArgumentParser(prog="brinewick", description="A salvage company in a drowned town.")
    top.add_argument("--saves", type=Path, default=Path("brinewick-saves"), help="the folder of the saves")
    top.add_argument("--edition", choices=KEEPERS, default="desktop", help="how saves are stored")
    top.add_argument("--harbour", default="west-quay", help="the folder of the harbour, of the atlas edition")
    top.add_argument("--map", type=int, choices=(1, 2), default=1, help="the version of the map of a new harbour")
    top.add_argument("--region", choices=[name.decode() for name in REGIONS], default="MOLE", help="of the console")
    top.add_argument("--owner", choices=OWNERS, default="oriel", help="whose console it is")
    top.add_argument("--slot", type=int, default=1, help="the slot to play (1 to 99)")
    actions = top.add_subparsers(dest="action", required=True)
    actions.add_parser("start", help="a new company").add_argument("name")
    actions.add_parser("show", help="what the player sees")
    for trade in ("sell", "buy"):
        one = actions.add_parser(trade, help=f"{trade} things at the quay")
        one.add_argument("item")
        one.add_argument("count", type=int, nargs="?", default=1)
    for care in ("dive", "heal", "hire"):
        actions.add_parser(care, help=f"{care} a diver").add_argument("name")
    for change, what in (("open-site", "a site"), ("install-charter", "an add-on"), ("remove-charter", "an add-on")):
        actions.add_parser(change, help=f"{change.partition('-')[0]} {what}").add_argument("name")
    rename = actions.add_parser("rename", help="give a diver another name")
    rename.add_argument("old")
    rename.add_argument("new")
    actions.add_parser("save", help="save to another slot").add_argument("to", type=int)
    return top


def act(options: argparse.Namespace) -> str:
    harbour = KEEPERS[options.edition](options.saves)
    if isinstance(harbour, Atlas):
        harbour = Atlas(options.saves, options.harbour, options.map)
    if isinstance(harbour, Export | Card):
        harbour.region, harbour.owner = options.region.encode(), OWNERS[options.owner]
    if options.action == "start":
        harbour.save(play.start(options.name, options.slot))
        return f"{options.name} opens its books in slot {options.slot}"
    for name in tether.pull(options.saves):
        print(f"Tether put back its own {name}.")
    company = harbour.load(options.slot)
    if options.action == "show":
        return play.show(company)
    if options.action == "save":
        if options.edition not in WITH_SLOTS:
            raise play.NotPossible(f"the {options.edition} edition has one slot")
        if not 1 <= options.to <= 99:
            raise play.NotPossible("slots are 1 to 99")
        harbour.save(replace(company, slot=options.to))
        return f"saved in slot {options.to}"
    if options.action in ("sell", "buy"):
        answer = getattr(play, options.action)(company, options.item, options.count)
    elif options.action == "rename":
        answer = play.rename(company, options.old, options.new)
    else:
        answer = getattr(play, options.action.replace("-", "_"))(company, options.name)
    harbour.save(company)
    return str(answer)


def main(arguments: list[str] | None = None) -> int:
    options = parser().parse_args(arguments)
    if not 1 <= options.slot <= 99:
        print("brinewick: slots are 1 to 99", file=sys.stderr)
        return 2
    try:
        print(act(options))
        if options.action != "show":
            tether.push(options.saves)
    except SaveRefused as error:
        print(f"Brinewick refuses the save: {error}.", file=sys.stderr)
        return 1
    except play.NotPossible as error:
        print(f"Brinewick: {error}.", file=sys.stderr)
        return 2
    except OSError as error:
        print(f"Brinewick cannot write here: {error}", file=sys.stderr)
        return 2
    return 0


if __name__ == "__main__":
    sys.exit(main())
