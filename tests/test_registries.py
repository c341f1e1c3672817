"""Lists that several parts of the code go by stand in one place each; what is forgotten in one of them is named here."""

from __future__ import annotations

import re
from importlib import import_module
from pathlib import Path
from typing import get_args

import msgspec
import pytest

from keen_matrix import Signature
from keen_matrix.cli import COMMANDS, GROUPS, build_parser
from keen_matrix.core.covering import search
from keen_matrix.core.model.record import LaunchFields, Record
from keen_matrix.core.model.relation import ASPECT_OF, RELATIONS
from keen_matrix.core.signature.families import family_of
from keen_matrix.core.signature.kinds import DEFAULT_FAMILIES, FAMILIES, KINDS, FamilyName
from keen_matrix.core.spec.document.axes import AxisTable
from keen_matrix.core.spec.schema import json_schema
from keen_matrix.core.vectors.axes import SOURCES
from keen_matrix.reports.formats import FORMATS
from tests.conftest import Place

ROOT = Path(__file__).parent.parent
EVERYTHING = Signature.from_synopsis(
    "[-n,--count N] [-a | -b] [--quiet] [--mode MODE] [--level[=LEVEL]] -o OUT FROM TO", {
        "N": {"type": "int", "min": 1, "max": 9}, "MODE": {"of": ["fast", "slow"]},
    }, only_if=["FROM != TO"], repeat="refuse", abbreviations=True,
)  # fmt: skip


def test_every_family_has_its_module_its_row_and_its_line_in_the_guide() -> None:
    assert list(FAMILIES) == list(get_args(FamilyName)) and set(DEFAULT_FAMILIES) < set(FAMILIES)
    modules = {path.stem for path in (ROOT / "src/keen_matrix/core/signature/families").glob("*.py")}
    assert set(FAMILIES) <= modules
    guide = (ROOT / "docs/signature.md").read_text()
    for name in FAMILIES:
        assert callable(import_module(f"keen_matrix.core.signature.families.{name}").vectors)
        assert re.search(rf"^\| `{name}` \|", guide, re.MULTILINE), name
    derive = json_schema()["$defs"]["SignatureTable"]["properties"]["derive"]
    assert set(derive["items"]["enum"]) == set(FAMILIES)


def test_every_kind_of_refusal_is_made_and_told_of() -> None:
    made = {vector.kind for vector in family_of(EVERYTHING, "refusals").vectors}
    judged = {kind for words in (["--mo", "fast"], ["--m"], ["x", "-n"]) for kind in EVERYTHING.judge(words).kinds}
    assert made <= set(KINDS) and judged <= set(KINDS)
    never = set(KINDS) - made
    assert never <= {"ambiguous", "repeated"}, "a family makes vectors of every kind that a signature can always have"
    guide = (ROOT / "docs/signature.md").read_text()
    assert all(kind in guide for kind in KINDS)


def test_every_relation_is_told() -> None:
    from keen_matrix.cli.console.why import RELATIONS as TOLD

    assert set(TOLD) == set(RELATIONS)


def test_every_format_has_its_writer_and_stands_where_formats_are_listed() -> None:
    for name, kind in FORMATS.items():
        module, _, function = kind.writer.partition(":")
        assert callable(getattr(import_module(f"keen_matrix.reports.{module}"), function)), name
        re.compile(kind.mark)
    page = (ROOT / "docs/results.md").read_text()
    assert all(f"`{name}`" in page for name in FORMATS)
    action = next(
        each for each in build_parser("report").commands["report"]._actions if "--format" in each.option_strings
    )
    assert tuple(action.choices or ()) == tuple(FORMATS)


def test_every_source_of_an_axis_is_a_field_of_its_table() -> None:
    keys = {field.alias or name for name, field in AxisTable.model_fields.items()}
    partners = {key for source in SOURCES.values() for key in (*source.needs, *source.takes)}
    assert keys == set(SOURCES) | partners
    assert all(source.field in AxisTable.model_fields for source in SOURCES.values())


def test_libraries_that_end_the_process_when_interrupted_are_imported_in_one_place() -> None:
    for path in (ROOT / "src/keen_matrix").rglob("*.py"):
        if path.name != "structs.py":
            assert not re.search(r"^\s*(from|import) msgspec", path.read_text(), re.MULTILINE), path
    assert callable(search.covering_rows)


def test_a_record_has_what_a_launch_has() -> None:
    launch, record = ({each.name: each for each in msgspec.structs.fields(model)} for model in (LaunchFields, Record))
    assert {name: str(record[name].type) for name in launch} == {name: str(each.type) for name, each in launch.items()}


def test_every_relation_says_what_its_aspect_is_called() -> None:
    assert set(ASPECT_OF) == set(RELATIONS)


def test_every_command_stands_in_one_group_of_the_help() -> None:
    assert sorted(name for names in GROUPS.values() for name in names) == sorted(COMMANDS)
    text = build_parser("").format_help()
    places = [text.index(f"  {title}:") for title in GROUPS]
    assert places == sorted(places)


def test_every_kind_of_remark_has_a_sentence_and_no_sentence_is_left() -> None:
    from keen_matrix.wording.remarks import REMARKS

    text = (ROOT / "src/keen_matrix/core/results/remarks.py").read_text()
    assert set(re.findall(r'Remark\(kind="([a-z-]+)"', text)) == set(REMARKS)


@pytest.mark.parametrize("form", ["junit", "tap", "html", "markdown", "annotations", "terminal"])
def test_every_report_that_people_read_says_what_a_run_remarks(place: Place, form: str) -> None:
    place.write("m.matrix.toml", '[program]\nlaunch = "echo"\n[[mask]]\nmatches = "never there"\nas = "x"\n[[matrix]]\nname = "m"\nline = "a"\nexpect.stdout = "a"\n')
    shown = place.call("run").out
    assert "the mask never there found nothing in the whole run" in shown
    words = () if form == "terminal" else ("--format", form)
    assert "the mask never there found nothing in the whole run" in place.call("report", *words).out
