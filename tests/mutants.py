"""Changes the core in one place at a time, and tries whether the tests that belong there notice it.

    python tests/mutants.py                  a sample of each part: 20 minutes on two processors
    python tests/mutants.py --sample 0       all of them, which takes a night
    python tests/mutants.py routing hearing  some parts

Each worker changes a copy of the project. What a change leaves as it was is listed with its reason
in ``equal_mutants.yaml``, and not counted. Exit status 1 if fewer than ``GOAL`` are noticed.
"""

from __future__ import annotations

import argparse
import ast
import os
import random
import shutil
import subprocess
import sys
import tempfile
from collections.abc import Iterator, Sequence
from concurrent.futures import ThreadPoolExecutor
from functools import cache
from pathlib import Path
from queue import Queue
from typing import NamedTuple

import yaml
from cosmic_ray.commands import init
from cosmic_ray.work_db import WorkDB, use_db
from cosmic_ray.work_item import MutationSpec

ROOT = Path(__file__).resolve().parents[1]
CORE = Path("src/reservoir/core")
GOAL = 0.9
PATIENCE = 240
"""Seconds after which a change is noticed: by whoever waits."""

PARTS = {
    "values": ("values", "values address_set columns"),
    "plan": ("plan", "scalars values pools same_plan damaged_plans files"),
    "pools": ("pools.py", "pools space checks_oracle"),
    "topology": ("topology.py", "topology path_rules sound_plans"),
    "routing": ("routing.py", "routing sound_plans path_rules"),
    "hearing": ("hearing.py", "hearing topology routing sound_plans rehearsal compare_command"),
    "causes": ("checks/causes.py", "causes one_mistake sound_plans"),
    "compare": ("compare", "compare compare_command moves"),
    "leases": ("leases", "leases"),
    "sizing": ("sizing", "sizing same_demand size_command"),
}
"""Parts of the core, and the tests that belong to each, the quickest first."""

OPERATORS = {
    *(f"ReplaceComparisonOperator_{pair}" for pair in (
        "Lt_LtE", "LtE_Lt", "Gt_GtE", "GtE_Gt", "Eq_NotEq", "NotEq_Eq", "Is_IsNot", "IsNot_Is")),
    *(f"ReplaceBinaryOperator_{pair}" for pair in (
        "Add_Sub", "Sub_Add", "Mul_Add", "Div_Mul", "FloorDiv_Mul", "Mod_Add", "BitAnd_BitOr",
        "BitOr_BitAnd", "BitXor_BitOr", "LShift_RShift", "RShift_LShift")),
    "ReplaceUnaryOperator_Delete_Not", "AddNot", "ReplaceAndWithOr", "ReplaceOrWithAnd",
    "ReplaceTrueWithFalse", "ReplaceFalseWithTrue", "ReplaceBreakWithContinue",
    "ReplaceContinueWithBreak", "NumberReplacer", "ZeroIterationForLoop",
}  # fmt: skip
"""Slips that a hand makes, of all that the tool knows."""


class Mutant(NamedTuple):
    """One change."""

    part: str
    spec: MutationSpec

    def __str__(self) -> str:
        row, column = self.spec.start_pos
        name = self.spec.operator_name.removeprefix("core/")
        return f"{self.spec.module_path}:{row}:{column + 1} {name} {self.spec.occurrence}"


def mutants(part: str) -> Iterator[Mutant]:
    """The changes that can be made to a part, annotations aside."""
    where = CORE / PARTS[part][0]
    files = [where] if where.suffix else sorted((ROOT / where).rglob("*.py"))
    modules = [file.relative_to(ROOT) if file.is_absolute() else file for file in files]
    with tempfile.TemporaryDirectory() as folder, use_db(f"{folder}/db", WorkDB.Mode.create) as db:
        init(modules, db, {})
        for item in db.work_items:
            (spec,) = item.mutations
            if spec.operator_name.removeprefix("core/") not in OPERATORS:
                continue
            if not any(first <= spec.start_pos < last for first, last in notes(spec.module_path)):
                yield Mutant(part, spec)


@cache
def notes(module: Path) -> Sequence[tuple[tuple[int, int], tuple[int, int]]]:
    """From where to where annotations stand: nothing runs them."""
    found: list[ast.expr | None] = []
    for node in ast.walk(ast.parse((ROOT / module).read_text())):
        found += [getattr(node, "annotation", None), getattr(node, "returns", None)]
    return [
        ((node.lineno, node.col_offset), (node.end_lineno or 0, node.end_col_offset or 0))
        for node in found
        if isinstance(node, ast.expr)
    ]


def copied(folder: Path) -> Path:
    """A copy of the project that may be changed."""
    for part in ("src", "tests", "docs", "bench"):
        shutil.copytree(ROOT / part, folder / part, ignore=shutil.ignore_patterns("__pycache__"))
    for file in ("pyproject.toml", "README.md", "CONTRIBUTING.md", "Makefile"):
        shutil.copy(ROOT / file, folder / file)
    return folder


