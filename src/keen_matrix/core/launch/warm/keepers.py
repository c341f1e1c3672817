"""Warm launches: a Python program is forked from a keeper instead of started again.

Found here: whether a program can be run warm, what it imports, and whether warm and cold launches
do the same.
"""

from __future__ import annotations

import contextlib
import os
import pickle
import re
import resource
import socket
import struct
import subprocess
import sys
import tempfile
import time
from collections.abc import Collection, Mapping, Sequence
from typing import NamedTuple

from keen_matrix.core.launch.process.between import Between
from keen_matrix.core.launch.runtimes import script_words
from keen_matrix.core.structs import Struct

KEEPER = os.path.join(os.path.dirname(os.path.abspath(__file__)), "keeper_importlib_bootstrap.py")
LENGTH, STARTED, ENDED = struct.Struct("!I"), struct.Struct("!ci"), struct.Struct("!ciddq")
READY_SECONDS = 20.0
#: Time that a keeper gets to fork a child; it takes a few milliseconds.
ANSWER_SECONDS = 5.0
PROBE_SECONDS = 20.0
#: Modules that are imported beforehand, and bytes of a launch that tells which.
MOST_MODULES, MOST_SAID = 2_000, 1 << 22
_PYTHON = re.compile(r"python(?:\d+(?:\.\d+)?)?")
_WITH_VALUE = frozenset({"-W", "-X"})
_IMPORT = re.compile(rb"^import time:\s+\d+ \|\s+\d+ \|\s*([\w.]+)\s*$", re.MULTILINE)


class ColdOnly(Exception):
    """A program cannot be run warm; the text says why."""


class WarmPlan(Struct, frozen=True, kw_only=True):
    """What a keeper has to know: the interpreter with its switches, what it runs, and what it
    imports beforehand."""

    interpreter: str
    switches: tuple[str, ...]
    kind: str
    name: str
    modules: tuple[str, ...] = ()
    #: Variables that an interpreter reads at its start and that a launch may have otherwise than
    #: the keeper: what they do, the keeper does for its child.
    own_variables: frozenset[str] = frozenset()


def warm_plan(file: str, words: Sequence[str]) -> WarmPlan:
    """Return how a launch is run warm: `python3 -S fare.py`, `python3 -m pkg`, or an installed
    console script.

    Raises ColdOnly when the launch words start no Python program that a keeper can run.
    """
    # Not an interpreter by its name: perhaps a script that names one in its first line.
    if not _PYTHON.fullmatch(os.path.basename(words[0])):
        return _script_plan(file, words)
    rest = list(words[1:])
    switches: list[str] = []
    while rest and rest[0].startswith("-") and rest[0] != "-":
        word = rest.pop(0)
        if word == "-m" and len(rest) == 1:
            return WarmPlan(interpreter=file, switches=tuple(switches), kind="module", name=rest[0])
        if word in ("-m", "-c") or word.startswith(("-c", "-m")):
            raise ColdOnly(
                f"the launch words have {word}; warm launches need a file or -m MODULE, with no words "
                f"after it"
            )
        # Switches are handed on as they are. -O or -W change what the program does, so the keeper
        # must have them too.
        switches.append(word)
        if word in _WITH_VALUE and rest:
            switches.append(rest.pop(0))
    # Words after the file would be the program's own, in front of each vector; a keeper knows one
    # target and no words.
    if len(rest) != 1 or not os.path.isfile(rest[0]):
        raise ColdOnly("the last launch word is not a Python file")
    return WarmPlan(interpreter=file, switches=tuple(switches), kind="file", name=rest[0])


def _script_plan(file: str, words: Sequence[str]) -> WarmPlan:
    """An installed console script: a file whose first line names a Python interpreter."""
    parts = script_words(file)
    if not parts or len(words) > 1:
        raise ColdOnly(f"{words[0]} is not a Python program")
    if not parts or not _PYTHON.fullmatch(os.path.basename(parts[0])):
        raise ColdOnly(f"{words[0]} is not a Python program")
    import shutil

    interpreter = parts[0] if os.sep in parts[0] else shutil.which(parts[0])
    if interpreter is None:
        raise ColdOnly(f"{parts[0]} was not found in PATH")
    return WarmPlan(interpreter=interpreter, switches=tuple(parts[1:]), kind="file", name=file)


