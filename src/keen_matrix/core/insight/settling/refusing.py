"""How the program refuses: the exit status, the stream and the words of all refusals, and of those
of one kind."""

from __future__ import annotations

import re
from collections import Counter
from collections.abc import Iterator, Mapping, Sequence
from itertools import zip_longest
from typing import NamedTuple

from keen_matrix.core.experiments.ask import Answer
from keen_matrix.core.experiments.edits import OBSERVED, Edit, KeyEdit, is_stated, observed_at
from keen_matrix.core.experiments.findings import Finding
from keen_matrix.core.expressions import Template
from keen_matrix.core.insight.settling.lab import Lab, refused_or_accepted
from keen_matrix.core.runs.keeping.kept_texts import with_here
from keen_matrix.core.signature.families import family_of
from keen_matrix.core.signature.grounds import Grounds, Words
from keen_matrix.core.spec.editing import value_at

#: Refusals of each kind that are looked at first, and those at all: then one of each kind for each
#: option, since messages of one option may be others than those of the rest.
MOST_OF_KIND, SOME_REFUSALS, MOST_REFUSALS = 2, 40, 120
#: Of so many launches one is for a refusal, where that is more than some of them and less than
#: most.
REFUSAL_SHARE = 8
#: Refusals from which something common to all is more than chance.
LEAST_REFUSALS = 3
#: The highest status that a program has of its own (POSIX XCU 2.8.2): several beyond are stated, as
#: far as they are so many, else each refusal would be taken for one.
OWN_STATUSES, MOST_STATUSES = 125, 3
MOST_DEFECTS = 5
#: Characters of what all refusals say that are stated.
LONGEST_COMMON = 60


def settle_refusals(lab: Lab) -> Iterator[Finding]:
    """Find the exit status that all refusals have, and a text that all of them print."""
    vectors = _refused_vectors(lab)
    answers = dict(zip(vectors, lab.answers(vectors), strict=True))
    taken = [words for words, each in answers.items() if each.works]
    refused = {words: each for words, each in answers.items() if refused_or_accepted(each) == "refused"}
    crashed = [words for words, each in answers.items() if each.record.verdict == "crashed"]
    for words in taken[:MOST_DEFECTS]:
        kinds = " and ".join(lab.signature.judge(words).kinds)
        yield Finding(
            text=f"it accepts calls that its signature refuses: {kinds}", shown=lab.shown(words), defect=True
        )
    if crashed:
        yield Finding(
            text="it ends in an unhandled error where it should refuse",
            shown=lab.shown(crashed[0]),
            defect=True,
        )
    if len(refused) < LEAST_REFUSALS:
        return
    yield from _common_exit(lab, refused)
    yield from _common_text(lab, refused)
    yield from usual_streams(lab, refused)


def settle_kinds(lab: Lab) -> Iterator[Finding]:
    """Find kinds of refusals that end otherwise than what was seen to be common to all: what does
    not go together is known only after that, and may be refused by another part of the program."""
    vectors = _refused_vectors(lab)
    answers_of = dict(zip(vectors, lab.answers(vectors), strict=True))
    refused = {words: each for words, each in answers_of.items() if refused_or_accepted(each) == "refused"}
    for kind, answers in _by_kind(lab, refused).items():
        edits = [*_other_text(lab, kind, answers), *_other_exit(lab, kind, answers)]
        shown = lab.shown(answers[0].record.argv)
        if edits:
            text = f"refusals of the kind {kind} have another exit status"
            yield Finding(text=text, shown=shown, edits=tuple(edits))
        yield from other_streams(lab, kind, answers)


def _by_kind(lab: Lab, refused: Mapping[Words, Answer]) -> dict[str, list[Answer]]:
    """Return refusals by their kind; a vector that is refused for two reasons says what either of
    them says, and is left out."""
    by_kind: dict[str, list[Answer]] = {}
    for words, answer in refused.items():
        kinds = lab.signature.judge(words).kinds
        if len(kinds) == 1:
            by_kind.setdefault(kinds[0], []).append(answer)
    return by_kind


# --- streams ---


class StreamUse(NamedTuple):
    """The streams on which something is printed."""

    stdout: bool
    stderr: bool


def _use_of(answers: Sequence[Answer]) -> StreamUse | None:
    """Return the streams that all of some refusals print on; None where they differ, or where they
    say nothing: that is left to the run."""
    uses = {StreamUse(bool(each.record.stdout), bool(each.record.stderr)) for each in answers}
    return uses.pop() if len(uses) == 1 and uses != {StreamUse(False, False)} else None


