"""Warm launches do what cold ones do: the same program both ways, in every way that a program can end."""

from __future__ import annotations

import json
import sys
from collections import Counter
from typing import Any

import msgspec
import pytest

from keen_matrix.core.experiments.ask import Experiments
from keen_matrix.core.insight.settling.lab import Lab
from keen_matrix.core.launch.launchers import resolved_launch
from keen_matrix.core.launch.warm import warmcheck
from keen_matrix.core.launch.warm.keepers import ColdOnly, imported_modules, warm_plan
from keen_matrix.core.launch.warm.warmcheck import sample_of, warm_difference
from keen_matrix.core.launch.workers.engine import WorkerPool
from keen_matrix.core.model.case import Case, Said, Standing
from keen_matrix.core.model.record import Record
from keen_matrix.core.runs.events import RunWatch
from keen_matrix.core.runs.grounding import controls as grounding
from keen_matrix.core.runs.selecting.supply import Supply
from keen_matrix.core.runs.starting.warmth import turn_warm, unlike_vectors
from keen_matrix.core.spec.load import load_spec
from keen_matrix.core.vectors.ids import shard_of
from tests.conftest import SIDE_BY_SIDE, Place

PROGRAM = """
    import argparse, atexit, json, os, signal, sys, threading, time, tempfile, random

    def boom():
        raise ValueError("words: " + sys.argv[1])

    def finish(code):  # names that the keeper has as well
        print("its own finish")

    print_unhandled = exit_code = live = finish

    atexit.register(lambda: print("at exit"))
    what = sys.argv[1]
    print("argv", sys.argv[1:], "name", __name__, "file", os.path.basename(__file__), "path", os.path.basename(sys.path[0]))
    print("env", os.environ.get("V"), os.getenv("HOME") == os.path.expanduser("~"), "cwd", os.listdir("."), file=sys.stderr)
    if what == "exit": sys.exit(3)
    if what == "text": sys.exit("a text")
    if what == "none": sys.exit()
    if what == "big": sys.exit(300)
    if what == "boom": boom()
    if what == "chain":
        try: boom()
        except ValueError as e: raise KeyError("later") from e
    if what == "kill": sys.stdout.flush(); os.kill(os.getpid(), 9)
    if what == "interrupt": raise KeyboardInterrupt
    if what == "signals": print([n for n in signal.valid_signals() if signal.getsignal(n) in (signal.SIG_IGN, None)])
    if what == "interrupts itself": os.kill(os.getpid(), signal.SIGINT); time.sleep(1)
    if what == "usage": argparse.ArgumentParser().parse_args(["--none"])
    if what == "stdin": print(json.dumps(sys.stdin.read()))
    if what == "thread": threading.Thread(target=lambda: (time.sleep(0.05), print("thread done"))).start()
    if what == "file": open("made.txt", "w").write("x")
    if what == "child": sys.stdout.flush(); os.system("echo child; pwd >/dev/null")
    if what == "buffered": sys.stdout.write("no newline")
    if what == "hang": time.sleep(9)
    if what == "closes": atexit._clear(); sys.stdout.close()
    if what == "import": import own; print(own.VALUE)
    if what == "main": import __main__; print(__main__.__dict__ is globals(), sys.modules["__main__"].what)
    if what == "hard": sys.stdout.flush(); os._exit(7)
    if what == "warn": import warnings; [warnings.warn("odd", stacklevel=number) for number in range(1, 6)]
    if what == "hook": sys.excepthook = lambda *a: print("hooked", a[0].__name__, file=sys.stderr); boom()
    """
WAYS = ["exit", "text", "none", "big", "boom", "chain", "kill", "interrupt", "usage", "stdin", "thread", "file", "child", "buffered",
        "hang", "import", "closes", "main", "hard", "hook", "plain", "signals", "interrupts itself", "warn"]  # fmt: skip
SPEC = """
    [program]
    launch = "{launch}"
    timeout = 2
    env.V = "value"
    {program}
    [[matrix]]
    name = "ways"
    line = "{{way}} 'two words' ''"
    axes.way = {ways}
    stdin = "fed\\n"
    expect.exit = "0..255"
    """


OF_A_MODULE = ["exit", "boom", "chain", "usage", "stdin", "file", "child", "import", "closes", "main", "hook", "warn"]
"""Ways in which it may matter how the program was found."""


def both(place: Place, launch: str, env: str = "", ways: list[str] = WAYS) -> dict[str, tuple[dict[str, Any], dict[str, Any]]]:
    text = SPEC.format(launch=launch, ways=json.dumps(ways), program=env)
    place.write("t.matrix.toml", text)
    place.call("run", "--journal", "cold.jsonl", env=SIDE_BY_SIDE)
    came = place.call("run", "--warm", "--warm-check", "0", "--journal", "warm.jsonl", env=SIDE_BY_SIDE)
    assert "launched cold" not in came.err, came.err
    cold, warm = ({case["values"]["way"]: case for case in place.cases(name)} for name in ("cold.jsonl", "warm.jsonl"))
    return {way: (cold[way], warm[way]) for way in ways}


