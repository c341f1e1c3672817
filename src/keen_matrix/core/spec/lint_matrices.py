"""What only shows when a spec is thought through: what its matrices come to, and what in them
makes no difference."""

from __future__ import annotations

from collections.abc import Iterator, Mapping, Sequence
from math import prod
from typing import TYPE_CHECKING, Any, Unpack

from keen_matrix.core.covering.feasible import Feasible, Predicate, clashing
from keen_matrix.core.covering.size import refuse_too_large, tuple_count
from keen_matrix.core.errors import Problem
from keen_matrix.core.expect.applied import RuleUse
from keen_matrix.core.expressions import as_text, called_functions
from keen_matrix.core.model.spec import Matrix, Spec
from keen_matrix.core.spec.including import placed
from keen_matrix.core.spec.keys import KeyPath
from keen_matrix.core.spec.source import Placing, Source
from keen_matrix.core.spec.tried import mistaken_expressions, oracle_called
from keen_matrix.core.structs import replace
from keen_matrix.core.vectors.combine import (
    CombineFault,
    demand_of,
    denser_levels,
    fixed_levels,
    no_rows_fault,
    possible_strength,
    strength_of,
)
from keen_matrix.core.vectors.constraints import WhereFault, count_rows
from keen_matrix.core.vectors.faults import MOST_VECTORS, fault_problem
from keen_matrix.core.vectors.marking import KNOWN, NOTE
from keen_matrix.core.vectors.unfold import CaseMaker, unfold_matrix

if TYPE_CHECKING:
    from keen_matrix.core.covering.search import Demand

#: Combinations on which a condition is tried to see whether it is always or never true.
MOST_TRIED = 200_000
#: Values of an axis that are compared with each other.
MOST_COMPARED = 100_000


def deep_problems(
    spec: Spec, source: Source, oracle: frozenset[str], used: Mapping[int | None, set[str]]
) -> list[Problem]:
    """Return what is wrong or looks wrong with the matrices of a spec that compiles.

    The oracle, whose functions are named `oracle`, is not run: what needs it to be thought through
    is left out. `used` maps the number of a matrix to the names that its expressions use; None
    stands for what is outside them.
    """

    problems: list[Problem] = []
    asks = spec.signature is not None and any(
        called_functions(each) & oracle for each in spec.signature.conditions
    )
    for matrix in spec.matrices:
        if matrix.family:
            problems += [] if asks else _idle_family(spec, source, matrix)
            continue
        problems += _DeepChecker(spec, matrix, source, oracle, used).problems()
    if not any(problem.severity == "error" for problem in problems) and not asks:
        problems += mistaken_expressions(spec, oracle)
    if not any(problem.severity == "error" for problem in problems):
        problems += _never_used(spec, source, oracle, asks=asks)
    return problems


NEVER_MET = "no case meets this condition, so what the rule asks is never checked: "
#: Cases that are looked through for one to which a rule applies; beyond, nothing is claimed.
MOST_UNFOLDED = 20_000


def _repeated_rows(spec: Spec, source: Source, matrix: Matrix) -> Iterator[Problem]:
    """Yield a warning of rows that all make calls which rows before them make as well."""
    maker, first = CaseMaker(spec, matrix, {}), dict[str, int]()
    own: set[int] = set()
    for number, row in enumerate(maker.rows()):
        if number >= MOST_UNFOLDED:
            return
        at = row[0]
        if first.setdefault(maker.case(row).id, at) == at:
            own.add(at)
    idle = [at for at in range(len(matrix.rows)) if at not in own]
    if idle:
        place = f" ({matrix.marks.rows[idle[0]]})" if matrix.marks.rows else ""
        more = f" and {len(idle) - 1} more make" if len(idle) > 1 else " makes"
        yield source.warning(
            ("matrix", matrix.index, "rows"),
            f"row {idle[0] + 1}{place}{more} the same call as an earlier row, so it is not run",
            expected="columns that the line or the surroundings use, or one row",
        )


