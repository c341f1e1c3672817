"""The order of the packages: each imports only what stands before it, at import and at run time; and there is no circle."""

from __future__ import annotations

import ast
import re
from collections.abc import Iterator
from functools import cache
from pathlib import Path

import pytest

SRC = Path(__file__).parent.parent / "src"
ORDER = [
    "core.version", "core.width", "core.interruption", "core.structs", "core.doing", "core.errors", "core.files", "core.covering", "core.notation", "core.expressions",
    "core.oracle", "core.model", "core.signature", "core.vectors", "core.expect", "core.launch", "core.spec", "core.results",
    "core.experiments", "core.runs", "core.insight", "wording", "reports", "cli",
]  # fmt: skip
"""From the ground up; docs/architecture.md draws it."""
MODULES = {
    ".".join(path.relative_to(SRC).with_suffix("").parts).removesuffix(".__init__"): path
    for path in sorted((SRC / "keen_matrix").rglob("*.py")) if "office" not in path.parts
}  # fmt: skip


def statements_of(node: ast.AST) -> Iterator[ast.AST]:
    """Yield the statements below a node and no expressions, of which there are ten times as many: none is an import."""
    for field in ("body", "orelse", "finalbody", "handlers", "cases"):
        for each in getattr(node, field, ()):
            yield each
            yield from statements_of(each)


def imports_of(path: Path, *, typed: bool = False) -> Iterator[str]:
    """Yield the modules of ours that a module imports, inside functions too; `typed` also those that only the type checker sees."""
    yield from (module for module, is_seen in all_imports_of(path) if is_seen or typed)


@cache
def all_imports_of(path: Path) -> list[tuple[str, bool]]:
    """Return what a module imports, each with whether it is imported when it runs."""
    nodes = [node for node in statements_of(ast.parse(path.read_text())) if isinstance(node, (ast.If, ast.Import, ast.ImportFrom))]
    unseen = {
        id(inner) for node in nodes
        if isinstance(node, ast.If) and isinstance(node.test, ast.Name) and node.test.id == "TYPE_CHECKING" for inner in statements_of(node)
    }  # fmt: skip
    found = []
    for node in nodes:
        if isinstance(node, ast.Import):
            found += [(each.name, id(node) not in unseen) for each in node.names if each.name in MODULES]
        elif isinstance(node, ast.ImportFrom) and (node.module or "").partition(".")[0] == "keen_matrix":
            for each in node.names:
                whole = f"{node.module}.{each.name}"
                found.append((whole if whole in MODULES else str(node.module), id(node) not in unseen))
    return found


def layer_of(module: str) -> str:
    name = module.removeprefix("keen_matrix.")
    return next((layer for layer in ORDER if name == layer or name.startswith(f"{layer}.")), "")


def test_a_module_imports_only_from_below() -> None:
    for module, path in MODULES.items():
        own = ORDER.index(layer_of(module)) if layer_of(module) else len(ORDER)
        above = [each for each in imports_of(path) if layer_of(each) and ORDER.index(layer_of(each)) > own]
        assert not above, module


def test_every_package_has_its_place() -> None:
    packages = {f"core.{path.stem}" for path in (SRC / "keen_matrix/core").iterdir() if path.stem[0] != "_"}
    packages |= {path.name for path in (SRC / "keen_matrix").iterdir() if path.is_dir() and path.name[0] != "_"}
    assert packages - {"core", "demo"} <= set(ORDER) and set(ORDER) <= packages


def test_there_is_no_circle() -> None:
    graph = {module: {each for each in imports_of(path, typed=True) if each != module} for module, path in MODULES.items()}
    done: set[str] = set()

    def follow(module: str, way: tuple[str, ...]) -> None:
        if module in way:
            pytest.fail(" -> ".join((*way[way.index(module) :], module)))
        if module not in done:
            for each in sorted(graph.get(module, ())):
                follow(each, (*way, module))
            done.add(module)

    for module in graph:
        follow(module, ())


def test_an_upward_import_and_a_circle_would_be_seen(tmp_path: Path) -> None:
    path = tmp_path / "x.py"
    path.write_text(
        "if TYPE_CHECKING:\n    from keen_matrix.cli import main\ndef f():\n    from keen_matrix.core.results import journal\n"
    )
    assert list(imports_of(path)) == ["keen_matrix.core.results.journal"]
    assert len(list(imports_of(path, typed=True))) == 2
    assert ORDER.index(layer_of("keen_matrix.core.results.journal")) > ORDER.index(
        layer_of("keen_matrix.core.model.case")
    )


def test_the_core_prints_nothing() -> None:
    for module, path in MODULES.items():
        if module.startswith(("keen_matrix.core", "keen_matrix.reports")) and re.search(r"print\s*\(|ArgumentParser", text := path.read_text()):
            calls = {ast.unparse(node.func) for node in ast.walk(ast.parse(text)) if isinstance(node, ast.Call)}
            assert not calls & {"print", "argparse.ArgumentParser"}, module


ALIKE = {"add_options", "main", "vectors", "write"}
"""Functions of which every command, family or report has its own: the registries call them by these names."""


def test_one_name_has_one_meaning() -> None:
    names: dict[str, set[str]] = {}
    for module, path in MODULES.items():
        for node in ast.parse(path.read_text()).body:
            if isinstance(node, ast.ClassDef) or (isinstance(node, ast.FunctionDef) and node.name[0] != "_"):
                names.setdefault(node.name.lstrip("_"), set()).add(module)
    assert {name: found for name, found in names.items() if len(found) > 1 and name not in ALIKE} == {}


def body_lines(node: ast.FunctionDef | ast.AsyncFunctionDef) -> int:
    """Return the lines of a function without its docstring."""
    first = node.body[0]
    is_text = isinstance(first, ast.Expr) and isinstance(first.value, ast.Constant) and isinstance(first.value.value, str)
    text = (first.end_lineno or 0) - first.lineno + 1 if is_text else 0
    return (node.end_lineno or 0) - node.lineno + 1 - text


def test_no_function_is_longer_than_a_screen() -> None:
    trees = {module: ast.parse(path.read_text()) for module, path in MODULES.items()}
    functions = [(module, node) for module, tree in trees.items() for node in ast.walk(tree) if isinstance(node, (ast.FunctionDef, ast.AsyncFunctionDef))]
    assert [f"{module}.{node.name}" for module, node in functions if body_lines(node) > 40] == []
