"""Coverage: what of a signature and of the axes the vectors reach, and what they never try."""

from __future__ import annotations

import os
from collections.abc import Iterable, Iterator, Sequence
from itertools import combinations
from math import prod
from typing import TYPE_CHECKING

from keen_matrix.core.doing import doing
from keen_matrix.core.expect.applied import applies
from keen_matrix.core.expect.rules import rules_for, rules_key
from keen_matrix.core.expressions import Expression, as_text, called_functions
from keen_matrix.core.model.case import Case
from keen_matrix.core.model.relation import ASPECT_OF
from keen_matrix.core.model.spec import Matrix, Spec
from keen_matrix.core.notation.synopsis import Choice, OptionUse
from keen_matrix.core.oracle import named_functions
from keen_matrix.core.signature.families import family_of
from keen_matrix.core.signature.judging.binding import identifier
from keen_matrix.core.signature.requests import is_apart
from keen_matrix.core.signature.signature import Signature
from keen_matrix.core.structs import Struct, field
from keen_matrix.core.vectors.combine import strength_of
from keen_matrix.core.vectors.constraints import constraints_of
from keen_matrix.core.vectors.factors import layout_of

if TYPE_CHECKING:
    import numpy as np
    from numpy.typing import NDArray

    from keen_matrix.core.covering.feasible import Feasible

#: Levels of an axis up to which its tuples are counted.
MOST_LEVELS = 2_000
#: Tuples of a strength that are counted; larger matrices are reported as not counted.
MOST_TUPLES = 2_000_000
#: Missing things that are kept by name of each part.
MOST_MISSING = 200


class CoveragePart(Struct):
    """One thing that is counted: spellings, edges, refusals, pairs of an axis system."""

    name: str
    reached: int = 0
    total: int = 0
    missing: list[str] = field(default_factory=list)
    #: Lines of a spec that would add what is missing.
    closing: list[str] = field(default_factory=list)

    def count(self, what: str, there: bool, closing: str = "") -> None:
        """Count one item."""
        self.total += 1
        self.reached += there
        if not there and len(self.missing) < MOST_MISSING:
            self.missing.append(what)
            if closing and closing not in self.closing:
                self.closing.append(closing)

    @property
    def percent(self) -> float | None:
        """The part that is reached, in percent; None when there is nothing to measure."""
        return 100.0 * self.reached / self.total if self.total else None


class Coverage(Struct):
    """Everything that was counted of a spec."""

    parts: list[CoveragePart] = field(default_factory=list)
    #: Matrix → aspect → cases in which it is checked.
    aspects: dict[str, dict[str, int]] = field(default_factory=dict)
    cases: dict[str, int] = field(default_factory=dict)
    #: Options that the help lists and no case uses.
    unlisted: list[str] = field(default_factory=list)

    @property
    def percent(self) -> float | None:
        """The mean of the parts that have anything to reach, each weighing the same; None when
        none has."""
        # A part without anything to reach is neither whole nor empty, so it weighs nothing.
        shares = [each for part in self.parts if (each := part.percent) is not None]
        return sum(shares) / len(shares) if shares else None


def coverage_of(spec: Spec, cases: Iterable[Case], help_text: str = "") -> Coverage:
    """Return what the cases of a spec reach, in one pass and bounded memory.

    `help_text` is the program's own, when it is known from a run.
    """
    found = Coverage()
    matrices = {matrix.index: matrix for matrix in spec.matrices}
    signature = _SignatureCount(spec.signature) if spec.signature is not None else None
    tuples: dict[int, _TupleCount] = {}
    aspects = _AspectCount(spec)
    with doing(f"counting what the cases of {os.path.basename(spec.path)} reach") as so_far:
        for number, case in enumerate(cases):
            if not number % 1_000:
                so_far.told(f"{number} cases")
            matrix = matrices[case.matrix]
            aspects.add(matrix, case)
            if signature is not None:
                signature.add(case)
            # A derived family has no axes that anybody wrote, so no tuples of it are counted.
            if not matrix.family:
                if matrix.index not in tuples:
                    tuples[matrix.index] = _TupleCount(spec, matrix)
                tuples[matrix.index].add(case)
    if signature is not None:
        found.parts += signature.parts()
    for matrix in spec.matrices:
        if matrix.index in tuples:
            found.parts += tuples[matrix.index].parts()
    found.aspects, found.cases = aspects.counts, aspects.cases
    if help_text and signature is not None:
        found.unlisted = list(_unused_help(help_text, signature.dashed))
    return found


