"""Measures rehearsed exchanges, DISCOVER to ACK, beside the bare coding of the same messages.

The bare loops only encode and decode each message with its frame; the rehearsal has clients,
devices, leases, wires and virtual time besides. All in one process, one after the other, without
Python's garbage collector, as the command runs. One loop uses the rehearsal's own frames, the other
those of dpkt, a general library for packets.
"""

from __future__ import annotations

import gc
import resource
import time
from collections.abc import Callable

import dpkt

import reservoir
from reservoir.core.values.clients import Mac
from reservoir.rehearsal.messages import frame, message
from reservoir.rehearsal.messages.frame import EVERY_MAC, Datagram
from reservoir.rehearsal.rehearse import rehearse

SIZES = ((10, 100), (50, 200), (500, 200))
"""Networks, and clients in each."""

PER_DEVICE = 20
FEW = 500
"""Clients of whose messages the bare loop is measured."""


def plan_of(networks: int) -> dict[str, object]:
    """A plan with so many networks, twenty a device, each with a thousand addresses."""
    devices: dict[str, dict[str, object]] = {}
    described: dict[str, object] = {}
    for number in range(networks):
        base, third = f"10.{number // 64}", number % 64 * 4
        device = f"router-{number // PER_DEVICE}"
        ports = devices.setdefault(device, {"dialect": "tamarack", "interfaces": {}})["interfaces"]
        assert isinstance(ports, dict)
        ports[f"port-{number}"] = {"address": f"{base}.{third}.1/22"}
        described[f"net-{number}"] = {
            "subnet": f"{base}.{third}.0/22",
            "gateway": f"{base}.{third}.1",
            "served_by": device,
            "ranges": [f"{base}.{third}.10-{base}.{third + 3}.250"],
        }
    return {
        "reservoir": 1,
        "defaults": {"dns": ["10.255.0.53"], "lease": "1d"},
        "devices": devices,
        "networks": described,
    }


def bare(frames: list[bytes], coded: Callable[[Datagram, Mac], bytes]) -> float:
    """Seconds for encoding and decoding the messages in these frames, without anything else.

    Args:
        frames: The frames.
        coded: Puts a datagram into a frame and takes its payload out again.
    """
    taken = [(message.decode(frame.decode(data).payload), frame.decode(data)) for data in frames]
    start = time.perf_counter()
    for sent, around in taken:
        message.decode(coded(Datagram(*around[:4], sent.encode()), sent.mac))
    return time.perf_counter() - start


def own_frame(datagram: Datagram, source: Mac) -> bytes:
    """The payload of a datagram that was in one of the rehearsal's frames."""
    return frame.decode(frame.encode(datagram, source, EVERY_MAC)).payload


def library_frame(datagram: Datagram, source: Mac) -> bytes:
    """The same by the library."""
    udp = dpkt.udp.UDP(
        sport=datagram.source_port, dport=datagram.target_port, data=datagram.payload
    )
    udp.ulen = len(udp)
    ends = {"src": datagram.source.to_bytes(4, "big"), "dst": datagram.target.to_bytes(4, "big")}
    packet = dpkt.ip.IP(**ends, p=dpkt.ip.IP_PROTO_UDP, data=udp)
    macs = {"src": source.to_bytes(6, "big"), "dst": EVERY_MAC.to_bytes(6, "big")}
    data = bytes(dpkt.ethernet.Ethernet(**macs, data=packet))
    return bytes(dpkt.ethernet.Ethernet(data).data.data.data)


def frames_of(clients: int) -> list[bytes]:
    """The frames of some exchanges."""
    frames: list[bytes] = []
    plan = reservoir.load(plan_of(1))
    started = reservoir.served_by(plan)
    rehearse(plan.pools, started, clients=clients, capture=lambda at, data: frames.append(data))
    return frames


def main() -> None:
    """Print exchanges a second, and the share of the bare loop's speed."""
    gc.disable()
    print("                                              beside bare coding")
    print("networks   clients   seconds   exchanges/s   own frames   library's   memory")
    for networks, clients in SIZES:
        plan = reservoir.load(plan_of(networks))
        started = reservoir.served_by(plan)
        start = time.perf_counter()
        found = rehearse(plan.pools, started, clients=clients)
        taken = time.perf_counter() - start
        assert not found.failed
        memory = resource.getrusage(resource.RUSAGE_SELF).ru_maxrss // 1024
        frames, rate = frames_of(FEW), found.exchanges / taken
        own, library = (bare(frames, coded) / FEW * rate for coded in (own_frame, library_frame))
        print(
            f"{networks:>8}  {found.exchanges:>8,}  {taken:>8.1f}  {rate:>12,.0f}"
            f"{own:>13.0%}{library:>12.0%}{memory:>6} MB"
        )


if __name__ == "__main__":
    main()
