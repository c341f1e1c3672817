"""The installed command, started as a fork of one interpreter that has loaded it: what it does is its own, and most of the
time that starting it takes is saved. One such interpreter serves a process of the tests."""

from __future__ import annotations

import array
import atexit
import contextlib
import gc
import io
import marshal
import os
import pkgutil
import select
import selectors
import signal
import socket
import struct
import subprocess
import sys
import tempfile
import time
from collections.abc import Iterator
from importlib import import_module
from pathlib import Path
from typing import Any, NoReturn

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
only-if = ["port != 'Holm' or n == '1'"]
expect = [{ exit = 0, stdout.matches = "a+" }, { when = "n == '1'", stdout.contains = ["{port}"] }]
"""


class Zygote:
    """The interpreter that is forked. `bin` is a directory for PATH, whose `keen-matrix` is a fork of it too."""

    def __init__(self, env: dict[str, str] | None = None) -> None:
        self.control, theirs = socket.socketpair()
        self._directory = tempfile.TemporaryDirectory()
        self.bin = os.path.join(self._directory.name, "bin")
        with theirs, socket.socket(socket.AF_UNIX) as door:
            door.bind(os.path.join(self._directory.name, "door"))
            door.listen(16)
            os.mkdir(self.bin)
            client = Path(self.bin, "keen-matrix")
            client.write_text(CLIENT.format(python=sys.executable, door=door.getsockname()))
            client.chmod(0o755)
            fds = (theirs.fileno(), door.fileno())
            # its streams are pipes, as those of a call are: what Python knows of a stream it finds out at the start
            words, pipe = [sys.executable, __file__, *map(str, fds)], subprocess.PIPE
            # one thread: others would be ended and begun again around every fork
            env = {**(os.environ if env is None else env), "OPENBLAS_NUM_THREADS": "1"}
            self._process = subprocess.Popen(words, pass_fds=fds, stdin=pipe, stdout=pipe, stderr=pipe, env=env)
        atexit.register(self.end)

    def call(self, command: str, words: list[str], cwd: str, env: dict[str, str], stdin: bytes, timeout: float) -> tuple[int, bytes, bytes]:
        """Return exit status, standard output and standard error of a call. Raises subprocess.TimeoutExpired."""
        pipes = [os.pipe() for _ in range(3)]
        try:
            _ask(self.control, [[command, *words], cwd, env, False], [pipes[0][0], pipes[1][1], pipes[2][1]])
            with open(pipes[0][1], "wb") as feeding, contextlib.suppress(BrokenPipeError):
                feeding.write(stdin)
            (pid,) = LENGTH.unpack(_exactly(self.control, LENGTH.size))
        except (BrokenPipeError, ConnectionResetError, EOFError):
            raise RuntimeError(self.last_words()) from None
        try:
            out, err = _read_all([pipes[1][0], pipes[2][0]], timeout)
        except TimeoutError:
            os.kill(pid, signal.SIGKILL)
            _exactly(self.control, LENGTH.size)
            raise subprocess.TimeoutExpired(words, timeout) from None
        (status,) = LENGTH.unpack(_exactly(self.control, LENGTH.size))
        return os.waitstatus_to_exitcode(status), out, err

    def start(self, command: str, words: list[str], cwd: str, env: dict[str, str], into: int | None = None) -> Started:
        """Start a call that leads a session of its own, and prints into pipes or all into a file."""
        return Started(os.path.join(self._directory.name, "door"), [[command, *words], cwd, env, True], into)

    def last_words(self) -> str:
        """Return what the interpreter said when it ended by itself: most often what could not be imported."""
        self._process.wait(10)
        said = self._process.stderr.read() if self._process.stderr else b""
        return f"the interpreter that calls are forked from has ended:\n{said.decode(errors='replace')}"

    def end(self) -> None:
        """End the interpreter."""
        self.control.close()
        self._process.wait()
        self._directory.cleanup()


class Started:
    """A call that goes on, as subprocess.Popen has it: with pipes to read from, or a file, and no input."""

    def __init__(self, door: str, request: list[object], into: int | None) -> None:
        self.returncode: int | None = None
        self._caller = socket.socket(socket.AF_UNIX)
        self._caller.connect(door)
        theirs = [os.open(os.devnull, os.O_RDONLY)]
        self.stdout, self.stderr = io.BytesIO(), io.BytesIO()
        if into is None:
            (out, its_out), (err, its_err) = os.pipe(), os.pipe()
            self.stdout, self.stderr = os.fdopen(out, "rb"), os.fdopen(err, "rb")
            theirs += [its_out, its_err]
        else:
            theirs += [os.dup(into), os.dup(into)]
        _ask(self._caller, request, theirs)
        (self.pid,) = LENGTH.unpack(_exactly(self._caller, LENGTH.size))

    def wait(self, timeout: float | None = None) -> int:
        """Return what it ended with. Raises subprocess.TimeoutExpired."""
        if self.returncode is None:
            self._caller.settimeout(timeout)
            try:
                (status,) = LENGTH.unpack(_exactly(self._caller, LENGTH.size))
            except TimeoutError:
                raise subprocess.TimeoutExpired(["keen-matrix"], timeout or 0) from None
            self.returncode = os.waitstatus_to_exitcode(status)
            self._caller.close()
        return self.returncode

    def poll(self) -> int | None:
        """Return what it ended with, if it has."""
        with contextlib.suppress(subprocess.TimeoutExpired):
            self.wait(0.001)
        return self.returncode

    def communicate(self, timeout: float = 60) -> tuple[bytes, bytes]:
        """Return what it prints until it has ended. Raises subprocess.TimeoutExpired."""
        try:
            out, err = _read_all([os.dup(each.fileno()) for each in (self.stdout, self.stderr)], timeout)
        except TimeoutError:
            raise subprocess.TimeoutExpired(["keen-matrix"], timeout) from None
        self.wait(timeout)
        self.stdout.close()
        self.stderr.close()
        return out, err

    def send_signal(self, number: int) -> None:
        os.kill(self.pid, number)

    def kill(self) -> None:
        os.kill(self.pid, signal.SIGKILL)


def _ask(asked: socket.socket, request: list[object], streams: list[int]) -> None:
    """Send what is to be called: its words, directory and environment, whether it leads a session; and its streams, which are closed here."""
    body = marshal.dumps(request)
    asked.sendmsg([LENGTH.pack(len(body))], [(socket.SOL_SOCKET, socket.SCM_RIGHTS, array.array("i", streams))])
    asked.sendall(body)
    for fd in streams:
        os.close(fd)


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
words = marshal.dumps([sys.argv, os.getcwd(), dict(os.environ), False])
door.sendmsg([len(words).to_bytes(4, "big")], [(_socket.SOL_SOCKET, _socket.SCM_RIGHTS, b"".join(n.to_bytes(4, sys.byteorder) for n in range(3)))])
door.sendall(words)
door.recv(4)
code = os.waitstatus_to_exitcode(int.from_bytes(door.recv(4), "big"))
sys.exit(code if code >= 0 else 128 - code)
"""
"""A `keen-matrix` that a shell can call, which takes a tenth of the time that an interpreter of its own would."""


