"""Coverage: what of a signature and of the axes the vectors reach, and what they never try."""

from __future__ import annotations

import json
from collections.abc import Iterable, Iterator, Sequence
from dataclasses import dataclass, field
from itertools import combinations
from math import prod

from keen_matrix.core.expect.cascade import Cascade
from keen_matrix.core.expressions import as_text
from keen_matrix.core.launch.rules import rules_for
from keen_matrix.core.notation.synopsis import Choice, OptionUse
from keen_matrix.core.signature.families import family_of
from keen_matrix.core.signature.model import Signature
from keen_matrix.core.signature.requests import is_help
from keen_matrix.core.spec.model import Matrix, Spec
from keen_matrix.core.vectors.case import Case
from keen_matrix.core.vectors.combine import strength_of
from keen_matrix.core.vectors.constraints import constraints_of
from keen_matrix.core.vectors.factors import layout_of

MOST_TUPLES = 2_000_000
"""Tuples of a strength that are counted; larger matrices are told as not counted."""
MOST_MISSING = 200
"""Missing things that are kept by name of each part."""


@dataclass(slots=True)
class Part:
    """One thing that is counted: spellings, edges, refusals, pairs of an axis system."""

    name: str
    reached: int = 0
    total: int = 0
    missing: list[str] = field(default_factory=list)
    closing: list[str] = field(default_factory=list)
    """Lines of a spec that would add what is missing."""

    def count(self, what: str, there: bool, closing: str = "") -> None:
        """Count one item."""
        self.total += 1
        self.reached += there
        if not there and len(self.missing) < MOST_MISSING:
            self.missing.append(what)
            if closing and closing not in self.closing:
                self.closing.append(closing)

    @property
    def percent(self) -> float:
        """The part that is reached, in percent."""
        return 100.0 * self.reached / self.total if self.total else 100.0


@dataclass(slots=True)
class Coverage:
    """Everything that was counted of a spec."""

    parts: list[Part] = field(default_factory=list)
    aspects: dict[str, dict[str, int]] = field(default_factory=dict)
    """Matrix → aspect → cases in which it is checked."""
    cases: dict[str, int] = field(default_factory=dict)
    unlisted: list[str] = field(default_factory=list)
    """Options that the help lists and no vector uses."""

    @property
    def percent(self) -> float:
        """The mean of the parts, each weighing the same."""
        return sum(part.percent for part in self.parts) / len(self.parts) if self.parts else 100.0


def coverage_of(spec: Spec, cases: Iterable[Case], help_text: str = "") -> Coverage:
    """Return what the cases of a spec reach. `help_text` is the program's own, when it is known from a run."""
    found = Coverage()
    every = list(cases)
    if spec.signature is not None:
        found.parts += _signature_parts(spec.signature, every)
    by_matrix: dict[int, list[Case]] = {}
    for case in every:
        by_matrix.setdefault(case.matrix, []).append(case)
    for matrix in spec.matrices:
        own = by_matrix.get(matrix.index, [])
        if own:
            _count_aspects(found, spec, matrix, own)
            if not matrix.family:
                found.parts += _tuple_parts(spec, matrix, own)
    if help_text:
        found.unlisted = list(_unused_help(help_text, every))
    return found


# --- the signature ---


def _signature_parts(signature: Signature, cases: list[Case]) -> Iterator[Part]:
    accepted = [case for case in cases if case.standing is not None and case.standing.status == "accepted"]
    words = {word for case in cases for words in (case.argv, *case.more) for word in words}
    options = [option for option in signature.options if not is_help(signature, option)]
    spellings = Part("options and spellings")
    for option in options:
        for spelling in option.spellings:
            used = any(_uses(word, spelling) for word in words)
            spellings.count(spelling, used, f'derive = [..., "rephrasings"]   # or a line with {spelling}')
    yield spellings
    yield _edges(signature, accepted)
    yield _refusals(signature, cases)
    yield _orders(signature, cases)
    yield _positions(signature, cases, options)


