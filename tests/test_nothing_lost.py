"""Results are never lost or mixed up, reading commands read, and green means green."""

from __future__ import annotations

import json
import os
import re
import shutil
import subprocess
import sys
import time
import xml.etree.ElementTree as ET
from pathlib import Path
from typing import Any

import pytest

from keen_matrix import cli
from keen_matrix.core.errors import ExpressionFault, Misuse, NotationFault, RunFault, SpecFault
from keen_matrix.core.model.identity import file_stem
from keen_matrix.core.results.missing import missing_results
from keen_matrix.core.results.reading import merge_faults
from keen_matrix.core.signature.kinds import FAMILIES
from tests.conftest import COMMAND, SIDE_BY_SIDE, Place, zygote

SPEC = """
    [program]
    launch = "sh -c 'echo $1; test $1 != 3' sh"
    [[matrix]]
    name = "m"
    line = "{n}"
    axes.n = [1, 2, 3, 4]
    expect.exit = 0
    """
JOURNAL = ".keen-matrix/last.jsonl"


@pytest.fixture
def ran(place: Place) -> Place:
    place.write("t.matrix.toml", SPEC)
    assert place.call("run").status == 1
    return place


# --- journals ---


@pytest.mark.parametrize("words", [("--only", "zzz"), ("--budget", "1 ms"), ("--only", "zzz", "--shard", "1/2")])
def test_a_run_that_runs_nothing_leaves_the_last_one(ran: Place, words: tuple[str, ...]) -> None:
    before = (ran.directory / JOURNAL).read_bytes()
    came = ran.call("run", *words)
    assert came.status in (2, 4) and (ran.directory / JOURNAL).read_bytes() == before, came
    assert sorted(os.listdir(ran.directory / ".keen-matrix")) == ["history.sqlite3", "last.jsonl"]


def test_what_matches_nothing_lists_what_there_is(ran: Place) -> None:
    came = ran.call("run", "--only", "mm")
    assert came.err.splitlines()[1] == '  the matrix is "m"; keen-matrix unfold shows the ids' and came.status == 2


def test_resume_skips_only_what_has_a_record(place: Place) -> None:
    place.write("a.matrix.toml", SPEC.replace("echo $1;", "test $1 = 1 || sleep 2;"))
    place.write("b.matrix.toml", SPEC)
    came = place.call("run", "--budget", "1500 ms", "--jobs", "1")
    assert came.status in (1, 4) and "left" in came.out, came
    first = {(each["argv"][0]) for each in place.cases()}
    assert place.journal()[-1]["left"] == 4 - len(first) > 0
    came = place.call("run", "--resume")
    assert came.status == 1 and "8 cases: 6 passed, 2 failed" in came.out, came
    assert place.call("run", "--resume").out.count("3 of 4 passed") == 2
    rows = [json.loads(row) for row in place.call("report", "--format", "json").out.strip("[]\n").split(",\n")]
    assert sorted((row["spec"], row["call"]) for row in rows) == [
        (f"{s}.matrix.toml", n) for s in "ab" for n in "1234"
    ]


def test_one_run_at_a_time_writes_a_journal(place: Place) -> None:
    place.write("t.matrix.toml", SPEC.replace("echo $1;", "sleep 2;"))
    process = place.start("run", "--jobs", "1")
    place.await_programs(process, 1)
    came = place.call("run")
    assert came.status == 3 and f"by another run, the process {process.pid}; wait until it ends" in came.err
    assert "--journal" in came.err and place.call("run", "--journal", "other.jsonl", env=SIDE_BY_SIDE).status == 1
    process.kill()
    process.communicate()
    assert place.call("run", "--only", "1").status == 0, "the lock of a run that was killed is none"
    assert not [each for each in os.listdir(place.directory / ".keen-matrix") if each.startswith(".")]


