"""What differs between two sides, for people, as JSON and as Markdown."""

from __future__ import annotations

import json
from collections import Counter
from collections.abc import Iterable, Iterator, Mapping, Sequence
from typing import TYPE_CHECKING, NamedTuple

from reservoir.core.compare.notice import (
    Change,
    Comparison,
    NetworkCompared,
    NetworkSummary,
    Notice,
)
from reservoir.core.compare.present import ClientNotices
from reservoir.core.leases.table import LeaseTable
from reservoir.core.values.addresses import format_address
from reservoir.core.wording import counted, listed
from reservoir.reports.frame import as_text, frame
from reservoir.reports.markup import code, plain
from reservoir.reports.theme import moment, shown_moment, styled, wrapped

if TYPE_CHECKING:
    from reservoir.reports.outputs import compare as json_types
    from reservoir.reports.outputs.compare import (
        ChangeObject,
        ClientCompared,
        CompareSummary,
        Output,
        SideObject,
    )

_MEANINGS: Mapping[Notice, str] = {
    Notice.CONFLICT: "error",
    Notice.CUT_OFF: "error",
    Notice.NEW_ADDRESS: "warning",
    Notice.AT_RENEWAL: "advice",
    Notice.ONLY_NEW_CLIENTS: "good",
    Notice.NONE: "aside",
}

_ELSEWHERE = "In networks that are not compared"

_WORDS = max(len(notice.words) for notice in Notice)

SHOWN = 8
"""Clients, or bindings, of a network that are listed before the rest is counted."""


class Clients(NamedTuple):
    """What clients with a lease notice."""

    leases: LeaseTable
    notices: Sequence[ClientNotices]


def lines(
    comparison: Comparison, clients: Clients | None, at: Sequence[str], width: int
) -> Iterator[str]:
    """The comparison for people: each network that differs, what differs, who notices."""
    by_network = _by_network(clients)
    for network in _shown(comparison, at):
        there = by_network.get(_old_name(network), [])
        if not network.changes and not there:
            continue
        yield styled(heading(network), "heading")
        yield from _changes(network.changes, width)
        yield from _client_lines(clients, there, width)
        yield ""
    for device in comparison.devices if not at else ():
        yield styled(device.name, "heading")
        yield from _changes(device.changes, width)
        yield ""
    others = _elsewhere(comparison, by_network)
    if others and not at:
        yield styled(_ELSEWHERE, "heading")
        yield from _client_lines(clients, others, width)
        yield ""
    for sentence in closing(comparison, clients):
        yield from wrapped(sentence, width, "")


def _shown(comparison: Comparison, at: Sequence[str]) -> list[NetworkCompared]:
    return [n for n in comparison.networks if not at or n.name in at or _old_name(n) in at]


def _old_name(network: NetworkCompared) -> str:
    return network.old.name if network.old is not None else network.name


def heading(network: NetworkCompared) -> str:
    """A network with its subnet and servers."""
    side = network.new or network.old
    assert side is not None
    served = f", served by {listed(side.servers)}" if side.servers else ""
    return f"{network.name}  {side.subnet}{served}"


def _changes(changes: Sequence[Change], width: int) -> Iterator[str]:
    """A line a change; of many bindings that clients notice alike, some."""
    alike = Counter((change.what, change.notice) for change in changes if change.is_binding)
    told_of: Counter[tuple[str, Notice]] = Counter()
    for change in changes:
        head, rest = f"  {change.notice.words:<{_WORDS}}  ", 0
        kind = change.what, change.notice
        if alike[kind] > SHOWN + 1:
            told_of[kind] += 1
            rest = alike[kind] - SHOWN if told_of[kind] == SHOWN else 0
            if told_of[kind] > SHOWN:
                continue
        body = told(change) + (f" ({change.because})" if change.because else "")
        yield from _headed(head, body, _MEANINGS[change.notice], width)
        if rest:
            yield f"{' ' * len(head)}and {counted(rest, 'more binding')}"


def _headed(head: str, body: str, meaning: str, width: int) -> Iterator[str]:
    """A text behind a head in the style of its meaning, in lines."""
    first, *others = wrapped(body, width, " " * len(head))
    yield styled(head, meaning) + first.lstrip()
    yield from others


def told(change: Change) -> str:
    """A change in a line: ``dns: 10.84.0.53 → 10.84.0.54``."""
    if change.old is not None and change.new is not None:
        client, _, address = change.new.partition(" ")
        is_of_one = change.is_binding and change.old.startswith(f"{client} ")
        return f"{change.what}: {change.old} → {address if is_of_one else change.new}"
    if change.new is not None:
        return f"{change.what}: now {change.new}"
    return f"{change.what}: no longer {change.old}"


