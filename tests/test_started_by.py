"""How a program is started: warm by itself where that is safe, and past a launcher that only looks for the program."""

from __future__ import annotations

import json
import os
import shutil
import sys

import pytest
from msgspec.structs import replace

from keen_matrix.core.launch.environment import COMPILE_CACHE
from keen_matrix.core.launch.launchers import ResolvedLaunch, resolved_launch
from keen_matrix.core.launch.runtimes import runtime_name
from keen_matrix.core.launch.through import is_wrapped, through
from keen_matrix.core.launch.warm.shims import is_shim, watched_start
from keen_matrix.core.runs.options import CaseChoice, Launching, Ordering, RunOptions
from keen_matrix.core.runs.starting.warmth import asked_warm, may_be_warm, may_find_out, worth_from
from keen_matrix.core.spec.load import load_spec
from tests.conftest import SIDE_BY_SIDE, Place

PROGRAM = """
    import os, sys
    number = int(sys.argv[1])
    if {odd}: print("another")
    print(number * 2)
    sys.exit(number % 2 if len(sys.argv) > 2 else 0)
    """
WARM = '"keeper" in sys.modules.get("__main__").__class__.__name__ or os.environ.get("X") or "keeper" in repr(sys._getframe(1) if sys._getframe().f_back else "")'
SPEC = """
    [program]
    launch = "{python} -S {{here}}/p.py"
    {more}
    [[matrix]]
    name = "numbers"
    line = "{{n}}"
    axes.n = {{ from = 1, to = {many} }}
    {own}
    [matrix.expect]
    exit = 0
    stdout = "{{n * 2}}\\n"
    {expect}
    """


def written(place: Place, many: int = 84, more: str = "", own: str = "", expect: str = "", odd: str = "False") -> None:
    place.write("p.py", PROGRAM.replace("{odd}", odd))
    place.write("f.matrix.toml", SPEC.format(python=sys.executable, many=many, more=more, own=own, expect=expect))


def test_a_python_program_with_many_cases_is_run_warm_by_itself(place: Place) -> None:
    written(place)
    came = place.call("run")
    assert came.status == 0 and "84 cases: all passed" in came.out and ", 64 of them warm" in came.out
    assert place.call("run", "--warm").out.rstrip().endswith(", warm")


def test_the_slower_a_launch_the_fewer_cases_are_worth_a_keeper() -> None:
    assert [worth_from(seconds) for seconds in (0.0, 0.01, 0.04, 0.06, 0.1, 1.0, 60.0)] == [60, 60, 58, 34, 21, 20, 20]


def test_a_slow_program_is_run_warm_with_fewer_cases(place: Place) -> None:
    written(place, many=45)
    place.write("p.py", "import time\nif __name__ == '__main__': time.sleep(0.15)\n" + (place.directory / "p.py").read_text())
    came = place.call("run", env=SIDE_BY_SIDE)
    assert came.status == 0 and "45 cases: all passed" in came.out and ", 25 of them warm" in came.out


def test_it_is_launched_cold_where_there_are_few(place: Place) -> None:
    written(place, many=38)
    came = place.call("run")
    assert came.status == 0 and "all passed" in came.out and "warm" not in came.out


def test_whether_a_program_may_be_warm_is_not_found_out_where_that_would_change_what_is_asked_for(place: Place) -> None:
    plain, cold = (RunOptions(journal="", launching=Launching(jobs=1, warm=warm)) for warm in (None, False))
    others = (replace(plain, launching=Launching(jobs=1, repeat=2)), replace(plain, choice=CaseChoice(failed=True)), replace(plain, ordering=Ordering(budget=60.0)))
    assert [may_find_out(each) for each in (plain, *others)] == [True, False, False, False]
    written(place, more="warm = false")
    assert asked_warm(plain, load_spec(str(place.directory / "f.matrix.toml"))) is False
    written(place)
    spec = load_spec(str(place.directory / "f.matrix.toml"))
    assert asked_warm(plain, spec) is None and asked_warm(cold, spec) is False


