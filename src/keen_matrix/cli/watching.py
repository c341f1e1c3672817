"""`run --watch`: a round of the run for every change of program, spec or data.

This process starts the rounds and has little in memory, since that counts into the peak of every
program. Another process watches, and each round is a process of its own: a change ends it as an
interruption does."""

from __future__ import annotations

import argparse
import json
import os
import select
import signal
import sys
import time
from collections.abc import Callable, Mapping, Sequence
from typing import NamedTuple, NoReturn

from keen_matrix.core import interruption
from keen_matrix.wording.safe import escape

#: Seconds in which a round that is to end does; then it is ended by force.
PATIENCE = 15.0
LOOK_SECONDS = 0.1
#: How far the time of a file may be after the clock: it moves in steps.
CLOCK_SECONDS = 0.02
#: Rounds in a row that a file changes while cases are launched, after which it is taken for one
#: that the program writes.
WRITTEN_BY_RUNS = 3
NAMES_SHOWN = 4
#: Exit status of a round whose output nobody reads any more: the last one (128 and SIGPIPE, as
#: shells say).
UNREAD = 141


class Begun(NamedTuple):
    """Why a round begins."""

    #: Files whose change began it; none of the first.
    changed: tuple[str, ...] = ()
    #: Whether every case is launched, changed or not.
    everything: bool = False


class Round(NamedTuple):
    """What a round has to know."""

    number: int
    #: The result of every case the last time: absolute path of the spec and id → line of the
    #: journal.
    known: Mapping[tuple[str, str], bytes]
    #: Tells the process that starts the rounds what is going on: b"b" while something is built,
    #: b"r" while cases are run.
    tell: Callable[[bytes], None]
    #: Waits until it is to begin; None where it never is.
    begins: Callable[[], Begun | None]


def watch(options: argparse.Namespace, paths: Sequence[str], run_round: Callable[[Round], int]) -> int:
    """Run rounds until the user ends them, and return the exit status of the last whole one."""
    # What the rounds write themselves would begin another one, and so on for ever.
    without = [options.journal, *(file for _, file in options.report if file)]
    watcher, changes = _watcher(paths, without)
    loop = _Rounds(options, run_round, changes)
    try:
        loop.go_on()
    except KeyboardInterrupt:
        interruption.begin_ending()
        print(file=sys.stderr)
    finally:
        loop.leave()
        os.close(changes)
        _end(watcher, signal.SIGTERM)
    return loop.status


def _watcher(paths: Sequence[str], without: Sequence[str]) -> tuple[int, int]:
    """Start the process that watches; return its id and the pipe on which it tells of changes."""
    ours, theirs = os.pipe()
    _flush()
    pid = os.fork()
    # The watching library starts threads, and a process with threads cannot be forked without harm:
    # so it has one of its own.
    if not pid:
        os.close(ours)
        _be(lambda: _serve(paths, without, theirs))
    os.close(theirs)
    return pid, ours


def _serve(paths: Sequence[str], without: Sequence[str], pipe: int) -> int:
    signal.signal(signal.SIGINT, signal.SIG_IGN)  # it ends with the one that listens
    signal.signal(signal.SIGTERM, signal.SIG_DFL)
    from keen_matrix.core.runs.watching.watcher import serve_changes

    serve_changes(paths, without, pipe)
    return 0


def _be(act: Callable[[], int]) -> NoReturn:
    """Do something in a fork, and end without going back to what the process that it came from was
    doing."""
    status = 3
    try:
        status = act()
    except KeyboardInterrupt:
        status = 130
    except BrokenPipeError:
        status = UNREAD
    except BaseException as error:
        # In one line, as every other message: the round is over, and the next one may be right.
        text = str(error).splitlines()[0][:200] if str(error) else ""
        print(f"keen-matrix: {type(error).__name__}: {escape(text)}", file=sys.stderr)
        if "KEEN_MATRIX_TRACEBACK" in os.environ:
            import traceback

            traceback.print_exc()
    finally:
        _flush()
        os._exit(status)


def _flush() -> None:
    for stream in (sys.stdout, sys.stderr):
        try:
            stream.flush()
        except OSError:
            pass


def _end(pid: int, number: signal.Signals) -> int:
    """End a process of ours and return its exit status."""
    until = time.monotonic() + PATIENCE
    try:
        os.kill(pid, number)
        # Asked for and not awaited: one that does not end would take the watch with it.
        while time.monotonic() < until:
            ended, status = os.waitpid(pid, os.WNOHANG)
            if ended:
                return os.waitstatus_to_exitcode(status)
            time.sleep(0.01)
        os.kill(pid, signal.SIGKILL)
        return os.waitstatus_to_exitcode(os.waitpid(pid, 0)[1])
    except (ProcessLookupError, ChildProcessError):
        return 0


