"""Budgets and order, clusters of real processes, and large journals."""

from __future__ import annotations

import json
import os
import signal
import socket
import subprocess
import sys
import time
from collections.abc import Iterator
from contextlib import contextmanager
from pathlib import Path

import pytest
from msgspec.structs import replace

from keen_matrix.core.model.case import Case, Standing
from keen_matrix.core.results.budget import ordered, pairs_in, parse_budget
from tests.conftest import COMMAND, SIDE_BY_SIDE, Place

SPEC = """
    [program]
    launch = "sh {here}/p.sh"
    [expect]
    exit = 0
    [[matrix]]
    name = "m"
    line = "{n} {here}/p.sh"
    axes.n = { from = 1, to = 120 }
    [[matrix.expect]]
    stdout = "{n} {here}/p.sh"
    [[matrix.expect]]
    when = "n == 7"
    exit = 3
    """


def case(number: int, **values: object) -> Case:
    return Case(sequence=number, id=f"{number:010d}", matrix=0, argv=(str(number),), values=values)


@pytest.mark.parametrize(
    ("text", "seconds"), [("30 s", 30), ("5 min", 300), ("90", 90), ("250ms", 0.25), ("1 h", 3600)]
)
def test_budgets_are_read(text: str, seconds: float) -> None:
    assert parse_budget(text) == seconds