def test_a_journal_replaces_no_other_file_and_keeps_a_link(ran: Place) -> None:
    before = (ran.directory / "t.matrix.toml").read_bytes()
    came = ran.call("run", "--journal", "t.matrix.toml")
    assert came.status == 3 and "exists and is not a journal" in came.err
    assert (ran.directory / "t.matrix.toml").read_bytes() == before
    (ran.directory / "real").mkdir()
    (ran.directory / "link.jsonl").symlink_to("real/results.jsonl")
    assert ran.call("run", "--journal", "link.jsonl").status == 1
    assert (ran.directory / "link.jsonl").is_symlink() and len(ran.journal("real/results.jsonl")) == 6
    assert ran.call("run", "--journal", "/dev/null", "--brief").status == 1
    os.mkfifo(ran.directory / "pipe")
    assert ran.call("run", "--journal", "pipe", timeout=20).status == 3


def twins(place: Place) -> None:
    """Two directories with the same spec for programs of which the second is to fail."""
    text = SPEC.replace("sh -c 'echo $1; test $1 != 3' sh", "sh {here}/p.sh")
    for directory in "ab":
        place.write(f"{directory}/t.matrix.toml", text)
        place.write(f"{directory}/p.sh", "exit 0")


def test_a_case_is_its_spec_and_its_id(place: Place) -> None:
    twins(place)
    assert place.call("run", "--journal", "before.jsonl").status == 0
    place.write("b/p.sh", "test $1 != 2")
    assert place.call("run", "--journal", "after.jsonl").status == 1
    came = place.call("compare", "before.jsonl", "after.jsonl")
    assert came.status == 1 and "newly failing  1" in came.out and "8 cases in both" in came.out
    id = next(each["id"] for each in place.cases("after.jsonl") if each["verdict"] != "passed")
    came = place.call("replay", id)
    assert came.status == 2 and "a/t.matrix.toml and in b/t.matrix.toml; name the spec" in came.err
    assert place.call("replay", id, "b").status == 1 and place.call("replay", id, "a").status == 0
    again = place.call("run", "--failed", "--journal", "after.jsonl")
    assert again.status == 1 and "1 case: 1 failed" in again.out
    assert f"again: keen-matrix run b/t.matrix.toml {id[:6]}" in again.out
    both = place.call("run")
    assert f"again: keen-matrix run b/t.matrix.toml {id[:6]}" in both.out
    for words in ([id[:6]], [id, "b"], ["b/t.matrix.toml", id[:6], id]):
        assert "1 failed" in place.call("run", *words).out
    assert "no case matches zzzzzz" in place.call("run", "zzzzzz").err
    assert place.call("history", id).out.count("t.matrix.toml") == 2


def test_specs_in_other_directories_are_compared_by_name(place: Place) -> None:
    twins(place)
    assert place.call("run", "a", "--journal", "before.jsonl").status == 0
    place.write("b/p.sh", "test $1 != 2")
    assert place.call("run", "b", "--journal", "after.jsonl").status == 1
    assert "newly failing  1" in place.call("compare", "before.jsonl", "after.jsonl").out


@pytest.mark.parametrize(
    "names", [("a b", "a-b", "a/b"), ("Fares", "fares"), ("é", "e\u0301"), ("x" * 300, "x" * 301), ("-", "--", "..")]
)
def test_no_two_matrices_share_a_file(names: tuple[str, ...]) -> None:
    stems = [file_stem(name) for name in names]
    assert len({stem.casefold() for stem in stems}) == len(stems)
    assert all(re.fullmatch(r"[a-z0-9_][a-z0-9_.-]*", stem) and len(stem) < 100 for stem in stems)


def test_recorded_outputs_of_like_names_stand_apart(place: Place) -> None:
    parts = [
        f'[[matrix]]\nname = "{name}"\nline = "{name}"\nexpect.stdout.baseline = true' for name in ("a b", "a-b", "a/b")
    ]
    place.write("t.matrix.toml", '[program]\nlaunch = "echo"\n' + "\n".join(parts))
    place.call("run")
    assert "3 outputs accepted" in place.call("baseline", "--accept").out
    assert place.call("run").status == 0 and place.call("baseline").status == 0


