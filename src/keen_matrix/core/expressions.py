"""Expressions and templates: Python expression syntax, evaluated by simpleeval, never by Python
itself.

What an expression may cost is bounded: half a second, a mebibyte for each value that it makes, and
no single step beyond that, since a step that runs in one piece cannot be broken off.
"""

from __future__ import annotations

import ast
import operator
import re
import time
from collections.abc import Callable, Iterable, Iterator, Mapping, Sequence
from functools import lru_cache
from typing import Any, TypeAlias

import simpleeval

from keen_matrix.core.errors import ExpressionFault, NotationFault
from keen_matrix.core.notation.nodes import Characters, Field, Part, Word
from keen_matrix.core.notation.parse import parse_template

#: Size of an integer that may come up: a little below what Python writes in decimal
#: (sys.get_int_max_str_digits).
MAX_BITS = 14_000
#: Characters of a text that an expression may make.
MAX_LENGTH = 1 << 20
#: Items of an array that an expression may make: a mebibyte of references.
MAX_ITEMS = 1 << 17
#: Characters and items of everything together that one evaluation may make.
MAX_MADE = 1 << 24
#: Items of a range: sums over it stay well under a second.
MAX_RANGE = 1_000_000
#: Places to which a number may be rounded.
MAX_PLACES = 4_000
#: Time of the processor that one evaluation may take, the oracle's functions aside: a machine that
#: is busy with something else must not turn a verdict.
MAX_SECONDS = 0.5
#: Width or precision in a format: a text wider than this is a slip, or meant to exhaust the
#: memory.
MAX_WIDTH = 10_000
#: Characters of a value shown in a message about a failed expression.
SHOWN_VALUE = 60


#: What an operator of an expression is between: whether the two go together is Python's to say,
#: and told as the expression's fault.
Operand: TypeAlias = Any


def _bits(value: object) -> int:
    return abs(value).bit_length() if isinstance(value, int) else 0


def _power(base: Operand, exponent: Operand) -> object:
    # Before it is worked out: 9**9**9 would run in one piece, for hours.
    if isinstance(exponent, int) and _bits(base) * abs(exponent) > MAX_BITS:
        raise ValueError(f"{base} ** {exponent} would be too large")
    return base**exponent


def _product(left: Operand, right: Operand) -> object:
    # "x" * n and n * "x" are the same.
    for sized, times in ((left, right), (right, left)):
        if hasattr(sized, "__len__") and isinstance(times, int) and len(sized) * times > _most(sized):
            raise ValueError(f"repeating {len(sized)} items {times} times would be too large")
    if _bits(left) + _bits(right) > MAX_BITS:
        raise ValueError("the product would be too large")
    return left * right


def _most(value: object) -> int:
    return MAX_LENGTH if isinstance(value, (str, bytes)) else MAX_ITEMS


def _sum_of(left: Operand, right: Operand) -> Operand:
    if hasattr(left, "__len__") and hasattr(right, "__len__") and len(left) + len(right) > _most(left):
        raise ValueError("the joined text would be too large")
    return left + right


def _sum(values: Iterable[Operand], start: Operand = 0) -> object:
    """Return the sum of numbers at once, and of anything else step by step, since arrays add up to
    ever longer ones."""
    # A range is added up without being made.
    items = values if isinstance(values, range) else list(values)
    if isinstance(items, range) or all(isinstance(each, (int, float)) for each in items):
        return sum(items, start)
    total = start
    for each in items:
        total = _sum_of(total, each)
    return total


def _round(number: Operand, places: Operand = None) -> object:
    if isinstance(places, int) and abs(places) > MAX_PLACES:
        raise ValueError(f"rounding to {places} places; at most {MAX_PLACES}")
    return round(number, places)


def _remainder(left: Operand, right: Operand) -> object:
    # "%9999999d" % 1 is a text of ten million characters, and says so nowhere that could be
    # bounded.
    if isinstance(left, (str, bytes)):
        raise ValueError("% formatting is not available here; use {value:format}")
    return left % right


def _range(*numbers: int) -> range:
    made = range(*numbers)
    if len(made) > MAX_RANGE:
        raise ValueError(f"a range of {len(made)} items is too long; at most {MAX_RANGE}")
    return made


def _shift(left: int, by: int) -> int:
    if _bits(left) + by > MAX_BITS:
        raise ValueError("the shifted number would be too large")
    return left << by


