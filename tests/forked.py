"""Runs the program often and quickly: a process that has imported all of it makes a copy of itself for each run.

Each run is a process of its own, with its own folder, environment, streams and exit code, as ``python -m rhizon``
would be; what is saved is starting Python and importing.
"""

import array
import atexit
import contextlib
import gc
import importlib
import json
import os
import pkgutil
import signal
import socket
import subprocess
import sys
import threading
import time
import traceback
from collections.abc import Sequence
from pathlib import Path

__all__ = ["Copies"]

MOST_REQUEST = 1 << 20
OF_PYTHON = ("PYTHON", "LC_", "LANG")  # what is read when Python starts


class Copies:
    """The process that is copied; it ends with this one. ``fits`` says whether its Python was started as this
    environment asks for."""

    def __init__(self, environment: dict[str, str]) -> None:
        self._environment = _of_python(environment)
        self._guard = threading.Lock()
        self._here, there = socket.socketpair()
        with there:
            command = [sys.executable, "-c", f"from tests.forked import serve; serve({there.fileno()})"]
            root = Path(__file__).parents[1]
            self._process = subprocess.Popen(command, cwd=root, env=environment, pass_fds=[there.fileno()])
        atexit.register(self.close)

    def fits(self, environment: dict[str, str]) -> bool:
        return _of_python(environment) == self._environment

    def close(self) -> None:
        self._here.close()
        self._process.wait()

    def run(
        self, arguments: Sequence[str], folder: Path, environment: dict[str, str], stdin: str, within: float
    ) -> "subprocess.CompletedProcess[str]":
        """As subprocess.run does it, with both outputs captured. Raises subprocess.TimeoutExpired."""
        pipes = [os.pipe() for _ in range(4)]  # input, output, errors, and how it ended
        (theirs_in, ours_in), (ours_out, theirs_out), (ours_err, theirs_err), (ours_end, theirs_end) = pipes
        request = json.dumps([list(arguments), str(folder), environment]).encode("utf-8", "surrogateescape") + b"\n"
        with self._guard:
            theirs = array.array("i", [theirs_in, theirs_out, theirs_err, theirs_end])
            self._here.sendmsg([len(request).to_bytes(4, "big")], [(socket.SOL_SOCKET, socket.SCM_RIGHTS, theirs)])
            self._here.sendall(request)
        for one in theirs:
            os.close(one)
        got: dict[int, bytes] = {}
        readers = [threading.Thread(target=_read, args=(one, got), daemon=True) for one in (ours_out, ours_err)]
        for reader in readers:
            reader.start()
        with contextlib.suppress(BrokenPipeError), os.fdopen(ours_in, "wb") as to:
            to.write(stdin.encode())
        until = time.monotonic() + within
        with os.fdopen(ours_end, "rb") as end:
            pid = int(end.readline())
            for reader in readers:
                reader.join(max(until - time.monotonic(), 0))
            if any(reader.is_alive() for reader in readers):
                with contextlib.suppress(ProcessLookupError):
                    os.kill(pid, signal.SIGKILL)
                raise subprocess.TimeoutExpired(list(arguments), within)
            code = int(end.readline())
        out, err = (got[one].decode().replace("\r\n", "\n") for one in (ours_out, ours_err))
        return subprocess.CompletedProcess(list(arguments), code, out, err)


def _of_python(environment: dict[str, str]) -> dict[str, str]:
    return {name: value for name, value in environment.items() if name.startswith(OF_PYTHON)}


def _read(handle: int, into: dict[int, bytes]) -> None:
    with os.fdopen(handle, "rb") as stream:
        into[handle] = stream.read()


def serve(number: int) -> None:
    """Imports the program, and copies itself for each request until the other side has gone."""
    import rhizon

    for module in pkgutil.walk_packages(rhizon.__path__, "rhizon."):
        if not module.name.endswith("__main__"):
            importlib.import_module(module.name)
    if threading.active_count() > 1:
        raise RuntimeError("a thread was started by an import: copies would lack it")
    gc.freeze()
    signal.signal(signal.SIGCHLD, signal.SIG_IGN)  # the system takes away the copies that have ended
    requests = socket.socket(fileno=number)
    while True:
        head, handles, _, _ = socket.recv_fds(requests, 4, 4)
        if not head:
            os._exit(0)
        size, request = int.from_bytes(head, "big"), b""
        while len(request) < size:
            request += requests.recv(min(size - len(request), MOST_REQUEST))
        if os.fork() == 0:
            requests.close()
            _watched(request, handles)
        for one in handles:
            os.close(one)


def _watched(request: bytes, handles: Sequence[int]) -> None:
    """One run in a copy of its own; then its exit code, as a subprocess has it."""
    signal.signal(signal.SIGCHLD, signal.SIG_DFL)
    *streams, end = handles
    pid = os.fork()
    if pid == 0:
        os.close(end)
        _run(request, streams)
    for one in streams:
        os.close(one)
    os.write(end, f"{pid}\n".encode())
    _, status = os.waitpid(pid, 0)
    os.write(end, f"{os.waitstatus_to_exitcode(status)}\n".encode())
    os._exit(0)


def _run(request: bytes, streams: Sequence[int]) -> None:
    from rhizon.cli.entry import main

    for number, handle in enumerate(streams):
        os.dup2(handle, number)
        os.close(handle)
    arguments, folder, environment = json.loads(request)
    os.environ.clear()
    os.environ.update(environment)
    time.tzset()
    os.chdir(folder)
    sys.argv = ["rhizon", *arguments]
    for name, number in (("stdin", 0), ("stdout", 1), ("stderr", 2)):
        mode = "r" if number == 0 else "w"
        was, each_line = getattr(sys, name), 1 if number == 2 else -1
        opened = open(number, mode, each_line, encoding=was.encoding, errors=was.errors, closefd=False)  # noqa: SIM115
        setattr(sys, name, opened)
    code: object = 0
    try:
        main()
    except SystemExit as ended:
        code = ended.code
    except BaseException:
        traceback.print_exc()
        code = 1
    threading._shutdown()  # type: ignore[attr-defined]
    atexit._run_exitfuncs()
    for stream in (sys.stdout, sys.stderr):
        with contextlib.suppress(OSError, ValueError):
            stream.flush()
    os._exit(code if isinstance(code, int) else 0 if code is None else 1)
