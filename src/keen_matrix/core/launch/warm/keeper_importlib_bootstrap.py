"""A keeper: an interpreter that has imported what a Python program imports, and forks a child for
each launch of it.

It is started by a worker with the launcher's own interpreter, which may be of another version and
know nothing of Keen Matrix: so this file uses the standard library of Python 3.8 and nothing else.
Its worker says, over a socket, which words, environment, directory and descriptors
each launch has, answers with the child's number, and later with how the child ended. In the child
the program runs as `__main__`, and the interpreter itself ends it: threads are joined, atexit
functions run, buffers flushed, modules torn down, as in a launch from nothing.

The name of the file has to have `importlib` and `_bootstrap` in it: the frames of such files are
passed over where a warning says who is to blame (`_is_internal_frame` in Lib/warnings.py and
_warnings.c). There are none of ours below the program in a launch from nothing, and `stacklevel`
may reach beyond its first one."""

from __future__ import annotations

import array
import builtins
import gc
import importlib
import importlib.machinery
import os
import pickle
import signal
import socket
import struct
import sys
import types
from collections.abc import Iterable
from typing import Any

LENGTH = struct.Struct("!I")
STARTED = struct.Struct("!ci")
ENDED = struct.Struct("!ciddq")


def receive(control: socket.socket) -> Any:
    """Return one request and its descriptors, or None when the worker is gone."""
    fds = array.array("i")
    head = b""
    while len(head) < LENGTH.size:
        # The descriptors travel with the first bytes, and would be closed by the kernel if those
        # were read by a plain recv.
        data, ancillary, _, _ = control.recvmsg(LENGTH.size - len(head), socket.CMSG_LEN(3 * fds.itemsize))
        if not data:
            return None
        for level, kind, part in ancillary:
            if level == socket.SOL_SOCKET and kind == socket.SCM_RIGHTS:
                fds.frombytes(part[: len(part) - len(part) % fds.itemsize])
        head += data
    (length,) = LENGTH.unpack(head)
    body = b""
    while len(body) < length:
        data = control.recv(min(1 << 20, length - len(body)))
        if not data:
            return None
        body += data
    return pickle.loads(body), list(fds)


def preload(names: Iterable[str]) -> None:
    """Import modules; one that cannot be imported here is left to the program."""
    for name in names:
        try:
            # As the program would: what importing does besides, it does once for all children.
            importlib.import_module(name)
        except BaseException:
            continue


class Target:
    """What is run: a file, or a module by name."""

    def __init__(self, kind: str, name: str) -> None:
        self.kind, self.name = kind, name
        self.stamp: Any = None
        self.code: types.CodeType | None = None

    def prepare(self) -> None:
        """Compile a file when it is new or has changed, so that children need not."""
        if self.kind != "file":
            return
        try:
            info = os.stat(self.name)
            stamp = (info.st_mtime_ns, info.st_size)
            # The program may be built again during a run; a launch from nothing would run what
            # is there now.
            if stamp != self.stamp:
                with open(self.name, "rb") as file:
                    self.code = compile(file.read(), self.name, "exec", dont_inherit=True)
                self.stamp = stamp
        except BaseException:
            self.stamp = self.code = None  # the child says what is wrong with it

    def run(self) -> None:
        """Run the program in the child."""
        if self.kind == "module":
            import runpy

            # runpy runs the module in the names of `__main__`, which is this file: a program would
            # change what the keeper has to do after it, and its own `finish` be called.
            main = types.ModuleType("__main__")
            main.__dict__.update(
                __builtins__=builtins, __annotations__={}, __loader__=importlib.machinery.BuiltinImporter
            )
            sys.modules["__main__"] = main
            runpy._run_module_as_main(self.name)  # type: ignore[attr-defined]
            return
        # What the interpreter sets for a script, name by name; the module of this file is never
        # seen by the program.
        main = types.ModuleType("__main__")
        main.__dict__.update(
            __builtins__=builtins,
            __file__=self.name,
            __spec__=None,
            __package__=None,
            __cached__=None,
            __annotations__={},
            __loader__=importlib.machinery.SourceFileLoader("__main__", self.name),
        )
        sys.modules["__main__"] = main
        code = self.code
        if code is None:
            with open(self.name, "rb") as file:
                code = compile(file.read(), self.name, "exec", dont_inherit=True)
        exec(code, main.__dict__)


def become(request: Any, fds: Any, target: Target) -> None:
    """Be the launch: session, descriptors, directory, environment, words, path."""
    # Its own session, as a cold launch has: its signals reach neither the keeper nor the run.
    os.setsid()
    for number, fd in enumerate(fds):
        os.dup2(fd, number)
    for fd in fds:
        if fd > 2:
            os.close(fd)
    os.chdir(request["directory"])
    # The mapping and the C environment alike, so that programs which the child starts see the same.
    os.environ.clear()
    os.environ.update(request["env"])
    sys.argv[:] = [target.name, *request["argv"]]
    # With -P or -I the directory of the script is not in the path.
    safe = getattr(sys.flags, "safe_path", False) or sys.flags.isolated
    if sys.path and sys.path[0] == os.path.dirname(os.path.abspath(__file__)):
        # That is the keeper's own directory, which is there because this file was started as a
        # script.
        del sys.path[0]
    if not safe:
        sys.path.insert(
            0, os.path.dirname(os.path.realpath(target.name)) if target.kind == "file" else os.getcwd()
        )
    # Some programs start themselves again by it.
    sys.orig_argv = [
        sys.executable,
        *request["switches"],
        *(["-m"] if target.kind == "module" else []),
        *sys.argv,
    ]


