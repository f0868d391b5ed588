"""What a device can't hold is a finding, in every family; what it can is written as it thinks."""

from __future__ import annotations

from collections.abc import Callable
from pathlib import Path
from typing import Any

import pytest

import reservoir
from conftest import Run
from oracle import text_of

Put = Callable[[str, str], Path]


def a_plan(dialect: str, **network: Any) -> dict[str, Any]:
    """A server of the dialect with one network at its own interface."""
    crew = {
        "subnet": "10.84.30.0/24",
        "gateway": "10.84.30.1",
        "dns": ["10.84.0.53"],
        "lease": "12h",
        "served_by": "box",
        "ranges": ["10.84.30.20-10.84.30.99"],
    }
    interface = {"address": "10.84.30.1/24", "zone": "inside"}
    return {
        "reservoir": 1,
        "devices": {
            "box": {
                "dialect": dialect,
                "interfaces": {"lan": interface},
                "zones": {"inside": {"admits": ["dhcp"]}},
            }
        },
        "networks": {"crew": {k: v for k, v in {**crew, **network}.items() if v is not None}},
    }


def with_another(plan: dict[str, Any], at: str, **fields: Any) -> dict[str, Any]:
    """The plan with a second network, served by the same device at another interface."""
    crew = plan["networks"]["crew"]
    shop = {**crew, "subnet": "10.84.31.0/24", "gateway": "10.84.31.1", **fields}
    shop["ranges"] = ["10.84.31.20-10.84.31.99"]
    plan["networks"]["shop"] = shop
    if at == "relay":
        plan["devices"]["far"] = {
            "interfaces": {"deck": {"address": "10.84.31.1/24", "relay_to": ["10.84.30.1"]}}
        }
    else:
        plan["devices"]["box"]["interfaces"][at] = {"address": "10.84.31.1/24", "zone": "inside"}
    return plan


def a_relay(dialect: str) -> dict[str, Any]:
    """A device that is to forward requests to another server."""
    plan = a_plan(dialect)
    plan["devices"]["box"]["interfaces"]["lan"]["relay_to"] = ["10.84.0.10"]
    return plan


def bound(count: int) -> list[dict[str, str]]:
    return [
        {"name": f"m{n}", "mac": f"00:00:5e:00:53:{n:02x}", "address": f"10.84.30.{100 + n}"}
        for n in range(count)
    ]


HOLES = [f"10.84.30.{host}" for host in (30, 40, 50, 60)]

CASES: list[tuple[dict[str, Any], str, str]] = [
    (
        with_another(a_plan("mortise"), "relay"),
        "not-expressible",
        "box serves DHCP only on its own interfaces, none of which is in shop",
    ),
    (
        with_another(a_plan("linux-host"), "relay"),
        "not-expressible",
        "box serves DHCP only on its own interfaces, none of which is in shop",
    ),
    (
        with_another(a_plan("thimble"), "port2"),
        "pool-shadowed",
        "so clients of shop get addresses of crew; let another device serve it",
    ),
    (
        a_plan("mortise", subnet="10.84.30.0/25"),
        "not-expressible",
        "box assigns the subnet of its interface lan, 10.84.30.0/24, but crew is 10.84.30.0/25",
    ),
    (
        a_plan("linux-host", exclusions=HOLES[:1]),
        "too-many",
        "crew needs 2 ranges on box, which holds 1 range",
    ),
    (
        a_plan("thimble", exclusions=HOLES),
        "too-many",
        "crew needs 5 ranges on box, which holds 4 ranges in 4 pools",
    ),
    (
        a_plan("thimble", bindings=bound(66)),
        "too-many",
        "box holds 64 bindings; the last 2 of crew exceed that",
    ),
    (
        a_plan("thimble", dns=["10.84.0.53", "10.84.1.53", "10.84.2.53"]),
        "too-many",
        "crew has 3 DNS servers; box holds 2",
    ),
    (a_plan("thimble", lease="45m"), "lease-rounded", "45m becomes 1h"),
    (a_plan("tamarack", lease="90s"), "lease-rounded", "1m30s becomes 2m"),
    (a_plan("quillon", lease="infinite"), "not-expressible", "box has no infinite lease"),
    (a_plan("linux-host", lease="infinite"), "not-expressible", "box has no infinite lease"),
    (
        a_plan("mortise", gateway="none"),
        "not-expressible",
        "box offers clients of crew its own address 10.84.30.1 as the gateway",
    ),
    (
        a_plan("quillon", dns=[]),
        "not-expressible",
        "box offers clients of crew its own address 10.84.30.1 as DNS server",
    ),
    (
        a_plan("mortise", dns=[]),
        "not-expressible",
        "box offers clients of crew the DNS servers that it uses itself as DNS server",
    ),
    (
        with_another(
            a_plan("thimble", bindings=[{"client_id": "hex:0102", "address": "10.84.30.9"}]), "b"
        ),
        "not-expressible",
        "can't be given the client identifier of hex:0102: thimble has no line for it",
    ),
    (
        a_relay("thimble"),
        "not-expressible",
        "box can't be given the relay_to of lan: thimble has no line for it",
    ),
    (
        a_plan("merganser", dns=[]),
        "not-expressible",
        "box refuses a pool without a DNS server, and crew has none",
    ),
]


