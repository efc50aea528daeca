"""Templates: what a save holds and where, in a language of its own (docs/template-language.md)."""

from faithful_ledger.core.template.library import Library
from faithful_ledger.core.template.loader import load_template, parse_template, read_template
from faithful_ledger.core.template.model import Template

__all__ = ["Library", "Template", "load_template", "parse_template", "read_template"]
