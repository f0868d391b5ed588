"""Whether bound clients are offered what the plan has for them alone."""

from __future__ import annotations

from collections.abc import Iterator, Sequence

from reservoir.core.offers import Offer
from reservoir.core.plan.offered import OFFERED
from reservoir.core.pools import Pools
from reservoir.rehearsal.clients.client import Client
from reservoir.rehearsal.judgement.result import Failure
from reservoir.rehearsal.messages.message import Message, option_name, option_text


def without_own_values(bound: Sequence[Client], pools: Pools, index: int) -> Iterator[Failure]:
    """The first client that isn't offered its own values.

    Args:
        bound: Clients with a binding in the network.
        pools: The plan.
        index: The network's place in it.
    """
    own = pools.own_in(index)
    for client in bound if own else ():
        given, values = client.acknowledged, own.get(client.row) if client.row is not None else None
        if values is None or not client.is_served or given is None:
            continue
        codes = {OFFERED[key].option for key in values.values} | values.options.keys()
        wanted = pools.offers[index].with_own(values)
        boots = "next_server" in values.values
        for title, value in _missing(wanted, given, {c for c in codes if c is not None}, boots):
            reason = f"{client.label} is not offered its own {title}, {value}"
            yield Failure("not-served", reason, client.mac, client.address)
            return


def without_class_values(clients: Sequence[Client], pools: Pools, index: int) -> Iterator[Failure]:
    """The first client of each class that isn't offered what its members are to be.

    Args:
        clients: The clients without a binding.
        pools: The plan.
        index: The network's place in it.
    """
    by_class = pools.by_network[index][0].by_class
    for its in by_class.classes if by_class is not None else ():
        answers = pools.networks[index].by_class.get(its.name)
        values = answers.own_values if answers is not None else None
        online = (c for c in clients if c.kind == its.name and c.is_served)
        client = next(online, None)
        if values is None or client is None or client.acknowledged is None:
            continue
        codes = {OFFERED[key].option for key in values.values} | values.options.keys()
        boots = "next_server" in values.values
        known = {code for code in codes if code is not None}
        for title, value in _missing(its.offer, client.acknowledged, known, boots):
            reason = f"a client of class {its.name} is not offered the {title} {value}"
            yield Failure("not-served", reason, client.mac, client.address)
            break


def _missing(
    wanted: Offer, given: Message, codes: set[int], boots: bool
) -> Iterator[tuple[str, str]]:
    """What is wanted by some options, or as boot server, and was given otherwise."""
    encoded = wanted.encoded()
    for code in sorted(codes):
        data = encoded.get(code)
        if data is not None and given.options.get(code) != data:
            yield option_name(code), option_text(code, data)
    server = wanted.values["next_server"]
    if boots and server and given.next_server != server:
        field = OFFERED["next_server"]
        yield field.title, field.text(server)