def tell_lines() -> None:
    """Have the lines of the program told where its environment asks for it, as an interpreter does
    that is started again with the directory of the hooks in PYTHONPATH."""
    if not os.environ.get("KEEN_MATRIX_TRACE"):
        return
    hooks = os.path.join(os.path.dirname(os.path.abspath(__file__)), "hooks")
    names: Any = {"__name__": "python_lines"}
    with open(os.path.join(hooks, "python_lines.py"), "rb") as file:
        exec(compile(file.read(), "<python_lines>", "exec"), names)
    names["begin"](os.environ["KEEN_MATRIX_TRACE"], os.environ.get("KEEN_MATRIX_TRACE_OWN", ""))


def live(target: Target) -> None:
    """Run the program and end as the interpreter does, except for the teardown of what is still
    alive.

    That teardown would touch every page that is shared with the keeper, and take longer than the
    program itself.
    """
    code = 0
    try:
        tell_lines()
        target.run()
    except SystemExit as leaving:
        code = exit_code(leaving.code)
    except KeyboardInterrupt:
        print_unhandled()
        finish(0)
        signal.signal(signal.SIGINT, signal.SIG_DFL)
        # By the signal itself, as an interpreter ends: whoever waits sees a signal, and no exit
        # status.
        os.kill(os.getpid(), signal.SIGINT)
    except BaseException:
        print_unhandled()
        code = 1
    os._exit(finish(code))


def exit_code(code: object) -> int:
    """Return the code that SystemExit stands for: a number as it is, nothing as 0, anything else
    printed and 1."""
    if code is None:
        return 0
    if isinstance(code, int):
        # As exit(3) cuts it.
        return code & 0xFF
    try:
        sys.stderr.write(f"{code}\n")
    except Exception:
        pass
    return 1


def finish(code: int) -> int:
    """Join threads, run atexit functions and flush; return the exit code, 120 when the flush fails
    (as in pylifecycle.c)."""
    import atexit

    threading = sys.modules.get("threading")
    try:
        if threading is not None:
            # Before atexit functions, as Py_FinalizeEx does: a thread that is joined may still
            # write.
            threading._shutdown()
        atexit._run_exitfuncs()
    except BaseException:
        print_unhandled()
    # In this order, as flush_std_files does in pylifecycle.c.
    for stream in (sys.stdout, sys.stderr):
        try:
            # A program may have closed it, as `with sys.stdout` does: that is no failure.
            if stream is not None and not getattr(stream, "closed", False):
                stream.flush()
        except BaseException as error:
            if stream is sys.stdout:
                code = 120
                try:
                    sys.stderr.write(f"Exception ignored in: {stream!r}\n{type(error).__name__}: {error}\n")
                except Exception:
                    pass
    return code


def print_unhandled() -> None:
    """Print an exception as the interpreter would, from the program's first frame on."""
    kind, value, trace = sys.exc_info()
    if kind is None or value is None:
        return
    own = os.path.abspath(__file__)
    # The frames of this file would not be there in a launch from nothing.
    while trace is not None and os.path.abspath(trace.tb_frame.f_code.co_filename) == own:
        trace = trace.tb_next
    value.__traceback__ = trace
    try:
        sys.excepthook(kind, value, trace)
    except BaseException:
        sys.__excepthook__(kind, value, trace)


def die_with_parent() -> None:
    """Have the kernel end this process when the worker is gone; where it cannot, the closed socket
    does."""
    try:
        import ctypes

        # PR_SET_PDEATHSIG: a worker that is killed cannot tell its keeper.
        ctypes.CDLL(None).prctl(1, int(signal.SIGKILL))
    except Exception:
        pass


def reset_signals() -> None:
    """Have signals as an interpreter has them that was started with none ignored; our worker
    ignores some."""
    for number in signal.valid_signals():
        own = number in (
            signal.SIGPIPE,
            getattr(signal, "SIGXFSZ", None),
        )  # what an interpreter ignores by itself
        if signal.getsignal(number) is signal.SIG_IGN and not own:
            signal.signal(number, signal.default_int_handler if number == signal.SIGINT else signal.SIG_DFL)


def main() -> None:
    """Serve launches until the worker closes the socket."""
    reset_signals()
    control = socket.socket(fileno=int(sys.argv[1]))
    first, _ = receive(control)
    target = Target(*first["target"])
    die_with_parent()
    preload(first["modules"])
    target.prepare()
    # What is collected and frozen now is in no child's collections: they would touch every page
    # that is shared, and copy it.
    gc.collect()
    gc.freeze()
    control.sendall(b"R")
    while True:
        got = receive(control)
        if got is None:
            os._exit(0)
        request, fds = got
        target.prepare()
        pid = os.fork()
        if pid == 0:
            control.close()
            become(request, fds, target)
            live(target)
            return
        for fd in fds:
            os.close(fd)
        # The number first, since the worker has to be able to kill what does not end.
        control.sendall(STARTED.pack(b"P", pid))
        _, status, usage = os.wait4(pid, 0)
        control.sendall(ENDED.pack(b"E", status, usage.ru_utime, usage.ru_stime, usage.ru_maxrss))


if __name__ == "__main__":
    main()
