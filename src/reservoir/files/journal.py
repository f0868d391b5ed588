"""The journal of a change of files: what takes the place of what, kept until all of it has.

It lies in the deepest folder that holds all the files, and names them relative to that; whoever
starts in that folder or below finds it. Its writer keeps it locked: a journal that nobody has
locked was cut off. Its first line names the new texts, which lie beside their targets, and the
second says that they are complete; without that, nothing had been changed yet.

A journal is followed only within its folder, and only if it belongs to who follows it: somebody
else may have put it there.
"""

from __future__ import annotations

import contextlib
import json
import os
import re
import secrets
import stat
from collections.abc import Iterator, Mapping, Sequence
from contextlib import contextmanager
from pathlib import Path
from typing import BinaryIO

from reservoir.core.problems import InputError, Place, Problem

JOURNAL = ".reservoir-change.json"

_COMPLETE = b"complete\n"
_NEW_TEXT = re.compile(r"\.reservoir-[0-9a-f]{16}-\d+\.tmp")
_MOST = 1 << 26
"""Bytes of a journal; a longer one is none."""


class Journal:
    """A change that is under way."""

    def __init__(self, stream: BinaryIO | None, staged: Mapping[Path, Path]) -> None:
        """Take the open journal, if there can be one, and what takes the place of what."""
        self.staged = staged
        """The target of each new text."""
        self._stream = stream

    def complete(self) -> None:
        """Note that all new texts are there: from now on the change is finished, come what may."""
        if self._stream is not None and len(self.staged) > 1:
            self._stream.write(_COMPLETE)
            os.fsync(self._stream.fileno())


@contextmanager
def change_under_way(targets: Sequence[Path]) -> Iterator[Journal]:
    """Keep a journal of a change of these files; gone in the end, however it ends.

    Where no folder that holds them all can be written to, there is none.
    """
    whole = [Path(os.path.realpath(target.parent)) / target.name for target in targets]
    token = secrets.token_hex(8)
    staged = {
        target.parent / f".reservoir-{token}-{number}.tmp": target
        for number, target in enumerate(whole)
    }
    folder = Path(os.path.commonpath([target.parent for target in whole])) if whole else None
    stream = _begun(folder, staged) if folder is not None else None
    try:
        yield Journal(stream, staged)
    finally:
        for new_text in staged:
            with contextlib.suppress(OSError):
                new_text.unlink(missing_ok=True)
        if stream is not None and folder is not None:
            with contextlib.suppress(OSError):
                (folder / JOURNAL).unlink(missing_ok=True)
            stream.close()


def finish_cut_off(folder: Path) -> list[Path]:
    """Finish a change that something cut off, in a folder or one around it, and tidy up after it.

    Returns:
        The files that have got their new text now.

    Raises:
        InputError: a file can't be written, or the change is somebody else's.
    """
    finished: list[Path] = []
    start = Path(os.path.realpath(folder))
    for place in (start, *start.parents):
        journal = place / JOURNAL
        try:
            stream = _opened(journal)
            if stream is not None:
                with stream:
                    finished += _finished(journal, stream)
        except OSError as error:
            message = f"a change that was cut off can't be finished: {error.strerror}"
            raise InputError([Problem(Place(str(journal)), message)]) from None
    return finished


def _begun(folder: Path, staged: Mapping[Path, Path]) -> BinaryIO | None:
    """A new journal, locked; an earlier change of that folder is waited for, or finished."""
    names = {
        str(new.relative_to(folder)): str(to.relative_to(folder)) for new, to in staged.items()
    }
    journal = folder / JOURNAL
    while True:
        flags = os.O_RDWR | os.O_CREAT | os.O_NOFOLLOW | os.O_NONBLOCK
        try:
            stream = os.fdopen(os.open(journal, flags, 0o600), "r+b", buffering=0)
        except OSError:
            return None
        if not _is_own(os.fstat(stream.fileno())):
            stream.close()
            return None
        _lock(stream, waits=True)
        if not _is_still(journal, stream):  # its writer has ended meanwhile, and taken it away
            stream.close()
            continue
        if stream.read(1):
            stream.seek(0)
            _finished(journal, stream)
            stream.close()
            continue
        stream.write(json.dumps(names).encode() + b"\n")
        return stream


def _opened(journal: Path) -> BinaryIO | None:
    """A journal whose writer is gone, locked; None if there is none.

    Raises:
        InputError: it isn't this user's, in a folder where not just anybody may put one.
    """
    try:
        if not _is_own(journal.lstat()):
            _leave_to_its_owner(journal)
            return None
        flags = os.O_RDWR | os.O_NOFOLLOW | os.O_NONBLOCK
        stream = os.fdopen(os.open(journal, flags), "r+b", buffering=0)
    except OSError:
        return None  # as far as can be seen
    is_own = _is_own(os.fstat(stream.fileno()))
    if is_own and _lock(stream, waits=False) and _is_still(journal, stream):
        return stream
    stream.close()
    return None


def _leave_to_its_owner(journal: Path) -> None:
    """Leave a journal; say so, but where anybody may put one that nobody else can remove.

    Raises:
        InputError: it says so.
    """
    if not journal.parent.stat().st_mode & stat.S_ISVTX:
        message = (
            "a change that isn't yours was cut off here; let its owner change these files by a "
            "command, or remove this file"
        )
        raise InputError([Problem(Place(str(journal)), message)])


def _finished(journal: Path, stream: BinaryIO) -> list[Path]:
    """Do what a journal says, and take it away.

    Raises:
        OSError: a file can't be renamed.
    """
    lines = stream.read(_MOST).splitlines(keepends=True)
    is_complete = lines[1:] == [_COMPLETE]
    finished = []
    for new_text, target in _within(journal.parent, lines[0] if lines else b"").items():
        if not is_complete:
            new_text.unlink(missing_ok=True)
        elif new_text.exists():
            os.replace(new_text, target)
            finished.append(target)
    journal.unlink(missing_ok=True)
    return finished


def _within(folder: Path, line: bytes) -> dict[Path, Path]:
    """What a journal's line names, if all of it is in its folder, each beside its target."""
    try:
        names = json.loads(line)
        pairs = {folder / new: folder / target for new, target in names.items()}
    except (ValueError, TypeError, AttributeError):
        return {}
    return {
        new: target
        for new, target in pairs.items()
        if new.parent == target.parent
        and _NEW_TEXT.fullmatch(new.name)
        and ".." not in target.parts
        and Path(os.path.realpath(new.parent)).is_relative_to(folder)
    }


def _is_own(status: os.stat_result) -> bool:
    """Whether that is a regular file which this user has made."""
    return stat.S_ISREG(status.st_mode) and status.st_uid == os.getuid()


def _is_still(journal: Path, stream: BinaryIO) -> bool:
    """Whether an open journal is the one that lies there."""
    try:
        return os.path.samestat(os.fstat(stream.fileno()), os.lstat(journal))
    except FileNotFoundError:
        return False


def _lock(stream: BinaryIO, *, waits: bool) -> bool:
    """Whether a journal could be locked; where the system has no locks, it counts as locked."""
    try:
        import fcntl  # late: not every system has it
    except ImportError:
        return True
    try:
        fcntl.flock(stream, fcntl.LOCK_EX if waits else fcntl.LOCK_EX | fcntl.LOCK_NB)
    except BlockingIOError:
        return False
    except OSError:
        return True  # a network's file system may have no locks
    return True
