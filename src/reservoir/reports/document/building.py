"""Builds the document of a plan: what was checked and found, what will be written, who notices."""

from __future__ import annotations

from collections import Counter
from collections.abc import Iterator, Sequence
from dataclasses import dataclass
from functools import partial

from reservoir.api.sizing import Sizing
from reservoir.core.checks import Report, rules
from reservoir.core.checks.rule import families
from reservoir.core.compare.notice import Comparison
from reservoir.core.findings import Finding, Severity
from reservoir.core.plan.edits import Edit
from reservoir.core.plan.model import format_path
from reservoir.core.sizing.networks import Sized
from reservoir.core.space import KINDS, Space
from reservoir.core.subject import Subject
from reservoir.core.wording import counted
from reservoir.dialects.writing import DeviceConfiguration
from reservoir.rehearsal.judgement.result import Rehearsal
from reservoir.reports import comparison as comparisons
from reservoir.reports import leases as lease_lists
from reservoir.reports import rehearsal as rehearsals
from reservoir.reports import sizing as sizings
from reservoir.reports.comparison import Clients
from reservoir.reports.document.blocks import (
    Block,
    Code,
    Document,
    Image,
    Item,
    Listing,
    Paragraph,
    Run,
    Section,
    Subsection,
    Table,
    text,
)
from reservoir.reports.document.verdict import verdict
from reservoir.reports.document.verified import VerifiedBefore, verified
from reservoir.reports.leases import LeasesSeen
from reservoir.reports.outline import accepted, entries, sections
from reservoir.reports.summary import summary_line

MOST_DRAWN = 400
"""Networks of which a map is drawn; the table of more is all there is."""

MOST_DAYS = 12
"""Networks whose day is drawn; the first that have one."""


@dataclass(frozen=True)
class Contents:
    """What a document is about."""

    subject: Subject
    report: Report
    space: Space
    sizing: Sizing
    rehearsal: Rehearsal
    configurations: Sequence[DeviceConfiguration]
    comparison: Comparison | None
    clients: Clients | None
    """What clients with a lease notice, if there is a list of them and something to compare."""
    leases: LeasesSeen | None
    """What the list of leases says of the plan itself."""
    verified: Sequence[VerifiedBefore] = ()
    """What real servers answered when they were asked."""


def document(contents: Contents) -> Document:
    """The document, section by section."""
    made = [
        Section("findings", "Findings", list(_findings(contents))),
        Section("map", "Address space", list(_map(contents.space))),
        Section("sizes", "Sizes", list(_sizes(contents.sizing))),
        Section("rehearsal", "Rehearsal", list(_rehearsal(contents.rehearsal))),
    ]
    if contents.verified:
        made.append(Section("verified", "Verified", list(verified(contents.verified))))
    if contents.comparison is not None:
        parts = list(_comparison(contents.comparison, contents.clients))
        made.append(Section("change", "What changes, and who notices", parts))
    if contents.leases is not None:
        made.append(Section("leases", "Leases", list(_leases(contents.leases))))
    configurations = list(_configurations(contents))
    made.append(Section("configuration", "Configuration", configurations))
    summary = Section("summary", "Summary", [Subsection("", [_summary(contents)])])
    first = Section("verdict", "Verdict", list(verdict(contents)))
    title = contents.subject.plan.name or contents.subject.files[0]
    return Document(title, [first, summary, *made])


def _summary(contents: Contents) -> Table:
    report, comparison = contents.report, contents.comparison
    worst = report.worst.word if report.worst is not None else ""
    short = any(not sizings.is_enough(one.size) for one in contents.sizing.networks)
    conflicting = sum(len(one.kinds["conflicting"]) for one in contents.space.networks)
    rows = [
        ("Findings", summary_line(report), "" if worst == "advice" else worst),
        (
            "Address space",
            f"{counted(conflicting, 'address')} that two would have" if conflicting
            else "no address that two would have",
            "error" if conflicting else "",
        ),
        ("Sizes", sizings.summary(contents.sizing), "error" if short else ""),
        (
            "Rehearsal",
            rehearsals.summary(contents.rehearsal),
            "error" if contents.rehearsal.failed else "",
        ),
    ]  # fmt: skip
    rows += [("Verified", each.summary, each.meaning) for each in contents.verified]
    if comparison is not None:
        said = " ".join(comparisons.closing(comparison, contents.clients))
        rows.append(("Change", said, ""))
    if contents.leases is not None:
        rows.append(("Leases", lease_lists.closing(contents.leases.checked), ""))
    written = counted(len(contents.configurations), "device")
    said = f"{written} written" if contents.configurations else "not written"
    rows.append(("Configuration", said, "" if contents.configurations else "warning"))
    return Table(
        "What was looked at, and what came of it",
        ("What", "Result"),
        [row[:2] for row in rows],
        [row[2] for row in rows],
    )


