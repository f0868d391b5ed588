"""A real network in namespaces: stand-ins on a LAN, and ``reservoir verify`` at a port of it.

Each case has a bridge of its own, on which stand-ins or other servers answer, perhaps behind a real
relay; ``verify`` runs in a namespace that has one port there. All cases run beside each other.
Everything happens in namespaces of its own: nothing of the machine's network is touched.
"""

from __future__ import annotations

import json
import os
import subprocess
import sys
from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from pathlib import Path
from typing import Any, NamedTuple

import odd_server

ALONE = ("unshare", "-n", "-m", "-p", "--fork", "--kill-child", "--mount-proc")

BEGIN = r"""
mount --make-rprivate /
mount -t tmpfs tmpfs /run
mkdir -p /run/netns
ip link set lo up
wait_for() { for _ in $(seq 600); do grep -q "$2" "$1" 2> /dev/null && return; sleep 0.1; done; }
"""

LAN = r"""
case_NUMBER() {
  cd CASE
  ip link add lanNUMBER type bridge mcast_snooping 0
  ip link set lanNUMBER up
  ip netns add deskNUMBER
  ip link add portNUMBER type veth peer name eth0 netns deskNUMBER
  ip link set portNUMBER master lanNUMBER up
  ip -n deskNUMBER link set eth0 up
  DESK
  PARTS
  ip netns exec deskNUMBER timeout 90 "$PROGRAM" verify plan.yaml --yes --format json ARGUMENTS \
    > found.json 2> said.txt &
  asking=$!
  STOP
  wait $asking
  status=$?
  STOPPED
  echo $status > status
}
"""

PART = r"""
  ip netns add PARTNAME
  ip link add PARTport type veth peer name lan netns PARTNAME
  ip link set PARTport master lanNUMBER up
  ip -n PARTNAME addr add ADDRESS dev lan
  ip -n PARTNAME link set lan up
  ip -n PARTNAME link set lo up
  cd PARTFOLDER
  ip netns exec PARTNAME COMMAND > log.txt 2>&1 &
  cd CASE
  wait_for PARTFOLDER/log.txt READY
"""

RELAY = r"""
  ip netns add relayNUMBER
  ip link add rNUMBER type veth peer name deck netns relayNUMBER
  ip link set rNUMBER master lanNUMBER up
  ip link add uNUMBER type veth peer name trunk netns relayNUMBER
  ip link add upNUMBER type bridge mcast_snooping 0
  ip link set upNUMBER up
  ip link set uNUMBER master upNUMBER up
  ip -n relayNUMBER addr add DECK dev deck
  ip -n relayNUMBER addr add TRUNK dev trunk
  for link in deck trunk lo; do ip -n relayNUMBER link set $link up; done
  ip netns exec relayNUMBER sh -c 'echo 1 > /proc/sys/net/ipv4/ip_forward'
  ip netns exec relayNUMBER dhcrelay -4 -d -id deck -iu trunk TARGET > relay.log 2>&1 &
"""


class Server(NamedTuple):
    """Somebody who answers on a case's LAN."""

    address: str
    """With its prefix length."""
    device: str = ""
    """The device of its plan; none for an odd server."""
    plan: str | None = None
    """Its plan; that of the case if None."""
    stands_for: str = ""
    """The device's interface."""
    oddly: str = ""
    """What an odd server does: one of ``odd_server.WAYS``."""


@dataclass(frozen=True)
class Case:
    """A network that is asked whether it answers as planned."""

    plan: str
    servers: Sequence[Server] = ()
    arguments: Sequence[str] = ()
    desk: str = ""
    """The address of the port that is asked from."""
    stop_at: str = ""
    """What the first server says when ``verify`` is asked to stop."""
    relay: tuple[str, str, str] | None = None
    """The relay's addresses on both sides, and its target: the servers are behind it then."""
    leases: str = ""
    """A table of leases, in ``leases.txt``."""


