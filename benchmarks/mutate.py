"""How many bugs put in at random the tests notice: python benchmarks/mutate.py [--seed N] [--count N] [--files N].

Each bug is one plausible slip in one line of the package: a comparison that is off by one or the wrong way round, `and`
for `or`, a condition the wrong way round, a number that is one more, a part of a sum left out. The test files that are
nearest to the line are run on it, the module is put back, and what nobody noticed is listed. Nearest are the files that
import the module, and that have the words which the function around the line has and few other tests.
"""

from __future__ import annotations

import argparse
import ast
import random
import re
import subprocess
import sys
from collections.abc import Iterator
from pathlib import Path

from results import write_section

ROOT = Path(__file__).parent.parent
SRC, TESTS = ROOT / "src/keen_matrix", ROOT / "tests"
SECONDS = 240
COMPARED = {
    ast.Lt: ast.LtE, ast.LtE: ast.Lt, ast.Gt: ast.GtE, ast.GtE: ast.Gt, ast.Eq: ast.NotEq, ast.NotEq: ast.Eq,
    ast.In: ast.NotIn, ast.NotIn: ast.In, ast.Is: ast.IsNot, ast.IsNot: ast.Is,
}  # fmt: skip


def slips(node: ast.AST) -> Iterator[tuple[str, ast.AST]]:
    """Yield what somebody might have written in the place of a node, each with what it is."""
    if isinstance(node, ast.Compare) and len(node.ops) == 1 and type(node.ops[0]) in COMPARED:
        yield "another comparison", ast.Compare(node.left, [COMPARED[type(node.ops[0])]()], node.comparators)
    elif isinstance(node, ast.BoolOp):
        other = ast.Or() if isinstance(node.op, ast.And) else ast.And()
        yield "and for or", ast.BoolOp(other, node.values)
        yield "a condition left out", node.values[0]
    elif isinstance(node, ast.UnaryOp) and isinstance(node.op, ast.Not):
        yield "a not left out", node.operand
    elif isinstance(node, ast.Constant) and type(node.value) is int and 0 < node.value < 100:
        yield "one more", ast.Constant(node.value + 1)
    elif isinstance(node, ast.BinOp) and isinstance(node.op, (ast.Add, ast.Sub)):
        yield "a part of a sum left out", node.left
    elif isinstance(node, ast.IfExp):
        yield "the other way round", ast.IfExp(node.test, node.orelse, node.body)
    elif (
        isinstance(node, ast.Return)
        and isinstance(node.value, ast.Constant)
        and isinstance(node.value.value, bool)
    ):
        yield "the other answer", ast.Return(ast.Constant(not node.value.value))


def sites(path: Path) -> Iterator[tuple[int, int, int, str, str]]:
    """Yield line, columns, what is written instead and what kind of slip it is, for nodes of one line."""
    text = path.read_text()
    tree = ast.parse(text)
    names = {id(part) for node in ast.walk(tree) for part in _annotations(node)}
    for node in ast.walk(tree):
        if getattr(node, "lineno", 0) and node.lineno == node.end_lineno and id(node) not in names:
            for kind, other in slips(node):
                yield node.lineno, node.col_offset, node.end_col_offset, _written(other), kind


def _annotations(node: ast.AST) -> Iterator[ast.AST]:
    for name in ("annotation", "returns"):
        part = getattr(node, name, None)
        if part is not None:
            yield from ast.walk(part)
    if isinstance(node, ast.JoinedStr):  # what is in an f-string has no place of its own in Python 3.11
        yield from ast.walk(node)


def _written(node: ast.AST) -> str:
    text = ast.unparse(ast.fix_missing_locations(node))
    return text if isinstance(node, (ast.Return, ast.Constant, ast.Name)) else f"({text})"


def nearest(path: Path, line: int, most: int) -> list[str]:
    """Return the test files that are nearest to a line of a module."""
    module = ".".join(path.relative_to(SRC.parent).with_suffix("").parts).removesuffix(".__init__")
    text, tests = path.read_text(), {each: each.read_text() for each in sorted(TESTS.glob("test_*.py"))}
    functions = [
        node for node in ast.walk(ast.parse(text))
        if isinstance(node, (ast.FunctionDef, ast.ClassDef)) and node.lineno <= line <= (node.end_lineno or 0)
    ]  # fmt: skip
    inside = ast.get_source_segment(text, min(functions, key=_length)) if functions else ""
    words = set(re.findall(r"[A-Za-z_-]{4,}", f"{module} {path.stem} {inside}"))
    parts = {
        part[:4] for part in re.split(r"[._]", module.removeprefix("keen_matrix.core.")) if len(part) > 3
    }
    found = {test: words & set(re.findall(r"[A-Za-z_-]{4,}", body)) for test, body in tests.items()}
    # A word that most files have says little, and one that few have a lot.
    weight = {
        word: 1 / sum(word in each for each in found.values()) for each in found.values() for word in each
    }
    scores = {
        test: sum(weight[word] for word in found[test])
        + 2 * (f"{module} import" in body)
        + 2 * sum(part[:4] in parts for part in test.stem.split("_"))
        for test, body in tests.items()
    }
    best = sorted(scores, key=lambda each: (-scores[each], each))[:most]
    return [str(each.relative_to(ROOT)) for each in best]


def _length(node: ast.FunctionDef | ast.ClassDef) -> int:
    return (node.end_lineno or 0) - node.lineno


def is_noticed(tests: list[str]) -> bool | None:
    """Tell whether a test fails; None where they took too long, as a bug may make them."""
    words = [sys.executable, "-m", "pytest", "-q", "-x", "-n", "2", *tests]
    try:
        done = subprocess.run(words, cwd=ROOT, capture_output=True, timeout=SECONDS, check=False)
    except subprocess.TimeoutExpired:
        return None
    return done.returncode != 0


def main() -> None:
    """Put in one bug after another, and write what came of it."""
    parser = argparse.ArgumentParser(description=(__doc__ or "").splitlines()[0])
    parser.add_argument("--seed", type=int, default=1)
    parser.add_argument("--count", type=int, default=40)
    parser.add_argument("--files", type=int, default=5, help="test files that are run for each")
    options = parser.parse_args()
    drawn = random.Random(options.seed)
    modules = [each for each in sorted(SRC.rglob("*.py")) if "demo" not in each.parts]
    every = [(path, *site) for path in modules for site in sites(path)]
    noticed = slow = 0
    missed: list[str] = []
    for path, line, start, end, written, kind in drawn.sample(every, options.count):
        text = path.read_bytes()
        lines = text.split(b"\n")
        before = lines[line - 1]
        lines[line - 1] = before[:start] + written.encode() + before[end:]
        place = f"{path.relative_to(SRC)}:{line}: {kind}: {before.decode().strip()} → {written}"
        try:
            path.write_bytes(b"\n".join(lines))
            found = is_noticed(nearest(path, line, options.files))
        finally:
            path.write_bytes(text)
        noticed, slow = noticed + bool(found), slow + (found is None)
        print("slow   " if found is None else "noticed" if found else "MISSED ", place, flush=True)
        missed += [place] if found is False else []
    rows = [
        ("bugs put in", options.count),
        ("noticed by the nearest tests", noticed),
        ("too slow to tell", slow),
    ]
    table = ["| measured | |", "|---|---|", *(f"| {name} | {value} |" for name, value in rows)]
    listed = [f"- `{each}`" for each in missed]
    command = f"python benchmarks/mutate.py --seed {options.seed}"
    write_section("Bugs put in at random", command, [*table, "", "Not noticed:", "", *listed])


if __name__ == "__main__":
    main()
