"""Inputs for which an answer was wrong: each with the command, and what it has to say."""

from __future__ import annotations

from pathlib import Path

import pytest

from conftest import Run

CASES = Path(__file__).parent / "cases"

WAYS = "ways/{}.yaml"
CORE = WAYS.format("core-lacks-route-to-access-router-has-default")
SPLIT = WAYS.format("one-of-two-split-servers-cannot-answer")
NOT_HELD = WAYS.format("rehearse-passes-where-check-has-error-next-hop-not-held")
LEAVES = WAYS.format("relay-request-leaves-by-default-route")
WRONG_ADDRESS = WAYS.format("router-has-wrong-address-in-server-net-minimal")
GONE = "cut off gateway 10.1.1.1: answers → no answer (clients reach nothing beyond their network)"
LATER = "(until then they reach nothing beyond their network)"
ASSUMED = "the way depends on what the plan doesn't state"


@pytest.mark.parametrize(
    ("call", "code", "said"),
    [
        (f"check {CORE}", 0, "route-forgotten"),
        (f"check {CORE}", 0, "+ {to: 10.40.64.0/24, via: 10.40.254.2}"),
        (f"rehearse {CORE} --clients 3", 0, f"0 of 1 network served; for desk {ASSUMED}"),
        (f"check {SPLIT}", 1, "relay-no-way-back"),
        (f"rehearse {SPLIT}", 1, "the answers of dhcp0 are lost: dhcp0 has no route to 10.40.64.1"),
        (f"check {NOT_HELD}", 1, "nobody holds 10.20.1.254"),
        (f"rehearse {NOT_HELD}", 1, "on to 10.20.1.254, which nobody holds (next-hop-not-held)"),
        (f"check {LEAVES}", 0, "acc sends to 10.40.254.1, which is no device of the plan"),
        (f"rehearse {LEAVES}", 0, f"0 of 1 network served; for desk {ASSUMED}"),
        (f"check {WRONG_ADDRESS}", 0, "gw srv has 10.1.10.1/24, which is in no network"),
        (f"rehearse {WRONG_ADDRESS}", 0, f"for lan {ASSUMED}"),
        ("compare gateway-gone/old.yaml gateway-gone/down.yaml", 0, GONE),
        ("check gateway-gone/down.yaml", 1, "gw a is disabled"),
        ("rehearse gateway-gone/down.yaml", 1, "gateway's address, 10.1.1.1 (interface-down)"),
        ("compare gateway-gone/parent-old.yaml gateway-gone/parent-down.yaml", 0, GONE),
        ("compare gateway-gone/virtual-old.yaml gateway-gone/virtual-removed.yaml", 0, GONE),
        ("compare gateway-gone/virtual-old.yaml gateway-gone/virtual-and-gateway-moved.yaml", 0,
         LATER),
        ("compare gateway-gone/static-old.yaml gateway-gone/static-removed.yaml", 0, GONE),
        *((f"compare static-appears/old.yaml static-appears/{new}.yaml{leases}", 0, "1 conflict")
          for new in ("new", "new2", "new3")
          for leases in ("", " --leases static-appears/l.csv --now 1005000")),
        *((f"rehearse dns-question/{plan}.yaml --network office", 0, "yes yes 1d")
          for plan in ("plan", "plan2", "plan3", "plan4", "plan5")),
        *((f"compare vlan-changed/{old} vlan-changed/new.yaml", 0,
           "cut off path: heard → pier deck.30 has VLAN 30, and the network VLAN 31")
          for old in ("old.yaml", "w")),
        ("check anycast/plan.yaml", 0, "no route to the DNS server 10.84.255.53, which dhcp-1 has"),
        ("rehearse anycast/plan.yaml", 1, "no route to 10.84.255.53 (dns-unrouted)"),
        ("check anycast/zoneless.yaml", 1, "ns-north any is in no zone that admits dns"),
        ("map dns-in-pool/plan.yaml", 0, "claimed twice: 10.84.30.1, 10.84.30.53 "),
        ("map dns-in-pool/plan.yaml", 0, "[s==========!=="),
        ("check dns-in-pool/plan.yaml", 1, "3 errors"),
        ("compare relay-removed/wo relay-removed/wn", 0, "nothing in these files leads to depot"),
        ("compare relay-removed/wo relay-removed/wn --leases relay-removed/leases.csv", 0,
         "1 lease: 1 cut off"),
        ("rehearse second-router/plan.yaml", 0, "no client failed"),
        ("check own-dns/plan.yaml", 0, "1 piece of advice"),
        ("rehearse own-dns/plan.yaml", 0, "? crew, DNS server that the device uses itself"),
        ("rehearse own-lease-time/no-lease-tamarack.yaml", 0, "114 of 114 expected clients"),
        ("size own-lease-time/no-lease-tamarack.yaml", 0, "smallest range 114 addresses"),
        ("compare widening/running widening/new.yaml --leases widening/leases.csv --now 1780000000",
         0, "181 leases: 181 at renewal"),
        ("check widening/new.yaml widening/running/r1.merganser", 0,
         "mask is 255.255.255.0 instead of 255.255.254.0"),
        ("write widening/new.yaml --into widening/running/r1.merganser", 0,
         "p1.20 gets 10.132.20.1/23 instead of 10.132.20.1/24"),
        ("write only/relayed.yaml --into only/run/core.larkspur --only office", 0,
         "1 line added, 0 removed"),
        ("read linux-host/04-dropins-and-order/07-dropin", 0, "lease: 5m"),
        *((f"read linux-host/{case}", 1, said) for case, said in (
            ("04-dropins-and-order/08-two-files-match", "an earlier file is for the same"),
            ("05-boolean-spellings/DHCPServer-true", "served_by: DHCPServer-true"),
            ("18-emit-no-but-set", "unsaid_gateway: 10.30.0.9, unsaid_dns: 10.1.1.1"),
        )),
        *((f"check linux-host/03-options-over-312/{plan}.yaml", 1, "options-too-long")
          for plan in ("plan-31-routes", "plan-4x150")),
        ("rehearse linux-host/04-pool-beyond", 1, "its range leaves 10.30.0.0/24"),
        ("rehearse linux-host/11-static-odd", 1, "it binds 10.30.0.77 twice"),
        ("compare pool-without-interface/a.merganser pool-without-interface/b.merganser", 0,
         "cut off server: no longer r1"),
        ("check pool-without-interface/b.merganser", 1, "its clients at p1.20 get no answer"),
        ("rehearse pool-without-interface/b.merganser", 1, "(server-not-reached)"),
        ("compare script-order/run script-order/plan.yaml --script {out}/s", 0, "2 statements"),
        ("compare script-interface-address/wo script-interface-address/new.yaml --script {out}/s",
         0, "pier: 2 statements"),
        ("compare move-shortage/running move-shortage/new.yaml --leases move-shortage/leases.csv "
         "--script {out}/s", 0, "41 of 221 addresses can be assigned for 10m, and up to 180"),
        ("compare one-bad-device/running one-bad-device/base.yaml --script {out}/s", 1,
         "br-firewall: 4 statements"),
        ("compare dialect-changed/old.yaml dialect-changed/new-merganser.yaml", 0, "1 cut off"),
        ("compare dialect-changed/old.yaml dialect-changed/new-quillon.yaml", 0, "1 cut off"),
        ("compare dialect-changed/old-nodns.yaml dialect-changed/new-nodns.yaml", 0, "1 cut off"),
        ("check ignored-binding/plan.yaml ignored-binding/run", 1, "1 error in 1 network"),
        ("rehearse ignored-binding/run", 1, "(binding-placement)"),
        ("check none-on-purpose/w", 0, "2 warnings, 1 piece of advice"),
        ("check none-on-purpose/defaults.yaml", 0, "No findings"),
        ("rehearse none-on-purpose/defaults.yaml --trace crew", 0,
         "mask 255.255.255.0, gateway 10.84.30.1, lease time 1d)"),
        ("rehearse relayed-without-pool/running", 1, "dhcp has no pool"),
        ("write pair/pair2.yaml -o {out}/w", 0, "Each file was read back and matches the plan"),
        ("check pair/pair2.yaml", 0, "No findings in 1 network on 3 devices; 220 assignable"),
        ("check pair/written-from-pair2", 1, "in 1 network on 3 devices; 220 assignable"),
        ("rehearse pair/pair2.yaml", 0, "1 network rehearsed, no client failed"),
        ("rehearse pair/written-from-pair2", 1, "two machines, one address (pools-overlap)"),
        ("compare pair/split4.yaml pair/pair.yaml", 0, "→ the pair of dhcp1 and dhcp2"),
        ("rehearse bound-in-two/same-mac-bound-in-two-networks-rehearse-blames.yaml", 0,
         "no client failed"),
        ("adopt adopt/l.csv --into adopt/p.yaml --now 1005000", 0, "{name: present-holder,"),
        ("adopt adopt/l2.csv --into adopt/p.yaml --now 1005000", 0, "bound to 10.1.1.12 already"),
        ("adopt adopt/l3.csv --into adopt/p.yaml --now 1005000", 0, "53:0f, address: 10.1.1.24}"),
        ("adopt adopt/l3.csv --into adopt/p.yaml --now 1005000 --client d --address from "
         "10.1.1.24-10.1.1.27", 0, "53:12, address: 10.1.1.25}"),
        ("adopt adopt/l4.csv --into adopt/pm.yaml --now 1005000", 0, "bound to 10.1.1.13 already"),
        ("mend mend/mend-renumbers-point-to-point-link.yaml", 0, "Nothing to mend"),
        ("mend mend/plan.yaml --fix gateway-in-pool", 0, "10.84.30.2-10.84.30.99"),
        ("new --from tables/new-from-table-header-only.csv --device pier", 2, "and no network"),
        ("new --from tables/new-from-cr-only-line-ends-with-a-bad-cell.csv --device pier", 2,
         ":2:8: subnet: '10.84.25.o' is not an IPv4 address"),
        ("size figures/figure-mathtext-crash.yaml --figure {out}/day.png", 0, "Wrote"),
        ("map figures/figure-mathtext-crash.yaml --figure {out}/map.svg", 0, "Wrote"),
        ("report figures/figure-mathtext-plan-name.yaml --out {out}/plan.html", 0, "Wrote"),
    ],
)  # fmt: skip
def test_what_was_answered_wrong(call: str, code: int, said: str, run: Run, tmp_path: Path) -> None:
    """The answer is there, with the exit status that goes with it."""
    (tmp_path / "cases").symlink_to(CASES)
    words = call.format(out=tmp_path).split()
    places = [f"cases/{word}" if "/" in word and word[0] != "/" and word[0].isalpha() else word
              for word in words]  # fmt: skip
    ended = run(*places)
    assert said in " ".join((ended.out + ended.err).split())
    assert ended.code == code