def record_of(fields: dict[str, Any]) -> Record:
    return msgspec.convert(fields, Record)


@pytest.mark.parametrize("how", ["file", "module", "script"])
def test_a_program_does_the_same_warm_and_cold(place: Place, how: str) -> None:
    place.write("p.py", PROGRAM)
    place.write("own.py", "VALUE = 'own file'\n")
    launch = f"{sys.executable} -S {{here}}/p.py"
    if how == "module":
        place.write("pkg/__main__.py", PROGRAM)
        place.write("pkg/__init__.py", "")
        place.write("own.py", "VALUE = 'own file'\n")
        launch = f"{sys.executable} -S -B -m pkg"  # found in the directory of a case: PYTHONPATH would make all launches cold
    if how == "script":
        path = place.write("tool", f"#!{sys.executable} -S\n" + PROGRAM)
        path.write_text(path.read_text().replace("\n    ", "\n"))
        path.chmod(0o755)
        launch = "{here}/tool"
    there = {"pkg/__main__.py": "pkg/__main__.py", "pkg/__init__.py": "pkg/__init__.py", "own.py": "own.py"}
    files = "".join(f'"{name}" = {{ copy = "{path}" }}\n' for name, path in there.items())
    found = both(place, launch, "[files]\n" + files if how == "module" else "", WAYS if how == "file" else OF_A_MODULE)
    unlike = {
        way: (warm_difference(*map(record_of, pair)), pair[0], pair[1])
        for way, pair in found.items()
        if warm_difference(*map(record_of, pair))
    }
    assert not unlike, json.dumps(unlike, indent=1)[:3000]
    if how == "file":
        faster = [way for way, (cold, warm) in found.items() if warm["seconds"] < cold["seconds"]]
        assert len(faster) > len(WAYS) / 2
        assert all(warm["peak_bytes"] > 1_000_000 for way, (_, warm) in found.items() if way not in ("hang",))


def test_a_difference_makes_the_run_cold_and_says_where(place: Place) -> None:
    place.write("p.py", """
        import sys, time
        print("warm" if "keeper" in repr(sys._getframe(1) if sys._getframe().f_back else "") else "cold")
        """)  # fmt: skip
    place.write("t.matrix.toml", f"""
        [program]
        launch = "{sys.executable} {{here}}/p.py"
        warm = true
        [[matrix]]
        name = "m"
        line = "{{n}}"
        axes.n = {{ from = 1, to = 12 }}
        expect.stdout = "cold"
        """)  # fmt: skip
    came = place.call("run")
    assert came.status == 0 and "differs in " in came.err and "launched cold: the case" in came.err, came.err


@pytest.mark.parametrize(
    ("words", "reason"),
    [(["sh", "p.sh"], "not a Python program"), (["python3", "-c", "x"], "-c"), (["python3", "-m", "a", "b"], "-m"), (["python3", "none.py"], "is not a Python file")],
)  # fmt: skip
def test_what_cannot_be_run_warm_is_told(words: list[str], reason: str) -> None:
    with pytest.raises(ColdOnly, match=reason):
        warm_plan("/bin/sh", words)


def test_switches_and_modules_are_read_from_the_launch_words() -> None:
    plan = warm_plan("/usr/bin/python3", ["python3", "-S", "-W", "error", "-m", "json.tool"])
    assert (plan.switches, plan.kind, plan.name) == (("-S", "-W", "error"), "module", "json.tool")


def test_a_shell_program_asked_to_run_warm_is_run_cold(place: Place) -> None:
    place.write(
        "t.matrix.toml", '[program]\nlaunch = "echo"\n[[matrix]]\nname = "m"\nline = "x"\nexpect.stdout = "x"\n'
    )
    came = place.call("run", "--warm")
    assert came.status == 0 and "launched cold: echo is not a Python program" in came.err