@pytest.mark.parametrize(("plan", "rule", "said"), CASES)
def test_what_a_device_cannot_hold_is_a_finding(
    run: Run, put: Put, plan: dict[str, Any], rule: str, said: str
) -> None:
    """In words that say what it would do instead; and nothing is written unless it is wanted."""
    (put("plan.yaml", "").parent / "plan.yaml").write_text(text_of(plan))
    checked = run("check", "plan.yaml", "--select", "limits", "--select", "pool-shadowed")
    assert rule in checked.out
    assert said in " ".join(checked.out.split())
    if rule != "lease-rounded":
        assert run("write", "plan.yaml", "--out", "-").code == 1


@pytest.mark.parametrize(
    ("plan", "there", "absent"),
    [
        (
            a_plan("linux-host", gateway=None, dns=[]),
            ["EmitRouter=no", "EmitDNS=no"],
            ["\nRouter="],
        ),
        (a_plan("linux-host", domain="sable.example"), ["=15:string:sable.example"], []),
        (a_plan("thimble", exclusions=HOLES[:2]), ["[shelf 3]", "label: crew-3"], ["[shelf 4]"]),
        (a_plan("mortise"), ["until=10.84.30.19", "from=10.84.30.100"], []),
        (a_plan("tamarack"), ["block 1 from 10.84.30.20 size 80"], []),
        (a_plan("quillon", bindings=bound(1)), ['low="10.84.30.20" high="10.84.30.100"'], []),
        (a_plan("fulmar", lease="infinite"), ['"lease": null', '"live": true'], []),
        (a_plan("fulmar", lease="36h"), ['"lease": "P1DT12H"'], []),
        (a_plan("larkspur", bindings=bound(1)), ["withhold 10.84.30.100 to 10.84.30.254"], []),
        (a_plan("merganser", bindings=bound(1)), ["lend only 10.84.30.100 to"], ["never lend"]),
    ],
)
def test_what_it_can_hold_is_written_as_it_thinks(
    tmp_path: Path, plan: dict[str, Any], there: list[str], absent: list[str]
) -> None:
    """The same plan: ranges, what is left of the subnet, blocks, several pools, switches."""
    (tmp_path / "plan.yaml").write_text(text_of(plan))
    (written,) = reservoir.write(reservoir.load(str(tmp_path / "plan.yaml")))
    assert not written.faults
    assert not written.obstacles
    assert [piece for piece in there if piece not in written.text] == []
    assert [piece for piece in absent if piece in written.text] == []


def test_sheets_of_the_user_and_of_packages(
    installed: Path, run: Run, put: Put, tmp_path: Path
) -> None:
    """The one beside the plan goes before the user's; a package's is found by its entry point."""
    sheet = (
        'sheet NAME\nabout "ABOUT"\nblock indent 1\n---\n'
        "device | box {name}\npool * | net {name}\n       |  of {subnet}\n"
        "range * |  give {first} {last}\n"
    )

    def a_sheet(path: str, name: str, about: str) -> None:
        put(f"{path}/{name}.sheet", sheet.replace("NAME", name).replace("ABOUT", about))

    a_sheet("config/reservoir/dialects", "gannet", "the user's")
    a_sheet("config/reservoir/dialects", "tern", "the user's other")
    a_sheet("dialects", "gannet", "beside the plan")
    a_sheet("packages/harbour_sheets", "dunlin", "a package's")
    put("packages/harbour_sheets/__init__.py", "")
    put(
        "packages/harbour_sheets-1.dist-info/entry_points.txt",
        "[reservoir.dialects]\nharbour = harbour_sheets\n",
    )
    put("packages/harbour_sheets-1.dist-info/METADATA", "Metadata-Version: 2.1\nName: h\n")
    places = {
        "XDG_CONFIG_HOME": str(tmp_path / "config"),
        "PYTHONPATH": str(tmp_path / "packages"),
    }
    listed = run("dialect", "list", start=installed, **places).out
    assert "gannet         beside the plan\n" in listed
    assert "tern           the user's other\n" in listed
    assert "dunlin         a package's\n" in listed
    assert run("dialect", "show", "dunlin", start=installed, **places).code == 0
