"""A document as one HTML page that needs nothing else: no network, no script."""

from __future__ import annotations

import base64
from collections.abc import Iterator
from functools import cache
from typing import TYPE_CHECKING

from reservoir.reports.document.blocks import Block, Document, Image

if TYPE_CHECKING:
    from jinja2 import Template


def pieces(document: Document) -> Iterator[str]:
    """The page, in pieces."""
    yield from _template().generate(document=document, kind=_kind, data_address=_data_address)
    yield "\n"


@cache
def _template() -> Template:
    from jinja2 import Environment, PackageLoader, StrictUndefined  # late: only for a page

    environment = Environment(
        loader=PackageLoader("reservoir.reports.document"),
        autoescape=True,
        undefined=StrictUndefined,
        trim_blocks=True,
        lstrip_blocks=True,
    )
    return environment.get_template("page.html")


def _kind(block: Block) -> str:
    return type(block).__name__.lower()


def _data_address(image: Image) -> str:
    """The figure itself as an address: inside the page, and apart from it."""
    return f"data:image/svg+xml;base64,{base64.b64encode(image.draw()).decode()}"
