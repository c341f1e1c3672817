"""Counts, durations and sizes as they are written everywhere."""

from __future__ import annotations

_PLURALS = {"matrix": "matrices", "criterion": "criteria"}


def counted(count: int, noun: str) -> str:
    """Return a count with its noun: `1 spec`, `no errors`, `12,000 cases`."""
    if count == 1:
        return f"1 {noun}"
    many = _PLURALS.get(noun) or _regular(noun)
    return f"{count:,} {many}" if count else f"no {many}"


def _regular(noun: str) -> str:
    if noun.endswith("y") and noun[-2] not in "aeiou":
        return f"{noun[:-1]}ies"
    return f"{noun}es" if noun.endswith(("ch", "sh", "s", "x")) else f"{noun}s"


def duration(value: float) -> str:
    """Return a duration: `0.044 s` below ten seconds, `12.3 s` below a hundred, `340 s` above,
    thousands with a comma."""
    digits = 3 if value < 10 else 1 if value < 100 else 0
    return f"{value:,.{digits}f} s"


def size(count: float) -> str:
    """Return a size: bytes up to a KiB, then in KiB, MiB or GiB with one decimal."""
    if count < 1024:
        return counted(int(count), "byte")
    for unit in ("KiB", "MiB"):
        count /= 1024
        if count < 1024:
            return f"{count:.1f} {unit}"
    return f"{count / 1024:,.1f} GiB"
