"""The operating system's own network service and DHCP client, in network namespaces.

The service runs on the files that ``reservoir write`` made: without udev, in a mount namespace of
its own with ``/sys`` read-only, so that it takes the interfaces as they are.
"""

from __future__ import annotations

import json
import os
import shutil
import subprocess
import sys
from functools import cache
from pathlib import Path
from typing import Any, NamedTuple

import real_talk

SERVICE = Path("/usr/lib/systemd/systemd-networkd")
PROGRAMS = ("unshare", "ip", "busybox")

SCRIPT = r"""
set -e
mount --make-rprivate /
mount --bind /sys /sys
mount -o remount,ro,bind /sys
mount -t tmpfs tmpfs /run
mkdir -p /run/systemd/network /run/systemd/netif /run/netns
chown systemd-network /run/systemd/netif
cp -r "$FOLDER"/* /run/systemd/network/
ip link set lo up
$BEFORE
ip netns add client
ip link add srv type veth peer name cli netns client
ip -n client link set cli up  # without a carrier the service would wait for one
SYSTEMD_LOG_LEVEL=info "$SERVICE" > "$LOG" 2>&1 &
service=$!
for _ in $(seq 100); do ip -4 addr show srv | grep -q inet && break; sleep 0.1; done
$ASKING
kill $service
wait $service || true
"""

CLIENTS_ASK = r"""
for client in $CLIENTS; do
  echo "client $client"
  ip netns exec client ip link set cli down
  ip netns exec client ip link set cli address "$client"
  ip netns exec client ip link set cli up
  ip netns exec client busybox udhcpc -i cli -f -n -q -t 3 -T 1 -s "$TOLD" -O ntpsrv -O 200 || true
done 2> /dev/null
"""

THEY_TALK = """
ip netns exec client ip link set cli up
for _ in $(seq 50); do
  ip netns exec client ip link show cli | grep -q LOWER_UP && break; sleep 0.1
done
ip netns exec client "$PYTHON" "$TALK" cli "$CONVERSATION"
"""

TOLD = """\
#!/bin/sh
[ "$1" = bound ] && env | grep -E '^(ip|siaddr|subnet|router|dns|domain|lease|ntpsrv|opt200)='
exit 0
"""


class ServiceAbortedError(Exception):
    """The service ended by itself: it does where an answer's options end just where its room ends.

    Outside of a test it is started anew; the client has no answer.
    """


class Answer(NamedTuple):
    """What a client was told, by the DHCP client's own names; empty if nobody answered."""

    client: str
    told: dict[str, str]


@cache
def why_not() -> str:
    """Why the service can't be tried here; empty if it can."""
    missing = [name for name in PROGRAMS if shutil.which(name) is None]
    if not SERVICE.exists():
        missing.append(str(SERVICE))
    if missing:
        return f"not installed here: {', '.join(missing)} (tests/system-packages installs them)"
    if os.geteuid() != 0:
        return "network namespaces need root"
    tried = subprocess.run(
        ["unshare", "-n", "-m", "ip", "link", "add", "srv", "type", "veth", "peer", "name", "cli"],
        capture_output=True,
        text=True,
        check=False,
    )
    return f"no network namespaces here: {tried.stderr.strip()}" if tried.returncode else ""


def answers(configuration: Path, clients: list[str], scratch: Path) -> list[Answer]:
    """What the clients get, one after the other, from a service with this configuration."""
    told = scratch / "told.sh"
    told.write_text(TOLD)
    told.chmod(0o755)
    heard = run_beside(
        configuration, scratch, CLIENTS_ASK, CLIENTS=" ".join(clients), TOLD=str(told)
    )
    found: list[Answer] = []
    for line in heard.splitlines():
        name, sign, value = line.partition("=")
        if sign:
            found[-1].told[name] = value
        elif line.startswith("client "):
            found.append(Answer(line.removeprefix("client "), {}))
    return found


def talked_with(configuration: Path, scratch: Path, conversation: str) -> list[tuple[Any, ...]]:
    """What is heard in a conversation with a service that has this configuration."""
    told = {"PYTHON": sys.executable, "TALK": real_talk.__file__, "CONVERSATION": conversation}
    heard = run_beside(configuration, scratch, THEY_TALK, **told)
    return [tuple(one) for one in json.loads(heard)]


def run_beside(
    configuration: Path, scratch: Path, asking: str, before: str = "", **environment: str
) -> str:
    """What a script prints in the client's namespace, beside a service.

    Args:
        configuration: The folder of the service's files.
        scratch: Where its log is put.
        asking: The script.
        before: What is run before the service is started.
        environment: Variables of the scripts.
    """
    script = SCRIPT.replace("$BEFORE", before).replace("$ASKING", asking)
    log = scratch / "service.log"
    done = subprocess.run(
        ["unshare", "-n", "-m", "bash", "-c", script],
        env={
            "PATH": "/usr/sbin:/usr/bin:/sbin:/bin",
            "FOLDER": str(configuration),
            "SERVICE": str(SERVICE),
            "LOG": str(log),
            **environment,
        },
        capture_output=True,
        text=True,
        timeout=120,
        check=False,
    )
    if "Aborting." in log.read_text():
        raise ServiceAbortedError(log.read_text())
    assert done.returncode == 0, done.stderr + log.read_text()
    return done.stdout
