"""Only what has changed is launched again, on demand and on every save."""

from __future__ import annotations

import io
import os
import signal
import subprocess
import time
from collections.abc import Callable, Iterator
from pathlib import Path

import pytest

from tests.conftest import COMMAND, Place, zygote

PROGRAM = """\
    #!/bin/sh
    . "$(dirname "$0")/prices.sh"
    echo "$1" >> "$(dirname "$0")/../launched"
    echo "$1 costs $PRICE"
    test "$1" != bad
    """
SPEC = """\
    [program]
    launch = "sh {here}/fare.sh"
    env-from-caller = ["PATH", "SEASON"]
    [[matrix]]
    name = "islands"
    line = "{island}"
    axes.island = ["Holm", "Skerry"]
    expect.stdout.contains = "costs 12"
    [[matrix]]
    name = "rows"
    line = "{island}"
    columns = ["island", "exit"]
    rows = "islands.csv"
    expect.exit = "{exit}"
    """
FILES = {"fare.sh": PROGRAM, "prices.sh": "PRICE=12\n", "islands.csv": "island,exit\nNorth,0\nSouth,0\n", "fare.matrix.toml": SPEC}


@pytest.fixture
def office(tmp_path: Path) -> Place:
    place = Place(tmp_path / "office")
    for name, text in FILES.items():
        place.write(name, text)
    return place


def launched(office: Place) -> list[str]:
    """Return the words that the program got since this was asked last, in order."""
    log = office.directory.parent / "launched"
    words = sorted(log.read_text().split()) if log.exists() else []
    log.unlink(missing_ok=True)
    return words


def edit(name: str, old: str, new: str) -> Callable[[Place], None]:
    def act(office: Place) -> None:
        path = office.directory / name
        text = path.read_text()
        assert old in text
        path.write_text(text.replace(old, new, 1))
    return act


EVERYTHING = ["Holm", "North", "Skerry", "South"]


@pytest.mark.parametrize(("change", "expected"), [
    (lambda office: None, []),
    (edit("fare.matrix.toml", '"Skerry"]', '"Skerry", "Reef"]'), ["Reef"]),
    (edit("fare.matrix.toml", "costs 12", "costs"), ["Holm", "Skerry"]),
    (edit("fare.matrix.toml", 'name = "islands"', 'name = "islands"\ntags = ["slow"]'), []),
    (edit("fare.matrix.toml", "[program]", "[program]\ntimeout = 5"), EVERYTHING),
    (edit("fare.matrix.toml", "[program]", "# the fares\n[program]"), []),
    (edit("fare.sh", "costs", "costs  "), EVERYTHING),
    (edit("prices.sh", "12", "13"), EVERYTHING),
    (edit("islands.csv", "South,0", "South,1"), ["South"]),
    (lambda office: office.write("islands.csv", "island,exit\nEast,0\nNorth,0\nSouth,0\n"), ["East"]),
    (lambda office: (office.directory / "fare.sh").touch(), []),
    (lambda office: office.write("fare.sh.notes", "new"), EVERYTHING),
    (lambda office: office.write(".hidden/notes", "new"), []),
], ids=["nothing", "a value", "an expectation", "a tag", "a time limit", "a comment", "the program", "a file that it reads",
        "a row of a table", "a row before others", "its time alone", "a new file", "a hidden file"])  # fmt: skip
def test_what_has_changed_is_launched(office: Place, change: Callable[[Place], None], expected: list[str]) -> None:
    assert office.call("run").status == 0
    assert launched(office) == EVERYTHING
    change(office)
    came = office.call("run", "--changed")
    assert launched(office) == expected, came
    kept = len({*EVERYTHING, *expected} - set(expected))
    assert (f"({kept} of them unchanged and not launched)" in came.out) == bool(kept)


def test_a_record_that_is_taken_over_says_from_when_and_is_none_of_the_history(office: Place) -> None:
    office.call("run")
    first = {each["id"]: each for each in office.cases()}
    started = office.journal()[0]["started"]
    for _ in range(2):
        assert office.call("run", "--changed").status == 0
    for each in office.cases():
        assert each.pop("taken_from") == started
        assert each == first[each["id"]]


