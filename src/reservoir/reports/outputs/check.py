"""The JSON of `check`: findings."""

from __future__ import annotations

from typing import NotRequired

from typing_extensions import TypedDict

from reservoir.reports.frame import Frame, described


@described
class WitnessObject(TypedDict, total=False):
    """The smallest case that shows a finding; only the fields that matter in it."""

    kind: str
    """What happens."""
    network: str
    address: str
    client: str
    """A MAC address or client identifier."""
    name: str
    count: int
    """Which of the network's clients it is, from 1."""
    also: str
    """Who or what else has a part in it."""
    because: str
    """Why that is wrong."""
    option: str
    value: str
    expected: str
    servers: list[str]
    """The devices that answer."""


@described
class ProofObject(TypedDict):
    """What came of replaying a witness."""

    shown: bool
    text: str


@described
class SuggestionObject(TypedDict):
    """An edit to the plan that fixes a finding."""

    path: str
    old: str | None
    """None where something is added."""
    new: str | None
    """None where something is removed."""
    tried: bool
    """Whether it was tried: it removes the finding and adds no error."""
    removes: NotRequired[list[str]]
    """Where configuration was read: the lines that have to go."""
    adds: NotRequired[list[str]]
    """The lines that have to come."""


@described
class CauseObject(TypedDict):
    """The finding that another follows from."""

    rule: str
    at: str


@described
class FindingObject(TypedDict):
    """One finding."""

    rule: str
    family: str
    severity: str
    """``error``, ``warning`` or ``advice``."""
    message: str
    at: str
    """Its place in the plan."""
    file: str
    line: int
    column: int
    witness: WitnessObject | None
    proof: ProofObject | None
    """With ``--prove``; None where the finding follows from another."""
    suggestions: list[SuggestionObject]
    cause: CauseObject | None
    accepted: str | None
    """Why it is accepted."""


@described
class CheckSummary(TypedDict):
    """Counts of what was found, and the size of what was checked."""

    errors: int
    warnings: int
    advice: int
    accepted: int
    networks: int
    devices: int
    assignable: int


@described
class KnownObject(TypedDict):
    """A finding of another day."""

    rule: str
    severity: str
    at: str
    message: str


@described
class BaselineObject(TypedDict):
    """What came of holding the findings to those of another day."""

    file: str
    known: int
    """Findings that were there then; they are accepted."""
    gone: list[KnownObject]
    """Those that aren't there any more; none, where only a part was checked."""


@described
class Output(Frame):
    """What ``reservoir check --format json`` prints."""

    findings: list[FindingObject]
    baseline: BaselineObject | None
    """With ``--baseline``."""
    summary: CheckSummary
