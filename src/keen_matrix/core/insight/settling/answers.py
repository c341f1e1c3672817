"""What the program answers: how it refuses, how it gives help, what varies, what it reads and
writes."""

from __future__ import annotations

import re
from collections.abc import Iterator, Mapping, Sequence
from itertools import zip_longest

from keen_matrix.core.expect.help import HelpAspect, help_rule
from keen_matrix.core.experiments.ask import Answer, has_waited
from keen_matrix.core.experiments.edits import (
    OBSERVED,
    AppendEdit,
    Edit,
    KeyEdit,
    MaskEdit,
    is_stated,
    observed_at,
)
from keen_matrix.core.experiments.findings import Finding
from keen_matrix.core.expressions import Template
from keen_matrix.core.insight.settling.lab import Lab, refused_or_accepted
from keen_matrix.core.launch.process.waiting import can_be_seen
from keen_matrix.core.runs.again import varying_of
from keen_matrix.core.runs.keeping.kept_texts import with_here
from keen_matrix.core.signature.families import family_of
from keen_matrix.core.signature.grounds import Grounds, Words
from keen_matrix.core.signature.requests import Builder, Request

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


def settle_kinds(lab: Lab) -> Iterator[Finding]:
    """Find kinds of refusals that end otherwise than what was seen to be common to all: what does
    not go together is known only after that, and may be refused by another part of the program."""
    by_kind: dict[str, list[Answer]] = {}
    vectors = _refused_vectors(lab)
    for words, answer in zip(vectors, lab.answers(vectors), strict=True):
        # a vector that is refused for two reasons says what either of them says
        kinds = lab.signature.judge(words).kinds
        if len(kinds) == 1 and refused_or_accepted(answer) == "refused":
            by_kind.setdefault(kinds[0], []).append(answer)
    for kind, answers in by_kind.items():
        edits = [*_other_text(lab, kind, answers), *_other_exit(lab, kind, answers)]
        if edits:
            yield Finding(
                text=f"refusals of the kind {kind} have another exit status",
                shown=lab.shown(answers[0].record.argv),
                edits=tuple(edits),
            )


def _other_text(lab: Lab, kind: str, answers: Sequence[Answer]) -> Iterator[Edit]:
    """Yield what refusals of a kind say, where it is not what all were seen to say. A refusal
    without a word is left to the run."""
    stated = observed_at(lab.text, "refusal", "stderr")
    texts = [each.record.stderr or "" for each in answers]
    plain = "" if stated is None else _plain(stated, lab.spec.here)
    if stated is None or not all(texts) or all(plain in each for each in texts):
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
    if not isinstance(stated, int):
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


# --- help ---


def settle_help(lab: Lab) -> Iterator[Finding]:
    """Find which words ask for help, and where it is printed."""
    known = [each for each in lab.signature.help if each]
    answers = {each: lab.answer((each,)) for each in known}
    sound = {each: answer for each, answer in answers.items() if _is_help(answer)}
    for word, answer in answers.items():
        if word not in sound:
            yield Finding(text=f"{word} gives no help", shown=lab.shown((word,)), defect=answer.works)
    if not sound:
        return
    first = next(iter(sound.values())).record
    for other in ("--help", "-h"):
        form = lab.signature.forms[0]
        if other in known or other in form.by_spelling:
            continue
        answer = lab.answer((other,))
        if _is_help(answer) and answer.record.stdout == first.stdout and answer.record.stderr == first.stderr:
            more = AppendEdit(("signature", "help"), other)
            yield Finding(text=f"{other} asks for help as well", shown=lab.shown((other,)), edits=(more,))
    yield from _help_beside(lab, max(sound, key=len))
    yield from _complete(lab, max(sound, key=len))
    streams = {"stdout" if each.record.stdout else "stderr" for each in sound.values()}
    stated = is_stated(lab.text, "help", "stream")
    if streams == {"stdout"} and not lab.signature.row.help_stream and not stated:
        edit = KeyEdit(("help", "stream"), "stdout", OBSERVED)
        yield Finding(
            text="help is printed on standard output", shown=lab.shown((next(iter(sound)),)), edits=(edit,)
        )


def _complete(lab: Lab, spelling: str) -> Iterator[Finding]:
    """Find that the help lists the options of the synopsis and no others; where it lists others,
    tell which."""
    if is_stated(lab.text, "signature", "help-complete"):
        return
    record = lab.answer((spelling,)).record
    rule = help_rule(lab.signature, True, "", "").aspects["help"]
    if not isinstance(rule, HelpAspect) or any(each.keywords for each in rule.forms):
        return  # with subcommands each has a help of its own
    unknown = rule.undeclared(record.stdout or record.stderr or "")
    shown = lab.shown((spelling,))
    if unknown:
        told = ", ".join(unknown)
        yield Finding(text=f"the help lists {told}, which is not in the synopsis", shown=shown)
    else:
        edit = KeyEdit(("signature", "help-complete"), True, OBSERVED)
        yield Finding(
            text="the help lists no option that the synopsis does not have", shown=shown, edits=(edit,)
        )


def _help_beside(lab: Lab, spelling: str) -> Iterator[Finding]:
    """Find that help is refused beside words that are accepted by themselves."""
    builder = lab.forms.sound_builder(0)
    request = builder.smallest() if builder is not None else None
    words = request.words() if request is not None else ()
    if request is None or len(words) == request.form.keywords:
        return
    at = request.behind_keywords()
    beside = (*words[:at], spelling, *words[at:])
    if not lab.answer(beside).works:
        text = f"{spelling} is refused together with other words"
        yield Finding(text=text, shown=lab.shown(beside), defect=True)


def _is_help(answer: Answer) -> bool:
    """Tell whether an answer is a help text: accepted, and more than a line."""
    text = (answer.record.stdout or "") + (answer.record.stderr or "")
    return answer.works and len(text.strip().splitlines()) > 1


# --- what varies, what is read and written ---


def settle_varying(lab: Lab) -> Iterator[Finding]:
    """Find what differs between two launches of one vector."""
    for varying in varying_of(lab.experiments, _bases(lab)):
        if not varying.pattern:
            yield Finding(text=f"{varying.stream} differs completely from launch to launch")
        elif varying.pattern not in lab.text:
            edits: tuple[Edit, ...] = (MaskEdit(varying.stream, varying.pattern),)
            yield Finding(text=f"{varying.stream} varies where it matches {varying.pattern}", edits=edits)


def settle_surroundings(lab: Lab) -> Iterator[Finding]:
    """Tell what the smallest calls read of standard input, and which files they write."""
    bases = _bases(lab)
    written = {words: lab.answer(words).record.files for words in bases}
    for words, files in written.items():
        if files:
            names = " ".join(sorted(files)[:5])
            yield Finding(text=f"it writes {names}", shown=lab.shown(words))
            break
    if not can_be_seen():
        return
    silent = lab.experiments.launched(bases, silent=True)
    for words, answer in silent.items():
        if has_waited(answer.record) and lab.answer(words).works:
            yield Finding(text="it reads standard input", shown=lab.shown(words))
            break


def _bases(lab: Lab) -> list[Words]:
    """Return the smallest and the fullest accepted vector of each form."""
    requests = [made for builder in lab.forms.builders() if builder.grounds.works for made in _both(builder)]
    vectors = dict.fromkeys(each.words() for each in requests if each is not None)
    return [words for words in vectors if lab.answer(words).works]


def _both(builder: Builder) -> tuple[Request | None, Request | None]:
    return builder.smallest(), builder.fullest()
