"""Tries a sheet: a sample plan whose values all differ, written and read back; what is not covered.

Most mistakes of a sheet's author show in the sample's text at once.
"""

from __future__ import annotations

from collections.abc import Iterator, Mapping
from dataclasses import dataclass, replace
from typing import Any, TypeVar

from reservoir.core.plan.classes import ClassAnswers
from reservoir.core.plan.model import (
    Binding,
    Device,
    Exclusion,
    Interface,
    Network,
    Plan,
    Route,
    Service,
    Zone,
)
from reservoir.core.plan.offered import NOT_OPTIONS, OFFERED
from reservoir.core.pools import Pools
from reservoir.core.values.addresses import Prefix, Span, parse_address, parse_prefix
from reservoir.core.values.client_classes import ClassWords
from reservoir.core.values.clients import parse_mac
from reservoir.core.values.options import REGISTRY
from reservoir.core.wording import counted
from reservoir.dialects.behaviour.device import Behaviour
from reservoir.dialects.behaviour.fit_classes import FIELD_OF
from reservoir.dialects.behaviour.lift import lift
from reservoir.dialects.behaviour.lift_classes import planned
from reservoir.dialects.facts.fact import Fact
from reservoir.dialects.facts.kinds import KINDS
from reservoir.dialects.forms.plain import MacForm
from reservoir.dialects.parse.foreign import first_words
from reservoir.dialects.parse.reader import Reading, read_configuration
from reservoir.dialects.render.withdrawal import withdrawal
from reservoir.dialects.render.writer import write_configuration
from reservoir.dialects.sheet.model import Sheet, every_row
from reservoir.dialects.writing import DeviceConfiguration, write_device

SAMPLE_DEVICE = "sample-box"


def sample_plan(sheet: Sheet) -> Plan:
    """A plan with one of everything; no two values are the same.

    For a dialect that has them, its relayed network is that of a pair, a class gets something else
    in the other, and a bound client has values of its own.
    """
    words = _class_words(sheet)
    lan, far = parse_prefix("10.84.61.0/24"), parse_prefix("10.84.62.0/25")
    device = Device(
        dialect=sheet.name,
        interfaces={
            "port1": Interface(addresses=(parse_prefix("10.84.61.1/24"),), zone="inside"),
            "port2": Interface(enabled=False),
            "port3": Interface(
                addresses=(parse_prefix("10.84.63.1/26"),), relay_to=(parse_address("10.84.64.10"),)
            ),
            "port3.65": Interface(
                parent="port3", vlan=65, addresses=(parse_prefix("10.84.65.1/27"),)
            ),
        },
        zones={"inside": Zone(admits=("dhcp", "ping"))},
        routes=(Route(to=parse_prefix("10.84.62.0/25"), via=parse_address("10.84.63.2")),),
    )
    relay = Device(
        interfaces={
            "far": Interface(
                addresses=(parse_prefix("10.84.62.1/25"),), relay_to=(parse_address("10.84.61.1"),)
            )
        }
    )
    near = Network(
        subnet=lan,
        served_by=(Service(device=SAMPLE_DEVICE),),
        ranges=(Span(parse_address("10.84.61.20"), parse_address("10.84.61.90")),),
        exclusions=(
            Exclusion(
                range=Span(parse_address("10.84.61.40"), parse_address("10.84.61.44")),
                reason="printers",
            ),
        ),
        **_offered(lan, 0),
        options=_option(),
        bindings=(
            Binding(
                name="kiosk",
                mac=parse_mac("00:00:5e:00:53:61"),
                address=parse_address("10.84.61.30"),
                **_own_values(sheet),
            ),
        ),
        by_class={"tills": _for_class(sheet)} if words else {},
    )
    relayed = Network(
        subnet=far,
        served_by=(_in_a_pair(sheet) if Behaviour(sheet).pairs else Service(device=SAMPLE_DEVICE),),
        ranges=(Span(parse_address("10.84.62.10"), parse_address("10.84.62.99")),),
        **_offered(far, 1),
    )
    return Plan(
        devices={SAMPLE_DEVICE: device, "relay-box": relay},
        networks={"near": near, "far": relayed},
        classes={"tills": planned(ClassWords(**words))} if words else {},
    )


def _class_words(sheet: Sheet) -> dict[str, Any]:
    """Words of a class for all that the dialect tells clients apart by."""
    behaviour = Behaviour(sheet)
    if not (behaviour.answers_by_class or behaviour.serves_classes_by_pools):
        return {}
    fields = {FIELD_OF.get(word, word): word for word in _WORDS}
    return {w: _WORDS[w] for field, w in fields.items() if behaviour.tells_apart_by(field)}