def test_one_history_whatever_the_journal_is_called(ran: Place) -> None:
    assert ran.call("run", "--journal", "elsewhere/x.jsonl").status == 1
    assert sorted(os.listdir(ran.directory / "elsewhere")) == ["x.jsonl"]
    assert ran.call("history").out.partition("flaky")[0].count("t.matrix.toml") == 2
    for command in (("report",), ("baseline",), ("doubt",), ("suspects",), ("report", "--format", "tap")):
        came = ran.call(*command)
        assert "is in elsewhere/x.jsonl" in came.err, (command, came)
        assert command[-1] == "tap" or f"in {JOURNAL}" in came.out
    assert ran.call("report", "elsewhere/x.jsonl").err == ""


def test_a_merge_says_what_is_missing(ran: Place) -> None:
    for part in "123":
        ran.call("run", "--shard", f"{part}/3", "--journal", f"{part}.jsonl")
    there = [each for each in ("1.jsonl", "2.jsonl", "3.jsonl") if (ran.directory / each).exists()]
    whole = ran.call("report", *there, "--format", "junit")
    came = ran.call("report", *there[:-1], there[0], "--format", "junit")
    assert came.status == 1 and "missing" in came.err, came
    assert (whole.status, whole.err) == (0, "") or len(there) < 3
    assert ran.call("report", there[0], "--format", "junit").status == 0, "a part by itself is no merge"


def test_what_a_merge_finds(tmp_path: Path) -> None:
    def journal(name: str, *lines: dict[str, Any]) -> str:
        (tmp_path / name).write_text("".join(json.dumps(each, separators=(",", ":")) + "\n" for each in lines))
        return str(tmp_path / name)

    def part(shard: str, digest: str = "d") -> dict[str, Any]:
        return {"journal": 1, "spec": "t", "started": "", "spec_digest": digest, "shard": shard}

    end = {"finished": "x", "counts": {}}
    one, two = journal("1", part("1/3"), end), journal("2", part("2/3"), {**end, "interrupted": True})
    assert [each.sentence for each in missing_results([one, two])] == [
        "some cases of t have no result: the run was interrupted; keen-matrix run --resume goes on with it"]
    assert merge_faults([one, two]) == ["of the 3 parts of t, part 3 is missing"]
    assert merge_faults([journal("3", part("1/1"), end)]) == []
    assert (
        merge_faults([one, journal("4", part("1/2", "other"), end)])[-1]
        == "the journals have runs of different versions of t"
    )
    assert "come from different divisions, into 2 and 3" in merge_faults([one, str(tmp_path / "4")])[0]


def test_cases_that_share_the_directory_of_the_spec_run_one_at_a_time(place: Place) -> None:
    place.write("p.sh", "mkdir busy || exit 9; sleep 0.05; rmdir busy")
    place.write("t.matrix.toml", SPEC.replace("sh -c 'echo $1; test $1 != 3' sh", "sh {here}/p.sh").replace(
        "[[matrix]]", 'directory = "spec"\n    [[matrix]]', 1))  # fmt: skip
    assert place.call("run", "--jobs", "4").status == 0


# --- files that are written ---


