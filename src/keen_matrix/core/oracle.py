"""The oracle file: a Python file of the user's own whose functions expressions may call."""

from __future__ import annotations

import runpy
from collections.abc import Callable, Mapping
from typing import Any

from keen_matrix.core.errors import RunFault


def oracle_functions(path: str | None) -> Mapping[str, Callable[..., Any]]:
    """Return the public functions that an oracle file defines or imports. Raises RunFault when it does not run."""
    if path is None:
        return {}
    try:
        found = runpy.run_path(path, run_name="keen_matrix_oracle")
    except (Exception, SystemExit) as error:
        last = str(error).splitlines()[-1] if str(error) else ""
        raise RunFault(f"the oracle file {path} failed while it was loaded: {type(error).__name__}: {last}") from error
    return {name: value for name, value in found.items() if callable(value) and not name.startswith("_")}


class OncePerCase:
    """A function of the oracle file that works out each answer once in a case, however many expectations ask."""

    def __init__(self, function: Callable[..., Any]) -> None:
        self._function = function
        self._known: dict[Any, Any] = {}

    def __call__(self, *arguments: Any, **named: Any) -> Any:
        """Return the answer. Raises what the function raises."""
        try:
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