# --- the signature ---


class _SignatureCount:
    """What of a signature the cases have reached so far."""

    def __init__(self, signature: Signature) -> None:
        self.signature = signature
        self.options = [option for option in signature.options if not is_apart(signature, option)]
        #: Words that begin with a dash, values cut off.
        self.dashed: set[str] = set()
        self.wanted = {
            # By value and not by text: 007 reaches the edge 7.
            identifier(name): {as_text(kind.converted(value)) for value in kind.legal()[:6]}
            for name, kind in signature.values.items()
        }
        self.seen: dict[str, set[str]] = {name: set() for name in self.wanted}
        self.refusals: set[tuple[str, str]] = set()
        self.orders = dict.fromkeys(_exclusive_orders(signature), False)
        self.before = self.after = self.delimited = False

    def add(self, case: Case) -> None:
        """Count one case and the further vectors that it is compared with."""
        for words in (case.argv, *case.more):
            # By their looks, since refused vectors are counted as well, and of those no reading
            # tells what is an option.
            flags = [word.startswith("-") and word not in ("-", "--") for word in words]
            self.dashed |= {word.partition("=")[0] for word, flag in zip(words, flags, strict=True) if flag}
            if case.standing is not None and case.standing.status == "accepted":
                self._add_places(words, flags)
        for pair, there in self.orders.items():
            self.orders[pair] = there or _before(case.argv, *pair)
        standing = case.standing
        if standing is not None and standing.status == "refused":
            self.refusals |= {(kind, _about(standing.mentions)) for kind in standing.kinds}
        elif standing is not None and standing.status == "accepted":
            for name, value in standing.bound.items():
                # Several operands of one NAME are bound to a list; each of them may be an edge.
                for each in value if isinstance(value, list) else [value]:
                    if (text := as_text(each)) in self.wanted.get(name, ()):
                        self.seen[name].add(text)

    def _add_places(self, words: tuple[str, ...], flags: list[bool]) -> None:
        # A vector of options alone has no place before or after.
        self.before = self.before or bool(flags and flags[0] and not all(flags))
        self.after = self.after or bool(flags and not flags[0] and any(flags))
        self.delimited = self.delimited or "--" in words

    def parts(self) -> Iterator[CoveragePart]:
        """Yield what was counted."""
        spellings = CoveragePart("options and spellings")
        for option in self.options:
            for spelling in option.spellings:
                # In any vector, refused ones too: a spelling that is only refused was tried.
                used = any(_uses(word, spelling) for word in self.dashed)
                spellings.count(
                    spelling, used, f'derive = [..., "rephrasings"]   # or a line with {spelling}'
                )
        yield spellings
        edges = CoveragePart("values at their edges")
        for name, kind in self.signature.values.items():
            for value in kind.legal()[:6]:
                there = as_text(kind.converted(value)) in self.seen[identifier(name)]
                edges.count(f"{name} {value!r}", there, f'axes.{name.lower()} = {{ edges = "{name}" }}')
        yield edges
        refusals = CoveragePart("refusals by kind and argument")
        wanted = {
            (vector.kind, _about(vector.mentions)) for vector in family_of(self.signature, "refusals").vectors
        }
        for pair in sorted(wanted):
            refusals.count(" ".join(pair), pair in self.refusals, 'derive = [..., "refusals"]')
        yield refusals
        orders = CoveragePart("exclusive options in both orders")
        for (one, two), there in self.orders.items():
            orders.count(f"{one[-1]} before {two[-1]}", there, f'line = "{one[-1]} {two[-1]} …"')
        yield orders
        places = CoveragePart("positions of options")
        if self.options and self.signature.operand_names:
            places.count("before operands", self.before, 'derive = [..., "accepted"]')
            if self.signature.habits.interleaved:
                places.count("after operands", self.after, 'derive = [..., "rephrasings"]')
            places.count("operands after --", self.delimited, 'derive = [..., "rephrasings"]')
        yield places


def _uses(word: str, spelling: str) -> bool:
    if word == spelling or word.startswith(f"{spelling}="):
        return True
    short = len(spelling) == 2 and not spelling.startswith("--")
    return short and word.startswith("-") and not word.startswith("--") and spelling[1] in word[1:]


