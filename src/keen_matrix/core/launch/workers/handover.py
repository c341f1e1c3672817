"""How a process begins to be a worker, whether it was forked or started again."""

from __future__ import annotations

import contextlib
import os
import signal
import socket

#: The descriptor on which a worker has its end of the socket.
CONTROL = 3
_FAULTS = (
    signal.SIGSEGV,
    signal.SIGBUS,
    signal.SIGFPE,
    signal.SIGILL,
    signal.SIGTRAP,
    signal.SIGABRT,
    signal.SIGSYS,
)
#: Signals that a worker does not ignore: it cannot, it needs them, or they tell of a fault of its
#: own.
_OWN = (signal.SIGKILL, signal.SIGSTOP, signal.SIGCHLD, signal.SIGCONT, signal.SIGALRM, *_FAULTS)


def take_over() -> socket.socket:
    """Begin to be a worker: ignore signals that end a run, of which the engine tells us, and keep
    no descriptor but the socket.

    What is closed are the ends of other workers, and what no program is to inherit.
    """
    for number in signal.valid_signals():
        if (
            number not in _OWN
        ):  # a program can send any to its parent; what it is itself started with are the defaults
            with contextlib.suppress(OSError):
                signal.signal(number, signal.SIG_IGN)
    signal.pthread_sigmask(signal.SIG_SETMASK, [])
    os.set_inheritable(CONTROL, False)
    os.closerange(CONTROL + 1, os.sysconf("SC_OPEN_MAX"))
    nothing = os.open(os.devnull, os.O_RDONLY)
    os.dup2(nothing, 0)
    os.close(nothing)
    return socket.socket(fileno=CONTROL)
