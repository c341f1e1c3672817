"""What the program answers: how it refuses, how it gives help, what varies, what it reads and
writes."""

from __future__ import annotations

from collections.abc import Iterator

from keen_matrix.core.expect.help import HelpAspect, help_rule
from keen_matrix.core.experiments.ask import Answer, has_waited
from keen_matrix.core.experiments.edits import OBSERVED, AppendEdit, Edit, KeyEdit, MaskEdit, is_stated
from keen_matrix.core.experiments.findings import Finding
from keen_matrix.core.insight.settling.lab import Lab
from keen_matrix.core.launch.process.waiting import can_be_seen
from keen_matrix.core.runs.again import varying_of
from keen_matrix.core.signature.grounds import Words
from keen_matrix.core.signature.helptext.usages import is_usage
from keen_matrix.core.signature.requests import Builder, Request

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
    if lab.answer(beside).works or lab.signature.habits.help_wins == "alone":
        return
    if not lab.signature.reader:
        # a program that reads its words by hand often looks at the first one alone
        edit = KeyEdit(("signature", "help-wins"), "alone", OBSERVED)
        text = f"{spelling} asks for help only where it is alone"
        yield Finding(text=text, shown=lab.shown(beside), edits=(edit,))
    else:
        text = f"{spelling} is refused together with other words"
        yield Finding(text=text, shown=lab.shown(beside), defect=True)


def _is_help(answer: Answer) -> bool:
    """Tell whether an answer is a help text: accepted, and more than a line, or a usage."""
    lines = ((answer.record.stdout or "") + (answer.record.stderr or "")).strip().splitlines()
    return answer.works and (len(lines) > 1 or any(is_usage(line) for line in lines))


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
