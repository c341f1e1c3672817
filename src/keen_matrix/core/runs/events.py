"""What a run tells while it goes. A watcher overrides what it wants to hear."""

from __future__ import annotations

from keen_matrix.core.errors import KeenMatrixError
from keen_matrix.core.launch.workers.wire import LiveFrame, ResultFrame
from keen_matrix.core.model.spec import Spec


class RunWatch:
    """Hears of everything and does nothing."""

    def is_building(self, line: str, *, first: bool) -> None:
        """A line of a build's output has come; the first is the command itself."""

    def refused(self, path: str, fault: KeenMatrixError) -> None:
        """A spec cannot be run."""

    def remarks(self, text: str) -> None:
        """Something is worth a word that ends nothing: a program that is launched cold after all,
        a history that cannot be written."""

    def grounding(self, launches: int | None) -> None:
        """The vectors that derived ones stand on are being launched: so many were; null: all
        are."""

    def asking(self, question: str, number: int, total: int) -> None:
        """A question about the program is asked by experiments, the first of all is number 1."""

    def begins(self, spec: Spec, total: int | None) -> None:
        """The cases of a spec are about to run: so many, if that is known."""

    def came(self, spec: Spec, result: ResultFrame, offset: int) -> None:
        """The result of a case is in the journal, where its line begins at an offset."""

    def finished(self, *, passed: bool) -> None:
        """A case has finished."""

    def printed(self, frame: LiveFrame) -> None:
        """A program has printed something; only told when it is asked for."""

    def ends(self, spec: Spec) -> None:
        """The cases of a spec are run, or given up."""
