"""A document as Markdown. Figures are left out: their tables say the same."""

from __future__ import annotations

import re
from collections.abc import Iterator, Sequence
from functools import singledispatch

from reservoir.reports.document.blocks import (
    Block,
    Code,
    Document,
    Image,
    Item,
    Listing,
    Paragraph,
    Run,
    Table,
)
from reservoir.reports.markup import code, plain


def pieces(document: Document) -> Iterator[str]:
    """The document, a line a piece."""
    for line in _lines(document):
        yield f"{line}\n"


def _lines(document: Document) -> Iterator[str]:
    yield f"# {plain(document.title)}"
    for section in document.sections:
        yield from ("", f"## {plain(section.title)}")
        for part in section.parts:
            if part.heading:
                yield from ("", f"### {plain(part.heading)}")
            for block in part.blocks:
                yield from written(block)


@singledispatch
def written(block: Block) -> Iterator[str]:
    """The lines of a block, with an empty one before it."""
    raise TypeError(type(block).__name__)


@written.register
def _(block: Paragraph) -> Iterator[str]:
    yield from ("", _runs(block.runs))


@written.register
def _(block: Listing) -> Iterator[str]:
    yield ""
    for item in block.items:
        yield from _item(item, "")


def _item(item: Item, indent: str) -> Iterator[str]:
    yield f"{indent}- {_runs(item.runs)}"
    for line in item.lines:
        yield f"{indent}  - {_runs(line)}"
    for inner in item.items:
        yield from _item(inner, f"{indent}  ")


@written.register
def _(block: Table) -> Iterator[str]:
    yield from ("", _row(block.heads))
    yield _row(["---:" if place in block.numbers else "---" for place in range(len(block.heads))])
    for cells in block.rows:
        yield _row(
            [
                code(cell) if place in block.codes and cell else plain(cell)
                for place, cell in enumerate(cells)
            ]
        )


def _row(cells: Sequence[str]) -> str:
    return f"| {' | '.join(cells)} |"


@written.register
def _(block: Code) -> Iterator[str]:
    longest = max(map(len, re.findall("`+", block.text)), default=0)
    fence = "`" * max(3, longest + 1)
    yield from ("", f"{fence}text", *block.text.rstrip("\n").split("\n"), fence)


@written.register
def _(block: Image) -> Iterator[str]:
    yield from ()


def _runs(runs: Sequence[Run]) -> str:
    return "".join(map(_run, runs)).strip()


def _run(run: Run) -> str:
    if not run.text.strip():
        return run.text
    if run.kind == "code":
        return code(run.text)
    before = " " if run.text[0] == " " else ""
    after = " " if run.text[-1] == " " else ""
    inside = plain(run.text)
    return f"{before}{inside}{after}" if run.kind == "plain" else f"{before}**{inside}**{after}"
