"""Print every sentence that a user can be shown, by module: `python docs/messages.py [PATTERN]`.

The words of messages are kept coherent with it, and a test reads them through it.
"""

from __future__ import annotations

import ast
import functools
import re
import sys
from collections.abc import Iterator
from pathlib import Path

PACKAGE = Path(__file__).resolve().parent.parent / "src" / "keen_matrix"
NOT_SHOWN = re.compile(
    r"SELECT |CREATE TABLE|INSERT |DELETE |PRAGMA |BEGIN |WHERE |UPDATE |\\\\|\(\?|import "
)
"""What is SQL, a regular expression or a program, and no sentence."""


@functools.cache
def _nodes_of(path: Path) -> list[ast.AST]:
    """Return what texts stand in, of a module."""
    kinds = (ast.Expr, ast.JoinedStr, ast.Constant, ast.Raise, ast.Call)
    return [node for node in ast.walk(ast.parse(path.read_text())) if isinstance(node, kinds)]


def sentences() -> Iterator[tuple[str, int, str]]:
    """Yield module, line and text of every string of several words that is no docstring; a field is shown as `{…}`."""
    for path in sorted(PACKAGE.rglob("*.py")):
        if "demo/office" in path.as_posix():
            continue
        nodes = _nodes_of(path)
        apart = {id(node.value) for node in nodes if isinstance(node, ast.Expr)}
        for node in nodes:
            if isinstance(node, ast.JoinedStr):
                apart |= {id(each) for each in ast.walk(node) if each is not node}
        for node in nodes:
            if id(node) in apart:
                continue
            if isinstance(node, ast.Constant) and isinstance(node.value, str):
                text = node.value
            elif isinstance(node, ast.JoinedStr):
                text = "".join(
                    str(each.value) if isinstance(each, ast.Constant) else "{…}"
                    for each in node.values
                )
            else:
                continue
            if re.search(
                r"[a-z]{2,} [a-z]{2,}|[a-z]{3,} ?\{…\}|\{…\} [a-z]{3,}", text
            ) and not NOT_SHOWN.search(repr(text)):
                yield path.relative_to(PACKAGE).as_posix(), node.lineno, text


FAULTS = re.compile(r"[A-Z]\w*(Fault|Misuse|Missing)|Misuse|wrong|fault|ArgumentTypeError")
"""What is raised, or called, with a message for a person."""
LINTED = "core/spec/lint"
"""Where problems of a spec are found that can be read: added as errors or as warnings."""


def errors() -> Iterator[tuple[str, str]]:
    """Yield module and text of every message with which an error is raised."""
    for path in sorted(PACKAGE.rglob("*.py")):
        if "demo/office" in path.as_posix():
            continue
        module = path.relative_to(PACKAGE).as_posix()
        for node in _nodes_of(path):
            raised = isinstance(node, ast.Raise) and isinstance(node.exc, ast.Call)
            call = node.exc if isinstance(node, ast.Raise) else node
            if not isinstance(call, ast.Call):
                continue
            name = getattr(call.func, "id", getattr(call.func, "attr", ""))
            if (raised and FAULTS.fullmatch(name)) or (
                LINTED in module and name in ("add", "warn")
            ):
                text = next(filter(None, map(_text_of, call.args)), "")
                if len(text.split()) > 2:
                    yield module, text


def _text_of(node: ast.expr) -> str:
    """Return a text as it stands in the sources, its fields as `{…}`; empty for anything else."""
    if isinstance(node, ast.Constant):
        return node.value if isinstance(node.value, str) else ""
    if isinstance(node, ast.JoinedStr):
        return "".join(
            str(each.value) if isinstance(each, ast.Constant) else "{…}" for each in node.values
        )
    return ""


if __name__ == "__main__":
    wanted = re.compile(sys.argv[1] if sys.argv[1:] else "")
    for module, line, text in sentences():
        if wanted.search(text):
            print(f"{module}:{line}: {text!r}")
