"""Signals by name and number."""

from __future__ import annotations

import signal


def signal_number(value: object) -> int:
    """Return the number of a signal given as "TERM", "SIGTERM" or a number. Raises ValueError."""
    if isinstance(value, int) and not isinstance(value, bool):
        try:
            return int(signal.Signals(value))
        except ValueError:
            raise ValueError(f"{value} is not a signal of this system") from None
    names = {each.name for each in signal.Signals}
    name = str(value).upper()
    name = name if name.startswith("SIG") else f"SIG{name}"
    if name not in names:
        from keen_matrix.core.errors import nearest

        hint = nearest(name, names)
        more = f'; did you mean "{hint[3:]}"?' if hint else ""
        raise ValueError(f"{value!r} is not a signal; expected a name such as TERM{more}")
    return int(signal.Signals[name])


def signal_name(number: int) -> str:
    """Return the short name of a signal: 15 gives TERM."""
    try:
        return signal.Signals(number).name.removeprefix("SIG")
    except ValueError:
        return str(number)


def status_text(status: int) -> str:
    """Return how a process ended: `exit 2`, or `signal TERM` for a status below 0, as `subprocess`
    gives it."""
    return f"exit {status}" if status >= 0 else f"signal {signal_name(-status)}"
