"""The server: what an editor asks and says, each as the protocol has it."""

from __future__ import annotations

from collections.abc import Sequence
from typing import Any

from lsprotocol import types
from pygls.lsp.server import LanguageServer
from pygls.workspace import TextDocument

import reservoir
from reservoir.core.findings import Finding
from reservoir.core.problems import Place
from reservoir.files.cursor import Written, written_at
from reservoir.lsp import findings, fixes, hover, names, outline
from reservoir.lsp.open_files import OpenFiles
from reservoir.lsp.positions import Moved, Positions, file_of, kind_of, lines_of, uri_of
from reservoir.lsp.state import State
from reservoir.version import __version__

WATCHED = "**/*.{yaml,yml,csv,sheet}"
"""Files on the disk that a plan may consist of or need."""

_COMPLETION_KINDS = {
    "key": types.CompletionItemKind.Property,
    "name": types.CompletionItemKind.Reference,
    "word": types.CompletionItemKind.Keyword,
    "value": types.CompletionItemKind.Value,
}

MOST_OFFERED = 200
"""Fixes that were offered and can still be asked for."""


class Server(LanguageServer):
    """A server for one editor."""

    def __init__(self) -> None:
        """Begin with nothing open."""
        super().__init__("reservoir", __version__)
        self.open = OpenFiles(self.show, self.hide)
        self._uris: dict[str, str] = {}
        """What the editor calls each file that is open."""
        self._shown: dict[str, dict[str, list[findings.Shown]]] = {}
        """What is shown of each plan, by file."""
        self._outlines: dict[str, list[types.DocumentSymbol]] = {}
        self._offered: dict[int, fixes.Fix] = {}
        self._number = 0

    # Texts.

    async def put(self, document: TextDocument) -> None:
        """Take a file's text as it now stands in the editor."""
        file = file_of(document.uri)
        if file is not None:
            self._uris[file] = document.uri
            await self.open.put(file, document.source, document.version or 0)

    async def watch_files(self) -> None:
        """Ask the editor to say when files on the disk change, if it can."""
        workspace = self.client_capabilities.workspace
        watched = workspace.did_change_watched_files if workspace is not None else None
        if watched is None or not watched.dynamic_registration:
            return
        options = types.DidChangeWatchedFilesRegistrationOptions([types.FileSystemWatcher(WATCHED)])
        method = types.WORKSPACE_DID_CHANGE_WATCHED_FILES
        registration = types.Registration("files", method, options)
        await self.client_register_capability_async(types.RegistrationParams([registration]))

    def drop(self, uri: str) -> None:
        """Forget a file that was closed."""
        file = file_of(uri)
        if file is None:
            return
        self.open.drop(file)
        self._uris.pop(file, None)
        self._outlines.pop(file, None)

    def positions(self, state: State, file: str) -> Positions:
        """The positions of a file as it was when a state was found."""
        text = state.text(file)
        return Positions(text, kind_of(file, text), self.workspace.position_codec)

    def now(self, uri: str) -> tuple[str, str, Positions] | None:
        """A file that is open, its text, and its positions; None if it isn't open."""
        file = file_of(uri)
        text = self.open.text(file) if file is not None else None
        if file is None or text is None:
            return None
        return file, text, Positions(text, self.open.kind(file), self.workspace.position_codec)

    # What is shown without being asked for.

    def show(self, state: State) -> None:
        """Show what was found, in each of its files; what was shown of it before goes."""
        cache: dict[str, Positions] = {}

        def positions_of(state: State, file: str) -> Positions:
            if file not in cache:
                cache[file] = self.positions(state, file)
            return cache[file]

        kind = kind_of(state.main, state.text(state.main))
        kind = "plan" if kind == "other" else kind
        before = self._shown.get(state.main, {})
        by_file: dict[str, list[findings.Shown]] = {file: [] for file in state.files}
        for shown in findings.shown_of(state, kind, positions_of, self._has_related):
            by_file.setdefault(shown.file, []).append(shown)
        self._shown[state.main] = by_file
        for file in {**before, **by_file}:
            self._publish(file)

    def hide(self, state: State) -> None:
        """Show nothing more of what a state was of."""
        for file in self._shown.pop(state.main, {}):
            self._publish(file)

    def _publish(self, file: str) -> None:
        """Send what all plans that a file belongs to say of it."""
        diagnostics: list[types.Diagnostic] = []
        for by_file in self._shown.values():
            for shown in by_file.get(file, ()):
                if shown.diagnostic not in diagnostics:
                    diagnostics.append(shown.diagnostic)
        uri, version = self._uris.get(file) or uri_of(file), self.open.version(file)
        self.text_document_publish_diagnostics(
            types.PublishDiagnosticsParams(uri, diagnostics, version)
        )

    @property
    def _has_related(self) -> bool:
        """Whether the editor shows places that a finding has besides its own."""
        text_document = self.client_capabilities.text_document
        shows = text_document.publish_diagnostics if text_document is not None else None
        return bool(shows is not None and shows.related_information)

    # What is asked for.

    async def hover(self, uri: str, position: types.Position) -> types.Hover | None:
        """What is known of the word under the cursor, and of the findings there."""
        known = self.now(uri)
        if known is None:
            return None
        file, text, positions = known
        line, column = positions.spot(position)
        state, spot, told = await self.open.good(file), None, ""
        if self.open.kind(file) == "plan":
            written = written_at(text, line, column)
            if written is not None:
                spot = positions.between(written.begin, written.end)
                told = hover.hover_of_plan(written, state)
        else:
            word = positions.word(line, column)
            if word is not None:
                spot = word[1]
                told = hover.hover_of_word(word[0], state)
        manual = hover.hover_of_findings(self._findings_at(file, position))
        whole = "\n\n---\n\n".join(filter(None, (told, manual)))
        content = types.MarkupContent(types.MarkupKind.Markdown, whole)
        return types.Hover(content, spot if told else None) if whole else None

    def _findings_at(self, file: str, position: types.Position) -> list[Finding]:
        """The findings that are shown at a position."""
        return [
            shown.finding
            for by_file in self._shown.values()
            for shown in by_file.get(file, ())
            if shown.finding is not None and _holds(shown.diagnostic.range, position)
        ]

    async def complete(self, uri: str, position: types.Position) -> types.CompletionList:
        """What may be written at the cursor."""
        known = self.now(uri)
        found: Sequence[reservoir.Completion] = ()
        items: list[types.CompletionItem] = []
        if known is None:
            return types.CompletionList(False, items)
        file, text, positions = known
        line, column = positions.spot(position)
        state, kind = await self.open.good(file), self.open.kind(file)
        if kind == "plan" or (kind == "other" and not text.strip().partition("\n")[2]):
            plan, index = (state.plan, state.index) if state is not None else (None, None)
            found = reservoir.completions(text, line, column, file=file, plan=plan, index=index)
        elif kind == "table" and state is not None and state.plan is not None and state.index:
            found = reservoir.table_completions(
                text, line, column, plan=state.plan, index=state.index
            )
        for number, each in enumerate(found):
            written = f"{each.text}: " if each.kind == "key" else each.text
            place = positions.between((line, each.column), (line, column))
            items.append(
                types.CompletionItem(
                    each.text,
                    kind=_COMPLETION_KINDS[each.kind],
                    detail=each.about.partition("\n")[0] or None,
                    sort_text=f"{number:05}",
                    text_edit=types.TextEdit(place, written),
                )
            )
        return types.CompletionList(False, items)

    async def actions(self, params: types.CodeActionParams) -> list[types.CodeAction]:
        """The fixes of what was found where the cursor is, and all that are certain."""
        known = self.now(params.text_document.uri)
        state = await self.open.with_fixes(known[0]) if known is not None else None
        if known is None or state is None or state.plan is None or state.tried is None:
            return []
        here = {
            (finding.rule, finding.at)
            for shown in self._shown.get(state.main, {}).get(known[0], ())
            for finding in [shown.finding]
            if finding is not None and _overlap(shown.diagnostic.range, params.range)
        }
        some = [each for each in state.tried if (each.rule, each.at) in here]
        offered: list[types.CodeAction] = []
        wanted = params.context.only
        for fix in fixes.fixes_of(some, state):
            is_certain = fix.finding is not None and fix.finding.is_mendable
            offered.append(await self._action(fix, types.CodeActionKind.QuickFix, is_certain))
        every = fixes.fix_all(state)
        if every is not None:
            offered.append(await self._action(every, fixes.FIX_ALL, False))
        return [one for one in offered if not wanted or _is_wanted(str(one.kind), wanted)]

    async def _action(
        self, fix: fixes.Fix, kind: types.CodeActionKind | str, is_certain: bool
    ) -> types.CodeAction:
        """A fix as an action; what it changes is found when it is chosen, if the editor asks."""
        self._number += 1
        self._offered[self._number] = fix
        self._offered.pop(self._number - MOST_OFFERED, None)
        action = types.CodeAction(
            fix.title,
            kind=kind,
            is_preferred=is_certain or None,
            data=self._number,
        )
        return action if self._asks_later else await self.resolve(action)

    @property
    def _asks_later(self) -> bool:
        """Whether the editor asks what an action changes once it is chosen."""
        text_document = self.client_capabilities.text_document
        action = text_document.code_action if text_document is not None else None
        later = action.resolve_support if action is not None else None
        return later is not None and "edit" in later.properties

    async def resolve(self, action: types.CodeAction) -> types.CodeAction:
        """What an action changes."""
        fix = self._offered.get(action.data) if isinstance(action.data, int) else None
        if fix is not None:
            after = await self.open.do(fixes.texts_after, fix)
            action.edit = fixes.workspace_edit(after, fix.state, self.positions)
        return action

    async def definition(self, uri: str, position: types.Position) -> list[types.Location]:
        """Where what is under the cursor is defined."""
        known = self.now(uri)
        state = await self._latest(known[0]) if known is not None else None
        if known is None or state is None:
            return []
        written, word = self._under(known, position)
        if written is not None:
            return self._locations(names.definition(written, known[0], state), state)
        return self._locations(names.definition_of_word(word, state), state)

    async def uses(
        self, uri: str, position: types.Position, with_definition: bool
    ) -> list[types.Location]:
        """Where what is under the cursor is used."""
        known = self.now(uri)
        state = await self._latest(known[0]) if known is not None else None
        if known is None or state is None or state.subject is None:
            return []
        written, word = self._under(known, position)
        if written is not None:
            return self._locations(names.uses(written, state, with_definition), state)
        for target in (("networks", word), ("devices", word)):
            if word in getattr(state.subject.plan, target[0]):
                return self._locations(names.uses_of(target, state, with_definition), state)
        return []

    async def _latest(self, file: str) -> State | None:
        """The plan of a file as it stands now; if it can't be used, as it last could."""
        return await self.open.settled(file) or await self.open.good(file)

    def _under(
        self, known: tuple[str, str, Positions], position: types.Position
    ) -> tuple[Written | None, str]:
        """The key or value of a plan at a position; else the word there."""
        file, text, positions = known
        line, column = positions.spot(position)
        if self.open.kind(file) == "plan":
            return written_at(text, line, column), ""
        word = positions.word(line, column)
        return None, word[0] if word is not None else ""

    def _locations(self, places: Sequence[Place], state: State) -> list[types.Location]:
        """Places as locations; in a text that was changed since, where they are now."""
        cache: dict[str, tuple[Positions, Moved | None]] = {}
        found = []
        for place in places:
            if place.file not in cache:
                then, now = self.positions(state, place.file), self.open.text(place.file)
                changed = None if now is None else Moved(then.lines, lines_of(now))
                cache[place.file] = then, changed
            then, changed = cache[place.file]
            spot: types.Range | None = then.at(place.line, place.column)
            if spot is not None and changed is not None:
                spot = changed.range(spot)
            if spot is not None:
                uri = self._uris.get(place.file) or uri_of(place.file)
                found.append(types.Location(uri, spot))
        return found

    async def outline(self, uri: str) -> list[types.DocumentSymbol]:
        """What a file has; of one that can't be read, what it had."""
        known = self.now(uri)
        if known is None:
            return []
        file, text, positions = known
        kind = self.open.kind(file)
        if kind == "plan":
            found = outline.outline_of_plan(text, positions)
            good = await self.open.good(file) if found is None else None
            if found is None and good is not None and file not in self._outlines:
                found = outline.outline_of_plan(good.text(file), self.positions(good, file))
            if found is not None:
                self._outlines[file] = found
        elif kind == "configuration":
            state = await self.open.settled(file)
            if state is not None:
                self._outlines[file] = outline.outline_of_configuration(state, positions, file)
        return self._outlines.get(file, [])


def _holds(spot: types.Range, position: types.Position) -> bool:
    return spot.start <= position <= spot.end


def _overlap(one: types.Range, other: types.Range) -> bool:
    """Whether two ranges have a line in common: actions are offered for the line."""
    return one.start.line <= other.end.line and other.start.line <= one.end.line


def _is_wanted(kind: str, wanted: Sequence[Any]) -> bool:
    """Whether an action is of one of the kinds that were asked for, or below one."""
    names = [one.value if isinstance(one, types.CodeActionKind) else str(one) for one in wanted]
    own = kind.value if isinstance(kind, types.CodeActionKind) else kind
    return any(own == name or own.startswith(f"{name}.") for name in names)
