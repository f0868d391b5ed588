"""The public interface: what is loaded when it is asked for, and from where.

`reservoir/__init__.py` looks names up here, and type checkers read it.
"""

from .api.comparisons import compare as compare
from .api.comparisons import notices as notices
from .api.configuration import combine as combine
from .api.configuration import convert as convert
from .api.configuration import read as read
from .api.documents import explain as explain
from .api.documents import report as report
from .api.drafts import drafting as drafting
from .api.into import UnclearDeviceError as UnclearDeviceError
from .api.into import WrittenInto as WrittenInto
from .api.into import write_into as write_into
from .api.lease_lists import adopt as adopt
from .api.lease_lists import check_leases as check_leases
from .api.plans import OpenedPlan as OpenedPlan
from .api.plans import check as check
from .api.plans import load as load
from .api.plans import loads as loads
from .api.plans import mend as mend
from .api.plans import space as space
from .api.plans import write as write
from .api.rehearsals import prove as prove
from .api.rehearsals import rehearse as rehearse
from .api.rehearsals import served_by as served_by
from .api.scripts import scripts as scripts
from .api.scripts import unscripted as unscripted
from .api.sizing import Sizing as Sizing
from .api.sizing import size as size
from .api.sizing import size_demand as size_demand
from .api.stages import stages as stages
from .api.whereabouts import find as find
from .configurations import configuration_text as configuration_text
from .core.checks import Report as Report
from .core.compare.notice import Comparison as Comparison
from .core.findings import Finding as Finding
from .core.findings import Proof as Proof
from .core.findings import Severity as Severity
from .core.findings import Witness as Witness
from .core.plan.edits import Edit as Edit
from .core.problems import InputError as InputError
from .core.problems import Place as Place
from .core.problems import Problem as Problem
from .core.problems import UnknownNameError as UnknownNameError
from .core.values.addresses import format_address as format_address
from .core.values.addresses import parse_address as parse_address
from .dialects.reading import ConfigurationRead as ConfigurationRead
from .dialects.scripting.script import DeviceScript as DeviceScript
from .dialects.scripting.script import Stage as Stage
from .dialects.writing import DeviceConfiguration as DeviceConfiguration
from .files.mending import Mended as Mended
from .rehearsal.judgement.result import Rehearsal as Rehearsal
from .rehearsal.wires.wires import Disturbance as Disturbance
from .version import __version__ as __version__
