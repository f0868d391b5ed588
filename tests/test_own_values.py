"""What single clients are offered otherwise than their network: in plans, tables, on devices."""

from __future__ import annotations

import json
from collections.abc import Callable
from pathlib import Path

import pytest

from conftest import Run

Put = Callable[[str, str], Path]

OWN = {
    "hostname": "bridge",
    "boot_file": "boot/efi.img",
    "next_server": "10.84.0.70",
    "lease": "2d",
    "domain": "bridge.example",
    "options": "{log_servers: [10.84.0.77]}",
}
PLAN = """
devices:
  pier:
    dialect: DIALECT
    interfaces: {deck: {address: 10.84.30.1/24, zone: crew}}
    zones: {crew: {admits: [dhcp]}}
networks:
  crew:
    subnet: 10.84.30.0/24
    gateway: 10.84.30.1
    dns: [10.84.30.53]
    served_by: pier
    ranges: [10.84.30.60-10.84.30.99]
    lease: 12h
    static: [{name: ns, address: 10.84.30.53}]
    bindings:
      - {name: purser, mac: 00:00:5e:00:53:01, address: 10.84.30.61}
      - {name: phone, mac: 00:00:5e:00:53:60, address: 10.84.30.62, OWN}
"""
ABLE = {
    "fulmar": set(OWN),
    "merganser": set(OWN),
    "quillon": set(OWN) - {"next_server", "lease"},
    "tamarack": {"hostname"},
    "capstan": {"hostname"},
    "mortise": {"hostname"},
    "larkspur": set(),
    "thimble": set(),
    "linux-host": set(),
}


def plan_of(dialect: str, *keys: str) -> str:
    own = ", ".join(f"{key}: {OWN[key]}" for key in keys)
    text = PLAN.replace("DIALECT", dialect).replace("OWN", own)
    return (
        text
        if dialect != "thimble"
        else text.replace("10.84.30.61", "10.84.30.21").replace("10.84.30.62", "10.84.30.22")
    )


@pytest.mark.parametrize("dialect", ABLE)
def test_every_device_says_what_it_can_of_one_client(
    run: Run, put: Put, tmp_path: Path, dialect: str
) -> None:
    """What it can't is refused key by key; what it can is offered to that client and no other."""
    plan = put("plan.yaml", plan_of(dialect, *OWN))
    found = json.loads(run("check", str(plan), "--format", "json").out)["findings"]
    refused = [each["message"] for each in found if each["rule"] == "not-expressible"]
    unable = set(OWN) - ABLE[dialect]
    assert len(refused) == len(unable), refused
    assert all("of phone: " in message for message in refused)
    if not ABLE[dialect]:
        return
    plan = put("plan.yaml", plan_of(dialect, *sorted(ABLE[dialect])))
    written = run("write", str(plan), "-o", "out")
    assert written.code == 0, written.err
    again = run("read", *map(str, sorted((tmp_path / "out").rglob("pier*"))), "-o", "again.yaml")
    assert again.code == 0
    assert run("compare", "again.yaml", str(plan)).code == 0
    trace = run("rehearse", str(plan), "--trace", "crew").out.split("\nclient ")
    shown = {"boot_file": "boot file boot/efi.img", "next_server": "boot server 10.84.0.70"}
    shown |= {"hostname": "host name bridge", "lease": "lease time 2d"}
    shown |= {"domain": "domain bridge.example", "options": "log_servers 10.84.0.77"}
    for key in ABLE[dialect]:
        its, others = " ".join(trace[2].split()), " ".join(" ".join(trace[3:]).split())
        assert shown[key] in its, its
        assert shown[key] not in others


def test_a_client_that_is_not_offered_its_own_is_told(run: Run, put: Put, tmp_path: Path) -> None:
    """The device is written without the host name: the rehearsal and the comparison say so."""
    plan = put("plan.yaml", plan_of("fulmar", "hostname", "lease"))
    assert run("write", str(plan), "-o", "out").code == 0
    file = tmp_path / "out/pier.fulmar"
    text = file.read_text()
    file.write_text(text.replace('"host": "bridge",', "").replace('"P2D"', '"P1D"'))
    compared = run("compare", str(plan), str(file))
    shown = " ".join(compared.out.split())
    assert "option 12 of 00:00:5e:00:53:60" in shown
    assert "lease of 00:00:5e:00:53:60" in shown
    assert shown.count("00:00:5e:00:53:01") == 0


def test_tables_hold_own_values(run: Run, put: Put) -> None:
    """A plain table and one with quotes say the same; wrong cells are listed, each at its place."""
    inline = plan_of("fulmar", "hostname", "boot_file", "next_server", "lease")
    head, _, _ = inline.partition("    bindings:\n")
    put("plan.yaml", inline)
    put("by-table.yaml", head + "bindings_from: [bindings.csv]\n")
    rows = [
        "network,name,mac,address,hostname,lease,next_server,boot_file",
        "crew,purser,00:00:5e:00:53:01,10.84.30.61,,,,",
        "crew,phone,00:00:5e:00:53:60,10.84.30.62,bridge,2d,10.84.0.70,boot/efi.img",
    ]
    for quoted in (False, True):
        text = "\n".join(rows) + "\n"
        put("bindings.csv", text.replace("bridge", '"bridge"') if quoted else text)
        assert run("compare", "plan.yaml", "by-table.yaml").code == 0
    put("bindings.csv", "\n".join([*rows, "crew,x,00:00:5e:00:53:02,10.84.30.63,,2 d,x,"]) + "\n")
    wrong = run("check", "by-table.yaml")
    assert wrong.code == 2
    assert "bindings.csv:4:39: '2 d' is not a duration" in wrong.err
    assert "bindings.csv:4:43: 'x' is not an IPv4 address" in wrong.err
    put("bindings.csv", "\n".join([rows[0].replace("hostname", "host_name"), rows[1]]) + "\n")
    assert "did you mean hostname?" in run("check", "by-table.yaml").err


@pytest.mark.parametrize("own", [
    "boot_file: x, options: {boot_file: y}",
    "hostname: x, options: {12: {text: y}}",
])  # fmt: skip
def test_an_option_is_said_once(run: Run, put: Put, own: str) -> None:
    refused = run(
        "check", str(put("plan.yaml", PLAN.replace("DIALECT", "fulmar").replace("OWN", own)))
    )
    assert refused.code == 2
    assert "out of the options" in refused.err


def test_adopted_clients_keep_their_host_names(run: Run, put: Put) -> None:
    """Where the server can offer one, and the name is one."""
    put("leases.csv", "mac,address,name\n00:00:5e:00:53:70,10.84.30.70,till\n"
                      "00:00:5e:00:53:71,10.84.30.71,deck tablet\n")  # fmt: skip
    for dialect, count in (("fulmar", 1), ("larkspur", 0)):
        plan = put("plan.yaml", plan_of(dialect))
        shown = run("adopt", "leases.csv", "--into", str(plan), "--network", "crew")
        assert shown.code == 0, shown.err
        assert shown.out.count("hostname: till") == count
        assert shown.out.count("hostname:") == count