def test_what_did_not_hold_is_always_launched(office: Place) -> None:
    edit("fare.matrix.toml", '"Skerry"', '"bad"')(office)
    edit("fare.matrix.toml", 'contains = "costs 12"', 'contains = "costs 12"\nexpect.exit = 0')(office)
    assert office.call("run").status == 1
    launched(office)
    for _ in range(2):
        came = office.call("run", "--changed")
        assert (came.status, launched(office)) == (1, ["bad"])


def test_the_environment_counts_as_far_as_it_is_taken_over(office: Place) -> None:
    office.call("run")
    launched(office)
    office.call("run", "--changed", env={"HARBOUR": "south"})
    assert launched(office) == []
    office.call("run", "--changed", env={"SEASON": "winter"})
    assert launched(office) == EVERYTHING


def test_cases_that_share_a_directory_are_never_taken_over(office: Place) -> None:
    edit("fare.matrix.toml", 'name = "islands"', 'name = "islands"\ndirectory = "spec"')(office)
    office.call("run")
    launched(office)
    office.call("run", "--changed")
    assert launched(office) == ["Holm", "Skerry"]


def test_sources_stand_in_place_of_the_directories(office: Place) -> None:
    edit("fare.matrix.toml", "[program]", '[program]\nsources = ["prices.sh"]')(office)
    office.call("run")
    launched(office)
    office.write("notes", "of no matter")
    office.call("run", "--changed")
    assert launched(office) == []
    edit("prices.sh", "12", "14")(office)
    office.call("run", "--changed")
    assert launched(office) == EVERYTHING


def test_large_files_are_told_by_size_and_time_and_a_pipe_is_not_read(office: Place, monkeypatch: pytest.MonkeyPatch) -> None:
    from keen_matrix.core.runs.watching import sources

    monkeypatch.setattr(sources, "READ_IN_ALL", 30)
    places = sources.SourcePlaces(directories=(str(office.directory),), files=())
    read = [each for each, digest in sources.digests_of(places).items() if "-" not in digest]
    assert sum(os.path.getsize(each) for each in read) <= 30
    assert len(sources.digests_of(places)) == 3, "the program, what it reads, and the table; not the spec"
    os.mkfifo(office.directory / "pipe")
    os.mkfifo(office.directory / "journal")
    assert office.call("run", "--changed", "--journal", "journal", timeout=20).status in (0, 3)


def test_derived_vectors_are_taken_over_without_trying_what_they_stand_on(office: Place) -> None:
    edit("fare.matrix.toml", "[[matrix]]", '[signature]\nsynopsis = "ISLAND"\n[[matrix]]')(office)
    office.call("run")
    launched(office)
    came = office.call("run", "--changed")
    assert "North" not in launched(office)
    assert "unchanged and not launched" in came.out


@pytest.mark.parametrize("words", [["--changed", "--resume"], ["--watch", "--shard", "1/2"], ["--notify", "true"]])
def test_options_that_exclude_each_other_are_told(office: Place, words: list[str]) -> None:
    came = office.call("run", *words)
    assert came.status == 2
    assert "go with" in came.err or "goes with" in came.err


class Watching:
    """A run that watches, and what it has written so far."""

    def __init__(self, office: Place, *words: str, log: Path | None = None) -> None:
        self.log = log or office.directory.parent / "watched.txt"
        with self.log.open("wb") as log:
            env = {**os.environ, "NO_COLOR": "1"}
            self.process = zygote().start(COMMAND, ["run", "--watch", *words], str(office.directory), env, log.fileno())
        self._seen = 0

    def until(self, text: str) -> str:
        """Return what was written since the last call, up to a text that is waited for."""
        until = time.monotonic() + 60
        while time.monotonic() < until:
            written = self.log.read_text()
            at = written.find(text, self._seen)
            if at >= 0:
                start, self._seen = self._seen, at + len(text)
                return written[start : self._seen]
            time.sleep(0.02)
        raise AssertionError(f"{text!r} did not come: {self.log.read_text()[self._seen:]}")

    def end(self) -> int:
        self.process.send_signal(signal.SIGINT)
        return self.process.wait(30)