#: The functions of every expression; the functions of an oracle file join them.
FUNCTIONS: Mapping[str, Callable[..., object]] = {
    "abs": abs,
    "all": all,
    "any": any,
    "bool": bool,
    "float": float,
    "int": int,
    "len": len,
    "max": max,
    "min": min,
    "range": _range,
    "round": _round,
    "sorted": sorted,
    "str": str,
    "sum": _sum,
}

#: Names of functions that depend on the vector; known when a spec is checked, bound when a case
#: is.
LATER_FUNCTIONS = frozenset({"has"})

_OPERATORS = {
    **simpleeval.DEFAULT_OPERATORS,
    ast.Pow: _power,
    ast.Mult: _product,
    ast.Add: _sum_of,
    ast.Mod: _remainder,
    ast.LShift: _shift,
    ast.RShift: operator.rshift,
    ast.BitAnd: operator.and_,
    ast.BitOr: operator.or_,
    ast.BitXor: operator.xor,
}
_PADDING = frozenset({"ljust", "rjust", "center", "zfill"})
#: Methods that change the value that they are called on, which other expressions see as well.
_CHANGING = frozenset(
    {
        "append",
        "extend",
        "insert",
        "pop",
        "remove",
        "clear",
        "sort",
        "reverse",
        "update",
        "setdefault",
        "popitem",
        "add",
        "discard",
        "intersection_update",
        "difference_update",
        "symmetric_difference_update",
    }
)
#: Nodes whose value is new; a name or a part of it stands for what is there already.
_MAKING = (
    ast.BinOp,
    ast.Call,
    ast.ListComp,
    ast.GeneratorExp,
    ast.DictComp,
    ast.List,
    ast.Tuple,
    ast.Dict,
    ast.Set,
)


def method_size(owner: object, name: str, arguments: Sequence[Operand]) -> int:
    """Return how large what a method of a text or number makes can be, before it is made: it runs
    in one piece."""
    first: object = arguments[0] if arguments else None
    # Texts, numbers and bytes alone have methods that make something much larger than they are.
    if isinstance(owner, int):
        return int(first) if name == "to_bytes" and isinstance(first, int) else 0
    if not isinstance(owner, (str, bytes)):
        return 0
    tab_character: object = "\t" if isinstance(owner, str) else b"\t"
    text: Any = owner
    if name in _PADDING:
        return first if isinstance(first, int) else 0
    if name == "expandtabs":
        tab = first if isinstance(first, int) else 8
        return len(owner) + int(text.count(tab_character)) * max(tab, 0)
    if name == "join":
        items = list(first) if hasattr(first, "__iter__") else []
        return sum(len(each) + len(owner) for each in items if hasattr(each, "__len__"))
    if name == "replace" and len(arguments) > 1 and all(hasattr(each, "__len__") for each in arguments[:2]):
        times = int(text.count(first)) if isinstance(first, type(owner)) else 0
        return len(owner) + times * len(arguments[1])
    if name == "translate" and isinstance(first, Mapping):
        return len(owner) * max((len(each) for each in first.values() if isinstance(each, str)), default=1)
    return 0


