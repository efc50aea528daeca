"""`./demo`: the window with the demo book, or the example offscreen where there is no display."""

from __future__ import annotations

import argparse
import os
import sys
import tempfile
from pathlib import Path

SCREENSHOTS = Path(__file__).resolve().parents[3] / "docs" / "screenshots"


def main() -> int:
    options = argparse.ArgumentParser(prog="demo", description="Faithful Ledger with a book of the made-up game.")
    options.add_argument("--shots", action="store_true", help="renew the pictures in docs/screenshots")
    options.add_argument(
        "--offscreen", action="store_true", help="go through the example even where there is a display"
    )
    given = options.parse_args()
    display = os.environ.get("DISPLAY") or os.environ.get("WAYLAND_DISPLAY")
    if given.shots or given.offscreen or not display:
        os.environ["QT_QPA_PLATFORM"] = "offscreen"
        return _walk(given.shots)
    from faithful_ledger.demo.book import demo_shelf, make_demo_book
    from faithful_ledger.desk.application import application, make_shell

    shelf = demo_shelf()
    path = make_demo_book(shelf)
    running = application()
    shell = make_shell(shelf)
    shell.session.open(path)
    shell.show()
    return running.exec()


def _walk(shots: bool) -> int:
    from faithful_ledger.core.shelf import Shelf
    from faithful_ledger.demo.book import demo_shelf
    from faithful_ledger.demo.example import Example, ExampleFailed

    try:
        if shots:
            with tempfile.TemporaryDirectory(prefix="brinewick-") as folder:
                Example(Shelf(Path(folder) / "demo", Path(folder) / "cache"), SCREENSHOTS).run()
        else:
            shelf = demo_shelf()
            Example(shelf, shelf.data.parent / "demo-pictures").run()
    except ExampleFailed as error:
        print(f"\nThe example failed at: {error}", file=sys.stderr)
        return 1
    return 0


if __name__ == "__main__":
    sys.exit(main())
