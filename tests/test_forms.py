"""The registry of forms: nothing that the rest of the code needs of a form is forgotten; forms compose."""

from __future__ import annotations

import ast
import re
from pathlib import Path

import pytest

from keen_matrix.core.expect.context import CheckContext
from keen_matrix.core.expect.forms import FORMS, NEEDS, Form
from keen_matrix.core.expect.forms.base import attribute
from keen_matrix.core.expect.forms.composed import AllForm, AnyForm, NotForm
from keen_matrix.core.expect.forms.text import ContainsForm, EmptyForm, IsForm
from keen_matrix.core.expressions import Template
from keen_matrix.core.spec.document.expectations import FileTable, TextTable
from keen_matrix.wording.mismatches import DRAWN, SENTENCES
from tests.conftest import Place

ROOT = Path(__file__).parent.parent
CORE = ROOT / "src/keen_matrix/core"


def test_the_document_the_reference_and_the_registry_agree() -> None:
    modifiers = {modifier for kind in FORMS.values() for modifier in kind.modifiers}
    keys = {field.alias or name for name, field in TextTable.model_fields.items()} - modifiers - {"literal"}
    of_files = {field.alias or name for name, field in FileTable.model_fields.items()}
    assert keys == set(FORMS) - {"size"} and "size" in of_files
    assert all(attribute(key) in {**TextTable.model_fields, **FileTable.model_fields} for key in FORMS)
    page = (ROOT / "docs/reference-spec.md").read_text()
    assert all(re.search(rf"^\| `{key}` \|", page, re.MULTILINE) for key in FORMS)
    guide = (ROOT / "docs/expectations.md").read_text()
    assert all(key in guide for key in FORMS)


def test_every_kind_of_mismatch_can_be_told() -> None:
    made: set[str] = set()
    for path in CORE.rglob("*.py"):
        for node in ast.walk(ast.parse(text)) if "Mismatch(" in (text := path.read_text()) else ():
            if isinstance(node, ast.Call) and getattr(node.func, "id", "") == "Mismatch":
                form = next(each.value for each in node.keywords if each.arg == "form")
                values = [form.body, form.orelse] if isinstance(form, ast.IfExp) else [form]
                made |= {
                    each.value for each in values if isinstance(each, ast.Constant) and isinstance(each.value, str)
                }
    said, drawn = set(SENTENCES), set(DRAWN)
    assert len(made) > 30 and said & drawn == {"effect"}
    assert made <= said | drawn
    elsewhere = {"contains", "lacks", "number-of-lines", "size", "timeout", "stop", "cap", "signal", "control", "steady"}
    assert said | drawn <= made | elsewhere, "nothing is said that is never found"


def test_modules_import_no_name_of_a_form_beside_the_registry() -> None:
    """Knowledge of a form stands in its module: nobody else asks what class a form is, but where one has a task of its own."""
    allowed = {"insight", "cli", "runs/keeping/filling.py", "spec/tried.py", "expect/refusals.py", "expect/forms"}
    for path in (ROOT / "src/keen_matrix").rglob("*.py"):
        place = path.relative_to(ROOT / "src/keen_matrix").as_posix().removeprefix("core/")
        if not any(place.startswith(each) for each in allowed):
            found = re.findall(r"isinstance\(\w+, \(?(?:\w+Form)", path.read_text())
            assert not found, place


def test_needs_are_those_of_the_kinds() -> None:
    assert NEEDS["holds"] == ("matches",) and NEEDS["ignore"] == ("json", "json-lines")
    assert set(NEEDS["any-order"]) == {"json", "json-lines", "file", "command"}
    assert "is" in NEEDS["tolerance"] and "contains" not in NEEDS["tolerance"]


A, B = ContainsForm((Template("a"),)), ContainsForm((Template("b"),))


@pytest.mark.parametrize(("form", "met", "unmet", "rule"), [
    (AnyForm((A, B)), ["a", "b", "ab"], ["c", ""], 'contains "a"  or  contains "b"'),
    (AllForm((A, B)), ["ab", "ba"], ["a", "b", ""], 'contains "a" and contains "b"'),
    (NotForm(A), ["b", ""], ["a", "ba"], 'not: contains "a"'),
    (NotForm(AnyForm((IsForm(Template("x")), EmptyForm()))), ["y"], ["x", "x\n", ""], 'not: is "x"  or  is empty'),
])  # fmt: skip
def test_forms_compose(form: Form, met: list[str], unmet: list[str], rule: str) -> None:
    assert [list(form.check(text.encode(), CheckContext())) for text in met] == [[]] * len(met)
    assert all(list(form.check(text.encode(), CheckContext())) for text in unmet)
    assert repr(form) == form.describe() == rule


SPEC = """
[program]
launch = "echo"
[[matrix]]
name = "ports"
line = "{port}"
axes.port = ["Skerry", "Holm", "Voe"]
expect.stdout = { any = ["Skerry", { starts = "{port}", ends = "m" }], not = { contains = "x" } }
"""


def test_composed_forms_in_a_spec(place: Place) -> None:
    place.write("t.matrix.toml", SPEC)
    assert place.call("lint").status == 0
    came = place.call("run")
    verdicts = {case["argv"][0]: case["verdict"] for case in place.cases()}
    assert verdicts == {"Skerry": "passed", "Holm": "passed", "Voe": "failed"}
    assert (
        'expected  is "Skerry"  or  starts with "{port}" and ends with "m"' in came.out and 'found     "Voe' in came.out
    )


@pytest.mark.parametrize(("form", "message"), [
    ("{ any = [] }", "expected at least 1 of them"), ('{ any = "x" }', "expected a list of texts or tables"),
    ("{ not = { baseline = true } }", "a baseline is not allowed inside any, all or not"),
    ('{ any = [{ contains = "{prt}" }] }', '"prt" is neither an axis nor a column here'),
    ('{ all = [{ holds = "a" }] }', '"holds" is given without "matches"'),
    ('{ not = { contins = "x" } }', 'did you mean "contains"?'),
])  # fmt: skip
def test_mistakes_in_composed_forms_are_told_with_their_place(place: Place, form: str, message: str) -> None:
    place.write("t.matrix.toml", re.sub(r"expect\.stdout = .*", lambda _: f"expect.stdout = {form}", SPEC))
    came = place.call("lint")
    assert came.status == 1 and message in came.out and "t.matrix.toml:8:" in came.out, came.out
