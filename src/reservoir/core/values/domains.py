"""Names of domains and hosts (RFC 1035 section 2.3.4, RFC 1123 section 2.1)."""

from __future__ import annotations

import re

_LABEL = re.compile("[A-Za-z0-9]([A-Za-z0-9-]{0,61}[A-Za-z0-9])?")


def why_no_domain(domain: str) -> str | None:
    """Why a text is no name of a domain or a host; None if it is one."""
    if len(domain.removesuffix(".")) > 253:
        return f"it has {len(domain)} characters, more than 253"
    for label in domain.removesuffix(".").split("."):
        if len(label) > 63:
            return f"{label[:20]}… has {len(label)} characters, more than 63"
        if not _LABEL.fullmatch(label):
            return (
                f"{label!r} is not a label of letters, digits and hyphens"
                if label
                else "there is nothing between two dots"
            )
    return None
