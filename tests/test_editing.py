"""Writing never harms: an edit replaces the span of what changes and nothing else, in whatever way a table is written."""

from __future__ import annotations

import csv
import io
import tomllib
from typing import Any

import pytest
from hypothesis import given
from hypothesis import strategies as st

from keen_matrix.core.experiments.edits import (
    AppendEdit,
    KeyEdit,
    MaskEdit,
    RemoveEdit,
    SynopsisEdit,
    ValueEdit,
    edited,
)
from keen_matrix.core.spec.editing import (
    EditFault,
    comment_at,
    toml_text,
    value_at,
    with_item,
    with_items,
    with_value,
    without_key,
)
from tests.conftest import Place

WAYS = {
    "headers": '[program]\nlaunch = "x"   # how\n\n[signature]\nsynopsis = "[-a] A"\n\n[signature.values]\nA = { type = "int" }   # guess; how many\n',
    "dotted": 'program.launch = "x"   # how\nsignature.synopsis = "[-a] A"\nsignature.values.A = { type = "int" }   # guess; how many\n',
    "inline": 'program = { launch = "x" }   # how\nsignature = { synopsis = "[-a] A", values = { A = { type = "int" } } }\n',
    "dotted below a header": '[program]\nlaunch = "x"   # how\n[signature]\nsynopsis = "[-a] A"\nvalues.A.type = "int"\n',
    "quoted": '["program"]\nlaunch = "x"   # how\n["signature"]\n"synopsis" = "[-a] A"\n\'values\'."A" = { type = "int" }\n',
    "without an end": '[program]\nlaunch = "x"   # how\n[signature]\nsynopsis = "[-a] A"\nvalues = { A = { type = "int" } }',
}  # fmt: skip
EDITS = {
    "type": (ValueEdit("A", {"type": "int", "min": 1}, "observed"), ("signature", "values", "A"), {"type": "int", "min": 1}),
    "new type": (ValueEdit("B", {"of": ["x"]}, "observed"), ("signature", "values", "B"), {"of": ["x"]}),
    "key": (KeyEdit(("signature", "reader"), "argparse", "observed"), ("signature", "reader"), "argparse"),
    "table": (KeyEdit(("refusal", "exit"), 2, "observed"), ("refusal", "exit"), 2),
    "deep": (KeyEdit(("refusal", "bad-type", "stderr"), {"empty": False}), ("refusal", "bad-type", "stderr"), {"empty": False}),
    "file": (KeyEdit(("files", "a b.txt"), "x\n"), ("files", "a b.txt"), "x\n"),
    "item": (AppendEdit(("signature", "aside"), "-a", "observed"), ("signature", "aside"), ["-a"]),
    "synopsis": (SynopsisEdit(("[-a] A", "B")), ("signature", "synopsis"), ["[-a] A", "B"]),
    "mask": (MaskEdit("stdout", r"\d+'"), ("mask",), [{"matches": r"\d+'", "as": "<varies>", "in": ["stdout"]}]),
    "gone": (RemoveEdit(("signature", "synopsis")), ("signature", "synopsis"), None),
}  # fmt: skip


@pytest.mark.parametrize("newline", ["\n", "\r\n"])
@pytest.mark.parametrize("edit", EDITS)
@pytest.mark.parametrize("way", WAYS)
def test_every_edit_is_made_in_every_way_of_writing(way: str, edit: str, newline: str) -> None:
    before = WAYS[way].replace("\n", newline)
    change, path, wanted = EDITS[edit]
    after = edited(before, [change])
    assert value_at(after, *path) == wanted
    # all other lines are there to the letter, and no line end is of another kind
    gone = [line for line in before.splitlines() if line and line not in after.splitlines()]
    assert len(gone) <= 1 and after.count("\n") == after.count(newline) and "# how" in after
    assert comment_at(after, "program", "launch") in ("how", "") and value_at(after, "program", "launch") == "x"


ARRAYS = [
    'a = []\n', 'a = [1]\n', 'a = [1,]\n', "a = [\n  1,   # one\n  2\n]\n", "a = [\n  1,\n  2,   # two\n  # end\n]\n", "a = [\n  1 ]\n", 'b = 1\n[t]\na = [1]\n',
]  # fmt: skip


@pytest.mark.parametrize("text", ARRAYS)
def test_an_item_goes_to_the_end_of_an_array_and_comments_stay_with_theirs(text: str) -> None:
    path = ("t", "a") if "[t]" in text else ("a",)
    after = with_item(text, path, "9")
    assert value_at(after, *path) == [*value_at(text, *path), 9]
    assert all(line in after for line in text.splitlines() if "#" in line)
    assert with_items(text, path, ["9", "10", "11"]) == with_item(with_item(after, path, "10"), path, "11"), "several at once are one after another"


