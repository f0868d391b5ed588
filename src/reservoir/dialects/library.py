"""Finds sheets: those in the package, and those in ``dialects/`` beside a plan."""

from __future__ import annotations

from collections.abc import Mapping
from functools import cache
from importlib import resources
from pathlib import Path

from reservoir.core.problems import InputError, Place, Problem
from reservoir.core.schema_types import hint
from reservoir.dialects.sheet import Sheet
from reservoir.dialects.sheet_loader import load_sheet

SUFFIX = ".sheet"


class Library:
    """The sheets within reach, loaded when they are asked for."""

    def __init__(self, folder: Path | None = None) -> None:
        """Look into the package, and into ``dialects/`` in a folder."""
        self._paths: dict[str, Path] = dict(_shipped())
        self._loaded: dict[str, Sheet] = {}
        if folder is not None:
            for path in sorted((folder / "dialects").glob(f"*{SUFFIX}")):
                self._paths[path.name.removesuffix(SUFFIX)] = path

    @property
    def names(self) -> list[str]:
        """The names of all dialects, sorted."""
        return sorted(self._paths)

    def sheet(self, name: str, asked_at: Place | None = None) -> Sheet:
        """The sheet of a dialect.

        Raises:
            InputError: there is none of that name, or it has mistakes.
        """
        path = self._paths.get(name)
        if path is None:
            near = hint(name, self._paths) or f"; there are {', '.join(self.names)}"
            message = f"there is no dialect {name!r}{near}"
            raise InputError([Problem(asked_at or Place(name), message)])
        if path == _shipped().get(name):
            return _shipped_sheet(path)
        if name not in self._loaded:
            self._loaded[name] = load_sheet(path.read_text(encoding="utf-8"), str(path))
        return self._loaded[name]


def beside(file: str) -> Library:
    """The sheets within reach of a plan or a configuration: its folder's ``dialects/`` too."""
    return Library(Path(file).parent)


@cache
def _shipped_sheet(path: Path) -> Sheet:
    """A sheet of the package; the tests look for ambiguities in these."""
    return load_sheet(path.read_text(encoding="utf-8"), str(path), proven=True)


@cache
def _shipped() -> Mapping[str, Path]:
    folder = Path(str(resources.files("reservoir.dialects") / "sheets"))
    return {path.name.removesuffix(SUFFIX): path for path in sorted(folder.glob(f"*{SUFFIX}"))}
