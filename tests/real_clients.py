"""Real DHCP clients against a stand-in, in network namespaces; directly, and through a relay.

Everything happens in namespaces of its own: nothing of the machine's network is touched.
"""

from __future__ import annotations

import os
import shutil
import subprocess
import sys
from collections.abc import Mapping
from functools import cache
from pathlib import Path
from typing import NamedTuple

import reservoir
from real_host import why_not as why_no_namespaces
from reservoir.core.plan.offered import SHORT_FOR
from reservoir.core.values.addresses import format_address
from reservoir.core.values.client_classes import Said
from reservoir.core.values.clients import parse_mac
from reservoir.rehearsal.clients.client import Client
from reservoir.rehearsal.messages.message import Option, option_text
from reservoir.rehearsal.wires.setting import connect_devices
from reservoir.rehearsal.wires.wires import Wires

PROGRAMS = ("udhcpc", "dhclient", "dhcpcd", "dhcrelay", "tshark", "unshare", "ip")

SCRIPT = r"""
set -e
mount --make-rprivate /
mount -t tmpfs tmpfs /run
mount -t tmpfs tmpfs /var/lib
mkdir -p /run/netns /var/lib/dhcpcd /var/lib/dhcp
ip link set lo up
ip netns add client
if [ "$MODE" = relay ]; then
  ip netns add relay
  ip link add srv type veth peer name trunk netns relay
  ip netns exec relay ip link add deck type veth peer name cli netns client
  ip netns exec relay ip addr add 10.84.0.1/24 dev trunk
  ip netns exec relay ip addr add 10.84.30.1/24 dev deck
  ip netns exec relay ip link set lo up
  ip netns exec relay ip link set trunk up
  ip netns exec relay ip link set deck up
  ip netns exec relay sh -c 'echo 1 > /proc/sys/net/ipv4/ip_forward'
  ip addr add 10.84.0.10/24 dev srv
  ip link set srv up
  ip route add 10.84.30.0/24 via 10.84.0.1
  ip netns exec relay dhcrelay -4 -d -id deck -iu trunk 10.84.0.10 > "$SCRATCH/relay.log" 2>&1 &
else
  ip link add srv type veth peer name cli netns client
  ip addr add 10.84.30.1/24 dev srv
  ip link set srv up
fi
in_client() { ip netns exec client "$@"; }
in_client ip link set cli up
tshark -i srv -w "$SCRATCH/seen.pcapng" -q > /dev/null 2>&1 &
shark=$!
"$PROGRAM" stand-in "$PLAN" --device "$DEVICE" --listen 0.0.0.0:67 --bind srv \
  --leases "$SCRATCH/leases.csv" > "$SCRATCH/stand-in.log" 2>&1 &
stand_in=$!
for _ in $(seq 100); do
  grep -q "stand-in for trials" "$SCRATCH/stand-in.log" && break; sleep 0.1
done
for _ in $(seq 50); do [ -s "$SCRATCH/seen.pcapng" ] && break; sleep 0.1; done

reported() { grep -q "$1" "$SCRATCH/events"; }
wait_for() { for _ in $(seq 60); do reported "$1" && return 0; sleep 0.1; done; return 1; }

# A client that runs its script meanwhile may miss a signal.
end() { for _ in $(seq 40); do kill $1 2> /dev/null || return 0; sleep 0.2; done; }
released=0
heard_release() {
  released=$((released + 1))
  for _ in $(seq 80); do
    [ "$(grep -c 'RELEASE: takes' "$SCRATCH/stand-in.log")" -ge $released ] && return 0; sleep 0.1
  done
}

for step in $STEPS; do
  kind=${step%%=*}; mac=${step#*=}
  echo "client $kind $mac"
  in_client ip link set cli down
  in_client ip addr flush dev cli
  in_client ip link set cli address "$mac"
  in_client ip link set cli up
  : > "$SCRATCH/events"
  says=$(cat "$SCRATCH/$mac.says" 2> /dev/null) || says=""
  case $kind in
    udhcpc)
      ip netns exec client udhcpc $says -i cli -f -t 3 -T 1 -A 1 -n -s "$TOLD" > /dev/null 2>&1 &
      pid=$!
      if wait_for event=bound; then
        kill -USR1 $pid; wait_for event=renew && echo renewed
        if [ -n "$RELEASE" ]; then kill -USR2 $pid; heard_release; fi
      fi
      end $pid ;;
    dhclient)
      files="-lf $SCRATCH/$mac.leases -pf $SCRATCH/dhclient.pid $says"
      in_client timeout 12 dhclient -4 -1 -sf "$TOLD" $files cli > /dev/null 2>&1 || true
      if reported reason=BOUND; then
        for _ in $(seq 50); do [ -s "$SCRATCH/dhclient.pid" ] && break; sleep 0.1; done
        kill $(cat "$SCRATCH/dhclient.pid") || true
        in_client timeout 12 dhclient -4 -1 -sf "$TOLD" $files cli > /dev/null 2>&1 || true
        reported reason=REBOOT && echo renewed
        if [ -n "$RELEASE" ]; then
          in_client dhclient -4 -r -sf "$TOLD" $files cli > /dev/null 2>&1 || true
          heard_release
        fi
      fi
      kill $(cat "$SCRATCH/dhclient.pid" 2> /dev/null) 2> /dev/null || true ;;
    dhcpcd)
      rm -rf /var/lib/dhcpcd/*  # the lease of another client on this interface
      ip netns exec client dhcpcd -4 -B -L -A -I "" $says -t 6 -c "$TOLD" cli > /dev/null 2>&1 &
      pid=$!
      if wait_for reason=BOUND; then
        sleep 0.5
        in_client dhcpcd -4 -N cli > /dev/null 2>&1 && wait_for reason=RENEW && echo renewed
        if [ -n "$RELEASE" ]; then
          sleep 0.5
          in_client dhcpcd -4 -k cli > /dev/null 2>&1 || true
          heard_release
        fi
      fi
      end $pid ;;
  esac
  cat "$SCRATCH/events"
done
sleep 0.5
kill -INT $stand_in
wait $stand_in
echo "stopped $?"
sleep 0.5
kill -INT $shark
wait $shark || true
jobs -p | xargs -r kill 2> /dev/null || true
"""