_WORDS: Mapping[str, Any] = {
    "vendor_class": "harbour-till*",
    "user_class": "till",
    "architecture": frozenset({11}),
    "mac": bytes.fromhex("00005e"),
    "circuit": "shop*",
    "remote": "pier*",
}


def _for_class(sheet: Sheet) -> ClassAnswers:
    """What the members of the class get, as far as the dialect says it."""
    its = "pool" if Behaviour(sheet).serves_classes_by_pools else "class"
    ranges = (Span(parse_address("10.84.61.100"), parse_address("10.84.61.109")),)
    return ClassAnswers(
        ranges=ranges if sheet.stands_in("range", its) else (),
        options={66: b"tills.example"} if sheet.stands_in("option", its) else {},
    )


def _own_values(sheet: Sheet) -> dict[str, Any]:
    """The values of a bound client that the dialect has a line for."""
    values: dict[str, Any] = {}
    if sheet.mentions("binding", "hostname"):
        values["hostname"] = "kiosk-one"
    if sheet.stands_in("option", "binding"):
        values["options"] = {100: b"UTC-1"}
    return values


def _in_a_pair(sheet: Sheet) -> Service:
    """The device as the second of a pair."""
    after = 1_200 if sheet.mentions("pool", "after") else None
    return Service(
        device=SAMPLE_DEVICE, partner=parse_address("10.84.61.2"), leads=False, after=after
    )


def _offered(subnet: Prefix, which: int) -> dict[str, Any]:
    """A value for everything that clients can be offered, others in each network."""
    values: dict[str, Any] = {}
    for number, field in enumerate(OFFERED.values()):
        # Clients reach a server anywhere, and what isn't one in their own subnet.
        away = Prefix((10 << 24) + (84 << 16) + ((2 * number + which) << 8), 24)
        address = (away if field.server else subnet).hosts.last - 1
        values[field.key] = {
            "ip": address,
            "ips": (address, address - 1)[: 2 - which],
            "text": f"{('near', 'far')[which]}.example",
            "duration": (5_400, 86_400)[which],
        }[field.type]
    return values


def _option() -> dict[int, bytes]:
    """The first option that holds an address and has no key of its own."""
    free = (o.code for o in REGISTRY.values() if o.server and o.code not in NOT_OPTIONS)
    return {next(free): bytes([10, 84, 0, 123])}


def write_sample(sheet: Sheet) -> DeviceConfiguration:
    """The sample plan's device, written with the sheet and read back."""
    return write_device(Pools(sample_plan(sheet)), SAMPLE_DEVICE, sheet)


def without_what_is_refused(sheet: Sheet) -> DeviceConfiguration:
    """The sample again, without what the sheet has no line for.

    Every family lacks something; what it lacks is listed, and the rest still has to be right.
    """
    plan = sample_plan(sheet)
    device = plan.devices[SAMPLE_DEVICE]
    interfaces, networks = dict(device.interfaces), dict(plan.networks)
    changes: dict[str, object] = {}
    for refusal in write_device(Pools(plan), SAMPLE_DEVICE, sheet).losses:
        section, *rest = refusal.fact.origin
        if section == "networks":
            name = str(rest[0])
            said = _SAID_BY.get(refusal.fact.kind, refusal.field)
            if said in ("", "subnet") and refusal.fact.kind == "pool":
                networks.pop(name, None)  # the sheet has no line for pools, or for their subnets
            elif name in networks:
                networks[name] = _less(networks[name], said)
        elif rest[1:2] == ["interfaces"] and refusal.field:
            name = str(rest[2])
            interfaces[name] = _less(interfaces[name], refusal.field)
        elif len(rest) > 1:
            changes[str(rest[1])] = () if rest[1] == "routes" else {}
    smaller = device.model_copy(update={"interfaces": interfaces} | changes)
    devices = {**plan.devices, SAMPLE_DEVICE: smaller}
    remaining = replace(plan, devices=devices, networks=networks)
    return write_device(Pools(remaining), SAMPLE_DEVICE, sheet)