@pytest.mark.skipif(sys.platform != "linux", reason="who the parent is stands in /proc")
@pytest.mark.parametrize("sign", ["SIGSTOP", "SIGKILL"])
def test_a_keeper_that_a_program_stops_or_ends_is_no_verdict_of_the_next_case(place: Place, sign: str) -> None:
    """What the program leaves behind does so when the keeper has told of its end, and the next launch is asked of it."""
    place.write("p.py", f"""
        import os, signal, sys, time
        keeper = os.getppid()
        if sys.argv[1] == "7" and b"keeper" in open(f"/proc/{{keeper}}/cmdline", "rb").read():
            if os.fork() == 0:
                time.sleep(0.03)
                os.kill(keeper, signal.{sign})
                os._exit(0)
        print(sys.argv[1])
        """)  # fmt: skip
    place.write("t.matrix.toml", f"""
        [program]
        launch = "{sys.executable} {{here}}/p.py"
        warm = true
        timeout = 9
        [[matrix]]
        name = "m"
        line = "{{n}}"
        axes.n = {{ from = 1, to = 9 }}
        expect.stdout = "{{n}}"
        """)  # fmt: skip
    came = place.call("run", "--jobs", "1", timeout=30)
    assert came.status == 0 and "9 passed" in came.out and "warm" in came.out and not came.err, (came.out, came.err)


@pytest.mark.parametrize(("body", "is_warm"), [
    ("import argparse; argparse.ArgumentParser().parse_args()", True),
    ("import sys; print('keeper' in sys.modules or not sys.stdin.isatty() and 'argparse' in sys.modules); import argparse", False),
])  # fmt: skip
def test_settling_launches_warm_where_that_changes_nothing(place: Place, body: str, is_warm: bool) -> None:
    place.write("p.py", body)
    path = place.write("t.matrix.toml", f'[program]\nlaunch = "{sys.executable} {{here}}/p.py"\n[signature]\nsynopsis = "[-a]"\n')
    with WorkerPool(1) as pool:
        lab = Lab(str(path), path.read_text(), pool, RunWatch(), 100)
        cold = lab.answers([(), ("--help",), ("-z",)])
        assert len(turn_warm(lab.experiments)) == (3 if is_warm else 0)
        assert lab.answers([(), ("--help",), ("-z",)]) == cold, "what was launched cold stays as it was"
        assert lab.answer(("-y",)).works is not is_warm


LAZY = """
    import os, sys
    before = "xml.dom.minidom" in sys.modules
    if "-n" not in sys.argv:
        import xml.dom.minidom
        with open(os.environ["LOG"], "a") as log:
            print(before, os.getppid(), file=log)
    print("none" if "-n" in sys.argv else "some")
    """


def test_what_is_imported_with_some_vectors_only_is_imported_beforehand_and_by_one_keeper(place: Place) -> None:
    place.write("p.py", LAZY)
    log = place.directory / "log"
    place.write("t.matrix.toml", f"""
        [program]
        launch = "{sys.executable} {{here}}/p.py"
        warm = true
        env.LOG = "{log}"
        [[matrix]]
        name = "m"
        line = "[-n] [{{n}}]"
        axes.n = {{ from = 1, to = 30 }}
        expect.exit = 0
        """)
    came = place.call("run", "--jobs", "1")
    assert came.status == 0 and ", warm" in came.out, came.out
    lines = [line.split() for line in log.read_text().splitlines()]
    warm = [parent for before, parent in lines if before == "True"]
    assert len(warm) >= 30 and len(set(warm)) == 1, "the keeper of the check goes on in the run"


def test_launches_that_tell_what_is_imported_are_bounded(place: Place) -> None:
    """One floods, one leaves a process behind that holds its streams, one tells all the same."""
    path = place.write("p.py", """
        import os, sys, subprocess
        if sys.argv[1] == "flood":
            while True: os.write(2, b"x" * 65536)
        if sys.argv[1] == "leave":
            subprocess.Popen(["sleep", "60"], cwd=os.environ["PLACE"])
        import xml.dom.minidom
        """)
    plan = warm_plan(sys.executable, [sys.executable, str(path)])
    vectors = [["flood"], ["leave"], ["tell"]]
    assert "xml.dom.minidom" in imported_modules(plan, vectors, {"PLACE": str(place.directory)})


def test_controls_are_launched_warm_where_there_are_many_and_none_is_refused_unless_it_is_so_cold(
    place: Place, monkeypatch: pytest.MonkeyPatch
) -> None:
    """Beside --odd, which a fork of a keeper refuses, all comes to the same both ways."""
    monkeypatch.setattr(grounding, "WORTH_SECONDS", 0.0)
    place.write("p.py", """
        import os, sys
        is_warm = b"keeper" in open(f"/proc/{os.getppid()}/cmdline", "rb").read()
        with open(os.environ["LOG"], "a") as log:
            print(is_warm, *sys.argv[1:], file=log)
        given = [each for each in sys.argv[1:] if each not in ("--a", "--b", "--c", "--d", "--e", "--odd")]
        if given or is_warm and sys.argv[1:] == ["--odd"]:
            sys.exit(2)
        """)
    options = "".join(f"[--{name}] " for name in ("a", "b", "c", "d", "e", "odd"))
    path = place.write("t.matrix.toml", f'[program]\nlaunch = "{sys.executable} {{here}}/p.py"\nenv.LOG = "{place.directory}/log"\n[signature]\nsynopsis = "{options}"\n')
    spec = load_spec(str(path))
    with WorkerPool(1) as pool:
        experiments = Experiments(spec, resolved_launch(spec), pool, RunWatch().grounding)
        grounds = grounding.grounds_of(spec, experiments, warm_with=lambda: [("--a",)])
    assert grounds is not None and not grounds.refused
    lines = [line.split() for line in (place.directory / "log").read_text().splitlines()]
    assert [words for is_warm, *words in lines if is_warm == "False"].count(["--odd"]) == 1
    assert ["True", "--odd"] in lines and sum(line[0] == "True" for line in lines) > 5