TOLD = """\
#!/bin/sh
{
  env | grep -E '^(ip|subnet|router|dns|domain|lease|hostname|bootfile|reason|new_[a-z_]*)='
  [ -n "$1" ] && echo "event=$1"
} >> "SCRATCH/events"
address=${ip:-$new_ip_address}
if [ -n "$address" ] && [ "$reason" != RELEASE ]; then  # renewals are sent from it
  ip addr replace "$address/24" dev cli
  ip route replace default via "${router:-$new_routers}"
fi 2> /dev/null
exit 0
"""

NAMES = {
    "new_ip_address": "ip",
    "new_subnet_mask": "subnet",
    "new_routers": "router",
    "new_domain_name_servers": "dns",
    "new_domain_name": "domain",
    "new_dhcp_lease_time": "lease",
    "new_host_name": "hostname",
    "new_bootfile_name": "bootfile",
}
"""What two of the clients call what the third calls otherwise."""

ASKED = ("ip", "subnet", "router", "dns", "domain", "lease", "hostname", "bootfile")

OPTIONS = (Option.MASK, Option.ROUTER, Option.DNS, Option.DOMAIN, Option.LEASE_TIME,
           SHORT_FOR["hostname"], SHORT_FOR["boot_file"])  # fmt: skip
"""The options that say so, after the address."""


class Told(NamedTuple):
    """What a client was told; empty if nobody answered, and whether it could renew."""

    client: str
    mac: str
    values: dict[str, str]
    renewed: bool


@cache
def why_not() -> str:
    """Why real clients can't be tried here; empty if they can."""
    missing = [name for name in PROGRAMS if shutil.which(name) is None]
    if missing:
        return f"not installed here: {', '.join(missing)} (tests/system-packages installs them)"
    return why_no_namespaces()


def arguments(kind: str, said: Said, file: Path) -> str:
    """The arguments with which a kind of client says what it is; its configuration is a file."""
    vendor, user, machine = said.vendor_class, said.user_class, said.architecture
    if kind == "udhcpc":
        text = "-O bootfile -O hostname"
        text += f" -V {vendor[0]}" if vendor else ""
        text += f" -x 0x5d:{machine[0]:04x}" if machine else ""
        return text + (f" -x 0x4d:{user[0].encode().hex()}" if user else "")
    if kind == "dhcpcd":
        text = "-o bootfile_name -o host_name"
        return text + (f" -i {vendor[0]}" if vendor else "") + (f" -u {user[0]}" if user else "")
    lines = ["option machine code 93 = unsigned integer 16;", "also request bootfile-name;"]
    lines += [f'send vendor-class-identifier "{text}";' for text in vendor]
    lines += [f'send user-class "{text}";' for text in user]
    lines += [f"send machine {number};" for number in machine]
    file.write_text("\n".join(lines) + "\n")
    return f"-cf {file}"


