"""Remarks as sentences: a row a kind. Terminal, page and reports say them alike."""

from __future__ import annotations

from collections.abc import Mapping
from typing import NamedTuple

from keen_matrix.core.model.record import Remark
from keen_matrix.core.vectors.ids import SHOWN_ID
from keen_matrix.wording.counts import counted


class RemarkSentence(NamedTuple):
    """How a kind of remark is said. The sentence may have the fields {subject}, {cases}, {options},
    {warnings}."""

    label: str
    sentence: str


#: Kind of remark → how it is said.
REMARKS: Mapping[str, RemarkSentence] = {
    "aside": RemarkSentence("left out", "{options} in no derived case: {subject}"),
    "actions": RemarkSentence(
        "remark",
        "{subject}: accepted together with an unknown option, so it acts alone and is not "
        "combined; to write this down:",
    ),
    "unequal": RemarkSentence(
        "remark", "{subject}: refused with the same value, accepted with two; to write this down:"
    ),
    "varies": RemarkSentence(
        "remark",
        "{subject} varies from launch to launch; it is masked where derived cases are compared; to "
        "mask it everywhere:",
    ),
    "varies-wholly": RemarkSentence(
        "remark", "{subject} differs completely from launch to launch, so it is not compared in derived cases"
    ),
    "cases": RemarkSentence("remark", "{cases}: {subject}"),
    "hollow": RemarkSentence("not much checked", "{subject}"),
    "warning": RemarkSentence("warning", "{subject}"),
    "warnings": RemarkSentence("warning", "and {warnings}: keen-matrix lint"),
    "idle-mask": RemarkSentence("remark", "the mask {subject} found nothing in the whole run"),
}


def remark_sentence(remark: Remark) -> RemarkSentence:
    """Return the label and the sentence of a remark, filled in. One of a later edition says what it
    is about."""
    said = REMARKS.get(remark.kind) or RemarkSentence("remark", "{subject}")
    verb = "is" if remark.count == 1 else "are"
    text = said.sentence.format(
        subject=remark.subject,
        cases=counted(remark.count, "case"),
        options=f"{counted(remark.count, 'option')} {verb}",
        warnings=counted(remark.count, "more warning"),
    )
    return RemarkSentence(said.label, text)


def remark_line(remark: Remark) -> str:
    """Return a remark as one line: its label, its sentence, the edit, the cases and the place."""
    label, text = remark_sentence(remark)
    ids = " ".join(id[:SHOWN_ID] for id in remark.ids)
    parts = (f"{label}: {text}", remark.edit, f"({ids})" if ids else "", remark.place)
    return " ".join(filter(None, parts))
