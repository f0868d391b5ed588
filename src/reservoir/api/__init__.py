"""The public interface, as :mod:`reservoir` offers it: what people do with plans from Python.

No function prints or changes a file. Files that can't be used raise :class:`InputError`, unknown
names of rules, devices or dialects :class:`UnknownNameError`.
"""

from __future__ import annotations

from reservoir.api.comparisons import compare, notices
from reservoir.api.configuration import combine, convert, read
from reservoir.api.drafts import drafting
from reservoir.api.lease_lists import adopt, check_leases
from reservoir.api.plans import Plan, check, load, loads, mend, space, write
from reservoir.api.rehearsals import prove, rehearse, served_by
from reservoir.api.scripts import scripts, unscripted
from reservoir.api.sizing import Sizing, size, size_demand
from reservoir.api.stages import stages
from reservoir.configurations import configuration_text
from reservoir.core.checks import Report
from reservoir.core.compare.notice import Comparison
from reservoir.core.findings import Finding, Proof, Severity, Witness
from reservoir.core.plan.edits import Edit
from reservoir.core.problems import InputError, Place, Problem, UnknownNameError
from reservoir.dialects.reading import ConfigurationRead
from reservoir.dialects.scripting import DeviceScript, Stage
from reservoir.dialects.writing import DeviceConfiguration
from reservoir.files.mending import Mended
from reservoir.rehearsal.result import Rehearsal
from reservoir.rehearsal.wires import Disturbance

__all__ = [
    "Comparison",
    "ConfigurationRead",
    "DeviceConfiguration",
    "DeviceScript",
    "Disturbance",
    "Edit",
    "Finding",
    "InputError",
    "Mended",
    "Place",
    "Plan",
    "Problem",
    "Proof",
    "Rehearsal",
    "Report",
    "Severity",
    "Sizing",
    "Stage",
    "UnknownNameError",
    "Witness",
    "adopt",
    "check",
    "check_leases",
    "combine",
    "compare",
    "configuration_text",
    "convert",
    "drafting",
    "load",
    "loads",
    "mend",
    "notices",
    "prove",
    "read",
    "rehearse",
    "scripts",
    "served_by",
    "size",
    "size_demand",
    "space",
    "stages",
    "unscripted",
    "write",
]
