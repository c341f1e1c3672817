"""How much work things are: counted, never timed, so that a later change cannot make them slow unseen."""

from __future__ import annotations

import json
import os
import subprocess
import sys
from collections import Counter
from pathlib import Path

import pytest

from tests.conftest import Place

SMALL = '[program]\nlaunch = "true"\n[[matrix]]\nname = "one"\nline = "a"\nexpect.exit = 0\n'


def in_process_of_its_own(script: str, directory: Path, *words: str, **env: str) -> str:
    outer = {**os.environ, **env}
    done = subprocess.run([sys.executable, "-c", script, *words], cwd=directory, env=outer, capture_output=True, text=True, timeout=120, check=False)
    assert done.returncode == 0, done.stderr
    return done.stdout


CALLED = """
import contextlib, dataclasses, io, json, sys
made, plain = [], dataclasses._process_class
dataclasses._process_class = lambda *a, **k: (made.append(1), plain(*a, **k))[1]
from keen_matrix.cli import main
with contextlib.redirect_stdout(io.StringIO()):
    main(sys.argv[1:])
print(json.dumps([len(made), sorted({name.split(".")[0] for name in sys.modules} | {name for name in sys.modules if name.startswith("keen_matrix.cli.")})]))
"""


@pytest.mark.parametrize(
    ("words", "absent", "classes"),
    [
        (("run",), {"pydantic", "numpy", "rich", "jinja2", "matplotlib", "tree_sitter", "distributed"}, 20),
        (("unfold",), {"pydantic", "numpy", "matplotlib"}, 20),
        (("lint",), {"pydantic", "numpy", "matplotlib"}, 20),
    ],
)
def test_a_spec_that_has_not_changed_is_used_without_what_reading_it_takes(
    place: Place, words: tuple[str, ...], absent: set[str], classes: int
) -> None:
    path = place.write("s.matrix.toml", SMALL)
    os.utime(path, (1, 1))
    cache = {"XDG_CACHE_HOME": str(place.directory / "cache")}
    subprocess.run([sys.executable, "-m", "keen_matrix", *words], cwd=place.directory, env={**os.environ, **cache}, check=True, capture_output=True)
    made, modules = json.loads(in_process_of_its_own(CALLED, place.directory, *words, **cache))
    assert made <= classes and not absent & set(modules)


def test_a_spec_is_thought_through_without_what_combining_takes(place: Place) -> None:
    place.write("s.matrix.toml", SMALL)
    _, modules = json.loads(in_process_of_its_own(CALLED, place.directory, "lint", XDG_CACHE_HOME=str(place.directory / "cache")))
    assert "pydantic" in modules and not {"numpy", "rich"} & set(modules)


def test_combining_takes_no_more_of_numpy_than_it_needs(place: Place) -> None:
    script = "import sys; from keen_matrix.core.covering import search; search.cover(search.Demand(levels=[2, 3, 2], strength=2)); print(*sys.modules)"
    loaded = in_process_of_its_own(script, place.directory).split()
    assert "numpy" in loaded and "numpy.ma" not in loaded


READ = """
import argparse, contextlib, io, os, sys
parsers, plain = [], argparse.ArgumentParser.__init__
argparse.ArgumentParser.__init__ = lambda self, *a, **k: (parsers.append(1), plain(self, *a, **k))[1]
from keen_matrix.entry import main
sys.argv = ["keen-matrix", "lint"]
with contextlib.redirect_stdout(io.StringIO()):
    main()
from keen_matrix.core.spec.document.tables import Table
assert not [each for each in os.environ if each.startswith("PYDANTIC")]  # a program would see it
def all_of(kind): return [each for below in kind.__subclasses__() for each in (below, *all_of(below))]
print(len(parsers), *sorted(each.__name__ for each in all_of(Table) if each.__pydantic_complete__), *sys.modules)
"""


def test_a_spec_is_read_with_the_tables_that_it_has(place: Place) -> None:
    place.write("s.matrix.toml", SMALL)
    parsers, *names = in_process_of_its_own(READ, place.directory, XDG_CACHE_HOME=str(place.directory / "cache")).split()
    assert (parsers, names[: names.index("sys")]) == ("2", ["ExpectRule", "MatrixTable", "ProgramTable", "SpecDocument"])
    assert not {"importlib.metadata", "keen_matrix.core.spec.document.signature", "keen_matrix.core.signature.signature"} & set(names)
    place.write("s.matrix.toml", SMALL + '[signature]\nsynopsis = "[-n N] PORT"\n')
    names = in_process_of_its_own(READ, place.directory, XDG_CACHE_HOME=str(place.directory / "cache")).split()
    assert {"SignatureTable", "keen_matrix.core.spec.document.signature"} <= set(names)


def test_what_only_talks_of_commands_loads_no_library(place: Place) -> None:
    script = "import sys, keen_matrix.cli\nkeen_matrix.cli.build_parser('')\nprint(*sys.modules)"
    loaded = {name.split(".")[0] for name in in_process_of_its_own(script, place.directory).split()}
    assert not {"msgspec", "simpleeval", "pydantic", "rich", "numpy", "regex"} & loaded


