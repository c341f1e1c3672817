"""How a case came about: its words and values, what the signature says of them, and every rule
that it must satisfy."""

from __future__ import annotations

from keen_matrix.cli.console.screen import Screen
from keen_matrix.core.expect.cascade import Chosen
from keen_matrix.core.expect.checking import CaseChecker
from keen_matrix.core.expect.wording import describe_aspect
from keen_matrix.core.expressions import as_text
from keen_matrix.core.model.case import Case
from keen_matrix.core.model.spec import Matrix, Spec
from keen_matrix.core.oracle import named_functions
from keen_matrix.core.vectors.ids import SHOWN_ID
from keen_matrix.wording.safe import cut, escape, pad, shell_line

VALUE_WIDTH = 60
#: What each relation between the launches of a case asks, in words.
RELATIONS = {
    "alike": "every launch gives the same result as the first",
    "differs": "at least one pair of launches differs",
    "renamed": "the new name is shown",
    "reference": "the program gives the same result as the reference",
    "unheard": "output that cannot be written is reported, by the exit status or on standard error",
    "unmoved": "a question that the end of input answers changes no file",
    "reference-accepted": "the program gives the same result as the reference, where that exits 0",
}


def write_why(screen: Screen, spec: Spec, matrix: Matrix, case: Case, *, brief: bool = False) -> None:
    """Write the story of one case; a brief one says only what the signature says, and what it must
    satisfy."""
    if brief:
        _write_judgement(screen, spec, case)
        _write_rules(screen, spec, matrix, case)
        return
    about = (
        [("   ", ""), (" ".join(filter(None, (case.kind, case.detail or case.culprit))), "dim")]
        if case.kind
        else []
    )
    screen.line((matrix.name, "strong"), "   ", (case.id[:SHOWN_ID], "place"), *about)
    screen.line("  ", shell_line(case.argv) if case.argv else ("no words", "dim"))
    for words in case.more:
        screen.line("  ", ("then  ", "dim"), shell_line(words) if words else "no words")
    where = matrix.origin
    screen.line()
    screen.line(
        ("comes from", "strong"),
        "  ",
        f"the family {matrix.family}, " if matrix.family else "",
        (where, "place"),
        f"   {escape(matrix.line_text)}" if matrix.line_text else "",
    )
    for name, value in case.values.items():
        shown = screen.sign("dash") if value is None else escape(as_text(value))
        screen.line("  ", (pad(escape(name), 18), "dim"), cut(shown, VALUE_WIDTH))
    _write_judgement(screen, spec, case)
    _write_rules(screen, spec, matrix, case)


def _write_judgement(screen: Screen, spec: Spec, case: Case) -> None:
    if spec.signature is None:
        return
    judgement = spec.signature.judge(case.argv)
    style = {"accepted": "good", "refused": "bad"}.get(judgement.status, "warn")
    screen.line()
    screen.line(
        ("the signature says", "strong"),
        "  ",
        (judgement.status, style),
        f"  {', '.join(judgement.kinds)}" if judgement.kinds else "",
    )
    for reason in judgement.reasons:
        screen.line("  ", escape(reason))
    if judgement.status == "unspecified" and not spec.signature.reader:
        readers = spec.signature.readers(case.argv)
        for status in ("accepted", "refused"):
            names = [name for name, found in readers.items() if found == status]
            if names:
                screen.line("  ", (f"{status} by", "dim"), f"  {', '.join(names)}")


def _write_rules(screen: Screen, spec: Spec, matrix: Matrix, case: Case) -> None:
    screen.line()
    screen.line(("must satisfy", "strong"))
    checker = CaseChecker(spec, named_functions(spec.program.oracle))
    for number in range(1 if case.relation is not None else len(matrix.steps)):
        chosen = checker.chosen(case, checker.begin(case, number), number)
        for name, each in chosen.items():
            _write_aspect(screen, name if len(matrix.steps) == 1 else f"{number + 1} {name}", each)
    if case.relation is not None:
        text = RELATIONS[case.relation.name]
        screen.line("  ", (pad("compared", 12), "strong"), text)
    screen.line(
        "  ",
        (pad("always", 12), "strong"),
        "it starts, ends in time, does not crash, leaves no process running",
    )


def _write_aspect(screen: Screen, name: str, chosen: Chosen) -> None:
    text = describe_aspect(chosen.aspect)
    screen.line("  ", (pad(name, 12), "strong"), pad(cut(escape(text), 70), 70), "  ", (chosen.origin, "dim"))
