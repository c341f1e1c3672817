"""What a whole spec uses: commands that run once before its cases and once after them, and a server
that runs beside them.

Such a command runs in the directory of the spec with the environment of Keen Matrix, as a build
does. Without `ready-when` it must exit 0 before anything is launched. With it, it runs on until the
last case has ended. Whatever it leaves running is ended with it."""

from __future__ import annotations

import contextlib
import os
import shlex
import signal
import threading
import time
from collections.abc import Callable, Iterator, Sequence

from keen_matrix.core.errors import OnceFault
from keen_matrix.core.expressions import Scope, Template
from keen_matrix.core.launch.directories import leftovers
from keen_matrix.core.launch.process.between import Between
from keen_matrix.core.launch.workers.engine import WorkerPool
from keen_matrix.core.model.signals import status_text
from keen_matrix.core.model.spec import Once, Spec

#: Characters of its last output that are shown when it fails.
TAIL = 2_000
#: Bytes of output in which the text that says it is ready is looked for.
MOST_HEARD = 1 << 20
#: Time from the signal TERM to KILL.
END_SECONDS = 2.0
#: Time that the command after the cases may take.
AFTER_SECONDS = 60.0
STEP_SECONDS = 0.02


@contextlib.contextmanager
def used_by(spec: Spec, pool: WorkerPool, remarks: Callable[[str], None]) -> Iterator[None]:
    """Have what a spec uses run while the block lasts. Raises OnceFault when it cannot be had; what
    goes wrong at its end is a remark."""
    once = spec.program.once
    if once is None:
        yield
        return
    leftovers.become_subreaper()
    before = set(leftovers.children())
    server = None
    try:
        if once.before:
            server = _Beside(_words(once.before, spec), spec.here)
            server.await_ready(once)
        yield
    finally:
        if server is not None:
            server.end()
        if once.after:
            problem = _run_after(_words(once.after, spec), spec.here)
            if problem:
                remarks(f"once-after: {problem}")
        known = before | {each.process.pid for each in pool.workers}
        leftovers.end(leftovers.reap_strays(known))


def _run_after(words: Sequence[str], here: str) -> str:
    """Run the command after the cases; return what is wrong, or nothing: their results stand."""
    try:
        after = _Beside(words, here)
    except OnceFault as fault:
        return str(fault)
    problem = after.await_end(AFTER_SECONDS)
    after.end()
    return f"{after.shown} {problem}" if problem else ""


def _words(templates: Sequence[Template], spec: Spec) -> list[str]:
    return [each.render(Scope({"here": spec.here})) for each in templates]


class _Beside:
    """A command that runs beside the cases; what it prints is read all the time."""

    def __init__(self, words: Sequence[str], here: str) -> None:
        """Start it. Raises OnceFault."""
        self.shown = shlex.join(words)
        self._heard = bytearray()
        self._tail = bytearray()
        self._pipe, theirs = os.pipe()
        try:
            self._process = Between(
                words, file=words[0], directory=here, env=os.environ, stdout=theirs, stderr=theirs
            )
        except (OSError, ValueError) as error:
            os.close(self._pipe)
            reason = getattr(error, "strerror", None) or error
            raise OnceFault(f"{self.shown}, which the spec uses, cannot be run: {reason}") from None
        finally:
            os.close(theirs)
        self._reader = threading.Thread(target=self._read, daemon=True)
        self._reader.start()

    def _read(self) -> None:
        # what it leaves running may keep the pipe open for ever; the thread is a daemon
        with open(self._pipe, "rb", buffering=0) as pipe:
            while piece := pipe.read(1 << 16):
                self._tail = (self._tail + piece)[-TAIL:]
                if len(self._heard) < MOST_HEARD:
                    self._heard += piece

    def await_ready(self, once: Once) -> None:
        """Wait until it is ready, or has ended well. Raises OnceFault when it is not in time."""
        if once.ready_when is None:
            problem = self.await_end(once.within)
        else:
            problem = self._await_text(once.ready_when.encode(), once.within)
        if problem:
            self.end()
            raise OnceFault(f"once-before: {self.shown} {problem}, so nothing was run{self._said()}")

    def await_end(self, seconds: float) -> str:
        """Wait until it ends; return what is wrong with its end, or nothing."""
        status = self._process.wait(seconds)
        if status is None:
            return f"did not end within {seconds:g} s"
        return "" if status == 0 else f"ended with {status_text(status)}"

    def _await_text(self, text: bytes, seconds: float) -> str:
        until = time.monotonic() + seconds
        while text not in self._heard:
            status = self._process.wait(0.0)
            if status is not None:
                self._reader.join(END_SECONDS)
                return "" if text in self._heard else f"ended with {status_text(status)} before it was ready"
            if time.monotonic() > until:
                shown = text.decode("utf-8", "replace")
                return f"did not print {shown!r} within {seconds:g} s"
            time.sleep(STEP_SECONDS)
        return ""

    def _said(self) -> str:
        lines = self._tail.decode("utf-8", "replace").strip().splitlines()[-8:]
        return "\n  ".join(["; its last lines:", *lines]) if lines else ""

    def end(self) -> None:
        """End it with its group, if it still runs."""
        self._process.send(signal.SIGTERM)
        self._process.wait(END_SECONDS)
        self._process.end()
        self._reader.join(STEP_SECONDS)
