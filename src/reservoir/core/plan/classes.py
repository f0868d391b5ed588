"""Kinds of client, as plans write them: who is in a class, and what its members get."""

from __future__ import annotations

from pydantic import model_validator

from reservoir.core.plan.demand import Demand
from reservoir.core.plan.offering import OwnOffer
from reservoir.core.plan.part import Part
from reservoir.core.plan.scalars import (
    ArchitectureText,
    ListOf,
    MacBeginningText,
    SpanText,
    WildcardText,
)
from reservoir.core.values.addresses import MalformedValueError
from reservoir.core.values.client_classes import ClassWords


class Agent(Part):
    """What a relay adds to its clients' requests (RFC 3046)."""

    circuit: WildcardText | None = None
    """Where they came in."""
    remote: WildcardText | None = None
    """Who is at the other end."""


class ClientClass(Part):
    """Clients that are known by what they say of themselves; they match every word given."""

    vendor_class: WildcardText | None = None
    """What they say of their maker (option 60)."""
    user_class: WildcardText | None = None
    """What they say of their use (option 77)."""
    architecture: ListOf[ArchitectureText] | None = None
    """Numbers of architectures, of which they say one when they boot (option 93)."""
    mac: MacBeginningText | None = None
    """What their MAC addresses begin with."""
    agent: Agent | None = None

    @property
    def words(self) -> ClassWords:
        """The same as one value."""
        agent = self.agent or Agent()
        numbers = frozenset(self.architecture) if self.architecture is not None else None
        texts = self.vendor_class, self.user_class
        return ClassWords(*texts, numbers, self.mac, agent.circuit, agent.remote)

    @model_validator(mode="after")
    def _says_something(self) -> ClientClass:
        if not self.words.said:
            raise MalformedValueError(
                "a class is known by vendor_class, user_class, architecture, mac or agent"
            )
        return self


class _OwnRanges(Part):
    """Where the members of a class get their addresses."""

    ranges: ListOf[SpanText] = ()
    """Their own: no other clients get an address there, and they get none elsewhere."""


class ClassAnswers(OwnOffer, _OwnRanges):
    """What members of a class get otherwise than the other clients of a network."""

    demand: Demand | None = None
    """How many members are expected; the network's own demand is of all others."""

    @model_validator(mode="after")
    def _has_its_own(self) -> ClassAnswers:
        if self.demand is not None and not self.ranges:
            raise MalformedValueError(
                "a class without ranges shares those of all others: count its members in the "
                "network's demand"
            )
        return self
