"""Many plans verified at once, each on a wire of its own: a program for a namespace.

Standard input is a list of pairs: a plan, and the plan that the device at the other end was
configured by. Prints for each what was found, and what the two devices would offer the same clients
in a rehearsal. ``cli0`` and ``srv0`` are the ends of the first wire.
"""

from __future__ import annotations

import json
import subprocess
import sys
import threading
from concurrent.futures import ThreadPoolExecutor
from typing import Any

import reservoir
from reservoir.core.values.addresses import format_address, parse_address
from reservoir.rehearsal.asking import Ask
from reservoir.rehearsal.clients.client import Client
from reservoir.rehearsal.devices.udp import Listening, UdpStandIn
from reservoir.rehearsal.verify import Verifying
from reservoir.reports.verification import as_json

GATEWAY = "10.84.30.1"
AT_ONCE = 50


def main() -> None:
    """Verify each pair."""
    pairs = json.load(sys.stdin)
    commands = []
    for number in range(len(pairs)):
        srv, cli = f"srv{number}", f"cli{number}"
        commands += [
            f"link add {srv} type veth peer name {cli}",
            f"addr add {GATEWAY}/24 dev {srv}",
            f"link set {srv} up",
            f"link set {cli} up",
        ]
    subprocess.run(["ip", "-batch", "-"], input="\n".join(commands), text=True, check=True)
    with ThreadPoolExecutor(AT_ONCE) as threads:
        found = threads.map(one, range(len(pairs)), pairs)
        print(json.dumps(list(found)))


def one(number: int, pair: tuple[str, str]) -> dict[str, Any]:
    """Let a device answer as its own plan says, and verify the other plan."""
    planned, running = map(reservoir.loads, pair)
    serving = reservoir.served_by(running)["pier"]
    port = next(iter(serving.interfaces))
    listening = Listening("0.0.0.0", 67, f"srv{number}", port, parse_address(GATEWAY))
    server, is_done = UdpStandIn(serving, listening, lambda line: None), threading.Event()
    serves = threading.Thread(target=server.serve, args=(is_done.is_set,))
    serves.start()
    asked: list[Verifying] = []
    try:
        found = reservoir.verify(planned, f"cli{number}", networks=["crew"], before=asked.append)
    finally:
        is_done.set()
        serves.join()
        server.close()
    (verifying,) = asked
    other = Verifying(
        running.pools,
        reservoir.served_by(running),
        True,
        verifying.networks,
        verifying.asks,
        takes=False,
        on="",
    )
    return {
        "found": json.loads(as_json(found, [], "", 0.0))["networks"][0],
        "offered": [offers(verifying), offers(other)],
    }


def offers(verifying: Verifying) -> list[dict[str, Any]]:
    """What the clients are offered in the rehearsal."""
    clients, _, _ = verifying.predicted()
    return [offer(ask, client) for ask, client in clients.items()]


def offer(ask: Ask, client: Client) -> dict[str, Any]:
    """What a client is offered."""
    given = client.acknowledged
    return {
        "bound": ask.bound_to is not None,
        "class": ask.kind,
        "address": format_address(client.address) if client.is_served else None,
        "options": {str(c): d.hex() for c, d in given.options.items()} if given else {},
        "next_server": given.next_server if given else 0,
    }


if __name__ == "__main__":
    main()
