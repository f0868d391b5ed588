"""A file that says what a table calls its columns, kept for tables that come again."""

from __future__ import annotations

from collections.abc import Sequence

from reservoir.core.problems import InputError, Problem
from reservoir.core.wording import hint
from reservoir.files.texts import read_text
from reservoir.files.yaml_tree import parse_yaml


def read_column_names(file: str, known: Sequence[str]) -> dict[str, str]:
    """The table's name of each column, by ours: YAML like ``subnet: Net``.

    Args:
        file: Its path.
        known: The columns that a table of this kind may have.

    Raises:
        InputError: the file can't be read, or with every line that names no column.
    """
    tree = parse_yaml(read_text(file), file, f"such a file has lines like {known[0]}: HEADER")
    if tree.problems:
        raise InputError(tree.problems)
    problems: list[Problem] = []
    for name, header in tree.data.items():
        if name not in known:
            message = f"{name!r} is not a column{hint(name, known)}: {', '.join(known)}"
            problems.append(Problem(tree.place((name,), at_key=True), message))
        elif not isinstance(header, str) or not header:
            message = f"{name}: expected what the table calls this column"
            problems.append(Problem(tree.place((name,)), message))
    if problems:
        raise InputError(sorted(problems))
    return dict(tree.data)
