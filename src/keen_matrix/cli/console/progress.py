"""The progress bar of a run; nothing at all when standard error is no terminal."""

from __future__ import annotations

import sys
import time
from typing import Any

REDRAW_SECONDS = 0.1


class Progress:
    """Cases done, not held so far, and time left, drawn on standard error for as long as a run works."""

    def __init__(self, total: int | None, *, enabled: bool, jobs: int = 1) -> None:
        self.jobs = jobs
        self.total, self.done, self.failed = total, 0, 0
        self._bar: Any = None
        self._next = 0.0
        self._enabled = enabled and sys.stderr.isatty()

    def __enter__(self) -> Progress:
        if self._enabled:
            from rich.console import Console
            from rich.progress import BarColumn, MofNCompleteColumn, TextColumn, TimeRemainingColumn
            from rich.progress import Progress as Bar

            self._bar = Bar(
                TextColumn("{task.description}"), BarColumn(), MofNCompleteColumn(), TextColumn("{task.fields[failed]}"),
                TextColumn("{task.fields[now]}"),
                TimeRemainingColumn(), console=Console(stderr=True), transient=True, auto_refresh=False,
            )  # fmt: skip
            self._task = self._bar.add_task("running", total=self.total, failed="", now="")
            self._bar.start()
        return self

    def step(self, *, held: bool) -> None:
        """Count one more finished case."""
        self.done += 1
        self.failed += not held
        if self._bar is not None and (now := time.monotonic()) >= self._next:
            self._next = now + REDRAW_SECONDS
            failed = f"[red]{self.failed} not held[/]" if self.failed else ""
            left = self.jobs if self.total is None else min(self.jobs, self.total - self.done)
            now_running = f"[bright_black]{left} running[/]" if left > 0 else ""
            self._bar.update(self._task, completed=self.done, failed=failed, now=now_running)
            self._bar.refresh()

    def __exit__(self, *_: object) -> None:
        if self._bar is not None:
            self._bar.stop()
