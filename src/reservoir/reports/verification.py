"""What verifying sends, and what it found, as lines and as JSON."""

from __future__ import annotations

from collections import Counter
from collections.abc import Iterator, Sequence
from typing import TYPE_CHECKING

from reservoir.core.problems import InputError, Place, Problem
from reservoir.core.values.addresses import format_address
from reservoir.core.values.durations import format_duration
from reservoir.core.wording import counted, listed, listed_briefly
from reservoir.rehearsal.asking import TRIES
from reservoir.rehearsal.judgement.verified import NetworkVerified, ServerSeen, Verification
from reservoir.rehearsal.verify import Verifying
from reservoir.rehearsal.wires.live import RATE
from reservoir.reports.frame import as_text, frame
from reservoir.reports.rehearsal import network_object
from reservoir.reports.theme import columns, moment, styled, wrapped

if TYPE_CHECKING:
    from reservoir.reports.outputs.rehearse import NetworkRehearsed as NetworkRehearsedObject
    from reservoir.reports.outputs.verify import NetworkVerified as NetworkVerifiedObject
    from reservoir.reports.outputs.verify import Output, ServerSeenObject, VerifySummary

HEADINGS = ("network", "", "asked", "offered", "addresses", "gateway", "DNS", "lease", "bound")
NUMBERS = (2, 3)
"""The columns of numbers."""
_ANSWERS = {True: "yes", False: "no", None: "not known"}


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
        takers, each = f"{len(verifying.takers)} clients", "take theirs, one after the other"
        if len(verifying.takers) == 1:
            takers, each = "1 client", "takes its address"
        taken = (
            f"Then {takers} without a binding {each}: asks who else has it (ARP), asks the gateway "
            "(ARP) and the DNS servers, renews, and releases it."
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
    networks = [_network(each) for each in found.networks]
    cells = [row for each in networks for row in rows(each)]
    left = [place for place in range(len(HEADINGS)) if place not in NUMBERS]
    heading, *drawn = columns([HEADINGS, *cells], left=left)
    yield styled(heading, "heading")
    for number, each in enumerate(found.networks):
        yield drawn[2 * number]
        seen = drawn[2 * number + 1]
        yield styled(seen, "error") if each.failed else seen
        for server in networks[number]["servers"]:
            yield from wrapped(answered_by(server), width, "      ", "    ")
        if found.has_taken:
            yield from wrapped(used(networks[number]), width, "      ", "    ")
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
    is_partial = bool(found.not_asked)
    told = summary(_summary(found), has_taken=found.has_taken, is_partial=is_partial)
    yield from wrapped(told, width, "")


def rows(each: NetworkVerifiedObject) -> Iterator[tuple[str, ...]]:
    """What was planned for a network and what was seen, each in the cells of a row."""
    yield (each["network"], "planned", *_cells(each["planned"]))
    yield ("", "seen", *_cells(each["seen"]))


def _cells(got: NetworkRehearsedObject | None) -> tuple[str, ...]:
    if got is None:
        return ("?",) * (len(HEADINGS) - 2)
    dns = got["dns"]
    more = f" + {len(dns) - 1} more" if len(dns) > 1 else ""
    return (
        f"{got['clients']:,}",
        f"{got['served']:,}",
        got["span"] or "-",
        got["gateway"] or "-",
        f"{dns[0]}{more}" if dns else "-",
        format_duration(got["lease"]) if got["lease"] else "-",
        f"{got['bindings_right']:,}/{got['bindings']:,}" if got["bindings"] else "-",
    )


def used(each: NetworkVerifiedObject) -> str:
    """What clients found that took an address, and what was planned."""
    planned = each["planned"]
    beside = f"; planned: {_use(planned)}" if planned is not None else ""
    return f"taken and used: {_use(each['seen'])}{beside}"


def _use(got: NetworkRehearsedObject) -> str:
    answers = (got["gateway_answers"], got["dns_answers"], got["renewed"])
    what = zip(("gateway", "DNS", "renewed"), answers, strict=True)
    return ", ".join(f"{name} {_ANSWERS[answer]}" for name, answer in what)


def answered_by(server: ServerSeenObject) -> str:
    """Who made how many offers, and whether it is planned."""
    device, macs = server["device"], server["macs"]
    who = f"{device} ({server['address']})" if device else server["address"]
    by = f", from {listed_briefly(macs, most=2)}" if macs else ""
    planned = {True: "", False: ", not planned", None: ", whether it is planned isn't known"}
    offers = counted(server["offers"], "offer")
    return f"answered by {who}{by}: {offers}{planned[server['planned']]}"


def summary(counts: VerifySummary, *, has_taken: bool, is_partial: bool) -> str:
    """How many networks are as planned, as far as they were asked."""
    bad, networks = counts["failed"], counted(counts["networks"], "network")
    told = f"{networks} answered as planned" + (", as far as was asked" if is_partial else "")
    if bad:
        told = f"{bad:,} of {networks} {'differs' if bad == 1 else 'differ'} from the plan"
    asked = counted(counts["clients"], "client")
    offered = f"{asked} asked, {counts['answered']:,} of them offered something"
    taken = "; a RELEASE was sent for what was taken" if has_taken else ""
    return f"{told}; {offered}, {counted(counts['sent'], 'message')} sent{taken}."


def as_json(found: Verification, files: Sequence[str], digest: str, at: float) -> str:
    """One JSON object, whose fields are only ever added to.

    Args:
        found: What was found.
        files: The inputs.
        digest: Their SHA-256.
        at: When it was asked, in seconds since 1970.
    """
    output: Output = {
        **frame("verify", files),
        "at": moment(at),
        "files_digest": digest,
        "on": found.on,
        "taken": found.has_taken,
        "networks": list(map(_network, found.networks)),
        "not_asked": [
            {"network": network, "client": client, "because": why}
            for network, client, why in found.not_asked
        ],
        "left_out": [{"network": name, "because": why} for name, why in found.left_out],
        "summary": _summary(found),
    }
    return as_text(output)


def read(text: str, file: str) -> Output:
    """What `verify --format json` printed.

    Raises:
        InputError: the text is something else.
    """
    from pydantic import TypeAdapter, ValidationError  # late: only for a report

    from reservoir.reports.outputs.verify import Output

    try:
        found: Output = TypeAdapter(Output).validate_json(text)
    except ValidationError as error:
        first = error.errors()[0]
        where = ".".join(map(str, first["loc"]))
        told = f"{where}: {first['msg']}" if where else first["msg"]
        message = f"this is not what `verify --format json` prints: {told}"
        raise InputError([Problem(Place(file), message)]) from None
    return found


def _summary(found: Verification) -> VerifySummary:
    return {
        "networks": len(found.networks),
        "failed": sum(each.failed for each in found.networks),
        "clients": sum(each.seen.clients for each in found.networks),
        "answered": found.answered,
        "sent": found.sent,
    }


def _network(each: NetworkVerified) -> NetworkVerifiedObject:
    return {
        "network": each.network,
        "planned": network_object(each.planned) if each.planned is not None else None,
        "not_planned": each.not_planned or None,
        "seen": network_object(each.seen),
        "servers": [_server(server) for server in each.servers],
    }


def _server(server: ServerSeen) -> ServerSeenObject:
    return {
        "address": format_address(server.address),
        "mac": str(server.macs[0]) if server.macs else None,
        "macs": list(map(str, server.macs)),
        "device": server.device,
        "planned": server.is_planned,
        "offers": server.offers,
    }
