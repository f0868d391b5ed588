"""Measures what an editor waits for: answers of ``reservoir lsp`` while a plan is typed.

A plan of some networks and five bindings in each, on one relay and one server, with some mistakes.
Each answer is measured from the question to its arrival, the protocol and the other process
included, and set beside what the same machine takes in the same run to load and check the plan.
"""

from __future__ import annotations

import asyncio
import sys
import tempfile
import time
from collections.abc import Awaitable
from pathlib import Path
from statistics import quantiles

from lsprotocol import types
from pygls import uris
from pytest_lsp import LanguageClient, client_capabilities, make_test_lsp_client

import reservoir

PROGRAM = Path(sys.executable).parent / "reservoir"
SIZES = (60, 240, 960)
WANTED = 150
"""Milliseconds within which an editor has its answer, in a plan of 60 networks."""

TURNS = 25
SLIPS = {"gateway: 10.0.7.1": "gateway: 10.0.7.30", "[10.0.9.20-": "[10.0.9.1-"}
"""Mistakes, so that there is something to show and to fix."""


def plan_of(networks: int) -> str:
    """The text of a plan."""
    server = "  server: {dialect: larkspur, interfaces: {uplink: {address: 10.255.0.1/24}}}"
    lines = ["reservoir: 1", "defaults: {dns: [10.255.0.53], lease: 12h}", "devices:", server]
    relay, rows = ["  relay:", "    interfaces:"], ["networks:"]
    for number in range(networks):
        base = f"10.{number >> 8}.{number & 255}"
        relay.append(f"      p{number}: {{address: {base}.1/24, relay_to: [10.255.0.1]}}")
        rows += [f"  n{number}:", f"    subnet: {base}.0/24", f"    gateway: {base}.1"]
        rows += ["    served_by: server", f"    ranges: [{base}.20-{base}.250]", "    bindings:"]
        for host in range(5):
            mac = f"00:00:5e:{number >> 8:02x}:{number & 255:02x}:{host:02x}"
            name, address = f"h{number}-{host}", f"{base}.{100 + host}"
            rows.append(f"      - {{name: {name}, mac: {mac}, address: {address}}}")
    text = "\n".join([*lines, *relay, *rows]) + "\n"
    for right, wrong in SLIPS.items():
        text = text.replace(right, wrong, 1)
    return text


async def measured(file: Path) -> dict[str, list[float]]:
    """Milliseconds that each kind of answer took."""
    text, uri = file.read_text(), uris.from_fs_path(str(file)) or ""
    client: LanguageClient = make_test_lsp_client()
    await client.start_io(str(PROGRAM), "lsp")
    can = client_capabilities("neovim")
    await client.initialize_session(types.InitializeParams(capabilities=can))
    item = types.TextDocumentItem(uri, "yaml", 1, text)
    client.text_document_did_open(types.DidOpenTextDocumentParams(item))
    await client.wait_for_notification(types.TEXT_DOCUMENT_PUBLISH_DIAGNOSTICS)
    known, taken = types.TextDocumentIdentifier(uri), dict[str, list[float]]()

    async def timed(what: str, answer: Awaitable[object]) -> None:
        begin = time.perf_counter()
        await answer
        taken.setdefault(what, []).append((time.perf_counter() - begin) * 1000)

    line = text[: text.index("    gateway: 10.0.30.1")].count("\n")
    for turn in range(TURNS):
        await asyncio.sleep(0.1)  # a fast typist's next letter
        letter = types.TextDocumentContentChangePartial(
            types.Range(types.Position(line - 2, 0), types.Position(line - 2, 0)), f"# {turn}\n"
        )
        line += 1
        version = types.VersionedTextDocumentIdentifier(turn + 2, uri)
        client.text_document_did_change(types.DidChangeTextDocumentParams(version, [letter]))
        method = types.TEXT_DOCUMENT_PUBLISH_DIAGNOSTICS
        await timed("findings after a letter", client.wait_for_notification(method))
        value, server = types.Position(line, 16), types.Position(line + 1, 18)
        await timed("hover", client.text_document_hover_async(types.HoverParams(known, value)))
        asked = types.CompletionParams(known, value)
        await timed("completion", client.text_document_completion_async(asked))
        its = types.DefinitionParams(known, server)
        await timed("definition", client.text_document_definition_async(its))
        uses = types.ReferenceParams(types.ReferenceContext(True), known, server)
        await timed("uses", client.text_document_references_async(uses))
        symbols = types.DocumentSymbolParams(known)
        await timed("outline", client.text_document_document_symbol_async(symbols))
    await asyncio.sleep(2)  # nobody types, and fixes are tried
    place = types.Range(types.Position(0, 0), types.Position(text.count("\n"), 0))
    fixes = types.CodeActionParams(known, place, types.CodeActionContext([]))
    for _ in range(TURNS):
        await timed("fixes", client.text_document_code_action_async(fixes))
    await client.shutdown_session()
    await client.stop()  # type: ignore[no-untyped-call]
    return taken


def once(file: Path) -> float:
    """Milliseconds to load and check a plan, the best of some runs in this process."""
    runs = []
    for _ in range(4):
        begin = time.perf_counter()
        reservoir.check(reservoir.load(file))
        runs.append((time.perf_counter() - begin) * 1000)
    return min(runs)


def main() -> None:
    """Print the median and the slowest twentieth of each kind of answer, for each size of plan."""
    print("networks   answer                     median   19 of 20   beside one load and check")
    for size in SIZES:
        with tempfile.TemporaryDirectory() as folder:
            file = Path(folder) / "plan.yaml"
            file.write_text(plan_of(size))
            whole = once(file)
            for what, taken in asyncio.run(measured(file)).items():
                median, most = quantiles(taken, n=2)[0], quantiles(taken, n=20)[-1]
                late = f"  more than {WANTED} ms" if size == SIZES[0] and most > WANTED else ""
                ratio = median / whole
                print(
                    f"{size:8}   {what:<24} {median:5.0f} ms   {most:5.0f} ms   {ratio:.2f}{late}"
                )


if __name__ == "__main__":
    main()
