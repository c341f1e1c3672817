"""The installed command, started as a fork of one interpreter that has loaded it: what it does is its own, and most of the
time that starting it takes is saved. One such interpreter serves a process of the tests."""

from __future__ import annotations

import array
import atexit
import contextlib
import gc
import json
import marshal
import os
import pkgutil
import selectors
import signal
import socket
import struct
import subprocess
import sys
import time
from collections.abc import Iterator
from importlib import import_module
from pathlib import Path
from typing import NoReturn

LENGTH = struct.Struct("!I")
TAKES_INTERPRETER = ("PYTHON", "LC_", "LANG", "MALLOC", "LD_")
"""Beginnings of the names of variables that an interpreter reads as it starts: a call with one of them is started anew."""
PYTEST = "pytest"
"""The other command that is called so: it has this one as a plugin."""
WARMING = """
[program]
launch = "true"
[signature]
synopsis = "[-n N] [--fast] PORT..."
values.N = { type = "int", min = 1, max = 60 }
[[matrix]]
name = "all"
line = "{port} [-n {n}]"
axes.port = ["Skerry", "Holm"]
axes.n = ["1", "2"]
where = ["port != 'Holm' or n == '1'"]
expect = [{ exit = 0, stdout.matches = "a+" }, { when = "n == '1'", stdout.contains = ["{port}"] }]
"""


class Zygote:
    """The interpreter that is forked."""

    def __init__(self, env: dict[str, str] | None = None) -> None:
        self.control, theirs = socket.socketpair()
        with theirs:
            # its streams are pipes, as those of a call are: what Python knows of a stream it finds out at the start
            words, pipe = [sys.executable, __file__, str(theirs.fileno())], subprocess.PIPE
            # one thread: others would be ended and begun again around every fork
            env = {**(os.environ if env is None else env), "OPENBLAS_NUM_THREADS": "1"}
            self._process = subprocess.Popen(words, pass_fds=[theirs.fileno()], stdin=pipe, stdout=pipe, stderr=pipe, env=env)
        atexit.register(self.end)

    def call(self, command: str, words: list[str], cwd: str, env: dict[str, str], stdin: bytes, timeout: float) -> tuple[int, bytes, bytes]:
        """Return exit status, standard output and standard error of a call. Raises subprocess.TimeoutExpired."""
        pipes = [os.pipe() for _ in range(3)]
        request = json.dumps([[command, *words], cwd, env]).encode()
        theirs = [pipes[0][0], pipes[1][1], pipes[2][1]]
        self.control.sendmsg([LENGTH.pack(len(request))], [(socket.SOL_SOCKET, socket.SCM_RIGHTS, array.array("i", theirs))])
        self.control.sendall(request)
        for fd in theirs:
            os.close(fd)
        with open(pipes[0][1], "wb") as feeding, contextlib.suppress(BrokenPipeError):
            feeding.write(stdin)
        (pid,) = LENGTH.unpack(_exactly(self.control, LENGTH.size))
        try:
            out, err = _read_all([pipes[1][0], pipes[2][0]], timeout)
        except TimeoutError:
            os.kill(pid, signal.SIGKILL)
            _exactly(self.control, LENGTH.size)
            raise subprocess.TimeoutExpired(words, timeout) from None
        (status,) = LENGTH.unpack(_exactly(self.control, LENGTH.size))
        return os.waitstatus_to_exitcode(status), out, err

    def end(self) -> None:
        """End the interpreter."""
        self.control.close()
        self._process.wait()


def _read_all(fds: list[int], timeout: float) -> list[bytes]:
    found = {fd: bytearray() for fd in fds}
    due = time.monotonic() + timeout
    with selectors.DefaultSelector() as selector:
        for fd in fds:
            selector.register(fd, selectors.EVENT_READ)
        try:
            while selector.get_map():
                ready = selector.select(max(0.0, due - time.monotonic()))
                if not ready and time.monotonic() >= due:
                    raise TimeoutError
                for key, _ in ready:
                    if data := os.read(key.fd, 1 << 16):
                        found[key.fd] += data
                    else:
                        selector.unregister(key.fd)
        finally:
            for fd in fds:
                os.close(fd)
    return [bytes(found[fd]) for fd in fds]


def _exactly(control: socket.socket, count: int) -> bytes:
    data = b""
    while len(data) < count:
        piece = control.recv(count - len(data))
        if not piece:
            raise EOFError
        data += piece
    return data


CLIENT = """\
#!{python} -IS
import _socket, marshal, os, sys
door = _socket.socket(_socket.AF_UNIX)
door.connect({door!r})
words = marshal.dumps([sys.argv, os.getcwd(), dict(os.environ)])
door.sendmsg([len(words).to_bytes(4, "big")], [(_socket.SOL_SOCKET, _socket.SCM_RIGHTS, b"".join(n.to_bytes(4, sys.byteorder) for n in range(3)))])
door.sendall(words)
sys.exit(int.from_bytes(door.recv(4), "big"))
"""
"""A `keen-matrix` that a shell can call, which takes a tenth of the time that an interpreter of its own would."""