def test_every_beginning_covers_most_and_failed_ones_come_first() -> None:
    cases = [case(n, a=n // 9, b=n // 3 % 3, c=n % 3) for n in range(27)]
    plain = ordered(cases, {})
    assert sorted(each.id for each in plain.cases) == [each.id for each in cases]
    assert plain.reached(9).pairs >= 24 and plain.reached(9).of_pairs == 27, (
        "in the order of the spec nine rows cover 15"
    )
    known = {each.id: ("passed", 1.0) for each in cases[:20]} | {cases[13].id: ("failed", 1.0)}
    first = ordered(cases, known).cases
    assert first[0].id == cases[13].id and {each.id for each in first[1:8]} == {each.id for each in cases[20:]}
    slow = {each.id: ("passed", 9.0 if each.values["a"] == 0 else 0.1) for each in cases}
    assert all(each.values["a"] != 0 for each in ordered(cases, slow).cases[:6])
    gains = [len(set().union(*map(pairs_in, plain.cases[:n]))) for n in range(1, 28)]
    assert gains == sorted(gains)


def test_each_kind_of_refusal_comes_once_before_the_rest() -> None:
    cases = [case(n, a=n) for n in range(12)]
    kinds = [f"kind{number % 3}" for number in range(12)]
    cases = [
        replace(each, kind=kind, standings=(Standing("refused", (kind,)),))
        for each, kind in zip(cases, kinds, strict=True)
    ]
    assert {each.kind for each in ordered(cases, {}).cases[:3]} == {"kind0", "kind1", "kind2"}


def test_a_budget_stops_in_time_and_has_a_status_of_its_own(place: Place) -> None:
    place.write("p.sh", "sleep 0.1; echo $*")
    place.write("t.matrix.toml", SPEC.replace('    when = "n == 7"\n    exit = 3\n', "    exit = 0\n"))
    started = time.monotonic()
    came = place.call("run", "--budget", "1 s")
    assert came.status == 4 and time.monotonic() - started < 30 and "cases left" in came.out
    place.write("p.sh", "echo $*")
    came = place.call("run", "--budget", "1 min")
    assert came.status == 0 and "it sufficed" in came.out
    assert place.call("run", "--order", "new").status == 0
    assert "expected a time" in place.call("run", "--budget", "soon").err


# --- clusters ---


@contextmanager
def cluster(
    directory: Path, workers: int = 2, env: dict[str, str] | None = None
) -> Iterator[tuple[str, list[subprocess.Popen[bytes]]]]:
    """A scheduler and workers, each a process of its own."""
    pytest.importorskip("distributed")
    with socket.socket() as free:
        free.bind(("127.0.0.1", 0))
        port = free.getsockname()[1]
    address = f"tcp://127.0.0.1:{port}"
    dask = str(Path(sys.executable).parent / "dask")
    quiet = {"stdout": subprocess.DEVNULL, "stderr": subprocess.DEVNULL, "cwd": directory}
    words = [dask, "scheduler", "--host", "127.0.0.1", "--port", str(port), "--no-dashboard"]
    started = [subprocess.Popen(words, **quiet)]  # type: ignore[call-overload]
    words = [
        dask,
        "worker",
        address,
        "--nthreads",
        "1",
        "--no-dashboard",
        "--no-nanny",
        "--local-directory",
        str(directory / "dask"),
    ]
    try:
        for _ in range(workers):
            started.append(subprocess.Popen(words, env={**os.environ, **(env or {})}, **quiet))  # type: ignore[call-overload]
        from distributed import Client

        with Client(address, timeout=120) as client:
            client.wait_for_workers(workers, timeout=120)
        yield address, started[1:]
    finally:
        for process in started:
            process.kill()
            process.wait()


@pytest.fixture(scope="module")
def shared(tmp_path_factory: pytest.TempPathFactory) -> Iterator[tuple[str, list[subprocess.Popen[bytes]]]]:
    """A cluster for several tests, one of which kills one of its two workers."""
    with cluster(tmp_path_factory.mktemp("cluster")) as started:
        yield started


Cluster = tuple[str, list[subprocess.Popen[bytes]]]


def essence(place: Place, journal: str) -> list[tuple[object, ...]]:
    """Return what two runs of the same spec must share."""
    return sorted(
        (each["id"], each["verdict"], each["exit"], each["stdout"], json.dumps(each["argv"]), json.dumps(each["files"]))
        for each in place.cases(journal)
    )


@pytest.mark.long
def test_a_cluster_gives_the_journal_of_a_local_run_even_when_a_worker_dies(place: Place, shared: Cluster) -> None:
    address, workers = shared
    place.write("p.sh", "sleep 0.05; echo $*")
    place.write("t.matrix.toml", SPEC)
    place.call("run", "--journal", "local.jsonl", env=SIDE_BY_SIDE)
    came = place.call("run", "--cluster", address, "--journal", "whole.jsonl")
    assert came.status == 1 and essence(place, "whole.jsonl") == essence(place, "local.jsonl"), came.err
    process = place.start("run", "--cluster", address, "--journal", "killed.jsonl", "--brief")
    give_up = time.monotonic() + 120
    while time.monotonic() < give_up and (place.directory / "killed.jsonl").read_bytes().count(b"\n") < 10 if (
        place.directory / "killed.jsonl").exists() else time.monotonic() < give_up:  # fmt: skip
        time.sleep(0.05)
    workers[0].kill()
    _out, err = process.communicate(timeout=300)
    assert process.returncode == 1, err
    assert essence(place, "killed.jsonl") == essence(place, "local.jsonl"), "no case lost or counted twice"
    few = place.call("run", "--cluster", address, "--only", "7", "--stop-after", "1", "--journal", "few.jsonl")
    assert few.status == 1 and [each["argv"][0] for each in place.cases("few.jsonl")] == ["7"]
    cut = list((place.directory / "whole.jsonl").read_text().splitlines(keepends=True))
    (place.directory / "cut.jsonl").write_text("".join(cut[:40]))
    assert place.call("run", "--cluster", address, "--resume", "--journal", "cut.jsonl").status == 1
    assert essence(place, "cut.jsonl") == essence(place, "local.jsonl")


def test_an_interrupted_cluster_run_cleans_up(place: Place, shared: Cluster) -> None:
    place.write("p.sh", "sleep 0.2; echo $*")
    place.write("t.matrix.toml", SPEC)
    address, _ = shared
    process = place.start("run", "--cluster", address, "--brief")
    give_up = time.monotonic() + 120
    while time.monotonic() < give_up and not (place.directory / ".keen-matrix/last.jsonl").exists():
        time.sleep(0.05)  # until the first batch is back
    os.kill(process.pid, signal.SIGINT)
    process.communicate(timeout=300)
    assert process.returncode == 130 and place.journal()[-1].get("interrupted")
    place.write("p.sh", "echo $*")
    assert place.call("run", "--cluster", address).status == 1, "the workers are free again"


def test_a_worker_that_does_not_fit_is_refused(place: Place, shared: Cluster) -> None:
    place.write("p.sh", "echo $*")
    place.write("t.matrix.toml", SPEC.replace("sh {here}/p.sh", "only-here"))
    program = place.write("bin/only-here", "#!/bin/sh\necho $*\n")
    program.chmod(0o755)
    path = {"PATH": f"{place.directory}/bin:{os.environ['PATH']}"}
    came = place.call("run", "--cluster", shared[0], env=path)
    assert came.status == 3 and 'no program "only-here"' in came.err and "the worker tcp" in came.err
    fake = place.directory / "fake/keen_matrix"
    fake.mkdir(parents=True)
    real = Path(__file__).parent.parent / "src/keen_matrix"
    (fake / "core").mkdir()
    for each in (*real.iterdir(), *(real / "core").iterdir()):
        if each.name not in ("core", "version.py"):
            (fake / each.relative_to(real)).symlink_to(each)
    (fake / "core/version.py").write_text('VERSION = "9.0"\n')
    with cluster(place.directory, 1, {"PYTHONPATH": str(fake.parent)}) as (address, _):
        came = place.call("run", "--cluster", address, env=path)
        assert came.status == 3 and "has Keen Matrix 9." in came.err
    none = place.call("run", "--cluster", "tcp://127.0.0.1:9", env=path)
    assert none.status == 3 and "cannot be reached" in none.err
    assert "does not go with --cluster" in place.call("run", "--cluster", "local", "--keep-directories", env=path).err


def test_a_cluster_of_this_machine(place: Place) -> None:
    pytest.importorskip("distributed")
    place.write("p.sh", "echo $*")
    place.write("t.matrix.toml", SPEC)
    came = subprocess.run(
        [COMMAND, "run", "--cluster", "local", "--jobs", "1"],
        cwd=place.directory,
        capture_output=True,
        text=True,
        timeout=90,
    )
    assert came.returncode == 1 and "120 cases: 119 passed, 1 failed" in came.stdout, came.stderr
