"""Keen Matrix: the usage line is the test matrix.

The public names load on first use, so that importing the package costs nothing.
"""

from __future__ import annotations

from importlib import import_module
from typing import TYPE_CHECKING

from keen_matrix.core.version import VERSION

if TYPE_CHECKING:
    from keen_matrix.core.covering.search import covering_rows
    from keen_matrix.core.launch.workers.engine import run
    from keen_matrix.core.model.identity import CaseKey
    from keen_matrix.core.model.record import Record
    from keen_matrix.core.results.reading import read_journal
    from keen_matrix.core.runs.events import RunWatch
    from keen_matrix.core.runs.in_process import run_specs
    from keen_matrix.core.signature.signature import Signature
    from keen_matrix.core.spec.load import load_spec
    from keen_matrix.core.vectors.unfold import unfold

__version__ = VERSION
__all__ = [
    "CaseKey",
    "Record",
    "RunWatch",
    "Signature",
    "covering_rows",
    "load_spec",
    "read_journal",
    "run",
    "run_specs",
    "unfold",
]

_PLACES = {
    "CaseKey": "keen_matrix.core.model.identity",
    "Record": "keen_matrix.core.model.record",
    "RunWatch": "keen_matrix.core.runs.events",
    "Signature": "keen_matrix.core.signature.signature",
    "covering_rows": "keen_matrix.core.covering.search",
    "load_spec": "keen_matrix.core.spec.load",
    "read_journal": "keen_matrix.core.results.reading",
    "run": "keen_matrix.core.launch.workers.engine",
    "run_specs": "keen_matrix.core.runs.in_process",
    "unfold": "keen_matrix.core.vectors.unfold",
}


def __getattr__(name: str) -> object:
    if name in _PLACES:
        return getattr(import_module(_PLACES[name]), name)
    raise AttributeError(f"module {__name__!r} has no attribute {name!r}")


def __dir__() -> list[str]:
    return sorted({*__all__, *(each for each in globals() if each.startswith("__"))})