@pytest.mark.parametrize("command", [("report", "--format", "tap", "-o"), ("run", "--brief", "--report")])
def test_a_report_goes_into_what_is_there_and_replaces_nothing_else(ran: Place, command: tuple[str, ...]) -> None:
    def write(target: str) -> tuple[int, str]:
        came = ran.call(*command, f"tap={target}" if command[0] == "run" else target, timeout=20)
        return came.status, came.out + came.err

    status = 1 if command[0] == "run" else 0
    link, real = ran.directory / "link.tap", ran.directory / "real.tap"
    link.symlink_to(real)
    assert write("link.tap")[0] == status and link.is_symlink() and real.read_text().startswith("TAP version 14")
    real.chmod(0o640)
    assert write("real.tap")[0] == status and real.stat().st_mode & 0o777 == 0o640
    before = os.stat("/dev/stdout", follow_symlinks=False).st_ino if os.path.islink("/dev/stdout") else 0
    code, text = write("/dev/stdout")
    assert code == status and "TAP version 14\n" in text
    assert not before or os.stat("/dev/stdout", follow_symlinks=False).st_ino == before
    assert write("/dev/null")[0] == status and not os.path.isfile("/dev/null")
    os.mkfifo(ran.directory / "pipe")
    reader = subprocess.Popen(["cat", str(ran.directory / "pipe")], stdout=subprocess.PIPE)
    time.sleep(0.2)
    assert write("pipe")[0] == status and reader.communicate()[0].startswith(b"TAP version 14")
    assert write("pipe")[0] == 3, "nobody reads it"
    for name in ("t.matrix.toml", "fare.py", JOURNAL):
        (ran.directory / name).touch()
        kept = (ran.directory / name).read_bytes() or b"print('mine')\n"
        (ran.directory / name).write_bytes(kept)
        code, text = write(name)
        if name != JOURNAL or command[0] == "report":
            assert code == 3 and "not an earlier report" in text and (ran.directory / name).read_bytes() == kept, (
                name,
                text,
            )
    assert not [each for each in os.listdir(ran.directory) if each.endswith(".new") or each.startswith(".real")]


def test_a_script_replaces_an_earlier_one_and_nothing_else(ran: Place) -> None:
    id = ran.cases()[0]["id"]
    assert [ran.call("replay", id, "--script", "again.sh").status for _ in range(2)] == [0, 0]
    for name in ("t.matrix.toml", "p.sh"):
        (ran.directory / "p.sh").write_text("echo mine\n")
        before = (ran.directory / name).read_bytes()
        came = ran.call("replay", id, "--script", name)
        assert came.status == 3 and "not an earlier script" in came.err and (ran.directory / name).read_bytes() == before


def test_the_lines_of_the_page_on_ci_work(ran: Place) -> None:
    page = (Path(__file__).parent.parent / "docs/in-ci.md").read_text()
    blocks = re.findall(r"```(?:sh|yaml)\n(.*?)```", page, re.DOTALL)
    lines = [
        found for block in blocks for found in re.findall(r"(?:^|- (?:run: )?)\s*(keen-matrix .*)", block, re.MULTILINE)
    ]
    assert len(lines) >= 7
    ran.call("run", "--journal", "before.jsonl")
    path = f"{zygote().bin}:{os.environ['PATH']}"
    for line in lines:
        line = line.replace("${{ matrix.part }}", "1").replace("$CI_NODE_INDEX", "2").replace("$CI_NODE_TOTAL", "4")
        done = subprocess.run(
            ["sh", "-c", line], cwd=ran.directory, env={**os.environ, "PATH": path}, capture_output=True, text=True
        )
        assert done.returncode in (0, 1) and "Traceback" not in done.stderr, (line, done)
        if "annotations=/dev/stdout" in line and "3" in done.stdout:
            assert done.returncode == 0 or "::error file=t.matrix.toml" in done.stdout, (line, done)


# --- nothing runs that should not ---


