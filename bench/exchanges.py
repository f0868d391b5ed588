"""Measures rehearsed exchanges, DISCOVER to ACK, beside the bare coding of the same messages.

The bare loop only encodes and decodes each message with its frame; the rehearsal has clients,
devices, leases, wires and virtual time besides. Both in one process, one after the other.
"""

from __future__ import annotations

import resource
import time

import reservoir
from reservoir.rehearsal import frame, message
from reservoir.rehearsal.frame import EVERY_MAC, Datagram
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


def bare(frames: list[bytes]) -> float:
    """Seconds for encoding and decoding the messages in these frames, without anything else."""
    taken = [(message.decode(frame.decode(data).payload), frame.decode(data)) for data in frames]
    start = time.perf_counter()
    for sent, around in taken:
        datagram = Datagram(*around[:4], sent.encode())
        message.decode(frame.decode(frame.encode(datagram, sent.mac, EVERY_MAC)).payload)
    return time.perf_counter() - start


def frames_of(clients: int) -> list[bytes]:
    """The frames of some exchanges."""
    frames: list[bytes] = []
    plan = reservoir.load(plan_of(1))
    started = reservoir.served_by(plan)
    rehearse(plan.pools, started, clients=clients, capture=lambda at, data: frames.append(data))
    return frames


def main() -> None:
    """Print exchanges a second, and the share of the bare loop's speed."""
    print("networks   clients   seconds   exchanges/s   bare coding, messages as many   memory")
    for networks, clients in SIZES:
        plan = reservoir.load(plan_of(networks))
        started = reservoir.served_by(plan)
        start = time.perf_counter()
        found = rehearse(plan.pools, started, clients=clients)
        taken = time.perf_counter() - start
        assert not found.failed
        plain = bare(frames_of(FEW)) * found.exchanges / FEW
        memory = resource.getrusage(resource.RUSAGE_SELF).ru_maxrss // 1024
        rate, share = found.exchanges / taken, plain / taken
        print(
            f"{networks:>8}  {found.exchanges:>8,}  {taken:>8.1f}  {rate:>12,.0f}"
            f"   {share:>8.0%} of its speed{memory:>18} MB"
        )


if __name__ == "__main__":
    main()
