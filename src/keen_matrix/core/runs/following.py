"""The vectors that follow from one: its refusals, each by one change of it, and its rephrasings."""

from __future__ import annotations

from collections.abc import Iterable, Iterator, Sequence
from itertools import zip_longest

from keen_matrix.core.model.case import Case
from keen_matrix.core.model.spec import Spec
from keen_matrix.core.signature.families import Making, Notes, Vector, refusals, rephrasings
from keen_matrix.core.signature.grounds import NO_GROUNDS, UNTRIED
from keen_matrix.core.signature.judging.findings import Judgement
from keen_matrix.core.signature.model import Option, UsageModel
from keen_matrix.core.signature.requests import Builder, OperandPart, OptionPart, Request
from keen_matrix.core.signature.signature import Signature
from keen_matrix.core.structs import replace
from keen_matrix.core.vectors.derived import case_of

#: Vectors that are shown of those that follow from one.
MOST = 12


class _FromVector(Builder):
    """Builds requests of which one vector is the smallest and the fullest."""

    def __init__(self, signature: Signature, form: UsageModel, request: Request) -> None:
        super().__init__(signature, form, UNTRIED)
        self._base = request

    def smallest(self, wanted: Iterable[Option] = ()) -> Request | None:
        """Return the vector, where it has the wanted options."""
        listed = list(wanted)
        given = [part.option for part in self._base.options]
        return self._base if all(each in given for each in listed) else super().smallest(listed)

    def fullest(self, wanted: Iterable[Option] = ()) -> Request | None:
        """Return the same."""
        return self.smallest(wanted)


def request_of(signature: Signature, words: Sequence[str]) -> Request | None:
    """Return what an accepted vector says; None of one that is not accepted, or cannot be
    reported."""
    judgement = signature.judge(words)
    if judgement.status != "accepted" or judgement.help:
        return None
    for form in signature.forms:
        request = _request(form, judgement, words)
        again = signature.judge(request.words())
        if again.status == "accepted" and again.bindings == judgement.bindings:
            return request
    return None


def _request(form: UsageModel, judgement: Judgement, words: Sequence[str]) -> Request:
    options: list[OptionPart] = []
    for option in dict.fromkeys(form.by_spelling.values()):
        bound = judgement.bindings.get(option.key)
        if bound is None:
            continue
        spelling = next((each for each in option.spellings if each in judgement.given), option.key)
        if option.takes_value:
            values = bound if isinstance(bound, list) else [str(bound)]
            options.append(OptionPart(option, spelling, tuple(map(str, values))))
        else:
            times = bound if isinstance(bound, int) and not isinstance(bound, bool) else 1
            options += [OptionPart(option, spelling)] * times
    operands: list[OperandPart] = []
    for item in form.form.walk():
        word = getattr(item, "word", None)
        if isinstance(word, str) and word in words:  # of alternatives the one that is taken
            operands.append(OperandPart("", word))
        name = getattr(getattr(item, "name", None), "name", None)
        if isinstance(name, str) and not hasattr(item, "spellings"):
            found = judgement.bindings.get(name)
            listed = found if isinstance(found, list) else [] if found is None else [found]
            operands += [OperandPart(name, str(each)) for each in listed]
    return Request(form, tuple(options), tuple(operands))


def following(spec: Spec, words: Sequence[str], most: int = MOST) -> list[Case]:
    """Return the cases that follow from an accepted vector, at most so many: of each kind the
    first, then the second, and so on. Nothing follows from a vector that is not accepted."""
    signature, matrix = spec.signature, spec.controls
    request = request_of(signature, words) if signature is not None else None
    if signature is None or matrix is None or request is None:
        return []
    builder = _FromVector(signature, request.form, request)
    making = Making(signature=signature, builders=(builder,), grounds=NO_GROUNDS, launchers=(), notes=Notes())
    base = request.words()
    found = [each for each in refusals.vectors(making) if each.control == base]
    rephrased = [each for each in rephrasings.vectors(making) if each.words == base]
    cases: list[Case] = []
    for family, vectors in (("refusals", found), ("rephrasings", rephrased)):
        of_family = replace(matrix, name=family, family=family)
        cases += [case_of(spec, of_family, each, number) for number, each in enumerate(_mixed(vectors))]
    half = [each for each in cases if each.family == "rephrasings"][: most // 3]
    return [*[each for each in cases if each.family == "refusals"][: most - len(half)], *half]


def with_following(spec: Spec) -> Spec:
    """Return a spec whose one matrix is that of the cases that follow from a vector."""
    matrices = () if spec.controls is None else (spec.controls,)
    return replace(
        spec, matrices=tuple(replace(each, name="what follows", family="refusals") for each in matrices)
    )


def _mixed(vectors: Iterable[Vector]) -> Iterator[Vector]:
    """Yield vectors with the first of each kind before the second of any."""
    by_kind: dict[str, list[Vector]] = {}
    for each in {(each.words, each.more): each for each in vectors}.values():
        by_kind.setdefault(each.kind, []).append(each)
    for row in zip_longest(*by_kind.values()):
        yield from (each for each in row if each is not None)