def _uses(word: str, spelling: str) -> bool:
    if word == spelling or word.startswith(f"{spelling}="):
        return True
    short = len(spelling) == 2 and not spelling.startswith("--")
    return short and word.startswith("-") and not word.startswith("--") and spelling[1] in word[1:]


def _edges(signature: Signature, cases: list[Case]) -> Part:
    part = Part("values at their edges")
    seen: dict[str, set[str]] = {}
    for case in cases:
        assert case.standing is not None
        for name, value in case.standing.bound.items():
            for each in value if isinstance(value, list) else [value]:
                seen.setdefault(name, set()).add(as_text(each))
    for name, kind in signature.values.items():
        for value in kind.legal()[:6]:
            there = as_text(kind.converted(value)) in seen.get(name.replace("-", "_"), ())
            part.count(f"{name} {value!r}", there, f'axes.{name.lower()} = {{ edges = "{name}" }}')
    return part


def _refusals(signature: Signature, cases: list[Case]) -> Part:
    """Count kinds of refusal per option and operand: those that the family would make, and the cases that have them."""
    part = Part("refusals by kind and argument")
    wanted = {(vector.kind, _about(vector.mentions)) for vector in family_of(signature, "refusals").vectors}
    reached = {
        (kind, _about(case.standing.mentions))
        for case in cases if case.standing is not None and case.standing.status == "refused" for kind in case.standing.kinds
    }  # fmt: skip
    for kind, about in sorted(wanted):
        part.count(f"{kind} {about}", (kind, about) in reached, 'derive = [..., "refusals"]')
    return part


def _about(mentions: tuple[str, ...]) -> str:
    """Return the option or NAME that a refusal concerns, or nothing when it concerns a word that is none."""
    return next((each for each in mentions[1:] if each.startswith("--") or each.isupper()), mentions[0] if len(mentions) == 1
                and (mentions[0].startswith("--") or mentions[0].isupper()) else "")  # fmt: skip


def _orders(signature: Signature, cases: list[Case]) -> Part:
    part = Part("exclusive options in both orders")
    vectors = [case.argv for case in cases]
    for form in signature.forms:
        for choice in (item for item in form.form.walk() if isinstance(item, Choice)):
            heads = [
                form.by_use[id(item)].spellings
                for each in choice.alternatives if (item := next((i for i in each.walk() if isinstance(i, OptionUse)), None))
            ]  # fmt: skip
            for first, second in combinations(heads, 2):
                for one, two in ((first, second), (second, first)):
                    there = any(_before(words, one, two) for words in vectors)
                    part.count(f"{one[-1]} before {two[-1]}", there, f'line = "{one[-1]} {two[-1]} …"')
    return part


def _before(words: tuple[str, ...], first: tuple[str, ...], second: tuple[str, ...]) -> bool:
    places = [[at for at, word in enumerate(words) if word.split("=")[0] in each] for each in (first, second)]
    return bool(places[0] and places[1] and min(places[0]) < max(places[1]))


def _positions(signature: Signature, cases: list[Case], options: Sequence[object]) -> Part:
    part = Part("positions of options")
    if not options or not signature.operand_names:
        return part
    accepted = [case for case in cases if case.standing is not None and case.standing.status == "accepted"]
    vectors = [words for case in accepted for words in (case.argv, *case.more)]
    dashed = [[word.startswith("-") and word not in ("-", "--") for word in words] for words in vectors]
    before = any(flags and flags[0] and not all(flags) for flags in dashed)
    part.count("before operands", before, 'derive = [..., "accepted"]')
    if signature.switches.interleaved:
        after = any(True in flags[at:] for flags in dashed for at in range(1, len(flags)) if not flags[0])
        part.count("after operands", after, 'derive = [..., "rephrasings"]')
    part.count("operands after --", any("--" in words for words in vectors), 'derive = [..., "rephrasings"]')
    return part