def _findings(contents: Contents) -> Iterator[Subsection]:
    report, subject = contents.report, contents.subject
    for topic, inside in sections(entries(report)):
        items = [
            _finding(entry.finding, subject, [_finding(one, subject) for one in entry.consequences])
            for entry in inside
        ]
        yield Subsection(topic.heading(subject.plan, report), [Listing(items)])
    agreed = accepted(report)
    if agreed:
        items = [Item([Run(f.rule, "code"), Run(f": {f.message} ({f.accepted})")]) for f in agreed]
        yield Subsection("Accepted", [Listing(items)])
    if not report.findings:
        yield Subsection(
            "", [text("No findings. These families of rules were checked:"), _checked()]
        )
    yield Subsection("", [text(summary_line(report), "strong")])


def _checked() -> Table:
    """The rules that found nothing, by family."""
    by_family: dict[str, list[str]] = {family: [] for family in families()}
    for rule in rules().values():
        by_family[rule.family].append(rule.name)
    rows = [
        (family, str(len(names)), ", ".join(names)) for family, names in by_family.items() if names
    ]
    return Table("Rules that were checked", ("Family", "Rules", "Names"), rows, numbers=(1,))


def _finding(finding: Finding, subject: Subject, below: Sequence[Item] = ()) -> Item:
    word = finding.severity.word
    place = str(subject.place(finding.at))
    head = [Run(word, word), Run(" "), Run(finding.rule, "code"), Run(" "), Run(place, "code"),
            Run(f": {finding.message}")]  # fmt: skip
    lines: list[list[Run]] = []
    if finding.witness is not None:
        lines.append([Run("example: ", "strong"), Run(finding.witness.sentence)])
    label = "fix"
    for suggestion in finding.suggestions:
        untried = [] if finding.is_tried else [Run(" (not tried)")]
        lines.append([Run(f"{label}: ", "strong"), *_edit(suggestion), *untried])
        label = "or"
    if not finding.suggestions and finding.severity is not Severity.ADVICE:
        lines.append([Run("remedy: ", "strong"), Run(_remedy(finding))])
    return Item(head, lines, below)


def _remedy(finding: Finding) -> str:
    rule = rules().get(finding.rule)
    return rule.manual["remedy"].replace("`", "") if rule is not None else ""


def _edit(suggestion: Edit) -> list[Run]:
    where = [Run("at "), Run(format_path(suggestion.path), "code"), Run(" ")]
    old, new = Run(suggestion.old or "", "code"), Run(suggestion.new or "", "code")
    if suggestion.new is None:
        return [*where, Run("remove "), old]
    if suggestion.old is None:
        return [*where, Run("add "), new]
    return [*where, Run("replace "), old, Run(" with "), new]


def _map(space: Space) -> Iterator[Subsection]:
    blocks: list[Block] = []
    if 0 < len(space.networks) <= MOST_DRAWN:
        blocks.append(Image(partial(_map_drawn, space), _described(space)))
    rows = [
        (one.name, str(one.subnet), str(one.network.vlan or "-"),
         *(f"{len(one.kinds[kind]):,}" for kind in KINDS))
        for one in space.networks
    ]  # fmt: skip
    meanings = ["error" if one.kinds["conflicting"] else "" for one in space.networks]
    heads = ("Network", "Subnet", "VLAN", *(kind.capitalize() for kind in KINDS))
    numbers = range(2, len(heads))
    blocks.append(Table("Addresses by what they are for", heads, rows, meanings, numbers))
    for one in space.networks:
        if one.kinds["conflicting"]:
            spans = ", ".join(map(str, one.kinds["conflicting"].spans()))
            blocks.append(
                Paragraph([Run(one.name, "strong"), Run(f": {spans} claimed twice", "error")])
            )
    yield Subsection("", blocks)


def _described(space: Space) -> str:
    """What the map shows, for those who don't see it."""
    conflicting = [one.name for one in space.networks if one.kinds["conflicting"]]
    said = f"{counted(len(space.networks), 'network')} by address"
    return f"{said}; conflicting addresses in {', '.join(conflicting)}" if conflicting else said


def _map_drawn(space: Space) -> bytes:
    from reservoir.reports.figures.space import figure  # late: takes a second
    from reservoir.reports.figures.style import as_svg

    return as_svg(figure(space, "", (), ()))


def _day_drawn(one: Sized) -> bytes:
    from reservoir.reports.figures.sizing import figure  # late: takes a second
    from reservoir.reports.figures.style import as_svg

    return as_svg(figure(one.size, one.label, has_pool=True))