class _Evaluator(simpleeval.EvalWithCompoundTypes):  # type: ignore[misc]
    """simpleeval with our limits: on the size of what is made, on all of it together, and on
    time."""

    def __init__(self, scope: Scope) -> None:
        # simpleeval's own limits are on single operations; what many of them make together is
        # counted here.
        super().__init__(operators=_OPERATORS, functions=scope.functions, names=scope.names)
        self._made = 0
        # From the first node on: parsing is bounded by the length of the source.
        self._until = time.monotonic() + MAX_SECONDS
        self._worked = -1.0

    def _eval(self, node: ast.AST) -> Any:
        # Asked at every node; what runs in one piece is bounded by its size before it begins.
        if time.monotonic() > self._until:
            self._take_time()
        value = super()._eval(node)
        # A name stands for a value that is there already, however often it is read.
        if isinstance(node, _MAKING):
            self._take_size(value)
        return value

    def _take_time(self) -> None:
        """Raise ValueError when the time has gone by with work. The processor's time is asked for
        only once that of the clock is over: to ask at every node would cost more than most
        nodes."""
        worked = time.thread_time()
        if self._worked < 0:
            self._worked = worked
        elif worked - self._worked > MAX_SECONDS:
            raise ValueError(f"it takes longer than {MAX_SECONDS:g} s")

    def _take_size(self, value: object) -> None:
        """Raise ValueError when a value that was made is too large, or all of them together are."""
        if isinstance(value, int):
            if value.bit_length() > MAX_BITS:
                raise ValueError(f"a number of more than {MAX_BITS:,} bits is too large")
        elif isinstance(value, (str, bytes, list, tuple, set, frozenset, dict)):
            self._made += len(value)
            if len(value) > _most(value):
                raise ValueError(f"a value of {len(value):,} characters or items is too large")
            if self._made > MAX_MADE:
                raise ValueError("all that it makes is too large together")

    def _function_of(self, node: ast.Call) -> Callable[..., object]:
        """Return the function that is called. Raises what simpleeval does where there is none."""
        function: Callable[..., object]
        if isinstance(node.func, ast.Attribute):
            function = self._eval(node.func)
        elif isinstance(node.func, ast.Name):
            # simpleeval would look among names as well, and call what a case calls so.
            if node.func.id not in self.functions:
                raise simpleeval.FunctionNotDefined(node.func.id, self.expr)
            function = self.functions[node.func.id]
        else:
            raise simpleeval.FeatureNotAvailable("only functions with a name can be called")
        # A spec is somebody else's text: eval, open and their like are out of reach, however they
        # got into the scope.
        if function in simpleeval.DISALLOW_FUNCTIONS:
            raise simpleeval.FeatureNotAvailable("this function is not available")
        return function

    def _eval_call(self, node: ast.Call) -> object:
        function = self._function_of(node)
        # All of them first: how large the result may be depends on them.
        arguments = [self._eval(each) for each in node.args]
        named = dict(self._eval(each) for each in node.keywords)
        owner = getattr(function, "__self__", None)
        if isinstance(node.func, ast.Attribute) and isinstance(
            owner, (str, bytes, int, float, list, tuple, set, dict)
        ):
            # Cases share the values of axes: one that a case changed would be another value for the
            # next.
            if node.func.attr in _CHANGING:
                raise ValueError(f"{node.func.attr} would change a value that others see")
            size = method_size(owner, node.func.attr, [*arguments, *named.values()])
            if size > MAX_LENGTH:
                raise ValueError(f"{node.func.attr} would make {size:,} characters, too many")
            return function(*arguments, **named)
        # Ours are bounded by themselves; only an oracle's may take its own time.
        if function is FUNCTIONS.get(getattr(node.func, "id", "")):
            return function(*arguments, **named)
        began, worked = time.monotonic(), time.thread_time()
        try:
            return function(*arguments, **named)  # the oracle's: the user's own code, which has its own limit
        finally:
            # The oracle's time is its own: it must not use up that of the expression around it.
            self._until += time.monotonic() - began
            if self._worked >= 0:
                self._worked += time.thread_time() - worked


class Scope:
    """What an expression can see: `names` (any mapping) and `functions`."""

    __slots__ = ("functions", "names")
    names: Mapping[str, object]
    functions: Mapping[str, Callable[..., object]]

    def __init__(
        self,
        names: Mapping[str, object] | None = None,
        functions: Mapping[str, Callable[..., object]] | None = None,
    ) -> None:
        self.names = {} if names is None else names
        self.functions = FUNCTIONS if functions is None else functions


class Expression:
    """A parsed expression. Raises ExpressionFault when the source does not parse."""

    __slots__ = ("_node", "names", "source")

    def __init__(self, source: str) -> None:
        self.source = source
        self._node, self.names = _parsed(source)

    def __reduce__(self) -> tuple[type[Expression], tuple[str]]:
        return Expression, (self.source,)

    def __repr__(self) -> str:
        return f"Expression({self.source!r})"

    def __eq__(self, other: object) -> bool:
        return self.source == other.source if isinstance(other, Expression) else NotImplemented

    def __hash__(self) -> int:
        return hash(self.source)

    @property
    def node(self) -> ast.expr:
        """Its syntax tree, which no evaluation changes."""
        return self._node

    def evaluate(self, scope: Scope) -> object:
        """Return the value. Raises ExpressionFault with the source, the values it saw and the
        reason."""
        node = self._node
        # The value as it is, with nothing copied and nothing counted.
        if type(node) is ast.Name and node.id in scope.names:  # by far the commonest expression
            return scope.names[node.id]
        evaluator = _Evaluator(scope)
        try:
            return evaluator.eval(self.source, previously_parsed=node)
        except PassThrough:
            raise
        except (Exception, RecursionError) as error:
            # What it saw is in the message: of ten thousand cases it is the values that tell
            # why this one failed.
            read = {name: scope.names[name] for name in sorted(self.names) if name in scope.names}
            raise ExpressionFault(self.source, _reason(error, read), self._seen(scope)) from error

    def _seen(self, scope: Scope) -> str:
        shown = []
        for name in sorted(self.names):
            if name in scope.names:
                value = repr(scope.names[name])
                shown.append(f"{name} = {value if len(value) <= SHOWN_VALUE else value[:SHOWN_VALUE] + '…'}")
        return ", ".join(shown)


