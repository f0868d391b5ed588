"""The forms that a draft's header names, told by how the sample writes each value."""

from __future__ import annotations

import re
from collections import Counter
from collections.abc import Iterator, Sequence

from reservoir.dialects.facts.kinds import KINDS
from reservoir.dialects.learning.explaining import Field
from reservoir.dialects.learning.lines import quoted
from reservoir.dialects.learning.meanings import Word

_DURATIONS = ("lease", "longest", "after", "left")

Seen = Sequence[tuple[Field, Word]]
"""The words that say each field."""


def form_words(seen: Seen, *, items_have_signs: bool) -> Iterator[str]:
    """The lines of the header that say how values are written.

    Args:
        seen: The words of the sample that say something.
        items_have_signs: Each item of a list stands in signs of the notation, which are no part of
            what is between them.
    """
    signs = Counter(word.between for _, word in seen if word.between)
    if signs:
        sign = signs.most_common(1)[0][0]
        sign = sign.strip('"') if items_have_signs else sign
        yield f"list      {quoted(sign if sign.strip() else ' ')}"
    if more := _more_bare(seen):
        yield f"bare      {quoted('A-Za-z0-9._' + more + '-')}"
    macs = [word for name, word in seen if name == "mac"]
    plain = [word for word in macs if not is_typed(word)]
    if plain:
        yield f"mac       {mac_form(plain[0].text)}"
    typed = next((word for word in macs if is_typed(word)), None)
    if typed is not None:
        yield f"form      clientid = mac {mac_form(typed.text)}"
    times = [word for name, word in seen if name in _DURATIONS and word.templates]
    if times:
        yield f"duration  {quoted(time_template(times))}"


def _more_bare(seen: Seen) -> str:
    """The characters of texts without quotation signs that have to be told."""
    texts = [w.text for n, w in seen if _is_text(n, w) and w.text[0] not in "\"'"]
    return "".join(sorted(set(re.sub("[A-Za-z0-9._ -]", "", "".join(texts)))))


def with_blanks(seen: Seen) -> frozenset[str]:
    """The fields whose texts have blanks in them and no quotation signs."""
    return frozenset(
        n for n, w in seen if _is_text(n, w) and " " in w.text and w.text[0] not in "\"'"
    )


def _is_text(name: Field, word: Word) -> bool:
    kinds = {meaning.fact.kind for meaning in word.meanings if meaning.field == name}
    return any(KINDS[kind].fields[name].type == "text" for kind in kinds) and word.text != ""


def is_typed(word: Word) -> bool:
    """Whether it is a MAC address behind its hardware type."""
    return any(meaning.part == "typed" for meaning in word.meanings)


def mac_form(text: str) -> str:
    """How a MAC address is written, in the words of a header."""
    said = text.strip("\"'")
    signs = re.sub("[0-9A-Fa-f]", "", said)
    sign = signs[:1]
    groups = said.split(sign) if sign else [said]
    before = ""
    if len("".join(groups)) > 12:
        if (len(groups[0]) == 2 and len(groups) > 1 and len(groups[1]) != 2) or len(groups) == 7:
            before, groups = f"prefix {quoted('01' + sign)} ", groups[1:]
        else:
            before = 'type "01" '
    size = max(map(len, groups))
    case = " case upper" if re.search("[A-F]", said) else ""
    return f"{before}group {size}" + (f" sep {quoted(sign)}" if sign else "") + case


def time_template(words: Sequence[Word]) -> str:
    """The template by which all of some times are written."""
    common = set(words[0].templates).intersection(*(word.templates for word in words))
    for template in words[0].templates:
        if template in common:
            return template
    every = list(dict.fromkeys(word.templates[0] for word in words))
    parts = [re.findall(r"\{\w+\}[^{]*", template) for template in every]
    if any(len(part) > 1 for part in parts) and not any(" " in template for template in every):
        # 1d12h and 30m: each unit may be left out.
        units = sorted({unit.strip() for part in parts for unit in part}, key=_size, reverse=True)
        return "".join(f"[{unit}]" for unit in units)
    every.sort(key=lambda template: _size(re.findall(r"\{\w+\}", template)[-1]), reverse=True)
    return "|".join(every)


def _size(unit: str) -> int:
    return "smhdw".index(unit.strip("{")[0])
