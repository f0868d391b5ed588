"""What verifying sends, and what it found, as lines and as JSON."""

from __future__ import annotations

from collections import Counter
from collections.abc import Iterator, Sequence
from typing import TYPE_CHECKING

from reservoir.core.values.addresses import format_address
from reservoir.core.values.durations import format_duration
from reservoir.core.wording import counted, listed, listed_briefly
from reservoir.rehearsal.asking import TRIES
from reservoir.rehearsal.judgement.result import NetworkRehearsed
from reservoir.rehearsal.judgement.verified import NetworkVerified, ServerSeen, Verification
from reservoir.rehearsal.verify import Verifying
from reservoir.rehearsal.wires.live import RATE
from reservoir.reports.frame import as_text, frame
from reservoir.reports.rehearsal import network_object
from reservoir.reports.theme import columns, styled, wrapped

if TYPE_CHECKING:
    from reservoir.reports.outputs.verify import Output, ServerSeenObject

HEADINGS = ("network", "", "asked", "offered", "addresses", "gateway", "DNS", "lease", "bound")
_LEFT = [place for place, name in enumerate(HEADINGS) if name not in ("asked", "offered")]
_USED = ("gateway there", "DNS there", "renewed")
_ANSWERS = {True: "yes", False: "no", None: "-"}


def sendings(verifying: Verifying, servers: Sequence[int], width: int) -> Iterator[str]:
    """What will be sent, and to whom, before anything is."""
    asks = verifying.asks.asked
    to = "everybody there" if not servers else listed(map(format_address, servers))
    yield f"From {verifying.on}, to {to}, as clients that ask for an address (DISCOVER):"
    for name in verifying.networks:
        mine = [ask for ask in asks if ask.network == name]
        free = [ask.label for ask in mine if ask.bound_to is None]
        bound = [ask.label for ask in mine if ask.bound_to is not None]
        who = [*free, *([f"as {counted(len(bound), 'bound client')}"] if bound else [])]
        text = "; ".join([f"as {label}" for label in free] + who[len(free) :]) or "nobody"
        yield from wrapped(text, width, "    ", f"  {name}: ")
    for _, client, why in _briefly(verifying.asks.not_asked):
        yield from wrapped(f"Not {client}: {why}.", width, "  ")
    taken = "Nothing is taken: offers lapse by themselves."
    if verifying.takes:
        takers = counted(len(verifying.takers), "client")
        taken = (
            f"{takers} without a binding then take the address, ask who else has it (ARP), ask the "
            "gateway (ARP) and the DNS servers, renew, and release it."
        )
    yield from wrapped(taken, width, "")
    most = counted(verifying.most, "message")
    yield from wrapped(
        f"At most {most}, {RATE} a second; {TRIES} requests of a client that hears nothing.",
        width,
        "",
    )


def _briefly(
    not_asked: Sequence[tuple[str, str, str]],
) -> Iterator[tuple[str, str, str]]:
    """Who isn't asked as; several of one network for the same reason as one."""
    for (network, why), count in Counter((n, w) for n, _, w in not_asked).items():
        first = next(client for n, client, w in not_asked if (n, w) == (network, why))
        more = f" and {count - 1:,} more" if count > 1 else ""
        yield network, f"as {first}{more} of {network}", why


def lines(found: Verification, width: int) -> Iterator[str]:
    """Two lines for each network, planned and seen; below them who answered, and what differs."""
    rows = [row for each in found.networks for row in rows_of(each, has_used=found.has_taken)]
    heads = (*HEADINGS, *(_USED if found.has_taken else ()))
    places = [*_LEFT, *range(len(HEADINGS), len(heads))]
    heading, *drawn = columns([heads, *rows], left=places)
    yield styled(heading, "heading")
    for number, each in enumerate(found.networks):
        yield drawn[2 * number]
        seen = drawn[2 * number + 1]
        yield styled(seen, "error") if each.failed else seen
        for server in each.servers:
            yield from wrapped(_answered(server), width, "      ", "    ")
        for failure in each.seen.failures:
            as_rehearsed = " (as in the rehearsal)" if each.is_predicted(failure) else ""
            told = f"{failure.reason}{as_rehearsed}"
            yield from wrapped(told, width, "      ", styled("    differs: ", "error"))
        for failure in each.seen.accepted:
            told = f"accepted: {failure.reason} ({failure.rule}: {failure.accepted})"
            yield from wrapped(told, width, "      ", "    ")
        if each.planned is None:
            yield from wrapped(f"not rehearsed: {each.not_planned}", width, "      ", "    ")
    yield ""
    for _, client, why in _briefly(found.not_asked):
        yield from wrapped(f"Not asked {client}: {why}.", width, "  ", "")
    for name, why in found.left_out:
        yield from wrapped(f"{name} was not asked: {why}.", width, "  ", "")
    yield from wrapped(summary(found), width, "")