def test_what_cannot_be_edited_is_refused_and_nothing_else_changes() -> None:
    with pytest.raises(EditFault, match=r"a\.b is written as a separate table"):
        without_key("[a.b]\nc = 1\n", ("a", "b"))
    with pytest.raises(EditFault):
        with_value("a = 1\n", ("a", "b"), "2")


@given(st.text())
def test_any_text_is_written_so_that_it_is_read_again(text: str) -> None:
    try:
        text.encode()
    except UnicodeEncodeError:
        return
    written = toml_text(text)
    assert tomllib.loads(f"x = {written}")["x"] == text.replace("\r\n", "\r\n")
    assert not any(each in written for each in "\u202e\u2066\u200f\x9b\x07\ufeff")


TABLES = {
    "newline in a cell": 'word,out\n"a\nb",\nc,\n', "quotes": '"word","out"\n"a","<fill>"\n"c","<fill>"\n', "mark": "\ufeffword,out\na,\nc,\n",
    "line ends": "word,out\r\na,\r\nc,\r\n", "other signs": "word;out;note\na;;\"x;y\"\nc;;z\n", "no end": "word,out\na,\nc,",
    "form feed": "word,out,note\na,,\x0cx\nc,,\u2028y\n",
}  # fmt: skip


@pytest.mark.parametrize("name", TABLES)
def test_a_cell_of_a_table_is_filled_and_all_else_stays_to_the_letter(place: Place, name: str) -> None:
    (place.directory / "t.csv").write_bytes(TABLES[name].encode())
    place.write("p.sh", """printf '%s, said' "$1" | tr -d '\\nb'""")
    place.write("t.matrix.toml", """
        [program]
        launch = "sh {here}/p.sh"
        [[matrix]]
        name = "m"
        line = "{word}"
        rows = "t.csv"
        expect.stdout = "{out}"
        """)
    came = place.call("fill", "--write")
    assert came.status == 0, came
    after = (place.directory / "t.csv").read_bytes().decode()

    def rows(text: str) -> list[list[str]]:
        text = text.removeprefix("\ufeff")
        return list(csv.reader(io.StringIO(text, newline=""), delimiter=";" if ";" in text else ","))

    before = rows(TABLES[name])
    assert [row[1] for row in rows(after)[1:]] == ["a, said", "c, said"]
    assert [[*row[:1], *row[2:]] for row in rows(after)] == [[*row[:1], *row[2:]] for row in before]
    assert after.startswith("\ufeff") is TABLES[name].startswith("\ufeff") and ("\r\n" in after) is ("\r\n" in TABLES[name])
    assert ('"word","out"' in after) is (name == "quotes")


def test_what_cannot_be_written_is_told_and_the_rest_is(place: Place) -> None:
    place.write("p.sh", r"""case $1 in a) printf 'x\000y' ;; b) printf '\342\200\256c' ;; *) printf '\377' ;; esac""")
    path = place.write("t.matrix.toml", """
        [program]
        launch = "sh {here}/p.sh"
        [[matrix]]
        name = "m"
        line = "{word}"
        columns = ["word", "out"]
        rows = [["a", "<fill>"], ["b", "<fill>"], ["c", "<fill>"]]
        expect.stdout = "{out}"
        """)
    came = place.call("fill", "--write")
    assert came.status == 1 and "the output is not text" in came.out
    rows: Any = tomllib.loads(path.read_text())["matrix"][0]["rows"]
    assert rows == [["a", "x\0y"], ["b", "\u202ec"], ["c", "<fill>"]] and "\u202e" not in path.read_text()


def test_settling_writes_into_inline_tables_and_keeps_the_mark_and_the_line_ends(place: Place) -> None:
    place.write("p.sh", """
        case $1 in --all) shift ;; -*) echo "fare: unknown $1" >&2; exit 3 ;; esac
        [ $# = 1 ] || { echo "fare: one PORT" >&2; exit 3; }
        echo "$1"
        """)
    path = place.directory / "t.matrix.toml"
    text = '\ufeffprogram = { launch = "sh {here}/p.sh" }   # ours\r\nsignature = { synopsis = "[--all] PORT" }\r\n'
    path.write_bytes(text.encode())
    came = place.call("settle", "--write", "--launches", "200", timeout=120)
    after = path.read_bytes().decode()
    assert came.status == 0 and after.startswith('\ufeffprogram = { launch = "sh {here}/p.sh" }   # ours\r\n'), came
    assert after.count("\n") == after.count("\r\n") and tomllib.loads(after.removeprefix("\ufeff").replace("\r", ""))["refusal"]["exit"] == 3
