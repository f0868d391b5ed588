"""The checks: one rule, one class; a file per family. The folder is the registry."""

from reservoir.core.checks.engine import Report, check_plan
from reservoir.core.checks.rule import Rule, Site, rules

__all__ = ["Report", "Rule", "Site", "check_plan", "rules"]
