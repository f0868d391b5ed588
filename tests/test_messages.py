"""DHCP messages and the frames that carry them: both ways, whatever the bytes."""

from __future__ import annotations

from contextlib import suppress

import dpkt
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from conftest import examples
from reservoir.core.values.addresses import MalformedValueError
from reservoir.core.values.clients import Mac
from reservoir.rehearsal.messages import arp, frame, message, query
from reservoir.rehearsal.messages.arp import Arp
from reservoir.rehearsal.messages.frame import EVERY_MAC, Datagram, MalformedFrameError
from reservoir.rehearsal.messages.message import Kind, MalformedMessageError, Message, described

numbers = st.integers(0, 2**32 - 1)
macs = st.integers(0, 2**48 - 1).map(Mac)
codes = st.integers(1, 254).filter(lambda code: code not in (52, 53))
messages = st.builds(
    Message,
    st.sampled_from(Kind),
    numbers,
    macs,
    st.dictionaries(codes, st.binary(max_size=600), max_size=6),
    *[numbers] * 4,
    hops=st.integers(0, 16),
    seconds=st.integers(0, 0xFFFF),
    flags=st.sampled_from([0, 0x8000]),
)


@given(sent=messages)
@settings(max_examples=examples(300))
def test_a_message_comes_back_as_it_was(sent: Message) -> None:
    """With options longer than 255 bytes in parts, and the relay's option last."""
    data = sent.encode()
    assert message.decode(data) == sent
    assert len(data) >= message.SHORTEST
    theirs = dpkt.dhcp.DHCP(data)
    assert theirs.xid == sent.transaction
    assert theirs.op == (2 if sent.is_reply else 1)
    parts = [(code, bytes(value)) for code, value in theirs.opts]
    assert parts[0] == (53, bytes([sent.kind]))
    joined: dict[int, bytes] = {}
    for code, value in parts[1:]:
        joined[code] = joined.get(code, b"") + value
    assert joined == sent.options
    assert 82 not in joined or list(joined)[-1] == 82
    assert all(isinstance(text, str) for pair in described(sent) for text in pair)


def test_options_overflow_into_the_fields_for_names() -> None:
    """The ``file`` field first, then ``sname`` (RFC 2132 section 9.3, RFC 3396 section 5)."""
    data = bytearray(Message(Kind.OFFER, 7, Mac(1), {54: b"abcd"}).encode())
    data[240 : 240 + 12] = bytes([53, 1, 2, 52, 1, 3, 15, 2]) + b"sa" + bytes([255, 0])
    data[108:116] = bytes([15, 3]) + b"ble" + bytes([255, 0, 0])
    data[44:52] = bytes([15, 3]) + b".ex" + bytes([255, 0, 0])
    assert message.decode(bytes(data)).options == {15: b"sable.ex"}


@given(
    payload=st.binary(max_size=700),
    addresses=st.tuples(numbers, numbers),
    ends=st.tuples(macs, macs),
)
@settings(max_examples=examples(300))
def test_a_frame_is_what_others_take_it_for(
    payload: bytes, addresses: tuple[int, int], ends: tuple[Mac, Mac]
) -> None:
    """Another library finds the same in it, and the same checksums."""
    sent = Datagram(addresses[0], 67, addresses[1], 68, payload)
    data = frame.encode(sent, *ends)
    assert frame.decode(data) == sent
    theirs = dpkt.ethernet.Ethernet(data)
    assert (theirs.src, theirs.dst) == tuple(mac.to_bytes(6, "big") for mac in ends)
    assert theirs.data.data.data == payload
    sums = theirs.data.sum, theirs.data.data.sum
    theirs.data.sum = theirs.data.data.sum = 0
    again = dpkt.ethernet.Ethernet(bytes(theirs))
    assert (again.data.sum, again.data.data.sum or 0xFFFF) == sums


@given(sent=messages, data=st.data())
@settings(max_examples=examples(400))
def test_damaged_bytes_are_refused_or_understood(sent: Message, data: st.DataObject) -> None:
    """Never with an error of another kind; a damaged frame is never taken for a whole one."""
    good = sent.encode()
    damaged = bytearray(good)
    for _ in range(data.draw(st.integers(1, 6))):
        damaged[data.draw(st.integers(0, len(damaged) - 1))] = data.draw(st.integers(0, 255))
    del damaged[data.draw(st.integers(0, len(damaged))) :]
    try:
        understood = message.decode(bytes(damaged))
        assert message.decode(understood.encode()) == understood
    except MalformedMessageError as error:
        assert str(error)
    framed = bytearray(frame.encode(Datagram(1, 68, 2, 67, good), Mac(1), Mac(2)))
    at = data.draw(st.integers(14, len(framed) - 1))
    framed[at] ^= data.draw(st.integers(1, 255))
    with pytest.raises(MalformedFrameError):
        frame.decode(bytes(framed))
    with pytest.raises(MalformedFrameError):
        frame.decode(bytes(framed[: data.draw(st.integers(0, len(framed) - 1))]))


@given(numbers, numbers, macs, macs, st.booleans())
@settings(max_examples=examples(100))
def test_questions_who_has_an_address_are_what_a_library_reads(
    own: int, target: int, mac: Mac, asker: Mac, is_reply: bool
) -> None:
    """A question goes to everybody, an answer to who asked; both come back as they were."""
    sent = Arp(is_reply, mac, own, target)
    data = arp.encode(sent, asker if is_reply else None)
    assert arp.decode(data) == sent
    theirs = dpkt.ethernet.Ethernet(data)
    assert theirs.dst == (asker if is_reply else EVERY_MAC).to_bytes(6, "big")
    assert theirs.arp.op == (dpkt.arp.ARP_OP_REPLY if is_reply else dpkt.arp.ARP_OP_REQUEST)
    assert (theirs.arp.sha, theirs.arp.spa) == (mac.to_bytes(6, "big"), own.to_bytes(4, "big"))
    assert theirs.arp.tpa == target.to_bytes(4, "big")


@given(st.binary(max_size=80))
@settings(max_examples=examples(300))
def test_any_bytes_are_refused_calmly_as_a_question(data: bytes) -> None:
    """Whatever comes in at an interface."""
    with suppress(MalformedValueError):
        arp.decode(data)
    assert query.answers(data, 7) in (True, False)
