"""Changes files: each whole or not at all, and several as one change that a crash can't halve.

New texts go into temporary files beside their targets first, then one after the other is renamed.
Whatever ends the program in between, the next change there finds the journal (``journal.py``) and
finishes what was begun.

Ctrl-C waits until the files are in place. What somebody else changed meanwhile is not overwritten.

Links are followed; what is no regular file (a device, a pipe) is written to. A file keeps its mode,
its owner and its other names.
"""

from __future__ import annotations

import codecs
import contextlib
import io
import os
import signal
import stat
import threading
from collections.abc import Iterator, Mapping, Sequence
from contextlib import contextmanager
from pathlib import Path

from reservoir.core.problems import InputError, Place, Problem
from reservoir.files.journal import change_under_way
from reservoir.files.noted import noted
from reservoir.files.texts import was_read


class UnfinishedChangeError(InputError):
    """A change stopped in the middle: some files have their new text, others their old one."""

    def __init__(self, problem: Problem, done: Sequence[Path]) -> None:
        """Keep which files were changed."""
        super().__init__([problem])
        self.done = tuple(done)


def write_whole(path: Path, text: str | bytes, *, is_kept: bool = False) -> None:
    """Put a text, or bytes, in place of a file in one step.

    Args:
        path: The file.
        text: What it is to hold.
        is_kept: Whether the file is kept for this: what it held has been read and goes on.

    Raises:
        InputError: the folder isn't there or can't be written to; or the result would take the
            place of something that it was made of.
    """
    if not is_kept and was_read(path):
        message = "this file is an input, and would be overwritten; name another for the output"
        raise InputError([Problem(Place(str(path)), message)])
    change_files({path: text})


def change_files(texts: Mapping[Path, str | bytes], was: Mapping[Path, str] | None = None) -> None:
    """Give several files new texts, as one change.

    Args:
        texts: The new texts.
        was: The texts that the files had when the new ones were made of them.

    Raises:
        InputError: a text can't be written, or a file is no longer as it was; no file was changed
            then.
        UnfinishedChangeError: the change stopped when some files had been changed.
    """
    data = {
        _followed(path): text.encode() if isinstance(text, str) else text
        for path, text in texts.items()
    }
    replaced = [target for target in data if _is_replaceable(target)]
    over = set(data).difference(replaced)
    straight = {target: text for target, text in data.items() if target in over}
    folders = sorted({path.parent for path in was or ()})
    with _undisturbed(), contextlib.ExitStack() as held:
        for folder in folders:
            held.enter_context(locked(folder))
        journal = held.enter_context(change_under_way(replaced))
        for (temporary, target), path in zip(journal.staged.items(), replaced, strict=True):
            with _blaming(path):
                _stage(temporary, target, data[path])
        _require_unchanged(was or {})
        journal.complete()
        _put_in_place(dict(zip(journal.staged, replaced, strict=True)), straight)


def _followed(path: Path) -> Path:
    """Where a text goes: a link stays a link."""
    return Path(os.path.realpath(path)) if path.is_symlink() else path


def with_mark_of(path: Path, text: str) -> str:
    """A text with a byte-order mark, if the file that it is for has one."""
    try:
        with path.open("rb") as stream:
            has_mark = stream.read(len(codecs.BOM_UTF8)) == codecs.BOM_UTF8
    except OSError:
        return text
    return "\ufeff" + text if has_mark else text


@contextmanager
def locked(folder: Path) -> Iterator[None]:
    """Keep others from changing the files of a folder meanwhile, where the system can."""
    try:
        import fcntl  # late: not every system has it
    except ImportError:
        yield
        return
    handle = os.open(folder, os.O_RDONLY)
    try:
        with contextlib.suppress(OSError):  # a network's file system may have no locks
            fcntl.flock(handle, fcntl.LOCK_EX)
        yield
    finally:
        os.close(handle)


def _put_in_place(staged: Mapping[Path, Path], straight: Mapping[Path, bytes]) -> None:
    """Rename what is staged; then write to what isn't replaced."""
    done: list[Path] = []
    try:
        for temporary, target in staged.items():
            with _blaming(target, done):
                os.replace(temporary, target)
            done.append(target)
        for target, data in straight.items():
            with _blaming(target, done):
                _write_over(target, data)
            done.append(target)
    finally:
        if (changed := noted.get()) is not None:
            changed.extend(done)


def _write_over(target: Path, data: bytes) -> None:
    """Write to what can't be replaced: a device, a pipe, a file with several names.

    A file that can't take all of it has its old bytes again; their room is still its own.
    """
    if not target.is_file():
        target.write_bytes(data)
        return
    before = target.read_bytes()
    with target.open("r+b", buffering=0) as stream:
        try:
            _write_all(stream, data)
        except OSError:
            stream.seek(0)
            _write_all(stream, before)
            raise
        finally:
            stream.truncate()


def _write_all(stream: io.FileIO, data: bytes) -> None:
    """Write every byte, in as many steps as the system takes."""
    while data:
        data = data[stream.write(data) or 0 :]


def _require_unchanged(was: Mapping[Path, str]) -> None:
    """Refuse to go on where a file is no longer as it was.

    Raises:
        InputError: with every such file.
    """
    problems = []
    for path, text in was.items():
        with _blaming(path):
            if path.read_bytes().removeprefix(codecs.BOM_UTF8) != text.encode():
                message = "the file was changed by somebody else meanwhile; nothing was overwritten"
                problems.append(Problem(Place(str(path)), message))
    if problems:
        raise InputError(problems)


@contextmanager
def _undisturbed() -> Iterator[None]:
    """Hold Ctrl-C back meanwhile."""
    if threading.current_thread() is not threading.main_thread():
        yield  # where the system sends no signals
        return
    pressed: list[int] = []
    before = signal.signal(signal.SIGINT, lambda number, frame: pressed.append(number))
    try:
        yield
    finally:
        signal.signal(signal.SIGINT, before)
        if pressed:
            signal.raise_signal(signal.SIGINT)


def _is_replaceable(target: Path) -> bool:
    """Whether another file may take its place: it has no other name, and is a regular file."""
    try:
        status = target.stat()
    except FileNotFoundError:
        return True
    return stat.S_ISREG(status.st_mode) and status.st_nlink == 1


def _stage(temporary: Path, target: Path, data: bytes) -> None:
    """Write a target's new bytes into a temporary file, with the target's mode and owner."""
    _write_out(temporary, data)
    if target.exists():
        status = target.stat()
        os.chmod(temporary, stat.S_IMODE(status.st_mode))
        if (status.st_uid, status.st_gid) != (os.getuid(), os.getgid()):
            with contextlib.suppress(PermissionError):
                os.chown(temporary, status.st_uid, status.st_gid)


def _write_out(path: Path, data: bytes) -> None:
    """Write a new file, with the mode that the user's mask gives, and wait until it is on disk."""
    with path.open("wb") as stream:
        stream.write(data)
        stream.flush()
        os.fsync(stream.fileno())


@contextmanager
def _blaming(path: Path, done: Sequence[Path] = ()) -> Iterator[None]:
    """Say of a failure which file it hit, and which were changed before."""
    try:
        yield
    except OSError as error:
        problem = Problem(Place(str(path)), f"the file can't be written: {error.strerror}")
        raise (UnfinishedChangeError(problem, done) if done else InputError([problem])) from None
