"""Values at the edge: every notation in, one notation out, and a reason for each refusal."""

from __future__ import annotations

import ipaddress
from collections.abc import Callable
from typing import Any

import pytest
from hypothesis import assume, given, settings
from hypothesis import strategies as st

from conftest import examples
from met import meets, met
from reservoir.core.values import options
from reservoir.core.values.addresses import (
    MalformedValueError,
    Prefix,
    address_or_none,
    format_address,
    parse_address,
    parse_prefix,
    parse_span,
)
from reservoir.core.values.by_subnet import BySubnet
from reservoir.core.values.clients import Mac, parse_identifier, parse_mac
from reservoir.core.values.columns import address_column, address_texts, mac_column, mac_texts
from reservoir.core.values.durations import INFINITE, format_duration, parse_duration
from reservoir.core.values.text_column import TextColumn
from reservoir.core.values.typos import is_slip, likely_meant, slips, transpositions

addresses = st.integers(0, 2**32 - 1)


@given(addresses, st.integers(0, 32))
def test_prefixes_agree_with_the_standard_library(address: int, bits: int) -> None:
    """Network, mask, broadcast and hosts of any prefix."""
    prefix = Prefix(address, bits)
    known = ipaddress.ip_interface(f"{format_address(address)}/{bits}").network
    assert str(prefix.subnet) == str(known)
    assert format_address(prefix.mask) == str(known.netmask)
    assert format_address(prefix.broadcast) == str(known.broadcast_address)
    assert parse_prefix(str(prefix)) == prefix
    assert prefix.hosts.size == (known.num_addresses if bits > 30 else known.num_addresses - 2)


@given(st.text("0123456789.x -/", max_size=17))
def test_an_address_is_read_exactly_when_the_standard_library_reads_it(text: str) -> None:
    """No laxer and no stricter, on text that nearly is an address."""
    try:
        known = int(ipaddress.IPv4Address(text))
    except ValueError:
        with pytest.raises(MalformedValueError):
            parse_address(text)
    else:
        assert parse_address(text) == known


@given(st.integers(0, 2**48 - 1), st.sampled_from([2, 4, 6, 12]), st.sampled_from(":-. "))
def test_a_mac_is_read_in_every_notation(number: int, group: int, separator: str) -> None:
    """Groups of 2, 4, 6 or 12, apart by any separator, in either case."""
    written = Mac(number).grouped(group, separator)
    assert parse_mac(written) == parse_mac(written.upper()) == number
    assert parse_mac(str(Mac(number))) == number


@pytest.mark.parametrize(
    ("reader", "text", "reason"),
    [
        (parse_address, "10.84.20.300", "300 is above 255"),
        (parse_address, "10.84.020.1", "leading zero"),
        (parse_address, "10.84.20", "3 parts, not four"),
        (parse_prefix, "10.84.20.0", "no prefix length"),
        (parse_prefix, "10.84.20.0/33", "'33' is not a prefix length"),
        (parse_span, "10.84.20.1-10.84.20.x", "'x' is not a number"),
        (parse_mac, "00:00:5e:00:53", "10 hexadecimal digits, not 12"),
        (parse_mac, "00:00:5e:00:53:0g", "'g' is not a hexadecimal digit"),
        (parse_mac, "000:05:e0:05:30:1", "uneven"),
        (parse_identifier, "hex:0", "not a client identifier"),
        (parse_duration, "3600", "did you mean 3600s?"),
        (parse_duration, "1h30", "not a duration"),
        (parse_duration, "0s", "too short"),
        (parse_duration, "200000d", "write infinite"),
        (parse_duration, "4294967295s", "write infinite"),
    ],
)
def test_a_refusal_names_the_reason(reader: object, text: str, reason: str) -> None:
    """The message says what is wrong with the text, not only that something is."""
    with pytest.raises(MalformedValueError) as refused:
        reader(text)  # type: ignore[operator]
    assert reason in str(refused.value)


@given(st.integers(1, INFINITE))
def test_durations_round_trip(seconds: int) -> None:
    """Every lease time that the wire can carry."""
    assert parse_duration(format_duration(seconds)) == seconds


def test_the_longest_lease_is_a_second_below_infinite() -> None:
    """The last number of 32 bits stands for infinite (RFC 2131 section 3.3)."""
    assert parse_duration("4294967294s") == INFINITE - 1
    assert parse_duration("infinite") == INFINITE == 2**32 - 1


@pytest.mark.parametrize(
    ("kind", "lowest", "highest"),
    [("u8", 0, 255), ("u16", 0, 65_535), ("u32", 0, 2**32 - 1), ("i32", -(2**31), 2**31 - 1)],
)
def test_numbers_of_options_have_their_range(kind: str, lowest: int, highest: int) -> None:
    """Its ends are in it, what is beyond them is not."""
    encode, decode = options.KINDS[kind]
    for number in (lowest, highest):
        assert decode(encode(str(number))) == str(number)
    for number in (lowest - 1, highest + 1):
        with pytest.raises(MalformedValueError):
            encode(str(number))
    size = len(encode("1"))
    for wrong in (size - 1, size + 1):
        with pytest.raises(MalformedValueError):
            decode(bytes(wrong))


