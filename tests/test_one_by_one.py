"""Commands that take one spec after another: what is wrong with one, or ends it, leaves the others theirs."""

from __future__ import annotations

import json
import signal
import time

import pytest

from tests.conftest import SIDE_BY_SIDE, Place

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
rows = [["Holm", "<fill>"], ["Ry", "<fill>"]]
expect.stdout = "{fare}"
"""


@pytest.fixture
def office(place: Place) -> Place:
    place.write("fare.sh", PROGRAM.replace("$REACHED", f"{place.directory}/reached"))
    place.write("a.matrix.toml", SPEC.replace("line =", "lnie ="))
    place.write("b.matrix.toml", SPEC.replace("sh {here}/fare.sh", "{here}/gone"))
    place.write("c.matrix.toml", SPEC)
    return place


def _await_hanging(office: Place) -> None:
    """Wait until a program hangs."""
    while not (office.directory / "reached").exists():
        time.sleep(0.02)
    time.sleep(1)  # the others come beside it


def test_settling_goes_on_with_the_next_spec(office: Place) -> None:
    came = office.call("settle", "--format", "json", timeout=120, env=SIDE_BY_SIDE)
    assert came.status == 2
    assert [each["spec"] for each in json.loads(came.out)["specs"]] == ["c.matrix.toml"]
    assert 'a.matrix.toml:7:1: unknown key "lnie"' in came.err
    assert "b.matrix.toml: the program cannot be launched:" in came.err


def test_filling_goes_on_with_the_next_spec(office: Place) -> None:
    came = office.call("fill", "--write")
    assert came.status == 2
    assert 'rows = [["Holm", "fare of Holm"], ["Ry", "fare of Ry"]]' in (office.directory / "c.matrix.toml").read_text()
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
    more = '[[matrix]]\nname = "ports"\nline = "{island} {port}"\ncolumns = ["island", "fare"]\nrows = [["Voe", "<fill>"], ["Sund", "<fill>"]]\n'
    more += 'axes.port = ["", "x"]\nexpect.stdout = "{fare}"\n[[matrix]]\nname = "one"\nline = "Skerry"\nexpect.stdout = "<fill>"\n'
    path = office.write("a.matrix.toml", SPEC + more)
    process = office.start("fill", "--write", "a.matrix.toml", "c.matrix.toml")
    _await_hanging(office)
    process.send_signal(signal.SIGINT)
    out, err = process.communicate(timeout=60)
    assert process.returncode == 130, err.decode()
    text = path.read_text()
    assert '[["Holm", "fare of Holm"], ["Ry", "fare of Ry"]]' in text
    assert '[["Voe", "<fill>"], ["Sund", "<fill>"]]' in text and 'stdout = "<fill>"' in text, "other vectors stand on the same"
    assert "left as it is   interrupted before every case that shares this value had finished" in out.decode()
    assert "interrupted: " in out.decode() and err.decode().splitlines()[-1] == "keen-matrix: not begun: c.matrix.toml"
    assert '["Holm", "<fill>"]' in (office.directory / "c.matrix.toml").read_text()


LINES = """\
import os, sys, time
if os.path.exists("HERE/slow") and not os.path.exists("HERE/first"):
    open("HERE/first", "w").close()
elif os.path.exists("HERE/slow"):
    time.sleep(60 if sys.argv[1:] == ["Sund", "night"] else 0)
if sys.argv[2] == "night" and sys.argv[1] == "Voe":
    print("no ferry")
    sys.exit(1)
print("ferry")
"""
RUN = """\
[program]
launch = "python3 {here}/lines.py"
warm = false
[[matrix]]
name = "ferries"
line = "{island} {time}"
axes.island = ["Voe", "Holm", "Sund"]
axes.time = ["day", "night"]
expect.exit = 0
"""


@pytest.fixture
def ran(place: Place) -> Place:
    place.write("lines.py", LINES.replace("HERE", str(place.directory)))
    for name in ("a", "b"):
        place.write(f"{name}.matrix.toml", RUN)
    assert place.call("run").status == 1
    return place


@pytest.mark.parametrize(("words", "key"), [("places", "specs"), ("narrow", "cases")])
def test_what_looks_at_a_run_goes_on_with_the_next_spec(ran: Place, words: str, key: str) -> None:
    ran.write("a.matrix.toml", RUN.replace("python3 {here}/lines.py", "{here}/gone"))
    came = ran.call(words, "--format", "json")
    assert came.status == 3 and "a.matrix.toml: the program cannot be launched:" in came.err
    assert [each["spec"] for each in json.loads(came.out)[key]] == ["b.matrix.toml"]


def test_an_interruption_keeps_the_lines_that_were_told(ran: Place) -> None:
    (ran.directory / "slow").touch()
    process = ran.start("places")
    ran.await_programs(process, 1)
    while not (ran.directory / "first").exists():
        time.sleep(0.02)
    time.sleep(2)
    process.send_signal(signal.SIGINT)
    out, err = process.communicate(timeout=60)
    assert process.returncode == 130, err.decode()
    told = out.decode()
    assert "traced 1 that failed and 4 that passed" in told
    assert "1 case not launched (interrupted)" in told and "lines.py:7" in told
    assert "reaches" not in told, "of some vectors alone it cannot be said what none reaches"
    assert err.decode().splitlines()[-1] == "keen-matrix: not begun: b.matrix.toml"
