"""What a rehearsal found, as a table, as JSON, and a conversation message by message."""

from __future__ import annotations

from collections.abc import Iterable, Iterator, Mapping, Sequence
from typing import TYPE_CHECKING, Any

from reservoir.core.values.addresses import format_address
from reservoir.core.values.clients import Mac
from reservoir.core.values.durations import format_duration
from reservoir.core.wording import counted, listed_briefly
from reservoir.rehearsal.casting import MOST_FILLED
from reservoir.rehearsal.day import NetworkDay
from reservoir.rehearsal.judgement.result import Failure, NetworkRehearsed, Rehearsal
from reservoir.rehearsal.messages.message import Kind, Message, described
from reservoir.rehearsal.wires.wires import Event
from reservoir.reports.alike import alike, left_out
from reservoir.reports.frame import as_text, frame
from reservoir.reports.outage import as_object
from reservoir.reports.theme import clock, columns, styled, wrapped

if TYPE_CHECKING:
    from reservoir.reports.outputs import rehearse as json_types
    from reservoir.reports.outputs.rehearse import DayRehearsed, FailureObject, Output

TOLD = 4
"""Clients whose conversation is shown."""

HEADINGS = ("network", "server", "clients", "served", "addresses", "gateway", "DNS", "lease",
            "bound")  # fmt: skip
_LEFT = [place for place, name in enumerate(HEADINGS) if name not in ("clients", "served")]
_ADDRESSES = HEADINGS.index("addresses")
_ANSWERS: Mapping[bool | None, str] = {True: "yes", False: "no", None: "-"}
_UNKNOWN = "?"


def table(rehearsal: Rehearsal, width: int, *, only_failed: bool = False) -> Iterator[str]:
    """A line for each network, below it what went wrong there; a closing line with counts.

    Args:
        rehearsal: What was rehearsed.
        width: Columns of the output.
        only_failed: Whether networks in which no client failed are only counted.
    """
    networks = [each for each in rehearsal.networks if each.failures or not only_failed]
    told = {n for n, each in enumerate(networks) if each.failures or each.accepted or each.classes}
    shown = alike(list(map(row, networks)), told, apart=(_ADDRESSES,))
    heading, *lines = columns([HEADINGS, *(cells for _, cells in shown)], left=_LEFT)
    if networks:
        yield styled(heading, "heading")
    for (place, _), line in zip(shown, lines, strict=True):
        each = networks[place]
        yield styled(line, "error") if each.failures else line
        for its in each.classes:
            got = f", {its.span}" if its.span else ""
            yield f"    class {its.name}: {its.served:,} of {its.clients:,} served{got}"
        reasons = (f"{failure.reason} ({_known(failure)})" for failure in each.failures)
        for reason in dict.fromkeys(reasons):  # clients of two classes may notice the same
            yield from wrapped(reason, width, "    ")
        for failure in each.accepted:
            agreed = f"accepted: {failure.reason} ({failure.rule}: {failure.accepted})"
            yield from wrapped(agreed, width, "    ")
    if networks:
        yield ""
    for why, names in _unknown(rehearsal).items():
        yield from wrapped(f"{_UNKNOWN} {listed_briefly(names)}, {why}", width, "")
    for each in rehearsal.networks:
        if each.is_too_large:
            yield f"{each.network} was not filled: it has more than {MOST_FILLED:,} addresses."
    yield from left_out(rehearsal.left_out, "rehearsed", width)
    for device, ignored in rehearsal.ignored.items():
        for one in ignored:
            yield f"{device} ignores {one}"
    if rehearsal.left_out or rehearsal.ignored:
        yield ""
    yield from wrapped(summary(rehearsal), width, "")


def day_table(rehearsal: Rehearsal, width: int) -> Iterator[str]:
    """A line for each network of a virtual day: who came, and the most addresses taken at once."""
    heads = ("network", "came", "refused", "most taken", "at", "expected", "addresses")
    rows = [
        (
            day.network,
            f"{day.came:,}",
            f"{day.refused:,}",
            f"{day.peak:,}",
            clock(day.peak_at),
            f"{day.expected:,}",
            f"{day.room:,}",
        )
        for day in rehearsal.days
    ]
    heading, *lines = columns([heads, *rows])
    yield styled(heading, "heading")
    yield from lines
    yield ""
    came = sum(day.came for day in rehearsal.days)
    refused = sum(day.refused for day in rehearsal.days)
    told = f"In a day {counted(came, 'client')} came and {refused:,} found no free address."
    yield from wrapped(told, width, "")