def told(
    plan: Path,
    device: str,
    steps: list[tuple[str, str]],
    mode: str,
    *,
    release: bool,
    says: Mapping[str, Said] | None = None,
) -> list[Told]:
    """What clients get from a stand-in, one after the other.

    Args:
        plan: The plan; its folder gets what was logged, captured and remembered.
        device: The device to stand in for.
        steps: The kind of client and its MAC address.
        mode: ``direct`` or ``relay``.
        release: Whether each gives its address back.
        says: What clients say of themselves, by their MAC addresses.
    """
    scratch = plan.parent
    for kind, mac in steps:
        if says and mac in says:
            written = arguments(kind, says[mac], scratch / f"{mac}.conf")
            (scratch / f"{mac}.says").write_text(written)
    script = scratch / "told.sh"
    # Not by the environment, which some clients keep from their scripts.
    script.write_text(TOLD.replace("SCRATCH", str(scratch)))
    script.chmod(0o755)
    done = subprocess.run(
        ["unshare", "-n", "-m", "bash", "-c", SCRIPT],
        env={
            "PATH": "/usr/sbin:/usr/bin:/sbin:/bin",
            "PROGRAM": str(Path(sys.executable).parent / "reservoir"),
            "SCRATCH": str(scratch),
            "PLAN": str(plan),
            "DEVICE": device,
            "MODE": mode,
            "STEPS": " ".join(f"{kind}={mac}" for kind, mac in steps),
            "RELEASE": "yes" if release else "",
            "TOLD": str(script),
            "HOME": os.environ.get("HOME", "/root"),
        },
        capture_output=True,
        text=True,
        timeout=180,
        check=False,
    )
    log = (scratch / "stand-in.log").read_text()
    assert done.returncode == 0, done.stderr + log
    assert done.stdout.endswith("stopped 0\n"), log
    found: list[Told] = []
    for line in done.stdout.splitlines():
        name, sign, value = line.partition("=")
        if line.startswith("client "):
            _, kind, mac = line.split()
            found.append(Told(kind, mac, {}, False))
        elif line == "renewed":
            found[-1] = found[-1]._replace(renewed=True)
        elif sign and NAMES.get(name, name) in ASKED:
            found[-1].values[NAMES.get(name, name)] = value
    return found


def malformed(capture: Path, source: str = "") -> tuple[int, str]:
    """How many DHCP messages a capture has, and what an analyser finds wrong with any of them.

    Args:
        capture: The capture.
        source: The address whose messages are looked at; all if empty.
    """
    shark = ["tshark", "-r", str(capture), "-Y"]
    whose = f"ip.src == {source} && " if source else ""
    seen = subprocess.run([*shark, f"{whose}dhcp"], capture_output=True, text=True, check=True)
    wrong = subprocess.run(
        [*shark, f"{whose}dhcp && (_ws.malformed || _ws.expert.severity >= 6291456)"],
        capture_output=True,
        text=True,
        check=True,
    )
    return len(seen.stdout.splitlines()), wrong.stdout


def predicted(
    plan: Path, macs: list[str], network: str, says: Mapping[str, Said] | None = None
) -> list[dict[str, str]]:
    """What the rehearsal says that clients get who come in this order; nothing for the refused."""
    opened = reservoir.load(plan)
    wires = Wires(opened.pools)
    connect_devices(wires, opened.pools, reservoir.served_by(opened))
    found: list[dict[str, str]] = []
    for mac in macs:
        client = Client(parse_mac(mac), wires, said=(says or {}).get(mac))
        wires.connect(client, network)
        client.switch_on()
        wires.clock.run(wires.clock.now + 100)
        given = client.acknowledged
        if given is None:
            found.append({})
            continue
        texts = {code: option_text(code, given.options[code]) for code in given.options}
        texts[Option.LEASE_TIME] = str(given.number(Option.LEASE_TIME))
        values = [format_address(given.your_address), *(texts.get(code, "") for code in OPTIONS)]
        found.append({name: v for name, v in zip(ASKED, values, strict=True) if v})
    return found