@contextlib.contextmanager
def door(folder: Path, env: dict[str, str]) -> Iterator[str]:
    """Give a folder for PATH whose `keen-matrix` is a fork of an interpreter with the environment given."""
    place = str(folder / "door")
    (folder / "bin").mkdir()
    client = folder / "bin" / "keen-matrix"
    client.write_text(CLIENT.format(python=sys.executable, door=place))
    client.chmod(0o755)
    with socket.socket(socket.AF_UNIX) as listening:
        listening.bind(place)
        listening.listen(16)
        words = [sys.executable, __file__, "--door", str(listening.fileno())]
        pipe = subprocess.PIPE
        threads = {"OPENBLAS_NUM_THREADS": "1"}  # as above
        server = subprocess.Popen(words, pass_fds=[listening.fileno()], stdin=pipe, stdout=pipe, stderr=pipe, env={**env, **threads})
        try:
            yield str(folder / "bin")
        finally:
            server.kill()
            server.communicate()


# --- in the interpreter that is forked ---


def serve(control: socket.socket) -> None:
    """Fork a call for each request until the other end is closed."""
    load()
    gc.collect()
    gc.freeze()  # a fork's collections need not look at, and so copy, what all of them share
    while True:
        try:
            head, ancillary, _, _ = control.recvmsg(LENGTH.size, socket.CMSG_SPACE(3 * 4))
            if not head:
                return
            fds = array.array("i", ancillary[0][2])
            words, cwd, env = json.loads(_exactly(control, LENGTH.unpack(head)[0]))
        except (EOFError, ConnectionError):
            return
        load_for(words)
        pid = os.fork()
        if pid == 0:
            be_called(control, list(fds), words, cwd, env)
        for fd in fds:
            os.close(fd)
        control.sendall(LENGTH.pack(pid))
        _, status = os.waitpid(pid, 0)
        control.sendall(LENGTH.pack(status))


def open_door(listening: socket.socket) -> None:
    """Fork a call for everyone who comes, and tell them what it ended with; several may be there at once."""
    load()
    gc.collect()
    gc.freeze()
    while True:
        caller, _ = listening.accept()
        with contextlib.suppress(ChildProcessError):
            while os.waitpid(-1, os.WNOHANG)[0]:
                pass
        if os.fork():
            caller.close()
            continue
        head, ancillary, _, _ = caller.recvmsg(LENGTH.size, socket.CMSG_SPACE(3 * 4))
        words, cwd, env = marshal.loads(_exactly(caller, LENGTH.unpack(head)[0]))
        pid = os.fork()
        if pid == 0:
            listening.close()
            be_called(caller, list(array.array("i", ancillary[0][2])), words, cwd, env)
        _, status = os.waitpid(pid, 0)
        code = os.waitstatus_to_exitcode(status)
        caller.sendall(LENGTH.pack(code if code >= 0 else 128 - code))
        os._exit(0)


def load() -> None:
    """Import what commands import, none of which does anything else at that."""
    import keen_matrix.cli
    import keen_matrix.core

    for package in (keen_matrix.cli, keen_matrix.core):
        for module in pkgutil.walk_packages(package.__path__, f"{package.__name__}."):
            if not module.name.endswith(("__main__", ".cluster", ".entry")):
                import_module(module.name)
    from keen_matrix.core.spec.document.tables import Table

    # What is put off until it is needed, as is right for a command: here each fork would do it anew.
    for table in _below(Table):
        table.model_rebuild()
    read_one()


def modules_of(words: list[str]) -> Iterator[str]:
    """Yield the large modules of others that a call will import, which few calls do."""
    if words[0] == PYTEST:
        from _pytest.config import default_plugins

        yield from (f"_pytest.{name}" for name in default_plugins)
    if "--cluster" in words:
        yield "distributed"
    if any(word.startswith("picture") for word in words):
        yield "matplotlib.pyplot"


def load_for(words: list[str]) -> None:
    """Import what a call will, so that the next of its kind need not."""
    new = [name for name in modules_of(words) if name not in sys.modules]
    for name in new:
        with contextlib.suppress(ImportError):  # as the call will tell
            import_module(name)
    if new:
        gc.collect()
        gc.freeze()


def read_one() -> None:
    """Read a spec, and describe a command line: the first of them makes what all share."""
    from keen_matrix.cli import build_parser
    from keen_matrix.core.errors import SpecFault
    from keen_matrix.core.spec.kept import kept_spec
    from keen_matrix.core.spec.load import load_spec

    build_parser()
    with contextlib.suppress(SpecFault):
        kept_spec(os.devnull)
    with contextlib.suppress(SpecFault):
        load_spec("s.matrix.toml", WARMING)


def _below(kind: type) -> list[type]:
    return [each for below in kind.__subclasses__() for each in (below, *_below(below))]


def be_called(control: socket.socket, fds: list[int], words: list[str], cwd: str, env: dict[str, str]) -> NoReturn:
    """Be the command, as an interpreter is that has just started it."""
    status = 1
    try:
        for number, fd in enumerate(fds):
            os.dup2(fd, number)
        control.close()
        os.closerange(3, 64)
        os.chdir(cwd)
        os.environ.clear()
        os.environ.update(env)
        time.tzset()
        sys.argv = words
        if words[0] == PYTEST:
            from pytest import console_main as main
        else:
            from keen_matrix.entry import main

        try:
            status = main()
        except SystemExit as leaving:
            status = leaving.code if isinstance(leaving.code, int) else 1
        atexit._run_exitfuncs()
        for stream in (sys.stdout, sys.stderr):
            with contextlib.suppress(OSError, ValueError):
                stream.flush()
    finally:
        os._exit(status)


if __name__ == "__main__":
    sys.path.pop(0)  # the tests' own folder
    if sys.argv[1] == "--door":
        open_door(socket.socket(fileno=int(sys.argv[2])))
    serve(socket.socket(fileno=int(sys.argv[1])))