def _about(mentions: tuple[str, ...]) -> str:
    """Return the option or NAME that a refusal concerns, or nothing when it concerns a word that
    is none."""
    return next(
        (each for each in mentions[1:] if each.startswith("--") or each.isupper()),
        mentions[0] if len(mentions) == 1 and (mentions[0].startswith("--") or mentions[0].isupper()) else "",
    )


def _exclusive_orders(signature: Signature) -> Iterator[tuple[tuple[str, ...], tuple[str, ...]]]:
    """Yield the spellings of each two options that exclude each other, in both orders."""
    for form in signature.forms:
        for choice in (item for item in form.form.walk() if isinstance(item, Choice)):
            heads = [
                form.option_of(item).spellings
                for each in choice.alternatives
                if (item := next((i for i in each.walk() if isinstance(i, OptionUse)), None))
            ]
            for first, second in combinations(heads, 2):
                yield first, second
                yield second, first


def _before(words: tuple[str, ...], first: tuple[str, ...], second: tuple[str, ...]) -> bool:
    places = [[at for at, word in enumerate(words) if word.split("=")[0] in each] for each in (first, second)]
    return bool(places[0] and places[1] and min(places[0]) < max(places[1]))


# --- axes ---


#: Rows whose tuples are noted together.
ROWS_AT_ONCE = 4_096


def tuples_of(sizes: Sequence[int], strength: int) -> int:
    """Return how many pairs, or triples, the levels of so many axes have: by sums of powers, since
    the axes themselves have too many combinations to go through (Newton's identities)."""
    one, two, three = (sum(size**power for size in sizes) for power in (1, 2, 3))
    return (one * one - two) // 2 if strength == 2 else (one**3 - 3 * one * two + 2 * three) // 6


class _Combinations:
    """Which combinations of the levels of some axes were seen, a byte for each: a million of them
    would be hundreds of megabytes as tuples."""

    def __init__(self, sizes: Sequence[int]) -> None:
        self._sizes = sizes
        self._there = bytearray(prod(sizes))

    def add(self, columns: Sequence[NDArray[np.int64]]) -> None:
        """Take what some rows have: for each axis its level in each of them."""
        import numpy as np

        numbers = columns[0]
        for column, size in zip(columns[1:], self._sizes[1:], strict=True):
            numbers = numbers * size + column
        np.frombuffer(self._there, np.uint8)[numbers] = 1

    @property
    def count(self) -> int:
        """How many were seen."""
        return self._there.count(1)

    def unseen(self) -> Iterator[tuple[int, ...]]:
        """Yield those that were not, in order."""
        at = self._there.find(0)
        while at >= 0:
            levels, rest = [], at
            for size in reversed(self._sizes):
                rest, level = divmod(rest, size)
                levels.append(level)
            yield tuple(reversed(levels))
            at = self._there.find(0, at + 1)