def _sizes(sizing: Sizing) -> Iterator[Subsection]:
    blocks: list[Block] = []
    if sizing.networks:
        heads = [heading.capitalize() for heading in sizings.HEADINGS]
        rows = [sizings.row(one) for one in sizing.networks]
        meanings = [sizings.meaning(one.size) for one in sizing.networks]
        numbers = range(1, len(heads))
        blocks.append(Table("Addresses needed, and what there are", heads, rows, meanings, numbers))
    left = [Item([Run(name, "strong"), Run(f": {why}")]) for name, why in sizing.left_out.items()]
    if left:
        blocks += [text("Not sized:"), Listing(left)]
    blocks.append(text(sizings.summary(sizing), "strong"))
    yield Subsection("", blocks)
    moving = [one for one in sizing.networks if one.demand.comes_and_goes]
    for one in moving[:MOST_DAYS]:
        described = f"the day of {one.label}: addresses taken, and what lease times would take"
        yield Subsection(one.label, [Image(partial(_day_drawn, one), described)])


def _rehearsal(rehearsal: Rehearsal) -> Iterator[Subsection]:
    blocks: list[Block] = []
    if rehearsal.networks:
        heads = [heading[:1].upper() + heading[1:] for heading in rehearsals.HEADINGS]
        rows = [rehearsals.row(each) for each in rehearsal.networks]
        meanings = ["error" if each.failures else "" for each in rehearsal.networks]
        caption = "What clients got from simulated devices"
        blocks.append(Table(caption, heads, rows, meanings, numbers=(2, 3)))
    for each in rehearsal.networks:
        for failure in each.failures:
            runs = [Run(each.network, "strong"), Run(f": {failure.reason}", "error")]
            lead, rule = (
                (" ", failure.rule) if failure.rule else (" perhaps from ", failure.suspect)
            )
            runs += [Run(lead), Run(rule, "code")] if rule else []
            blocks.append(Paragraph(runs))
    left = rehearsal.left_out.items()
    blocks += [text(f"{name} was not rehearsed: {why}.") for name, why in left]
    blocks.append(text(rehearsals.summary(rehearsal), "strong"))
    yield Subsection("", blocks)


def _comparison(comparison: Comparison, clients: Clients | None) -> Iterator[Subsection]:
    for heading, changes, there in comparisons.outline(comparison, clients):
        blocks: list[Block] = []
        if changes:
            rows = [comparisons.change_cells(change) for change in changes]
            meanings = [comparisons.meaning(change.notice) for change in changes]
            blocks.append(
                Table(f"Changes of {heading}", comparisons.CHANGE_HEADS, rows, meanings,
                      codes=(2, 3))
            )  # fmt: skip
        if clients is not None and there:
            rows = [comparisons.client_cells(clients.leases, each) for each in there]
            blocks.append(
                Table(f"Who notices: {heading}", comparisons.CLIENT_HEADS, rows, codes=(1,))
            )
        yield Subsection(heading, blocks)
    yield Subsection("", [text(sentence) for sentence in comparisons.closing(comparison, clients)])


def _leases(seen: LeasesSeen) -> Iterator[Subsection]:
    rows = [lease_lists.row(each) for each in seen.checked.usage]
    heads = [heading.capitalize() for heading in lease_lists.HEADINGS]
    blocks: list[Block] = [Table("Leases of each network", heads, rows, numbers=range(2, 8))]
    items = [
        Item([Run(each.severity.word, each.severity.word), Run(" "), Run(each.rule, "code"),
              Run(f" {seen.file}:{int(seen.leases.line[each.row])}: {each.message}")])
        for each in seen.checked.contradictions
    ]  # fmt: skip
    blocks += [Listing(items)] if items else []
    if unheard := lease_lists.not_listed(seen.checked):
        blocks.append(text(unheard))
    blocks.append(text(lease_lists.closing(seen.checked), "strong"))
    yield Subsection("", blocks)


def _configurations(contents: Contents) -> Iterator[Subsection]:
    if not contents.configurations:
        errors = contents.report.of_severity(Severity.ERROR)
        why = "the plan has errors" if errors else "no device has a dialect"
        yield Subsection("", [text(f"No configuration is written: {why}.", "warning")])
        return
    counts = Counter(one.device for one in contents.configurations)
    yield Subsection("", [text(
        f"{counted(len(counts), 'device')}; each text was read back and matches the plan: pools, "
        "bindings and options."
    )])  # fmt: skip
    for one in contents.configurations:
        held = f"{counted(one.pools, 'pool')}, {counted(one.bindings, 'binding')}"
        yield Subsection(f"{one.device} ({one.dialect}, {held})", [Code(one.device, one.text)])