def usual_streams(lab: Lab, refused: Mapping[Words, Answer]) -> Iterator[Finding]:
    """Find the streams that most kinds of refusals are printed on."""
    if lab.signature.row.stream == "stdout":
        return
    by_kind = _by_kind(lab, refused)
    uses = {kind: _use_of(answers) for kind, answers in by_kind.items()}
    counts = Counter(use for use in uses.values() if use is not None)
    if not counts:
        return
    ((usual, _),) = counts.most_common(1)
    alike = [kind for kind, use in uses.items() if use == usual]
    answers = [each for kind in alike for each in by_kind[kind]]
    edits = tuple(_stream_edits(lab, ("refusal",), usual, answers))
    if edits:
        shown = lab.shown(answers[0].record.argv)
        yield Finding(text="it prints its refusals on standard output", shown=shown, edits=edits)


def other_streams(lab: Lab, kind: str, answers: Sequence[Answer]) -> Iterator[Finding]:
    """Find the streams that refusals of one kind are printed on, where others use other ones."""
    use = _use_of(answers)
    if use is None or lab.signature.row.stream == "stdout":
        return
    edits = tuple(_stream_edits(lab, ("refusal", kind), use, answers))
    if edits:
        where = " and ".join(name for name, used in (("output", use.stdout), ("error", use.stderr)) if used)
        shown = lab.shown(answers[0].record.argv)
        text = f"refusals of the kind {kind} are printed on standard {where}"
        yield Finding(text=text, shown=shown, edits=edits)


def _stream_edits(
    lab: Lab, table: tuple[str, ...], use: StreamUse, answers: Sequence[Answer]
) -> Iterator[Edit]:
    """Yield what states the use of the streams, as far as the spec does not promise it: by default
    a refusal is printed on standard error alone."""
    note = f"{OBSERVED} in {len(answers)} refusal{'s' * (len(answers) != 1)}"
    for stream, used, usual in (("stdout", use.stdout, False), ("stderr", use.stderr, True)):
        key = (*table, stream)
        stated = value_at(lab.text, *key)
        if stated is not None and observed_at(lab.text, *key) is None:
            continue  # a promise
        general = value_at(lab.text, "refusal", stream) if len(table) > 1 else None
        promised = usual if general is None else general != {"empty": True}
        if used == promised and stated is None:
            continue
        if used and use.stdout and use.stderr and stream == "stdout":
            # What is printed beside the message may differ with the options that are given.
            if stated is None and not promised:
                yield KeyEdit(key, {}, note)
            continue
        texts = [getattr(each.record, stream) or "" for each in answers]
        common = common_text(texts) if used and len(texts) >= LEAST_REFUSALS else ""
        value = {"contains": with_here(common, lab.spec.here)} if common else {"empty": not used}
        # what fewer refusals have said is made more exact, and never less
        if stated is None or ("contains" in value and "contains" not in stated):
            yield KeyEdit(key, value, note)


def _other_text(lab: Lab, kind: str, answers: Sequence[Answer]) -> Iterator[Edit]:
    """Yield what refusals of a kind say, where it is not what all were seen to say. A refusal
    without a word is left to the run."""
    stated = observed_at(lab.text, "refusal", "stderr")
    texts = [each.record.stderr or "" for each in answers]
    has_text = isinstance(stated, Mapping) and "contains" in stated
    plain = _plain(stated, lab.spec.here) if has_text else ""
    if not has_text or not all(texts) or all(plain in each for each in texts):
        return
    common = common_text(texts) if len(texts) >= LEAST_REFUSALS else ""
    table = {"contains": with_here(common, lab.spec.here)} if common else {"empty": False}
    yield KeyEdit(("refusal", kind, "stderr"), table, f"{OBSERVED} in {len(texts)} refusals")


def _plain(stated: Mapping[str, object], here: str) -> str:
    """Return the text that all refusals have in common, as it is printed."""
    text = str(stated["contains"]).replace("{here}", here)
    return text.replace("{{", "{").replace("}}", "}")


def _other_exit(lab: Lab, kind: str, answers: Sequence[Answer]) -> Iterator[Edit]:
    """Yield the exit status that refusals of a kind have, where all were seen to have another
    one."""
    stated = observed_at(lab.text, "refusal", "exit")
    if not is_stated(lab.text, "refusal", "exit"):
        stated = lab.signature.row.exit  # what the reader's library promises of all
    if not isinstance(stated, int) or is_stated(lab.text, "refusal", kind, "exit"):
        return
    statuses = {each.record.exit for each in answers if each.record.exit is not None}
    if not statuses or 0 in statuses or statuses == {stated} or len(statuses) > MOST_STATUSES:
        return
    value = statuses.pop() if len(statuses) == 1 else sorted(statuses)
    yield KeyEdit(("refusal", kind, "exit"), value, f"{OBSERVED} in {len(answers)} refusals")


