"""Texts of a spec against the names that are known where they stand."""

from __future__ import annotations

import os
from collections.abc import Collection, Iterable, Mapping, Set
from typing import Any, Unpack

from keen_matrix.core.errors import ExpressionFault, NotationFault, Problem, nearest
from keen_matrix.core.expect.forms import NEEDS
from keen_matrix.core.expressions import (
    FUNCTIONS,
    LATER_FUNCTIONS,
    Expression,
    as_text,
    called_functions,
    comparisons,
    constant_arguments,
    kind_in_words,
)
from keen_matrix.core.model.lookups import look
from keen_matrix.core.notation.nodes import Field
from keen_matrix.core.notation.parse import parse_line, parse_template
from keen_matrix.core.spec.document.expectations import TextTable
from keen_matrix.core.spec.document.texts import Placed, PlacedTable, PlacedText, Role
from keen_matrix.core.spec.keys import KeyPath
from keen_matrix.core.spec.source import Placing, Source

#: Names that say something only after a launch.
OF_THE_OUTCOME = frozenset({"exit", "signal", "stdout", "stderr", "files", "duration", "memory"})


class TextChecker:
    """Checks texts, and keeps what they use; problems join those of its caller."""

    def __init__(self, source: Source, problems: list[Problem]) -> None:
        self.source, self.problems = source, problems
        #: Known functions; None when the oracle file did not load.
        self.functions: set[str] | None = set(FUNCTIONS)
        #: What each name can be where the texts stand, as far as that is known; set by the
        #: caller.
        self.values: Mapping[str, Collection[object]] = {}
        #: Every word that a vector can have there; None where that is not known.
        self.words: Collection[str] | None = None
        #: Names used in each matrix, and outside of them (None).
        self.used: dict[int | None, set[str]] = {}
        self._told: set[tuple[KeyPath, str]] = set()

    def add(self, path: KeyPath, message: str, **more: Unpack[Placing]) -> None:
        """Add a problem at a place."""
        self.problems.append(self.source.problem(path, message, **more))

    def check(self, placed: Iterable[Placed], known: Set[str], of_vector: Set[str] | None = None) -> None:
        """Check every text against the names that are known there, and what only makes sense
        beside something else in the same table. `of_vector` are the names that a vector is made
        with, where there are others around it."""
        for each in placed:
            if isinstance(each, PlacedTable):
                if issubclass(each.model, TextTable):
                    self._forms(each)
                continue
            names = _names_known(each, known, known if of_vector is None else of_vector)
            if each.role is Role.EXPRESSION:
                self._expression(each.path, each.text, names)
            elif each.role is Role.LINE:
                self._line(each.path, each.text, names)
            elif each.role is Role.WORDS and not each.text.strip():
                self._empty_launch(each.path)
            elif each.role is not Role.TEMPLATE or each.table.get("literal") is not True:
                self._template(each, names)

    def _empty_launch(self, path: KeyPath) -> None:
        what = f'the launcher "{path[-1]}"' if "launchers" in path else str(path[-1])
        words = "the words of a command"
        if path[-1] in ("launch", path[-1] if "launchers" in path else ""):
            words = "the words that start the program"
        self.add(path, f"{what} is empty", expected=words)

    def _line(self, path: KeyPath, line: str, names: Set[str]) -> None:
        try:
            fields = list(parse_line(line).fields())
        except NotationFault:
            return
        self._fields(path, fields, names)

    def _forms(self, placed: PlacedTable) -> None:
        """Check the forms of a text that only make sense beside others, and the files that they
        name."""
        path, table = placed.path, placed.data
        for key, needs in NEEDS.items():
            if key in table and not any(each in table for each in needs):
                wanted = " or ".join(f'"{each}"' for each in needs)
                self.add((*path, key), f'"{key}" is given without {wanted}', at_key=True)
        self._asking_nothing(path, table)
        number = table.get("number")
        group = number.get("group") if isinstance(number, dict) else None
        if isinstance(group, str) and group not in _groups(table.get("matches")):
            groups = sorted(_groups(table.get("matches")))
            expected = f"one of {', '.join(groups)}" if groups else "matches with (?P<NAME>…) beside it"
            self.add((*path, "number", "group"), f'"matches" has no group "{group}"', expected=expected)
        named = table.get("file")
        # A name with a field is another file in each case; the run says which is missing.
        if not isinstance(named, str) or "{" in named:
            return
        beside = os.path.join(self.source.here, named)
        look(beside)
        if not os.path.isfile(beside):
            self.add((*path, "file"), f"{named} does not exist beside the spec")

    def _asking_nothing(self, path: KeyPath, table: Mapping[str, Any]) -> None:
        """Refuse forms that every output meets: they check nothing, and look as if they did."""
        for key in ("contains", "starts", "ends"):
            texts = table.get(key)
            if "" in (texts if isinstance(texts, list) else [texts]):
                self._nothing(path, key, "an empty text", "a text, or empty = true for no output")
        pattern = table.get("matches")
        if isinstance(pattern, str) and _matches_all(pattern):
            self._nothing(
                path, "matches", "this pattern", "one that needs at least a character, or ^ and $ around it"
            )
        for key in ("number-of-lines", "size"):
            if table.get(key) == "0..":
                self._nothing(path, key, "0 or more", 'a number, or a range such as "1.."')
        ignored = table.get("ignore")
        pointers = ignored if isinstance(ignored, list) else [ignored]
        if "json" in table and ("" in pointers or ("/*" in pointers and len(table["json"] or ()))):
            self._nothing(path, "ignore", "a JSON value of which all is ignored", "pointers to parts of it")

    def _nothing(self, path: KeyPath, key: str, what: str, expected: str) -> None:
        self.add((*path, key), f"{what} is met by every output, so nothing is checked", expected=expected)

    def _expression(self, path: KeyPath, text: object, known: Set[str]) -> None:
        if not isinstance(text, str):
            return
        try:
            self._names(path, Expression(text), known, 0)
        except ExpressionFault:
            return

    def _template(self, placed: PlacedText, known: Set[str]) -> None:
        try:
            parts = parse_template(placed.text)
        except NotationFault:
            return
        fields = [part for part in parts if isinstance(part, Field)]
        self._fields(placed.path, fields, known, at_key=placed.is_key)
        for field in fields:
            try:
                expression = Expression(field.source)
            except ExpressionFault:
                continue
            padded = field.source.lstrip().startswith("'")  # a text with a width of its own
            if not expression.names and not called_functions(expression) and not padded:
                self._tell_brace(placed, field)

    def _tell_brace(self, placed: PlacedText, field: Field) -> None:
        """Tell of a brace that stands for itself, as those of JSON do: nothing is filled in
        there."""
        plain = placed.role is Role.TEMPLATE and not placed.is_key
        way = ", or literal = true for the whole text" if plain else ""
        offset = None if placed.is_key else field.span[0]
        self.add(
            placed.path,
            "this brace is not a field of an axis, a column or a NAME",
            offset=offset,
            at_key=placed.is_key,
            expected=f"{{{{ and }}}} for literal braces{way}",
        )

    def _fields(self, path: KeyPath, fields: list[Field], known: Set[str], *, at_key: bool = False) -> None:
        for field in fields:
            try:
                offset = None if at_key else field.span[0] + 1
                self._names(path, Expression(field.source), known, offset)
            except ExpressionFault:
                continue

    def _unknown_name(self, path: KeyPath, name: str, known: Set[str], at: int | None) -> None:
        hint = nearest(name, known)
        some = f"one of {', '.join(sorted(known))}" if known else "no name: there are no axes"
        message = f'"{name}" is neither an axis nor a column here'
        expected = None if hint else some
        self.add(path, message, offset=at, at_key=at is None, suggestion=hint, expected=expected)

    def _names(self, path: KeyPath, expression: Expression, known: Set[str], offset: int | None) -> None:
        inside = path[1] if path[0] == "matrix" and isinstance(path[1], int) else None
        self.used.setdefault(inside, set()).update(expression.names)
        for name in sorted(expression.names - known):
            if (path, name) in self._told:  # once a text is enough
                continue
            self._told.add((path, name))
            # A function that is named and not called is an odd thing to write, and no unknown name.
            if self.functions is not None and name in self.functions:
                continue
            at = None if offset is None else offset + max(expression.source.find(name), 0)
            if name in OF_THE_OUTCOME and "when" in path:
                self.add(
                    path,
                    f'a condition is evaluated before the launch, so "{name}" has no value here yet',
                    offset=at,
                    at_key=at is None,
                    expected="axes, columns and NAMEs; for several allowed outputs write any = [{ … }, "
                    "{ … }]",
                )
                continue
            self._unknown_name(path, name, known, at)
        self._constants(path, expression, offset)
        if self.functions is None:
            return
        for name in sorted(called_functions(expression) - self.functions - LATER_FUNCTIONS):
            at = None if offset is None else offset + max(expression.source.find(name), 0)
            hint = nearest(name, self.functions | LATER_FUNCTIONS)
            self.add(path, f'unknown function "{name}"', offset=at, at_key=at is None, suggestion=hint)

    def _constants(self, path: KeyPath, expression: Expression, offset: int | None) -> None:
        """Warn of constants that a name never is, and of options that no case has: such a
        condition is always the same, and what hangs on it is never checked, or not only where it is
        meant to be."""
        for name, constant in comparisons(expression):
            known = self.values.get(name)
            if known is None or constant is None or constant in known:
                continue
            like = next((each for each in known if as_text(each) == as_text(constant)), None)
            if like is not None:
                message = f"{name} is {kind_in_words(like)} here, so it never equals {constant!r}"
                self._warn(path, message, constant, offset, expression, as_text(like))
            else:
                texts = {as_text(each): repr(each) for each in known}
                hint = nearest(as_text(constant), texts)
                listed = ", ".join(list(texts.values())[:LISTED])
                more = f" and {len(texts) - LISTED} more" if len(texts) > LISTED else ""
                message = f"{name} is never {constant!r}"
                self._warn(
                    path,
                    message,
                    constant,
                    offset,
                    expression,
                    hint,
                    None if hint else f"one of {listed}{more}",
                )
        for word in constant_arguments(expression, "has"):
            if self.words is not None and word not in self.words:
                hint = nearest(word, self.words)
                message = f"no case has {word}, so has({word!r}) is always false"
                self._warn(path, message, word, offset, expression, hint)

    def _warn(
        self,
        path: KeyPath,
        message: str,
        constant: object,
        offset: int | None,
        expression: Expression,
        suggestion: str | None,
        expected: str | None = None,
    ) -> None:
        at = None if offset is None else offset + max(expression.source.find(str(constant)), 0)
        found = self.source.warning(
            path, message, offset=at, at_key=at is None, suggestion=suggestion, expected=expected
        )
        if found not in self.problems:
            self.problems.append(found)


