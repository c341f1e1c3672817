"""What several specs, or all cases of one, share: files that are included, a project file, steps of other programs, directories,
ports, servers."""

from __future__ import annotations

import os
import subprocess
import sys
from pathlib import Path

import pytest

from tests.conftest import Place

SHOP = '[program]\nlaunch = "sh {here}/shop.sh"\ntimeout = 7\n[expect]\nstderr = ""\n[[matrix]]\nname = "shared"\nline = "a"\nexpect.exit = 0\n'
OWN = 'include = "../shop.toml"\n[expect]\nexit = 3\n[[matrix]]\nname = "own"\nline = "b"\nexpect.stdout = "x"\n'


@pytest.fixture
def shop(place: Place) -> Place:
    place.write("shop.toml", SHOP)
    place.write("sub/shop.sh", 'echo "$1"\n')
    place.write("sub/s.matrix.toml", OWN)
    return place


def test_a_spec_is_what_it_includes_and_its_own_keys_win(shop: Place) -> None:
    out = shop.call("run").out
    assert "= shared  1 passed" in out
    assert "exit        expected  3" in out and "s.matrix.toml:3" in out
    shop.write("shop.sh", 'echo "$1" >&2\n')
    shop.write("sub/shop.sh", 'echo "$1" >&2\n')
    assert "shop.toml:5" in shop.call("run").out, "a rule is told where it is written"
    shown = shop.call("lint", "--effective").out.splitlines()
    assert any(line.startswith("timeout = 7") and line.endswith("# shop.toml:3") for line in shown)
    assert any(line.startswith("expect.exit = 0") and line.endswith("# shop.toml:9") for line in shown)
    assert any(line.startswith("exit = 3") and line.endswith("# s.matrix.toml:3") for line in shown)


def test_a_changed_file_that_is_included_is_read_anew(shop: Place) -> None:
    (shop.directory / "sub/s.matrix.toml").write_text('include = "../shop.toml"\n')
    for path in (shop.directory / "shop.toml", shop.directory / "sub/s.matrix.toml", shop.directory):
        os.utime(path, (1, 1))  # old enough to be kept
    assert shop.call("run").status == 0
    (shop.directory / "shop.toml").write_text(SHOP.replace("exit = 0", "exit = 1"))
    assert shop.call("run").status == 1


@pytest.mark.parametrize(("file", "old", "new", "told"), [
    ("shop.toml", 'line = "a"', 'line = "{prt}"', "shop.toml:8:10: \"prt\" is neither an axis nor a column here"),
    ("sub/s.matrix.toml", 'line = "b"', 'line = "{prt}"', "sub/s.matrix.toml:6:10: \"prt\" is neither"),
    ("shop.toml", "timeout = 7", "tiemout = 7", 'shop.toml:3:1: unknown key "tiemout" in [program]'),
    ("shop.toml", "[expect]", "[expect", "shop.toml:4:"),
    ("shop.toml", "[program]", 'include = ["sub/s.matrix.toml"]\n[program]', "includes itself: s.matrix.toml → shop.toml → s.matrix.toml"),
    ("sub/s.matrix.toml", "shop.toml", "shp.toml", 'did you mean "../shop.toml"?'),
    ("sub/s.matrix.toml", '"../shop.toml"', "[1]", "include"),
    ("sub/s.matrix.toml", 'name = "own"', 'name = "shared"', "two matrices are named"),
])  # fmt: skip
def test_what_is_wrong_is_placed_in_the_file_that_it_is_in(shop: Place, file: str, old: str, new: str, told: str) -> None:
    path = shop.directory / file
    path.write_text(path.read_text().replace(old, new))
    came = shop.call("lint")
    assert came.status == 1 and told in came.out, came.out


@pytest.mark.parametrize(("name", "head"), [("keen-matrix.toml", ""), ("pyproject.toml", "tool.keen-matrix.")])
def test_a_project_file_gives_defaults(shop: Place, name: str, head: str) -> None:
    run = f'[{head}run]\njobs = 1\nreports = ["tap=out.tap"]\n'
    shop.write(name, f'[{head}program]\nenv.TARIFF = "winter"\ntimeout = 3\n[{head}refusal]\nexit = 2\n{run}')
    shop.write("sub/shop.sh", 'echo "$TARIFF"\n')
    out = shop.call("run").out
    assert 'found     "winter"' in out and "1 job" in out
    assert (shop.directory / "out.tap").read_text().startswith("TAP version 14")
    assert "2 jobs" in shop.call("run", "--jobs", "2").out
    shown = shop.call("lint", "--effective").out
    assert 'env.TARIFF = "winter"' in shown and f"# {name}:2" in shown
    assert "timeout = 7" in shown and "refusal" not in shown  # of a signature that is not there
    path = shop.directory / name
    path.write_text(path.read_text().replace("jobs = 1", "jbos = 1"))
    for command in ("run", "lint"):
        came = shop.call(command)
        assert came.status == (2 if command == "run" else 1) and f'{name}:7:1: unknown key "jbos" in [run]' in came.out + came.err