def summary(rehearsal: Rehearsal) -> str:
    """How many clients came, and how many networks are as they should be."""
    networks = rehearsal.networks
    if not networks:
        return "No network was rehearsed."
    clients, served = sum(n.clients for n in networks), sum(n.served for n in networks)
    sure = sum(n.served for n in networks if not n.assumed)
    bad = sum(bool(n.failures) for n in networks)
    fine = f"{bad:,} of {counted(len(networks), 'network')} failed" if bad else (
        f"{counted(len(networks), 'network')} rehearsed, no client failed"
    )  # fmt: skip
    assumed = [n.network for n in networks if n.assumed and not n.failures]
    if assumed and not bad:
        tried = sum(bool(n.clients) for n in networks)
        fine = f"{tried - len(assumed):,} of {counted(tried, 'network')} served"
    if assumed:
        fine += f"; for {listed_briefly(assumed)} the way depends on what the plan doesn't state"
    certain = " for certain" if sure < served else ""
    return (
        f"{fine}; {sure:,} of {counted(clients, 'expected client')} served{certain}, "
        f"{counted(rehearsal.exchanges, 'client')} in all."
    )


def _unknown(rehearsal: Rehearsal) -> dict[str, list[str]]:
    """What isn't known and would have to be, with the networks where it matters."""
    found: dict[str, list[str]] = {}
    for each in rehearsal.networks:
        if each.assumed:
            found.setdefault(f"served ({'; '.join(each.assumed)})", []).append(each.network)
        if each.dns_unknown and not each.dns_answers:
            found.setdefault(f"DNS server {each.dns_unknown}", []).append(each.network)
    return found


def row(each: NetworkRehearsed) -> tuple[str, ...]:
    """A network in the cells of a table: see :data:`HEADINGS`."""
    return (
        each.network,
        ", ".join(each.servers) or "-",
        f"{each.clients:,}",
        f"{each.served:,}{_UNKNOWN if each.assumed else ''}",
        str(each.span) if each.span else "-",
        _ANSWERS[each.gateway_answers],
        _UNKNOWN if each.dns_unknown and not each.dns_answers else _ANSWERS[each.dns_answers],
        format_duration(each.lease) if each.lease else "-",
        f"{each.bindings_right:,}/{each.bindings:,}" if each.bindings else "-",
    )


def as_json(rehearsal: Rehearsal, files: Sequence[str], *, only_failed: bool = False) -> str:
    """One JSON object, whose fields are only ever added to; its summary is of all networks."""
    networks = rehearsal.networks
    output: Output = {
        **frame("rehearse", files),
        "networks": [network_object(n) for n in networks if n.failures or not only_failed],
        "days": [_day(day) for day in rehearsal.days],
        "outage": as_object(rehearsal.outage) if rehearsal.outage is not None else None,
        "left_out": [{"network": n, "because": why} for n, why in rehearsal.left_out.items()],
        "ignored": [
            {"device": device, "line": one.line, "what": one.what, "because": one.why}
            for device, lines in rehearsal.ignored.items()
            for one in lines
        ],
        "summary": {
            "networks": len(networks),
            "failed": sum(bool(each.failures) for each in networks),
            "clients": sum(each.clients for each in networks),
            "served": sum(each.served for each in networks),
            "assumed": sum(bool(each.assumed) for each in networks),
            "exchanges": rehearsal.exchanges,
        },
    }
    return as_text(output)


def network_object(each: NetworkRehearsed) -> json_types.NetworkRehearsed:
    """What the clients of a network got, as JSON has it."""
    return {
        "network": each.network,
        "server": ", ".join(each.servers) or None,
        "relay": each.relay,
        "clients": each.clients,
        "served": each.served,
        "refused": each.refused,
        "span": str(each.span) if each.span else None,
        "gateway": format_address(each.gateway) if each.gateway is not None else None,
        "gateway_answers": each.gateway_answers,
        "dns": list(map(format_address, each.dns)),
        "dns_answers": each.dns_answers,
        "assumed": list(each.assumed),
        "lease": each.lease,
        "renewed": each.renewed,
        "bindings": each.bindings,
        "bindings_right": each.bindings_right,
        "filled": each.filled,
        "classes": [
            {
                "name": its.name,
                "clients": its.clients,
                "served": its.served,
                "span": str(its.span) if its.span else None,
            }
            for its in each.classes
        ],
        "failure": _failure(each.failure) if each.failure else None,
        "failures": [_failure(failure) for failure in each.failures],
        "accepted": [_failure(failure) for failure in each.accepted],
    }


