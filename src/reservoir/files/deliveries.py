"""Files that Reservoir writes into a folder and recognises later, so that edits are not lost."""

from __future__ import annotations

import hashlib
import json
from collections import Counter
from collections.abc import Mapping, Sequence
from pathlib import Path
from typing import NamedTuple

from reservoir.core.problems import InputError, Place, Problem
from reservoir.files.changing import change_files, locked
from reservoir.files.texts import make_folder

LEDGER = ".reservoir-written.json"
"""Beside the files: the SHA-256 of each as it was written."""


class Delivery(NamedTuple):
    """A file to be put in place."""

    file: str
    text: str
    folder: str = ""
    """The folder that it goes into, below the common one."""

    @property
    def name(self) -> str:
        """Its path below the folder that all are put into."""
        return f"{self.folder}/{self.file}" if self.folder else self.file


def deliver(folder: Path, deliveries: Sequence[Delivery], force: bool = False) -> dict[str, str]:
    """Put files in place; say of each whether it is ``new``, ``changed`` or ``unchanged``.

    Raises:
        InputError: a name can't be a file's, or a file there is not as Reservoir wrote it and
            ``force`` isn't given. No file is written then.
    """
    if not folder.is_dir():
        _outcomes(folder, deliveries, {}, force)  # no folder for what can't be written
        make_folder(folder)
    with locked(folder):
        return _deliver(folder, deliveries, force)


def _deliver(folder: Path, deliveries: Sequence[Delivery], force: bool) -> dict[str, str]:
    ledger = _ledger(folder)
    outcomes = _outcomes(folder, deliveries, ledger, force)
    texts: dict[Path, str] = {}
    for delivery in deliveries:
        make_folder((folder / delivery.name).parent)
        if outcomes[delivery.name] != "unchanged":
            texts[folder / delivery.name] = delivery.text
        ledger[delivery.name] = _digest(delivery.text.encode())
    # Files and ledger are one change: a ledger that lagged behind would call the files edited.
    change_files(texts | {folder / LEDGER: json.dumps(ledger, indent=2, sort_keys=True) + "\n"})
    return outcomes


def _outcomes(
    folder: Path, deliveries: Sequence[Delivery], ledger: Mapping[str, str], force: bool
) -> dict[str, str]:
    """Whether each file is ``new``, ``changed`` or ``unchanged``.

    Raises:
        InputError: with each that can't be written, or would overwrite what somebody edited.
    """
    names = Counter(delivery.name for delivery in deliveries)
    problems = [
        Problem(Place(str(folder)), f"{number} files would be called {name!r} there")
        for name, number in names.items()
        if number > 1
    ]
    outcomes = {}
    for delivery in deliveries:
        path = folder / delivery.name
        parts = (delivery.file, delivery.folder or delivery.file)
        if any("/" in part or part.startswith(".") for part in parts):
            problems.append(
                Problem(Place(str(folder)), f"{delivery.name!r} can't be a file's name")
            )
        elif not path.exists():
            outcomes[delivery.name] = "new"
        elif (present := _digest(path.read_bytes())) == _digest(delivery.text.encode()):
            outcomes[delivery.name] = "unchanged"
        elif present == ledger.get(delivery.name) or force:
            outcomes[delivery.name] = "changed"
        else:
            what = (
                "was edited since it was written"
                if delivery.name in ledger
                else "was not written by Reservoir"
            )
            problems.append(Problem(Place(str(path)), f"the file {what}; --force overwrites it"))
    if problems:
        raise InputError(problems)
    return outcomes


def _digest(data: bytes) -> str:
    return hashlib.sha256(data).hexdigest()


def _ledger(folder: Path) -> dict[str, str]:
    try:
        ledger = json.loads((folder / LEDGER).read_text(encoding="utf-8"))
    except (OSError, ValueError):
        return {}  # without it, every file there counts as somebody else's
    return ledger if isinstance(ledger, dict) else {}