@pytest.mark.parametrize(
    ("how", "warm"),
    [
        ({}, {0}), ({"more": 'directory = "spec"'}, set()), ({"more": "jobs = 2"}, set()), ({"own": "jobs = 2"}, set()),
        ({"more": 'once-before = "true"'}, set()), ({"expect": 'duration = "< 9 s"'}, set()), ({"expect": 'memory = "< 9 GB"'}, set()),
    ],
)  # fmt: skip
def test_matrices_that_share_something_or_are_about_cost_are_launched_cold(place: Place, how: dict[str, str], warm: set[int]) -> None:
    written(place, **how)  # type: ignore[arg-type]
    spec = load_spec(str(place.directory / "f.matrix.toml"))
    assert may_be_warm(spec, resolved_launch(spec)) == warm


def test_what_differs_warm_is_launched_cold_without_a_word_where_nobody_asked(place: Place) -> None:
    written(place, odd=WARM)
    came = place.call("run")
    assert came.status == 0 and "all passed" in came.out and "warm" not in came.out + came.err


def test_a_case_that_fails_warm_alone_is_no_failure(place: Place) -> None:
    """The sample did the same both ways; a later case does not."""
    written(place, more="warm = true", odd=f"number == 47 and ({WARM})")
    came = place.call("run", "--warm-check", "0")
    assert came.status == 0 and "84 cases: all passed" in came.out
    assert "launched cold from here: the case" in came.err and "differs in verdict when it is launched warm" in came.err
    assert len({case["id"] for case in place.cases()}) == len(place.cases()) == 84


def test_a_case_that_fails_both_ways_is_told_once_and_the_rest_is_warm(place: Place) -> None:
    written(place, more="warm = true", odd="number % 10 == 7")
    came = place.call("run", "--warm-check", "0")
    assert came.status == 1 and "76 passed, 8 failed" in came.out and "launched cold" not in came.err
    assert len(place.cases()) == 84 and came.out.count(", warm") == 1


def shim(place: Place, name: str, target: str, more: str = "") -> str:
    path = place.write(f"bin/{name}", f'#!/bin/sh\n{more}\nexec {target} "$@"\n')
    path.chmod(0o755)
    return str(path)


def test_a_launcher_that_only_looks_for_the_program_is_passed_by(place: Place) -> None:
    written(place, more='warm = false\nenv-from-caller = ["PATH", "COUNT"]', many=30)
    real = os.path.realpath(sys.executable)
    place.write("f.matrix.toml", place.directory.joinpath("f.matrix.toml").read_text().replace(sys.executable, "python3", 1))
    shim(place, "python3", real, f"echo x >> {place.directory}/count")
    env = {"PATH": f"{place.directory}/bin:{os.environ['PATH']}"}
    came = place.call("run", env=env)
    assert came.status == 0 and "python3 starts /" in came.err and "which is started directly" in came.err
    assert len((place.directory / "count").read_text().split()) == 1  # where it was asked
    text = place.directory.joinpath("f.matrix.toml").read_text()
    place.write("f.matrix.toml", text.replace("warm = false", 'warm = false\nlaunch-through = "launcher"'))
    assert place.call("run", env=env).status == 0
    assert len((place.directory / "count").read_text().split()) == 31


def test_settling_passes_such_a_launcher_by(place: Place) -> None:
    place.write("p.py", "import argparse\nargparse.ArgumentParser().parse_args()\n")
    place.write("p.matrix.toml", '[program]\nlaunch = "python3 {here}/p.py"\nenv-from-caller = ["PATH"]\n[signature]\nsynopsis = ""\n')
    shim(place, "python3", os.path.realpath(sys.executable), f"echo x >> {place.directory}/count")
    came = place.call("settle", "p.matrix.toml", env={"PATH": f"{place.directory}/bin:{os.environ['PATH']}"})
    assert "which is started directly" in came.err and "it reads its words as argparse does" in came.out, came.err + came.out
    assert len((place.directory / "count").read_text().split()) == 1


