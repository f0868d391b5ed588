"""Options that don't fit into the message in which clients are offered them."""

from __future__ import annotations

from collections.abc import Iterator, Mapping

from reservoir.core.behaviour import DeviceBehaviour
from reservoir.core.checks.rule import Rule, Site
from reservoir.core.findings import Finding, Severity, Witness
from reservoir.core.plan.offered import title_of
from reservoir.core.pools import Pool
from reservoir.core.values.message_room import in_fields, left_out, room_in, size_of
from reservoir.core.wording import listed

_MASK, _LEASE, _SERVER = 1, 51, 54
_ADDRESS = bytes(4)


class OptionsTooLong(Rule):
    """A client that doesn't say that it takes more has no room for all options.

    Why: Every client takes a message of 576 bytes, with 312 for options (RFC 2131, section 2); more
    only if it says so (option 57). Some devices use other fields too, some leave the last options
    out, some send nothing.

    Remedy: Offer less, or serve the network from a device that uses the other fields.
    """

    severity = Severity.WARNING
    rests_on = ("option", "dns", "domain")
    example = """
          devices:
            pier: {dialect: larkspur, interfaces: {deck: {address: 10.84.30.1/24}}}
          networks:
            crew:
              subnet: 10.84.30.0/24
              gateway: 10.84.30.1
              ranges: [10.84.30.20]
              options:
                224: {text: "times of Sable Harbour's ferries for the boards in the first hall"}
                225: {text: "times of Sable Harbour's ferries for the boards in the other hall"}
                226: {text: "times of Sable Harbour's ferries for the boards in the third hall"}
                227: {text: "times of Sable Harbour's ferries for the boards in the lower hall"}
        -       228: {text: "times of Sable Harbour's ferries for the boards in the upper hall"}
    """

    def check(self, site: Site) -> Iterator[Finding]:
        told: dict[tuple[str, str], Pool] = {}
        for pool in site.pools:
            if pool.server is not None and told.setdefault((pool.name, pool.server), pool) is pool:
                yield from self._of(pool, pool.server, site.behaviours.get(pool.server))

    def _of(self, pool: Pool, server: str, behaviour: DeviceBehaviour | None) -> Iterator[Finding]:
        room, options = room_in(None), _sent(pool)
        needed = sum(map(size_of, options.values()))
        if needed <= room:
            return
        over = f"the options of {pool.name} need {needed - room} bytes more than a client takes"
        path = (*pool.path, "options") if pool.network.options else pool.path
        if behaviour is None:
            message = f"{over}; what {server} does then isn't known"
            yield self.finding(message, path, None, severity=Severity.ADVICE)
        elif needed <= room_in(None, behaviour.headers_counted):
            message = f"{over}; {server} sends them all the same"
            yield self.finding(message, path, None, severity=Severity.ADVICE)
        elif behaviour.long_answer == "silent":
            message = f"{over}, and {server} sends nothing then"
            witness = Witness("unanswered", pool.name)
            yield self.finding(message, path, witness, severity=Severity.ERROR)
        else:
            gone = _gone(options, room, behaviour.long_answer)
            if gone:
                names = [title_of(code) for code in gone]
                message = f"{over}; {server} leaves out {listed(names)}"
                yield self.finding(
                    message, path, Witness("offered-none", pool.name, option=names[0])
                )


def _sent(pool: Pool) -> Mapping[int, bytes]:
    """What an answer says, by option, in the order in which it is sent."""
    said = {_SERVER: _ADDRESS, _MASK: _ADDRESS, **pool.offer.encoded()}
    said.setdefault(_LEASE, _ADDRESS)
    return said


def _gone(options: Mapping[int, bytes], room: int, how: str) -> list[int]:
    """The options that are left out, by code."""
    if how != "overloaded":
        return left_out(options, room)
    moved = {code for codes in in_fields(options, room) for code in codes}
    stay = {code: data for code, data in options.items() if code not in moved}
    return left_out(stay, room - size_of(b"\0"))
