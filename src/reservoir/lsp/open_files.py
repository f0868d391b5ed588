"""The files that are open in the editor, which plan each belongs to, and what is known of those.

What is loaded and checked is done by one worker, one after the other, always with the texts as they
are then; what was changed meanwhile is done again. Questions are answered from what is known.
"""

from __future__ import annotations

import asyncio
import contextlib
from collections.abc import Awaitable, Callable
from concurrent.futures import ThreadPoolExecutor
from typing import TypeVar

from reservoir.files.kept import Kept
from reservoir.lsp.positions import Kind, kind_of
from reservoir.lsp.state import (
    State,
    SupersededError,
    assess,
    index,
    plans_naming,
    try_fixes,
)

Done = TypeVar("Done")

PAUSE = 0.01
"""Seconds that are waited after a change, since the next letter may follow."""


IDLE = 1.0
"""Seconds without a change after which fixes are tried, before anybody asks for them."""


LONGEST_WAIT = 1.0
"""Seconds that a question waits for a text that is being checked."""


class OpenFiles:
    """All that is open, and what is known of it."""

    def __init__(self, publish: Callable[[State], None], forget: Callable[[State], None]) -> None:
        """Take whom to give each state to that was found, or that counts no more."""
        self._publish, self._forget = publish, forget
        self._texts: dict[str, str] = {}
        self._versions: dict[str, int] = {}
        self._mains: dict[str, tuple[str, ...]] = {}
        """The plans that each open file belongs to; a configuration belongs to itself."""
        self._placing: dict[str, asyncio.Future[tuple[str, ...]]] = {}
        """What finds these plans."""
        self._states: dict[str, State] = {}
        self._good: dict[str, State] = {}
        """Of each plan the latest that could be used."""
        self._dialects: dict[str, str | None] = {}
        """The dialect of each configuration, as it was recognised when it was opened or saved."""
        self._wanted: dict[str, int] = {}
        """How often each plan was to be checked anew."""
        self._running: dict[str, asyncio.Task[None]] = {}
        self._preparing: set[asyncio.Task[None]] = set()
        self._kept = Kept()
        self._worker = ThreadPoolExecutor(1, "reservoir")

    # What the editor says.

    async def put(self, file: str, text: str, version: int) -> None:
        """A file was opened or changed: what it belongs to is checked anew."""
        self._texts[file], self._versions[file] = text, version
        if not self._mains.get(file):
            await self._place(file)
        for main in self._mains.get(file, ()):
            self._check(main)

    def drop(self, file: str) -> None:
        """A file was closed: what is on the disk counts from now."""
        self._texts.pop(file, None)
        self._versions.pop(file, None)
        for main in self._mains.pop(file, ()):
            if self._is_open(main):
                self._check(main)
            else:
                self._leave(main)

    async def check_all(self) -> None:
        """Files on the disk were changed: all that is open is checked anew."""
        self._dialects.clear()
        for file in list(self._texts):
            if self._mains.get(file, (file,)) == (file,):  # another may name it now
                await self._place(file)
        for main in {main for mains in self._mains.values() for main in mains}:
            self._check(main)

    # What is known.

    def text(self, file: str) -> str | None:
        """The text of a file as it stands in the editor; None if it isn't open."""
        return self._texts.get(file)

    def version(self, file: str) -> int | None:
        """The editor's number of that text."""
        return self._versions.get(file)

    def kind(self, file: str) -> Kind:
        """What an open file is; what was a plan remains one while its first line is typed."""
        kind = kind_of(file, self._texts.get(file, ""))
        return "plan" if kind == "other" and self._mains.get(file) else kind

    async def good(self, file: str) -> State | None:
        """What is known of the plan of a file, as it last could be used; None if it never could."""
        for main in await self._mains_known(file):
            if main not in self._states and main in self._running:
                await asyncio.wait([self._running[main]])
            if main in self._good:
                return self._good[main]
        return None

    async def settled(self, file: str) -> State | None:
        """What is known of the plan of a file as it stands now.

        None if it can't be used, or checking it takes too long to be waited for.
        """
        for main in await self._mains_known(file):
            while main in self._running:
                _, late = await asyncio.wait([self._running[main]], timeout=LONGEST_WAIT)
                if late:
                    return None
            state = self._states.get(main)
            if state is not None and state.subject is not None:
                return state
        return None

    async def with_fixes(self, file: str) -> State | None:
        """The same, with fixes that were tried."""
        state = await self.settled(file)
        if state is not None:
            try:
                await self.do(try_fixes, state, self._is_superseded(state.main))
            except SupersededError:
                return None
        return state

    def do(self, work: Callable[..., Done], *args: object) -> Awaitable[Done]:
        """Do something that takes long, while the editor is listened to."""
        return asyncio.get_running_loop().run_in_executor(self._worker, work, *args)

    # How it becomes known.

    async def _place(self, file: str) -> None:
        """Find the plans that an open file belongs to; whoever asks meanwhile waits for it."""
        text = self._texts.get(file, "")
        self._placing[file] = asyncio.ensure_future(self.do(self._mains_of, file, text))
        found = await self._placing[file]
        if file not in self._texts:
            return  # it was closed meanwhile
        before, self._mains[file] = self._mains.get(file, ()), found
        for main in before:
            if not self._is_open(main):
                self._leave(main)

    def _is_open(self, main: str) -> bool:
        """Whether anything of a plan is open."""
        return any(main in mains for mains in self._mains.values())

    def _leave(self, main: str) -> None:
        """Forget a plan of which nothing is open any more."""
        self._wanted[main] = self._wanted.get(main, 0) + 1
        self._good.pop(main, None)
        self._dialects.pop(main, None)
        if (state := self._states.pop(main, None)) is not None:
            self._forget(state)

    async def _mains_known(self, file: str) -> tuple[str, ...]:
        """The plans that an open file belongs to, once they are found."""
        if file in self._placing:
            await asyncio.wait([self._placing[file]])
            await asyncio.sleep(0)  # who found them begins to check
        return self._mains.get(file, ())

    def _mains_of(self, file: str, text: str) -> tuple[str, ...]:
        """What a file belongs to."""
        kind = kind_of(file, text)
        if kind == "other":
            return self._mains.get(file, ())
        if kind == "configuration":
            return (file,)
        return tuple(plans_naming(file, dict(self._texts), self._kept)) or (file,)

    def _check(self, main: str) -> None:
        self._wanted[main] = self._wanted.get(main, 0) + 1
        if main not in self._running:
            task = asyncio.ensure_future(self._checked(main))
            self._running[main] = task
            task.add_done_callback(lambda _done: self._running.pop(main, None))

    async def _checked(self, main: str) -> None:
        """Check a plan until it has stayed the same meanwhile."""
        is_checked = False
        while not is_checked:
            await asyncio.sleep(PAUSE)
            number = self._wanted[main]
            state = State(main, dict(self._texts), dict(self._versions))
            kind = kind_of(main, state.text(main))
            kind = "plan" if kind == "other" else kind
            dialect = self._dialects.get(main)
            superseded = self._is_superseded(main)
            try:
                await self.do(assess, state, kind, self._kept, dialect, superseded)
            except SupersededError:
                continue
            except Exception as error:  # what can't be checked must not look checked
                state.subject = None
                state.note = (
                    f"not checked: {type(error).__name__}: {error}; "
                    "that is a defect in Reservoir, please report it"
                )
            is_checked = number == self._wanted[main]
            if is_checked and self._is_open(main):
                self._take(state)

    def _take(self, state: State) -> None:
        self._states[state.main] = state
        if state.subject is not None:
            self._good[state.main] = state
            self._dialects[state.main] = state.dialect
        self._publish(state)
        task = asyncio.ensure_future(self._prepare(state))
        self._preparing.add(task)
        task.add_done_callback(self._preparing.discard)

    async def _prepare(self, state: State) -> None:
        """Make what is asked for next, once nothing has been changed for a moment."""
        superseded = self._is_superseded(state.main)
        await self.do(index, state)
        await asyncio.sleep(IDLE)
        with contextlib.suppress(SupersededError):
            if not superseded():
                await self.do(try_fixes, state, superseded)

    def _is_superseded(self, main: str) -> Callable[[], bool]:
        number = self._wanted.get(main)
        return lambda: self._wanted.get(main) != number
