"""The schema's errors for people: found, expected, and the nearest right word."""

from __future__ import annotations

from collections.abc import Iterator, Mapping

from pydantic import ValidationError
from pydantic_core import ErrorDetails

from reservoir.core.plan.demand import Demand
from reservoir.core.plan.model import PlanPath
from reservoir.core.plan.scalars import shape_of
from reservoir.core.wording import hint
from reservoir.files.plan_schema import expected_at

_UNION_TAGS = ("(word)", "(list)", "(arrival)", "(table)")
"""In brackets, so that no key of a plan can be taken for one."""


def described_errors(error: ValidationError) -> Iterator[tuple[PlanPath, str, bool]]:
    """Each error's path in the file, its message, and whether it is about the path's key."""
    for details in error.errors(include_url=False):
        path = tuple(step for step in details["loc"] if step not in _UNION_TAGS)
        if details["type"] == "options":
            for key, message in details["ctx"]["problems"]:
                yield (*path, key), message, True
        elif details.get("input", "") is not None:  # the YAML reader has reported missing values
            yield path, _message(details, path), details["type"] == "extra_forbidden"


def demand_of(data: Mapping[str, object]) -> tuple[Demand | None, list[str]]:
    """A demand, or what is wrong with it."""
    try:
        return Demand.model_validate(data), []
    except ValidationError as error:
        return None, [message for _, message, _ in described_errors(error)]


def _message(details: ErrorDetails, path: PlanPath) -> str:
    kind = details["type"]
    name = str(path[-1]) if path else "the plan"
    if kind == "value_error":
        return str(details["ctx"]["error"])
    if kind == "extra_forbidden":
        return _unknown_key(name, path[:-1])
    if kind == "missing":
        begins = "; a plan begins with: reservoir: 1" if path == ("reservoir",) else ""
        return f"{name} is missing{begins}"
    return f"{name} is {shape_of(details.get('input'))}; it should be {_expected(details)}"


def _expected(details: ErrorDetails) -> str:
    context = details.get("ctx", {})
    if "ge" in context:
        return f"at least {context['ge']:,}"
    if "le" in context:
        return f"at most {context['le']:,}"
    return str(context.get("expected") or _EXPECTED.get(details["type"], details["msg"]))


_EXPECTED = {
    "int_parsing": "a whole number",
    "int_type": "a whole number",
    "bool_parsing": "yes or no",
    "bool_type": "yes or no",
    "model_type": "a block of keys",
    "model_attributes_type": "a block of keys",
    "mapping_type": "a block of keys",
    "dict_type": "a block of keys",
    "tuple_type": "a list",
    "string_type": "a text",
}


def _unknown_key(key: str, parent: PlanPath) -> str:
    known = list(expected_at(parent).keys)
    return f"{key!r} is not a known key here{hint(key, known) or _listed(known)}"


def _listed(keys: list[str]) -> str:
    return f"; there are {', '.join(keys)}" if keys else ""
