"""Grounding: the accepted vectors that derived ones stand on are launched before them.

Of each form of the synopsis these are the smallest vector and the fullest. One that the program
refuses is reduced until it is accepted: first by the options that its message names, then by taking
options out, halves and then single ones. What clashed is kept, so that it is reported once and no
family stands on it. Then every other control is launched once, and the bases a second time: what
differs between two launches of one vector varies on its own.
"""

from __future__ import annotations

import statistics
from collections.abc import Callable, Iterable, Sequence, Set

from keen_matrix.core.expect.hollow import hollow_usages, looks_at_output
from keen_matrix.core.expect.masks import VARIES, Mask
from keen_matrix.core.experiments.ask import Experiments, has_waited
from keen_matrix.core.experiments.forms import UsageTrials, grounds_of_form, optional_of
from keen_matrix.core.launch.process.waiting import can_be_seen
from keen_matrix.core.model.record import Record, kept_bytes
from keen_matrix.core.model.spec import Spec
from keen_matrix.core.runs.again import varying_of
from keen_matrix.core.runs.starting.warmth import turn_warm
from keen_matrix.core.signature.families import family_of
from keen_matrix.core.signature.grounds import Grounds, UsageGrounds, Words
from keen_matrix.core.signature.kinds import COMPARING
from keen_matrix.core.signature.requests import Builder, Request, builders, derived_builders, needs_aside
from keen_matrix.core.signature.signature import Signature, with_unequal
from keen_matrix.core.structs import replace

#: Controls that are launched cold before any is launched warm, and how many seconds of cold
#: launches must still be to come.
FIRST_COLD, WORTH_SECONDS = 5, 2.0


def grounds_of(
    spec: Spec, experiments: Experiments, *, warm_with: Callable[[], Iterable[Words]] | None = None
) -> Grounds | None:
    """Return what experiments show of the controls of a spec's derived families; None of a spec
    without a signature. Where there are many they may be launched warm, with what vectors need that
    `warm_with` tells."""
    signature = spec.signature
    if signature is None:
        return None
    experiments.launch([each.words() for builder in derived_builders(signature) for each in _bases(builder)])
    forms = tuple(
        UsageGrounds() if needs_aside(each) else grounds_of_form(UsageTrials(signature, number, experiments))
        for number, each in enumerate(builders(signature))
    )
    grounds = Grounds(forms=forms)
    # Before controls are collected, since they have other values by it.
    signature = with_unequal(signature, grounds.unequal)
    launchers = tuple(spec.program.launchers)
    controls = {
        vector.control
        for matrix in spec.matrices
        if matrix.family
        for vector in family_of(signature, matrix.family, launchers, grounds).vectors
        if vector.control is not None
    }
    _launch_many(experiments, sorted(controls), warm_with=warm_with)
    answers = ((words, experiments.answer(words)) for words in sorted(controls))
    refused = tuple((words, answer.text) for words, answer in answers if not answer.works)
    sound = [each.words() for builder in derived_builders(signature, grounds) for each in _bases(builder)]
    working = [each for each in sound if experiments.answer(each).works]
    varying = varying_of(experiments, working)
    silent = tuple(
        each for each in dict.fromkeys(working) if not kept_bytes(experiments.answer(each).record, "stdout")
    )
    return replace(
        grounds,
        refused=refused,
        varying=varying,
        asking=_asking(signature, grounds, experiments),
        silent=silent,
        hollow=hollow_of(spec, experiments),
    )


def hollow_of(spec: Spec, experiments: Experiments) -> tuple[tuple[str, str], ...]:
    """Return which usages showed nothing of the program at work, unless the spec looks at what it
    prints."""
    signature = spec.signature
    if signature is None or looks_at_output(spec.rules):
        return ()
    accepted = {
        words: answer.record
        for words, answer in experiments.known.items()
        if answer.works and (judged := signature.judge(words)).status == "accepted" and not judged.help
    }
    return tuple(hollow_usages(signature, accepted))


