"""Hollow green: cases that passed, though next to nothing of the program was seen at work.

Accepted vectors that are derived from a signature have few expectations of their own. Where nearly
all of them print the same help or usage, or nothing at all, or where most options were in no case
that passed, what passed shows only that the program did not refuse. That is said beside the
counts."""

from __future__ import annotations

import re
from collections import Counter
from collections.abc import Iterable, Iterator, Mapping

from keen_matrix.core.model.record import Record
from keen_matrix.core.model.spec import Rule, Spec
from keen_matrix.core.notation.synopsis import Keyword
from keen_matrix.core.signature.signature import Signature
from keen_matrix.core.structs import Struct, field

#: The part of the accepted cases of a usage from which they count as nearly all of it.
NEARLY_ALL = 0.8
#: Accepted cases below which nothing is said: two alike may be chance.
FEWEST = 3
#: The part of a signature's options that must be in some case that passed.
LEAST_OPTIONS = 1 / 3
#: Options below which a third of them says nothing.
FEW_OPTIONS = 3
_USAGE = re.compile(r"(?im)^\s*(?:usage|synopsis)\b")
NOTHING, HELP = "nothing", "help"
#: Aspects, or beginnings of their names, that look at what a program did.
PROOFS = ("stdout", "stderr", "files", "json", "baseline")
#: Families whose vectors do not ask the program to do its work.
NOT_AT_WORK = frozenset({"refusals", "help"})


def shows_only(record: Record) -> str:
    """Return `nothing` of a launch that printed nothing and left every file as it was, `help` of
    one that printed a text with a usage line; empty of any other."""
    if record.files:
        return ""
    text = (record.stdout or "") + (record.stderr or "")
    if not (text or record.stdout_base64 or record.stderr_base64):
        return NOTHING
    return HELP if _USAGE.search(text[:4_000]) else ""


class UsageWork(Struct):
    """What the accepted cases of one usage showed."""

    cases: int = 0
    #: Of them, those that printed nothing and left every file as it was.
    silent: int = 0
    #: Digest or text of an output with a usage line → how many printed just that.
    pages: Counter[str] = field(default_factory=Counter)

    def add(self, record: Record) -> None:
        """Take a case that passed."""
        self.cases += 1
        kind = shows_only(record)
        self.silent += kind == NOTHING
        if kind == HELP:
            self.pages[(record.stdout or "") + (record.stderr or "")] += 1

    @property
    def hollow(self) -> tuple[str, int] | None:
        """What nearly all of them printed, `help` or `nothing`, and how many; None where they
        differ."""
        if self.cases < FEWEST:
            return None
        same = max(self.pages.values(), default=0)
        for kind, count in ((HELP, same), (NOTHING, self.silent)):
            if count >= NEARLY_ALL * self.cases:
                return kind, count
        return None


class WorkSeen:
    """What was seen of a program's work in the cases of a spec that passed."""

    def __init__(self, spec: Spec) -> None:
        self._spec = spec
        self._commands = frozenset(commands_of(spec.signature)) if spec.signature else frozenset()
        #: Subcommand, empty for none → what its accepted cases showed.
        self.usages: dict[str, UsageWork] = {}
        self._unseen = {each.key: each.spellings for each in spec.signature.options} if spec.signature else {}
        self._options = len(self._unseen)
        self._accepted = 0
        #: File of the spec → how many accepted cases name it, and how many of them read it.
        self._samples: dict[str, list[int]] = {}

    def wants(self, family: str) -> bool:
        """Tell whether a case that passed is to be looked at."""
        if self._spec.signature is None or family in NOT_AT_WORK:
            return False
        return family == "accepted" or bool(self._unseen)

    def add(self, record: Record) -> None:
        """Take a case that passed."""
        signature = self._spec.signature
        if signature is None:
            return
        if record.family == "accepted":
            self._accepted += 1
            for name, read in record.samples.items():
                counts = self._samples.setdefault(name, [0, 0])
                counts[0] += 1
                counts[1] += read
            first = record.argv[0] if record.argv else ""
            self.usages.setdefault(first if first in self._commands else "", UsageWork()).add(record)
        for argv in (record.argv, *record.more_argv) if self._unseen else ():
            given = signature.judge(argv).given
            self._unseen = {
                key: spellings for key, spellings in self._unseen.items() if given.isdisjoint(spellings)
            }

    def sentences(self) -> Iterator[str]:
        """Yield what of the cases that passed is hollow, in words."""
        if not looks_at_output(self._spec.rules):
            for command, shown in sorted(self.usages.items()):
                hollow = shown.hollow
                if hollow is not None:
                    kind, count = hollow
                    yield hollow_sentence(kind, count, shown.cases, command)
            for name, (cases, read) in sorted(self._samples.items()):
                if cases >= FEWEST and not read:
                    yield (
                        f"none of the {cases} accepted cases that name {name} reads it, so what the "
                        f"program does with a file is not checked; add cases in which it does, or add "
                        f"to [expect] what they must print"
                    )
        reached = self._options - len(self._unseen)
        if self._accepted and self._options > FEW_OPTIONS and reached < LEAST_OPTIONS * self._options:
            yield f"only {reached} of the {self._options} options of the signature are in a case that passed"


def hollow_sentence(kind: str, count: int, cases: int, command: str, noun: str = "cases") -> str:
    """Return what the accepted cases of a usage do not show, and what would."""
    of = f" of {command}" if command else ""
    if kind == HELP:
        return (
            f"{count} of {cases} accepted {noun}{of} print the same help, so none of them "
            f"shows the program at "
            "work; give [signature] values or operands that it works with"
        )
    return (
        f"{count} of {cases} accepted {noun}{of} print nothing and change no file, so only their "
        'exit status is checked; say in [expect] what they must print, even if it is stdout = ""'
    )


def looks_at_output(rules: Iterable[Rule]) -> bool:
    """Tell whether one of some rules looks at what a program printed or wrote."""
    return any(name.startswith(PROOFS) for rule in rules for name in rule.aspects)


def commands_of(signature: Signature) -> Iterator[str]:
    """Yield the first keywords of the usages of a signature."""
    for usage in signature.forms:
        first = next((each for each in usage.form.walk() if isinstance(each, Keyword)), None)
        if first is not None:
            yield first.word


def hollow_usages(
    signature: Signature, records: Mapping[tuple[str, ...], Record]
) -> Iterator[tuple[str, str]]:
    """Yield the subcommands, empty for none, whose accepted launches show nothing of the program at
    work, each with a sentence that says so."""
    commands = frozenset(commands_of(signature))
    found: dict[str, UsageWork] = {}
    for words, record in records.items():
        first = words[0] if words and words[0] in commands else ""
        found.setdefault(first, UsageWork()).add(record)
    for command, shown in found.items():
        hollow = shown.hollow
        if hollow is not None:
            kind, count = hollow
            yield command, hollow_sentence(kind, count, shown.cases, command, "base calls")
