"""The factors of a matrix: everything that has a choice of levels, axes and groups and rows alike.

A factor that stands only inside a part of the line that may be left out is *conditional*: it has
one more level, absent, which it takes exactly when none of its parts is in the vector.
"""

from __future__ import annotations

from collections.abc import Iterator, Mapping, Sequence
from typing import Any, Literal, TypeAlias

from keen_matrix.core.model.spec import Matrix
from keen_matrix.core.notation.nodes import Group, Word
from keen_matrix.core.notation.nodes import Sequence as LineSequence
from keen_matrix.core.notation.parse import span_text
from keen_matrix.core.structs import Struct

#: Characters of a group's name in views.
GROUP_NAME_LENGTH = 40

#: Groups and the levels of them that enclose a place of the line, outermost first.
_Path: TypeAlias = tuple[tuple[Group, int], ...]


class Factor(Struct, frozen=True, kw_only=True):
    """Something with a choice. `levels` counts absent when the factor is conditional; absent is
    the last level."""

    name: str
    kind: Literal["rows", "axis", "group", "tuple"]
    levels: int
    #: Pairs of a group's factor number and one of its levels; any of them makes this factor
    #: present.
    parents: tuple[tuple[int, int], ...] = ()

    @property
    def absent(self) -> int | None:
        """The level that stands for absent, or None when the factor is always there."""
        return self.levels - 1 if self.parents else None


class Layout(Struct, frozen=True, kw_only=True):
    """The factors of a matrix and where each axis, column and group finds its value."""

    factors: tuple[Factor, ...]
    #: Axis, column or group name → factor number.
    names: Mapping[str, int]
    #: id() of a Group node → factor number. The nodes live as long as the matrix.
    groups: Mapping[int, int]
    #: Axis, column or group name → its values by level; absent is None.
    values: Mapping[str, Sequence[object]]
    #: Columns, and axes of a zip, that stand only inside groups → what must be chosen for them to
    #: be there.
    hidden: Mapping[str, tuple[tuple[int, int], ...]]

    def groups_of(self, line: LineSequence) -> Iterator[Group]:
        """Yield every group of a line, outer ones first."""
        return (group for group, _ in _groups(line, ()))


class _WithAbsent(Sequence[object]):
    """Values with None after the last one."""

    def __init__(self, values: Sequence[object]) -> None:
        self.values = values

    def __len__(self) -> int:
        return len(self.values) + 1

    def __getitem__(self, index: Any) -> Any:
        if index > len(self.values):
            raise IndexError(index)
        return self.values[index] if index < len(self.values) else None


def layout_of(matrix: Matrix) -> Layout:
    """Return the factors of a matrix.

    Rows come first, then the axes that are always there in the order of the spec, then the groups
    in the order of the line, each followed by the axes that stand only inside it: a simple vector
    comes before those with more in them.
    """
    return _LayoutMaker(matrix).made()


