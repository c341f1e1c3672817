"""One launch of a program: from starting it to the last byte of its output.

What is promised, by concern:

Input. The program gets its standard input whole, or as much of it as it reads; then end of file at
once, unless prompts are waited for or it is to wait in vain. A reply is given when its prompt has
come, on either stream and in however many pieces.

Output. Both streams are kept up to the cap, in the order in which they came, and read to their end.
A program whose output goes on beyond the cap is ended. A process that the program left behind can
hold the end back for DRAIN_GRACE, no longer.

Ending. However it goes, a launch is finished within its time and the grace times of `state`. Its
process is waited for, and every descriptor of ours is closed. A signal goes to the whole process
group, and never to a number that may be another process's by now.
"""

from __future__ import annotations

import contextlib
import math
import os
import select
import signal
import time
from collections.abc import Callable, Sequence

from keen_matrix.core.launch.process.capture import Capture
from keen_matrix.core.launch.process.dialogue import Dialogue
from keen_matrix.core.launch.process.feeders import Feeders
from keen_matrix.core.launch.process.meanwhile import Happening, Happenings
from keen_matrix.core.launch.process.outputs import Outputs
from keen_matrix.core.launch.process.plumbing import Plumbing, make_plumbing
from keen_matrix.core.launch.process.starters import Running, Starter, signal_group
from keen_matrix.core.launch.process.state import FEEDERS_STEP, UNKILLABLE_GRACE, Event, Machine, State
from keen_matrix.core.launch.process.stdin import StandardInput
from keen_matrix.core.launch.process.system import NOT_WATCHED, Poller, System
from keen_matrix.core.launch.process.waiting import waits_for_input
from keen_matrix.core.launch.start import Start, Stopping
from keen_matrix.core.model.outcome import Outcome
from keen_matrix.core.model.signals import signal_name

#: Reads of each stream once the program has ended: what it left in a pipe, which it may have made
#: larger, fits in them.
READS_AT_END = 20
#: Seconds until a program is looked at, whether it waits for input that never comes, and the most
#: between two such looks, which come when it has run twice as long.
FIRST_LOOK, LOOK_SECONDS = 0.02, 0.1
#: Seconds after which a program is taken to wait for more input where the system does not tell.
UNSEEN_WAIT = 0.5
#: How often a program is asked whether it has ended while there is no descriptor to spare that
#: would tell.
ASK_SECONDS = 0.005


