"""What a device can be told of its pair, and what it can't."""

from __future__ import annotations

from reservoir.core.pairing import Pairing, pairing_of
from reservoir.core.pools import Pool, Pools
from reservoir.dialects.behaviour.device import Behaviour


def fitted_pairing(pool: Pool, pools: Pools, behaviour: Behaviour) -> Pairing | None:
    """The pair of a pool's server as the device can be told of it; None if it can't, or has none.

    Args:
        pool: The pool.
        pools: All pools of its plan.
        behaviour: How its server behaves.
    """
    pairing = pairing_of(pool, pools.topology)
    if pairing is None or why_not_paired(pool, pools, behaviour):
        return None
    if pairing.after is not None and not behaviour.sheet.mentions("pool", "after"):
        return pairing._replace(after=None)
    return pairing


def why_not_paired(pool: Pool, pools: Pools, behaviour: Behaviour) -> str:
    """Why the server of a pool can't be in the pair that the plan wants; empty if it can."""
    serving = pool.serving
    if serving is None or not serving.is_paired:
        return ""
    family = behaviour.sheet.name
    if not behaviour.pairs:
        return f"{family} has no line for it"
    partner = pools.plan.devices.get(serving.partner or "")
    if partner is not None and partner.dialect is not None and partner.dialect != family:
        return f"it is a {family}, and {serving.partner} a {partner.dialect}"
    if pairing_of(pool, pools.topology) is None:
        return f"{serving.partner} has no address"
    return ""