def _by_network(clients: Clients | None) -> dict[str, list[ClientNotices]]:
    found: dict[str, list[ClientNotices]] = {}
    for told_ in clients.notices if clients is not None else ():
        if told_.notice is not Notice.NONE:
            found.setdefault(told_.network, []).append(told_)
    return found


def _elsewhere(
    comparison: Comparison, by_network: Mapping[str, Sequence[ClientNotices]]
) -> list[ClientNotices]:
    """The clients in networks that are not compared, or in none."""
    compared = {_old_name(network) for network in comparison.networks}
    return [each for name, some in by_network.items() if name not in compared for each in some]


def _client_lines(
    clients: Clients | None, there: Sequence[ClientNotices], width: int
) -> Iterator[str]:
    """The clients that notice most first; of many that notice alike, some."""
    if clients is None:
        return
    by_notice: dict[Notice | None, list[ClientNotices]] = {}
    for each in there:
        by_notice.setdefault(each.notice, []).append(each)
    for notice in sorted(by_notice, key=lambda n: -n.weight if n is not None else 1):
        some = by_notice[notice]
        words = notice.words if notice is not None else "not known"
        meaning = _MEANINGS[notice] if notice is not None else "aside"
        for each in some[:SHOWN] if len(some) > SHOWN + 1 else some:
            head = f"  {words:<{_WORDS}}  "
            yield from _headed(head, _client(clients.leases, each), meaning, width)
        if len(some) > SHOWN + 1:
            yield f"  {'':<{_WORDS}}  and {counted(len(some) - SHOWN, 'more client')}"


def _client(leases: LeaseTable, each: ClientNotices) -> str:
    address = format_address(int(leases.address[each.row]))
    by = f" by {shown_moment(each.at)}" if each.at is not None else ""
    return f"{leases.label(each.row)} at {address}{by}: {each.because}"


def closing(comparison: Comparison, clients: Clients | None) -> Iterator[str]:
    """How much differs, who notices, and what is not part of it."""
    total, differing = len(comparison.networks), comparison.differing
    if comparison.is_same:
        yield f"No difference in {counted(total, 'network')}."
    else:
        worst = Counter(network.worst for network in differing)
        parts = [
            f"{worst[notice]:,} {notice.words}" for notice in sorted(worst, key=lambda n: -n.weight)
        ]
        noticed = f"; what clients notice at worst: {', '.join(parts)}" if parts else ""
        verb = "differs" if len(differing) == 1 else "differ"
        yield f"{len(differing):,} of {counted(total, 'network')} {verb}{noticed}."
    if clients is not None:
        yield _clients_counted(clients)
    if comparison.left_out:
        yield (
            f"{counted(len(comparison.left_out), 'network')} of other devices not compared: "
            "their configuration is not among the files."
        )
    for sentence in comparison.left_aside:
        yield f"Not compared: {sentence}."
    if comparison.not_understood:
        yield (f"{counted(comparison.not_understood, 'line')} not understood, and so not compared.")


def _clients_counted(clients: Clients) -> str:
    expired = [each for each in clients.notices if each.has_expired]
    counts = Counter(each.notice for each in clients.notices if not each.has_expired)
    parts = [
        f"{counts[notice]:,} {notice.words}"
        for notice in sorted(Notice, key=lambda n: -n.weight)
        if counts[notice] and notice is not Notice.NONE
    ]
    if counts[None]:
        parts.append(f"{counts[None]:,} not known")
    if counts[Notice.NONE] or not (parts or expired):
        parts.append(f"{counts[Notice.NONE]:,} notice nothing")
    if expired:
        last = shown_moment(max(each.at or 0 for each in expired))
        parts.append(f"{len(expired):,} had expired, the last at {last}")
    return f"{counted(len(clients.notices), 'lease')}: {', '.join(parts)}."


def as_json(
    comparison: Comparison, clients: Clients | None, at: Sequence[str], inputs: Sequence[str]
) -> Iterator[str]:
    """One JSON object, whose fields are only ever added to; in pieces."""
    shown = _shown(comparison, at)
    output: Output = {
        **frame("compare", inputs),
        "networks": [_network(network) for network in shown],
        "devices": [
            {"device": device.name, "changes": list(map(_change, device.changes))}
            for device in (comparison.devices if not at else ())
        ],
        "left_out": list(comparison.left_out),
        "left_aside": list(comparison.left_aside),
        "summary": _summary(comparison, clients),
        "clients": None,
    }
    if clients is None:
        yield as_text(output)
        return
    head = {name: part for name, part in output.items() if name != "clients"}
    names = {_old_name(network) for network in shown}
    yield as_text(head).removesuffix("\n}\n") + ',\n  "clients": ['
    rows = (json.dumps(_client_json(clients.leases, each)) for each in clients.notices
            if not at or each.network in names)  # fmt: skip
    for number, row in enumerate(rows):
        yield f"{',' if number else ''}\n    {row}"
    yield "\n  ]\n}\n"


