"""What a sheet says of itself that doesn't fit together: found when it is loaded or tried."""

from __future__ import annotations

from collections.abc import Iterator

from reservoir.dialects.facts.kinds import KINDS
from reservoir.dialects.sheet.model import Row, Sheet, every_row, kind_of, written_rows
from reservoir.dialects.sheet.traits import TRAITS


def needed_rows(sheet: Sheet, trait: str) -> Iterator[str]:
    """What a trait's value needs and the body doesn't have, each as words for a message."""
    for need in TRAITS[trait].needs.get(sheet.trait(trait), ()):
        ways = need.split(" or ")
        if not any(_has(sheet, way) for way in ways):
            yield " or ".join(map(_in_words, ways))


def contradictions(sheet: Sheet) -> Iterator[tuple[Row, str]]:
    """Rows that mean nothing with a trait's value, each with what they need."""
    for name, trait in TRAITS.items():
        for states, values in trait.only_with.items():
            if sheet.trait(name) in values:
                continue
            row = next((row for row in every_row(sheet.rows) if _states(row, states)), None)
            if row is not None:
                needed = f"trait {name} {' or '.join(values)}"
                what = _in_words(states.removesuffix("=yes"))
                yield row, f"{what} needs {needed}; here it is {sheet.trait(name)}"


def limits_of(rows: list[Row]) -> dict[str, int]:
    """The limits that rows themselves are: where there is a place for one range, there is one."""
    ranges = [row.repeat for row in every_row(rows) if row.kind == "range"]
    ranges += ["?" for row in every_row(rows) if "range" in row.pattern.inner_kinds]
    return {"pool.range": 1} if ranges and "*" not in ranges else {}


def half_options(sheet: Sheet) -> Iterator[tuple[Row, str]]:
    """Rows of options of which a plan can't hold what they state."""
    for row in every_row(sheet.rows):
        if row.kind != "option":
            continue
        states = row.mentioned.union(*(i.mentioned for i in every_row(row.children) if not i.kind))
        if "code" not in states or not ("data" in states or {"type", "value"} <= states):
            yield row, "an option needs {code}, and {type} and {value}, or {data}"


def empty_links(sheet: Sheet) -> Iterator[tuple[Row, str]]:
    """Rows that name the fact that they belong to and say nothing of it."""
    for row in every_row(sheet.rows):
        states = row.mentioned - set(row.links) or row.children or row.conditions
        if row.links and row.adds_fields and not states:
            kind = row.links[0].partition(".")[0]
            yield row, f"this row names the {kind} that it belongs to, and says nothing of it"


def _states(row: Row, what: str) -> bool:
    """Whether a row is of a kind in another, or says of a field more than no."""
    kind, dot, name = what.removesuffix("=yes").partition(".")
    if dot:
        in_slot = any(slot.field == name for slot in row.pattern.slots)
        return kind_of(row) == kind and (in_slot or row.conditions.get(name) is True)
    kind, _, owner = what.partition(" in ")
    return row.kind == kind and (kind_of(row.owner) if row.owner else "device") == owner


def _has(sheet: Sheet, need: str) -> bool:
    kind, dot, name = need.partition(".")
    if dot:
        return sheet.mentions(kind, name)
    kind, _, owner = need.partition(" in ")
    return sheet.stands_in(kind, owner) if owner else kind in sheet.homes


def _in_words(need: str) -> str:
    kind, dot, name = need.partition(".")
    if dot:
        return f"a row that states {name} of a fact of kind {kind}"
    kind, _, owner = need.partition(" in ")
    return f"a row of kind {kind}" + (f" in one of kind {owner}" if owner else "")


def too_strict(sheet: Sheet) -> Iterator[tuple[Row, str]]:
    """Rows that must be there although a sound plan may lack what they state."""
    for row in written_rows(sheet.rows):
        kind = kind_of(row)
        if _is_optional(row) or _has_alternative(sheet, row):
            continue
        optional = {name for name, field in KINDS[kind].fields.items() if field.is_optional}
        for name in sorted(row.pattern.required_fields & optional):
            if sheet.traits.get(f"blank-{name}") != "refused":
                remedy = "put ? into its margin" if row.adds_fields else "put it into [? …]"
                yield (
                    row,
                    f"a plan's {kind} may have no {name}, but this row requires one: {remedy}",
                )


def _is_optional(row: Row | None) -> bool:
    """Whether it, or a row that it is in, adds fields only where they are."""
    while row is not None and row.adds_fields:
        if row.repeat:
            return True
        row = row.owner
    return False


def _has_alternative(sheet: Sheet, row: Row) -> bool:
    """Whether another row says the same kind of fact with fewer fields."""
    groups = row.owner.groups if row.owner is not None else sheet.groups
    alike = next((rows for _, rows in groups if row in rows), [row])
    return bool(row.kind) and any(other.required < row.required for other in alike)
