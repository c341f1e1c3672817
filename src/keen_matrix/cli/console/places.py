"""Lines of a program as `places` shows them: the most suspicious ones with the source around
them."""

from __future__ import annotations

import os
from collections.abc import Sequence

from keen_matrix.cli.console.screen import Screen
from keen_matrix.core.insight.places.ranking import WEAK, Parting, RankedPlace, Ranking, parting
from keen_matrix.core.insight.places.trace import Place
from keen_matrix.core.insight.places.tracing import TracedCase, Traces
from keen_matrix.core.insight.places.unreached import Unreached, reached_and_all
from keen_matrix.wording.counts import counted
from keen_matrix.wording.safe import cut, shell_line, visible_line
from keen_matrix.wording.signs import STYLE_OF, Segment, legend

#: Lines shown above and below a place.
AROUND = 2
MOST_UNREACHED = 12
#: Lines of a place that are shown.
MOST_SHOWN = 8
MOST_PARTINGS, MOST_CAUSES = 8, 8
WORDS = {
    "failed": "run by failed cases only",
    "passed": "run by passed cases only",
    "mixed": "run by both",
    "blank": "run by none",
}


class PlacesView:
    """Shows what was found of one spec."""

    def __init__(self, screen: Screen, evidence: Traces, here: str) -> None:
        self.screen, self.evidence, self.here = screen, evidence, here
        self._texts: dict[str, list[str]] = {}
        #: Names of the signs that are in the margin.
        self._shown: set[str] = set()

    def name_of(self, file: str) -> str:
        """Return a file's name from the directory of the spec, where it is below it."""
        name = os.path.relpath(file, self.here)
        return file if name.startswith("..") else name

    def text_of(self, place: Place) -> str:
        """Return the text of a line."""
        lines = self._lines(place.file)
        return lines[place.line - 1] if place.line <= len(lines) else ""

    def _lines(self, file: str) -> list[str]:
        if file not in self._texts:
            try:
                with open(file, encoding="utf-8", errors="replace") as text:
                    self._texts[file] = text.read().split("\n")
            except OSError:
                self._texts[file] = []
        return self._texts[file]

    def _margin(self, place: Place, ranking: Ranking) -> str:
        """Return the name of the sign for who runs a line, of the vectors of one cause and those
        that passed."""
        failed = any(place in run.trace.places for run in ranking.runs)
        passed = any(place in run.trace.places for run in self.evidence.runs if not run.failed)
        known = any(place in run.trace.can_run for run in self.evidence.runs)
        if failed or passed:
            return "mixed" if failed and passed else "failed" if failed else "passed"
        return "blank" if known else ""

    def write_causes(self, causes: Sequence[Ranking], first: int) -> None:
        """Write for each cause the places that explain it best, each with the lines around it."""
        screen = self.screen
        if not self.evidence.runs:
            screen.line("  ", ("no case could be traced to source lines", "warn"))
            return
        if not causes:
            screen.line("  ", ("every traced case passed, so no line is suspicious", "good"))
            return
        for number, ranking in enumerate(causes[:MOST_CAUSES]):
            if number:
                screen.line()
            self._write_cause(ranking, first)
        if len(causes) > MOST_CAUSES:
            screen.line(
                "  ", (f"and {len(causes) - MOST_CAUSES} more causes: places ID shows a single case", "dim")
            )
        names = [name for name in WORDS if name in self._shown]
        if names:
            screen.line("  ", *legend(screen, names, WORDS))

    def _write_cause(self, ranking: Ranking, first: int) -> None:
        screen = self.screen
        example = ranking.example
        if example is not None:
            screen.line(
                "  ",
                (f"{counted(ranking.failing, 'case')} that failed", "bad"),
                ("   such as  ", "dim"),
                shell_line(example.case.argv) or "no words",
                "   ",
                (example.case.id[:6], "place"),
            )
        if not ranking.holding or not ranking.separates:
            why = (
                "no passed case was traced, so there is nothing to compare with"
                if not ranking.holding
                else "passed cases run the same lines: a line computes the wrong value, or a line is missing"
            )
            screen.line("    ", (why, "warn"))
            return
        is_weak = ranking.places[0].score < WEAK
        if is_weak:
            screen.line("    ", ("no line explains it well: perhaps one is missing", "warn"))
        for number, each in enumerate(ranking.places[: 1 if is_weak else first], 1):
            self._write_place(number, each, ranking)
        if not ranking.measures_agree:
            screen.line(
                "    ", ("another measure (D*) has another line first: take the order with care", "warn")
            )

    def _write_place(self, number: int, ranked: RankedPlace, ranking: Ranking) -> None:
        screen, place = self.screen, ranked.place
        does = {"runs": "run it", "decides": "continue in the same way", "skipped": "pass it over"}[
            ranked.why
        ]
        where = f"{self.name_of(place.file)}:{_span(place.line, ranked.last)}"
        screen.line(
            f"    {number}  ",
            (where, "place"),
            f"   {ranked.score:.2f}   ",
            f"{ranked.failing} of {ranking.failing} {does}, and {ranked.holding} of "
            f"{ranking.holding} that passed",
        )
        lines = self._lines(place.file)
        last = min(ranked.last, place.line + MOST_SHOWN)
        width = len(str(last + AROUND))
        for line in range(max(1, place.line - AROUND), min(len(lines), last + AROUND) + 1):
            mark = self._margin(Place(place.file, line), ranking)
            self._shown |= {mark} if mark else set()
            sign: Segment = (screen.sign(mark), STYLE_OF[mark]) if mark else " "
            text = visible_line(lines[line - 1].replace("\t", "    "), " ")
            style = "strong" if place.line <= line <= ranked.last else ""
            screen.line(
                "     ",
                sign,
                " ",
                (f"{line:>{width}}", "dim"),
                "  ",
                (cut(text, max(20, screen.width - width - 12)), style),
            )

    def write_parting(self, found: Parting) -> None:
        """Write where a vector leaves the way of one that passed."""
        screen = self.screen
        for run, what, style in ((found.failing, "failed", "bad"), (found.holding, "passed", "good")):
            words = shell_line(run.case.argv) or "no words"
            screen.line("  ", (run.case.id[:6], "place"), "   ", words, (f"   {what}", style))
        for what, place in (
            ("both come to", found.last),
            ("it goes on with", found.next),
            ("the other with", found.instead),
        ):
            if place is None:
                screen.line("    ", (f"{what:16}", "dim"), "nothing: it ends")
                continue
            where = f"{self.name_of(place.file)}:{place.line}"
            screen.line(
                "    ",
                (f"{what:16}", "dim"),
                (where, "place"),
                "  ",
                self._fitting(self.text_of(place).strip(), len(where) + 24),
            )

    def _fitting(self, text: str, taken: int) -> str:
        """Return a line of a program that fits beside what takes so many cells."""
        return cut(visible_line(text, " "), max(20, self.screen.width - taken))

    def write_unreached(self, never: Sequence[Unreached]) -> None:
        """Write the parts that no case runs."""
        screen = self.screen
        ran, every = reached_and_all(self.evidence.runs)
        if not every:
            return
        screen.line("  ", (f"{len(ran)} of {counted(len(every), 'line')} reached", "strong"))
        for each in never[:MOST_UNREACHED]:
            where = f"{self.name_of(each.file)}:{_span(each.first, each.last)}"
            under = f"   under line {each.condition_line}: {each.condition}" if each.condition else ""
            text = self._fitting(each.text + under, len(where) + 8)
            screen.line("    ", (where, "place"), "  ", text)
            if each.words is not None:
                screen.line("      ", ("may be reached by  ", "dim"), shell_line(each.words))
        if len(never) > MOST_UNREACHED:
            screen.line("    ", (f"and {len(never) - MOST_UNREACHED} more", "dim"))


def _span(first: int, last: int) -> str:
    return f"{first}" if first == last else f"{first}-{last}"


def partings_of(runs: Sequence[TracedCase]) -> list[Parting]:
    """Return for the failing runs where they leave the way of the most alike that passed."""
    holding = [run for run in runs if not run.failed]
    found = (parting(run, holding) for run in runs if run.failed)
    return [each for each in found if each is not None]