ASSIGNED = {
    "time_offset": 2, "time_servers": 4, "name_servers": 5, "log_servers": 7, "print_servers": 9,
    "host_name": 12, "boot_file_size": 13, "swap_server": 16, "root_path": 17, "ip_forwarding": 19,
    "default_ttl": 23, "mtu": 26, "broadcast_address": 28, "static_route_pairs": 33,
    "arp_timeout": 35, "tcp_ttl": 37, "nis_domain": 40, "nis_servers": 41, "ntp": 42,
    "vendor_information": 43, "wins": 44, "netbios_node_type": 46, "netbios_scope": 47,
    "vendor_class": 60, "tftp_server_name": 66, "boot_file": 67, "smtp_servers": 69,
    "pop3_servers": 70, "www_servers": 72, "posix_timezone": 100, "tzdb_timezone": 101,
    "ipv6_only_wait": 108, "captive_portal": 114, "domain_search": 119, "classless_routes": 121,
    "capwap_controllers": 138, "tftp_server_addresses": 150,
}  # fmt: skip
"""Copied from the IANA registry of BOOTP vendor extensions and DHCP options, a second time."""


def test_options_have_the_numbers_that_are_registered() -> None:
    """Typed twice, so that one slip of a digit is found."""
    assert {name: option.code for name, option in options.REGISTRY.items()} == ASSIGNED
    assert sorted(options.MANAGED) == [0, 1, 50, *range(52, 60), 61, 82, 255]


@given(st.lists(addresses, max_size=5), st.binary(max_size=3))
def test_the_addresses_of_an_option(held: list[int], more: bytes) -> None:
    """All of a list's, the one of a single one, none of what isn't addresses."""
    data = b"".join(address.to_bytes(4, "big") for address in held)
    assert options.addresses_in(42, data) == held
    assert options.addresses_in(42, data + more) == ([] if more else held)
    assert options.addresses_in(28, data) == (held if len(held) == 1 else [])
    assert options.addresses_in(26, data) == options.addresses_in(200, data) == []
    assert options.servers_in(42, data) == ("time server", held)
    assert options.servers_in(28, data) == ("", [])


@given(st.sampled_from(sorted(options.KINDS)), st.data())
def test_option_values_round_trip(kind: str, data: st.DataObject) -> None:
    """Text to bytes to text to the same bytes, for every type."""
    address = addresses.map(format_address)
    item = {
        "ip": address,
        "ips": address,
        "text": st.text(st.characters(codec="utf-8"), min_size=1).filter(str.isprintable),
        "hex": st.binary(min_size=1).map(bytes.hex),
        "bool": st.sampled_from(["true", "no", "on"]),
        "routes": st.builds(
            lambda a, bits, via: f"{Prefix(a, bits).subnet} via {via}",
            addresses,
            st.integers(0, 32),
            address,
        ),
        "i32": st.integers(-(2**31), 2**31 - 1).map(str),
    }.get(kind, st.integers(0, 2 ** int(kind[1:] or 1) - 1 if kind[0] == "u" else 1).map(str))
    lists = kind in options.LISTS
    items = data.draw(st.lists(item, min_size=1, max_size=20 if lists else 1))
    encode, decode = options.KINDS[kind]
    encoded = b"".join(encode(text) for text in items)
    again = decode(encoded).split(",") if lists else [decode(encoded)]
    assert b"".join(encode(text) for text in again) == encoded


@pytest.mark.parametrize(
    ("written", "subnet", "meant"),
    [
        ("10.48.20.1", "10.84.20.0/22", "10.84.20.1"),  # two digits swapped
        ("10.84.3.1", "10.84.30.0/24", "10.84.30.1"),  # a digit left out
        ("10.85.20.9", "10.84.20.0/24", "10.84.20.9"),  # an octet wrong
        ("192.168.7.1", "10.84.20.0/24", None),  # nothing near it
    ],
)
def test_the_likely_typo(written: str, subnet: str, meant: str | None) -> None:
    """The address that was meant is one slip away and inside the subnet, or nothing is said."""
    found = likely_meant(parse_address(written), parse_prefix(subnet))
    assert (None if found is None else format_address(found)) == meant


@pytest.mark.parametrize(
    ("written", "subnet", "meant"),
    [
        ("99.84.20.9", "10.84.0.0/16", "10.84.20.9"),  # the first octet is another
        ("10.99.20.9", "10.84.0.0/16", "10.84.20.9"),
        ("10.84.99.9", "10.84.20.0/24", "10.84.20.9"),
        ("10.84.99.9", "10.84.20.0/22", None),  # the octet isn't fixed by the subnet
    ],
)
def test_an_octet_that_is_another(written: str, subnet: str, meant: str | None) -> None:
    """Is the subnet's, where the subnet fixes all of it."""
    found = likely_meant(parse_address(written), parse_prefix(subnet))
    assert (None if found is None else format_address(found)) == meant