@pytest.fixture
def watching(office: Place) -> Iterator[Callable[..., Watching]]:
    started: list[Watching] = []

    def start(*words: str, log: Path | None = None) -> Watching:
        started.append(Watching(office, *words, log=log))
        return started[-1]

    yield start
    for each in started:
        if each.process.poll() is None:
            os.killpg(each.process.pid, signal.SIGKILL)
            each.process.wait()


def test_each_save_tells_what_it_changed(office: Place, watching: Callable[..., Watching]) -> None:
    watch = watching("--notify", f"sh -c 'echo \"$0\" > {office.directory.parent}/told'")
    assert "4 cases: all passed" in watch.until("waiting for a change")
    edit("prices.sh", "12", "11")(office)
    told = watch.until("waiting for a change")
    assert "prices.sh changed" in told
    assert "newly failing  2" in told
    assert 'line 1 of standard output: "12" → "11"   passed → failed' in told
    assert "other output  2" in told
    assert "expected" in told
    edit("fare.sh", "bad", "worse")(office)
    assert "as before, 2 cases failed" in watch.until("waiting for a change")
    edit("prices.sh", "11", "12")(office)
    told = watch.until("waiting for a change")
    assert "newly passing  2" in told
    edit("fare.matrix.toml", '"Skerry"]', '"Skerry", "Reef"]')(office)
    told = watch.until("waiting for a change")
    assert "new  1 case" in told
    assert "5 cases: all passed (4 of them unchanged and not launched)" in told
    assert "5 cases" in (office.directory.parent / "told").read_text()
    assert watch.end() == 0


def test_a_spec_that_becomes_wrong_and_right_again(office: Place, watching: Callable[..., Watching]) -> None:
    watch = watching()
    watch.until("waiting for a change")
    edit("fare.matrix.toml", "[[matrix]]", "[[matrix]")(office)
    assert "fare.matrix.toml:4:" in watch.until("waiting for a change")
    edit("fare.matrix.toml", "[[matrix]", "[[matrix]]")(office)
    assert "4 cases: all passed" in watch.until("waiting for a change")
    assert watch.end() == 0


def test_a_change_ends_the_round_that_goes_on(office: Place, watching: Callable[..., Watching]) -> None:
    watch = watching()
    watch.until("waiting for a change")
    begun = time.monotonic()
    edit("prices.sh", "PRICE=12", "PRICE=12; touch ../begun; sleep 90")(office)
    edit("prices.sh", "../begun", str(office.directory.parent / "begun"))(office)
    while not (office.directory.parent / "begun").exists():
        assert time.monotonic() < begun + 30
        time.sleep(0.02)
    edit("prices.sh", "sleep 90", "true")(office)
    assert "all passed" in watch.until("waiting for a change")
    assert time.monotonic() - begun < 80
    assert watch.end() == 0


@pytest.mark.parametrize(
    "then", [edit("prices.sh", "or so", "or  so"), edit("islands.csv", "South,0", "East,0\nSouth,0")], ids=["all again", "some taken over"]
)
def test_what_came_in_a_round_that_was_ended_is_told_by_the_next(
    office: Place, watching: Callable[..., Watching], then: Callable[[Place], None]
) -> None:
    watch = watching("--jobs", "4")
    watch.until("waiting for a change")
    begun = office.directory.parent / "begun"
    (office.directory.parent / "launched").write_text("")
    edit("prices.sh", "PRICE=12", f'PRICE="12 or so"; [ "$1" != South ] || [ -e {begun} ] || {{ touch {begun}; sleep 90; }}')(office)
    until = time.monotonic() + 30
    while not (begun.exists() and len((office.directory.parent / "launched").read_text().split()) == 3):
        assert time.monotonic() < until
        time.sleep(0.02)
    time.sleep(0.5)  # until they are written
    then(office)
    watch.until("changed")
    watch.until("changed")
    assert "other output  4" in watch.until("waiting for a change")
    assert watch.end() == 0