def _never_used(spec: Spec, source: Source, oracle: frozenset[str], *, asks: bool) -> Iterator[Problem]:
    """Yield warnings of rules that apply to no case, and of rows that make a call which another row
    makes as well: neither is ever checked, and nothing would show it."""
    use, whole = RuleUse(spec, oracle), not asks
    for matrix in spec.matrices:
        if oracle_called(matrix, oracle) or (matrix.family and asks):
            whole = False
            continue
        if use.waits_for(matrix):
            for number, case in enumerate(unfold_matrix(spec, matrix), 1):
                use.add(matrix, case)
                if not use.waits_for(matrix):
                    break
                if number >= MOST_UNFOLDED:
                    whole = False
                    break
        if matrix.rows:
            yield from _repeated_rows(spec, source, matrix)
    for place, condition in use.idle.items() if whole else ():
        line = place.rpartition(":")[2]
        yield Problem(
            path=source.path,
            line=int(line) if line.isdecimal() else 0,
            column=1,
            severity="warning",
            message=f"{NEVER_MET}{condition}",
        )


def _idle_family(spec: Spec, source: Source, matrix: Matrix) -> list[Problem]:
    """Return a warning about a derived family that comes to nothing."""
    from keen_matrix.core.vectors.derived import family_for

    family = family_for(spec, matrix)
    # A program without help has no cases that ask for it, and nothing is hidden by that.
    without_help = matrix.family == "help" and not (spec.signature and spec.signature.help)
    if family.vectors or without_help:
        return []
    why = f" ({'; '.join(family.left_out)})" if family.left_out else ""
    path: KeyPath = ("signature", "derive") if "derive" in source.data["signature"] else ("signature",)
    return [source.warning(path, f'the family "{matrix.family}" has no cases{why}', at_key=True)]


