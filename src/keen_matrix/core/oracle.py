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