def rows_of(each: NetworkVerified, *, has_used: bool) -> Iterator[tuple[str, ...]]:
    """What was planned for a network and what was seen, each in the cells of a row."""
    yield (each.network, "planned", *_cells(each.planned, has_used))
    yield ("", "seen", *_cells(each.seen, has_used))


def _cells(got: NetworkRehearsed | None, has_used: bool) -> tuple[str, ...]:
    if got is None:
        return ("?",) * (len(HEADINGS) - 2 + (len(_USED) if has_used else 0))
    used = (got.gateway_answers, got.dns_answers, got.renewed)
    return (
        f"{got.clients:,}",
        f"{got.served:,}",
        str(got.span) if got.span else "-",
        format_address(got.gateway) if got.gateway is not None else "-",
        listed_briefly(map(format_address, got.dns), most=1).replace(" and ", " + ")
        if got.dns
        else "-",
        format_duration(got.lease) if got.lease else "-",
        f"{got.bindings_right:,}/{got.bindings:,}" if got.bindings else "-",
        *((_ANSWERS[answer] for answer in used) if has_used else ()),
    )


def _answered(server: ServerSeen) -> str:
    address = format_address(server.address)
    who = f"{server.device} ({address})" if server.device else address
    by = f", from {listed_briefly(server.macs, most=2)}" if server.macs else ""
    planned = {True: "", False: " - not planned", None: " - whether it is planned isn't known"}
    offers = counted(server.offers, "offer")
    return f"answered by {who}{by}: {offers}{planned[server.is_planned]}"


def summary(found: Verification) -> str:
    """How many networks are as planned."""
    asked = sum(each.seen.clients for each in found.networks)
    bad = sum(each.failed for each in found.networks)
    networks = counted(len(found.networks), "network")
    told = f"{bad:,} of {networks} differ from the plan" if bad else (
        f"{networks} answered as planned"
    )  # fmt: skip
    if bad == 1:
        told = told.replace(" differ ", " differs ")
    offered = f"{counted(asked, 'client')} asked, {found.answered:,} of them offered something"
    taken = "; what was taken was released" if found.has_taken else ""
    return f"{told}; {offered}, {counted(found.sent, 'message')} sent{taken}."


def as_json(found: Verification, files: Sequence[str]) -> str:
    """One JSON object, whose fields are only ever added to."""
    output: Output = {
        **frame("verify", files),
        "on": found.on,
        "taken": found.has_taken,
        "networks": [
            {
                "network": each.network,
                "planned": network_object(each.planned) if each.planned is not None else None,
                "not_planned": each.not_planned or None,
                "seen": network_object(each.seen),
                "servers": [_server(server) for server in each.servers],
            }
            for each in found.networks
        ],
        "not_asked": [
            {"network": network, "client": client, "because": why}
            for network, client, why in found.not_asked
        ],
        "left_out": [{"network": name, "because": why} for name, why in found.left_out],
        "summary": {
            "networks": len(found.networks),
            "failed": sum(each.failed for each in found.networks),
            "clients": sum(each.seen.clients for each in found.networks),
            "answered": found.answered,
            "sent": found.sent,
        },
    }
    return as_text(output)


def _server(server: ServerSeen) -> ServerSeenObject:
    return {
        "address": format_address(server.address),
        "mac": str(server.macs[0]) if server.macs else None,
        "macs": list(map(str, server.macs)),
        "device": server.device,
        "planned": server.is_planned,
        "offers": server.offers,
    }
