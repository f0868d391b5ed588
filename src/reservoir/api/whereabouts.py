"""Finding anything from Python: what an address, a client, a VLAN tag or a name is, and where."""

from __future__ import annotations

import re
from collections.abc import Sequence
from functools import cached_property

from reservoir.api.drafts import drafting
from reservoir.api.plans import check, pools_of, space
from reservoir.core.checks import Report
from reservoir.core.drafting.next_free import NextFree
from reservoir.core.leases.table import LeaseTable
from reservoir.core.plan.scalars import READERS
from reservoir.core.subject import Subject
from reservoir.core.values.addresses import MalformedValueError, Prefix, Span, parse_address
from reservoir.core.values.clients import (
    is_mac_text,
    parse_identifier,
    parse_mac,
    printed_client,
)
from reservoir.core.whereabouts import Answer, Whereabouts

_MOST_TAG = 4094
"""The largest VLAN tag (IEEE 802.1Q section 9.6)."""


class Index:
    """All that a subject names, for many questions: what each thing is, where, what is free."""

    def __init__(
        self, subject: Subject, leases: LeaseTable | None = None, report: Report | None = None
    ) -> None:
        """Take a subject, and perhaps who has which address and what was found.

        Raises:
            InputError: a device's dialect is unknown, or its sheet has mistakes.
        """
        self.space = space(subject)
        self._where = Whereabouts(pools_of(subject), self.space, leases)
        self._subject, self._report = subject, report

    @cached_property
    def next_free(self) -> NextFree:
        """What can be named next: free addresses, ranges, subnets, VLAN tags."""
        return NextFree(self.space, drafting(self._subject, space=self.space))

    def find(self, asked: str) -> Answer:
        """What is known of one thing, written as for :func:`find`.

        Raises:
            MalformedValueError: it looks like an address, a subnet or a range, and is none.
        """
        answer = _answer(self._where, asked)
        if self._report is None:
            self._report = check(self._subject)
        return answer.with_findings(self._report.findings)


def find(subject: Subject, asked: Sequence[str], leases: LeaseTable | None = None) -> list[Answer]:
    """What is known of each of some things, with the findings about it.

    Args:
        subject: A plan, or configuration that was read.
        asked: Addresses, subnets, ranges, MAC addresses in any notation, client identifiers
            (``0100.005e.0053.01``, ``hex:…``, ``text:…``), VLAN tags, or names, in which ``*``
            stands for anything.
        leases: Who has which address.

    Raises:
        MalformedValueError: one looks like an address, a subnet or a range, and is none.
        InputError: a device's dialect is unknown, or its sheet has mistakes.
    """
    index = Index(subject, leases)
    return [index.find(text) for text in asked]


def _answer(where: Whereabouts, text: str) -> Answer:
    """What is known of what a text means."""
    printed = printed_client(text)
    if printed is None and re.fullmatch(r"[0-9]+(\.[0-9]+){2,}[0-9./ +-]*", text):
        return where.addresses(text, _span(text))
    if is_mac_text(text):
        return where.client(text, parse_mac(text))
    if text.startswith(("hex:", "text:")):
        return where.client(text, parse_identifier(text))
    named = where.name(text)
    if not named.is_known and printed is not None:
        return where.client(text, printed)
    if not named.is_known and text.isascii() and text.isdigit() and 1 <= int(text) <= _MOST_TAG:
        return where.tag(text, int(text))
    return named


def _span(text: str) -> Span:
    """The addresses of one, of a subnet, or of a range.

    Raises:
        MalformedValueError: it is none of them.
    """
    if "/" in text:
        subnet: Prefix = READERS["subnet"](text)
        return subnet.subnet.span
    if re.search("[-+]", text):
        span: Span = READERS["range"](text)
        if span.first > span.last:
            raise MalformedValueError(f"{text!r} is written high to low")
        return span
    address = parse_address(text)
    return Span(address, address)