def test_a_launcher_that_sets_something_is_passed_by_only_where_that_is_asked_for(place: Place) -> None:
    place.write("p.py", 'import os, sys\nprint(os.environ.get("SET"), os.environ.get("GONE"))\n')
    text = SPEC.format(python="python3", many=30, more='warm = false\nenv-from-caller = ["PATH", "GONE"]', own="", expect="")
    place.write("f.matrix.toml", text.replace("{n * 2}", "by-it None"))
    shim(place, "python3", os.path.realpath(sys.executable), "SET=by-it; export SET; unset GONE; echo x >> $0.count")
    env = {"PATH": f"{place.directory}/bin:{os.environ['PATH']}", "GONE": "there"}
    came = place.call("run", env=env)
    assert came.status == 0 and "directly" not in came.err
    assert len((place.directory / "bin/python3.count").read_text().split()) == 31
    text = place.directory.joinpath("f.matrix.toml").read_text()
    place.write("f.matrix.toml", text.replace("warm = false", 'warm = false\nlaunch-through = "resolved"'))
    came = place.call("run", env=env)
    assert came.status == 0 and "which is started directly" in came.err, came.out
    assert len((place.directory / "bin/python3.count").read_text().split()) == 32


TIDES = """\
#!{python} -S
import os, sys
if sys.argv[1:] == ["--help"]: print("usage: tides [--day DAY]\\n  --day DAY  of that day")
elif len(sys.argv) == 1 or (sys.argv[1] == "--day" and len(sys.argv) == 3): print("high at", os.environ.get("SET"))
else: sys.exit("tides: error: " + sys.argv[1])
"""


def tides(place: Place, directory: str, script: str) -> dict[str, str]:
    """Write a program, and a script for it in a directory; return the environment in which the script is found."""
    place.write("real/tides", TIDES.format(python=os.path.realpath(sys.executable))).chmod(0o755)
    place.write(f"{directory}/tides", f"#!/bin/sh\necho x >> $0.count\n{script.format(here=place.directory)}\n").chmod(0o755)
    place.write("f.matrix.toml", '[program]\nlaunch = "tides"\nenv-from-caller = ["PATH"]\n[signature]\nsynopsis = "[--day DAY]"\n'
                'help = ["--help"]\nderive = []\n[[matrix]]\nname = "days"\nline = "--day {n}"\naxes.n = { from = 1, to = 30 }\n')  # fmt: skip
    return {"PATH": f"{place.directory}/{directory}:{os.environ['PATH']}"}


def launches_of(place: Place, directory: str) -> int:
    return len((place.directory / directory / "tides.count").read_text().split())


def test_the_script_of_a_version_manager_is_watched_and_passed_by_where_it_sets_nothing(place: Place) -> None:
    env = tides(place, "shims", 'exec {here}/real/tides "$@"')
    came = place.call("run", env=env)
    assert came.status == 0 and f"tides starts {place.directory}/real/tides, which is started directly" in came.err, came
    assert launches_of(place, "shims") == 1


@pytest.mark.parametrize(("directory", "script"), [
    ("bin", 'exec {here}/real/tides "$@"'), ("shims", 'exec {here}/real/tides --day 3'), ("shims", '{here}/real/tides "$@"'),
    ("shims", 'exec sh -c "exit 3" "$@"'), ("shims", 'SET=by-it exec {here}/real/tides "$@"'),
])  # fmt: skip
def test_a_script_that_may_do_more_is_not_passed_by(place: Place, directory: str, script: str) -> None:
    env = tides(place, directory, script)
    came = place.call("run", env=env)
    assert "directly" not in came.err and launches_of(place, directory) in (30, 31), came


def test_what_never_prints_the_same_is_not_known_to_be_the_same(place: Place) -> None:
    env = tides(place, "shims", 'exec {here}/real/tides "$@"')
    place.write("real/tides", (place.directory / "real/tides").read_text().replace('print("usage', 'print(os.getpid(), "usage'))
    came = place.call("run", env=env)
    assert came.status == 0 and "directly" not in came.err and launches_of(place, "shims") == 31