class PassThrough(BaseException):
    """Raised by a names mapping to leave an evaluation on purpose; never turned into an
    ExpressionFault."""


_FORBIDDEN: Mapping[type[ast.AST], str] = {
    ast.Lambda: "a function without a name (lambda)",
    ast.NamedExpr: "an assignment (:=)",
    ast.Await: "await",
    ast.Yield: "yield",
    ast.YieldFrom: "yield",
    ast.JoinedStr: "an f-string",
}


@lru_cache(maxsize=8192)
def _parsed(source: str) -> tuple[ast.expr, frozenset[str]]:
    """Return what an expression is, and the names that it reads. Raises ExpressionFault.

    Kept, since a spec says the same in many places and each is read several times; no evaluation
    changes what it walks.
    """
    try:
        node = ast.parse(source.strip(), mode="eval").body
    except (SyntaxError, ValueError, MemoryError, RecursionError) as error:
        # Python counts lines too; a place in a later line is not that of the key.
        at = (getattr(error, "offset", 1) or 1) - 1 if getattr(error, "lineno", 1) == 1 else 0
        raise ExpressionFault(source, _syntax_reason(error), offset=at) from None
    # Told when the spec is read, and not for each case when it runs.
    bad = next((each for each in ast.walk(node) if isinstance(each, tuple(_FORBIDDEN))), None)
    if bad is not None:
        reason = f"{_FORBIDDEN[type(bad)]} cannot be used in an expression"
        raise ExpressionFault(source, reason, offset=getattr(bad, "col_offset", 0))
    return node, frozenset(_free_names(node))


def _free_names(node: ast.AST) -> Iterator[str]:
    """Yield the names an expression reads, without those that its own comprehensions bind and
    without called functions."""
    # A comprehension's own variable is no axis, so it must not be looked up as one.
    bound = {
        each.id for each in ast.walk(node) if isinstance(each, ast.Name) and isinstance(each.ctx, ast.Store)
    }
    called = {
        id(each.func)
        for each in ast.walk(node)
        if isinstance(each, ast.Call) and isinstance(each.func, ast.Name)
    }
    for each in ast.walk(node):
        if isinstance(each, ast.Name) and each.id not in bound and id(each) not in called:
            yield each.id


def called_functions(expression: Expression) -> frozenset[str]:
    """Return the names of the functions that an expression calls."""
    return _called(expression.source)


@lru_cache(maxsize=8192)
def _called(source: str) -> frozenset[str]:
    return frozenset(
        each.func.id
        for each in ast.walk(_parsed(source)[0])
        if isinstance(each, ast.Call) and isinstance(each.func, ast.Name)
    )


def _syntax_reason(error: BaseException) -> str:
    if isinstance(error, SyntaxError):
        return f"it does not parse as a Python expression ({error.msg})"
    return f"it is nested too deep or too long ({type(error).__name__})"


def _reason(error: BaseException, read: Mapping[str, object]) -> str:
    """Return why an expression failed, in words of the spec: what its names are, not what Python
    calls them."""
    text = str(error).splitlines()[-1] if str(error) else ""
    if isinstance(error, simpleeval.FunctionNotDefined):
        return f"there is no function {error.func_name}"
    if isinstance(error, simpleeval.InvalidExpression):
        return text or type(error).__name__
    # Python says NoneType and str; the spec's author knows axes, columns and lists.
    kinds = ", ".join(f"{name} is {kind_in_words(value)}" for name, value in read.items())
    if isinstance(error, TypeError):
        plain = next((told for part, told in _MISFITS.items() if part in text), "")
        if plain:
            return f"{plain}: {kinds}" if kinds else plain
    if isinstance(error, (IndexError, KeyError)):
        return f"there is no such item: {kinds}" if kinds else f"there is no such item ({text})"
    if isinstance(error, ZeroDivisionError):
        return "a division by 0"
    literal = _NO_NUMBER.match(text)
    if isinstance(error, ValueError) and literal:
        return f"{literal[2]} is not a {'whole number' if literal[1] else 'number'}"
    return text if text and isinstance(error, ValueError) else f"{type(error).__name__}: {text}".rstrip(": ")