# --- axes ---


def _tuple_parts(spec: Spec, matrix: Matrix, cases: list[Case]) -> Iterator[Part]:
    """Count the pairs and triples of a matrix that its cases hold, of those that some allowed vector can hold."""
    from keen_matrix.core.oracle import oracle_functions
    from keen_matrix.core.vectors.arrays.feasible import Feasible, Rule

    layout = layout_of(matrix)
    sizes = [factor.levels for factor in layout.factors]
    names = [
        next((n for n, at in layout.names.items() if at == number), factor.name)
        for number, factor in enumerate(layout.factors)
    ]
    levels: list[dict[str, int]] = []
    for number, name in enumerate(names):
        column = layout.values.get(name)
        if column is None or sizes[number] > 2_000:
            return
        levels.append({repr(column[level]): level for level in range(len(column))})
    rows = []
    for case in cases:
        found = [levels[number].get(repr(case.values.get(name))) for number, name in enumerate(names)]
        if None not in found:
            rows.append(found)
    rules = [
        Rule(each.factors, each.test)
        for each in constraints_of(matrix, layout, spec.here, oracle_functions(spec.program.oracle))
    ]
    feasible = Feasible(sizes, rules) if rules else None
    asked = strength_of(matrix) or 3
    for strength in (2, 3):
        if len(sizes) < strength or strength > max(asked, 2):
            continue
        if sum(prod(sizes[axis] for axis in axes) for axes in combinations(range(len(sizes)), strength)) > MOST_TUPLES:
            continue
        noun = {2: "pairs", 3: "triples"}[strength]
        part = Part(f"{noun} of {matrix.name}")
        _count_tuples(part, rows, sizes, names, layout, feasible, strength)
        if part.missing:
            part.closing = [f'combine = "{noun}"   # in {matrix.name}']
        yield part


def _count_tuples(
    part: Part,
    rows: list[list[int | None]],
    sizes: list[int],
    names: list[str],
    layout: object,
    feasible: object,
    strength: int,
) -> None:
    from itertools import product

    values = layout.values  # type: ignore[attr-defined]
    for axes in combinations(range(len(sizes)), strength):
        seen = {tuple(row[axis] for axis in axes) for row in rows}
        for levels in product(*(range(sizes[axis]) for axis in axes)):
            if levels in seen:
                part.count("", True)
                continue
            linked = feasible is not None and any(axis in feasible.component for axis in axes)  # type: ignore[attr-defined]
            if linked and not feasible.possible(list(axes), list(levels)):  # type: ignore[attr-defined]
                continue
            shown = ", ".join(
                f"{names[axis]} {as_text(values[names[axis]][level]) or 'left out'}"
                for axis, level in zip(axes, levels, strict=True)
            )
            part.count(shown, False)


# --- expectations and help ---


def _count_aspects(found: Coverage, spec: Spec, matrix: Matrix, cases: list[Case]) -> None:
    counts = found.aspects.setdefault(matrix.name, {})
    found.cases[matrix.name] = len(cases)
    for case in cases:
        for number in range(len(matrix.steps)):
            rules = Cascade(rules_for(spec, matrix, case, number if case.relation is None else 0))
            names = {name.split(".")[0] for rule in rules._rules for name in rule.aspects}
            for name in names:
                counts[name] = counts.get(name, 0) + 1
            if case.relation is not None:
                counts["alike"] = counts.get("alike", 0) + 1
                break


def _unused_help(text: str, cases: list[Case]) -> Iterator[str]:
    from keen_matrix.core.signature.helptext import read_help

    words = {word for case in cases for words in (case.argv, *case.more) for word in words}
    for option in read_help(text).options:
        if not any(_uses(word, spelling) for word in words for spelling in option.spellings):
            yield option.spellings[-1]


def shown_words(words: Iterable[str]) -> str:
    """Return words as a TOML list."""
    return json.dumps(list(words), ensure_ascii=False)
