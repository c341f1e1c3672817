"""Calls of a program that says nothing of itself, tried from no word to four, the more promising
ones further."""

from __future__ import annotations

import re
from collections import Counter
from collections.abc import Callable, Iterable, Sequence
from itertools import zip_longest
from typing import NamedTuple

from keen_matrix.core.insight.observing.source import SourceReading
from keen_matrix.core.model.record import BROKEN, Record
from keen_matrix.core.runs.keeping.calls import Call
from keen_matrix.core.structs import replace

#: Launches in all, apart from those that are repeated to see what varies.
MOST_LAUNCHES = 400
#: CandidateWords of each kind.
MOST_WORDS, MOST_OPTIONS, MOST_NUMBERS = 14, 8, 12
#: How many calls of one, two and three words are made longer, and by how many candidates each.
WIDTHS = ((9, 20), (8, 16), (4, 8))
#: A call that is accepted is made longer by so many times as many.
ACCEPTED_WIDER = 1.5
#: A smaller number says little.
LEAST_TELLING = 4
#: Files that are put in place, by what lines are split at. One line is empty, one is short.
SAMPLES = {
    "": "3 Skerry\n1 Holm\n\n2 Voe\n",
    ",": "Skerry,3\nHolm,1\nVoe,2,x\n",
    ":": "Skerry:3\nHolm:1\nVoe:2:x\n",
    ";": "Skerry;3\nHolm;1\nVoe;2;x\n",
}
#: Which kind of candidates options are.
OPTIONS = 2
SAMPLE, MISSING = "sample.txt", "missing.txt"
#: What any program may be given, by kind.
USUAL_WORDS = ("word", "Two Words", "")
USUAL_NUMBERS = ("1", "2", "0", "-1", "10", "2.5", "12abc")
USUAL_OPTIONS = ("-x", "--help", "--no-such-option")
#: Texts of standard input.
INPUTS = ("1\n2\n3\n", "word\n", "3\n", "b\na\nb\n", "Two Words\n\nlast", "2.5\n-1\n2.25\n")

Launch = Callable[[Sequence[Call]], list[Record]]


class TriedCall(NamedTuple):
    """A call and its result."""

    call: Call
    record: Record

    @property
    def is_sound(self) -> bool:
        """Whether it may be written down: it ended by itself, and did not crash."""
        return self.record.verdict not in BROKEN

    @property
    def shape(self) -> tuple[object, ...]:
        """What the result is like, with its numbers and the words of the call left out."""
        record = self.record
        text = f"{record.stdout or ''}\0{record.stderr or ''}"
        for word in sorted({*self.call.words}, key=len, reverse=True):
            if len(word) > 1:
                text = text.replace(word, "<word>")
        files = tuple((name, change.state) for name, change in record.files.items())
        return (record.exit, record.signal, re.sub(r"\d+", "#", text), files)


class CandidateWords(NamedTuple):
    """Words that are tried."""

    #: By kind: words, numbers, options.
    kinds: tuple[tuple[str, ...], ...]

    @property
    def all(self) -> tuple[str, ...]:
        """Each of them once, the first of every kind before the second of any."""
        turns = zip_longest(*self.kinds)
        return tuple(dict.fromkeys(each for turn in turns for each in turn if each is not None))

    def kind_of_word(self, word: str) -> int:
        """Return the number of the kind that a word is of."""
        return next((at for at, kind in enumerate(self.kinds) if word in kind), 0)


def candidates_of(reading: SourceReading, typed: Iterable[str] = ()) -> CandidateWords:
    """Return the words that are tried: those of somebody's own calls first, then those of the
    source, with the numbers beside those that it has."""
    typed = list(typed)
    numbers = numbers_beside(reading)
    files = [SAMPLE, MISSING] if reading.reads_files else []
    own = [each for each in typed if not each.startswith("-")]
    kinds = (
        (*own, *files, *reading.words[:MOST_WORDS], *USUAL_WORDS),
        (*numbers[: 2 * MOST_NUMBERS], *USUAL_NUMBERS),
        (*(each for each in typed if each.startswith("-")), *reading.options[:MOST_OPTIONS], *USUAL_OPTIONS),
    )
    return CandidateWords(tuple(tuple(dict.fromkeys(each)) for each in kinds))


def numbers_beside(reading: SourceReading) -> list[str]:
    """Return the numbers of a source and those one off: where limits are, and are missed."""
    numbers: list[str] = []
    # Small ones are everywhere, and are tried of themselves.
    told = sorted(reading.numbers, key=lambda each: float(each) < LEAST_TELLING)
    for each in told[:MOST_NUMBERS]:
        numbers.append(each)
        if "." not in each:
            numbers += [str(int(each) + 1), *([str(int(each) - 1)] if int(each) else [])]
    return numbers


def sample_text(reading: SourceReading) -> str:
    """Return the text of a file that the program may be given, of lines as it splits them."""
    return SAMPLES[next((each for each in reading.separators if each in SAMPLES), "")]