def test_what_a_build_writes_begins_no_round_for_ever(office: Place, watching: Callable[..., Watching]) -> None:
    office.write("build.sh", 'cp "$(dirname "$0")/fare.src" "$(dirname "$0")/fare.sh"; date +%N >> "$(dirname "$0")/fare.sh.stamp"\n')
    office.write("fare.src", PROGRAM)
    edit("fare.matrix.toml", "[program]", '[program]\nbuild = "sh {here}/build.sh"')(office)
    watch = watching()
    watch.until("waiting for a change")
    _until_still(watch)
    edit("fare.src", "costs", "costs 12, no:")(office)
    watch.until("fare.src changed")
    # also where the round begins again for the file that the build wrote
    assert "other output  4" in watch.until("waiting for a change")
    _until_still(watch)
    assert watch.end() == 0


def _until_still(watch: Watching) -> None:
    """Wait until no build begins for a while: how many it takes until then is a matter of the machine."""
    for _ in range(20):
        seen = watch.log.read_text().count("build: ")
        time.sleep(2.0)
        if watch.log.read_text().count("build: ") == seen:
            return
    raise AssertionError(f"it goes round for ever: {watch.log.read_text()}")


def test_its_own_output_in_the_directory_that_is_watched_begins_no_round(office: Place, watching: Callable[..., Watching]) -> None:
    watch = watching(log=office.directory / "watch.log")
    watch.until("waiting for a change")
    time.sleep(1.5)
    assert watch.log.read_text().count("waiting for a change") == 1
    edit("fare.sh", "costs", "costs about")(office)
    watch.until("fare.sh changed")
    assert watch.end() == 0


def test_files_that_the_spec_names_count_wherever_they_are(tmp_path: Path) -> None:
    place = Place(tmp_path / "specs")
    place.write("../.golden/a.txt", "hello")
    place.write("../fed/in.txt", "hello")
    place.write("t.matrix.toml", """
        [program]
        launch = "cat"
        [[matrix]]
        name = "m"
        line = "{word}"
        axes.word = ["a"]
        files.a = { copy = "{here}/../fed/in.txt" }
        expect.stdout.file = "../.golden/{word}.txt"
        """)
    assert place.call("run").status == 0 and "1 of them unchanged" in place.call("run", "--changed").out
    place.write("../.golden/a.txt", "other")
    assert place.call("run", "--changed").status == 1
    place.write("../.golden/a.txt", "hello")
    assert place.call("run", "--changed").status == 0
    place.write("../fed/in.txt", "other")
    assert place.call("run", "--changed").status == 1


def test_what_version_control_ignores_is_no_source(office: Place) -> None:
    subprocess.run(["git", "init", "-q", "."], cwd=office.directory, check=True)
    office.write(".gitignore", "*.out\n.keen-matrix\n")
    office.write("build.out", "1")
    office.call("run")
    launched(office)
    office.write("build.out", "2")
    assert "unchanged and not launched" in office.call("run", "--changed").out and not launched(office)


def test_a_reader_that_has_enough_ends_the_watch(office: Place) -> None:
    process = subprocess.Popen(
        [COMMAND, "run", "--watch"], cwd=office.directory, stdout=subprocess.PIPE, stderr=subprocess.PIPE, stdin=subprocess.DEVNULL,
        start_new_session=True,
    )  # fmt: skip
    assert process.stdout is not None
    process.stdout.close()
    _, err = process.communicate(timeout=30)
    assert (process.returncode, b"Broken" in err) == (0, False)


def test_a_file_that_grows_while_it_is_read_is_read_once(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    """As a log beside the spec does, to which each reading adds a line."""
    path = tmp_path / "log"
    path.write_bytes(b"a line\n")

    from keen_matrix.core.runs.watching import sources

    class Growing(io.BytesIO):
        def read(self, size: int | None = -1, /) -> bytes:
            assert size == len(b"a line\n")
            return b"a line\n"

    monkeypatch.setattr(sources, "open", lambda *_: Growing(), raising=False)
    assert sources.file_digest(str(path))