def test_a_completion_loads_the_command_in_hand_alone(place: Place) -> None:
    script = """
import os, sys
from keen_matrix.cli import _command_in, build_parser
build_parser(_command_in(sys.argv[1]))
print(" ".join(sorted(name.split(".")[2] for name in sys.modules if name.startswith("keen_matrix.cli."))))
"""
    loaded = in_process_of_its_own(script, place.directory, "keen-matrix run --j").split()
    assert "run" in loaded and not {"watching", "unfold", "lint", "settle", "draft", "prompt"} & set(loaded)
    assert "run" not in in_process_of_its_own(script, place.directory, "keen-matrix ru").split()


def test_an_expression_is_parsed_once_however_often_it_stands(monkeypatch: pytest.MonkeyPatch) -> None:
    from keen_matrix.core import expressions

    parsed: Counter[str] = Counter()
    plain = expressions.ast.parse
    expressions._parsed.cache_clear()

    def counting(source: str, **more: object) -> object:
        parsed[source] += 1
        return plain(source, **more)  # type: ignore[call-overload]

    monkeypatch.setattr(expressions.ast, "parse", counting)
    for _ in range(50):
        assert expressions.Expression("riders * 2 + 1").names == {"riders"}
    assert parsed == {"riders * 2 + 1": 1}


def test_lines_of_a_large_spec_are_counted_once(place: Place, monkeypatch: pytest.MonkeyPatch) -> None:
    from keen_matrix.core.spec import source

    one = '[[matrix]]\nname = "m{n}"\nline = "{{w}}"\naxes = {{ w = ["a"] }}\n'
    path = place.write("s.matrix.toml", '[program]\nlaunch = "true"\n' + "".join(one.format(n=n) for n in range(300)))
    looked: list[bytes] = []
    plain = source.re.finditer

    def counting(pattern: bytes, text: bytes, *more: int) -> object:
        looked.append(text)
        return plain(pattern, text, *more)

    monkeypatch.setattr(source.re, "finditer", counting)
    read = source.read_source(str(path))
    assert [read.line(("matrix", n, "name")) for n in (0, 1, 299)] == [4, 8, 1200]
    assert read.warning(("matrix", 299, "axes", "w"), "x").line == 1202
    assert len([each for each in looked if each == read.text.encode()]) == 1


def test_one_wrong_table_has_no_validator_made_for_each_of_the_others(place: Place, monkeypatch: pytest.MonkeyPatch) -> None:
    from keen_matrix.core.spec import load

    load._adapter.cache_clear()
    matrices = "".join(f'[[matrix]]\nname = "m{n}"\nline = "a"\n' for n in range(300))
    path = place.write("s.matrix.toml", f'[program]\nlaunch = "true"\n[expect]\nexti = 1\n{matrices}')
    made: list[object] = []
    plain = load.TypeAdapter
    monkeypatch.setattr(load, "TypeAdapter", lambda model: made.append(model) or plain(model))
    spec, problems = load.read_spec(str(path))
    assert spec is None and [each.message for each in problems] == ['unknown key "exti" in [expect]']
    assert len(made) < 10


def test_what_stands_inside_an_option_is_no_condition_of_a_search(monkeypatch: pytest.MonkeyPatch) -> None:
    from keen_matrix.core.covering import search
    from keen_matrix.core.covering.joining import Inside

    monkeypatch.setattr(search, "Feasible", lambda *_: pytest.fail("there is no condition"))
    levels = [2, 2, 2, 4, 4, 4]
    search.cover(search.Demand(levels=levels, strength=2, inside=[Inside(3 + n, n, 1) for n in range(3)]))


WORKING = """
import cProfile, json, os, pstats, sys
from keen_matrix.core.launch.workers import engine
from keen_matrix.core.launch.workers import links as workers
from keen_matrix.core.launch.launchers import resolved_launch
from keen_matrix.core.spec.load import load_spec
from keen_matrix.core.vectors.unfold import unfold

HERE = os.getcwd()

def be_worker(serve, control):
    os.dup2(control, workers.CONTROL)
    profile = cProfile.Profile()
    profile.enable()
    serve()
    profile.disable()
    calls = {}
    for (file, _, name), (_, count, *_) in pstats.Stats(profile).stats.items():
        if name.startswith("<built-in method posix.") or "'select.epoll'" in name and "poll" not in name.split()[1]:
            calls[name] = count
    with open(os.path.join(HERE, "calls"), "w") as file:  # the worker has gone elsewhere
        file.write(json.dumps(calls))
    os._exit(0)

workers._be_worker, workers.may_fork = be_worker, lambda: True
spec = load_spec("s.matrix.toml")
with workers.WorkerSet(1, forked=True) as started, engine.WorkerPool(1, started) as pool:
    pool.plan(spec, resolved_launch(spec))
    assert all(each.verdict == 0 for each in pool.results(unfold(spec)))
"""


