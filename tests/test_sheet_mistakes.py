"""The mistakes that people make first in a sheet: one message each, which says what to write."""

from __future__ import annotations

import pytest

from reservoir.core.problems import InputError
from reservoir.dialects.sheet.loader import load_sheet

SHEET = """\
sheet gannet
block indent 2
duration "{m} min"
list ","
trait assigns ranges
---
device        | machine {name}
interface *   | plug {name}
 ?            |   has {address}
pool *        | stock {name}
              |   of {subnet}
range *       |   give {first}..{last}
 ?            |   exit {gateway}
 ?            |   for {lease}
option *      |   extra {code} {type} {value}
binding *     | own {address} = {mac}
"""

MISTAKES = [
    ("---\n", "", "16:1: a sheet has a header, a line ---, and a body"),
    ("|   of", "|\tof", "11:1: a tab stands before this line; blanks indent a row"),
    ('"{m} min"', "{m} min", 'a lease time with blanks in it is in quotes: duration "{m} min"'),
    ('"{m} min"', '"{min} min"', "a duration has units in it, such as"),
    (
        "of {subnet}",
        "of subnet",
        "this row states nothing: a value stands in braces, like {subnet}",
    ),
    (
        " ?            |   has {address}",
        " ?            |   up",
        "name the value that it stands for",
    ),
    ("of {subnet}", "of 10.84.30.0/24", "this row states nothing: a value stands in braces"),
    ("has {address}", "has {ip}", "has no field 'ip' (did you mean {address}?)"),
    ("exit {gateway}", "exit {router}", "has no field 'router' (did you mean {gateway}?)"),
    ("{first}..{last}", "{start}..{last}", "has no field 'start' (did you mean {first}?)"),
    ("of {subnet}", "of {subnet} / {mask}", "a part of another: {subnet:ip} and {subnet:mask}"),
    ("{subnet}", "{subnet:ip} {subnet:netmask}", "no form named 'netmask' (did you mean mask?)"),
    ("pool *  ", "pools * ", "10:1: 'pools' is not a kind of fact (did you mean pool?)"),
    ("pool *  ", "* pool  ", "'pool' doesn't belong in a margin: KIND, then * or ?"),
    ("pool *  ", "Pool *  ", "'Pool' doesn't belong in a margin"),
    (" ?            |   exit", "optional      |   exit", "may be missing has ? in its margin"),
    ("assigns ranges", "assigns = ranges", "a name and a value: trait assigns ranges"),
    ("trait assigns", "assigns", "'assigns' is a trait: trait assigns VALUE"),
    ("block indent 2\n", "", "header says how one line is inside another: block indent 2"),
    ("block indent 2", "block 2", 'a block is: block indent 2, block "{" "}", or'),
    ("block indent 2", "indent 2", "'indent' is said by another word: block indent 2"),
    ("device   ", "  # remark\ndevice   ", "7:1: a remark has # in the first column"),
    ("device        |", "device        ", "7:1: a row has a '|' between what it states and how"),
    ("sheet gannet", "sheet Gannet", "a dialect's name is made of lower-case letters"),
    ("{mac}", "<mac>", "a value stands in braces: {mac}"),
    ("{mac}", "{mac", "a slot has no } at its end; a brace of the configuration itself is"),
    (" = {mac}", " {mac}{client_id}", "{client_id} directly follows another slot; put text"),
    ('list ","', "list comma", "'comma' would join items into one"),
    ('list ","', "comment", "expected the signs that begin a comment"),
    ("binding *     | own", "binding *     |   own", "needs trait bindings in-pool; here it is"),
    ("exit {gateway}", "of {subnet}", "this row and the one in line 11 both match"),
]
"""What a sheet says, what somebody wrote instead, and what that is told."""


@pytest.mark.parametrize(("was", "instead", "said"), MISTAKES)
def test_a_mistake_is_one_message(was: str, instead: str, said: str) -> None:
    """However many rows it spoils."""
    assert was in SHEET
    load_sheet(SHEET, "gannet.sheet")
    with pytest.raises(InputError) as raised:
        load_sheet(SHEET.replace(was, instead, 1), "gannet.sheet")
    (problem,) = raised.value.problems
    assert said in str(problem)


def test_one_cause_in_many_rows_is_one_message() -> None:
    """With the lines in which it is, too."""
    with pytest.raises(InputError) as raised:
        load_sheet(SHEET.replace("|", "¦"), "gannet.sheet")
    (problem,) = raised.value.problems
    assert problem.message.endswith("how it looks (so in lines 8, 9, 10 and 6 more)")
