"""Serves an editor: which method of the protocol is answered by what."""

from __future__ import annotations

import logging

from lsprotocol import types

from reservoir.lsp.fixes import FIX_ALL
from reservoir.lsp.server import Server


def serve() -> None:
    """Serve an editor on standard input and output, until it says that it ends."""
    # What goes wrong is answered to the editor; a log on standard error would be shown as noise.
    logging.getLogger("pygls").setLevel(logging.CRITICAL + 1)
    made().start_io()


def made() -> Server:
    """A server that answers all that it can."""
    server = Server()

    @server.feature(types.INITIALIZED)
    async def _watch(ls: Server, _params: types.InitializedParams) -> None:
        await ls.watch_files()

    @server.feature(types.TEXT_DOCUMENT_DID_OPEN)
    async def _opened(ls: Server, params: types.DidOpenTextDocumentParams) -> None:
        await ls.put(ls.workspace.get_text_document(params.text_document.uri))

    @server.feature(types.TEXT_DOCUMENT_DID_CHANGE)
    async def _changed(ls: Server, params: types.DidChangeTextDocumentParams) -> None:
        await ls.put(ls.workspace.get_text_document(params.text_document.uri))

    @server.feature(types.TEXT_DOCUMENT_DID_CLOSE)
    def _closed(ls: Server, params: types.DidCloseTextDocumentParams) -> None:
        ls.drop(params.text_document.uri)

    @server.feature(types.WORKSPACE_DID_CHANGE_WATCHED_FILES)
    async def _changed_on_disk(ls: Server, _params: types.DidChangeWatchedFilesParams) -> None:
        await ls.open.check_all()

    @server.feature(types.TEXT_DOCUMENT_DID_SAVE)
    async def _saved(ls: Server, _params: types.DidSaveTextDocumentParams) -> None:
        await ls.open.check_all()

    @server.feature(types.TEXT_DOCUMENT_HOVER)
    async def _hover(ls: Server, params: types.HoverParams) -> types.Hover | None:
        return await ls.hover(params.text_document.uri, params.position)

    options = types.CompletionOptions(trigger_characters=[" ", "[", "{", ","])

    @server.feature(types.TEXT_DOCUMENT_COMPLETION, options)
    async def _complete(ls: Server, params: types.CompletionParams) -> types.CompletionList:
        return await ls.complete(params.text_document.uri, params.position)

    kinds = types.CodeActionOptions([types.CodeActionKind.QuickFix, FIX_ALL], resolve_provider=True)

    @server.feature(types.TEXT_DOCUMENT_CODE_ACTION, kinds)
    async def _actions(ls: Server, params: types.CodeActionParams) -> list[types.CodeAction]:
        return await ls.actions(params)

    @server.feature(types.CODE_ACTION_RESOLVE)
    async def _resolve(ls: Server, params: types.CodeAction) -> types.CodeAction:
        return await ls.resolve(params)

    @server.feature(types.TEXT_DOCUMENT_DEFINITION)
    async def _definition(ls: Server, params: types.DefinitionParams) -> list[types.Location]:
        return await ls.definition(params.text_document.uri, params.position)

    @server.feature(types.TEXT_DOCUMENT_REFERENCES)
    async def _uses(ls: Server, params: types.ReferenceParams) -> list[types.Location]:
        with_definition = params.context.include_declaration
        return await ls.uses(params.text_document.uri, params.position, with_definition)

    @server.feature(types.TEXT_DOCUMENT_DOCUMENT_SYMBOL)
    async def _outline(
        ls: Server, params: types.DocumentSymbolParams
    ) -> list[types.DocumentSymbol]:
        return await ls.outline(params.text_document.uri)

    return server