def grounded(spec: Spec, grounds: Grounds | None) -> Spec:
    """Return a spec whose derived vectors stand on what is known; what varies on its own is masked
    where launches are compared."""
    if grounds is None:
        return spec
    masks = tuple(Mask(each.pattern, VARIES, (each.stream,)) for each in grounds.varying if each.pattern)
    matrices = tuple(
        replace(matrix, masks=(*matrix.masks, *masks)) if matrix.family in COMPARING else matrix
        for matrix in spec.matrices
    )
    signature = spec.signature and with_unequal(spec.signature, grounds.unequal)
    return replace(spec, grounds=grounds, matrices=matrices, signature=signature)


def are_as_before(
    spec: Spec,
    grounds: Grounds,
    controls: Set[Words],
    experiments: Experiments,
    *,
    warm_with: Callable[[], Iterable[Words]] | None = None,
) -> bool:
    """Tell whether the bases, the controls that a run stands on and all that was refused still do
    what is kept of them: a digest of the program does not see the libraries that it loads."""
    signature = spec.signature
    if signature is None or len(grounds.forms) != len(signature.forms):
        return False
    refused = {words for words, _ in grounds.refused}
    plain_signature, signature = signature, with_unequal(signature, grounds.unequal)
    refused |= {clash.words for form in grounds.forms for clash in form.clashes}
    for number, form in enumerate(grounds.forms):
        plain = Builder(plain_signature, signature.forms[number]).smallest()
        if plain is not None and (form.required or form.operands or not form.works):
            refused.add(plain.words())
    sound = [each for each in derived_builders(signature, grounds) if each.grounds.works]
    bases = {request.words() for builder in sound for request in _bases(builder)}
    working = (bases | controls) - refused
    _launch_many(experiments, sorted(working | refused), warm_with=warm_with)
    return all(experiments.answer(words).works for words in working) and not any(
        experiments.answer(words).works for words in refused
    )


def _launch_many(
    experiments: Experiments, vectors: Sequence[Words], *, warm_with: Callable[[], Iterable[Words]] | None
) -> None:
    """Launch vectors, warm where that takes less time: what did not work then is launched cold as
    well, before anybody is told so."""
    fresh = [each for each in vectors if each not in experiments.known]
    first = max(0, FIRST_COLD - len(experiments.known))
    experiments.launch(fresh[:first])
    rest = fresh[first:]
    if not rest:
        return
    took = statistics.median(each.record.seconds for each in experiments.known.values())
    if warm_with and experiments.warm is None and len(rest) * took >= WORTH_SECONDS:
        turn_warm(experiments, warm_with())
    experiments.launch(rest)
    if experiments.warm is not None:
        experiments.launch([each for each in rest if not experiments.known[each].works], again=True)


def _bases(builder: Builder) -> list[Request]:
    found = (builder.smallest(), builder.fullest())
    return list(dict.fromkeys(each for each in found if each is not None))


def _asking(signature: Signature, grounds: Grounds, experiments: Experiments) -> tuple[Words, ...]:
    """Return the vectors at which a program asks something on its streams and waits for the answer:
    the bases, and each option beside the smallest. A program that only reads its input prints no
    line that it does not end."""
    if not can_be_seen():  # a wait could only be told from a hang by nothing
        return ()
    vectors: dict[Words, None] = {}
    for builder in derived_builders(signature, grounds):
        wanted = [[option] for option in optional_of(builder) if option.key not in builder.grounds.alone]
        requests = [*_bases(builder), *map(builder.smallest, wanted)]
        vectors |= dict.fromkeys(each.words() for each in requests if each is not None)
    answers = experiments.launched(list(vectors), silent=True)
    asking = [words for words, answer in answers.items() if _asks(answer.record)]
    experiments.launch(asking)
    return tuple(each for each in asking if _ends(experiments.answer(each).record))


def _ends(record: Record) -> bool:
    """Tell whether a program came to an end on its own: one that did not is reported already."""
    return not any(each.form in ("timeout", "cap") for each in record.aspects)


def _asks(record: Record) -> bool:
    """Tell whether a program was waiting at a prompt, with nothing changed until then."""
    said = record.stdout or record.stderr or ""
    return has_waited(record) and not record.files and bool(said) and not said.endswith("\n")