#: Part of what Python says of values that do not fit → the same in words of a spec.
_MISFITS = {
    "NoneType": "a value that is missing from the call is used",
    "can only concatenate": "these values do not go together",
    "unsupported operand": "these values do not go together",
    "can't multiply": "these values do not go together",
    "not supported between": "these values cannot be compared",
    "not iterable": "only a list or a text has items to go through",
    "is not subscriptable": "only a list or a text has items",
    "must be integers": "an item is named by its number",
    "must be str": "a text is expected",
    "sequence item": "only texts can be joined",
}
_NO_NUMBER = re.compile(
    r"(invalid literal for int\(\) with base 10: )?(?:could not convert string to float: )?('.*')$"
)


def kind_in_words(value: object) -> str:
    """Return what a value is, in words of a spec: `a list of 2 texts`."""
    if value is None:
        return "not given"
    if isinstance(value, (list, tuple)):
        if not value:
            return "an empty list"
        kinds = {_kind(each) for each in value}
        noun = kinds.pop() if len(kinds) == 1 else "value"
        return f"a list of {len(value)} {noun}s" if len(value) > 1 else f"a list of 1 {noun}"
    noun = _kind(value)
    return f"{'an' if noun[0] in 'aeiou' else 'a'} {noun}"


def _kind(value: object) -> str:
    if isinstance(value, bool):
        return "boolean"
    if isinstance(value, (int, float)):
        return "number"
    if isinstance(value, (list, tuple)):
        return "list"
    return (
        "text" if isinstance(value, str) else "table" if isinstance(value, Mapping) else type(value).__name__
    )


def as_text(value: Any) -> str:
    """Return how a value is written in a word or text: booleans as TOML writes them, None as
    nothing."""
    if isinstance(value, str):
        return value
    if value is None:
        return ""
    if isinstance(value, bool):
        return "true" if value else "false"
    try:
        return str(value)
    except ValueError:  # an integer of more digits than Python writes (sys.get_int_max_str_digits)
        return hex(value)


_CONVERSIONS: Mapping[str, Callable[[object], str]] = {"r": repr, "s": str, "a": ascii}
_WIDTHS = re.compile(r"\d+")


def render_field(part: Field, expression: Expression, scope: Scope) -> str:
    """Return the text of one field. Raises ExpressionFault."""
    value = expression.evaluate(scope)
    if isinstance(value, int) and value.bit_length() > MAX_BITS:
        raise ExpressionFault(
            part.source, f"its value, a number of more than {MAX_BITS:,} bits, is too large to be written"
        )
    if part.conversion:
        value = _CONVERSIONS[part.conversion](value)
    if not part.format:
        if isinstance(value, (list, tuple, dict, set)) and not part.conversion:
            # Python's way to write it is nobody's text.
            raise ExpressionFault(
                part.source,
                f"its value is a {type(value).__name__}, and not a text; ' '.join(…) makes one of it",
            )
        return as_text(value)
    # {x:>999999999} makes its text before anybody can look at its length.
    if any(int(width) > MAX_WIDTH for width in _WIDTHS.findall(part.format)):
        raise ExpressionFault(part.source, f"a width over {MAX_WIDTH} in the format {part.format!r}")
    try:
        return format(value, part.format)
    except (ValueError, TypeError) as error:
        reason = f"its value {value!r} does not take the format {part.format!r} ({error})"
        raise ExpressionFault(part.source, reason) from None


