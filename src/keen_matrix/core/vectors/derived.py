"""Cases of the derived families, and the standing that the signature gives to any vector."""

from __future__ import annotations

from collections.abc import Iterator, Sequence

from keen_matrix.core import structs
from keen_matrix.core.model.case import Case, Said, Standing
from keen_matrix.core.model.spec import Matrix, Spec
from keen_matrix.core.signature.examples import steps_before
from keen_matrix.core.signature.families import Family, Vector, family_of
from keen_matrix.core.signature.grounds import NO_GROUNDS, Grounds
from keen_matrix.core.signature.judging.binding import Names, given_values, identifier, values_left_out
from keen_matrix.core.signature.judging.findings import Judgement
from keen_matrix.core.signature.judging.judge import is_among
from keen_matrix.core.signature.signature import Signature
from keen_matrix.core.vectors.ids import case_id


def _signature(spec: Spec) -> Signature:
    assert spec.signature is not None  # or it has no derived families
    return spec.signature


def family_for(spec: Spec, matrix: Matrix) -> Family:
    """Return the derived family that a matrix of a spec stands for."""
    launchers = tuple(spec.program.launchers)
    return family_of(_signature(spec), matrix.family, launchers, spec.grounds or NO_GROUNDS)


def family_cases(spec: Spec, matrix: Matrix, start: int = 0) -> Iterator[Case]:
    """Yield the cases of a derived family, numbered from `start`."""
    for number, vector in enumerate(family_for(spec, matrix).vectors, start):
        yield case_of(spec, matrix, vector, number)


def case_of(spec: Spec, matrix: Matrix, vector: Vector, number: int) -> Case:
    """Return the case of a derived vector."""
    signature, grounds = _signature(spec), spec.grounds or NO_GROUNDS
    answer = None if vector.control is None else grounds.answer(vector.control)
    relation = vector.relation
    if relation is not None and grounds.wholly:
        compared = tuple(each for each in relation.aspects if each not in grounds.wholly)
        relation = structs.replace(relation, aspects=compared)
    judgement = signature.judge(vector.words)
    later = [word for words in vector.more for word in ("\0", *words)]
    later += ["\0", vector.variant] if vector.variant else []
    return Case(
        sequence=number,
        id=case_id((matrix.name, *vector.words, *later)),
        matrix=matrix.index,
        argv=vector.words,
        values=shown_bindings(judgement),
        more=vector.more,
        before=steps_before(signature, vector.words) if signature.before else (),
        relation=relation,
        family=matrix.family,
        kind=vector.kind,
        culprit=vector.culprit,
        detail=vector.detail,
        standings=(standing_of(signature, vector.words, judgement),),
        control=vector.control or (),
        blocked=answer,
        said=_said(matrix, grounds, vector),
    )


def _said(matrix: Matrix, grounds: Grounds, vector: Vector) -> Said:
    """Return what is said of a derived vector: that its usage shows nothing of the program at
    work."""
    if matrix.family != "accepted" or not grounds.hollow:
        return Said()
    of = dict(grounds.hollow)
    first = vector.words[0] if vector.words else ""
    return Said(hollow=of.get(first, of.get("", "")))


def shown_bindings(judgement: Judgement) -> dict[str, object]:
    """Return what a vector's options and operands were bound to, as the values of its case."""
    return dict(judgement.bindings)


def _is_by_library(signature: Signature, found: Judgement) -> bool:
    """Tell whether everything that is wrong with a vector is found by its reader's library."""
    return all(is_among(each, signature.row.refuses) for each in found.refusals)


def standing_of(signature: Signature, words: Sequence[str], judgement: Judgement | None = None) -> Standing:
    """Return what a signature says of a vector, as a case carries it."""
    found = signature.judge(words) if judgement is None else judgement
    names: Names = {}
    for form in signature.forms:
        left_out = values_left_out(signature, form).items()
        names |= {name: value for name, value in left_out if names.get(name) is None}
    # What a word gives in one form is not to be what another form has where nothing gives it.
    for form in signature.forms:
        names |= given_values(signature, form, found.bindings)
    first = found.refusals[0] if found.refusals else None
    return Standing(
        status=found.status,
        kinds=found.kinds if found.status == "refused" else (),
        culprit=first.culprit if first and found.status == "refused" else "",
        mentions=tuple(dict.fromkeys(word for each in found.refusals for word in each.mentions)),
        help=found.help,
        bound=names,
        given=found.given,
        by_library=found.status == "refused" and _is_by_library(signature, found),
    )


__all__ = ["family_cases", "family_for", "identifier", "standing_of"]