@pytest.mark.parametrize("command", [
    ("lint",), ("unfold",), ("unfold", "--count"), ("coverage",), ("suspects",), ("baseline",), ("report",), ("doubt",),
    ("report", "--format", "html", "-o", "r.html"), ("report", "--format", "picture", "-o", "r.png"), ("compare", JOURNAL, JOURNAL),
    ("history",),
])  # fmt: skip
def test_reading_commands_execute_nothing(place: Place, command: tuple[str, ...]) -> None:
    place.write("oracle.py", "def price(n):\n    return n\n")
    place.write(
        "t.matrix.toml",
        """
        [program]
        launch = "echo"
        oracle = "oracle.py"
        [signature]
        synopsis = "N"
        values.N = { type = "int", min = 1, max = 9 }
        [expect]
        exit = 0
        [[matrix]]
        name = "m"
        line = "{n}"
        axes.n = [1, 2]
        expect.stdout = "{price(n)}"
        [[matrix]]
        name = "other"
        line = "{n}"
        axes.n = [3, 4]
        expect.stdout.command = "sh {here}/other.sh {n}"
        """,
    )
    place.write("other.sh", "echo $1")
    assert place.call("run").status in (0, 1)
    place.write("oracle.py", "import os\nopen('executed', 'w')\n\ndef price(n):\n    return n\n")
    place.write("other.sh", "touch executed; echo $1")
    came = place.call(*command)
    assert came.status in (0, 1) and "Traceback" not in came.err, came
    assert command[0] == "doubt" or not (place.directory / "executed").exists()


def test_unfold_says_that_it_runs_an_oracle_and_coverage_leaves_it(place: Place) -> None:
    place.write("oracle.py", "open('executed', 'w')\ndef odd(n):\n    return n % 2\n")
    place.write("t.matrix.toml", SPEC.replace("[[matrix]]", 'oracle = "oracle.py"\n    [[matrix]]', 1).replace(
        "axes.n", 'only-if = ["odd(n)"]\n    axes.n'))  # fmt: skip
    assert place.call("lint").status == 0 and not (place.directory / "executed").exists()
    came = place.call("coverage", "--fail-under", "10")
    assert came.status == 1 and "depend on the oracle file oracle.py, and this command runs nothing" in came.out
    assert not (place.directory / "executed").exists()
    came = place.call("unfold", "--format", "json")
    assert "the cases depend on the oracle file oracle.py, which is run" in came.err and came.out.count("\n") == 2
    assert (place.directory / "executed").exists()
    for text, told in (
        ("def odd(n:\n", "is not valid Python (line 1)"),
        ("def even(n):\n    return 1\n", 'unknown function "odd"'),
    ):
        place.write("oracle.py", text)
        assert told in place.call("lint").out


# --- green means green ---


@pytest.mark.parametrize(("printed", "expect", "passed"), [
    ("printf 'x\\n'", '"x"', True), ("printf x", '"x"', True), ("printf x", '"x\\n"', False), ("printf 'x\\n'", '"x\\n"', True),
    ("printf 'x\\n\\n'", '"x\\n"', False), ("printf 'x\\n\\n'", '"x"', False), ("printf x", '{ ends = "x\\n" }', False),
    ("printf 'x\\n'", '{ ends = "x" }', True), ("printf x", '{ file = "x.txt" }', False), ("printf 'x\\n'", '{ file = "x.txt" }', True),
    ("printf x", '{ command = "echo x" }', False), ("printf 'x\\n'", '{ is = "{word}\\n" }', True),
    ("printf x", '{ is = "x\\n", tolerance = 0.1 }', False), ("printf x", '"""\nx\n"""', False),
])  # fmt: skip
def test_a_final_newline_that_is_written_is_meant(place: Place, printed: str, expect: str, passed: bool) -> None:
    place.write("x.txt", "x\n")
    (place.directory / "p.sh").write_text(printed + "\n")
    (place.directory / "t.matrix.toml").write_text(
        f'[program]\nlaunch = "sh {{here}}/p.sh"\n[[matrix]]\nname = "m"\nline = "x"\naxes.word = ["x"]\nexpect.stdout = {expect}\n'
    )
    came = place.call("run")
    assert came.status == (0 if passed else 1), came
    assert passed or ("newline at the end" in came.out) or "differs in" in came.out or "to end with" in came.out


