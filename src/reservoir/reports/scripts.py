"""The texts of change scripts, and of the way back."""

from __future__ import annotations

from collections.abc import Iterator, Mapping, Sequence

from reservoir.api.scripts import DeviceScript
from reservoir.core.wording import counted, listed
from reservoir.dialects.scripting import ScriptLine


def texts(made: DeviceScript) -> Mapping[str, str]:
    """The files of a device's script, by their names."""
    name = f"{made.device}.{made.dialect}"
    if made.script is None:
        return {name: made.new, f"undo-{name}": made.old}
    lines = made.script.lines
    forward = [(number, line.text) for number, line in enumerate(lines, start=1)]
    back = [(number, "".join(lines[number - 1].undo)) for number in range(len(lines), 0, -1)]
    heads = list(_head(made.device, lines)), list(_undo_head(made.device, lines))
    return {
        name: _text(heads[0], forward, made.comment),
        f"undo-{name}": _text(heads[1], back, made.comment),
    }


def _head(device: str, lines: Sequence[ScriptLine]) -> Iterator[str]:
    yield f"{counted(len(lines), 'statement')} for {device}; it is safe to stop after each"
    yield from gaps(lines)


def _undo_head(device: str, lines: Sequence[ScriptLine]) -> Iterator[str]:
    yield f"the way back for {device}: begin with the number of the last statement that was given"


def gaps(lines: Sequence[ScriptLine]) -> Iterator[str]:
    """The networks that are not served for a while, and from when to when."""
    since: dict[str, int] = {}
    for number, line in enumerate(lines, start=1):
        for network in line.unserved:
            since.setdefault(network, number)
        for network in [name for name in since if name not in line.unserved]:
            yield f"{network} is not served from statement {since.pop(network)} until {number}"
    for network, number in since.items():
        yield f"{network} is not served from statement {number} on"


def _text(head: Sequence[str], lines: Sequence[tuple[int, str]], comment: str) -> str:
    parts = [f"{comment} {line}\n" for line in head if comment]
    for number, text in lines:
        parts += [f"\n{comment} {number}\n" if comment else "", text]
    return "".join(parts)


def told(made: DeviceScript, files: Sequence[str]) -> str:
    """A line about a device's script, for people."""
    if made.script is None:
        return f"{made.device}: {listed(files)}, each the whole file"
    count = counted(len(made.script.lines), "statement")
    return f"{made.device}: {count} in {files[0]}, the way back in {files[1]}"
