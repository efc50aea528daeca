"""`python -m faithful_ledger`: the same as the installed command."""

import sys

from faithful_ledger.cli.main import main

sys.exit(main())
