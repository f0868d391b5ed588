"""What becomes of single slips in sound plans: noticed or not, mended right, mended wrong, left.

Each address in the demo's plan and in two of the tests', with one slip of each kind: two digits or
two octets swapped, a digit wrong, doubled or missing. What can't be loaded is refused before.
"""

from __future__ import annotations

import random
import re
import shutil
import tempfile
from collections import Counter
from collections.abc import Iterator
from pathlib import Path

import reservoir

PLANS = Path(__file__).parent.parent / "tests/plans"
DEMO = Path(reservoir.__file__).parent / "demo/right/ferry-line.yaml"
SOUND = (DEMO, PLANS / "two-routers.yaml", PLANS / "campus.yaml")
ADDRESS = re.compile(r"(?<![\w.:])\d+\.\d+\.\d+\.\d+(?:/\d+)?")


def slips(text: str, chance: random.Random) -> Iterator[str]:
    """An address with one slip of each kind."""
    digits = [at for at, sign in enumerate(text) if sign.isdigit()]
    pairs = [at for at in range(len(text) - 1) if text[at : at + 2].isdigit()]
    unlike = [at for at in pairs if text[at] != text[at + 1]]
    if unlike:
        at = chance.choice(unlike)
        yield text[:at] + text[at + 1] + text[at] + text[at + 2 :]
    at = chance.choice(digits)
    yield text[:at] + chance.choice([d for d in "0123456789" if d != text[at]]) + text[at + 1 :]
    at = chance.choice(digits)
    yield text[:at] + text[at] + text[at:]
    if pairs:
        at = chance.choice(pairs)
        yield text[:at] + text[at + 1 :]
    dotted, slash, bits = text.partition("/")
    octets = dotted.split(".")
    at = chance.choice(range(3))
    if octets[at] != octets[at + 1]:
        octets[at], octets[at + 1] = octets[at + 1], octets[at]
        yield ".".join(octets) + slash + bits


def fate(file: Path, sound: str, typed: str, known: Counter[tuple[str, str]]) -> str:
    """What becomes of a plan with a slip."""
    file.write_text(typed)
    try:
        report = reservoir.check(reservoir.load(file))
    except reservoir.InputError:
        return "refused"
    if all((found.rule, found.message) in known for found in report):
        return "unnoticed"
    after = reservoir.mend(file).after.get(str(file), typed)
    return "mended right" if after == sound else "left" if after == typed else "mended wrong"


def main() -> None:
    """Count the fates of all slips."""
    fates = Counter[str]()
    for plan in SOUND:
        sound, chance = plan.read_text(), random.Random(plan.name)  # noqa: S311 - not a secret
        with tempfile.TemporaryDirectory() as folder:
            for beside in filter(Path.is_file, plan.parent.iterdir()):
                shutil.copy(beside, folder)
            file = Path(folder) / plan.name
            found = reservoir.check(reservoir.load(file))
            known = Counter((each.rule, each.message) for each in found)
            for place in ADDRESS.finditer(sound):
                line = sound[sound.rfind("\n", 0, place.start()) + 1 : place.start()]
                for slip in slips(place[0], chance) if not line.lstrip().startswith("#") else ():
                    typed = sound[: place.start()] + slip + sound[place.end() :]
                    fates[fate(file, sound, typed, known)] += 1
    loaded = fates.total() - fates["refused"]
    print(f"{fates.total()} slips, {fates['refused']} refused when loaded; of the others:")
    for name in ("mended right", "mended wrong", "left", "unnoticed"):
        print(f"  {name:<12} {fates[name]:4}  {fates[name] / loaded:.1%}")


if __name__ == "__main__":
    main()