def test_one_spec_that_cannot_be_run_ends_no_other(place: Place) -> None:
    place.write("a.matrix.toml", SPEC.replace("axes.n", "axis.n"))
    place.write("b.matrix.toml", SPEC.replace("[[matrix]]", 'build = "false"\n    [[matrix]]', 1))
    place.write("c.matrix.toml", SPEC.replace("sh -c 'echo $1; test $1 != 3' sh", "no-such-program"))
    place.write("d.matrix.toml", SPEC.replace("sh -c 'echo $1; test $1 != 3' sh", "sh {here}/gone.sh"))
    place.write("e.matrix.toml", SPEC)
    place.write("f.matrix.toml", SPEC.replace("expect.exit = 0", 'expect.exit = "{n.upper()}"'))
    came = place.call("run", "--report", "junit=r.xml", "--report", "tap=r.tap")
    assert came.status == 2 and "4 cases: 3 passed, 1 failed" in came.out
    for told in (
        "axis",
        "the build ended",
        "no-such-program",
        "gone.sh does not exist",
        "in every case that was tried",
    ):
        assert came.err.count(told) >= 1, (told, came.err)
    root = ET.parse(place.directory / "r.xml").getroot()
    assert (root.get("tests"), root.get("errors"), root.get("failures")) == ("9", "5", "1")
    assert "1..9\n" in (place.directory / "r.tap").read_text()
    assert place.call("report", "--format", "markdown").out.count("could not be run") == 5
    assert place.call("run", "c.matrix.toml").status == 3 and place.call("run", "e.matrix.toml").status == 1
    assert place.call("run", "--only", "1", "e.matrix.toml").status == 0


def test_a_family_without_vectors_stops_nothing(place: Place) -> None:
    place.write(
        "t.matrix.toml",
        """
        [program]
        launch = "echo"
        [signature]
        synopsis = "[WORD...]"
        help = []
        derive = ["help", "launchers", "effects"]
        [[matrix]]
        name = "m"
        line = "a"
        expect.exit = 0
        """,
    )
    came = place.call("run")
    assert came.status == 0 and "1 case: all passed" in came.out, came


def test_nothing_to_doubt_or_reach_is_no_success(place: Place) -> None:
    place.write("t.matrix.toml", SPEC.replace("[1, 2, 3, 4]", "[3]"))
    assert place.call("run").status == 1
    came = place.call("doubt", "--fail-under", "1")
    assert came.status == 1 and "no case passed, so nothing was altered" in came.out
    came = place.call("coverage", "--fail-under", "1")
    assert came.status == 1 and "nothing to measure" in came.out
    came = place.call("baseline")
    assert came.status == 0 and "no expectation records outputs" in came.out


@pytest.mark.parametrize(("change", "told"), [
    ("rm -f old.txt; ln -s x old.txt", "expected  no such file | found     a link to x"),
    (": > new.txt", "expected  no such file | found     an empty file"),
    ("chmod 600 kept.txt", "expected  mode 644 as before | found     mode 600"),
    ("echo more >> kept.txt", "expected  the same as before the launch"),
])  # fmt: skip
def test_a_file_that_is_not_as_expected_is_told_as_it_is(place: Place, change: str, told: str) -> None:
    place.write("p.sh", change)
    place.write(
        "t.matrix.toml",
        """
        [program]
        launch = "sh {here}/p.sh"
        [[matrix]]
        name = "m"
        line = "x"
        files."kept.txt" = { text = "kept", mode = "644" }
        expect.files."new.txt".absent = true
        expect.files."old.txt".absent = true
        expect.files."kept.txt".unchanged = true
        """,
    )
    out = place.call("run").out
    at = 0
    for part in told.split(" | "):
        assert part in out[at:], out
        at = out.index(part, at)


def test_lines_in_any_order_against_nothing_and_a_grid_of_one_axis(place: Place) -> None:
    place.write(
        "t.matrix.toml",
        SPEC.replace("expect.exit = 0", 'expect.stdout.lines-any-order = ["", "x"]').replace("echo $1;", ":;"),
    )
    came = place.call("run", "--by", "n")
    assert "2 missing, none not expected" in came.out and "missing       (an empty line)" in came.out
    assert re.search(r"across n\n\s+1 +2 +3 +4\n\s+\S+ +\S", came.out), came.out