# --- in the interpreter that is forked ---


def serve(control: socket.socket, door: socket.socket) -> None:
    """Fork a call for each request, and for everyone who comes to the door, until the other end of `control` is closed."""
    load()
    gc.collect()
    gc.freeze()  # a fork's collections need not look at, and so copy, what all of them share
    while True:
        if door in select.select([control, door], [], [])[0]:
            admit(control, door)
            continue
        try:
            request, streams = asked_on(control)
        except (EOFError, ConnectionError):
            return
        load_for(request[0])
        answer(control, [control, door], request, streams)


def admit(control: socket.socket, door: socket.socket) -> None:
    """Fork a call for one who came, and who is told what it ended with; several may be there at once."""
    caller, _ = door.accept()
    with contextlib.suppress(ChildProcessError):
        while os.waitpid(-1, os.WNOHANG)[0]:
            pass
    if os.fork():
        caller.close()
        return
    answer(caller, [control, door, caller], *asked_on(caller))
    os._exit(0)


def asked_on(caller: socket.socket) -> tuple[list[Any], list[int]]:
    """Return a request and the streams of its call. Raises EOFError."""
    head, ancillary, _, _ = caller.recvmsg(LENGTH.size, socket.CMSG_SPACE(3 * 4))
    if not head:
        raise EOFError
    return marshal.loads(_exactly(caller, LENGTH.unpack(head)[0])), list(array.array("i", ancillary[0][2]))


def answer(caller: socket.socket, ours: list[socket.socket], request: list[Any], streams: list[int]) -> None:
    """Fork a call; tell who asked for it its number, and what it ended with."""
    words, cwd, env, is_leader = request
    pid = os.fork()
    if pid == 0:
        if is_leader:
            os.setsid()
        be_called(ours, streams, words, cwd, env)
    for fd in streams:
        os.close(fd)
    with contextlib.suppress(OSError):  # who asked may be gone by now
        caller.sendall(LENGTH.pack(pid))
    _, status = os.waitpid(pid, 0)
    with contextlib.suppress(OSError):
        caller.sendall(LENGTH.pack(status))


def load() -> None:
    """Import what commands import, none of which does anything else at that."""
    import keen_matrix.cli
    import keen_matrix.core
    import keen_matrix.entry

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


def be_called(ours: list[socket.socket], fds: list[int], words: list[str], cwd: str, env: dict[str, str]) -> NoReturn:
    """Be the command, as an interpreter is that has just started it, without the sockets of this one."""
    status = 1
    try:
        for number, fd in enumerate(fds):
            os.dup2(fd, number)
        for each in ours:
            each.close()
        os.closerange(3, 64)
        os.chdir(cwd)
        for name in os.environ.keys() - env.keys():
            del os.environ[name]
        os.environ.update({name: value for name, value in env.items() if os.environ.get(name) != value})
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
    sys.path.pop(0)  # the tests' own directory
    serve(*(socket.socket(fileno=int(each)) for each in sys.argv[1:]))