class _TupleCount:
    """The pairs and triples of one matrix that its cases contain, of those that some allowed
    vector can contain."""

    def __init__(self, spec: Spec, matrix: Matrix) -> None:
        self.spec, self.matrix = spec, matrix
        layout = self.layout = layout_of(matrix)
        self.sizes = [factor.levels for factor in layout.factors]
        self.names = [
            next((name for name, at in layout.names.items() if at == number), factor.name)
            for number, factor in enumerate(layout.factors)
        ]
        self.usable = all(size <= MOST_LEVELS for size in self.sizes) and all(
            name in layout.values for name in self.names
        )
        self.levels: list[dict[str, int]] = []
        if self.usable:
            for name in self.names:
                column = layout.values[name]
                self.levels.append({repr(column[level]): level for level in range(len(column))})
        asked = max(strength_of(matrix) or 3, 2)
        self.seen: dict[tuple[int, ...], _Combinations] = {}
        self._rows: list[list[int]] = []
        for strength in (2, 3):
            tuples = tuples_of(self.sizes, strength)
            if self.usable and strength <= asked and tuples <= MOST_TUPLES:
                self.seen |= {
                    axes: _Combinations([self.sizes[axis] for axis in axes])
                    for axes in combinations(range(len(self.sizes)), strength)
                }

    def add(self, case: Case) -> None:
        """Count one case."""
        if not self.seen:
            return
        row = [self.levels[at].get(repr(case.values.get(name)), -1) for at, name in enumerate(self.names)]
        if -1 not in row:
            self._rows.append(row)
            if len(self._rows) >= ROWS_AT_ONCE:
                self._note_rows()

    def _note_rows(self) -> None:
        import numpy as np

        if self._rows:
            columns = list(np.array(self._rows, np.int64).T)
            for axes, seen in self.seen.items():
                seen.add([columns[axis] for axis in axes])
            self._rows = []

    def parts(self) -> Iterator[CoveragePart]:
        """Yield what was counted, pairs first."""
        from keen_matrix.core.covering.feasible import Feasible, Predicate

        self._note_rows()
        functions = named_functions(self.spec.program.oracle)
        constraints = constraints_of(self.matrix, self.layout, self.spec.here, functions)
        rules = [Predicate(each.factors, each.test) for each in constraints]
        feasible = Feasible(self.sizes, rules) if rules else None
        for strength, noun in ((2, "pairs"), (3, "triples")):
            groups = [(axes, seen) for axes, seen in self.seen.items() if len(axes) == strength]
            if not groups:
                continue
            part = CoveragePart(f"{noun} of {self.matrix.name}")
            for axes, seen in groups:
                self._count(part, axes, seen, feasible)
            if part.missing:
                part.closing = [f'combine = "{noun}"   # in {self.matrix.name}']
            yield part

    def _count(
        self, part: CoveragePart, axes: tuple[int, ...], seen: _Combinations, feasible: Feasible | None
    ) -> None:
        linked = feasible is not None and any(axis in feasible.component for axis in axes)
        part.reached += seen.count
        part.total += seen.count
        for levels in seen.unseen():
            if not linked or (feasible is not None and feasible.possible(list(axes), list(levels))):
                if len(part.missing) >= MOST_MISSING:  # it would be named nowhere
                    part.count("", False)
                    continue
                shown = (
                    f"{self.names[axis]} {as_text(self.layout.values[self.names[axis]][level]) or 'left out'}"
                    for axis, level in zip(axes, levels, strict=True)
                )
                part.count(", ".join(shown), False)


# --- expectations and help ---


class _AspectCount:
    """In how many cases of each matrix an aspect is checked."""

    def __init__(self, spec: Spec) -> None:
        self.spec = spec
        self._oracle = frozenset(named_functions(spec.program.oracle))
        self.counts: dict[str, dict[str, int]] = {}
        self.cases: dict[str, int] = {}
        self._rules: dict[tuple[object, ...], list[tuple[Expression | None, dict[str, None]]]] = {}

    def add(self, matrix: Matrix, case: Case) -> None:
        """Count one case."""
        counts = self.counts.setdefault(matrix.name, {})
        self.cases[matrix.name] = self.cases.get(matrix.name, 0) + 1
        names: dict[str, None] = {}
        for number in range(1 if case.relation is not None else len(matrix.steps)):
            for when, aspects in self._rules_of(matrix, case, number):
                # An aspect is checked where a rule applies, not wherever one is written.
                if when is None or (
                    not aspects.keys() <= names.keys()
                    and (
                        number > len(case.more)
                        or called_functions(when) & self._oracle
                        or applies(when, case, number, self.spec.here)
                    )
                ):
                    names |= aspects
        if case.relation is not None:
            names[ASPECT_OF[case.relation.name]] = None
        for name in names:
            counts[name] = counts.get(name, 0) + 1

    def _rules_of(
        self, matrix: Matrix, case: Case, number: int
    ) -> list[tuple[Expression | None, dict[str, None]]]:
        """Return the conditions of the rules of a launch, each with the aspects that it is
        about."""
        key = (number, case.family, *rules_key(case, number))
        if key not in self._rules:
            self._rules[key] = [
                (rule.when, dict.fromkeys(name.split(".")[0] for name in rule.aspects))
                for rule in rules_for(self.spec, matrix, case, number)
            ]
        return self._rules[key]


def _unused_help(text: str, dashed: Iterable[str]) -> Iterator[str]:
    from keen_matrix.core.signature.helptext import read_help

    used = list(dashed)
    for option in read_help(text).options:
        if not any(_uses(word, spelling) for word in used for spelling in option.spellings):
            yield option.spellings[-1]