EXAMPLES = Path(__file__).parent.parent / "examples"
RELATIONS = """
    [program]
    launch = "sh {here}/p.sh"
    launchers.again = "sh {here}/p.sh"
    [reference]
    launch = "sh {here}/p.sh"
    [signature]
    synopsis = "[-v] [-n N] WORD"
    values.N = { type = "int", min = 1, max = 9 }
    help = []
    derive = ["help", "accepted", "refusals", "rephrasings", "effects", "again", "renamed", "launchers", "elsewhere"]
    [[matrix]]
    name = "plain"
    line = "a"
    expect.exit = 0
    [[matrix]]
    name = "alike"
    line = "a"
    expect.alike = { again = true }
    [[matrix]]
    name = "differs"
    line = "a"
    expect.differs = { line = "b" }
    [[matrix]]
    name = "steps"
    steps = [{ line = "a" }, { line = "b" }]
    expect.exit = 0
    """


def test_why_and_replay_know_every_kind_of_relation(place: Place) -> None:
    place.write("p.sh", 'echo "$0" "$@"')
    place.write("t.matrix.toml", RELATIONS)
    place.call("run")
    relations: dict[str, str] = {}
    for each in place.cases():
        relations.setdefault(f"{each['matrix']} {each.get('relation')}", each["id"])
    assert {each.split()[-1] for each in relations} >= {"alike", "differs", "renamed", "reference"}
    assert {each.split()[0] for each in relations} >= set(FAMILIES) - {"help"}
    place.write("t.matrix.toml", RELATIONS.replace("[reference]", "[reference]\n    only-accepted = true"))
    for id in relations.values():
        for command in (("unfold", "--why", id), ("replay", id)):
            came = place.call(*command)
            assert came.status in (0, 1) and came.err == "", (command, came)


@pytest.mark.parametrize("name", sorted(each.name for each in EXAMPLES.glob("*.matrix.toml")))
def test_every_command_takes_every_example(place: Place, name: str) -> None:
    for each in filter(Path.is_file, EXAMPLES.iterdir()):
        (place.directory / each.name).write_bytes(each.read_bytes())
    place.call("run", name, "--journal", JOURNAL)
    id = place.cases()[0]["id"]
    for words in (["lint"], ["unfold"], ["unfold", "--count"], ["unfold", "--format", "shell"], ["unfold", "--why", id],
                  ["coverage"], ["suspects"], ["doubt"], ["replay", id]):  # fmt: skip
        came = place.call(*words, name)
        assert came.status in (0, 1) and "fault in Keen Matrix" not in came.err, (words, came)


@pytest.mark.parametrize("raised", [
    SpecFault([]), Misuse(""), Misuse("m"), RunFault(""), NotationFault("m", "text", 1), ExpressionFault("a", "b"), OSError(28, "full"),
    ValueError("x"), KeyError("reference"), RecursionError(), KeyboardInterrupt(), MemoryError(), UnicodeEncodeError("utf-8", "x", 0, 1, "r"),
])  # fmt: skip
def test_no_way_out_is_without_a_message(
    raised: BaseException, monkeypatch: pytest.MonkeyPatch, capsys: pytest.CaptureFixture[str], tmp_path: Path
) -> None:
    import keen_matrix.cli.schema as command

    def main(_: object) -> int:
        raise raised

    monkeypatch.setattr(command, "main", main)
    monkeypatch.setattr("keen_matrix.core.interruption._heard", [])
    monkeypatch.chdir(tmp_path)
    status = cli.main(["schema"])
    err = capsys.readouterr().err
    assert status in (2, 3, 130) and len(err.strip()) > 10 and "Traceback" not in err