STEPS = """
[program]
launch = "sh {here}/book.sh"
[[matrix]]
name = "booked"
axes.port = ["Skerry", "Holm"]
steps = [
  { launch = "cp {here}/old.txt tickets.txt" },
  { line = "{port}" },
  { launch = ["grep", "-c", "{port}", "tickets.txt"], expect.stdout = "2\\n" },
]
expect.stdout = "booked {port}\\n"
[[matrix]]
name = "unprepared"
steps = [{ launch = "sh -c 'echo no store >&2; exit 3'" }, { line = "Holm" }]
expect.exit = 0
[[matrix]]
name = "refused"
steps = [{ launch = "sh -c 'exit 3'", expect.exit = 3 }, { line = "Holm" }]
expect.exit = 0
[[matrix]]
name = "gone"
steps = [{ launch = "no-such-program x" }, { line = "Holm" }]
expect.exit = 0
"""


def test_steps_start_other_programs(place: Place) -> None:
    place.write("book.sh", 'echo "$1" >> tickets.txt; echo "booked $1"\n')
    place.write("old.txt", "Skerry\nHolm\n")
    place.write("s.matrix.toml", STEPS)
    came = place.call("run")
    verdicts = {each["matrix"]: each["verdict"] for each in place.cases()}
    assert verdicts == {"booked": "passed", "unprepared": "not-started", "refused": "passed", "gone": "not-started"}, came.out
    assert "it was not: the step sh -c 'echo no store >&2; exit 3' exited with 3: no store" in came.out
    assert 'no program "no-such-program" was found in PATH' in came.out
    id = next(each["id"] for each in place.cases() if each["matrix"] == "booked")
    assert place.call("replay", id, "--script", "again.sh").status == 0
    ran = subprocess.run(["sh", "again.sh"], cwd=place.directory, capture_output=True, text=True)
    assert ran.stdout.endswith("\n2\n") and "booked" in ran.stdout, ran


def test_a_step_is_words_of_the_program_or_another_program(place: Place) -> None:
    for step in ("{}", '{ line = "a", launch = "b" }', "{ launch = '' }", "{ launch = '{prt}' }"):
        place.write("s.matrix.toml", f'[program]\nlaunch = "true"\n[[matrix]]\nname = "m"\nsteps = [{step}]\nexpect.exit = 0\n')
        assert place.call("lint").status == 1, step


WHERE = """
[program]
launch = "sh {here}/where.sh"
files."harbour/x.txt" = "x"
[[matrix]]
name = "in"
line = ""
start-in = "harbour"
expect.stdout = "<dir>/harbour\\n"
[[matrix]]
name = "out"
line = ""
start-in = "{up}"
axes.up = ["..", "harbor", "link"]
files.link = { link = "harbour/../harbour" }
expect.stdout = "<dir>/harbour\\n"
[[matrix]]
name = "beside"
line = ""
directory = "spec"
axes.n = [1, 2, 3]
env.N = "{n}"
expect.stdout = "{here}\\n"
"""


def test_a_case_starts_where_the_spec_says(place: Place) -> None:
    place.write("where.sh", "pwd -P\n")
    place.write("w.matrix.toml", WHERE.replace('files."harbour', '[files]\n"harbour'))
    out = place.call("run").out
    verdicts = {str(each["values"]): each["verdict"] for each in place.cases() if each["matrix"] == "out"}
    assert verdicts == {"{'up': '..'}": "not-started", "{'up': 'harbor'}": "not-started", "{'up': 'link'}": "passed"}, out
    assert "start-in names a directory that does not exist: harbor; there are only harbour, link" in out
    assert "= in      1 passed" in out and "= beside  3 passed" in out