#: Values that a message lists.
LISTED = 8


def _names_known(placed: PlacedText, known: Set[str], of_vector: Set[str]) -> Set[str]:
    """Return the names that a text can use, by where it stands."""
    key = next((each for each in reversed(placed.path) if isinstance(each, str)), "")
    if (
        key in ("launch", "build", "once-before", "once-after") and placed.path[0] != "matrix"
    ) or "launchers" in placed.path[:2]:
        return {"here"}
    if placed.path[0] == "matrix" and (key == "only-if" or _is_line(placed.path)):
        return of_vector
    if key == "holds":
        return known | _groups(placed.table.get("matches"))
    return known


def _is_line(path: KeyPath) -> bool:
    """Tell whether a path leads to the line of a matrix or of a step."""
    return "line" in path and "expect" not in path


#: Outputs that have nothing in common: a pattern that matches them all matches whatever comes.
PROBES = ("", "\x01", "zq\n", "7 .:-/_\n\n  Qx\t\n")


def _matches_all(pattern: str) -> bool:
    """Tell whether a regular expression matches every output."""
    import regex

    try:
        compiled = regex.compile(pattern)
        return all(compiled.search(each, timeout=0.1) for each in PROBES)
    except (regex.error, TimeoutError):
        return False


def _groups(pattern: object) -> frozenset[str]:
    """Return the names of a regular expression's groups."""
    import regex

    try:
        return frozenset(regex.compile(pattern).groupindex) if isinstance(pattern, str) else frozenset()
    except regex.error:
        return frozenset()