class Template:
    """A text with fields, ready to be filled in. Raises NotationFault or ExpressionFault when it
    does not parse."""

    __slots__ = ("_expressions", "constant", "names", "parts", "source")

    def __init__(self, source: str, *, literal: bool = False, parts: tuple[Part, ...] | None = None) -> None:
        self.source = source
        if parts is None:
            # A literal text may have braces of its own, as JSON has.
            parts = (Characters(source),) if literal else parse_template(source)
        self.parts = parts
        self._expressions = tuple(_expression_of(part) if isinstance(part, Field) else None for part in parts)
        self.names = frozenset[str]().union(*(each.names for each in self._expressions if each))
        #: The text itself when nothing has to be filled in, else None.
        self.constant = (
            None
            if any(self._expressions)
            else "".join(part.text for part in parts if isinstance(part, Characters))
        )

    def __reduce__(self) -> Any:
        return _rebuild, (self.source, self.parts)

    def __repr__(self) -> str:
        return f"Template({self.source!r})"

    def __eq__(self, other: object) -> bool:
        if not isinstance(other, Template):
            return NotImplemented
        return (self.source, self.parts) == (other.source, other.parts)

    def __hash__(self) -> int:
        return hash(self.source)

    @property
    def expressions(self) -> Iterator[Expression]:
        """The expressions of the fields, in order."""
        return (each for each in self._expressions if each)

    def render(self, scope: Scope) -> str:
        """Return the text with every field filled in. Raises ExpressionFault."""
        if self.constant is not None:
            return self.constant
        return "".join(
            part.text if isinstance(part, Characters) else render_field(part, expression, scope)  # type: ignore[arg-type]
            for part, expression in zip(self.parts, self._expressions, strict=True)
        )

    def value(self, scope: Scope) -> object:
        """Return the value itself when the template is one bare field, else the rendered text."""
        # A field that is all of it keeps its type: a list becomes words, a number stays one.
        if len(self.parts) == 1 and self._expressions[0] is not None:
            part = self.parts[0]
            if isinstance(part, Field) and not part.format and not part.conversion:
                return self._expressions[0].evaluate(scope)
        return self.render(scope)


def _rebuild(source: str, parts: tuple[Part, ...]) -> Template:
    return Template(source, parts=parts)


def _expression_of(part: Field) -> Expression:
    try:
        return Expression(part.source)
    except ExpressionFault as fault:
        # The place is reported in the template; the expression begins after its brace.
        fault.offset += part.span[0] + 1
        raise


def word_template(word: Word, text: str = "") -> Template:
    """Return the template of one parsed word."""
    return Template(text, parts=word.parts)


def words_of(template: Template, scope: Scope) -> list[str]:
    """Return the words that one word of the notation gives: a bare field that is a list is
    spliced, None gives none.

    Raises ExpressionFault.
    """
    value = template.value(scope)
    if value is None:
        return []
    if isinstance(value, (list, tuple)):
        return [as_text(each) for each in value]
    return [as_text(value)]


__all__ = [
    "FUNCTIONS",
    "LATER_FUNCTIONS",
    "Expression",
    "NotationFault",
    "PassThrough",
    "Scope",
    "Template",
    "as_text",
    "called_functions",
    "render_field",
    "word_template",
    "words_of",
]


def comparisons(expression: Expression) -> Iterator[tuple[str, object]]:
    """Yield each name that an expression compares with a constant by `==`, `!=`, `in` or `not in`,
    and the constant; each item of a list or tuple of constants on its own."""
    for node in ast.walk(expression.node):
        if not isinstance(node, ast.Compare) or len(node.ops) != 1:
            continue
        sides, op = (node.left, node.comparators[0]), node.ops[0]
        if isinstance(op, (ast.Eq, ast.NotEq)):
            for one, other in (sides, sides[::-1]):
                if isinstance(one, ast.Name) and isinstance(other, ast.Constant):
                    yield one.id, other.value
        elif isinstance(op, (ast.In, ast.NotIn)) and isinstance(sides[0], ast.Name):
            items = sides[1].elts if isinstance(sides[1], (ast.List, ast.Tuple, ast.Set)) else ()
            yield from ((sides[0].id, each.value) for each in items if isinstance(each, ast.Constant))


def constant_arguments(expression: Expression, function: str) -> Iterator[str]:
    """Yield the texts that an expression calls a function with, where they are written out."""
    for node in ast.walk(expression.node):
        if isinstance(node, ast.Call) and isinstance(node.func, ast.Name) and node.func.id == function:
            for each in node.args:
                if isinstance(each, ast.Constant) and isinstance(each.value, str):
                    yield each.value