def _refused_vectors(lab: Lab) -> list[Words]:
    """Return a few vectors of each kind that the signature refuses, each with a control that was
    accepted."""
    signature = lab.signature
    grounds = Grounds(forms=lab.forms.grounds())
    first: dict[str, list[Words]] = {}
    others: dict[str, dict[tuple[str, ...], Words]] = {}
    for vector in family_of(signature, "refusals", (), grounds).vectors:
        listed = first.setdefault(vector.kind, [])
        of_kind = others.setdefault(vector.kind, {})
        about = tuple(each for each in vector.mentions if each.startswith("-"))
        if vector.words in listed or (len(listed) >= MOST_OF_KIND and about in of_kind):
            continue
        # A refusal whose control is refused as well may be refused for any reason.
        if vector.control is not None and not lab.answer(vector.control).works:
            continue
        if len(listed) < MOST_OF_KIND:
            listed.append(vector.words)
        else:
            of_kind[about] = vector.words
    found = [words for listed in first.values() for words in listed]
    # Of each kind in turn: options that are misspelt are as many as all others together, and all of
    # them are refused by the same line of the program.
    turns = zip_longest(*(each.values() for each in others.values()))
    rest = [words for turn in turns for words in turn if words is not None]
    most = min(MOST_REFUSALS, max(SOME_REFUSALS, lab.most // REFUSAL_SHARE))
    return list(dict.fromkeys([*found, *rest]))[:most]


def _common_exit(lab: Lab, refused: dict[Words, Answer]) -> Iterator[Finding]:
    """The exit status of all refusals, where nothing promises one yet."""
    statuses = {each.record.exit for each in refused.values() if each.record.exit is not None}
    if not statuses or 0 in statuses or is_stated(lab.text, "refusal", "exit"):
        return
    shown = lab.shown(*list(refused)[:2])
    note = f"{OBSERVED} in {len(refused)} refusals"
    highest = max(statuses)
    if len(statuses) == 1 and highest != lab.signature.row.exit:
        # What the reader's library promises already need not be stated.
        edit = KeyEdit(("refusal", "exit"), highest, note)
        yield Finding(text=f"it refuses with exit {highest}", shown=shown, edits=(edit,))
    elif highest > OWN_STATUSES and 1 < len(statuses) <= MOST_STATUSES:
        # Perl's die ends with the number of the last error of the system, else with 255.
        listed = sorted(statuses)
        edit = KeyEdit(("refusal", "exit"), listed, note)
        told = f"it refuses with exit {' or '.join(map(str, listed))}; from 126 on they are the shell's"
        yield Finding(text=told, shown=shown, edits=(edit,))


def _common_text(lab: Lab, refused: dict[Words, Answer]) -> Iterator[Finding]:
    """The text that all refusals have on standard error."""
    if is_stated(lab.text, "refusal", "stderr"):
        return
    texts = [each.record.stderr or "" for each in refused.values()]
    common = common_text(texts)
    if not common:
        return
    shown = lab.shown(next(iter(refused)))
    edit = KeyEdit(
        ("refusal", "stderr"),
        {"contains": with_here(common, lab.spec.here)},
        f"{OBSERVED} in {len(refused)} refusals",
    )
    said = Template(common).constant  # as it is printed: in a spec braces are doubled
    yield Finding(text=f'every refusal says "{said}"', shown=shown, edits=(edit,))


def common_text(texts: Sequence[str]) -> str:
    """Return the longest beginning of a line that all texts have in some line, at least a word with
    a colon or of five characters; nothing where there is none."""
    if not texts or not all(texts):
        return ""
    best = ""
    for line in texts[0].splitlines():
        words = re.findall(r"\S+\s*", line)
        for count in range(len(words), 0, -1):
            lead = "".join(words[:count]).strip()
            if len(lead) <= len(best):
                break
            if all(any(each.startswith(lead) for each in text.splitlines()) for text in texts):
                best = lead
                break
    if len(best) > LONGEST_COMMON:  # a whole usage line would differ with every new option
        head, colon, _ = best.partition(":")
        best = head + colon if colon else " ".join(best.split()[:4])
    is_word = len(best) >= 5 and any(each.isalpha() for each in best)
    return best.replace("{", "{{").replace("}", "}}") if is_word else ""