@pytest.mark.skipif(not shutil.which("flock"), reason="needs flock(1) of util-linux")
def test_a_lock_whose_owner_is_gone_is_awaited_for_a_moment(place: Place) -> None:
    place.write("t.matrix.toml", SPEC)
    (place.directory / ".keen-matrix").mkdir()
    lock = place.directory / ".keen-matrix/.last.jsonl.lock"
    gone = subprocess.Popen(["true"])
    gone.wait()
    lock.write_text(f"{gone.pid}\n")
    holder = subprocess.Popen(["flock", str(lock), "sleep", "0.7"])
    for _ in range(100):
        if subprocess.run(["flock", "--nonblock", str(lock), "true"]).returncode:
            break
    assert place.call("run").status == 1
    holder.wait()


REMOVING = """[program]
launch = "sh {here}/p.sh {here}"
[[matrix]]
name = "m"
line = "{n}"
axes.n = [1, 2, 3, 4, 5, 6]
expect = { exit = 0, stdout = "ok" }
"""


@pytest.mark.parametrize("does", ["", 'mkdir "$1/.keen-matrix"', 'echo mine > "$1/.keen-matrix"', 'mv "$1/other" "$1/.keen-matrix"'])
def test_a_program_that_removes_the_results_loses_none(place: Place, does: str) -> None:
    place.write("p.sh", f'rm -rf "$1/.keen-matrix"; {does}\necho ok')
    place.write("t.matrix.toml", REMOVING)
    (place.directory / "other").mkdir()
    (place.directory / "other/last.jsonl").write_text("none of ours\n")
    temporary = place.directory / "tmp"
    temporary.mkdir()
    came = place.call("run", "--jobs", "1", env={"TMPDIR": str(temporary)})
    assert came.status == 0 and "6 cases: all passed" in came.out and "was removed during the run" in came.err
    elsewhere = [*temporary.glob("*.jsonl")]
    # On a busy machine the directory may be gone at any moment, and then it is written elsewhere as well.
    assert len(elsewhere) == 1 if "mine" in does else len(elsewhere) <= 1
    report = place.call("report", "--format", "json", *map(str, elsewhere or [".keen-matrix/last.jsonl"]))
    assert report.status == 0 and report.out.count('"verdict": "passed"') == 6


ON_FULL_DISK = """
import resource, sys
from keen_matrix.core.results.locks import FileLock
resource.setrlimit(resource.RLIMIT_FSIZE, (0, 0))  # no file may have a byte more
try:
    FileLock(sys.argv[1])
except OSError as error:
    print(error.strerror)
"""


def test_a_full_disk_leaves_no_lock(tmp_path: Path) -> None:
    done = subprocess.run([sys.executable, "-c", ON_FULL_DISK, str(tmp_path / "last.jsonl")], capture_output=True, text=True, timeout=60)
    assert done.stdout == "File too large\n" and not [*tmp_path.iterdir()]


def test_without_standard_input_and_where_text_is_ascii_nothing_of_ours_fails(place: Place) -> None:
    place.write("t.matrix.toml", '[program]\nlaunch = "true"\n[[matrix]]\nname = "m"\nline = ""\nexpect.exit = 0\n')
    closed = subprocess.run(["sh", "-c", '"$0" try t.matrix.toml <&-', COMMAND], cwd=place.directory, capture_output=True, text=True, timeout=60)
    assert closed.returncode == 2 and "needs the words of a call" in closed.stderr
    plain = {"LC_ALL": "C", "PYTHONUTF8": "0", "PYTHONCOERCECLOCALE": "0", "PYTHONIOENCODING": "ascii"}
    came = place.call("schema", env=plain, anew=True)
    assert came.status == 0 and json.loads(came.out)["type"] == "object"


def test_a_cell_may_be_as_large_as_its_file(place: Place) -> None:
    place.write("large.csv", "a\n" + "x" * 300_000 + "\n")
    place.write("t.matrix.toml", '[program]\nlaunch = "cat"\n[[matrix]]\nname = "m"\nline = ""\nrows.file = "large.csv"\nstdin = "{a}"\nexpect.stdout.size = 300000\n'.replace("size = 300000", 'matches = "^x+$"'))
    assert "1 case: all passed" in place.call("run").out