def test_settling_states_that_a_slow_script_is_passed_by_where_vectors_come_to_the_same(place: Place) -> None:
    env = tides(place, "shims", 'sleep 0.5\nexport SET=by-it\nexec {here}/real/tides "$@"')
    came = place.call("settle", "f.matrix.toml", "--write", env=env)
    assert f"finding   tides only starts {place.directory}/real/tides, which takes it " in came.out, came.out + came.err
    assert 'launch-through = "resolved" # observed' in place.directory.joinpath("f.matrix.toml").read_text()
    before = launches_of(place, "shims")
    came = place.call("run", env=env)
    assert came.status == 0 and launches_of(place, "shims") == before + 1
    assert "high at by-it" in place.call("try", "f.matrix.toml", "--", "--day", "3", env=env).out


def test_a_script_that_does_not_end_is_waited_for_no_longer_than_is_said(place: Place, monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setattr("keen_matrix.core.launch.warm.shims.ASK_SECONDS", 0.3)
    env = tides(place, "shims", "sleep 60")
    script = str(place.directory / "shims/tides")
    assert is_shim(ResolvedLaunch(script, ("tides",))) and watched_start(ResolvedLaunch(script, ("tides",)), env, ("--help",)) is None


@pytest.mark.parametrize("name", ["python3", "node"])
def test_what_a_shim_starts_is_what_the_runtime_says(place: Place, name: str) -> None:
    real = sys.executable if name == "python3" else shutil.which("node")
    if real is None:
        pytest.skip("there is no node here")
    real = os.path.realpath(real)
    wrapped = ResolvedLaunch(shim(place, name, real), (name, "x"))
    assert is_wrapped(wrapped) and not is_wrapped(ResolvedLaunch(real, (name, "x")))
    found = through(wrapped, {"PATH": os.environ["PATH"]})
    assert found is not None and os.path.realpath(found.file) == real and not found.changes


@pytest.mark.parametrize("script", ["exit 3", "echo nonsense", "sleep 0", 'echo "[1, 2]"', 'echo "[\\"/none\\", {}]"'])
def test_a_launcher_that_says_nothing_of_use_is_used_as_it_is(place: Place, script: str) -> None:
    path = place.write("bin/python3", f"#!/bin/sh\n{script}\n")
    path.chmod(0o755)
    assert through(ResolvedLaunch(str(path), ("python3",)), {"PATH": os.environ["PATH"]}) is None


def test_node_keeps_what_it_compiles_for_as_long_as_the_run_lasts(place: Place) -> None:
    if shutil.which("node") is None:
        pytest.skip("there is no node here")
    place.write("p.js", f'console.log(process.env.{COMPILE_CACHE} ? "kept" : "not")\n')
    place.write("f.matrix.toml", """
        [program]
        launch = "node {here}/p.js"
        [[matrix]]
        name = "one"
        line = "x"
        expect.stdout = "kept\\n"
        """)  # fmt: skip
    assert place.call("run").status == 0
    script = place.write("tool", "#!/usr/bin/env node\n")
    assert runtime_name(str(script), str(script)) == "node" and runtime_name("/none", "/none") == "none"
    assert runtime_name(sys.executable, "python3") == "python3"


def test_a_long_run_says_where_the_time_went(place: Place, monkeypatch: pytest.MonkeyPatch) -> None:
    place.write("f.matrix.toml", """
        [program]
        launch = "sh -c 'if [ $1 = h ]; then sleep 60; fi' sh"
        timeout = 10.2
        [[matrix]]
        name = "one"
        line = "{w}"
        axes.w = ["h", "a", "b"]
        expect.exit = 0
        """)  # fmt: skip
    came = place.call("run")
    told = next(line for line in came.out.splitlines() if line.startswith("time: "))
    assert "1 case that timed out" in told and "a shorter timeout helps" in told
    assert json.loads((place.directory / ".keen-matrix/last.jsonl").read_text().splitlines()[1])["id"]


def test_cases_that_fail_and_vary_by_themselves_are_told_warm_or_cold(place: Place) -> None:
    """Each of the first is launched three times, and every launch is waited for."""
    written(place, more="warm = true", odd="print(os.urandom(8).hex()) or True")
    came = place.call("run", "--warm-check", "0")
    assert came.status == 1 and "84 cases: 84 failed" in came.out and "launched cold" not in came.err
    assert len({case["id"] for case in place.cases()}) == len(place.cases()) == 84
