"""The templates at hand, and which of them fits a file."""

from __future__ import annotations

from collections.abc import Callable
from fnmatch import fnmatchcase
from pathlib import Path
from typing import TypeAlias

from faithful_ledger.core.errors import LedgerError, NoTemplateFits, RecognitionError, TemplateError
from faithful_ledger.core.source import Source
from faithful_ledger.core.suggest import did_you_mean
from faithful_ledger.core.template.loader import load_signs, load_template
from faithful_ledger.core.template.model import Sign, Template

__all__ = ["SHIPPED", "Library"]

Read: TypeAlias = Callable[[int, int], bytes | memoryview]
SHIPPED = Path(__file__).resolve().parents[2] / "templates"


class Library:
    """Templates in folders, the shipped ones last. A template that has mistakes is kept in `broken`, not in the way."""

    def __init__(self, folders: tuple[Path, ...] = (), cache: Path | None = None) -> None:
        self.folders = (*folders, SHIPPED)
        self.cache = cache
        self.broken: dict[Path, LedgerError] = {}
        self._loaded: dict[Path, Template] = {}
        self._signs: dict[Path, tuple[str, list[Sign]]] = {}

    def templates(self) -> dict[str, Template]:
        """All that load, by id; of two with one id the first folder's counts."""
        made = {id_: self._load(path) for id_, path in self._paths().items()}
        return {id_: template for id_, template in made.items() if template is not None}

    def path_of(self, id_: str) -> Path | None:
        """The file of the template that counts under an id."""
        return self._paths().get(id_)

    def _paths(self) -> dict[str, Path]:
        """The files of all templates, by id."""
        found: dict[str, Path] = {}
        for folder in self.folders:
            for path in sorted(folder.glob("*.yaml")) if folder.is_dir() else []:
                if path not in self._signs and path not in self.broken:
                    try:
                        self._signs[path] = load_signs(path, self.cache)
                    except LedgerError as error:
                        self.broken[path] = error
                if path not in self.broken:
                    found.setdefault(self._signs[path][0], path)
        return found

    def get(self, name: str) -> Template:
        """A template by its id, or by the path of its file.

        Raises:
            RecognitionError: neither is known.
            LedgerError: the file cannot be used.
        """
        if name.endswith((".yaml", ".yml")) or "/" in name:
            return load_template(Path(name), self.cache)
        known = self._paths()
        if name not in known:
            hint = did_you_mean(name, known) or f"known are {', '.join(known) or 'none'}"
            raise RecognitionError(f"there is no template “{name}”", hint)
        template = self._load(known[name])
        if template is None:
            raise self.broken[known[name]]
        return template

    def fitting(self, name: str, size: int, read: Read) -> list[Template]:
        """The templates whose signs fit a file of this name and size; `read(start, end)` gives some of its bytes."""
        fitting = [path for path in self._paths().values() if self._fits(path, name, size, read)]
        return [template for path in fitting if (template := self._load(path)) is not None]

    def _fits(self, path: Path, name: str, size: int, read: Read) -> bool:
        return any(fits(sign, name, size, read) for sign in self._signs[path][1])

    def recognise(self, path: Path, source: Source) -> Template:
        """The one template whose signs fit a file.

        Raises:
            RecognitionError: none fits, or several; their names are given.
        """
        fitting = self.fitting(path.name, source.size, source.read)
        if len(fitting) == 1:
            return fitting[0]
        if fitting:
            names = ", ".join(template.id for template in fitting)
            raise RecognitionError(f"{path}: several templates fit this file ({names})", "choose one with --template")
        known = self.templates()
        broken = "".join(f"; {name.name} cannot be used: {_first(error)}" for name, error in self.broken.items())
        raise NoTemplateFits(
            f"{path}: no template fits this file (known: {', '.join(known) or 'none'}){broken}",
            "nothing was changed; name a template with --template, or open the file in the window to look at its bytes",
        )

    def _load(self, path: Path) -> Template | None:
        if path not in self._loaded and path not in self.broken:
            try:
                self._loaded[path] = load_template(path, self.cache)
            except LedgerError as error:
                self.broken[path] = error
        return self._loaded.get(path)


def _first(error: LedgerError) -> str:
    """What is wrong with a template in a few words."""
    if isinstance(error, TemplateError) and error.mistakes:
        line, text = error.mistakes[0]
        more = f", and {len(error.mistakes) - 1} more" if len(error.mistakes) > 1 else ""
        return f"line {line}: {text}{more}"
    return error.what


def fits(sign: Sign, name: str, size: int, read: Read) -> bool:
    """Whether all that a sign says is true of a file; its bytes are read last."""
    if sign.name is not None and not fnmatchcase(name.casefold(), sign.name.casefold()):
        return False
    if not sign.least <= size or (sign.most is not None and size > sign.most):
        return False
    return sign.magic is None or read(sign.magic_at, sign.magic_at + len(sign.magic)) == sign.magic
