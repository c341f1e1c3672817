"""The progress bar of a run; nothing at all when standard error is no terminal that can draw
one."""

from __future__ import annotations

import contextlib
import os
import sys
from collections.abc import Iterable
from typing import Any

from keen_matrix.cli.console.waiting import drawing_nothing, shown_while
from keen_matrix.core.doing import now

DRAWS_A_SECOND = 8


class Progress:
    """Cases done, failed so far, and time left, drawn on standard error for as long as a run
    works.

    A thread draws it, so that it is right also while no case ends.
    """

    def __init__(
        self, total: int | None, *, enabled: bool, color: str = "auto", jobs: int = 1, doing: str = "running"
    ) -> None:
        self.doing = doing
        self.jobs, self.color = jobs, color
        self.total, self.done, self.failed = total, 0, 0
        self._bar: Any = None
        self._drawn = contextlib.ExitStack()
        self._enabled = enabled and sys.stderr.isatty() and os.environ.get("TERM") != "dumb"

    def __enter__(self) -> Progress:
        if self._enabled:
            self._drawn.enter_context(drawing_nothing())
            self._bar = self._new_bar()
            self._bar.start()
        return self

    def _new_bar(self) -> object:
        from rich.console import Console, RenderableType
        from rich.progress import BarColumn, MofNCompleteColumn, TextColumn, TimeRemainingColumn
        from rich.progress import Progress as Bar

        class Counting(Bar):
            """A bar that looks up how far the run is whenever it is drawn."""

            def get_renderables(bar) -> Iterable[RenderableType]:
                for task in bar.task_ids:
                    bar.update(
                        task,
                        description=self.doing,
                        completed=self.done,
                        failed=self._failed_shown(),
                        now=self._running_shown(),
                    )
                return super().get_renderables()

        console = Console(stderr=True, no_color=self.color == "never" or None)
        columns = (
            TextColumn("{task.description}"),
            BarColumn(complete_style="cyan", finished_style="cyan"),
            MofNCompleteColumn(),
            TextColumn("{task.fields[failed]}"),
            TextColumn("{task.fields[now]}"),
            TimeRemainingColumn(),
            TextColumn("[bright_black]left"),
        )
        bar = Counting(*columns, console=console, transient=True, refresh_per_second=DRAWS_A_SECOND)
        bar.add_task(self.doing, total=self.total, failed="", now="")
        return bar

    def _failed_shown(self) -> str:
        return f"[red]{self.failed} failed[/]" if self.failed else ""

    def _running_shown(self) -> str:
        doing = now()
        if doing is not None:
            from rich.markup import escape

            return f"[bright_black]{escape(shown_while(doing))}[/]"
        left = self.jobs if self.total is None else min(self.jobs, self.total - self.done)
        return f"[bright_black]{left} running[/]" if left > 0 else ""

    def step(self, *, passed: bool) -> None:
        """Count one more finished case."""
        self.done += 1
        self.failed += not passed

    def __exit__(self, *_: object) -> None:
        if self._bar is not None:
            self._bar.stop()
        self._drawn.close()
