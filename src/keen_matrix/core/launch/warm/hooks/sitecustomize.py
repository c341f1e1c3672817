"""Found by an interpreter that starts with this directory in PYTHONPATH: has its lines told, and
makes way for a sitecustomize of the program's own."""

from __future__ import annotations

import os
import sys
from typing import Any

_here = os.path.dirname(os.path.abspath(__file__))
_lines: Any = {"__name__": "python_lines"}
if os.environ.get("KEEN_MATRIX_TRACE"):
    with open(os.path.join(_here, "python_lines.py"), "rb") as _file:
        exec(compile(_file.read(), "<python_lines>", "exec"), _lines)
    _lines["begin"](os.environ["KEEN_MATRIX_TRACE"], os.environ.get("KEEN_MATRIX_TRACE_OWN", ""))
sys.path[:] = [each for each in sys.path if os.path.abspath(each or ".") != _here]
del sys.modules["sitecustomize"]
try:
    import sitecustomize  # type: ignore[import-not-found]  # noqa: F401
except ImportError:
    sys.modules["sitecustomize"] = type(sys)("sitecustomize")
