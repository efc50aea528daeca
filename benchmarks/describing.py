"""What a change by hand costs in the window, over a large template and many kept copies, as CPU time."""

from __future__ import annotations

import os
import random
import statistics
import tempfile
import time
from pathlib import Path

from measure import Line

FIELDS, COPIES = 2000, 100
GOAL = 0.2  # seconds


def describing(rounds: int) -> list[Line]:
    """From a label that is typed for the field that is selected until the outline, the margin and the copies in sight
    say so.
    """
    os.environ["QT_QPA_PLATFORM"] = "offscreen"
    from PySide6.QtTest import QTest

    from faithful_ledger.core.shelf import Shelf
    from faithful_ledger.desk.application import application, make_shell
    from faithful_ledger.desk.stages.describe import COPIES as PANE

    rng = random.Random(20)
    with tempfile.TemporaryDirectory(prefix="ledger-bench-") as name:
        path = Path(name) / "large.sav"
        layout = "\n".join(f"      - {{field: f{n}, as: {rng.choice(('u32', 'f32', 'i32'))}}}" for n in range(FIELDS))
        head = "ledger: 1\nid: large\ntitle: Large\nfiles:\n  save:\n    name: '*.sav'\n    layout:\n"
        content = bytearray(rng.randbytes(4 * FIELDS + 64))
        path.write_bytes(content)
        running = application()
        shell = make_shell(Shelf(Path(name) / "home", Path(name) / "cache"))
        session = shell.session
        assert session.open(path)
        book, save = session.book, session.save
        assert book is not None and save is not None
        for number in range(COPIES):
            for _ in range(40):
                content[rng.randrange(len(content))] = rng.randrange(256)
            path.write_bytes(content)
            book.keeping.keep(save, f"copy {number}")
        (book.folder / "templates").mkdir(exist_ok=True)
        (book.folder / "templates" / "large.yaml").write_text(f"{head}{layout}\n", "utf-8")

        def settle() -> None:
            """Until nothing goes on any more: all copies are read as well."""
            while True:
                session.wait()
                running.processEvents()
                model = shell.describe.copies.model
                if shell.at_rest and model is not None and model.columnCount() == COPIES + 1:
                    break
            session.wait()
            running.processEvents()

        session.reopen_with("large")
        shell.resize(1280, 800)
        shell.show()
        QTest.keySequence(shell, "Ctrl+3")
        shell.describe.show_pane(PANE)
        settle()
        times = []
        for number in range(rounds + 1):
            assert session.save is not None
            node = session.save.nodes(f"f{number}")[0]
            session.select_node(node)
            settle()
            before = shell.describe.copies.model
            began = time.process_time()
            assert session.describing.set(node, {"label": f"Shown {number}"}, "label")
            while shell.describe.copies.model is before:
                running.processEvents()
            times.append(time.process_time() - began)
            settle()
        seconds = statistics.median(times[1:])
        shell.close()
    what = f"a label while describing: {FIELDS} fields, {COPIES} kept copies, CPU time until it is seen"
    return [Line(what, f"{seconds:.2f} s", f"at most {GOAL} s", seconds <= GOAL)]
