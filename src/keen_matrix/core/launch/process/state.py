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
    #: It got the signal that its spec ends it with.
    STOPPING = auto()
    #: It got SIGTERM for being overdue.
    TERMINATING = auto()
    #: It got SIGKILL, and its end was not seen yet.
    KILLED = auto()
    DRAINING = auto()
    CUT = auto()
    FEEDING = auto()
    FINISHED = auto()


class Event(IntEnum):
    """What moves a launch."""

    #: The moment or the text has come at which its spec ends it.
    STOP = auto()
    #: Its time is over, or that of a prompt.
    OVERDUE = auto()
    #: A stream is over the cap.
    FLOOD = auto()
    #: The time of the state is over.
    TIME = auto()
    #: The program itself has ended.
    EXIT = auto()
    #: Nothing comes any more, and commands that feed it still run.
    FED = auto()
    #: Nothing comes any more, and nothing is waited for.
    DONE = auto()


#: Seconds between SIGTERM and SIGKILL.
TERMINATE_GRACE = 0.5
#: Seconds that a program gets to end after the signal that its spec ends it with.
STOP_GRACE = 2.0
#: Seconds between two looks whether a process of ours is stopped.
STOPPED_SECONDS = 0.3
#: Looks in a row that find it so before it is given up.
STOPPED_LOOKS = 2
#: Seconds that streams may stay open after the program itself has ended.
DRAIN_GRACE = 0.3
#: Seconds after SIGKILL until a process in an uninterruptible wait is given up.
UNKILLABLE_GRACE = 5.0
#: Seconds between two looks at commands that feed a program which has ended.
FEEDERS_STEP = 0.002

#: How long a launch stays in a state, in seconds. Running has no grace: its end is planned.
GRACE: Mapping[State, float] = {
    State.STOPPING: STOP_GRACE,
    State.TERMINATING: TERMINATE_GRACE,
    State.KILLED: UNKILLABLE_GRACE,
    State.DRAINING: DRAIN_GRACE,
    State.CUT: UNKILLABLE_GRACE,
    State.FEEDING: FEEDERS_STEP,
    State.FINISHED: 0.0,
}

_ALIVE = (State.RUNNING, State.STOPPING, State.TERMINATING, State.KILLED)
_ENDING = (State.KILLED, State.DRAINING, State.CUT)

#: The state that an event leads to. What does not stand here does not move a launch: a flood of one
#: that is killed already, say.
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


class Machine:
    """The state of one launch, and when its time is over."""

    __slots__ = ("deadline", "state")

    def __init__(self) -> None:
        self.state = State.RUNNING
        #: The moment at which the launch wants to be looked at.
        self.deadline = 0.0

    def move(self, event: Event, now: float) -> bool:
        """Take an event at a moment; tell whether it led to another state."""
        following = MOVES.get((self.state, event))
        if following is None:
            return False
        self.state, self.deadline = following, now + GRACE[following]
        return True