def imported_modules(
    plan: WarmPlan, vectors: Sequence[Sequence[str]], environment: Mapping[str, str]
) -> tuple[str, ...]:
    """Return what a program imports of the standard library and installed packages, from one
    launch from nothing with each of a few vectors, side by side: what it imports only where it is
    needed, to dress a message say, shows with the one and not with the other.

    They run in empty directories with nothing on standard input. The program's own files are never
    among them. Raises ColdOnly where none of them ends.
    """
    target = ["-m", plan.name] if plan.kind == "module" else [plan.name]
    # The interpreter's own account: what is imported by name, by code or by the site module, all of
    # it is there.
    words = [plan.interpreter, *plan.switches, "-X", "importtime", *target]
    due = time.monotonic() + PROBE_SECONDS
    with tempfile.TemporaryDirectory(prefix="keen-matrix-") as directory:
        # These launches are no cases: whatever they write goes with the directory.
        env = {**environment, "HOME": directory, "TMPDIR": directory}
        with contextlib.ExitStack() as ending:
            try:
                probes = [
                    ending.enter_context(_ImportProbe([*words, *each], env, directory))
                    for each in vectors or [()]
                ]
            except OSError as error:
                raise ColdOnly(f"the launch that reports its imports failed: {error}") from None
            said = [text for text in (each.said(due) for each in probes) if text is not None]
        if not said:
            raise ColdOnly(f"the launch that reports its imports did not end within {PROBE_SECONDS:g} s")
        names = dict.fromkeys(name.decode() for text in said for name in _IMPORT.findall(text))
        return _installed(plan, list(names)[:MOST_MODULES], env, directory)


class _ImportProbe:
    """A launch that tells what is imported. Leaving it ends what still runs of it."""

    def __init__(self, words: Sequence[str], env: Mapping[str, str], directory: str) -> None:
        self._said = tempfile.TemporaryFile(dir=directory)  # noqa: SIM115 - closed in __exit__
        own = tempfile.mkdtemp(dir=directory)
        nowhere = os.open(os.devnull, os.O_WRONLY)
        try:
            self._process = Between(
                words, file=words[0], directory=own, env=env, stdout=nowhere, stderr=self._said.fileno()
            )
        finally:
            os.close(nowhere)
        with contextlib.suppress(OSError, ValueError, AttributeError):
            # whatever it prints, it fills no disk
            resource.prlimit(self._process.pid, resource.RLIMIT_FSIZE, (MOST_SAID, MOST_SAID))

    def __enter__(self) -> _ImportProbe:
        return self

    def __exit__(self, *_: object) -> None:
        self._process.end()
        self._said.close()

    def said(self, due: float) -> bytes | None:
        """Return what it said on standard error; None where it has not ended by then."""
        if self._process.wait(max(0.0, due - time.monotonic())) is None:
            return None
        self._said.seek(0)
        return self._said.read(MOST_SAID)


_ASK = """
import importlib.util, os, sys, sysconfig
roots = tuple(os.path.realpath(p) + os.sep for p in {*sysconfig.get_paths().values(), os.path.dirname(os.__file__)} if p)
for name in sys.stdin.read().split():
    if name.startswith("__main__"):
        continue
    try:
        spec = importlib.util.find_spec(name)
    except Exception:
        continue
    if spec and (spec.origin in ("built-in", "frozen") or (spec.origin and os.path.realpath(spec.origin).startswith(roots))):
        print(name)
"""