def _summary(comparison: Comparison, clients: Clients | None) -> CompareSummary:
    summary: CompareSummary = {
        "networks": len(comparison.networks),
        "differing": len(comparison.differing),
        "lines_not_understood": comparison.not_understood,
    }
    if clients is not None:
        counts = Counter(each.notice for each in clients.notices)
        summary["clients"] = {n.value: counts[n] for n in Notice} | {"unknown": counts[None]}
    return summary


def _network(network: NetworkCompared) -> json_types.NetworkObject:
    return {
        "network": network.name,
        "old": _side(network.old),
        "new": _side(network.new),
        "changes": [_change(change) for change in network.changes],
    }


def _side(side: NetworkSummary | None) -> SideObject | None:
    if side is None:
        return None
    return {
        "name": side.name,
        "subnet": str(side.subnet),
        "servers": list(side.servers),
        "assignable": side.assignable,
        "bindings": side.bindings,
    }


def _change(change: Change) -> ChangeObject:
    return {
        "what": change.what,
        "old": change.old,
        "new": change.new,
        "notice": change.notice.value,
        "because": change.because,
    }


def _client_json(leases: LeaseTable, each: ClientNotices) -> ClientCompared:
    return {
        "client": leases.client_text(each.row),
        "name": leases.name[each.row],
        "network": each.network or None,
        "address": format_address(int(leases.address[each.row])),
        "notice": each.notice.value if each.notice is not None else None,
        "at": moment(each.at) if each.at is not None else None,
        "because": each.because,
    }


CHANGE_HEADS = ("Clients notice", "What", "Old", "New", "Because")
CLIENT_HEADS = ("Client", "Address", "Notices", "By", "Because")


def outline(
    comparison: Comparison, clients: Clients | None, at: Sequence[str] = ()
) -> Iterator[tuple[str, Sequence[Change], Sequence[ClientNotices]]]:
    """What differs, by network and device: a heading, the changes, the clients that notice."""
    by_network = _by_network(clients)
    for network in _shown(comparison, at):
        there = by_network.get(_old_name(network), [])
        if network.changes or there:
            yield heading(network), network.changes, there
    for device in comparison.devices if not at else ():
        yield device.name, device.changes, ()
    others = _elsewhere(comparison, by_network)
    if others and not at:
        yield _ELSEWHERE, (), others


def change_cells(change: Change) -> tuple[str, ...]:
    """A change in the cells of a table: see :data:`CHANGE_HEADS`."""
    return (
        change.notice.words, change.what, change.old or "", change.new or "", change.because
    )  # fmt: skip


def client_cells(leases: LeaseTable, each: ClientNotices) -> tuple[str, ...]:
    """What a client notices in the cells of a table: see :data:`CLIENT_HEADS`."""
    return (
        leases.label(each.row),
        format_address(int(leases.address[each.row])),
        each.notice.words if each.notice is not None else "not known",
        shown_moment(each.at) if each.at is not None else "",
        each.because,
    )


def meaning(notice: Notice) -> str:
    """How grave it is for clients: ``error``, ``warning`` or nothing."""
    style = _MEANINGS[notice]
    return style if style in ("error", "warning") else ""


def as_markdown(
    comparison: Comparison, clients: Clients | None, at: Sequence[str]
) -> Iterator[str]:
    """The comparison as Markdown, for a change request: a table a network."""
    yield "# Comparison\n\n"
    for title, changes, there in outline(comparison, clients, at):
        yield f"## {plain(title)}\n\n"
        yield from _table(CHANGE_HEADS, map(change_cells, changes), codes=(2, 3))
        if clients is not None:
            cells = (client_cells(clients.leases, each) for each in there)
            yield from _table(CLIENT_HEADS, cells, codes=(1,))
    yield "".join(f"{plain(sentence)}\n" for sentence in closing(comparison, clients))


def _table(
    heads: Sequence[str], rows: Iterable[Sequence[str]], codes: Sequence[int]
) -> Iterator[str]:
    written = [
        " | ".join(
            (code(cell) if cell else "") if place in codes else plain(cell)
            for place, cell in enumerate(cells)
        )
        for cells in rows
    ]
    if written:
        yield f"| {' | '.join(heads)} |\n|{'---|' * len(heads)}\n"
        yield from (f"| {row} |\n" for row in written)
        yield "\n"