class _LineReader:
    """Lines that come on a descriptor."""

    def __init__(self, fd: int) -> None:
        self.fd = fd
        self._rest = b""
        self.ended = False

    def read(self) -> list[bytes]:
        """Return the whole lines that are there; call it when there is something to read."""
        block = os.read(self.fd, 1 << 16)
        self.ended = not block
        *lines, self._rest = (self._rest + block).split(b"\n")
        return lines


class _Rounds:
    """The rounds, one after another."""

    def __init__(self, options: argparse.Namespace, run_round: Callable[[Round], int], changes: int) -> None:
        self.status = 0
        self._options, self._run_round = options, run_round
        self._changes = _LineReader(changes)
        #: The process of the round, and the one of the next, which has loaded what it needs and
        #: waits.
        self._pid = self._standing_by = 0
        self._progress = self._next_progress = -1
        #: Where the next one is told to begin.
        self._go = -1
        self._number = 0
        self._known: dict[tuple[str, str], bytes] = {}
        #: When the build of the latest round began and ended; nothing where it has none.
        self._build: tuple[float, float] | tuple[()] = ()
        #: When its cases began, and ended as far as they have.
        self._run: tuple[float, float] | tuple[()] = ()
        #: Files that a build writes.
        self._built: set[str] = set()
        #: File → rounds in a row in which it changed while cases were launched.
        self._meanwhile: dict[str, int] = {}
        self._changed: set[str] = set()
        self._typed = _LineReader(0) if _can_be_typed() else None

    def go_on(self) -> None:
        """Run a round for every change."""
        self._keep_results()
        self._stand_by()
        # a change before everything is watched would be missed
        is_watched = False
        while not (self._changes.ended or is_watched):
            for line in self._changes.read():
                is_watched = self._hear(line) or is_watched
            interruption.check()
        self._begin(())
        while not self._changes.ended:
            fds = [self._changes.fd, *([self._typed.fd] if self._typed else [])]
            if self._progress >= 0:
                fds.append(self._progress)
            # With an end to the wait, since the end of a round is a child's, which no descriptor
            # here tells.
            ready = select.select(fds, [], [], LOOK_SECONDS)[0]
            interruption.check()
            if self._progress in ready:
                self._hear_progress()
            if self._changes.fd in ready:
                for line in self._changes.read():
                    self._hear(line)
            if self._typed and self._typed.fd in ready:
                self._obey(self._typed)
            self._look_for_end()
            if self.status == UNREAD:
                self.status = 0  # whoever read has enough: that is no error
                return
            # All that came meanwhile is one change: saving a file is several, and a checkout of a
            # branch hundreds.
            if self._changed:
                changed, self._changed = tuple(sorted(self._changed)), set()
                # What came in a round that is ended was not told yet: the next compares with what
                # stood before it.
                self.end_round(signal.SIGTERM)
                self._begin(changed)

    def _hear_progress(self) -> None:
        said = os.read(self._progress, 4_096)
        if not said:
            os.close(self._progress)
            self._progress = -1
            return
        for word, text in (each.split() for each in said.splitlines()):
            when = float(text)
            if word == b"b" and not self._build:
                self._build = (when - CLOCK_SECONDS, when)
            elif self._build and not self._run:
                self._build = (self._build[0], when)
            if word == b"r" and not self._run:
                self._run = (when, when)
            elif self._run:
                self._run = (self._run[0], when)

    def _hear(self, line: bytes) -> bool:
        """Take what the watching process says; tell whether everything is watched now."""
        message: dict[str, object] = json.loads(line)
        if "remark" in message:
            _remark(str(message["remark"]))
        listed = message.get("changed")
        for each in map(str, listed) if isinstance(listed, list) else ():
            if self._is_news(each):
                self._changed.add(each)
        return "watching" in message

    def _is_news(self, path: str) -> bool:
        """Tell whether a change of a file is to begin a round: not one that the build or the
        program makes each time. That is told by the time of the file, since what is heard of it
        comes late."""
        when = _time_of(path)
        # A build writes what is watched; a change of just then is most likely its own.
        if self._build and self._build[0] <= when <= self._build[1]:
            # for the first time it may as well have been saved by the user meanwhile
            known = path in self._built
            self._built.add(path)
            return not known
        is_open = bool(self._pid)
        if self._run and self._run[0] <= when and (is_open or when <= self._run[1]):
            # In every round while cases run: the program does it, and not the user, who would have
            # to save at just these moments.
            count = self._meanwhile[path] = self._meanwhile.get(path, 0) + 1
            if count == WRITTEN_BY_RUNS:
                _remark(
                    f"{_shown(path)} changes in every round: the program seems to write it, so its "
                    f"changes are ignored while a round is running"
                )
            return count < WRITTEN_BY_RUNS
        self._built.discard(path)
        # Once it changes at any other time, it is the user's again.
        self._meanwhile.pop(path, None)
        return True

    def _obey(self, typed: _LineReader) -> None:
        """Do what was typed."""
        lines = typed.read()
        if typed.ended:
            self._typed = None
            return
        if any(line.strip() in (b"q", b"quit") for line in lines):
            raise KeyboardInterrupt
        if lines:
            self.end_round(signal.SIGTERM)
            self._begin((), everything=True)

    def _stand_by(self) -> None:
        """Start the process of the next round: it loads what it needs, and waits."""
        if self._standing_by:
            return
        ours, theirs = os.pipe()
        begin, self._go = os.pipe()
        # A round must never wait for whoever hears how far it is.
        os.set_blocking(theirs, False)
        self._number += 1
        asked = Round(
            self._number,
            self._known,
            lambda said: _write(theirs, b"%s %.6f\n" % (said, time.time())),
            lambda: _begun(begin),
        )
        _flush()
        pid = os.fork()
        if pid == 0:
            os.close(ours)
            os.close(self._go)
            _be(lambda: self._run_round(asked))
        os.close(theirs)
        os.close(begin)
        self._standing_by, self._next_progress = pid, ours

    def _begin(self, changed: tuple[str, ...], *, everything: bool = False) -> None:
        self._stand_by()
        if self._progress >= 0:
            os.close(self._progress)
        self._pid, self._progress = self._standing_by, self._next_progress
        self._standing_by, self._build, self._run = 0, (), ()
        _write(self._go, json.dumps([changed, everything]).encode())
        os.close(self._go)

    def _look_for_end(self) -> None:
        if not self._pid:
            return
        ended, status = os.waitpid(self._pid, os.WNOHANG)
        if not ended:
            return
        self._pid = 0
        self.status = os.waitstatus_to_exitcode(status)
        # Ctrl-C goes to the whole group of a terminal, so it was meant for the watch as well.
        if self.status == 130:
            raise KeyboardInterrupt
        if self._run:
            self._run = (self._run[0], time.time())
        self._keep_results()
        self._stand_by()
        _say_waiting(can_be_typed=self._typed is not None)

    def end_round(self, number: signal.Signals) -> None:
        """End the round that goes on, if any."""
        if self._pid:
            _end(self._pid, number)
            self._pid = 0

    def leave(self) -> None:
        """End what goes on, and what stands by."""
        self.end_round(signal.SIGINT)
        if self._standing_by:
            os.close(self._go)
            _end(self._standing_by, signal.SIGINT)

    def _keep_results(self) -> None:
        """Take note of the result of the cases that are in the journal."""
        spec = ""
        if not os.path.isfile(self._options.journal):
            return
        try:
            with open(self._options.journal, "rb") as file:
                for line in file:
                    # By the beginning of the line, without decoding it: the journal of a large run
                    # would keep the next round waiting.
                    if line.startswith(b'{"journal"'):
                        spec = os.path.abspath(str(json.loads(line).get("spec", "")))
                    elif line.startswith(b'{"id":"') and line.endswith(b"\n"):
                        # Lines as they are: of a million cases only those that changed are ever
                        # decoded.
                        self._known[spec, line[7 : line.index(b'"', 7)].decode()] = line
        except (OSError, ValueError):
            return


