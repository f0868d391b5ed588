"""The texts of change scripts, and of the way back."""

from __future__ import annotations

from collections.abc import Iterator, Mapping, Sequence

from reservoir.core.values.durations import format_duration
from reservoir.core.wording import counted, listed
from reservoir.dialects.scripting.ordering import ScriptLine
from reservoir.dialects.scripting.script import DeviceScript, Stage


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
    meanwhile = list(gaps(lines))
    where = ", but for what is said here" if meanwhile else ""
    yield f"{counted(len(lines), 'statement')} for {device}; it is safe to stop after each{where}"
    yield from meanwhile


def _undo_head(device: str, lines: Sequence[ScriptLine]) -> Iterator[str]:
    yield f"the way back for {device}: begin with the number of the last statement that was given"


def gaps(lines: Sequence[ScriptLine]) -> Iterator[str]:
    """What is otherwise for a while than on both sides, and from when to when."""
    yield from _periods([line.unserved for line in lines], "not served")
    yield from _periods([line.held_back for line in lines], "excluded")
    wrong = [
        [f"{rule} of {network}" if network else rule for rule, network in line.wrong]
        for line in lines
    ]
    yield from _periods(wrong, "an error")


def _periods(lists: Sequence[Sequence[str]], state: str) -> Iterator[str]:
    """When each of some names is in the lists, one after each statement."""
    since: dict[str, int] = {}
    for number, names in enumerate(lists, start=1):
        for name in names:
            since.setdefault(name, number)
        for name in [name for name in since if name not in names]:
            yield f"{name} is {state} from statement {since.pop(name)} until {number}"
    for name, number in since.items():
        yield f"{name} is {state} from statement {number} on"


def _text(head: Sequence[str], lines: Sequence[tuple[int, str]], comment: str) -> str:
    parts = [f"{comment} {line}\n" for line in head if comment]
    for number, text in lines:
        parts += [f"\n{comment} {number}\n" if comment else "", text]
    return "".join(parts)


STEPS = "steps.txt"
"""The file that tells the steps of a change of several devices."""


def folder_of(stages: Sequence[Stage], number: int) -> str:
    """The folder of a stage's scripts, below that of all; empty if there is one stage."""
    return f"step-{number + 1}" if len(stages) > 1 else ""


def steps_text(stages: Sequence[Stage]) -> str:
    """What is done in each step, with which scripts, and what is waited for."""
    lines: list[str] = []
    for number, stage in enumerate(stages):
        folder = folder_of(stages, number)
        if folder:
            lines.append(f"Step {number + 1}")
        lines += [f"  {sentence}" for sentence in stage.what]
        indent = "  " if folder else ""
        for made in stage.scripts:
            lines += [f"{indent}{line}" for line in _told(made, folder)]
        if stage.until and number + 1 < len(stages):
            after = f" {format_duration(stage.wait)}" if stage.wait else ""
            lines.append(f"  Then wait{after}: {stage.until}.")
    if len(stages) > 1:
        lines.append(
            "The way back: the undo files of each step that was done, the last step first."
        )
    return "".join(f"{line}\n" for line in lines)


def _told(made: DeviceScript, folder: str) -> Iterator[str]:
    """A device's script: its files, and when a network isn't served."""
    files = ["/".join(filter(None, (folder, name))) for name in texts(made)]
    if made.script is None:
        yield f"{made.device}: {listed(files)}, each the whole file"
        return
    count = counted(len(made.script.lines), "statement")
    yield f"{made.device}: {count} in {files[0]}, the way back in {files[1]}"
    yield from (f"  {gap}" for gap in gaps(made.script.lines))