def _day(day: NetworkDay) -> DayRehearsed:
    return {
        "network": day.network,
        "came": day.came,
        "refused": day.refused,
        "peak": day.peak,
        "peak_at": clock(day.peak_at),
        "expected": day.expected,
        "renewals_per_second": round(day.renewals_per_second, 6),
        "expected_renewals": round(day.expected_renewals, 6),
        "addresses": day.room,
        "taken": day.taken,
    }


def _known(failure: Failure) -> str:
    """The rule that knows a failure, in its line."""
    if failure.rule is not None:
        return failure.rule
    return f"perhaps from {failure.suspect}" if failure.suspect else "no rule of check finds it"


def _failure(failure: Failure) -> FailureObject:
    return {
        "reason": failure.reason,
        "rule": failure.rule,
        "suspect": failure.suspect,
        "accepted": failure.accepted,
        "at_message": failure.at_message,
        "client": str(failure.client),
        "address": format_address(failure.address) if failure.address is not None else None,
    }


def conversation(each: NetworkRehearsed, width: int) -> Iterator[str]:
    """What was said in a network by its first clients, and by those that failed."""
    failed = [failure.client for failure in each.failures]
    heard = dict.fromkeys(event.client for event in each.conversation)
    of_each = {each.of_class[client]: client for client in reversed([*each.of_class])}
    told = list(dict.fromkeys([*failed, *of_each.values(), *heard]))
    told = [client for client in told if client in heard]
    shown = sorted(
        told[: max(TOLD, len(failed) + len(of_each) + 1)], key=_first_heard(each.conversation)
    )
    yield styled(each.network, "heading")
    for client in shown:
        yield ""
        yield styled(f"client {each.called.get(client, client)}", "name")
        yield from _said(client, each.conversation, width)
        for failure in each.failures:
            if failure.client == client:
                yield from wrapped(
                    failure.reason, width, " " * 13, styled("     failed  ", "error")
                )
    left = len(told) - len(shown)
    if left:
        yield ""
        yield f"And {counted(left, 'more client')}; --capture has every message."


def _first_heard(events: Iterable[Event]) -> Any:
    first: dict[Mac, int] = {}
    for number, event in enumerate(events):
        first.setdefault(event.client, number)
    return first.__getitem__


def _since(seconds: float) -> str:
    """How long a rehearsal has lasted: to the millisecond while it is short."""
    if seconds < 60:
        return f"{seconds:.3f} s"
    minutes, rest = divmod(seconds, 60)
    if minutes < 60:
        return f"{minutes:.0f}m {rest:.3f}s"
    hours, minutes = divmod(minutes, 60)
    days, hours = divmod(hours, 24)
    return (f"{days:.0f}d " if days else "") + f"{hours:.0f}h {minutes:.0f}m {int(rest)}s"


_OF_THE_WAY = ("has", "gets", "relay", "hops")
"""What a message says of itself and its way; the rest of an answer is what the client is told."""


def _says(message: Message, before: Mapping[str, str] | None) -> str:
    """What a message says; of an answer, what the one before it to the same client didn't say."""
    said = dict(described(message))
    if before is None:
        return ", ".join(f"{name} {value}" for name, value in said.items())
    new = [f"{name} {value}" for name, value in said.items()
           if name in _OF_THE_WAY or before.get(name) != value]  # fmt: skip
    gone = [f"no {name}" for name in before if name not in said and name not in _OF_THE_WAY]
    same = ["the rest as before"] if len(new) < len(said) else []
    return ", ".join([*new, *gone, *same])


def _said(client: Mac, events: Iterable[Event], width: int) -> Iterator[str]:
    indent, before = " " * 13, None
    for event in events:
        if event.client != client:
            continue
        if event.message is None:
            yield from wrapped(f"{event.who} {event.what}".strip(), width, indent)
            continue
        is_answer = event.message.is_reply and event.message.kind is not Kind.NAK
        says = _says(event.message, before if is_answer else None)
        before = dict(described(event.message)) if is_answer else before
        head = f"{_since(event.at):>11}  {event.who} to {event.to}: "
        text = f"{event.message.kind.name}{f' ({says})' if says else ''}"
        yield from wrapped(text, width, indent, head)
