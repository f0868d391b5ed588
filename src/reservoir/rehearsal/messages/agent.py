"""Relay agent information: what a relay adds to a request, and a server sends back (RFC 3046)."""

from __future__ import annotations

from collections.abc import Mapping

CIRCUIT = 1
"""Where the request came in (section 3.1)."""
REMOTE = 2
"""Who is at its other end (section 3.2)."""
LINK_SELECTION = 5
"""An address of the subnet that the client is in, where the relay's own isn't (RFC 3527)."""
SERVER_OVERRIDE = 11
"""The relay's address, to be named as the server's, so that renewals pass it too (RFC 5107)."""

_NAMES = {
    CIRCUIT: "circuit", REMOTE: "remote", LINK_SELECTION: "link", SERVER_OVERRIDE: "server as",
}  # fmt: skip


def sub_options(data: bytes) -> Mapping[int, bytes]:
    """The sub-options by code; none after one that is cut off."""
    found: dict[int, bytes] = {}
    while len(data) > 1 and len(data) >= 2 + data[1]:
        found[data[0]] = data[2 : 2 + data[1]]
        data = data[2 + data[1] :]
    return found


def of_circuit(interface: str) -> bytes:
    """What a relay adds that names the interface at which a request came in."""
    name = interface.encode()[:250]
    return bytes((CIRCUIT, len(name))) + name


def address_in(data: bytes, code: int) -> int:
    """The address in a sub-option; 0 if there is none."""
    found = sub_options(data).get(code, b"")
    return int.from_bytes(found, "big") if len(found) == 4 else 0


def agent_text(data: bytes) -> str:
    """The sub-options for people."""
    said = []
    for code, value in sub_options(data).items():
        text = value.decode("ascii", "replace")
        shown = text if text.isprintable() and "\ufffd" not in text else value.hex()
        if code in (LINK_SELECTION, SERVER_OVERRIDE) and len(value) == 4:
            shown = ".".join(map(str, value))
        said.append(f"{_NAMES.get(code, code)} {shown}")
    return ", ".join(said) or data.hex()