class _DeepChecker:
    """Looks at one matrix."""

    def __init__(self, spec: Spec, matrix: Matrix, source: Source, oracle: frozenset[str], used: Any) -> None:
        self.spec, self.matrix, self.source = spec, matrix, source
        self._asks = bool(oracle_called(matrix, oracle))
        self.maker = CaseMaker(spec, replace(matrix, only_if=()) if self._asks else matrix, {})
        self.layout = self.maker.layout
        self.levels = [factor.levels for factor in self.layout.factors]
        self.rules = [Predicate(each.factors, each.test) for each in self.maker.constraints]
        self.used: set[str] = used.get(matrix.index, set()) | used.get(None, set())
        self.path: KeyPath = ("matrix", matrix.index)
        self.found: list[Problem] = []

    def problems(self) -> list[Problem]:
        """Return the problems of the matrix."""
        self._unused()
        self._values()
        if self._asks:
            return self.found
        try:
            self._conditions()
            self._reachable()
            for number in range(len(self.matrix.always)):
                fixed_levels(self.matrix, self.layout, number)
            for number in range(len(self.matrix.denser)):
                denser_levels(self.matrix, self.layout, number)
            self._size()
        except (CombineFault, WhereFault) as fault:
            self.found.append(placed(fault_problem(self.spec.path, self.matrix, fault)))
        return self.found

    def warn(self, path: KeyPath, message: str, **more: Unpack[Placing]) -> None:
        self.found.append(self.source.warning((*self.path, *path), message, **more))

    def _unused(self) -> None:
        for name in self.matrix.axes:
            if name not in self.used:
                self.warn(("axes", name), f'the axis "{name}" is not used anywhere', at_key=True)
        told = {*self.used, NOTE, KNOWN}  # these say something of their row by themselves
        idle = [name for name in self.matrix.columns if name not in told]
        for name in idle:
            at = ("columns", self.matrix.columns.index(name)) if "columns" in self._raw() else ("rows",)
            self.warn(at, f'the column "{name}" is not used anywhere')

    def _raw(self) -> Mapping[str, Any]:
        raw: Mapping[str, Any] = self.source.data["matrix"][self.matrix.index]
        return raw

    def _values(self) -> None:
        for name, values in self.matrix.axes.items():
            if len(values) == 1:
                self.warn(
                    ("axes", name),
                    f'the axis "{name}" has a single value',
                    expected="two or more; a single one can be written in the line",
                )
            if len(values) > MOST_COMPARED or isinstance(values, range):
                continue
            first: dict[str, int] = {}
            for number, value in enumerate(values):
                text = as_text(value)
                if text in first and isinstance(self._raw()["axes"][name], list):
                    self.warn(("axes", name, number), f'the axis "{name}" has the value {text!r} twice')
                first.setdefault(text, number)

    def _conditions(self) -> None:
        """Point out conditions that are always or never true, and those that clash. Raises
        WhereFault, CombineFault."""
        names = [
            (number, each)
            for number, each in enumerate(each for each in self.maker.constraints if each.source)
        ]
        for number, constraint in names:
            sizes = [self.levels[factor] for factor in constraint.factors]
            if prod(sizes) > MOST_TRIED:
                continue
            seen = {constraint.test(levels) for levels in _tuples(sizes)}
            if seen == {True}:
                self.warn(("only-if", number), "this condition is always true")
            elif seen == {False}:
                raise no_rows_fault(self.maker.constraints, [self.maker.constraints.index(constraint)])
        clash = clashing(self.levels, self.rules)
        if clash:
            raise no_rows_fault(self.maker.constraints, clash)

    def _reachable(self) -> None:
        """Point out values and alternatives that no case can have."""
        feasible = Feasible(self.levels, self.rules)
        for number, factor in enumerate(self.layout.factors):
            if number not in feasible.component or factor.levels > MOST_COMPARED // 10:
                continue
            for level in range(factor.levels):
                if level == factor.absent or feasible.possible([number], [level]):
                    continue
                value = self.layout.values[factor.name][level] if factor.kind in ("axis", "group") else None
                if factor.kind == "axis":
                    self.warn(
                        ("axes", factor.name), f'the value {value!r} of "{factor.name}" can never be used'
                    )
                elif factor.kind == "group" and value is not None:
                    self.warn(("line",), f'"{value}" can never be chosen')
                elif factor.kind == "rows":
                    self.warn(("rows",), f"row {level + 1} can never be used")

    def _size(self) -> None:
        if strength_of(self.matrix) is not None:
            strength = possible_strength(self.matrix, self.layout)
            try:
                refuse_too_large(self.levels, strength, constrained=bool(self.rules))
            except ValueError as error:
                raise CombineFault(str(error), "combine") from None
        product = count_rows(self.layout.factors, self.maker.constraints)
        if (
            strength_of(self.matrix) is not None
            or product is None
            or product <= (self.matrix.bounds.limit or MOST_VECTORS)
        ):
            return
        expected = f'limit = {product} to mean it, --limit {product} for once, or combine = "pairs"'
        pairs = _pairs_count(demand_of(self.layout, self.maker.constraints, 2))
        if pairs is not None:
            expected += f", which has {pairs:,}"
        self.found.append(
            self.source.problem(
                (*self.path, "name"),
                f'the matrix "{self.matrix.name}" has {product:,} cases',
                expected=expected,
            )
        )


#: Pairs up to which their covering array is made just to tell its size.
PAIRS_TUPLES = 300_000


def _pairs_count(demand: Demand) -> int | None:
    levels = demand.levels
    if len(levels) < 3 or max(levels) > 2_000 or tuple_count(levels, 2) > PAIRS_TUPLES:
        return None
    from keen_matrix.core.covering.search import cover

    return len(cover(replace(demand, effort="quick")).rows)


def _tuples(sizes: Sequence[int]) -> Iterator[tuple[int, ...]]:
    from itertools import product

    return product(*(range(size) for size in sizes))
