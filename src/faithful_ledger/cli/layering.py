"""Commands about layers: the payload out of a file, and back into it."""

from __future__ import annotations

import argparse
from pathlib import Path

from faithful_ledger.cli.keys import keys_given
from faithful_ledger.cli.opening import opened_or_bytes
from faithful_ledger.cli.output import print_json, say
from faithful_ledger.core.errors import Refused
from faithful_ledger.core.posting import make_plan
from faithful_ledger.core.posting.files import new_file
from faithful_ledger.core.source import read_whole
from faithful_ledger.core.unwrapping import enter_payload, payload_of, put_back

__all__ = ["unwrap", "wrap"]


def unwrap(options: argparse.Namespace) -> int:
    """Write the payload of a file to a new one."""
    save = opened_or_bytes(options, Path(options.file))
    taken = payload_of(save, options.layer or "", keys_given(options))
    new_file(Path(options.out), taken.data)
    route = " → ".join(taken.route)
    if options.json:
        print_json({"written": options.out, "payload": taken.name, "route": list(taken.route), "size": len(taken.data)})
    else:
        say(f"{options.out}: {len(taken.data)} bytes of {save.main.path.name}, through {route}.")
    return 0


def wrap(options: argparse.Namespace) -> int:
    """Write a file like another one, with a payload in it that may have been changed."""
    data = read_whole(Path(options.payload))[0]
    save = opened_or_bytes(options, Path(options.like))
    out = Path(options.out)
    keys = keys_given(options)
    taken = payload_of(save, options.layer or "", keys)
    renewed: list[str] = []
    if taken.name in save.files:
        enter_payload(save, taken.name, data)
        plan = make_plan(save)
        if not plan.in_balance:
            raise Refused(
                "nothing was written: the result would be out of balance", "see check for the file it is like"
            )
        patched = next(file.patched for file in plan.files if file.file is save.main)
        content = bytes(patched.read(0, patched.size))
        renewed = [renewal.node.path for renewal in plan.renewals]
    else:
        content = put_back(save, data, options.layer or "", keys)
    new_file(out, content)
    if options.json:
        print_json({"written": options.out, "payload": taken.name, "route": list(taken.route), "renewed": renewed})
    else:
        more = f"; put right: {', '.join(renewed)}" if renewed else ""
        say(f"{options.out}: {len(content)} bytes, the payload through {' → '.join(taken.route)}{more}.")
    return 0
