"""The verdict of a document: what a change board reads first, in ten seconds."""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from typing import TYPE_CHECKING

from reservoir.core.compare.notice import Notice
from reservoir.core.findings import Severity
from reservoir.core.wording import be, counted, listed_briefly
from reservoir.reports import comparison as comparisons
from reservoir.reports import sizing as sizings
from reservoir.reports.document.blocks import Subsection, Table, text

if TYPE_CHECKING:
    from reservoir.reports.document.building import Contents


def verdict(contents: Contents) -> Iterator[Subsection]:
    """Ready or not and why; who notices; what is done by hand; the way back."""
    against, beside = list(_against(contents)), list(_beside(contents))
    said, kind = "Ready.", "good"
    if against:
        said, kind = "Not ready.", "error"
    elif beside:
        said, kind = "Ready, with what is noted below.", "warning"
    rows = [
        ("Why not" if against else "Why", _sentences(against or [_checked(contents)])),
        *([("To note", _sentences(beside))] if beside else []),
        ("Who notices", _who_notices(contents)),
        ("By hand", _by_hand(contents)),
        ("The way back", _way_back(contents)),
    ]
    meanings = ["error" if against else "", *[""] * (len(rows) - 1)]
    table = Table("What to decide on", ("Question", "Answer"), rows, meanings)
    yield Subsection("", [text(said, kind), table])


def _sentences(reasons: Sequence[str]) -> str:
    joined = "; ".join(reasons)
    return f"{joined[:1].upper()}{joined[1:]}."


def _against(contents: Contents) -> Iterator[str]:
    """What speaks against it."""
    report = contents.report
    errors = [f for f in report.findings if f.severity is Severity.ERROR and f.accepted is None]
    if errors:
        rules = listed_briefly(dict.fromkeys(f.rule for f in errors if f.cause is None), most=3)
        yield f"{counted(len(errors), 'error')} in the plan ({rules})"
    failed = [each.network for each in contents.rehearsal.networks if each.failures]
    if failed:
        yield f"clients fail in the rehearsal of {listed_briefly(failed)}"
    short = [one.label for one in contents.sizing.networks if not sizings.is_enough(one.size)]
    if short:
        yield f"too few addresses in {listed_briefly(short)}"
    if not errors and not contents.configurations:
        yield "no configuration is written"
    for each in contents.verified:
        if each.found["summary"]["failed"]:
            names = [n["network"] for n in each.found["networks"] if n["seen"]["failures"]]
            yield f"real servers don't answer as planned in {listed_briefly(names)}"


def _beside(contents: Contents) -> Iterator[str]:
    """What isn't against it, and has to be known."""
    warnings = contents.report.of_severity(Severity.WARNING)
    if warnings:
        yield counted(warnings, "warning")
    if contents.report.accepted:
        yield f"{counted(contents.report.accepted, 'finding')} accepted"
    assumed = [each.network for each in contents.rehearsal.networks if each.assumed]
    if assumed:
        yield f"that {listed_briefly(assumed)} is served rests on what the plan doesn't state"
    left = list(contents.rehearsal.left_out)
    if left:
        yield f"{listed_briefly(left)} {be(len(left))} not rehearsed"
    yield from _about_the_change(contents)
    for each in contents.verified:
        if not each.is_same:
            yield f"the plan has changed since the real servers were asked ({each.file})"


def _about_the_change(contents: Contents) -> Iterator[str]:
    """What of the change hurts, and what of it isn't known."""
    comparison = contents.comparison
    if comparison is not None:
        least = Notice.NEW_ADDRESS.weight
        hurt = [each.name for each in comparison.differing if each.worst.weight >= least]
        if hurt:
            yield f"clients lose their address or their server in {listed_briefly(hurt)}"
        left = len(comparison.left_out)
        if left:
            yield f"{counted(left, 'network')} {be(left)} not compared with what runs"
        if comparison.not_understood:
            lines = counted(comparison.not_understood, "line")
            yield f"{lines} of what runs {be(comparison.not_understood)} not understood"
    if contents.leases is not None and contents.leases.checked.contradictions:
        count = len(contents.leases.checked.contradictions)
        yield f"{counted(count, 'lease')} {'contradicts' if count == 1 else 'contradict'} the plan"


def _checked(contents: Contents) -> str:
    rehearsal = contents.rehearsal
    served = sum(each.served for each in rehearsal.networks)
    tried = sum(each.clients for each in rehearsal.networks)
    written = counted(len(contents.configurations), "device")
    return (
        f"no error in {counted(contents.report.networks, 'network')}; {served:,} of {tried:,} "
        f"expected clients served in the rehearsal; {written} written and read back as planned"
    )


def _who_notices(contents: Contents) -> str:
    if contents.comparison is None:
        return "Not known: nothing that runs now was compared (--running)."
    told = " ".join(comparisons.closing(contents.comparison, contents.clients))
    if contents.clients is None and not contents.comparison.is_same:
        told += " Which clients isn't known: there was no list of leases (--leases)."
    return told


def _by_hand(contents: Contents) -> str:
    """The devices that serve and whose configuration isn't written."""
    plan = contents.subject.plan
    serving = {server for servers in contents.report.servers.values() for server in servers}
    bare = [n for n, device in plan.devices.items() if n in serving and device.dialect is None]
    others = [n for n, device in plan.devices.items() if n not in serving and not device.dialect]
    if bare:
        return f"{listed_briefly(bare)}: without a dialect, so nothing is written for it."
    if not contents.configurations:
        return "Nothing is written to deploy yet."
    told = f"Deploy what is written for {counted(len(contents.configurations), 'device')}."
    if others:
        told += (
            f" {listed_briefly(others)} without a dialect: its relays and routes are set by hand."
        )
    return told


def _way_back(contents: Contents) -> str:
    if contents.comparison is None:
        return "Not known: keep what runs now, and compare with it (--running)."
    if contents.comparison.is_same:
        return "Nothing changes."
    return (
        "Put back what runs now, as it was compared here. The statements there and back, and what "
        "to wait for in between: reservoir compare --script."
    )
