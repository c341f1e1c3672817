"""The states of a launch: an enumeration, a table of moves, and the moment at which each is over.

A launch moves to the right only:

    RUNNING ── overdue ──► TERMINATING ── time ──► KILLED ── time ───────────────┐
     │   │                     │  └────── flood ──►  │                           │
     │   └─ stop ─► STOPPING ──┼─ time, flood ──►    │                           │
     │                 │       │                     │                           │
     └───── exit ──────┴───────┴──────── exit ───────┴──► DRAINING ── flood ─► CUT
                                                             │ closed, time     │ closed, time
                                                             ▼                  ▼
                                                  FEEDING (while feeders run) ──► FINISHED

Draining: the program is gone, but a process that it left behind may still keep its streams open.
They get a short time, then the whole group is ended and what has come so far is taken. Cut: what is
left behind floods a stream and was killed for it. Feeding: a command that feeds standard input
mostly closes its output just before it ends, and its status is wanted.

No input or output here, and no clock: moments are passed in, as seconds of a monotonic clock.
"""

from __future__ import annotations

from collections.abc import Mapping
from enum import IntEnum, auto


class State(IntEnum):
    """Where a launch is."""

    RUNNING = auto()
    STOPPING = auto()
    """It got the signal that its spec ends it with."""
    TERMINATING = auto()
    """It got SIGTERM for being overdue."""
    KILLED = auto()
    """It got SIGKILL, and its end was not seen yet."""
    DRAINING = auto()
    CUT = auto()
    FEEDING = auto()
    FINISHED = auto()


class Event(IntEnum):
    """What moves a launch."""

    STOP = auto()
    """The moment or the text has come at which its spec ends it."""
    OVERDUE = auto()
    """Its time is over, or that of a prompt."""
    FLOOD = auto()
    """A stream is over the cap."""
    TIME = auto()
    """The time of the state is over."""
    EXIT = auto()
    """The program itself has ended."""
    FED = auto()
    """Nothing comes any more, and commands that feed it still run."""
    DONE = auto()
    """Nothing comes any more, and nothing is waited for."""


TERMINATE_GRACE = 0.5
"""Seconds between SIGTERM and SIGKILL."""
STOP_GRACE = 2.0
"""Seconds that a program gets to end after the signal that its spec ends it with."""
DRAIN_GRACE = 0.3
"""Seconds that streams may stay open after the program itself has ended."""
UNKILLABLE_GRACE = 5.0
"""Seconds after SIGKILL until a process in an uninterruptible wait is given up."""
FEEDERS_STEP = 0.002
"""Seconds between two looks at commands that feed a program which has ended."""

GRACE: Mapping[State, float] = {
    State.STOPPING: STOP_GRACE,
    State.TERMINATING: TERMINATE_GRACE,
    State.KILLED: UNKILLABLE_GRACE,
    State.DRAINING: DRAIN_GRACE,
    State.CUT: UNKILLABLE_GRACE,
    State.FEEDING: FEEDERS_STEP,
    State.FINISHED: 0.0,
}
"""How long a launch stays in a state, in seconds. Running has no grace: its end is planned."""

_ALIVE = (State.RUNNING, State.STOPPING, State.TERMINATING, State.KILLED)
_ENDING = (State.KILLED, State.DRAINING, State.CUT)

MOVES: Mapping[tuple[State, Event], State] = {
    (State.RUNNING, Event.STOP): State.STOPPING,
    (State.RUNNING, Event.OVERDUE): State.TERMINATING,
    **{(state, Event.FLOOD): State.KILLED for state in _ALIVE[:3]},
    (State.STOPPING, Event.TIME): State.KILLED,
    (State.TERMINATING, Event.TIME): State.KILLED,
    **{(state, Event.EXIT): State.DRAINING for state in _ALIVE},
    (State.DRAINING, Event.FLOOD): State.CUT,
    # a process that even SIGKILL did not end is given up from KILLED
    **{(state, Event.FED): State.FEEDING for state in _ENDING},
    **{(state, Event.DONE): State.FINISHED for state in _ENDING},
    (State.FEEDING, Event.DONE): State.FINISHED,
}
"""The state that an event leads to. What does not stand here does not move a launch: a flood of one
that is killed already, say."""


class Machine:
    """The state of one launch, and when its time is over."""

    __slots__ = ("deadline", "state")

    def __init__(self) -> None:
        self.state = State.RUNNING
        self.deadline = 0.0
        """The moment at which the launch wants to be looked at."""

    def move(self, event: Event, now: float) -> bool:
        """Take an event at a moment; tell whether it led to another state."""
        following = MOVES.get((self.state, event))
        if following is None:
            return False
        self.state, self.deadline = following, now + GRACE[following]
        return True