def test_the_check_launches_nothing_that_is_skipped(place: Place) -> None:
    place.write("p.py", 'import os, sys\nprint(*sys.argv[1:], file=open(os.environ["LOG"], "a"))\nsys.exit(0 if sys.argv[1].isdigit() else 2)\n')
    place.write("t.matrix.toml", f"""
        [program]
        launch = "{sys.executable} {{here}}/p.py"
        warm = true
        env.LOG = "{place.directory}/log"
        [[matrix]]
        name = "m"
        line = "{{n}}"
        axes.n = ["66", "1", "2"]
        skip = {{ because = "it sells the ferry", when = "n == '66'" }}
        expect.exit = 0
        """)
    assert place.call("run").status == 0
    assert Counter((place.directory / "log").read_text().split()) == {"1": 3, "2": 3}, "cold and warm, and in the run"


def case(number: int, argv: tuple[str, ...] = (), **more: Any) -> Case:
    return Case(id=f"c{number:09}", matrix=0, argv=argv, **more)


@pytest.mark.parametrize(("known", "count", "by_id", "first"), [
    (20, 400, False, 0),  # the known ones are five percent
    (20, 401, True, 0),
    (4, 40, True, 0),  # and too few, however small the run is; with those by their ids they are enough
    (0, 400, True, 0), (0, 10, True, 5), (0, 3, True, 3),
])  # fmt: skip
def test_a_sample_is_what_is_known_some_by_their_ids_and_at_least_five(known: int, count: int, by_id: bool, first: int) -> None:
    cases = [case(number) for number in range(count)]
    ids = {each.id for each in cases[:: count // known][:known]} if known else set()
    chosen = {each.id for each in cases if by_id and shard_of(each.id, 20) == 1}
    others = [each.id for each in cases if each.id not in ids | chosen]
    assert [each.id for each in sample_of(cases, 5.0, ids)] == [*others[:first], *(each.id for each in cases if each.id in ids | chosen)]


def test_what_comes_first_stands_apart() -> None:
    supply = Supply(map(case, range(100)), lambda: False)
    supply.bring_forward(4, 40)
    numbers = [int(each.id[1:]) for each in supply]
    assert numbers[:6] == [0, 10, 20, 30, 1, 2] and sorted(numbers) == [*range(100)]


def test_vectors_unlike_each_other_are_one_of_each_kind() -> None:
    helped, taken, refused = Standing("accepted", help=True), Standing("accepted"), Standing("refused", ("too-few",))
    cases = [
        case(0, ("--help",), standings=(helped,)), case(1, ("-s",), standings=(taken,), said=Said(skipped="no")),
        case(2, ("-g",), standings=(taken,), blocked="no"), case(3, ("1",), standings=(taken,)), case(4, ("2",), standings=(taken,)),
        case(5, (), standings=(refused,)),
    ]  # fmt: skip
    assert unlike_vectors(cases) == [("--help",), ("1",), ()]
    assert unlike_vectors(map(case, range(3), [("a",), ("b",), ("a", "b")])) == [("a",), ("a", "b")]


@pytest.mark.parametrize(("came", "id"), [("ab" + "ab", ""), ("ab" + "aab", ""), ("ab" + "aaa", "c000000000"), ("aa", "")])
def test_what_varies_by_itself_may_come_the_same_once_or_twice(came: str, id: str, monkeypatch: pytest.MonkeyPatch) -> None:
    """Launched cold, warm, and cold again: a set of two words is in the same order every other time."""
    launched = iter(came)

    def run(*_: object) -> dict[str, Record]:
        out = next(launched)
        return {"c000000000": Record(id="c000000000", matrix="m", verdict="passed", seconds=0.0, aspects=[], argv=(), values={}, stdout=out)}

    monkeypatch.setattr(warmcheck, "_run", run)
    nothing: Any = None
    found = warmcheck.check_warm(nothing, nothing, [case(0)], 5.0)
    assert found.id == id and next(launched, None) is None
