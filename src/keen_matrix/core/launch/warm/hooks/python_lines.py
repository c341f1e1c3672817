"""Tells which lines of a program run: loaded into the program's own interpreter, which may be of
another version, so it uses the standard library of Python 3.8 alone.

Each line goes to a file at once, `FILE<tab>NUMBER`, in the order in which they run; beyond MOST
each only the first time. What ends the program at any moment then loses nothing."""

from __future__ import annotations

import os
import sys
from types import CodeType, FrameType, ModuleType
from typing import Any

#: Lines that are reported in order; what runs on for longer is a loop.
MOST = 20_000
#: The number under which sys.monitoring knows us: one that no profiler and no debugger has.
TOOL = 4


class LineTracer:
    """Tells lines of files below some directories."""

    def __init__(self, to: str, own: str) -> None:
        self.directories = tuple(each.rstrip(os.sep) + os.sep for each in own.split(os.pathsep) if each)
        self.start, self.process = os.getcwd(), os.getpid()
        name = f"{to}.{self.process}"
        self.out = os.open(name, os.O_WRONLY | os.O_CREAT | os.O_APPEND, 0o600)
        self.names: dict[str, str] = {}
        self.seen: set[tuple[str, int]] = set()
        self.count = 0

    def name_of(self, file: str) -> str:
        """Return the path of a file of the program's own; empty for any other."""
        found = self.names.get(file)
        if found is None:
            whole = os.path.realpath(os.path.join(self.start, file))
            ours = whole.startswith(self.directories) and f"{os.sep}site-packages{os.sep}" not in whole
            found = self.names[file] = whole if ours and not file.startswith("<") else ""
        return found

    def told(self, file: str, line: int) -> None:
        """Tell a line."""
        name = self.name_of(file)
        if not name or os.getpid() != self.process:  # a fork would write into our file
            return
        self.count += 1
        if self.count > MOST and (name, line) in self.seen:
            return
        self.seen.add((name, line))
        try:
            os.write(self.out, f"{name}\t{line}\n".encode("utf-8", "surrogateescape"))
        except OSError:  # the program has closed what it did not open
            pass

    def monitored(self, monitoring: ModuleType) -> None:
        """Have the interpreter tell (3.12 and later)."""

        def on_line(code: CodeType, line: int) -> object:
            if not self.name_of(code.co_filename):
                return monitoring.DISABLE
            self.told(code.co_filename, line)
            return None

        monitoring.use_tool_id(TOOL, "lines")
        monitoring.register_callback(TOOL, monitoring.events.LINE, on_line)
        monitoring.set_events(TOOL, monitoring.events.LINE)

    def on_call(self, frame: FrameType, event: str, argument: object) -> Any:
        """Take a frame whose lines are to be reported, or leave it alone."""
        return self.on_event if self.name_of(frame.f_code.co_filename) else None

    def on_event(self, frame: FrameType, event: str, argument: object) -> Any:
        """Tell what happens in such a frame."""
        if event == "line":
            self.told(frame.f_code.co_filename, frame.f_lineno)
        return self.on_event


def begin(to: str, own: str) -> None:
    """Tell every line of files below some directories, from now on."""
    lines = LineTracer(to, own)
    monitoring = getattr(sys, "monitoring", None)
    if monitoring is not None:
        lines.monitored(monitoring)
        return
    import threading

    threading.settrace(lines.on_call)
    sys.settrace(lines.on_call)