class Launch:
    """A program that runs, is about to, or did."""

    def __init__(
        self,
        system: System,
        poller: Poller,
        cap: int,
        live: Callable[[str, bytes, float], None] | None = None,
    ) -> None:
        self._system, self._poller, self._live = system, poller, live
        self.outcome = Outcome()
        self.machine = Machine()
        self.feeders = Feeders()
        #: Commands that run beside the program.
        self.beside = Feeders()
        self._capture = Capture(cap)
        #: The moments of its start, and at which it is overdue.
        self.started = self._end = 0.0
        self.running: Running | None = None
        #: The number of its process; 0 when there is none.
        self.pid = 0
        #: Whether the program itself has ended.
        self.has_exited = False
        self._dialogue: Dialogue | None = None
        self._may_ask_more = False
        #: Whether its standard input ends only once it waits for more than there is.
        self._ends_input = False
        self._stop: Stopping | None = None
        self._meanwhile: Happenings | None = None
        #: The start that it had, for commands that run beside it.
        self._start: Start | None = None
        #: The kernel's name of a standard input on which nothing will ever come.
        self._pipe = ""
        #: When the program is next looked at, whether it waits for that.
        self._look_at = math.inf

    _outputs: Outputs
    #: Both are there once the program has started.
    _stdin: StandardInput

    @property
    def finished(self) -> bool:
        """Whether nothing more comes of it."""
        return self.machine.state is State.FINISHED

    @property
    def keeper_lost(self) -> bool:
        """Whether the keeper that should have forked the program is gone."""
        return self.running is not None and self.running.keeper_lost

    @property
    def descriptors(self) -> list[int]:
        """Those whose events are this launch's."""
        if self.running is None:
            return []
        found = list(self._outputs.streams)
        if self._stdin.fd >= 0:
            found.append(self._stdin.fd)
        if self.running.watched >= 0:
            found.append(self.running.watched)
        return found

    # --- beginning ---

    def start(self, start: Start, vector: Sequence[str], starter: Starter) -> None:
        """Start the program with a vector.

        The working directory of this process is changed for the moment of the launch: posix_spawn
        has no portable way to set the child's, and a worker has one thread. Raises OSError or
        ValueError when the system refuses; nothing of the launch is left then.
        """
        # A try that the system refused may have started feeders, whose ends are not those of this
        # one.
        if self.machine.state is not State.RUNNING or self.feeders.ends:  # a try before failed
            self.machine, self.feeders = Machine(), Feeders()
        plumbing, running = Plumbing(), None
        screen = start.terminal
        self.outcome.together = start.joined or (screen is not None and not screen.stderr_apart)
        try:
            make_plumbing(plumbing, start)
            # Before the feeders: commands with a relative name are looked for where the program is.
            os.chdir(start.directory)
            if start.chain:
                self.feeders.start(start, plumbing.sink)
            # As late as can be: pipes and feeders are no part of the program's time.
            self.started = time.monotonic()
            running = starter.start(start, vector, plumbing)
            self._outputs = Outputs(plumbing, self._poller)
            self._outputs.watch()
        except BaseException:
            # It runs already, and nobody would ever wait for it.
            if running is not None:
                _undo(running)
            self.feeders.end()
            plumbing.close_ours()
            raise
        finally:
            plumbing.close_theirs()
        self.running, self.pid = running, running.pid
        stays_open = bool(start.dialogue or start.beyond) or start.silent
        self._stdin = StandardInput(plumbing, self._poller, stays_open=stays_open)
        # From here on the deadline stands, whatever fails below: no program is ever without one.
        self._end = self.machine.deadline = self.started + start.timeout
        self._watch_end(running)
        try:
            self._stdin.begin()
        except OSError:
            self.abort()
            raise
        self._watch_input(start)

    def _watch_input(self, start: Start) -> None:
        """Look for a program that waits for input, and for its prompts, where that is asked for."""
        self._ends_input = start.beyond is not None
        if start.silent or (self._ends_input and not start.dialogue):
            self._look_for_waiting(self.started)
        if start.meanwhile:
            self._start, self._meanwhile = start, Happenings(start.meanwhile, self.started)
            self._plan_end()
        self._may_ask_more = start.may_ask_more
        if start.dialogue or start.stop or start.beyond:
            self._stop = start.stop
            texts = start.stop.when if start.stop is not None else ()
            self._dialogue = Dialogue(start.dialogue, texts, self.started, start.beyond)
            self._plan_end()

    def _look_for_waiting(self, now: float) -> None:
        """Look from now on whether the program waits for its standard input."""
        if self._stdin.fd < 0 or self._stdin.terminal >= 0:
            return
        if self._system.sees_calls:
            # The kernel names a pipe alike at both ends, and that is how a process blocked on it is
            # known.
            self._pipe = os.readlink(f"/proc/self/fd/{self._stdin.fd}")
            self._look_at = now + FIRST_LOOK
        elif self._ends_input:
            self._look_at = now + UNSEEN_WAIT
        self._plan_end()

    def _watch_end(self, running: Running) -> None:
        """Be told of the program's end by a descriptor, where the system has one to spare."""
        try:
            running.watch()
            if running.watched >= 0:
                self._poller.register(running.watched, select.POLLIN)
        except OSError:  # the program is asked now and then
            running.unwatch()
        if running.watched < 0:
            self._plan_end()

    def fail(self, reason: str) -> None:
        """Be finished without having been started."""
        self.outcome.not_started = reason
        self.machine.state = State.FINISHED

    # --- while it runs ---

    def on_event(self, fd: int) -> None:
        """Take the event of one of the descriptors."""
        running = self.running
        if self.finished or running is None:
            return
        if fd in self._outputs.streams:
            self._read(fd)
        elif fd == self._stdin.fd:
            self._stdin.feed()
        elif fd == running.watched:
            running.on_event()
            self._on_exit()
        # Whichever comes last, the end of the program or that of its output, finishes the launch.
        if self.has_exited and not self._outputs.streams and not self.finished:
            self._finish(time.monotonic())

    def _read(self, fd: int) -> bool:
        """Take what has come on one stream; tell whether there may be more."""
        stream = self._outputs.streams[fd]
        chunk = self._outputs.read(fd)
        if not chunk:
            if chunk is not None and fd == self._stdin.terminal:
                self._stdin.terminal = -1  # closed; replies have nowhere to go
            return False
        now = time.monotonic()
        if not self._capture.feed(stream, chunk, now - self.started):
            # What still comes of a program that is killed for its flood would count as another one.
            if not self.outcome.flooded:
                self.outcome.flooded = stream
                self._kill(Event.FLOOD)
        else:
            if self._dialogue is not None:
                self._hear(self._dialogue, stream, chunk)
            if self._meanwhile is not None and not self.has_exited:
                self._happen(self._meanwhile.feed(stream, chunk, now))
        if self._live is not None:
            self._live(stream, chunk, time.monotonic() - self.started)
        return True

    def _hear(self, dialogue: Dialogue, stream: str, chunk: bytes) -> None:
        """Answer the prompts that came, and end the program at the text that ends it."""
        heard = dialogue.feed(stream, chunk, time.monotonic())
        for number, reply in enumerate(heard.replies, 1):
            # Standard input may only be closed after the reply after which no prompt is waited for
            # any more.
            last = number == len(heard.replies) and dialogue.waited_for is None
            # Closed at once, it would let the program run past a prompt that is one too many before
            # we have seen it.
            self._stdin.reply(reply + b"\n", last=last and not self._ends_input)
            if last and self._ends_input:
                self._look_for_waiting(time.monotonic())
        if heard.asked_more:
            self.outcome.asked_more = not self._may_ask_more
            self._stdin.end_typing()
        if heard.replies and self.machine.state is State.RUNNING:
            self._plan_end()
        if heard.stops and self._stop is not None:
            self._send_stop(self._stop)

    def _happen(self, happening: Happening | None) -> None:
        """Do what happens now, and what is due at once after it."""
        while happening is not None and self._meanwhile is not None and self._start is not None:
            missed = happening.change() if happening.change is not None else ""
            if happening.command is not None:
                missed = self.beside.start_beside(self._start, happening.command) or missed
            if missed:
                self.outcome.missed.append((happening.name, missed))
            if happening.signal:
                self._signal(happening.signal, alone=happening.alone)
            happening = self._meanwhile.due(time.monotonic())
        if self._meanwhile is not None and self.machine.state is State.RUNNING:
            self._plan_end()

    def _signal(self, number: int, *, alone: bool) -> None:
        """Send the program a signal, or its whole group."""
        if not alone:
            signal_group(self.pid, number)
        elif not self.has_exited:  # its number is its own until it is waited for
            with contextlib.suppress(ProcessLookupError, PermissionError):
                os.kill(self.pid, number)

    def _plan_end(self) -> None:
        """Wake up at the end, or earlier when a prompt is overdue or the program is to be
        stopped."""
        moments = [self._end, self._look_at]
        if self._must_ask:
            moments.append(time.monotonic() + ASK_SECONDS)
        if self._dialogue is not None and self._dialogue.overdue_at is not None:
            moments.append(self._dialogue.overdue_at)
        if self._stop is not None and self._stop.after is not None:
            moments.append(self.started + self._stop.after)
        if self._meanwhile is not None:
            moments.append(self._meanwhile.due_at)
        self.machine.deadline = min(moments)

    @property
    def _must_ask(self) -> bool:
        """Whether nothing tells of the program's end: no descriptor, and no SIGCHLD either where
        descriptors are the usual way."""
        running = self.running
        # Where SIGCHLD is the way ends are learnt, the worker asks everybody anyway.
        alive = running is not None and running.watched < 0 and not self.has_exited
        return alive and self._system.pidfds

    def reap(self) -> None:
        """Ask whether the program has ended; never waits."""
        self.feeders.reap()
        self.beside.reap()
        if self.running is None or self.finished or self.has_exited:
            return
        if self.running.has_ended():
            self._on_exit()

    # --- ending ---

    def on_deadline(self, now: float) -> None:
        """Do what is due when the time of a state is over."""
        if now < self.machine.deadline or self.finished:
            return
        if self._must_ask:
            self.reap()
            if self.has_exited or self.finished:
                return
        state = self.machine.state
        if state is State.RUNNING:
            if now >= self._look_at:
                self._look(now)
            if self._meanwhile is not None and now < self._end:
                self._happen(self._meanwhile.due(now))
            if self.machine.state is State.RUNNING:
                self._plan_end()
                if now >= self.machine.deadline:
                    self._on_overdue(now)
        elif state in (State.STOPPING, State.TERMINATING):
            # A program that its spec stops and that does not stop is timed out; one that we
            # terminate was overdue already.
            self.outcome.timed_out |= state is State.STOPPING
            self._kill(Event.TIME)
        elif state is State.FEEDING:
            self._finish(now)
        else:
            self._give_up(now)

    def _look(self, now: float) -> None:
        """End a program that waits for input, which never comes: that is its answer to the
        vector."""
        self._look_at = now + min(LOOK_SECONDS, now - self.started)
        if self._pipe and not waits_for_input(self.pid, self._pipe):
            return
        if self._ends_input:
            # All that it printed before is there to be read, a prompt among it perhaps.
            for fd in self._outputs.ready():
                self._read(fd)
            self._look_at = math.inf
            self._stdin.close()
            return
        self.outcome.waits = True
        self._look_at = math.inf
        signal_group(self.pid, signal.SIGTERM)
        self.machine.move(Event.OVERDUE, now)

    def _on_overdue(self, now: float) -> None:
        """Stop the program as its spec says, or end it for a prompt that has not come, or for its
        time."""
        stop = self._stop
        stops_at = self.started + stop.after if stop is not None and stop.after else math.inf
        if stop is not None and stops_at <= now < self._end:
            self._send_stop(stop)
            return
        waited = self._dialogue.waited_for if self._dialogue is not None else None
        # Its whole time is not over: it is the prompt that did not come in its own.
        if now < self._end and waited is not None:
            self.outcome.unasked = waited.prompt
        else:
            self.outcome.timed_out = True
        signal_group(self.pid, signal.SIGTERM)
        signal_group(self.pid, signal.SIGCONT)  # a stopped process takes no other signal
        self.machine.move(Event.OVERDUE, now)

    def _send_stop(self, stop: Stopping) -> None:
        """Give the program the signal that its spec ends it with."""
        # Once is enough: a text that says when to stop may come again.
        self._stop = None
        self.outcome.stopped = stop.signal
        self._signal(stop.signal, alone=stop.alone)
        self.machine.move(Event.STOP, time.monotonic())

    def _kill(self, event: Event) -> None:
        signal_group(self.pid, signal.SIGKILL)
        self.machine.move(event, time.monotonic())

    def _on_exit(self) -> None:
        """The program itself has ended: drain its streams."""
        now = time.monotonic()
        self.outcome.seconds = now - self.started
        self.has_exited = True
        self.machine.move(Event.EXIT, now)
        self._unwatch()
        self._stdin.close()
        # Only now may the streams have an end: the program itself writes no more.
        self._outputs.let_go()
        for fd in list(self._outputs.streams):
            # Bounded, since a process left behind may write for ever.
            for _ in range(READS_AT_END):
                open_still = fd in self._outputs.streams
                if not open_still or self.outcome.flooded or not self._read(fd):
                    break
        if not self._outputs.streams:
            self._finish(now)

    def _unwatch(self) -> None:
        """Watch for the program's end no more."""
        if self.running is not None and self.running.watched >= 0:
            try:  # contextlib.suppress would cost every case a few calls
                self._poller.unregister(self.running.watched)
            except NOT_WATCHED:
                pass
            self.running.unwatch()

    def _give_up(self, now: float) -> None:
        """End the draining, or leave alone a process that even SIGKILL did not end."""
        exited = self.has_exited
        self.outcome.kept_open |= exited
        if not (exited and self._system.subreaper):
            # else the worker ends what is left, once it has seen what it is
            signal_group(self.pid, signal.SIGKILL)
        # What is in the pipes now was written in time, however long we were not looking.
        while self.outcome.flooded is None and (ready := self._outputs.ready()):
            for fd in ready:
                self._read(fd)
        self._outputs.close_all()
        if not exited:
            self.outcome.seconds = now - self.started
        self._finish(now)

    def _finish(self, now: float) -> None:
        """Take what there is to be known, and let the process go."""
        running, outcome, capture = self.running, self.outcome, self._capture
        exited = self.has_exited
        # How a feeder ended is part of the outcome; most end with the pipe that they write to.
        if self.feeders.pids or self.beside.pids:
            # Each is asked: the grace of both begins here.
            if not all([self.feeders.are_done(now), self.beside.are_done(now)]):
                self.machine.move(Event.FED, now)
                self.machine.deadline = now + FEEDERS_STEP
                return
            self.feeders.end()
            self.beside.end()
        if running is None:
            return
        if not self._system.subreaper:
            signal_group(running.pid, signal.SIGKILL)  # whatever is left behind in its group
        if not exited:  # else both were done when it ended
            self._stdin.close()
            self._unwatch()
        # Until here the process was a zombie, so that its number, and its group's, could be nobody
        # else's.
        running.finish(outcome, ended=exited)
        outcome.feeders = self.feeders.ends
        if self._meanwhile is not None:
            self._tell_missed(self._meanwhile)
        if self._dialogue is not None:
            waited = self._dialogue.waited_for
            # It ended on its own before it asked: that is no timeout, and no answer either.
            if not outcome.timed_out and outcome.unasked is None and waited is not None:
                # Of a list every other expectation can be checked all the same.
                if waited.is_pattern:
                    outcome.unused_replies = self._dialogue.unused
                else:
                    outcome.unasked = waited.prompt
            outcome.conversation = self._dialogue.conversation
        outcome.stdout, outcome.stderr = capture.finish("stdout"), capture.finish("stderr")
        outcome.stdout_bytes, outcome.stderr_bytes = (capture.sizes["stdout"], capture.sizes["stderr"])
        outcome.arrivals = capture.arrivals
        self.machine.move(Event.DONE, now)

    def _tell_missed(self, meanwhile: Happenings) -> None:
        """Write what did not happen, or went wrong, while the program ran."""
        missed = self.outcome.missed
        for each in self.beside.ends:
            if each.exit:
                missed.append((each.name, f"exit {each.exit}"))
            elif each.signal and each.signal != signal.SIGPIPE:
                missed.append((each.name, f"signal {signal_name(each.signal)}"))
        missed += [(each.name, "") for each in meanwhile.waiting]

    def abort(self) -> None:
        """End the program at once and forget about it: the run is over."""
        if self.finished or self.running is None:
            return
        signal_group(self.pid, signal.SIGKILL)
        self._unwatch()
        self._outputs.close_all()
        self._stdin.close()
        self.feeders.end()
        self.beside.end()
        _wait_briefly(self.pid)
        self.machine.state = State.FINISHED


def _undo(running: Running) -> None:
    """End a program that was started for a launch which could not be watched."""
    signal_group(running.pid, signal.SIGKILL)
    running.unwatch()
    _wait_briefly(running.pid)


def _wait_briefly(pid: int) -> None:
    """Wait for a killed process as long as it can take; one that is not our child is another's to
    wait for."""
    give_up_at = time.monotonic() + UNKILLABLE_GRACE
    with contextlib.suppress(ChildProcessError):
        while os.waitpid(pid, os.WNOHANG)[0] == 0 and time.monotonic() < give_up_at:
            time.sleep(0.002)