@st.composite
def slipped(draw: st.DrawFn) -> tuple[int, int, str]:
    """An address, and another that a slip of the fingers makes of its text; what slipped."""
    octets = st.one_of(st.integers(0, 255), st.sampled_from([1, 10, 12, 21, 84, 48, 100, 212]))
    text = ".".join(str(draw(octets)) for _ in range(4))
    place, digit = draw(st.integers(0, len(text) - 1)), str(draw(st.integers(0, 9)))
    how = draw(st.sampled_from(["swapped", "wrong", "lost", "added"]))
    assume(text[place] != "." or how == "added")
    if how == "swapped":
        assume(text[place + 1 : place + 2].isdecimal() and text[place + 1] != text[place])
        typed = text[:place] + text[place + 1] + text[place] + text[place + 2 :]
    else:
        put = "" if how == "lost" else digit
        typed = text[:place] + put + text[place + (how != "added") :]
    other = address_or_none(typed)
    assume(other is not None and typed != text)
    return parse_address(text), other or 0, how


@meets("swapped", "wrong", "lost", "added")
@given(slipped())
@settings(max_examples=examples(300))
def test_whatever_slips_is_undone(drawn: tuple[int, int, str]) -> None:
    """What was meant is among the addresses a slip away from what was typed, and the reverse."""
    meant, typed, how = drawn
    met(how)
    assert meant in slips(typed)
    assert typed in slips(meant)
    assert is_slip(typed, meant)
    assert typed not in slips(typed)
    assert (meant in transpositions(typed)) >= (how == "swapped")
    assert all(is_slip(other, typed) for other in slips(typed))


wild_quads = st.text("0123456789.x", max_size=15) | addresses.map(format_address)


@given(
    st.lists(st.sampled_from(["10.84.20.1", "0.0.0.0", "255.255.255.255"]) | wild_quads, max_size=9)
)
def test_columns_of_addresses(texts: list[str]) -> None:
    """As one by one; None if one of them is wrong."""
    values = all_or_none(parse_address, texts)
    assert one_by_one(address_column(TextColumn.of(texts))) == values
    assert values is None or address_texts(values) == texts


@meets("a column", "a wrong one among right ones")
@given(st.lists(st.integers(0, 2**48 - 1), max_size=9), st.data())
def test_columns_of_macs(numbers: list[int], data: st.DataObject) -> None:
    """In one notation or several; None if one of them is wrong."""
    notations = st.sampled_from([(2, ":"), (2, "-"), (4, "."), (6, "-"), (12, ""), (3, ".")])
    shared = data.draw(notations | st.none())
    texts = [Mac(n).grouped(*(shared or data.draw(notations))) for n in numbers]
    if texts and numbers[0] % 2:
        texts[0] = texts[0].upper()[::-1]
    if texts and numbers[-1] % 3 == 0:  # a character that is no digit, next to those that are
        at, odd = (
            data.draw(st.integers(0, len(texts[-1]) - 1)),
            data.draw(st.sampled_from("/:@G`g")),
        )
        texts[-1] = texts[-1][:at] + odd + texts[-1][at + 1 :]
    assert one_by_one(mac_column(TextColumn.of(texts))) == all_or_none(parse_mac, texts)
    is_sound = mac_column(TextColumn.of(texts)) is not None
    met("a column", is_sound and len(texts) > 1)
    met("a wrong one among right ones", not is_sound and len(texts) > 1)
    behind = [f"01.{text}" for text in texts]
    assert one_by_one(mac_column(TextColumn.of(behind), "01.")) == all_or_none(parse_mac, texts)
    if texts:
        assert mac_column(TextColumn.of([*behind[:-1], f"02.{texts[-1]}"]), "01.") is None
    size, sign = shared or (2, ":")
    assert mac_texts(numbers, size, sign) == [Mac(n).grouped(size, sign) for n in numbers]


def one_by_one(column: Any) -> list[int] | None:
    return None if column is None else column.tolist()


def all_or_none(parse: Callable[[str], int], texts: list[str]) -> list[int] | None:
    try:
        return [int(parse(text)) for text in texts]
    except MalformedValueError:
        return None


prefixes = st.builds(
    Prefix, st.integers(0, 40).map(lambda step: (10 << 24) + 3 * step), st.integers(23, 32)
)


@given(st.lists(prefixes, max_size=12), prefixes)
def test_subnets_are_found_as_walking_them_finds(subnets: list[Prefix], asked: Prefix) -> None:
    """By an address in them and by a subnet that they meet, in the order of their addition."""
    found = BySubnet((subnet, place) for place, subnet in enumerate(subnets))
    reach = [set(range(subnet.network, subnet.broadcast + 1)) for subnet in subnets]
    assert found.holding(asked.address) == [
        place for place, addresses in enumerate(reach) if asked.address in addresses
    ]
    wanted = set(range(asked.network, asked.broadcast + 1))
    assert found.meeting(asked) == [
        place for place, addresses in enumerate(reach) if addresses & wanted
    ]
