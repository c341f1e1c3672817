"""Commands that take one spec after another: what is wrong with one, or ends it, leaves the others theirs."""

from __future__ import annotations

import json
import signal
import time

import pytest

from tests.conftest import Place

PROGRAM = """\
test -z "$2" || { touch "$REACHED"; sleep 60; }
case $1 in
  '') echo "an island is missing" >&2; exit 2;;
  -*) echo "no option $1" >&2; exit 2;;
esac
echo "fare of $1"
"""
SPEC = """\
[program]
launch = "sh {here}/fare.sh"
[signature]
synopsis = "ISLAND"
[[matrix]]
name = "fares"
line = "{island}"
columns = ["island", "fare"]
rows = [["Holm", "?"], ["Ry", "?"]]
expect.stdout = "{fare}"
"""


@pytest.fixture
def office(place: Place) -> Place:
    place.write("fare.sh", PROGRAM.replace("$REACHED", f"{place.folder}/reached"))
    place.write("a.matrix.toml", SPEC.replace("line =", "lnie ="))
    place.write("b.matrix.toml", SPEC.replace("sh {here}/fare.sh", "{here}/gone"))
    place.write("c.matrix.toml", SPEC)
    return place


def _await_hanging(office: Place) -> None:
    """Wait until a program hangs."""
    while not (office.folder / "reached").exists():
        time.sleep(0.02)
    time.sleep(1)  # the others come beside it


def test_settling_goes_on_with_the_next_spec(office: Place) -> None:
    came = office.call("settle", "--format", "json", timeout=120)
    assert came.status == 2
    assert [each["spec"] for each in json.loads(came.out)["specs"]] == ["c.matrix.toml"]
    assert 'a.matrix.toml:7:1: unknown key "lnie"' in came.err
    assert "b.matrix.toml: the program cannot be launched:" in came.err


def test_filling_goes_on_with_the_next_spec(office: Place) -> None:
    came = office.call("fill", "--write")
    assert came.status == 2
    assert 'rows = [["Holm", "fare of Holm"], ["Ry", "fare of Ry"]]' in (office.folder / "c.matrix.toml").read_text()
    assert 'a.matrix.toml:7:1: unknown key "lnie"' in came.err and "b.matrix.toml: the program cannot be launched:" in came.err


def test_an_interruption_of_one_spec_ends_settling(office: Place) -> None:
    office.write("a.matrix.toml", SPEC.replace('synopsis = "ISLAND"', 'synopsis = "ISLAND PORT"'))
    process = office.start("settle", "a.matrix.toml", "c.matrix.toml")
    _await_hanging(office)
    process.send_signal(signal.SIGINT)
    out, err = process.communicate(timeout=60)
    assert process.returncode == 130, err.decode()
    assert err.decode().splitlines()[-1] == "keen-matrix: not begun: c.matrix.toml"
    assert b"interrupted" in out + err and b"fault" not in err and b"c.matrix.toml" not in out


def test_an_interruption_keeps_the_cells_that_were_filled_in(office: Place) -> None:
    more = '[[matrix]]\nname = "ports"\nline = "{island} {port}"\ncolumns = ["island", "fare"]\nrows = [["Voe", "?"], ["Sund", "?"]]\n'
    more += 'axes.port = ["", "x"]\nexpect.stdout = "{fare}"\n[[matrix]]\nname = "one"\nline = "Skerry"\nexpect.stdout = "?"\n'
    path = office.write("a.matrix.toml", SPEC + more)
    process = office.start("fill", "--write", "a.matrix.toml", "c.matrix.toml")
    _await_hanging(office)
    process.send_signal(signal.SIGINT)
    out, err = process.communicate(timeout=60)
    assert process.returncode == 130, err.decode()
    text = path.read_text()
    assert '[["Holm", "fare of Holm"], ["Ry", "fare of Ry"]]' in text
    assert '[["Voe", "?"], ["Sund", "?"]]' in text and 'stdout = "?"' in text, "other vectors stand on the same"
    assert "left as it is   interrupted before all that stand on the same had come" in out.decode()
    assert "interrupted: " in out.decode() and err.decode().splitlines()[-1] == "keen-matrix: not begun: c.matrix.toml"
    assert '["Holm", "?"]' in (office.folder / "c.matrix.toml").read_text()
