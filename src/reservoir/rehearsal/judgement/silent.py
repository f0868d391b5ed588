"""Events that no message between clients and servers shows."""

from __future__ import annotations

from collections.abc import Mapping

SILENT: Mapping[str, str] = {
    "has": "an address that a device or a host has is configured there; no message carries it",
    "names-equal": "names are no part of what clients and servers send",
    "excluded-anyway": "what is never assigned shows in no message",
    "empty-range": "what is never assigned shows in no message",
    "member-shared": "it happens below IP, before any message",
    "tag-shared": "it happens below IP, before any message",
    "depends": "a line that isn't understood does nothing here",
    "depends-anywhere": "a line that isn't understood does nothing here",
    "never-a-member": "who isn't there sends no message",
    "expired": "it is about the plan, not about clients",
    "unused": "it is about the plan, not about clients",
    "in-subnet": "clients outside the plan would notice",
}
"""Why no message shows an event."""