TRY = """
import sys
from pathlib import Path
from cosmic_ray.mutating import mutate_and_test
from cosmic_ray.work_item import MutationSpec
module, operator, occurrence, command, patience = sys.argv[1:]
spec = MutationSpec(Path(module), operator, int(occurrence), (1, 0), (1, 1))
result = mutate_and_test([spec], command, float(patience))
print(result.test_outcome.value if result.test_outcome else result.worker_outcome.value)
print(result.diff or result.output)
"""


def tried(mutant: Mutant, folder: Path) -> tuple[bool, str]:
    """Whether the tests of its part notice a change, and the change as a difference."""
    tests = " ".join(f"tests/test_{name}.py" for name in PARTS[mutant.part][1].split())
    command = f"{sys.executable} -m pytest -x -q -p no:cacheprovider -m fast {tests}"
    spec = mutant.spec
    words = [
        str(spec.module_path),
        spec.operator_name,
        str(spec.occurrence),
        command,
        str(PATIENCE),
    ]
    ended = subprocess.run(
        [sys.executable, "-c", TRY, *words],
        cwd=folder,
        env={**os.environ, "PYTHONPATH": str(folder / "src"), "PYTHONDONTWRITEBYTECODE": "1"},
        capture_output=True,
        text=True,
        check=False,
    )
    outcome, _, change = ended.stdout.partition("\n")
    if outcome not in ("killed", "survived"):
        raise RuntimeError(f"{mutant} could not be tried: {ended.stdout}{ended.stderr}")
    lines = [
        line for line in change.splitlines() if line[:1] in "+-" and line[:3] not in ("+++", "---")
    ]
    return outcome != "survived", "\n".join(lines)


def require_sound(parts: Sequence[str], folder: Path) -> None:
    """Require that the tests pass in an unchanged copy: else they would notice everything."""
    names = dict.fromkeys(name for part in parts for name in PARTS[part][1].split())
    tests = [f"tests/test_{name}.py" for name in names]
    command = [sys.executable, "-m", "pytest", "-q", "-n", "auto", "-m", "fast", *tests]
    environment = {**os.environ, "PYTHONPATH": str(folder / "src")}
    tried = subprocess.run(
        command, cwd=folder, env=environment, capture_output=True, text=True, check=False
    )
    if tried.returncode:
        sys.exit(f"The tests fail without a change:\n{tried.stdout}{tried.stderr}")


def equal() -> set[tuple[str, str]]:
    """What is known to change nothing: the file, and the difference."""
    listed = yaml.safe_load((ROOT / "tests/equal_mutants.yaml").read_text()) or []
    return {(each["file"], each["change"].strip()) for each in listed}


def main() -> None:
    """Try the changes, and say which were noticed."""
    asked = argparse.ArgumentParser(description=__doc__)
    asked.add_argument("parts", nargs="*", choices=[[], *PARTS], help="parts of the core")
    asked.add_argument("--sample", type=int, default=25, help="changes of each part; 0 is all")
    asked.add_argument("--seed", type=int, default=1, help="which sample")
    asked.add_argument("--workers", type=int, default=os.cpu_count(), help="changes at once")
    options = asked.parse_args()
    os.chdir(ROOT)
    chosen: list[Mutant] = []
    for part in options.parts or PARTS:
        every = list(mutants(part))
        count = min(options.sample or len(every), len(every))
        chosen += random.Random(options.seed).sample(every, count)  # noqa: S311 - no secret
    known, survivors = equal(), list[Mutant]()
    counts = {mutant.part: [0, 0] for mutant in chosen}
    with tempfile.TemporaryDirectory() as scratch, ThreadPoolExecutor(options.workers) as pool:
        folders: Queue[Path] = Queue()
        for number in range(options.workers):
            folders.put(copied(Path(scratch) / str(number)))
        require_sound(options.parts or [*PARTS], Path(scratch) / "0")

        def attempt(mutant: Mutant) -> tuple[Mutant, bool, str]:
            folder = folders.get()
            try:
                return mutant, *tried(mutant, folder)
            finally:
                folders.put(folder)

        for mutant, is_noticed, change in pool.map(attempt, chosen):
            if not is_noticed and (str(mutant.spec.module_path), change.strip()) in known:
                continue
            counts[mutant.part][0] += is_noticed
            counts[mutant.part][1] += 1
            if not is_noticed:
                survivors.append(mutant)
                print(f"{mutant}\n{change}\n", flush=True)
    for part, (noticed, count) in counts.items():
        print(f"{part:<10} {noticed:>4} of {count:>4} noticed")
    noticed, count = (sum(column) for column in zip(*counts.values(), strict=True))
    print(f"together   {noticed:>4} of {count:>4} noticed, {noticed / max(count, 1):.1%}")
    sys.exit(noticed < GOAL * count)


if __name__ == "__main__":
    main()
