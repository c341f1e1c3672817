"""What a run remarks beside its failures: values that the journal keeps and every report says."""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from typing import NamedTuple

from keen_matrix.core.errors import KeenMatrixError
from keen_matrix.core.model.record import Finished, Header, Remark
from keen_matrix.core.model.spec import Spec
from keen_matrix.core.results.reading import notes_and_records
from keen_matrix.core.results.tally import Tally

#: Options that are set aside which a remark names.
ASIDE_SHOWN = 8
#: Warnings of lint that a run repeats.
WARNINGS_SHOWN = 4


def run_remarks(tally: Tally, *, is_whole: bool, is_interrupted: bool = False) -> list[Remark]:
    """Return what is worth a word of the run of one spec, in the order in which it is said. Of a
    run of a part that a mask found nothing says nothing; whoever interrupts a run does not wait
    for lint."""
    spec = tally.spec
    return [
        *_aside(tally),
        *_actions(spec),
        *_unequal(spec),
        *_varying(spec),
        *_of_cases(tally),
        *(Remark(kind="hollow", subject=each) for each in tally.evidence.sentences()),
        *(() if is_interrupted else _warnings(spec)),
        *(_idle_masks(tally) if is_whole else ()),
    ]


def _aside(tally: Tally) -> Iterator[Remark]:
    """Yield the options that no derived case has: where all passed, they were not asked."""
    if aside := tally.aside:
        left = len(aside) - ASIDE_SHOWN
        more = f" and {left} more" if left > 0 else ""
        yield Remark(kind="aside", subject=f"{', '.join(aside[:ASIDE_SHOWN])}{more}", count=len(aside))


def _actions(spec: Spec) -> Iterator[Remark]:
    """Yield the options that were seen to end the call by themselves."""
    if spec.grounds is None or spec.signature is None:
        return
    keys = [key for form in spec.grounds.forms for key in form.actions]
    spelt = {option.key: ",".join(option.spellings) for option in spec.signature.options}
    if keys:
        listed = ", ".join(f'"{spelt[key]}"' for key in keys)
        yield Remark(kind="actions", subject=" ".join(keys), edit=f"actions = [{listed}]")


def _unequal(spec: Spec) -> Iterator[Remark]:
    """Yield the values that were seen to be refused for being the same."""
    for names in spec.grounds.unequal if spec.grounds is not None else ():
        from keen_matrix.core.signature.signature import unequal_condition

        edit = f'only-if = ["{unequal_condition(names)}"]'
        yield Remark(kind="unequal", subject=" and ".join(names), edit=edit)


def _varying(spec: Spec) -> Iterator[Remark]:
    """Yield the streams that vary from launch to launch."""
    for mask in spec.grounds.varying if spec.grounds is not None else ():
        if mask.pattern:
            edit = f'[[mask]]   matches = \'{mask.pattern}\'   as = "<varies>"   in = ["{mask.stream}"]'
            yield Remark(kind="varies", subject=mask.stream, edit=edit)
        else:
            yield Remark(kind="varies-wholly", subject=mask.stream)


def _of_cases(tally: Tally) -> Iterator[Remark]:
    for text, several in sorted(tally.remarks.items(), key=lambda entry: entry[1].first):
        yield Remark(kind="cases", subject=text, count=several.count, ids=tuple(several.ids))


def _warnings(spec: Spec) -> Iterator[Remark]:
    """Yield what lint warns of: a green run of a spec that does not check what it seems to is
    none."""
    from keen_matrix.core.spec.kept import kept_problems

    try:
        found = [problem for problem in kept_problems(spec.path) if problem.severity == "warning"]
    except (KeenMatrixError, OSError):  # a program may have removed the spec by now
        return
    for problem in found[:WARNINGS_SHOWN]:
        yield Remark(kind="warning", subject=problem.message, place=problem.place)
    if len(found) > WARNINGS_SHOWN:
        yield Remark(kind="warnings", count=len(found) - WARNINGS_SHOWN)


def _idle_masks(tally: Tally) -> Iterator[Remark]:
    for pattern, origin in tally.idle_masks:
        yield Remark(kind="idle-mask", subject=pattern, place=origin)


class SpecRemark(NamedTuple):
    """A remark, and the spec whose run it is about."""

    spec: str
    remark: Remark


def remarks_in(paths: Sequence[str]) -> list[SpecRemark]:
    """Return what is remarked in the closing lines of some journals."""
    found: dict[tuple[str, str], SpecRemark] = {}
    for path in paths:
        spec = ""
        for line in notes_and_records(path):
            if isinstance(line, Header):
                spec = line.spec
            elif isinstance(line, Finished):
                # Of several runs of one spec, shards say, the same is said once.
                found |= {(spec, repr(each)): SpecRemark(spec, each) for each in line.remarks}
    return list(found.values())
