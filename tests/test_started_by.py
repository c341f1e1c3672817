"""How a program is started: warm by itself where that is safe, and past a launcher that only looks for the program."""

from __future__ import annotations

import json
import os
import shutil
import sys

import pytest

from keen_matrix.core.launch.environment import COMPILE_CACHE
from keen_matrix.core.launch.launchers import ResolvedLaunch
from keen_matrix.core.launch.runtimes import runtime_name
from keen_matrix.core.launch.through import is_wrapped, through
from tests.conftest import Place

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
    launch = "{python} {{here}}/p.py"
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


def written(place: Place, many: int = 100, more: str = "", own: str = "", expect: str = "", odd: str = "False") -> None:
    place.write("p.py", PROGRAM.replace("{odd}", odd))
    place.write("f.matrix.toml", SPEC.format(python=sys.executable, many=many, more=more, own=own, expect=expect))


def test_a_python_program_with_many_cases_is_run_warm_by_itself(place: Place) -> None:
    written(place)
    came = place.call("run")
    assert came.status == 0 and "100 vectors: all held" in came.out and ", 80 of them warm" in came.out
    assert "warm" not in place.call("run", "--cold").out
    assert place.call("run", "--warm").out.rstrip().endswith(", warm")


@pytest.mark.parametrize(
    ("how", "words"),
    [
        ({"many": 60}, ()),
        ({"more": "warm = false"}, ()),
        ({"more": "jobs = 2"}, ()),
        ({"more": 'directory = "spec"'}, ()),
        ({"more": 'once-before = "true"'}, ()),
        ({"expect": 'duration = "< 9 s"'}, ()),
        ({}, ("--repeat", "2")),
        ({}, ("--budget", "60 s")),
    ],
)
def test_it_is_launched_cold_where_more_launches_or_a_fork_would_matter(place: Place, how: dict[str, str], words: tuple[str, ...]) -> None:
    written(place, **how)  # type: ignore[arg-type]
    came = place.call("run", *words)
    assert came.status == 0 and "all held" in came.out and "warm" not in came.out


def test_what_differs_warm_is_launched_cold_without_a_word_where_nobody_asked(place: Place) -> None:
    written(place, odd=WARM)
    came = place.call("run")
    assert came.status == 0 and "all held" in came.out and "warm" not in came.out + came.err


def test_a_case_that_fails_warm_alone_is_no_failure(place: Place) -> None:
    """The sample did the same both ways; a later case does not."""
    written(place, more="warm = true", odd=f"number == 47 and ({WARM})")
    came = place.call("run", "--warm-check", "0")
    assert came.status == 0 and "100 vectors: all held" in came.out
    assert "launched cold from here: the case" in came.err and "differs in verdict when it is launched warm" in came.err
    assert len({case["id"] for case in place.cases()}) == len(place.cases()) == 100


def test_a_case_that_fails_both_ways_is_told_once_and_the_rest_is_warm(place: Place) -> None:
    written(place, more="warm = true", odd="number % 10 == 7")
    came = place.call("run", "--warm-check", "0")
    assert came.status == 1 and "90 held, 10 differed" in came.out and "launched cold" not in came.err
    assert len(place.cases()) == 100 and came.out.count(", warm") == 1


def shim(place: Place, name: str, target: str, more: str = "") -> str:
    path = place.write(f"bin/{name}", f'#!/bin/sh\n{more}\nexec {target} "$@"\n')
    path.chmod(0o755)
    return str(path)


def test_a_launcher_that_only_looks_for_the_program_is_passed_by(place: Place) -> None:
    written(place, more='warm = false\nenv-from-caller = ["PATH", "COUNT"]', many=30)
    real = os.path.realpath(sys.executable)
    place.write("f.matrix.toml", place.folder.joinpath("f.matrix.toml").read_text().replace(sys.executable, "python3", 1))
    shim(place, "python3", real, f"echo x >> {place.folder}/count")
    env = {"PATH": f"{place.folder}/bin:{os.environ['PATH']}"}
    came = place.call("run", env=env)
    assert came.status == 0 and "python3 starts /" in came.err and "which is started directly" in came.err
    assert len((place.folder / "count").read_text().split()) == 1  # where it was asked
    text = place.folder.joinpath("f.matrix.toml").read_text()
    place.write("f.matrix.toml", text.replace("warm = false", 'warm = false\nlaunch-through = "launcher"'))
    assert place.call("run", env=env).status == 0
    assert len((place.folder / "count").read_text().split()) == 31


def test_settling_passes_such_a_launcher_by(place: Place) -> None:
    place.write("p.py", "import argparse\nargparse.ArgumentParser().parse_args()\n")
    place.write("p.matrix.toml", '[program]\nlaunch = "python3 {here}/p.py"\nenv-from-caller = ["PATH"]\n[signature]\nsynopsis = ""\n')
    shim(place, "python3", os.path.realpath(sys.executable), f"echo x >> {place.folder}/count")
    came = place.call("settle", "p.matrix.toml", env={"PATH": f"{place.folder}/bin:{os.environ['PATH']}"})
    assert "which is started directly" in came.err and "it reads its words as argparse does" in came.out, came.err + came.out
    assert len((place.folder / "count").read_text().split()) == 1


def test_a_launcher_that_sets_something_is_passed_by_only_where_that_is_asked_for(place: Place) -> None:
    place.write("p.py", 'import os, sys\nprint(os.environ.get("SET"), os.environ.get("GONE"))\n')
    text = SPEC.format(python="python3", many=30, more='warm = false\nenv-from-caller = ["PATH", "GONE"]', own="", expect="")
    place.write("f.matrix.toml", text.replace("{n * 2}", "by-it None"))
    shim(place, "python3", os.path.realpath(sys.executable), "SET=by-it; export SET; unset GONE; echo x >> $0.count")
    env = {"PATH": f"{place.folder}/bin:{os.environ['PATH']}", "GONE": "there"}
    came = place.call("run", env=env)
    assert came.status == 0 and "directly" not in came.err
    assert len((place.folder / "bin/python3.count").read_text().split()) == 31
    text = place.folder.joinpath("f.matrix.toml").read_text()
    place.write("f.matrix.toml", text.replace("warm = false", 'warm = false\nlaunch-through = "resolved"'))
    came = place.call("run", env=env)
    assert came.status == 0 and "which is started directly" in came.err, came.out
    assert len((place.folder / "bin/python3.count").read_text().split()) == 32


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
    told = next(line for line in came.out.splitlines() if line.startswith("the time went into"))
    assert "1 vector that hung" in told and "a shorter timeout helps" in told
    assert json.loads((place.folder / ".keen-matrix/last.jsonl").read_text().splitlines()[1])["id"]


def test_cases_that_fail_and_vary_by_themselves_are_told_warm_or_cold(place: Place) -> None:
    """Each of the first is launched three times, and every launch is waited for."""
    written(place, more="warm = true", odd="print(os.urandom(8).hex()) or True")
    came = place.call("run", "--warm-check", "0")
    assert came.status == 1 and "100 vectors: 100 differed" in came.out and "launched cold" not in came.err
    assert len({case["id"] for case in place.cases()}) == len(place.cases()) == 100
