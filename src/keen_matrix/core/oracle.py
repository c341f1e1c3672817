"""The oracle file: a Python file of the user's own whose functions expressions may call.

Its names are read without running it. It is run when one of its functions is first called; a
command that runs nothing forbids that for as long as it lasts, and one that wants to tell of it is
told.
"""

from __future__ import annotations

import ast
import contextlib
import runpy
from collections.abc import Callable, Iterator, Mapping
from contextvars import ContextVar
from functools import lru_cache
from typing import NamedTuple

from keen_matrix.core.errors import RunFault
from keen_matrix.core.expressions import PassThrough

#: What an assigned name cannot be called for.
_DATA = (
    ast.Constant,
    ast.List,
    ast.Tuple,
    ast.Set,
    ast.Dict,
    ast.JoinedStr,
    ast.ListComp,
    ast.SetComp,
    ast.DictComp,
)
#: Called with the path of an oracle before it is run.
_asked: ContextVar[Callable[[str], None] | None] = ContextVar("asked", default=None)


class OracleNotRun(PassThrough):
    """An expression calls the oracle in a command that runs nothing. It passes through the
    evaluation; `path` is the file."""

    def __init__(self, path: str) -> None:
        self.path = path
        super().__init__(f"the oracle file {path} is not run here")


class OracleNames(NamedTuple):
    """The public functions of an oracle file by its text. `open` tells that it may have more: it
    imports all of a module."""

    names: frozenset[str]
    open: bool = False


def oracle_names(path: str | None) -> OracleNames:
    """Return the names of an oracle's functions, found without running it. Raises RunFault when it
    cannot be read or parsed."""
    if path is None:
        return OracleNames(frozenset())
    try:
        with open(path, "rb") as file:
            text = file.read()
    except OSError as error:
        raise RunFault(f"the oracle file {path} cannot be read: {error.strerror}") from None
    return _names_of(path, text)


@lru_cache(maxsize=64)  # asked for by each matrix of a spec
def _names_of(path: str, text: bytes) -> OracleNames:
    try:
        tree = ast.parse(text, filename=path)
    except (SyntaxError, ValueError, RecursionError, MemoryError) as error:
        where = f" (line {error.lineno})" if isinstance(error, SyntaxError) and error.lineno else ""
        raise RunFault(
            f"the oracle file {path} is not valid Python{where}: {getattr(error, 'msg', None) or error}"
        ) from None
    names: set[str] = set()
    star = False
    for node in _statements(tree.body):
        if isinstance(node, (ast.FunctionDef, ast.AsyncFunctionDef, ast.ClassDef)):
            names.add(node.name)
        elif isinstance(node, (ast.Import, ast.ImportFrom)):
            star = star or any(each.name == "*" for each in node.names)
            # An import of a.b binds a.
            names |= {(each.asname or each.name).partition(".")[0] for each in node.names}
        elif isinstance(node, (ast.Assign, ast.AnnAssign)) and not isinstance(node.value, _DATA):
            targets = node.targets if isinstance(node, ast.Assign) else [node.target]
            names |= {
                each.id for target in targets for each in ast.walk(target) if isinstance(each, ast.Name)
            }
    return OracleNames(frozenset(name for name in names if not name.startswith("_") and name != "*"), star)


def _statements(body: list[ast.stmt]) -> Iterator[ast.stmt]:
    """Yield the statements of a module that run when it is loaded, also those inside conditions,
    loops and tries."""
    for node in body:
        yield node
        for name in ("body", "orelse", "finalbody"):
            if not isinstance(node, (ast.FunctionDef, ast.AsyncFunctionDef, ast.ClassDef)):
                yield from _statements(getattr(node, name, None) or [])
        for handler in getattr(node, "handlers", ()):
            yield from _statements(handler.body)


@contextlib.contextmanager
def asking(hook: Callable[[str], None]) -> Iterator[None]:
    """Have a function called with an oracle's path before the oracle is run, for as long as the
    block lasts.

    A hook that raises keeps it from being run.
    """
    token = _asked.set(hook)
    try:
        yield
    finally:
        _asked.reset(token)


def forbidden(path: str) -> None:
    """Raise OracleNotRun: the hook of commands that run nothing."""
    raise OracleNotRun(path)


def oracle_functions(path: str | None) -> Mapping[str, Callable[..., object]]:
    """Run an oracle file and return its public functions, defined or imported. Raises RunFault
    when it does not run."""
    if path is None:
        return {}
    hook = _asked.get()
    if hook is not None:
        hook(path)
    try:
        # Under another name than __main__, so that a file which is also a program does not run as
        # one.
        found = runpy.run_path(path, run_name="keen_matrix_oracle")
    except (Exception, SystemExit) as error:
        last = str(error).splitlines()[-1] if str(error) else ""
        raise RunFault(
            f"the oracle file {path} could not be loaded: {type(error).__name__}: {last}"
        ) from error
    return {name: value for name, value in found.items() if callable(value) and not name.startswith("_")}


class _OracleFunction:
    """A function of an oracle, known by its name: the file is run when it is first called."""

    def __init__(self, oracle: _Oracle, name: str) -> None:
        self._oracle, self._name = oracle, name

    def __call__(self, *arguments: object, **named: object) -> object:
        """Return what the function returns. Raises what it raises, RunFault, or OracleNotRun."""
        function = self._oracle.functions().get(self._name)
        if function is None:
            raise NameError(f"the oracle file has no function {self._name}")
        return function(*arguments, **named)


class _Oracle:
    """An oracle file that is run at most once."""

    def __init__(self, path: str) -> None:
        self._path = path
        self._functions: Mapping[str, Callable[..., object]] | None = None

    def functions(self) -> Mapping[str, Callable[..., object]]:
        if self._functions is None:
            self._functions = oracle_functions(self._path)
        return self._functions


def named_functions(path: str | None) -> Mapping[str, Callable[..., object]]:
    """Return the functions of an oracle by its text; it is run when one of them is first called.

    An oracle whose names cannot all be read from its text is run at once. Raises RunFault when
    it cannot be read."""
    if path is None:
        return {}
    found = oracle_names(path)
    # What `import *` brings is known to nobody who does not run it.
    if found.open:
        return oracle_functions(path)
    oracle = _Oracle(path)
    return {name: _OracleFunction(oracle, name) for name in sorted(found.names)}


class OncePerCase:
    """A function of the oracle file that works out each answer once in a case, however many
    expectations ask."""

    def __init__(self, function: Callable[..., object]) -> None:
        self._function = function
        self._known: dict[object, object] = {}

    def __call__(self, *arguments: object, **named: object) -> object:
        """Return the answer. Raises what the function raises."""
        try:
            # By type too: 1, 1.0 and True are equal, and a function may tell them apart.
            key = (arguments, tuple(named.items()), *map(type, arguments))
            if key in self._known:
                return self._known[key]
        except TypeError:  # a list among the arguments
            return self._function(*arguments, **named)
        answer = self._known[key] = self._function(*arguments, **named)
        return answer

    def forget(self) -> None:
        """Begin another case."""
        self._known.clear()
