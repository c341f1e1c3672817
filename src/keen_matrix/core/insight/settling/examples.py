"""Examples of a program that work: those of its help, its manual page and its README are
launched, and the accepted ones that show something new are stated. They are bases before anything
is tried."""

from __future__ import annotations

import os
import shlex
from collections.abc import Iterator, Sequence

from keen_matrix.core.errors import Misuse, SpecFault
from keen_matrix.core.experiments.edits import OBSERVED, AppendEdit, KeyEdit, edited
from keen_matrix.core.experiments.findings import Finding, Shown
from keen_matrix.core.insight.settling.lab import Lab, came
from keen_matrix.core.insight.settling.program import with_edits
from keen_matrix.core.notation.synopsis import Keyword, Operand
from keen_matrix.core.signature.examples import named_words
from keen_matrix.core.signature.grounds import Words
from keen_matrix.core.signature.sources.beside import directories_of_program, program_names
from keen_matrix.core.signature.sources.calls import calls_in, code_blocks
from keen_matrix.core.signature.sources.manuals import manual_of
from keen_matrix.core.signature.sources.samples import as_spec_text, sample_for
from keen_matrix.core.spec.load import load_spec

#: Examples that are launched, those that are stated, and files that one of them may name.
MOST_TRIED, MOST_STATED, MOST_FILES = 30, 8, 4
READMES = ("README.md", "README", "README.rst", "README.txt", "readme.md", "Readme.md")
MOST_README = 500_000


def settle_examples(lab: Lab) -> Iterator[Finding]:
    """Find examples in what the program and its documents say that are accepted."""
    if len(lab.signature.examples) >= MOST_STATED:
        return
    covered = {each for words in lab.signature.examples for each in _shown_by(lab, words)}
    found = [each for each in _examples(lab) if each not in lab.signature.examples]
    tried = [each for each in found if lab.signature.judge(each).status != "refused"][:MOST_TRIED]
    tried = [each for each in tried if not lab.signature.judge(each).help]
    lab.answers(tried)
    stated = len(lab.signature.examples)
    for words in tried:
        fresh = _shown_by(lab, words) - covered
        if not fresh or stated >= MOST_STATED:
            continue
        finding = _works(lab, words)
        if finding is not None:
            covered |= fresh
            stated += 1
            yield finding


def _works(lab: Lab, words: Words) -> Finding | None:
    """Return that an example is accepted, as it is, or with files of the names that it has; None
    where it is not."""
    text = shlex.join(words)
    edit = AppendEdit(("signature", "example"), text, f"{OBSERVED}: it is accepted")
    if lab.answer(words).works:
        return Finding(text=f"the example {text} works", shown=lab.shown(words), edits=(edit,))
    files = _files(lab, words)
    if not files:
        return None
    other = with_edits(lab, files)
    answer = other.answer(words)
    lab.experiments.count(other.experiments)
    if not answer.works:
        return None
    names = ", ".join(each.key[-1] for each in files)
    shown = (*lab.shown(words), Shown(words, came(answer)))
    return Finding(text=f"the example {text} works with {names}", shown=shown, edits=(*files, edit))


def _files(lab: Lab, words: Words) -> list[KeyEdit]:
    """Return the edits that put a file in place for each word that is the name of one."""
    there = {} if lab.spec.controls is None else dict(lab.spec.controls.steps[0].surroundings.files)
    names = {str(each.constant) for each in there}
    found: list[KeyEdit] = []
    for word in words:
        name = word.rsplit("=", 1)[-1] if word.startswith("-") else word
        sample = sample_for(name)
        if sample is None or name in names or name.startswith(("/", "..", "~", "-")):
            continue
        edit = KeyEdit(("files", name), as_spec_text(sample.content), f"{OBSERVED}: {sample.kind}")
        if edit not in found:
            found.append(edit)
    return found[:MOST_FILES]


def _shown_by(lab: Lab, words: Words) -> set[str]:
    """Return what an example shows: the NAMEs and options that it binds, and its subcommand."""
    judged = lab.signature.judge(words)
    keywords = {
        item.word
        for form in lab.signature.forms
        for item in form.form.walk()
        if isinstance(item, Keyword) and item.word in words
    }
    return {*judged.bindings, *keywords, *(name for name, _ in named_words(lab.signature, judged))}


# --- where they stand ---


def _examples(lab: Lab) -> list[Words]:
    """Return the calls of the program in its help, its manual page and its README, each once."""
    names = program_names(lab.launch.words)
    placeholders = {
        item.name.name
        for form in lab.signature.forms
        for item in form.form.walk()
        if isinstance(item, Operand)
    }
    placeholders |= {name for option in lab.signature.options for name in option.value_names}
    texts: list[str] = []
    for word in lab.signature.help:
        record = lab.answer((word,)).record
        texts += [record.stdout or "", record.stderr or ""]
        break
    places = directories_of_program(lab.launch.words)
    texts += [manual_of(name, places) for name in names[:1]]
    texts += map(code_blocks, _readmes(places))
    found = (each for text in texts for each in calls_in(text, names, placeholders))
    return list(dict.fromkeys(found))


def _readmes(places: Sequence[str]) -> Iterator[str]:
    for place in places:
        for name in READMES:
            try:
                with open(os.path.join(place, name), encoding="utf-8", errors="replace") as file:
                    yield file.read(MOST_README)
            except OSError:
                continue


def with_given(path: str, text: str, example: str) -> str:
    """Return the text of a spec with an example that somebody gave. Raises Misuse where the spec
    does not take it: it stands in no file yet, so the message has no place."""
    more = edited(text, [AppendEdit(("signature", "example"), example)])
    try:
        load_spec(path, more)
    except SpecFault as fault:
        told = "; ".join(each.message for each in fault.problems)
        raise Misuse(f"--example {shlex.quote(example)}: {told}") from None
    return more