class Verified(NamedTuple):
    """What ``verify`` found."""

    status: int
    found: dict[str, Any]
    said: str
    """What it said before, or why it could not."""
    log: str
    """What the first server said."""
    folder: Path

    @property
    def reasons(self) -> list[str]:
        """What differs, in all networks."""
        return [f["reason"] for n in self.found["networks"] for f in n["seen"]["failures"]]


def run_cases(cases: Mapping[str, Case], scratch: Path) -> None:
    """Let ``verify`` look at each case; what it finds stays in the folder."""
    script = [BEGIN]
    for number, case in enumerate(cases.values()):
        folder = scratch / str(number)
        folder.mkdir()
        (folder / "plan.yaml").write_text(case.plan)
        (folder / "leases.txt").write_text(case.leases)
        script.append(_script(number, case, folder))
    calls = "\n".join(f'case_{number} &\npids="$pids $!"' for number in range(len(cases)))
    script += [calls, "wait $pids", "true"]  # who serves ends with the namespace
    done = subprocess.run(
        [*ALONE, "bash", "-c", "\n".join(script)],
        env={
            "PATH": "/usr/sbin:/usr/bin:/sbin:/bin",
            "PROGRAM": str(Path(sys.executable).parent / "reservoir"),
            "HOME": os.environ.get("HOME", "/root"),
        },
        capture_output=True,
        text=True,
        timeout=240,
        check=False,
    )
    for number in range(len(cases)):
        assert (scratch / str(number) / "status").exists(), done.stderr


def found_in(cases: Mapping[str, Case], scratch: Path) -> dict[str, Verified]:
    """What ``verify`` found in each case."""
    found = {}
    for number, name in enumerate(cases):
        folder = scratch / str(number)
        text = (folder / "found.json").read_text()
        logs = sorted(folder.glob("*/log.txt"))
        found[name] = Verified(
            int((folder / "status").read_text()),
            json.loads(text) if text else {},
            (folder / "said.txt").read_text(),
            logs[0].read_text() if logs else "",
            folder,
        )
    return found


def _script(number: int, case: Case, folder: Path) -> str:
    desk = f"ip -n desk{number} addr add {case.desk} dev eth0" if case.desk else ":"
    if case.relay is not None:
        deck, trunk, target = case.relay
        made = RELAY.replace("DECK", deck).replace("TRUNK", trunk).replace("TARGET", target)
        parts = [made]
    else:
        parts = []
    for place, server in enumerate(case.servers):
        parts.append(_part(number, place, server, case, folder))
    given = " ".join(case.arguments) or "--on eth0"
    stop = f'wait_for server0/log.txt "{case.stop_at}"; kill $asking' if case.stop_at else ""
    stopped = "wait_for server0/log.txt RELEASE" if case.stop_at else ""
    made = (
        LAN.replace("STOPPED", stopped)
        .replace("STOP", stop)
        .replace("DESK", desk)
        .replace("PARTS", "\n".join(parts))
    )
    made = made.replace("ARGUMENTS", given).replace("CASE", str(folder))
    return made.replace("NUMBER", str(number))


def _part(number: int, place: int, server: Server, case: Case, folder: Path) -> str:
    own = folder / f"server{place}"
    own.mkdir()
    (own / "plan.yaml").write_text(server.plan or case.plan)
    address = server.address.partition("/")[0]
    if server.oddly:
        command = f"{sys.executable} {odd_server.__file__} {server.oddly} {address} plan.yaml"
        ready = "ready"
    else:
        whose = f"--as {server.stands_for}" if server.stands_for else ""
        command = (
            f'"$PROGRAM" stand-in plan.yaml --device {server.device} {whose} '
            "--listen 0.0.0.0:67 --bind lan"
        )
        ready = "trials"
    name = f"s{number}x{place}"
    made = PART.replace("PARTNAME", name).replace("PARTport", f"p{name}")
    made = made.replace("PARTFOLDER", str(own)).replace("ADDRESS", server.address)
    made = made.replace("COMMAND", command).replace("READY", ready)
    if case.relay is not None:
        gateway = case.relay[1].partition("/")[0]
        made = made.replace("lanNUMBER", f"up{number}")
        made += f"  ip -n {name} route add default via {gateway}\n"
    return made
