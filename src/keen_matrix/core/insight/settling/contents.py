"""What the files that a program reads have to contain: samples by kind, those that its own texts
speak of first. A file is known to be read where another content makes another output."""

from __future__ import annotations

from collections.abc import Iterator
from typing import NamedTuple

from keen_matrix.core.experiments.ask import Answer
from keen_matrix.core.experiments.edits import OBSERVED, Edit, KeyEdit, ValueEdit
from keen_matrix.core.experiments.findings import Finding, Shown
from keen_matrix.core.insight.settling.lab import Lab, came
from keen_matrix.core.insight.settling.program import has_sample, own_texts, with_edits
from keen_matrix.core.insight.settling.sources import lines_told
from keen_matrix.core.signature.requests import Request
from keen_matrix.core.signature.sources.samples import (
    SAMPLES,
    Sample,
    as_spec_text,
    named_files,
    sample_for,
    samples_spoken_of,
)
from keen_matrix.core.spec.drafted import SAMPLE_FILE

#: Files that are put in place one after the other since messages name them.
MOST_NAMED = 4
#: Kinds of files that are tried where no name tells what is wanted.
OFTEN_READ = ("JSON", "CSV", "XML", "YAML", "TOML", "INI", "Python", "Markdown", "HTML", "FASTA", "POD")
#: Kinds of files that a program's texts speak of and that are tried.
MOST_SPOKEN = 10


class _Tried(NamedTuple):
    """A file that is tried: what it is of, and what puts it in place; `request` has its name."""

    kind: str
    edits: tuple[Edit, ...]
    request: Request


def with_named_files(lab: Lab, request: Request) -> Iterator[Finding]:
    """Find the files that the program looks for by names of its own, such as `.env`: each is told
    by a message, and the next one only once the first is there."""
    other = lab
    edits: list[KeyEdit] = []
    while len(edits) < MOST_NAMED:
        said = other.answer(request.words()).said
        names = [each for each in named_files(said) if each not in request.words()]
        name = next((each for each in names if all(each != edit.key[-1] for edit in edits)), "")
        sample = sample_for(name) if name else None
        if sample is None:
            return
        edits.append(KeyEdit(("files", name), as_spec_text(sample.content), f"{OBSERVED}: it looks for it"))
        other = with_edits(lab, edits)
        works = other.works(request)
        lab.experiments.count(other.experiments)
        if works:
            shown = (*lab.shown(request.words()), *other.shown(request.words()))
            told = ", ".join(each.key[-1] for each in edits)
            yield Finding(text=f"it needs {told}", shown=shown, edits=tuple(edits))
            return


def with_content(lab: Lab, request: Request) -> Iterator[Finding]:
    """Find what the file that is there has to contain, and what its name has to end in, for the
    program to take it."""
    for tried in _files_to_try(lab, request):
        answer = _answer_with(lab, tried)
        if answer.works:
            shown = (*lab.shown(request.words()), Shown(tried.request.words(), came(answer)))
            yield Finding(text=f"it reads {tried.kind}", shown=shown, edits=tried.edits)
            return


def settle_read(lab: Lab) -> Iterator[Finding]:
    """Find a file with which a program has something to say that takes what is there and prints
    nothing: of a file that it does not read, or finds nothing in, no output is checked."""
    for builder in lab.forms.builders():
        base = builder.smallest() if builder.grounds.works else None
        for request in [base, *(builder.with_counts(name, 1) for name in _file_names(lab))]:
            if request is None or not lab.works(request) or _says(lab.answer(request.words())):
                continue
            if not any(lab.signature.values[name].type == "file" for _, _, name, _ in request.slots()):
                continue
            for tried in _files_to_try(lab, request):
                answer = _answer_with(lab, tried)
                if answer.works and _says(answer):
                    shown = (*lab.shown(request.words()), Shown(tried.request.words(), came(answer)))
                    text = f"it has something to say of {tried.kind}"
                    yield Finding(text=text, shown=shown, edits=tried.edits)
                    return


def _file_names(lab: Lab) -> list[str]:
    return [name for name, kind in lab.signature.values.items() if kind.type == "file"]


def _says(answer: Answer) -> bool:
    """Tell whether a launch showed anything of the program at work."""
    return bool(answer.record.stdout or answer.record.stderr or answer.record.files)


def _answer_with(lab: Lab, tried: _Tried) -> Answer:
    other = with_edits(lab, tried.edits)
    answer = other.answer(tried.request.words())
    lab.experiments.count(other.experiments)
    return answer


def _files_to_try(lab: Lab, request: Request) -> Iterator[_Tried]:
    """Yield files for a request: the sample with other contents, then files whose names end as the
    kind's do."""
    if not has_sample(lab):
        return
    slots = [each for each in request.slots() if lab.signature.values[each[2]].type == "file"]
    # A message may ask for certain lines, as a missing header; that is tried before any format.
    said = lab.answer(request.words()).said
    for content in lines_told(said):
        yield _Tried("lines", (KeyEdit(("files", SAMPLE_FILE), content, OBSERVED),), request)
    samples = _samples(f"{said}\n{own_texts(lab)}")
    for sample in samples:
        edit = KeyEdit(("files", SAMPLE_FILE), as_spec_text(sample.content), OBSERVED)
        yield _Tried(sample.kind, (edit,), request)
    for sample in samples if slots else ():
        name = f"sample{sample.names[0]}"
        if not sample.names[0].startswith(".") or name == SAMPLE_FILE:
            continue
        place, number, called, _ = slots[0]
        edits: tuple[Edit, ...] = (
            KeyEdit(("files", name), as_spec_text(sample.content), f"{OBSERVED}: {sample.kind}"),
            ValueEdit(called, {"type": "file", "example": name}, OBSERVED),
        )
        yield _Tried(f"{sample.kind} in {name}", edits, request.with_value(place, number, name))


def contents(texts: str = "") -> Iterator[tuple[str, str]]:
    """Yield what a file may be of, and one of it as a spec writes it."""
    for sample in _samples(texts):
        yield sample.kind, as_spec_text(sample.content)


def _samples(texts: str) -> list[Sample]:
    """Return the samples to try: first those of which the program's own texts speak."""
    spoken = list(samples_spoken_of(texts))[:MOST_SPOKEN]
    return [*spoken, *(each for each in SAMPLES if each.kind in OFTEN_READ and each not in spoken)]