def faults(sheet: Sheet) -> list[str]:
    """What is wrong with a sheet that loads: what it writes of the sample it must read again.

    And then write again as the same text; and names meant to break out must stay in their place.
    """
    result = without_what_is_refused(sheet)
    found = [*result.faults, *(refusal.reason for refusal in result.losses)]
    again = write_configuration(read_configuration(result.text, sheet).device, sheet).text
    if again != result.text:
        found.append("the sample is written differently after it was read back")
    taken_back = withdrawal(result.text, sheet)
    if taken_back:
        left = read_configuration(result.text + taken_back, sheet)
        found += [f"undoing it fails: {unread.message}" for unread in left.not_understood]
        found += [
            f"{fact.label} is still there after everything was undone"
            for fact in left.device.walk()
            if fact.kind in ("pool", "binding", "exclusion")
        ]
    for name in HOSTILE_NAMES:
        pool = Fact("pool", {"name": name, "domain": name, "dns": (1,), "lease": 86_400})
        pool.fields["subnet"] = parse_prefix("10.84.61.0/24")
        written = write_configuration(Fact("device", {"name": name}, [pool]), sheet)
        if read_configuration(written.text, sheet).device != written.expressed:
            found.append(f"the name {name!r} reads back differently")
    return found


HOSTILE_NAMES = (
    "a b",
    'the "old" one',
    "x\\",
    "a;b",
    "# remark",
    "// remark",
    "-- remark",
    "a: b",
    "]]>",
    "{name}",
    "<a/>",
    "&amp;",
    "'",
    "x\nservice off",
    "n" * 300,
)
"""Names with what separates, quotes, comments out or ends something in one notation or another."""

_SAID_BY = {"option": "options", "binding": "bindings"}
"""Kinds of fact that state a whole field of a network."""

Owner = TypeVar("Owner", Network, Interface)


def _less(owner: Owner, name: str) -> Owner:
    """The network or interface without a field; the same if it has no such field."""
    field = type(owner).model_fields.get(name)
    return owner if field is None else owner.model_copy(update={name: field.get_default()})


def uncovered(sheet: Sheet) -> dict[str, list[str]]:
    """For each kind of fact, the fields that no row of the sheet mentions; all, if no row does."""
    return {
        kind: missing
        for kind, described in KINDS.items()
        if not described.part
        and (
            missing := [
                name
                for name, field in described.fields.items()
                if not sheet.mentions(kind, name) and not field.is_derived
            ]
        )
    }


def mac_examples(sheet: Sheet) -> list[str]:
    """How the sheet's rows write a MAC address, each form once."""
    mac = parse_mac("00:00:5e:00:53:61")
    return sorted(
        {
            slot.form.write(mac)
            for row in every_row(sheet.rows)
            for slot in row.pattern.slots
            if isinstance(slot.form, MacForm)
        }
    )


@dataclass(frozen=True)
class SampleFile:
    """A file of the user's, read with a sheet and written again."""

    reading: Reading
    problems: list[tuple[int, int, str]]
    """What the sheet doesn't do right with it: line, column and what."""
    as_planned: str
    """The text with a plan of all that is there written into it: the same, if all is right."""
    networks: int


def try_on(text: str, sheet: Sheet) -> SampleFile:
    """Read a device's configuration with the sheet, and write what was understood."""
    reading = read_configuration(text, sheet)
    lifted = lift(reading.device, sheet, SAMPLE_DEVICE)
    unread = [(u.line, u.column, u.message) for u in lifted.not_understood(reading)]
    return SampleFile(
        reading=reading,
        problems=sorted([*unread, *_nobodys(reading), *_not_written_again(reading, sheet)]),
        as_planned=write_device(Pools(lifted.plan()), lifted.name, sheet, text).text,
        networks=len(lifted.networks),
    )


def _nobodys(reading: Reading) -> Iterator[tuple[int, int, str]]:
    """The lines that no row is for, unless the sheet says that such are left alone."""
    for other, lines in first_words(reading.others):
        more = f" and {counted(lines - 1, 'more line')}" if lines > 1 else ""
        word = other.scope.head_of(other.node.text)
        yield (
            other.node.line,
            other.node.column,
            f"no row is for {other.node.text!r}{more}; if it isn't about DHCP, a row says so: "
            f"left | {word} *",
        )


def _not_written_again(reading: Reading, sheet: Sheet) -> Iterator[tuple[int, int, str]]:
    """What is read and can't be written, or is read otherwise once it is."""
    written = write_configuration(reading.device, sheet)
    for refusal in written.refusals:
        why = f"{refusal.what} can't be written again: {refusal.reason}"
        yield refusal.fact.line, refusal.fact.column, why
    if read_configuration(written.text, sheet).device != written.expressed:
        yield 1, 1, "it reads back differently after it was written"
