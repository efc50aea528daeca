"""From the validated keys of a template to the model the binder uses.

Every mistake that needs more than one key to see is found here: names that lead nowhere, storages and algorithms that
do not exist, expressions that are not allowed, records within themselves. All are gathered, none stops the others.
"""

from faithful_ledger.core.template.compile.files import compile_signs, compile_template
from faithful_ledger.core.template.compile.mistakes import Keys, Mistakes, Where

__all__ = ["Keys", "Mistakes", "Where", "compile_signs", "compile_template"]