class CallSearch:
    """The calls of a program that were tried."""

    def __init__(self, launch: Launch, reading: SourceReading, candidates: CandidateWords) -> None:
        self._launch, self._reading, self._candidates = launch, reading, candidates
        self.tried: dict[Call, TriedCall] = {}

    def run(self) -> list[TriedCall]:
        """Try calls, and return them in the order in which they were tried."""
        self._try([Call(words=())])
        level = self._longer([()], len(self._candidates.all))
        if self._reading.reads_input:
            self._with_input()
        for wide, count in WIDTHS:
            level = self._longer(self._promising(level, wide), count)
        return list(self.tried.values())

    def _try(self, calls: Iterable[Call]) -> list[TriedCall]:
        fresh = [each for each in dict.fromkeys(calls) if each not in self.tried]
        fresh = fresh[: max(0, MOST_LAUNCHES - len(self.tried))]
        records = self._launch(fresh) if fresh else []
        found = [TriedCall(call, record) for call, record in zip(fresh, records, strict=True)]
        self.tried |= {each.call: each for each in found}
        return found

    def _longer(self, prefixes: Sequence[tuple[str, ...]], count: int) -> list[TriedCall]:
        """Try calls that are one word longer."""
        calls = []
        for prefix in prefixes:
            # What it was itself made of comes last: another value of the same place says less.
            order = self._order_after(prefix, count)
            before = self.tried.get(Call(words=prefix))
            is_accepted = before is not None and before.record.exit == 0
            most = int(count * ACCEPTED_WIDER) if is_accepted else count
            calls += [Call(words=(*prefix, each)) for each in order[:most]]
        return self._try(calls)

    def _order_after(self, prefix: tuple[str, ...], count: int) -> list[str]:
        """Return the candidates for the word after others: a third more of its kind, `3 4` may be
        the sides of something, then of every kind in turn."""
        every = sorted(self._candidates.all, key=lambda each: each in prefix)
        if not prefix:
            return every
        kind = self._candidates.kinds[self._candidates.kind_of_word(prefix[-1])]
        alike = [each for each in every if each in kind][: count // 3]
        return list(dict.fromkeys((*alike, *every)))

    def _kinds(self, words: Sequence[str]) -> tuple[int, ...]:
        return tuple(map(self._candidates.kind_of_word, words))

    def _promising(self, level: Sequence[TriedCall], wide: int) -> list[tuple[str, ...]]:
        """Return the calls that are worth making longer: one of each shape of result, those that
        are accepted before others; then some of each kind of word, since many may be refused alike
        for want of a word more."""
        shapes: dict[tuple[object, ...], TriedCall] = {}
        for each in level:
            shapes.setdefault(each.shape, each)
        own = {*self._reading.words, *self._reading.options}
        ranked = sorted(
            shapes.values(),
            key=lambda each: (not each.is_sound, each.record.exit != 0, not own & {*each.call.words}),
        )
        chosen = [each.call.words for each in ranked[:wide]]
        # Words and numbers before options, which most programs have few of.
        for each in sorted(level, key=lambda each: self._kinds(each.call.words).count(OPTIONS)):
            words = each.call.words
            alike = [other for other in chosen if self._kinds(other) == self._kinds(words)]
            if len(chosen) < wide and len(alike) < 2 and words not in chosen:
                chosen.append(words)
        return chosen

    def _with_input(self) -> None:
        """Try texts for standard input, first without words, then with those that are worth it."""
        numbers = "".join(f"{each}\n" for each in self._reading.numbers[:4])
        lines = "".join(f"{each}\n" for each in self._reading.words[:4])
        texts = dict.fromkeys((*INPUTS, *filter(None, (numbers, lines)), sample_text(self._reading)))
        bare = self._try(Call(words=(), stdin=text) for text in texts)
        # One text of each shape of result, those that are accepted before others.
        shapes: dict[tuple[object, ...], TriedCall] = {}
        for each in sorted(bare, key=lambda each: each.record.exit != 0):
            shapes.setdefault(each.shape, each)
        telling = [each.call.stdin for each in shapes.values()][:4]
        own = {*self._reading.words, *self._reading.options}
        singles = [each for each in self.tried if len(each.words) == 1 and each.stdin is None]
        singles.sort(key=lambda each: not own & {*each.words})
        calls = singles[:MOST_WORDS]
        self._try(Call(words=each.words, stdin=text) for text in telling for each in calls)


#: Rows in all, and of one shape of result.
MOST_ROWS, MOST_ALIKE = 90, 6


def _edges(tried: Sequence[TriedCall]) -> set[Call]:
    """Return the calls on both sides of a limit: those with numbers one apart whose results are not
    alike."""
    known = {each.call: each for each in tried if each.is_sound}
    found: set[Call] = set()
    for call, each in known.items():
        for at, word in enumerate(call.words):
            if not re.fullmatch(r"-?\d{1,9}", word):
                continue
            next_words = (*call.words[:at], str(int(word) + 1), *call.words[at + 1 :])
            other = known.get(replace(call, words=next_words))
            if other is not None and other.shape != each.shape:
                found |= {call, other.call}
    return found


def chosen_rows(tried: Sequence[TriedCall], reading: SourceReading) -> list[TriedCall]:
    """Return the calls that are written down: some of each shape of result, those with the
    program's own words before others and short ones before long ones."""
    own = {*reading.words, *reading.options, *numbers_beside(reading)}
    counts: Counter[tuple[object, ...]] = Counter()
    edges = _edges(tried)
    numbered = []
    order = sorted(
        (each for each in tried if each.is_sound),
        key=lambda each: (len(each.call.words), -len(own & {*each.call.words})),
    )
    for each in order:
        call, record = each.call, each.record
        given = (len(call.words), call.stdin is not None, SAMPLE in call.words)
        alike, same = (each.shape, given), (each.shape, given, record.stdout, record.stderr)
        # Of results that are the same to the letter one says nearly as much as three.
        number = 0 if each.call in edges else counts[alike] + 2 * counts[same]
        if number < MOST_ALIKE:
            counts.update([alike, same])
            numbered.append((number, each))
    # The first of every shape before the second of any.
    numbered.sort(key=lambda pair: pair[0])
    kept = {id(each) for _, each in numbered[:MOST_ROWS]}
    return [each for each in order if id(each) in kept]
