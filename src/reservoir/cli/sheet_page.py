"""The tables of the sheet language, made of the code: ``python -m reservoir.cli.sheet_page``."""

from __future__ import annotations

from collections.abc import Iterable, Iterator

from reservoir.core.plan.offered import OFFERED
from reservoir.core.values.options import KINDS as OPTION_TYPES
from reservoir.core.values.options import MEANINGS
from reservoir.dialects.facts.kinds import KINDS, Field
from reservoir.dialects.sheet.traits import LIMITS, TRAITS, Trait

TYPES = {
    "ip": "an IPv4 address",
    "ips": "IPv4 addresses, apart as `list` says",
    "prefix": "address and length: `{x}`, or in parts `{x:ip}` with `{x:mask}`, `{x:bits}`, "
    "`{x:inverted}`",
    "prefixes": "several of these",
    "text": "a text, quoted as `quote` says; `{x:rest}` goes to the end of the line",
    "texts": "several of these",
    "vlan": "a VLAN tag from 1 to 4094",
    "number": "a number",
    "code": "the number of an option, 1 to 254",
    "bytes": "bytes in hexadecimal, or by a `form`",
    "identifier": "a client identifier in hexadecimal, or by a `form`",
    "mac": "a MAC address as `mac` says, or by a `form`",
    "duration": "a lease time as `duration` says",
    "bool": "the two words of `bool`",
}
"""What stands in a slot, by the type of its field."""


def page() -> str:
    """The page, in Markdown."""
    return "\n".join(_lines()) + "\n"


def _lines() -> Iterator[str]:
    yield from (
        "# Tables of the sheet language",
        "",
        "Made of the code by `make manual`; [the guide](sheets.md) tells how they are used.",
        "",
        "## Kinds and fields",
    )
    for name, kind in KINDS.items():
        inside = " or a ".join(kind.inside) or "nothing: it is the whole"
        yield from ("", f"**`{name}`** stands in a {inside}." if kind.inside else f"**`{name}`**.")
        fields = ((f"`{field}`", its.type, _remarks(name, field, its)) for field, its in
                  kind.fields.items())  # fmt: skip
        yield from ("", *_table(("field", "type", ""), fields))
    yield from ("", "## Types", "")
    yield from _table(("type", "in a slot"), ((f"`{t}`", text) for t, text in TYPES.items()))
    yield from ("", "## Types of options", "")
    yield from _table(("type", "value"), ((f"`{name}`", MEANINGS[name]) for name in OPTION_TYPES))
    yield from ("", "## Traits", "")
    yield from _table(("trait", "values", "needs"), map(_trait, TRAITS, TRAITS.values()))
    yield from ("", "## Limits", "")
    yield from _table(("limit", "counts"), ((f"`{name}`", text) for name, text in LIMITS.items()))


def _remarks(kind: str, name: str, field: Field) -> str:
    remarks = []
    if field.is_identity:
        remarks.append("tells it from others")
    if field.is_optional:
        remarks.append("a plan may lack it")
    if field.is_kept:
        remarks.append("no plan has it; it stays as it is")
    if field.restates:
        remarks.append(f"restates {field.restates}")
    if kind == "pool" and name in OFFERED:
        remarks.append("offered to clients")
    return "; ".join(remarks)


def _trait(name: str, trait: Trait) -> tuple[str, str, str]:
    meanings = [
        f"`{value}`{' (unless it is said)' if value == trait.default else ''}: {meaning}"
        for value, meaning in trait.values.items()
    ]
    needs = [
        f"`{value}`: {' and '.join(f'`{need}`' for need in rows)}"
        for value, rows in trait.needs.items()
    ]
    values = "<br>".join(meanings) or f"a lease time; `{trait.default}` unless it is said"
    return f"`{name}`<br>{trait.sentence}", values, "<br>".join(needs)


def _table(head: tuple[str, ...], rows: Iterable[tuple[str, ...]]) -> Iterator[str]:
    yield f"| {' | '.join(head)} |"
    yield f"|{'---|' * len(head)}"
    for row in rows:
        yield f"| {' | '.join(cell.replace('|', chr(92) + '|') for cell in row)} |"


if __name__ == "__main__":
    print(page(), end="")
