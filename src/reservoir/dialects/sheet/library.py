"""Finds sheets: the program's, those beside a plan, the user's, those of installed packages."""

from __future__ import annotations

from collections.abc import Mapping
from functools import cache
from importlib import resources
from pathlib import Path

from reservoir.core.problems import InputError, Place, Problem
from reservoir.core.wording import counted, hint
from reservoir.dialects.sheet.loader import load_sheet
from reservoir.dialects.sheet.model import Sheet

SUFFIX = ".sheet"

ENTRY_POINTS = "reservoir.dialects"
"""The group of entry points by which an installed package names a package that has sheets."""


class Library:
    """The sheets within reach, loaded when they are asked for.

    The nearest goes before others of its name: beside the plan or the configuration, in
    ``dialects/`` there, in ``dialects/`` here and upward to the repository's root, in the user's
    configuration folder, the program's own, those of installed packages.
    """

    def __init__(self, folder: Path | None = None) -> None:
        """Look into the package; with a folder, into all other places too."""
        self._paths: dict[str, Path] = dict(_shipped())
        self._loaded: dict[str, Sheet] = {}
        self._packages = folder is not None
        if folder is not None:
            self._paths |= _sheets_in(_users_folder())
            for place in reversed([folder, folder / "dialects", *_upward()]):
                self._paths |= _sheets_in(place)

    def _look_into_packages(self) -> None:
        """Only when a name is not found otherwise: it takes longer than all else."""
        if self._packages:
            self._packages = False
            self._paths = _of_packages() | self._paths

    @property
    def names(self) -> list[str]:
        """The names of all dialects, sorted."""
        self._look_into_packages()
        return sorted(self._paths)

    def sheet(self, name: str, asked_at: Place | None = None) -> Sheet:
        """The sheet of a dialect.

        Raises:
            InputError: there is none of that name, or it has mistakes.
        """
        if name not in self._paths:
            self._look_into_packages()
        path = self._paths.get(name)
        if path is None:
            near = hint(name, self._paths) or f"; there are {', '.join(self.names)}"
            message = f"there is no dialect {name!r}{near}"
            raise InputError([Problem(asked_at or Place(name), message)])
        if path == _shipped().get(name):
            return _shipped_sheet(path)
        if name not in self._loaded:
            self._loaded[name] = load_sheet(_text_of(path), str(path))
        return self._loaded[name]

    @property
    def usable(self) -> tuple[list[Sheet], list[Problem]]:
        """The sheets that can be used, and of each other one the first of its mistakes."""
        sheets: list[Sheet] = []
        broken: list[Problem] = []
        for name in self.names:
            try:
                sheets.append(self.sheet(name))
            except InputError as error:
                first, *others = error.problems
                more = f", and {counted(len(others), 'more mistake')}" if others else ""
                message = f"{first.message}{more}; {name} is left out"
                broken.append(Problem(first.place, message))
        return sheets, broken


def _upward() -> list[Path]:
    """The folders of sheets here and in the folders above, up to the root of a repository."""
    here = Path.cwd()
    root = next((at for at in (here, *here.parents) if (at / ".git").exists()), here)
    above = [at for at in (here, *here.parents) if at.is_relative_to(root)]
    return [at / "dialects" for at in above]


LARGEST_SHEET = 1 << 20
"""Bytes of a sheet at most; the largest that is shipped has some 5,000."""


def beside(file: str) -> Library:
    """The sheets within reach of a plan or a configuration: its folder's ``dialects/`` too."""
    return Library(Path(file).parent)


@cache
def _shipped_sheet(path: Path) -> Sheet:
    """A sheet of the package; the tests look for ambiguities in these."""
    return load_sheet(path.read_text(encoding="utf-8"), str(path), proven=True)


@cache
def _shipped() -> Mapping[str, Path]:
    return _sheets_in(Path(str(resources.files("reservoir.dialects") / "sheets")))


def _sheets_in(folder: Path) -> dict[str, Path]:
    """The sheets in a folder; none where it may not be entered."""
    try:
        found = [path for path in sorted(folder.glob(f"*{SUFFIX}")) if path.is_file()]
    except OSError:
        return {}
    return {path.name.removesuffix(SUFFIX): path for path in found}


def _text_of(path: Path) -> str:
    """The text of somebody's sheet.

    Raises:
        InputError: it can't be read, is too large, or is no text.
    """
    try:
        with path.open("rb") as stream:
            data = stream.read(LARGEST_SHEET + 1)
        if len(data) > LARGEST_SHEET:
            raise InputError([Problem(Place(str(path)), "the sheet is larger than 1 MiB")])
        return data.decode()
    except UnicodeDecodeError as error:
        line = error.object[: error.start].count(b"\n") + 1
        raise InputError([Problem(Place(str(path), line), "the sheet is not UTF-8")]) from None
    except OSError as error:
        message = f"the sheet can't be read: {error.strerror}"
        raise InputError([Problem(Place(str(path)), message)]) from None


def _users_folder() -> Path:
    from platformdirs import user_config_path  # late: a plan that brings its own needs it not

    return user_config_path("reservoir") / "dialects"


def _of_packages() -> dict[str, Path]:
    """The sheets in the packages that installed entry points name."""
    from importlib.metadata import entry_points  # late: slow

    found: dict[str, Path] = {}
    for entry in entry_points(group=ENTRY_POINTS):
        found |= _sheets_in(Path(str(resources.files(entry.module))))
    return found