@pytest.mark.skipif(sys.platform != "linux", reason="system calls are counted on Linux")
def test_a_launch_asks_little_of_the_system(place: Place) -> None:
    """Beside the launch: two pipes and their ends, the directories looked at, and one wait."""
    for _ in range(3):  # a machine that is busy for a while is counted anew
        each = calls_of_a_launch(place)
        if sum(map(round, each.values())) == 29:
            break
    assert each["<built-in method posix.posix_spawn>"] == 1
    # what a busy machine brings up in one launch of ten, a directory that is looked at again, is of none
    assert sum(map(round, each.values())) == 29, each


def calls_of_a_launch(place: Place) -> dict[str, float]:
    asked = []
    for count in (100, 300):
        place.write("s.matrix.toml", SMALL.replace('line = "a"', f'line = "{{n}}"\naxes.n = {{ from = 1, to = {count} }}\nexpect.stdout = ""\nexpect.stderr = ""'))
        in_process_of_its_own(WORKING, place.directory)
        asked.append(json.loads((place.directory / "calls").read_text()))
    return {name: (asked[1][name] - asked[0].get(name, 0)) / 200 for name in asked[1]}


def test_a_run_starts_nothing_but_the_program(place: Place) -> None:
    """Python's own platform.platform() starts `uname` to find out more, once a run."""
    for name in ("uname", "ldd", "getconf", "file", "sh"):
        place.write(f"bin/{name}", f'#!/bin/sh\necho {name} "$@" >> "{place.directory}/started"\n').chmod(0o755)
    place.write("a.matrix.toml", SMALL)
    assert place.call("run", env={"PATH": f"{place.directory}/bin:{os.environ['PATH']}"}).status == 0
    assert not (place.directory / "started").exists()


INTERPRETERS = """
import json, os, sys
import keen_matrix.core.insight.settling.settle, keen_matrix.core.runs.run
from keen_matrix.cli import main
plain, begun = os.posix_spawn, []
def spawn(path, words, *more, **options):
    begun.extend([words] if path == sys.executable and "-P" in words else [])
    return plain(path, words, *more, **options)
os.posix_spawn = spawn
for words in json.loads(sys.argv[1]):
    pid = os.fork()
    if pid == 0:
        main(words)
        print("begun", len(begun), *words, file=sys.stderr, flush=True)
        os._exit(0)
    os.waitpid(pid, 0)
"""
CALLS = [
    "draft -- sh p.sh", "draft --settle -- sh p.sh", "settle p.matrix.toml", "try -- sh p.sh", "try p.matrix.toml -- -a", "fill f.matrix.toml",
    "run p.matrix.toml", "narrow p.matrix.toml", "places p.matrix.toml",
]  # fmt: skip


@pytest.mark.skipif(sys.platform != "linux", reason="workers are forked on Linux")
def test_no_worker_is_an_interpreter_that_is_started_for_it(place: Place) -> None:
    """It would be a quarter of a second each: as long as all that `try` is waited for."""
    place.write("p.sh", 'case $1 in --help) echo "usage: p.sh [-a] [--help]"; printf "  -a      all\\n  --help  this\\n" ;; -a|"") ;; *) exit 2 ;; esac\n')
    place.write("p.matrix.toml", '[program]\nlaunch = "sh {here}/p.sh"\n[signature]\nsynopsis = "[-a]"\n[expect]\nexit = 3\n')
    place.write("f.matrix.toml", '[program]\nlaunch = "sh {here}/p.sh"\n[[matrix]]\nname = "open"\nline = "-a"\nexpect.stdout = "<fill>"\n')
    words = json.dumps([each.split() for each in CALLS])
    done = subprocess.run([sys.executable, "-c", INTERPRETERS, words], cwd=place.directory, capture_output=True, text=True, timeout=120, check=False)
    assert [line for line in done.stderr.splitlines() if line.startswith("begun")] == [f"begun 0 {each}" for each in CALLS], done.stderr


def test_a_careful_reading_of_a_wide_matrix_searches_for_no_pairs(place: Place) -> None:
    axes = "".join(f"axes.a{number} = [1, 2]\n" for number in range(101))
    line = " ".join(f"{{a{number}}}" for number in range(101))
    place.write("w.matrix.toml", f'[program]\nlaunch = "true"\n[[matrix]]\nname = "wide"\nline = "{line}"\ncombine = "pairs"\n{axes}expect.stdout = "{{a1}}"\n')
    script = """
import sys
from keen_matrix.cli import main
from keen_matrix.core.covering import search
plain, strengths = search.cover, []
search.cover = lambda demand: (strengths.append(demand.strength), plain(demand))[1]
main(["lint"])
print(strengths)
"""
    cache = str(place.directory / "cache")
    assert "2" not in in_process_of_its_own(script, place.directory, XDG_CACHE_HOME=cache).splitlines()[-1], "strength 1 has all that is looked at"
