"""An interface of this machine, on which whole frames are sent and received (Linux)."""

from __future__ import annotations

import ctypes
import errno
import select
import socket
import struct
import sys
from collections.abc import Iterator

from reservoir.core.problems import UnknownNameError
from reservoir.core.values.clients import ETHERNET, Mac
from reservoir.rehearsal.messages.message import CLIENT_PORT

ALL_KINDS = 3
"""All kinds of frame."""

LARGEST = 65_535
"""Bytes of the largest frame."""

MOST_AT_ONCE = 256
"""Frames that are looked at before what is due happens."""

RESOLVER_PORT = 53

_BY_THE_SYSTEM = 4
"""The kind of frame that this machine sends itself."""

_ADDRESS, _FLAGS = 0x8915, 0x8913  # SIOCGIFADDR, SIOCGIFFLAGS
_IS_UP, _HAS_CARRIER = 1, 64
_ATTACH_FILTER = 26
_DATAGRAM = 17
_PACKET_LEVEL, _ADD_MEMBERSHIP, _BESIDE, _ALL_FRAMES = 263, 1, 8, 1
_SUM_NOT_READY = 8


class UnusableInterfaceError(Exception):
    """An interface can't be used, as a sentence that says what to do."""


class SystemInterface:
    """Sends and receives frames; what the interface is set to stays as it is.

    It takes frames for other hardware addresses too, since servers may answer a client by its own.
    The system ends that when the socket is closed, however the program ends.
    """

    def __init__(self, name: str) -> None:
        """Open it.

        Raises:
            UnknownNameError: there is no such interface.
            UnusableInterfaceError: it is down, it isn't Ethernet, the right is missing, or the
                system isn't Linux.
        """
        if not hasattr(socket, "AF_PACKET"):
            raise UnusableInterfaceError(
                f"Raw frames are sent only on Linux, and this is {sys.platform}; "
                "--as-relay asks servers from here."
            )
        known = [known for _, known in socket.if_nameindex()]
        if name not in known:
            raise UnknownNameError("interface", name, known)
        self.name = name
        try:
            self._socket = socket.socket(socket.AF_PACKET, socket.SOCK_RAW, 0)
        except PermissionError:
            raise UnusableInterfaceError(
                f"{name}: raw sockets need a right that you don't have. Run it as root, or let "
                f"`sudo setcap cap_net_raw+ep {sys.executable}` give it to this Python."
            ) from None
        try:
            self._open(name)
        except OSError as error:
            self._socket.close()
            if error.errno == errno.ENETDOWN:
                raise UnusableInterfaceError(f"{name} is down.") from None
            raise UnusableInterfaceError(f"{name} can't be used: {error.strerror}.") from None
        except UnusableInterfaceError:
            self._socket.close()
            raise

    def _open(self, name: str) -> None:
        flags, self.address = _flags_and_address(name)
        if not flags & _IS_UP:
            raise UnusableInterfaceError(f"{name} is down: `ip link set {name} up` brings it up.")
        if not flags & _HAS_CARRIER:
            raise UnusableInterfaceError(f"{name} has no link: nothing is plugged in, or it's off.")
        kept = _filter()  # the system copies it, and takes frames only after the binding
        self._socket.setsockopt(socket.SOL_SOCKET, _ATTACH_FILTER, kept.program)
        self._socket.bind((name, ALL_KINDS))
        _, _, _, hardware, mac = self._socket.getsockname()
        if hardware != ETHERNET or len(mac) != 6:
            raise UnusableInterfaceError(f"{name} is not Ethernet.")
        self.mac = Mac.from_bytes(mac, "big")
        index = socket.if_nametoindex(name)
        self._socket.setsockopt(_PACKET_LEVEL, _BESIDE, 1)
        membership = struct.pack("IHH8s", index, _ALL_FRAMES, 0, b"")
        self._socket.setsockopt(_PACKET_LEVEL, _ADD_MEMBERSHIP, membership)
        self._socket.setblocking(False)

    def send(self, frame: bytes) -> None:
        """Send a frame.

        Raises:
            OSError: the system doesn't send it, as when the interface has gone down.
        """
        self._socket.send(frame)

    def received(self, seconds: float) -> Iterator[bytes]:
        """The frames that have come, after waiting for a first one for some seconds at most."""
        if not select.select([self._socket], [], [], seconds)[0]:
            return
        for _ in range(MOST_AT_ONCE):
            try:
                frame, beside, _, sender = self._socket.recvmsg(LARGEST, 64)
            except BlockingIOError:
                return
            if sender[2] != _BY_THE_SYSTEM:
                yield _without_open_sum(frame) if _is_sum_open(beside) else frame

    def close(self) -> None:
        """Let go of it."""
        self._socket.close()


def _is_sum_open(beside: list[tuple[int, int, bytes]]) -> bool:
    """Whether the sender left the sum to its hardware, as one on this machine does."""
    told = (data for level, kind, data in beside if (level, kind) == (_PACKET_LEVEL, _BESIDE))
    return any(int.from_bytes(data[:4], sys.byteorder) & _SUM_NOT_READY for data in told)


def _without_open_sum(frame: bytes) -> bytes:
    """A frame with a datagram that has no sum (RFC 768), if it has a datagram."""
    at = 14 + (frame[14] & 15) * 4 + 6 if len(frame) > 34 else 0
    is_datagram = frame[12:14] == b"\x08\0" and at and frame[23] == _DATAGRAM
    return frame[:at] + b"\0\0" + frame[at + 2 :] if is_datagram else frame


def _flags_and_address(name: str) -> tuple[int, int]:
    """The flags of an interface, and its first IPv4 address; 0 if it has none."""
    import fcntl  # late: Windows has none

    asked = struct.pack("16s24x", name.encode()[:15])
    with socket.socket(socket.AF_INET, socket.SOCK_DGRAM) as any_socket:
        (flags,) = struct.unpack_from("H", fcntl.ioctl(any_socket, _FLAGS, asked), 16)
        try:
            told = fcntl.ioctl(any_socket, _ADDRESS, asked)
        except OSError:
            return flags, 0
    return flags, int.from_bytes(told[20:24], "big")


class _Program:
    """A filter as the system takes it: its length, and where its instructions are."""

    def __init__(self, instructions: list[tuple[int, int, int, int]]) -> None:
        made = b"".join(struct.pack("HBBI", *one) for one in instructions)
        self._instructions = ctypes.create_string_buffer(made)
        where = ctypes.addressof(self._instructions)
        self.program = struct.pack("HL", len(instructions), where)


def _filter() -> _Program:
    """Takes ARP, and UDP to DHCP clients or from resolvers; all else costs nothing on a busy port.

    In the instructions of the system's packet filter: load, compare (then so many on, or else so
    many), return the bytes to keep.
    """
    half, byte, header, at_header = 0x28, 0x30, 0xB1, 0x48
    equal, any_of, done = 0x15, 0x45, 0x06
    return _Program(
        [
            (half, 0, 0, 12),
            (equal, 10, 0, 0x0806),
            (equal, 0, 10, 0x0800),
            (byte, 0, 0, 23),
            (equal, 0, 8, _DATAGRAM),
            (half, 0, 0, 20),
            (any_of, 6, 0, 0x1FFF),  # a later part of a datagram
            (header, 0, 0, 14),
            (at_header, 0, 0, 16),
            (equal, 2, 0, CLIENT_PORT),
            (at_header, 0, 0, 14),
            (equal, 0, 1, RESOLVER_PORT),
            (done, 0, 0, LARGEST),
            (done, 0, 0, 0),
        ]
    )
