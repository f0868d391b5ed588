"""An editor that speaks to ``reservoir lsp`` step by step, for tests that draw texts."""

from __future__ import annotations

import asyncio
import sys
from collections.abc import Awaitable, Sequence
from pathlib import Path
from typing import Any, TypeVar

from lsprotocol import types
from pygls import uris
from pytest_lsp import LanguageClient, client_capabilities, make_test_lsp_client

Answer = TypeVar("Answer")

SERVER = Path(sys.executable).parent / "reservoir"

UNITS = {"utf-8": 1, "utf-16": 2, "utf-32": 4}
"""Bytes of what columns are counted in."""

LONGEST = 60.0
"""Seconds after which an answer is missing."""


class Editor:
    """An editor with a server of its own."""

    def __init__(self, capabilities: str = "neovim") -> None:
        """Start the server, with what an editor of this name can do; empty: only what it must."""
        self._runner = asyncio.Runner()
        self._client: LanguageClient = make_test_lsp_client()
        can = client_capabilities(capabilities) if capabilities else types.ClientCapabilities()
        self._can = can
        self._versions: dict[Path, int] = {}
        self._last = 0
        self._shown: dict[str, tuple[int | None, Sequence[types.Diagnostic]]] = {}
        self.texts: dict[Path, str] = {}
        self._runner.run(self._start())

    async def _start(self) -> None:
        self._told = asyncio.Event()
        publish = types.TEXT_DOCUMENT_PUBLISH_DIAGNOSTICS
        self._client.protocol.fm.features[publish] = self._take
        await self._client.start_io(str(SERVER), "lsp")
        begun = types.InitializeParams(capabilities=self._can)
        known = await self._client.initialize_session(begun)
        self._encoding = known.capabilities.position_encoding or "utf-16"

    def _take(self, told: types.PublishDiagnosticsParams) -> None:
        """Take what is shown of a file, and of which of its texts."""
        self._shown[told.uri] = told.version, told.diagnostics
        self._told.set()

    def end(self) -> None:
        """End the server as an editor does; it must not have ended before."""

        async def end() -> None:
            await self._client.shutdown_session()
            await self._client.stop()  # type: ignore[no-untyped-call]

        self._runner.run(end())
        self._runner.close()

    def wait(self, answer: Awaitable[Answer]) -> Answer:
        """An answer of the server."""

        async def given() -> Answer:
            return await asyncio.wait_for(answer, LONGEST)

        return self._runner.run(given())

    # Texts.

    def put(self, file: Path, text: str) -> None:
        """Open a file with a text, or change it to that."""
        is_new = file not in self.texts
        self._last += 1
        version = self._versions[file] = self._last
        self.texts[file] = text
        uri = uris.from_fs_path(str(file)) or ""
        if is_new:
            item = types.TextDocumentItem(uri, "text", version, text)
            self._client.text_document_did_open(types.DidOpenTextDocumentParams(item))
        else:
            known = types.VersionedTextDocumentIdentifier(version, uri)
            whole = types.TextDocumentContentChangeWholeDocument(text)
            changed = types.DidChangeTextDocumentParams(known, [whole])
            self._client.text_document_did_change(changed)

    def open(self, file: Path) -> None:
        """Open a file as it is on the disk."""
        self.put(file, file.read_text())

    def close(self, file: Path) -> None:
        """Close a file."""
        uri = uris.from_fs_path(str(file)) or ""
        self._client.text_document_did_close(
            types.DidCloseTextDocumentParams(types.TextDocumentIdentifier(uri))
        )
        del self._versions[file], self.texts[file]

    def shown(self, file: Path, *, of: Path | None = None) -> Sequence[types.Diagnostic]:
        """What is shown of a file once what stands in the editor has been checked.

        Args:
            file: The file.
            of: The file whose present text has been checked then; itself if None.
        """
        uri, wanted = uris.from_fs_path(str(of or file)), self._versions[of or file]

        async def checked() -> None:
            while self._shown.get(str(uri), (0, ()))[0] != wanted:
                self._told.clear()
                await self._told.wait()

        self.wait(checked())
        self.hover(of or file, (1, 1))  # what was told with it has come before this answer
        return self._shown.get(uris.from_fs_path(str(file)) or "", (0, ()))[1]

    # Questions.

    def at(self, file: Path, spot: tuple[int, int]) -> dict[str, Any]:
        """A place as the protocol has it: a line and a column, from 1, in characters."""
        line, column = spot
        before = self.texts[file].split("\n")[line - 1][: column - 1]
        units = len(self._encoded(before)) // UNITS[self._encoding]
        uri = uris.from_fs_path(str(file)) or ""
        return {
            "text_document": types.TextDocumentIdentifier(uri),
            "position": types.Position(line - 1, units),
        }

    def hover(self, file: Path, spot: tuple[int, int]) -> str:
        """What is shown of the word at a place; empty if nothing is."""
        asked = types.HoverParams(**self.at(file, spot))
        answer = self.wait(self._client.text_document_hover_async(asked))
        if answer is None:
            return ""
        assert isinstance(answer.contents, types.MarkupContent)
        return answer.contents.value

    def offered(self, file: Path, spot: tuple[int, int]) -> list[types.CompletionItem]:
        """What may be written at a place."""
        asked = types.CompletionParams(**self.at(file, spot))
        answer = self.wait(self._client.text_document_completion_async(asked))
        return list(answer.items if isinstance(answer, types.CompletionList) else answer or ())

    def definition(self, file: Path, spot: tuple[int, int]) -> list[tuple[Path, str]]:
        """Where the name at a place is defined: the files, and what stands there."""
        asked = types.DefinitionParams(**self.at(file, spot))
        found = self.wait(self._client.text_document_definition_async(asked))
        places = found if isinstance(found, Sequence) else ()
        return [self._there(each) for each in places if isinstance(each, types.Location)]

    def uses(self, file: Path, spot: tuple[int, int]) -> list[tuple[Path, int, str]]:
        """Where the name at a place is used or defined: files, lines, and what stands there."""
        context = types.ReferenceContext(include_declaration=True)
        asked = types.ReferenceParams(context=context, **self.at(file, spot))
        found = self.wait(self._client.text_document_references_async(asked)) or ()
        return [
            (path, each.range.start.line + 1, text)
            for each in found
            for path, text in [self._there(each)]
        ]

    def _there(self, location: types.Location) -> tuple[Path, str]:
        path = Path(uris.to_fs_path(location.uri) or "")
        text = self.texts[path] if path in self.texts else path.read_text()
        return path, self.within(text, location.range)

    def within(self, text: str, place: types.Range) -> str:
        """What stands in a range of one line, which counts as was agreed on with the server."""
        size = UNITS[self._encoding]
        line = self._encoded(text.split("\n")[place.start.line])
        part = line[size * place.start.character : size * place.end.character]
        return part.decode(self._encoding if size == 1 else f"{self._encoding}-le")

    def _encoded(self, text: str) -> bytes:
        return text.encode(self._encoding if UNITS[self._encoding] == 1 else f"{self._encoding}-le")

    def outline(self, file: Path) -> list[types.DocumentSymbol]:
        """What a file has."""
        known = types.TextDocumentIdentifier(uris.from_fs_path(str(file)) or "")
        asked = types.DocumentSymbolParams(known)
        found = self.wait(self._client.text_document_document_symbol_async(asked)) or ()
        return [each for each in found if isinstance(each, types.DocumentSymbol)]

    def actions(self, file: Path, first: int, last: int) -> list[types.CodeAction]:
        """The fixes that are offered for some lines, from 1."""
        place = types.Range(types.Position(first - 1, 0), types.Position(last - 1, 0))
        known = types.TextDocumentIdentifier(uris.from_fs_path(str(file)) or "")
        asked = types.CodeActionParams(known, place, types.CodeActionContext([]))
        found = self.wait(self._client.text_document_code_action_async(asked)) or ()
        return [each for each in found if isinstance(each, types.CodeAction)]

    def chosen(self, action: types.CodeAction) -> dict[Path, str]:
        """The texts that an action leaves; they are for what stands in the editor now."""
        if action.edit is None:
            action = self.wait(self._client.code_action_resolve_async(action))
        assert action.edit is not None
        found = {}
        for change in action.edit.document_changes or ():
            assert isinstance(change, types.TextDocumentEdit)
            path = Path(uris.to_fs_path(change.text_document.uri) or "")
            assert change.text_document.version == self._versions.get(path)
            text = self.texts[path] if path in self.texts else path.read_text()
            lines = text.splitlines(keepends=True)
            for edit in sorted(change.edits, key=lambda each: -each.range.start.line):
                assert isinstance(edit, types.TextEdit)
                begin, end = edit.range.start, edit.range.end
                assert begin.character == end.character == 0 or end.line >= len(lines) - 1
                lines[begin.line : end.line] = [edit.new_text]
            found[path] = "".join(lines)
        return found
