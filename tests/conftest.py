"""What the tests share: the installed command, run in a directory of the test's own."""

from __future__ import annotations

import functools
import gc
import json
import os
import signal
import subprocess
import sys
import textwrap
import time
from collections.abc import Callable
from dataclasses import dataclass
from pathlib import Path
from typing import Any

import pytest
from hypothesis import HealthCheck, settings

from tests.started import TAKES_INTERPRETER, Started, Zygote

# No test is about time, on whatever machine; and one that falls does so for a change, not for its luck.
settings.register_profile("suite", deadline=None, derandomize=True, suppress_health_check=[HealthCheck.too_slow])
settings.load_profile("suite")

SIDE_BY_SIDE = {"PYTHON_CPU_COUNT": "4"}
"""For programs that wait: they may do it beside each other."""
COMMAND = str(Path(sys.executable).parent / "keen-matrix")

for _each in (signal.SIGHUP, signal.SIGINT, signal.SIGQUIT):  # a shell that puts us into the background ignores them, so all would
    if signal.getsignal(_each) is signal.SIG_IGN:
        signal.signal(_each, signal.default_int_handler if _each is signal.SIGINT else signal.SIG_DFL)
for _each in sys.meta_path:  # it would compile all modules of the command anew in each process, since it is a plugin as well
    getattr(_each, "_must_rewrite", set()).discard("keen_matrix")
sys.dont_write_bytecode = False  # the next time these files need not be compiled either
os.environ.pop("PYTHONDONTWRITEBYTECODE", None)  # as installed, the command need not compile itself at every call
os.environ["PYTHONPYCACHEPREFIX"] = str(Path(sys.prefix) / "bytecode")
os.environ["PYTHON_CPU_COUNT"] = "1"  # one worker, where several are not what is tested: each takes a fork and its end
# programs are started by this interpreter: a version manager's `python3` is a script, which takes longer than most of them
os.environ["PATH"] = os.pathsep.join([str(Path(sys.executable).parent), os.environ["PATH"]])
os.environ["XDG_CACHE_HOME"] = str(Path(sys.prefix) / "cache")  # where specs are kept between calls


def pytest_collection_finish() -> None:
    """What is there before the first test stays to the last: no collection need look at it again."""
    gc.collect()
    gc.freeze()


@dataclass(frozen=True)
class Came:
    """What a call of the command came to."""

    status: int
    out: str
    err: str


@functools.cache
def zygote() -> Zygote:
    """Return the interpreter that calls are forks of."""
    return Zygote()


class Place:
    """A directory with specs, in which the command is called."""

    def __init__(self, directory: Path) -> None:
        self.directory = directory

    def write(self, name: str, text: str) -> Path:
        path = self.directory / name
        path.parent.mkdir(parents=True, exist_ok=True)
        path.write_text(textwrap.dedent(text), encoding="utf-8")
        return path

    def call(self, *words: str, env: dict[str, str] | None = None, timeout: float = 60, stdin: str = "", anew: bool = False) -> Came:
        """Call the command; `anew` has an interpreter of its own started for it."""
        outer = {**os.environ, "NO_COLOR": "1", **(env or {})}
        if not anew and not any(name.startswith(TAKES_INTERPRETER) for name in {*(env or {})} - {*SIDE_BY_SIDE}) and sys.platform == "linux":
            status, out, err = zygote().call(COMMAND, list(words), str(self.directory), outer, stdin.encode(), timeout)
            return Came(status, out.decode(), err.decode())
        done = subprocess.run(
            [COMMAND, *words], cwd=self.directory, env=outer, input=stdin.encode(), capture_output=True, timeout=timeout
        )
        return Came(done.returncode, done.stdout.decode(), done.stderr.decode())

    def start(self, *words: str, env: dict[str, str] | None = None) -> Started | subprocess.Popen[bytes]:
        """Start a call of the command, which leads a session of its own."""
        if sys.platform != "linux":
            return self.start_anew(*words, env={**os.environ, **(env or {})})
        return zygote().start(COMMAND, list(words), str(self.directory), {**os.environ, **(env or {})})

    def start_anew(self, *words: str, **more: Any) -> subprocess.Popen[bytes]:
        """As `start`, by an interpreter that is started for it."""
        pipes = {"stdout": subprocess.PIPE, "stderr": subprocess.PIPE, **more}
        return subprocess.Popen([COMMAND, *words], cwd=self.directory, start_new_session=True, **pipes)

    def await_programs(self, process: Started | subprocess.Popen[bytes], count: int) -> list[str]:
        """Wait until so many workers of a run each run a program, and return the workers' numbers."""
        workers: list[str] = []
        for _ in range(400):
            workers = [each for each in children_of(process.pid) if any(_leads(program) for program in children_of(each))]
            if len(workers) >= count:
                break
            time.sleep(0.05)
        return workers

    def journal(self, name: str = ".keen-matrix/last.jsonl") -> list[dict[str, Any]]:
        return [json.loads(line) for line in (self.directory / name).read_text().splitlines()]

    def cases(self, name: str = ".keen-matrix/last.jsonl") -> list[dict[str, Any]]:
        return [each for each in self.journal(name) if "id" in each]


def children_of(pid: object) -> list[str]:
    try:
        return Path(f"/proc/{pid}/task/{pid}/children").read_text().split()
    except OSError:
        return []


def _leads(pid: str) -> bool:
    """Whether a program has its own group already: until then a signal to the run's reaches it as well."""
    try:
        return os.getpgid(int(pid)) == int(pid)
    except OSError:
        return False


@pytest.fixture
def place(tmp_path: Path) -> Place:
    return Place(tmp_path)


@pytest.fixture
def aspects_of(place: Place) -> Callable[..., dict[str, tuple[str, ...]]]:
    """Return a function that runs a shell text under expectations and gives, per case, the aspects that failed."""

    def run(script: str, expect: str, *, more: str = "", program: str = "") -> dict[str, tuple[str, ...]]:
        place.write("p.sh", script)
        place.write(
            "t.matrix.toml",
            f'[program]\nlaunch = "sh {{here}}/p.sh"\n{program}\n[[matrix]]\nname = "m"\nline = "x"\n{more}\n{expect}\n',
        )
        place.call("run")
        return {each["verdict"]: tuple(a["aspect"] for a in each["aspects"] if not a["met"]) for each in place.cases()}

    return run


@pytest.fixture(autouse=True)
def nothing_left(request: pytest.FixtureRequest) -> Any:
    """Every test leaves no program that it started behind: none may still run in its directory or below a case's."""
    if "tmp_path" not in request.fixturenames:  # it starts none, and to make a directory for it takes longer than most such tests
        yield
        return
    tmp_path = request.getfixturevalue("tmp_path")
    yield
    left = (
        [pid for pid in os.listdir("/proc") if pid.isdecimal() and _runs_below(pid, str(tmp_path))]
        if os.path.isdir("/proc")
        else []
    )
    for pid in left:
        os.kill(int(pid), signal.SIGKILL)
    assert not left


def _runs_below(pid: str, directory: str) -> bool:
    try:
        return os.readlink(f"/proc/{pid}/cwd").startswith(directory + os.sep)
    except OSError:
        return False