@pytest.mark.parametrize("head", ["", "jobs = 1\n"])
def test_jobs_of_a_spec_and_of_a_matrix_keep_launches_apart(place: Place, head: str) -> None:
    alone = '[ ! -e "$1" ] || { echo "not alone" >&2; exit 3; }\n: > "$1"; sleep 0.03; rm "$1"\n'
    place.write("alone.sh", alone)
    jobs = "" if head else "jobs = 1\n"
    matrices = "".join(
        f'[[matrix]]\nname = "{name}"\nline = "{{here}}/lock{{n}}"\n{jobs}axes.n = [1]\naxes.m = {{ from = 1, to = 12 }}\n'
        f'env.M = "{{m}}"\nexpect.exit = 0\n' for name in ("a", "b")
    )
    place.write("j.matrix.toml", f'[program]\nlaunch = "sh {{here}}/alone.sh"\n{head}{matrices}')
    came = place.call("run", "--jobs", "4")
    assert came.status == 0 and "24 cases: all passed" in came.out, came.out


@pytest.mark.parametrize("told", ["3", "0", "-2", "two", ""])
def test_as_many_launches_at_a_time_as_processors_or_as_python_is_told_there_are(place: Place, monkeypatch: pytest.MonkeyPatch, told: str) -> None:
    monkeypatch.setenv("PYTHON_CPU_COUNT", told)
    place.write("t.matrix.toml", '[program]\nlaunch = "true"\n[[matrix]]\nname = "m"\nline = "x"\nexpect.exit = 0\n')
    jobs = 3 if told == "3" else len(os.sched_getaffinity(0)) if sys.platform == "linux" else os.cpu_count()
    assert place.call("run").out.rstrip().endswith(f", {jobs} job{'s' * (jobs != 1)}")


SERVER = """
    import subprocess, sys, time
    other = subprocess.Popen(["sleep", "300"], start_new_session=True)
    print("starting", flush=True)
    if "--fail" in sys.argv:
        sys.exit("no room")
    open("port", "w").write(str(other.pid))
    print("listening", flush=True)
    time.sleep(300)
    """
ONCE = """
[program]
launch = "cat {here}/port"
once-before = "python3 -S {here}/server.py%s"
ready-when = "listening"
ready-within = %s
once-after = "mv {here}/port {here}/former"
[[matrix]]
name = "m"
line = ""
axes.n = [1, 2]
env.N = "{n}"
expect.stdout.number.min = 1
"""


def test_a_server_runs_beside_a_spec_and_nothing_of_it_is_left(place: Place) -> None:
    place.write("server.py", SERVER)
    place.write("o.matrix.toml", ONCE % ("", "20"))
    came = place.call("run", anew=True)
    assert came.status == 0 and "2 cases: all passed" in came.out, came.out + came.err
    left = int((place.directory / "former").read_text())
    assert not Path(f"/proc/{left}").exists() or "Z" in Path(f"/proc/{left}/stat").read_text()


@pytest.mark.parametrize(("word", "within", "ready", "told"), [
    (" --fail", "20", "listening", "ended with exit 1 before it was ready, so nothing was run; its last lines:\n  starting\n  no room"),
    ("", '"300 ms"', "lstening", "did not print 'lstening' within 0.3 s, so nothing was run"),
])  # fmt: skip
def test_a_server_that_is_not_ready_is_told_and_nothing_is_run(place: Place, word: str, within: str, ready: str, told: str) -> None:
    place.write("server.py", SERVER)
    place.write("o.matrix.toml", (ONCE % (word, within)).replace('"listening"', f'"{ready}"'))
    came = place.call("run", anew=True)
    assert came.status == 3 and told in came.err, came.err
    assert not (place.directory / "port").exists() or not (place.directory / ".keen-matrix/last.jsonl").exists()


def test_a_command_that_cannot_be_run_after_the_cases_is_a_remark(place: Place) -> None:
    place.write("o.matrix.toml", '[program]\nlaunch = "true"\nonce-after = "no-such-program"\n[[matrix]]\nname = "m"\nline = ""\nexpect.exit = 0\n')
    came = place.call("run", anew=True)
    assert came.status == 0 and "once-after: no-such-program, which the spec uses, cannot be run" in came.err


def test_launches_that_are_kept_apart_do_not_go_on_a_cluster(place: Place) -> None:
    place.write("o.matrix.toml", '[program]\nlaunch = "true"\njobs = 1\n[[matrix]]\nname = "m"\nline = ""\nexpect.exit = 0\n')
    came = place.call("run", "--cluster", "local", anew=True)
    assert came.status == 2 and "and a cluster ignores that" in came.err
