"""The stand-in as a program: real datagrams, hostile ones too, and a lease list across a stop."""

from __future__ import annotations

import re
import signal
import socket
import subprocess
from collections.abc import Callable, Iterator
from contextlib import contextmanager
from pathlib import Path
from typing import NamedTuple

import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

import reservoir
from conftest import Run, examples
from met import meets, met
from reservoir.core.values.addresses import format_address, parse_address
from reservoir.core.values.clients import Mac
from reservoir.files.lease_list import LeaseRow, lease_list
from reservoir.rehearsal.devices.udp import Listening, UdpStandIn
from reservoir.rehearsal.messages.message import (
    Kind,
    MalformedMessageError,
    Message,
    Option,
    decode,
)
from test_messages import messages

PLAN = """\
reservoir: 1
defaults: {dns: [10.84.0.53], lease: 1h}
devices: {shed: {dialect: larkspur, interfaces: {lan: {address: 10.85.20.1/24}}}}
networks:
  shed: {subnet: 10.85.20.0/24, gateway: 10.85.20.1, ranges: [10.85.20.20-10.85.20.22]}
"""


class Running(NamedTuple):
    """A stand-in that runs, and a socket to talk to it."""

    process: subprocess.Popen[str]
    socket: socket.socket

    def asks(self, message: Message) -> Message | None:
        """What it answers to a message; None if nothing within a moment."""
        self.socket.send(message.encode())
        try:
            return decode(self.socket.recv(2000))
        except TimeoutError:
            return None

    def gets(self, number: int) -> str:
        """The address that a client gets; empty if none."""
        offer = self.asks(Message(Kind.DISCOVER, number, Mac(number)))
        if offer is None:
            return ""
        request = Message(Kind.REQUEST, number, Mac(number))
        request.options[Option.REQUESTED_ADDRESS] = offer.your_address.to_bytes(4, "big")
        request.options[Option.SERVER] = offer.options[Option.SERVER]
        acknowledged = self.asks(request)
        assert acknowledged is not None
        assert acknowledged.kind is Kind.ACK
        return format_address(acknowledged.your_address)


@contextmanager
def running(
    installed: Path, folder: Path, *more: str, ends_by: signal.Signals = signal.SIGTERM
) -> Iterator[Running]:
    """A stand-in on a free port; it must end well when it is asked to."""
    command = [str(installed), "stand-in", "plan.yaml", "--listen", "127.0.0.1:0", *more]
    process = subprocess.Popen(
        command, cwd=folder, stdout=subprocess.PIPE, stderr=subprocess.PIPE, text=True
    )
    assert process.stderr is not None
    first = process.stderr.readline()
    found = re.search(r"127\.0\.0\.1:([0-9]+), as lan\. A stand-in for trials", first)
    assert found is not None, first
    talk = socket.socket(socket.AF_INET, socket.SOCK_DGRAM)
    talk.connect(("127.0.0.1", int(found[1])))
    talk.settimeout(1.0)
    with talk:
        yield Running(process, talk)
        process.send_signal(ends_by)
        _, said = process.communicate(timeout=20)
    assert process.returncode == 0
    assert said == "Stopped.\n"


