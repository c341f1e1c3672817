"""The engine where the system lacks what Linux has: workers that are told it is not there come to the same results."""

from __future__ import annotations

from pathlib import Path
from typing import Any

import pytest

import keen_matrix
from keen_matrix.core.launch.workers import links as workers

LACKING = {
    "pidfds": "import os; del os.pidfd_open",
    "epoll": "import select; del select.epoll",
    "subreapers": "from keen_matrix.core.launch.directories import leftovers; leftovers.become_subreaper = lambda: False",
}
LACKING["all three"] = "; ".join(LACKING.values())

SPEC = """
[program]
launch = ["sh", "{here}/p.sh"]
timeout = 2
output-cap = "200 kB"
[[mask]]
matches = "pid [0-9]+"
as = "pid N"
[expect]
exit = 0
stderr = ""
leftovers = "none"
[[matrix]]
name = "ways"
line = "{way}"
axes.way = ["quiet", "says", "large", "both", "fails", "closes", "hangs", "floods", "crashes", "feeds", "leaves", "stops",
            "pid"]
stdin = "fed\\n"
expect.stdout.lacks = "nothing"
[[matrix]]
name = "signalled"
line = "serves"
stop = { when-stdout = "ready", signal = "TERM" }
expect.exit = "1..255"
expect.stdout = "ready"
[[matrix]]
name = "asked"
line = "asks"
terminal = { columns = 80, rows = 24 }
dialogue = [ { prompt = "Sail?", reply = "yes", within = 1 } ]
expect.stdout.ends = "aboard: yes"
[[matrix]]
name = "again"
line = "says"
expect.alike = { again = true }
[[matrix]]
name = "steps"
steps = [ { line = "writes", expect.files."log" = "written" }, { line = "reads", expect.stdout = "written" } ]
[[matrix]]
name = "chained"
line = "feeds"
stdin = { command = "echo from a command" }
expect.stdout = "from a command"
"""
PROGRAM = r"""
case $1 in
quiet) ;;
says) echo out; echo err >&2;;
large) head -c 150000 /dev/zero | tr '\0' x; head -c 150000 /dev/zero | tr '\0' y >&2;;
both) echo one; sleep 0.05; echo two >&2; sleep 0.05; echo three;;
fails) exit 3;;
closes) exec 1>&- 2>&-; sleep 0.1; exit 4;;
hangs) sleep 30;;
floods) yes;;
crashes) kill -SEGV $$;;
feeds) cat;;
leaves) sleep 30 & exit 0;;
stops) kill -STOP $$;;
pid) echo pid $$;;
serves) trap 'exit 7' TERM; echo ready; while :; do :; done;;
asks) printf 'Sail?'; read answer; echo "aboard: $answer";;
writes) echo written > log;;
reads) cat log;;
esac
"""


def came(directory: Path, jobs: int) -> dict[tuple[str, ...], Any]:
    """Run the spec and return what must not depend on the system: verdicts, aspects, ends, streams, files."""
    spec = keen_matrix.load_spec(str(directory / "p.matrix.toml"))
    found = {}
    for record in keen_matrix.run(keen_matrix.unfold(spec), spec, jobs=jobs):
        aspects = [(each.aspect, each.met) for each in record.aspects]
        end = (record.exit, record.signal) if record.argv not in (("floods",), ("hangs",), ("stops",)) else None
        streams = ((record.stdout or "")[:100], (record.stderr or "")[:100]) if record.argv != ("pid",) else None
        found[record.matrix, *record.argv] = (record.verdict, aspects, end, streams, record.files)
        assert record.argv != ("hangs",) or record.seconds > 1.9
    return found


@pytest.fixture(scope="module")
def here(tmp_path_factory: pytest.TempPathFactory) -> Path:
    directory = tmp_path_factory.mktemp("ways")
    (directory / "p.matrix.toml").write_text(SPEC)
    (directory / "p.sh").write_text(PROGRAM)
    return directory


@pytest.fixture(scope="module")
def usual(here: Path) -> dict[tuple[str, ...], Any]:
    return came(here, 1)


def test_the_usual_results_are_what_they_should_be(usual: dict[tuple[str, ...], Any]) -> None:
    verdicts = {key[1]: value[0] for key, value in usual.items() if key[0] == "ways"}
    assert verdicts == {
        "quiet": "passed", "says": "failed", "large": "failed", "both": "failed", "fails": "failed", "closes": "failed",
        "hangs": "timed-out", "floods": "failed", "crashes": "crashed", "feeds": "passed", "leaves": "failed", "stops": "timed-out",
        "pid": "passed",
    }  # fmt: skip
    others = {key: value[0] for key, value in usual.items() if key[0] != "ways"}
    assert others == {
        ("signalled", "serves"): "passed", ("asked", "asks"): "passed", ("again", "says"): "failed",
        ("steps", "writes"): "passed", ("chained", "feeds"): "passed",
    }  # fmt: skip


@pytest.mark.parametrize("jobs", [1, 3])
@pytest.mark.parametrize("what", LACKING)
def test_results_do_not_depend_on_what_the_system_has(
    here: Path, usual: dict[tuple[str, ...], Any], monkeypatch: pytest.MonkeyPatch, what: str, jobs: int
) -> None:
    monkeypatch.setattr(workers, "START", f"{LACKING[what]}\n{workers.START}")
    found = came(here, jobs)
    if "subreaper" in LACKING[what]:  # there what stays behind in the group is ended and not told of
        usual = {**usual, ("ways", "leaves"): found["ways", "leaves"]}
        assert found["ways", "leaves"][0] == "passed"
    assert found == usual
