"""`python -m tests [NAME …]`: every test, or those in the named modules; the last line counts them."""

from __future__ import annotations

import sys
import unittest
from pathlib import Path

HERE = Path(__file__).parent


def main(names: list[str]) -> int:
    loader = unittest.defaultTestLoader
    suite = loader.loadTestsFromNames(names) if names else loader.discover(str(HERE), top_level_dir=str(HERE.parent))
    result = unittest.TextTestRunner(verbosity=1, stream=sys.stdout).run(suite)
    failed = len(result.failures) + len(result.errors) + len(result.unexpectedSuccesses)
    skipped = len(result.skipped) + len(result.expectedFailures)
    passed = max(result.testsRun - failed - skipped, 0)
    print(f"{passed} passed, {failed} failed, {skipped} skipped", flush=True)
    return 1 if failed or not result.testsRun else 0


if __name__ == "__main__":
    sys.exit(main(sys.argv[1:]))