def test_leases_outlive_a_stop(installed: Path, tmp_path: Path) -> None:
    """Who had an address has it again; a row that fits no pool is said; nobody gets it twice."""
    (tmp_path / "plan.yaml").write_text(PLAN)
    keeps = ("--leases", "leases.csv")
    with running(installed, tmp_path, *keeps, ends_by=signal.SIGHUP) as stand_in:
        assert [stand_in.gets(1), stand_in.gets(2)] == ["10.85.20.22", "10.85.20.21"]
        for junk in (b"", b"\1" * 10, b"\xff" * 300, Message(Kind.ACK, 1, Mac(1)).encode()):
            stand_in.socket.send(junk)
        assert stand_in.gets(1) == "10.85.20.22"
    rows = (tmp_path / "leases.csv").read_text().splitlines()
    assert [row.split(",")[:5] for row in rows[1:]] == [
        ["00:00:00:00:00:02", "", "10.85.20.21", "shed", "shed"],
        ["00:00:00:00:00:01", "", "10.85.20.22", "shed", "shed"],
    ]
    formula = LeaseRow(Mac(1), b"\0bell", 1, "=1+1", "@shed", float("inf"))
    assert lease_list([formula]).splitlines()[1] == (
        "00:00:00:00:00:01,hex:0062656c6c,0.0.0.1,'=1+1,'@shed,never"
    )
    with running(installed, tmp_path, *keeps) as stand_in:
        assert [stand_in.gets(3), stand_in.gets(1)] == ["10.85.20.20", "10.85.20.22"]
        assert stand_in.gets(4) == ""
    (tmp_path / "leases.csv").write_text(rows[0] + "\n00:0,,10.85.20.2,x,y,noon\n")
    refused = subprocess.run(
        [str(installed), "stand-in", "plan.yaml", "--listen", "127.0.0.1:0", *keeps],
        cwd=tmp_path,
        capture_output=True,
        text=True,
        check=False,
    )
    assert refused.returncode == 2
    assert "leases.csv:2:1: mac: '00:0' is not a MAC address" in refused.stderr
    assert "leases.csv:2:1: expires: 'noon' is not a time" in refused.stderr


@pytest.mark.parametrize(
    ("more", "said"),
    [
        (("--listen", "somewhere"), "is not an address with a port"),
        (("--listen", "192.0.2.1:6767"), "192.0.2.1:6767 can't be used"),
        (("--as", "lam"), "has no interface 'lam' with an address (did you mean lan?)"),
        (("--device", "shop"), "There is no device 'shop' with a dialect"),
    ],
)
def test_where_it_can_not_listen(more: tuple[str, ...], said: str, run: Run, put: Put) -> None:
    """Said calmly."""
    put("plan.yaml", PLAN)
    ended = run("stand-in", "plan.yaml", *more)
    assert ended.code == 2
    assert said in ended.err


Put = Callable[[str, str], Path]


@pytest.fixture(scope="module")
def answers() -> Iterator[Callable[[bytes], list[Message]]]:
    """What a stand-in answers to a datagram, whatever is in it."""
    plan = reservoir.loads(PLAN)
    (serving,) = reservoir.served_by(plan).values()
    own = parse_address("10.85.20.1")
    told: list[str] = []
    stand_in = UdpStandIn(serving, Listening("127.0.0.1", 0, None, "lan", own), told.append)
    talk = socket.socket(socket.AF_INET, socket.SOCK_DGRAM)
    talk.bind(("127.0.0.1", 0))
    talk.setblocking(False)

    def ask(data: bytes) -> list[Message]:
        told.clear()
        stand_in.take(data, talk.getsockname())
        assert len(told) >= 1
        found = []
        while True:
            try:
                found.append(decode(talk.recv(2000)))
            except BlockingIOError:
                return found

    yield ask
    talk.close()
    stand_in.close()


@meets("refused", "an answer")
@given(sent=messages, data=st.data())
@settings(max_examples=examples(300))
def test_nothing_brings_it_down_and_nothing_is_answered_that_must_not_be(
    sent: Message, data: st.DataObject, answers: Callable[[bytes], list[Message]]
) -> None:
    """At most one answer, to its own request, with an address that it may assign."""
    damaged = bytearray(sent.encode())
    for _ in range(data.draw(st.integers(0, 4))):
        damaged[data.draw(st.integers(0, len(damaged) - 1))] = data.draw(st.integers(0, 255))
    del damaged[data.draw(st.sampled_from([len(damaged), 100, 240, 260])) :]
    replies = answers(bytes(damaged))
    try:
        asked = decode(bytes(damaged))
    except MalformedMessageError:
        met("refused")
        assert replies == []
        return
    if asked.is_reply or asked.kind in (Kind.DECLINE, Kind.RELEASE):
        assert replies == []
    assert len(replies) <= 1
    for reply in replies:
        met("an answer")
        assert (reply.transaction, reply.mac) == (asked.transaction, asked.mac)
        expected = {Kind.DISCOVER: (Kind.OFFER,), Kind.REQUEST: (Kind.ACK, Kind.NAK)}
        assert reply.kind in expected.get(asked.kind, (Kind.ACK,))
        span = range(parse_address("10.85.20.20"), parse_address("10.85.20.23"))
        assert reply.your_address in (0, *span)