class _LayoutMaker:
    """Collects factors in order; numbers of groups are settled first, since conditional factors
    point at them."""

    def __init__(self, matrix: Matrix) -> None:
        self.matrix = matrix
        self.groups = list(_groups(matrix.line, ()))
        used, free = _placeholders(matrix)
        self.axes = [name for name in matrix.axes if name not in matrix.columns]
        self.zipped = matrix.combine == "zip" and len(self.axes) > 1
        # Axes that stand inside groups only, and nowhere in what surrounds the case: they are
        # absent where all these groups are.
        inside = {name: paths for name, paths in used.items() if name not in free and () not in paths}
        self.paths = {name: inside[name] for name in self.axes if name in inside}
        self.columns = {name: inside[name] for name in matrix.columns if name in inside}
        self.factors: list[Factor] = []
        self.names: dict[str, int] = {}
        self.values: dict[str, Sequence[object]] = {}
        self.numbers = self._group_numbers()

    def _group_numbers(self) -> dict[int, int]:
        """Return the factor number that each group will get: one pass over the order of made()."""
        number = bool(self.matrix.columns) + (1 if self.zipped else len(self.axes) - len(self.paths))
        numbers: dict[int, int] = {}
        for group, _ in self.groups:
            numbers[id(group)] = number
            number += 1 + (
                0 if self.zipped else sum(1 for name in self.paths if self._last_group(name) is group)
            )
        return numbers

    def _last_group(self, name: str) -> Group:
        """Return the group of the line that is the last that contains an axis."""
        holders = {id(path[-1][0]) for path in self.paths[name]}
        # Behind the last one all parents have their numbers, and rows are walked from the first
        # factor on.
        return next(group for group, _ in reversed(self.groups) if id(group) in holders)

    def made(self) -> Layout:
        """Return the finished layout."""
        if self.matrix.columns:
            self._add_rows()
        if self.zipped:
            # As zip does in most languages: the shortest ends it.
            count = min(len(self.matrix.axes[name]) for name in self.axes)
            self.factors.append(Factor(name="zip", kind="tuple", levels=count))
            for name in self.axes:
                self.names[name], self.values[name] = len(self.factors) - 1, self.matrix.axes[name]
        else:
            for name in self.axes:
                if name not in self.paths:
                    self._add_axis(name)
        for group, path in self.groups:
            self._add_group(group, path)
            if not self.zipped:
                for name in self.paths:
                    if self._last_group(name) is group:
                        self._add_axis(name)
        together = {**self.columns, **(self.paths if self.zipped else {})}
        hidden = {name: _parents(paths, self.numbers) for name, paths in together.items()}
        return Layout(
            factors=tuple(self.factors),
            names=self.names,
            groups=self.numbers,
            values=self.values,
            hidden=hidden,
        )

    def _add_rows(self) -> None:
        self.factors.append(Factor(name="row", kind="rows", levels=len(self.matrix.rows)))
        for index, column in enumerate(self.matrix.columns):
            self.names[column], self.values[column] = 0, _Column(self.matrix.rows, index)

    def _add_axis(self, name: str) -> None:
        values = self.matrix.axes[name]
        parents = _parents(self.paths.get(name, []), self.numbers)
        self.names[name], self.values[name] = (len(self.factors), _WithAbsent(values) if parents else values)
        self.factors.append(
            Factor(name=name, kind="axis", levels=len(values) + bool(parents), parents=parents)
        )

    def _add_group(self, group: Group, path: _Path) -> None:
        text = self.matrix.line_text
        name = _group_name(text, group, self.names)
        parents = _parents([path], self.numbers) if path else ()
        levels: list[object] = [_alternative_text(text, each) for each in group.alternatives]
        if group.optional:
            levels.insert(0, None)
        if parents:
            levels.append(None)
        self.names[name], self.values[name] = len(self.factors), levels
        self.factors.append(Factor(name=name, kind="group", levels=len(levels), parents=parents))


class _Column(Sequence[object]):
    """One column of rows, as values by row number."""

    def __init__(self, rows: tuple[tuple[object, ...], ...], index: int) -> None:
        self.rows, self.column = rows, index

    def __len__(self) -> int:
        return len(self.rows)

    def __getitem__(self, index: Any) -> Any:
        return self.rows[index][self.column]


def _groups(sequence: LineSequence, path: _Path) -> Iterator[tuple[Group, _Path]]:
    """Yield every group with the groups and levels that enclose it, in the order of the line."""
    for item in sequence.items:
        if isinstance(item, Group):
            yield item, path
            for index, alternative in enumerate(item.alternatives):
                yield from _groups(alternative, (*path, (item, index + item.optional)))


def _placeholders(matrix: Matrix) -> tuple[dict[str, list[_Path]], set[str]]:
    """Return for each name the parts of the line that use it, and the names that are used outside
    every group."""
    from keen_matrix.core.expressions import Expression

    used: dict[str, list[_Path]] = {}

    def visit(sequence: LineSequence, path: _Path) -> None:
        for item in sequence.items:
            if isinstance(item, Word):
                for each in LineSequence((item,)).fields():
                    for name in Expression(each.source).names:
                        used.setdefault(name, []).append(path)
            else:
                for index, alternative in enumerate(item.alternatives):
                    visit(alternative, (*path, (item, index + item.optional)))

    visit(matrix.line, ())
    free = {name for name, paths in used.items() if () in paths}
    templates = [template for around in matrix.surroundings for _, template in around.templates]
    templates += [*matrix.other.words] if matrix.other is not None and matrix.other.words is not None else []
    for template in templates:
        # What surrounds a case is there in every vector, so an axis that it names is too.
        free |= template.names
    return used, free


def _parents(paths: list[_Path], numbers: Mapping[int, int]) -> tuple[tuple[int, int], ...]:
    """Return the innermost group and level of each path: that level is only taken when the outer
    ones are."""
    if not paths or () in paths:
        return ()
    return tuple(dict.fromkeys((numbers[id(path[-1][0])], path[-1][1]) for path in paths))


def _alternative_text(text: str, sequence: LineSequence) -> str:
    return " ".join(span_text(text, sequence.span).split()) if text else ""


def _group_name(text: str, group: Group, taken: Mapping[str, int]) -> str:
    """Return a short name for a group from what it contains: `--bike|--car`."""
    name = "|".join(_alternative_text(text, each) for each in group.alternatives)
    if len(name) > GROUP_NAME_LENGTH:
        name = name[: GROUP_NAME_LENGTH - 1] + "…"
    if name not in taken:
        return name
    number = 2
    while f"{name} #{number}" in taken:
        number += 1
    return f"{name} #{number}"