def _remark(text: str) -> None:
    from keen_matrix.cli.shared import remark

    remark(text)


def _say_waiting(*, can_be_typed: bool) -> None:
    keys = "Enter runs everything again, q Enter or Ctrl-C ends" if can_be_typed else "Ctrl-C ends"
    print(f"waiting for a change; {keys}", file=sys.stderr, flush=True)


def _begun(pipe: int) -> Begun | None:
    said = b""
    while block := os.read(pipe, 1 << 16):
        said += block
    if not said:
        return None
    changed, everything = json.loads(said)
    return Begun(tuple(changed), everything)


def _can_be_typed() -> bool:
    try:
        # In the background a process that reads the terminal is stopped by it (SIGTTIN).
        return os.isatty(0) and os.getpgrp() == os.tcgetpgrp(0)
    except OSError:
        return False


def _time_of(path: str) -> float:
    try:
        return os.stat(path).st_mtime
    except OSError:
        return time.time()


def _write(fd: int, said: bytes) -> None:
    try:
        os.write(fd, said)
    except OSError:
        pass


def _shown(path: str) -> str:
    return escape(os.path.relpath(path))


def shown_names(paths: Sequence[str]) -> str:
    """Return some files as one line names them."""
    shown = ", ".join(_shown(each) for each in paths[:NAMES_SHOWN])
    left = len(paths) - NAMES_SHOWN
    return shown + (f" and {left} more" if left > 0 else "")
