"""New networks from Python: suggestions for what isn't known, one network after the other."""

from __future__ import annotations

from reservoir.core.behaviour import DeviceBehaviour
from reservoir.core.drafting.drafting import Drafting
from reservoir.core.plan import model
from reservoir.core.space import Space
from reservoir.core.subject import Subject
from reservoir.core.values.addresses import Prefix
from reservoir.dialects.behaviour.device import Behaviour
from reservoir.dialects.sheet.library import Library, beside


def drafting(
    subject: Subject | None = None,
    *,
    block: Prefix | None = None,
    tags: tuple[int, int] | None = None,
    space: Space | None = None,
) -> Drafting:
    """Begin to draft networks, for a plan or for a new one.

    Args:
        subject: The plan that they are for; a new one if None.
        block: Where free subnets are looked for; in the blocks of the plan if None.
        tags: The lowest and the highest VLAN tag to choose from; all if None.
        space: The plan's address space, where it is known already.
    """
    library = beside(subject.files[0]) if subject is not None else Library()

    def behaviour_of(dialect: str | None) -> DeviceBehaviour | None:
        return Behaviour(library.sheet(dialect)) if dialect in library.names else None

    plan = subject.plan if subject is not None else model.Plan()
    return Drafting(plan, behaviour_of, library.names, block, tags, plan.checks.headroom, space)
