"""Runs of the installed program that don't start it anew: forks of a process that has it loaded.

A start costs half a second of processor time, nearly all of it for importing; a fork costs a
hundredth of that. What the program is given is its own all the same: arguments, working folder,
environment, standard input and outputs, exit status. As a program, this file is that process.
"""

from __future__ import annotations

import atexit
import gc
import json
import os
import socket
import subprocess
import sys
import time
import traceback
from collections.abc import Mapping, Sequence
from pathlib import Path
from threading import Thread

LENGTH = 8
"""Bytes that say how long a request is."""


class WarmProgram:
    """The loaded program, in a process that ends with this one."""

    def __init__(self, environment: Mapping[str, str]) -> None:
        """Load the program in a process of its own, with this environment."""
        ours, its = socket.socketpair()
        self._asked = ours
        with its:
            loaded = subprocess.Popen(
                [sys.executable, __file__, str(its.fileno())],
                env=dict(environment),
                pass_fds=[its.fileno()],
                stdin=subprocess.DEVNULL,
            )
        atexit.register(loaded.wait)
        atexit.register(ours.close)  # registered last, called first

    def run(
        self, arguments: Sequence[str], folder: Path, environment: Mapping[str, str], given: bytes
    ) -> tuple[int, bytes, bytes]:
        """The exit status, and what was printed to both outputs, through pipes as in a shell."""
        pipes = [os.pipe() for _ in range(3)]
        (its_in, our_in), (our_out, its_out), (our_err, its_err) = pipes
        told = json.dumps([list(arguments), str(folder), dict(environment)]).encode()
        self._asked.sendall(len(told).to_bytes(LENGTH, "big") + told)
        socket.send_fds(self._asked, [b"\0"], [its_in, its_out, its_err])
        for descriptor in (its_in, its_out, its_err):
            os.close(descriptor)
        printed: dict[int, bytes] = {}
        others = [
            Thread(target=_give, args=(our_in, given)),
            Thread(target=lambda: printed.update({our_err: _all_of(our_err)})),
        ]
        for thread in others:
            thread.start()
        printed[our_out] = _all_of(our_out)
        for thread in others:
            thread.join()
        status = os.waitstatus_to_exitcode(int.from_bytes(_received(self._asked, LENGTH), "big"))
        return status, printed[our_out], printed[our_err]


def _give(descriptor: int, data: bytes) -> None:
    try:
        with os.fdopen(descriptor, "wb") as stream:
            stream.write(data)
    except BrokenPipeError:  # the program didn't want to know
        pass


def _all_of(descriptor: int) -> bytes:
    with os.fdopen(descriptor, "rb") as stream:
        return stream.read()


def _received(connection: socket.socket, count: int) -> bytes:
    data = b""
    while len(data) < count:
        part = connection.recv(count - len(data))
        if not part:
            raise EOFError
        data += part
    return data


def load() -> None:
    """Import what the program imports late, and load what it ships, so that no fork has to."""
    import importlib
    import pkgutil

    # As ``reservoir.cli.main`` and ``run`` set them before anything heavy is loaded.
    os.environ.setdefault("PYDANTIC_DISABLE_PLUGINS", "__all__")
    os.environ.setdefault("OPENBLAS_NUM_THREADS", "1")
    import reservoir
    from reservoir.core.checks import rules
    from reservoir.dialects.sheet.library import Library

    for module in pkgutil.walk_packages(reservoir.__path__, "reservoir."):
        if not module.name.endswith(("__main__", "manual_page", "sheet_page")):
            importlib.import_module(module.name)
    for late in (
        "jinja2",
        "matplotlib.figure",
        "matplotlib.backends.backend_svg",
        "scipy.optimize",
    ):
        importlib.import_module(late)
    rules()
    reservoir.loads("reservoir: 1\n")
    for dialect in Library().names:
        Library().sheet(dialect)


def serve(connection: socket.socket) -> None:
    """Fork for each request; end when nobody can ask any more."""
    while True:
        try:
            length = int.from_bytes(_received(connection, LENGTH), "big")
        except (EOFError, ConnectionResetError):
            return
        arguments, folder, environment = json.loads(_received(connection, length))
        _, descriptors, _, _ = socket.recv_fds(connection, 1, 3)
        child = os.fork()
        if not child:
            connection.close()
            _become(arguments, folder, environment, descriptors)
        for descriptor in descriptors:
            os.close(descriptor)
        _, status = os.waitpid(child, 0)
        connection.sendall(status.to_bytes(LENGTH, "big"))


def _become(
    arguments: Sequence[str], folder: str, environment: Mapping[str, str], descriptors: list[int]
) -> None:
    """Be the program that was asked for, to its end."""
    status = 1
    try:
        for number, descriptor in enumerate(descriptors):
            os.dup2(descriptor, number)
            os.close(descriptor)
        os.chdir(folder)
        os.environ.clear()
        os.environ.update(environment)
        time.tzset()
        sys.argv = ["reservoir", *arguments]
        from reservoir.cli import main

        try:
            main()
            status = 0
        except SystemExit as end:
            status = end.code if isinstance(end.code, int) else int(end.code is not None)
        atexit._run_exitfuncs()
        sys.stdout.flush()
        sys.stderr.flush()
    except BaseException:  # what the interpreter itself would show
        traceback.print_exc()
    os._exit(status)


if __name__ == "__main__":
    load()
    gc.freeze()  # what is loaded is shared with each fork, not copied by its counting
    serve(socket.socket(fileno=int(sys.argv[1])))