def _installed(
    plan: WarmPlan, names: Sequence[str], env: Mapping[str, str], directory: str
) -> tuple[str, ...]:
    """Return those of some modules that the interpreter finds in its library or its installed
    packages."""
    done = subprocess.run(
        [plan.interpreter, *plan.switches, "-c", _ASK],
        input="\n".join(names),
        cwd=directory,
        env=dict(env),
        capture_output=True,
        text=True,
        timeout=PROBE_SECONDS,
        check=False,
    )
    return tuple(done.stdout.split())


class Ended(NamedTuple):
    """How a child of a keeper ended: its wait status, seconds used, and peak memory in the
    kernel's unit."""

    status: int
    user_seconds: float
    system_seconds: float
    peak: int


class Keeper:
    """A worker's end of one keeper."""

    def __init__(self, plan: WarmPlan, environment: Mapping[str, str]) -> None:
        """Start a keeper and wait until it has imported everything. Raises OSError when it does
        not come up."""
        self._plan = plan
        self.control, theirs = socket.socketpair()
        with theirs:
            self.process = subprocess.Popen(
                [plan.interpreter, *plan.switches, KEEPER, str(theirs.fileno())],
                pass_fds=[theirs.fileno()],
                # A keeper must not write beside the program's files; a launch that is cold would do
                # so in its own time.
                env={**environment, "PYTHONDONTWRITEBYTECODE": "1"},
                stdin=subprocess.DEVNULL,
                stdout=subprocess.DEVNULL,
                stderr=subprocess.DEVNULL,
                start_new_session=True,
                cwd="/",
            )
        try:
            self._send({"target": (plan.kind, plan.name), "modules": plan.modules}, ())
            self.control.settimeout(READY_SECONDS)
            # Only now has it imported everything: a child that was forked before would import it
            # again.
            if self.control.recv(1) != b"R":
                raise OSError("the keeper ended before it was ready")
            self.control.settimeout(None)
        except OSError:
            self.close()
            raise

    def _send(self, message: Mapping[str, object], fds: Sequence[int]) -> None:
        body = pickle.dumps(dict(message), protocol=4)
        head = LENGTH.pack(len(body))
        if fds:
            socket.send_fds(self.control, [head], list(fds))
            self.control.sendall(body)
        else:
            self.control.sendall(head + body)

    def launch(self, argv: Sequence[str], env: Mapping[str, str], directory: str, fds: Sequence[int]) -> int:
        """Have a child launched and return its number. Raises OSError when the keeper is gone, or
        does not answer: an earlier program may have stopped it, its parent."""
        # A program can stop its parent by a signal, and that is the keeper: without an end to the
        # wait the run would stop with it.
        self.control.settimeout(ANSWER_SECONDS)
        try:
            self._send(
                {
                    "argv": list(argv),
                    "env": dict(env),
                    "directory": directory,
                    "switches": self._plan.switches,
                },
                fds,
            )
            answer = self._read(STARTED.size)
        finally:
            self.control.settimeout(None)
        return int(STARTED.unpack(answer)[1])

    def ended(self) -> Ended:
        """Return how the child ended; to be called when the socket can be read. Raises OSError
        when the keeper is gone."""
        _, status, user, system, peak = ENDED.unpack(self._read(ENDED.size))
        return Ended(status, user, system, peak)

    def _read(self, size: int) -> bytes:
        data = b""
        while len(data) < size:
            part = self.control.recv(size - len(data))
            if not part:
                raise OSError("the keeper is gone")
            data += part
        return data

    def close(self) -> None:
        """End the keeper."""
        self.control.close()
        self.process.kill()
        self.process.wait()


def is_warmable(env: Mapping[str, str], base: Mapping[str, str], own: Collection[str] = ()) -> bool:
    """Tell whether a launch with this environment can be warm: what an interpreter reads at its
    start is as the keeper had, those variables aside that are `own_variables` of its plan."""
    return all(
        env.get(name) == base.get(name)
        for name in {*env, *base}.difference(own)
        if name.startswith("PYTHON") or name in ("LC_ALL", "LANG", "LC_CTYPE")
    )


__all__ = ["ColdOnly", "Ended", "Keeper", "WarmPlan", "imported_modules", "is_warmable", "sys", "warm_plan"]
