"""The launch engine on real processes: every way to feed, watch and end a program, and to go on after a fault."""

from __future__ import annotations

import json
import os
import resource
import signal
import subprocess
import sys
import time
import tracemalloc
from pathlib import Path
from typing import Any

import pytest

import keen_matrix
from keen_matrix.core.expect.cascade import Judged
from keen_matrix.core.expect.recording import CaseRecorder
from keen_matrix.core.launch.process.launch import Launch
from keen_matrix.core.launch.process.starters import Cold
from keen_matrix.core.launch.process.system import System
from keen_matrix.core.launch.start import Start
from keen_matrix.core.launch.workers.frames import FrameReader
from keen_matrix.core.launch.workers.wire import ResultFrame, pack, pack_live, pack_result, unpack
from keen_matrix.core.model.case import Case
from keen_matrix.core.model.lines import encode
from keen_matrix.core.model.outcome import Outcome
from keen_matrix.core.model.spec import Spec
from tests.conftest import COMMAND, Place, children_of


def run(
    place: Place, script: str, matrix: str, *words: str, program: str = "", top: str = "", language: str = "sh"
) -> list[dict[str, Any]]:
    """Run a script under a matrix and return the records."""
    place.write("p.script", script)
    place.write(
        "t.matrix.toml",
        f'{top}\n[program]\nlaunch = "{language} {{here}}/p.script"\ntimeout = 4\n{program}\n[[matrix]]\nname = "m"\n{matrix}\n',
    )
    temporary = place.directory / "tmp"
    temporary.mkdir(exist_ok=True)
    came = place.call("run", *words, env={"TMPDIR": str(temporary)})
    assert "Traceback" not in came.err, came.err
    place.last = came  # type: ignore[attr-defined]
    return place.cases()


ONE = 'line = "x"\n'
FED = [
    ('stdin = "Ada\\n"', "Ada\n"),
    ('stdin = { text = "closed" }', "closed"),
    ('stdin = { file = "names.txt" }', "Ben\nAda\n"),
    ('stdin = { command = "printf hello" }', "hello"),
    ('stdin = { command = ["cat {here}/names.txt", "sort", "tr a-z A-Z"] }', "ADA\nBEN\n"),
    ("", ""),
]


@pytest.mark.parametrize(("stdin", "came"), FED, ids=[each[0][:40] for each in FED])
def test_standard_input_comes_from_anywhere(place: Place, stdin: str, came: str) -> None:
    place.write("names.txt", "Ben\nAda\n")
    (case,) = run(place, "cat", ONE + stdin + f"\nexpect.stdout = {json.dumps(came)}")
    assert (case["verdict"], case["stdout"]) == ("passed", came)
    assert all(each["exit"] == 0 for each in case.get("feeders", [])) and ("feeders" in case) == ("command" in stdin)


@pytest.mark.parametrize(("last", "exit", "signal", "verdict"), [
    ("echo x; exec >&-; sleep 0.03; exit 3", 3, None, "failed"),
    ("echo x; exec >&-; sleep 0.03", 0, None, "passed"),
    ("echo x; exec >&-; sleep 30", None, "PIPE", "passed"),
    ("while echo x; do :; done 2>&-", None, "PIPE", "passed"),
])  # fmt: skip
def test_a_feeder_gets_a_moment_to_end_by_itself(
    place: Place, last: str, exit: int | None, signal: str | None, verdict: str
) -> None:
    place.write("feed.sh", last)
    (case,) = run(place, "head -n1", ONE + 'stdin = { command = "sh {here}/feed.sh" }\nexpect.stdout = "x"')
    assert case["verdict"] == verdict and case["seconds"] < 20
    assert (case["feeders"][0]["exit"], case["feeders"][0]["signal"]) == (exit, signal)


def test_closed_standard_input_is_none_at_all(place: Place) -> None:
    script = "import sys; print('closed' if sys.stdin is None else 'open')"
    (case,) = run(place, script, ONE + 'stdin = "closed"\nexpect.exit = 0', language=sys.executable)
    assert case["stdout"] == "closed\n"


def test_a_feeding_command_that_fails_is_told_with_its_exit(place: Place) -> None:
    (case,) = run(place, "cat", ONE + 'stdin = { command = ["sh -c \'echo a; exit 3\'", "cat"] }\nexpect.stdout = "a"')
    assert case["verdict"] == "failed"
    assert [(each["command"], each["exit"]) for each in case["feeders"]] == [("sh", 3), ("cat", 0)]
    (case,) = run(place, "head -c 3", ONE + 'stdin = { command = "yes" }\nexpect.stdout = "y\\ny"')
    assert case["verdict"] == "passed" and case["feeders"][0]["signal"] == "PIPE"
    (case,) = run(place, "cat", ONE + 'stdin = { command = "nosuchcommand" }\nexpect.stdout = ""')
    assert case["verdict"] == "not-started"


def test_files_of_every_kind_are_put_in_place_and_what_changed_is_told(place: Place) -> None:
    place.write("kept/a.txt", "a")
    matrix = """
        line = "{who}"
        axes.who = ["Ada", "Ben"]
        expect.exit = 0
        files."t.txt" = "hello {who}"
        files."b.bin" = { bytes = "base64:AAH/" }
        files."run.sh" = { text = "echo ran", mode = "755" }
        files."copy" = { copy = "kept" }
        files."empty" = { dir = true }
        files."link" = { link = "t.txt" }
        files."deep/er/x" = "x"
    """
    script = "cat t.txt copy/a.txt; ./run.sh; od -An -tx1 b.bin; cat link; rm deep/er/x; echo more >> t.txt; echo new > empty/n; chmod 600 b.bin"
    cases = run(place, script, matrix)
    assert len(cases) == 2 and all(each["verdict"] == "passed" for each in cases)
    case = next(each for each in cases if each["argv"] == ["Ada"])
    assert case["stdout"] == "hello Adaaran\n 00 01 ff\nhello Ada"
    assert {name: (each["state"], each.get("mode")) for name, each in case["files"].items()} == {
        "b.bin": ("changed", "600"), "deep/er/x": ("deleted", None), "empty/n": ("created", "644"), "t.txt": ("changed", "644"),
    }  # fmt: skip


def test_environment_variables_are_set_and_unset_per_case(place: Place) -> None:
    matrix = 'line = "{n}"\naxes.n = [1, 2]\nenv = { N = "{n * 2}", LC_ALL = false }\nexpect.stdout = "{n * 2} none"'
    assert [each["verdict"] for each in run(place, 'echo "$N ${LC_ALL-none}"', matrix)] == ["passed", "passed"]


def test_a_terminal_has_its_size_and_is_the_controlling_one(place: Place) -> None:
    script = "test -t 0 && test -t 1 && echo yes; stty size; echo err >&2; echo via-tty > /dev/tty"
    (case,) = run(place, script, ONE + "terminal = { columns = 66, rows = 12 }\nexpect.exit = 0")
    assert case["stdout"] == "yes\n12 66\nerr\nvia-tty\n" and case["stderr"] == ""
    (case,) = run(place, script, ONE + 'terminal = { columns = 66, stderr = "apart" }\nexpect.exit = 0')
    assert case["stdout"] == "yes\n24 66\nvia-tty\n" and case["stderr"] == "err\n"


ASKING = 'printf "Name? "; read name; printf "Sure, $name? "; read sure; echo "$name:$sure"'
DIALOGUE = 'dialogue = [{ prompt = "Name?", reply = "Ada B" }, { prompt = "Sure, Ada B?", reply = "yes" }]\n'


@pytest.mark.parametrize("terminal", ["", "terminal = {}\n"], ids=["pipe", "terminal"])
def test_prompts_are_answered_in_order(place: Place, terminal: str) -> None:
    (case,) = run(place, ASKING, ONE + terminal + DIALOGUE + 'expect.stdout.ends = "Ada B:yes"')
    assert case["verdict"] == "passed", case
    assert case["dialogue"] == [["Name?", "Ada B"], ["Sure, Ada B?", "yes"]]


def test_a_prompt_that_never_comes_shows_the_conversation_so_far(place: Place) -> None:
    late = DIALOGUE.replace('"yes" }', '"yes", within = 0.3 }').replace("Sure, Ada B?", "Really?")
    (case,) = run(place, ASKING, ONE + "terminal = {}\n" + late + "expect.exit = 0")
    assert case["verdict"] == "failed" and case["aspects"][0]["aspect"] == "dialogue" and case["seconds"] < 4, "the time of the program"
    out = place.last.out  # type: ignore[attr-defined]
    assert 'the prompt "Really?"' in out and '"Name?" was answered "Ada B"' in out and "Sure, Ada B?" in out


def test_a_prompt_nobody_expects_is_a_hang_that_shows_it(place: Place) -> None:
    (case,) = run(place, ASKING, ONE + "timeout = 2\nterminal = {}\nexpect.exit = 0")
    assert case["verdict"] == "timed-out" and "Name?" in place.last.out  # type: ignore[attr-defined]


def test_standard_input_ends_behind_the_last_reply(place: Place) -> None:
    (case,) = run(place, 'printf "Name?"; read name; rest=$(cat); echo "$name, $rest end"', ONE + "timeout = 30\n"
                  'dialogue = [{ prompt = "Name?", reply = "Ada" }]\nexpect.stdout.ends = "Ada,  end"')  # fmt: skip
    assert case["verdict"] == "passed", case


def test_a_stopped_program_is_woken_to_end_itself(place: Place) -> None:
    (case,) = run(place, "trap 'echo bye; exit' TERM; kill -STOP $$; sleep 9", ONE + "timeout = 2\nexpect.exit = 0")
    assert (case["verdict"], case["stdout"]) == ("timed-out", "bye\n")


STOPS = [
    ("while :; do echo tick; sleep 0.1; done", 'stop = { after = 1.2, signal = "INT" }', "tick\n", "INT"),
    ("echo ready; sleep 60", 'stop = { when-stdout = "ready" }', "ready\n", "TERM"),
    ("echo listening >&2; sleep 60", 'stop = { when-stderr = "listen", signal = "HUP" }', "", "HUP"),
    (
        "trap 'echo bye; exit 0' TERM; echo ready; while :; do sleep 0.05; done",
        'stop = { when-stdout = "ready" }',
        "ready\nbye\n",
        None,
    ),
]


@pytest.mark.parametrize(("script", "stop", "stdout", "ended"), STOPS, ids=[each[1][:34] for each in STOPS])
def test_a_program_that_never_ends_is_stopped_without_counting_as_hung(
    place: Place, script: str, stop: str, stdout: str, ended: str | None
) -> None:
    (case,) = run(place, script, ONE + "timeout = 30\n" + stop + f"\nexpect.stdout{'.starts' if stdout else ''} = {json.dumps(stdout)}")
    assert (case["verdict"], case["signal"]) == ("passed", ended) and case["seconds"] < 20
    assert "stopped" in case


def test_one_that_does_not_stop_is_hung(place: Place) -> None:
    (case,) = run(
        place,
        "trap '' TERM; echo ready; while :; do sleep 0.1; done",
        ONE + 'timeout = 60\nstop = { when-stdout = "ready" }\nexpect.exit = 0',
    )
    assert case["verdict"] == "timed-out" and 1.9 < case["seconds"] < 50


LEFT = [
    "sleep 60 & exit 0",
    "setsid sleep 60 > /dev/null 2>&1 & exit 0",
    "(setsid sh -c 'sleep 60 & sleep 61 & wait' > /dev/null 2>&1 &) ; sleep 0.1",
]


@pytest.mark.parametrize("jobs", ["1", "8"])
def test_whatever_a_program_leaves_behind_is_ended_and_told(place: Place, jobs: str) -> None:
    for script in LEFT:
        cases = run(place, script, 'line = "{n}"\naxes.n = { from = 1, to = 6 }\nexpect.exit = 0', "--jobs", jobs)
        assert all(each["verdict"] == "failed" and "sleep" in each["leftovers"] for each in cases), script
        assert _processes_below(place.directory) == []
    cases = run(place, LEFT[0], ONE + 'expect = { exit = 0, leftovers = "allowed" }')
    assert cases[0]["verdict"] == "passed"


def test_a_bystander_is_never_harmed(place: Place) -> None:
    bystander = subprocess.Popen(["sleep", "30"], start_new_session=True)
    run(place, LEFT[2], 'line = "{n}"\naxes.n = [1, 2, 3]\nexpect.exit = 0', "--jobs", "3")
    assert bystander.poll() is None
    bystander.kill()
    bystander.wait()


def _processes_below(directory: Path) -> list[str]:
    found = []
    for pid in os.listdir("/proc"):
        if pid.isdecimal():
            try:
                if b"HOME=" + bytes(directory) in Path(f"/proc/{pid}/environ").read_bytes():
                    found.append(pid)
            except OSError:
                continue
    return found


NASTY = [
    ("chmod 000 .", {"passed"}),
    ("rm -rf ../dir", {"passed"}),
    ("for i in $(seq 2000); do : > f$i; done; mkdir -p a/b/c; chmod 000 a/b", {"passed"}),
    ("kill -STOP $$", {"timed-out"}),
    ("stty raw -echo 2>/dev/null; exit 0", {"passed"}),
    ("ln -s / up; mv ../home ../away; touch ../tmp/x", {"passed"}),
    ("exec 1>&- 2>&-; exit 0", {"passed"}),
]


@pytest.mark.parametrize("jobs", ["1", "8"])
def test_nothing_a_program_does_to_its_surroundings_reaches_the_next_case(
    place: Place, jobs: str, tmp_path_factory: pytest.TempPathFactory
) -> None:
    temporary = tmp_path_factory.mktemp("t")
    place.write("p.script", 'ls -A . "$HOME" "$TMPDIR"; eval "$1"')
    text = '[program]\nlaunch = "sh {here}/p.script"\n'
    for seconds, verdicts in ((60, {"passed"}), (2, {"timed-out"})):
        scripts = json.dumps([script for script, expected in NASTY if expected == verdicts])
        text += f"""\
[[matrix]]
name = "within {seconds}"
line = "{{s}} {{n}}"
timeout = {seconds}
axes.n = {{ from = 1, to = 2 }}
axes.s = {scripts}
expect = {{ exit = 0, stdout.lacks = ["f1", "x", "away"] }}
"""
    place.write("t.matrix.toml", text)
    came = place.call("run", "--jobs", jobs, env={"TMPDIR": str(temporary)})
    assert "Traceback" not in came.err
    expected = dict(NASTY)
    cases = place.cases()
    assert len(cases) == 2 * len(NASTY)
    for each in cases:
        assert {each["verdict"]} == expected[each["argv"][0]], each
        assert each["stdout"].startswith(".:\n") and each["stdout"].count("\n") == 5, each["stdout"]
    assert os.listdir(temporary) == [] and _processes_below(temporary) == []


def test_few_descriptors_are_enough(place: Place) -> None:
    place.write(
        "t.matrix.toml",
        '[program]\nlaunch = "true"\n[[matrix]]\nname = "m"\nline = "{n}"\naxes.n = { from = 1, to = 200 }\nexpect.exit = 0\n',
    )
    came = subprocess.run(
        [COMMAND, "run", "--jobs", "8"], cwd=place.directory, capture_output=True, text=True, timeout=60,
        preexec_fn=lambda: resource.setrlimit(resource.RLIMIT_NOFILE, (64, 64)),
    )  # fmt: skip
    assert came.returncode == 0 and "200 cases: all passed" in came.stdout, came.stderr


def test_steps_run_in_one_directory_each_with_its_own_expectations(place: Place) -> None:
    matrix = """
        axes.port = ["Voe", "Holm"]
        [[matrix.steps]]
        line = "write {port}"
        expect = { exit = 0, files."t.txt" = "{port}" }
        [[matrix.steps]]
        line = "read"
        stdin = "!"
        expect.stdout = "{port}\\n!"
        [[matrix.steps]]
        line = "read [twice]"
        expect.exit = 7
    """
    cases = run(place, 'case $1 in write) echo "$2" > t.txt;; read) cat t.txt; cat;; esac', matrix)
    assert len(cases) == 4 and all(each["verdict"] == "failed" for each in cases)
    first = cases[0]
    assert [step["verdict"] for step in first["steps"]] == ["passed", "passed", "failed"]
    assert [step["argv"][0] for step in first["steps"]] == ["write", "read", "read"]
    assert [each["step"] for each in first["aspects"] if not each["met"]] == [3]
    assert "3 exit" in place.last.out  # type: ignore[attr-defined]


def test_a_step_after_one_that_could_not_be_launched_is_not_run(place: Place) -> None:
    matrix = 'axes.n = [1]\n[[matrix.steps]]\nline = "{\'x\' * 300000}"\n[[matrix.steps]]\nline = "b"\nexpect.exit = 0'
    (case,) = run(place, "exit 0", matrix)
    assert case["verdict"] == "not-started" and "steps" not in case


def test_other_launchers_and_other_builds_of_the_program(place: Place) -> None:
    place.write("other.sh", "echo other")
    program = 'launchers = { loud = "sh -x {here}/p.script" }'
    assert (
        run(place, "echo one", ONE + 'expect.stderr.contains = "+ echo one"', "--launcher", "loud", program=program)[0][
            "verdict"
        ]
        == "passed"
    )
    assert run(place, "echo one", ONE + 'expect.stdout = "other"', "--program", "sh ./other.sh")[0]["verdict"] == "passed"
    assert (
        run(place, "echo one", ONE + 'expect.stdout = "other"', "--program", "sh {here}/other.sh")[0]["verdict"]
        == "passed"
    )
    came = place.call("run", "--launcher", "lout")
    assert came.status == 2 and "has no launcher 'lout'" in came.err


def test_a_build_runs_once_and_its_failure_stops_everything(place: Place) -> None:
    cases = run(
        place,
        "exit 0",
        'line = "{n}"\naxes.n = [1, 2, 3]\nexpect.exit = 0',
        program="build = \"sh -c 'echo built >> {here}/log'\"",
    )
    assert len(cases) == 3 and (place.directory / "log").read_text() == "built\n"
    place.write(
        "t.matrix.toml",
        '[program]\nlaunch = "true"\nbuild = "sh -c \'echo no such port; exit 4\'"\n[[matrix]]\nname = "m"\nline = "x"\nexpect.exit = 0\n',
    )
    came = place.call("run")
    assert (
        came.status == 3
        and came.out == ""
        and "the build ended with exit 4" in came.err
        and came.err.count("no such port") == 3
    )


ONE_SECOND = (
    '[program]\nlaunch = "sleep"\n[[matrix]]\nname = "m"\nline = "{n}"\naxes.n = [1, 1.1, 1.2]\nexpect.exit = 0\n'
)
LONG = '[program]\nlaunch = "sh -c \'sleep 0.05; exit $(($1 % 3 == 0))\' sh"\n[[matrix]]\nname = "m"\nline = "{n}"\naxes.n = { from = 1, to = 60 }\nexpect.exit = 0\n'


def essence(place: Place, name: str) -> list[Any]:
    return sorted((each["id"], each["verdict"], each["exit"], each["stdout"]) for each in place.cases(name))


def test_a_killed_run_is_resumed_to_the_same_journal(place: Place) -> None:
    place.write("t.matrix.toml", LONG)
    assert place.call("run", "--journal", "whole.jsonl").status == 1
    process = place.start("run", "--journal", "j.jsonl")
    journal = place.directory / "j.jsonl"
    for _ in range(200):
        if journal.exists() and journal.read_bytes().count(b"\n") > 12:
            break
        time.sleep(0.02)
    process.kill()
    process.communicate()
    with journal.open("ab") as file:
        file.write(b'{"id":"torn')
    before = journal.read_bytes().count(b'"verdict"')
    assert 10 < before < 60
    came = place.call("run", "--journal", "j.jsonl", "--resume")
    assert came.status == 1 and "60 cases: 40 passed, 20 failed" in came.out
    assert essence(place, "j.jsonl") == essence(place, "whole.jsonl")
    assert place.journal("j.jsonl")[-1]["counts"] == {"passed": 40, "failed": 20}
    again = place.call("run", "--journal", "j.jsonl", "--resume")
    assert "60 cases: 40 passed, 20 failed" in again.out and len(place.journal("j.jsonl")) == 62
    place.write("t.matrix.toml", LONG.replace("0.05", "0.04"))
    assert "has changed since" in place.call("run", "--journal", "j.jsonl", "--resume").err


def test_shards_are_disjoint_and_together_complete(place: Place) -> None:
    place.write("t.matrix.toml", LONG.replace("sleep 0.05; ", ""))
    parts = []
    for part in (1, 2, 3):
        place.call("run", "--shard", f"{part}/3", "--journal", f"{part}.jsonl")
        parts.append({each["id"] for each in place.cases(f"{part}.jsonl")})
    assert len(set().union(*parts)) == sum(map(len, parts)) == 60 and min(map(len, parts)) > 8
    assert place.call("run", "--shard", "4/3").status == 2


def test_only_what_failed_last_time_is_run_again(place: Place) -> None:
    place.write("t.matrix.toml", LONG.replace("sleep 0.05; ", ""))
    place.call("run")
    assert "20 cases: 20 failed" in place.call("run", "--failed").out
    place.write("t.matrix.toml", LONG.replace("sleep 0.05; ", "").replace("$(($1 % 3 == 0))", "0"))
    assert "20 cases: all passed" in place.call("run", "--failed").out
    assert place.call("run", "--failed").out == "everything passed last time; there is nothing to run again\n"


def test_a_run_stops_after_so_many_failures(place: Place) -> None:
    place.write("t.matrix.toml", LONG)
    came = place.call("run", "--stop-after", "2", "--jobs", "1")
    assert came.status == 1 and 2 <= sum(each["verdict"] == "failed" for each in place.cases()) < 8
    assert len(place.cases()) < 40


def test_repetitions_that_disagree_are_unsteady(place: Place) -> None:
    script = f"n=$(cat {place.directory}/n 2>/dev/null || echo 0); echo $((n + 1)) > {place.directory}/n; [ $1 = steady ] || echo $n"
    cases = run(
        place, script, 'line = "{k}"\naxes.k = ["steady", "odd"]\nexpect.exit = 0', "--repeat", "3", "--jobs", "1"
    )
    assert {each["argv"][0]: each["verdict"] for each in cases} == {"steady": "passed", "odd": "flaky"}
    assert "3 different results in 3 launches" in place.last.out  # type: ignore[attr-defined]


def test_directories_of_failing_cases_are_kept(place: Place) -> None:
    cases = run(
        place, "echo left > t.txt; exit $1", 'line = "{n}"\naxes.n = [0, 1]\nexpect.exit = 0', "--keep-directories"
    )
    failed = next(each for each in cases if each["verdict"] == "failed")
    assert (Path(failed["kept"]) / "t.txt").read_text() == "left\n" and "its directory: " in place.last.out  # type: ignore[attr-defined]
    assert not any("kept" in each for each in cases if each["verdict"] == "passed")


def test_live_output_is_marked_and_harmless(place: Place) -> None:
    run(place, "printf 'a\\033[2J\\n'; sleep 0.05; echo b >&2", ONE + "expect.exit = 0", "--live")
    out = place.last.out  # type: ignore[attr-defined]
    assert "\x1b" not in out and r"│ a\e[2J" in out and "stderr" in out and "│ b" in out


def test_the_order_across_both_streams_is_kept(place: Place) -> None:
    (case,) = run(place, "echo a; sleep 0.05; echo b >&2; sleep 0.05; echo c", ONE + "expect.exit = 0")
    assert [each[0] for each in case["arrivals"]] == ["stdout", "stderr", "stdout"]


def test_times_and_memory_are_the_kernels_own(place: Place) -> None:
    script = "data = bytearray(200_000_000)\nfor n in range(4_000_000): pass\n"
    (case,) = run(place, script, ONE + "timeout = 20\nexpect.exit = 0", language=sys.executable)
    assert case["user_seconds"] > 0.05 and 200_000_000 < case["peak_bytes"] < 320_000_000 and "peak_at_most" not in case
    (small,) = run(place, "exit 0", ONE + "expect.exit = 0")
    assert small["peak_at_most"] and small["peak_bytes"] < 60_000_000


def test_an_output_cap_of_ones_own(place: Place) -> None:
    (case,) = run(place, "yes", ONE + "expect.exit = 0", program='output-cap = "10 KiB"')
    assert case["verdict"] == "failed" and len(case["stdout"]) == 10240


@pytest.mark.skipif(not os.path.isdir("/proc/self/task"), reason="needs /proc")
def test_a_run_of_many_cases_holds_its_memory(place: Place, monkeypatch: pytest.MonkeyPatch) -> None:
    """What stays of a case, here and in its worker, is less than the line of its record."""
    monkeypatch.chdir(place.directory)
    place.write("t.matrix.toml", """
        [program]
        launch = "true"
        [[matrix]]
        name = "m"
        line = "{n} {m}"
        axes.n = { from = 1, to = 27 }
        axes.m = { from = 1, to = 27 }
        expect.exit = 0
        """)  # fmt: skip
    sizes: list[int] = []
    passed: list[tuple[int, int]] = []

    class Watch(keen_matrix.RunWatch):
        def came(self, spec: Spec, result: ResultFrame, offset: int) -> None:
            sizes.append(len(result.line))
            if len(sizes) in (100, 700):
                passed.append((tracemalloc.get_traced_memory()[0], sum(map(_pages_of, children_of(os.getpid())))))

    tracemalloc.start()
    try:
        found = keen_matrix.run_specs("t.matrix.toml", watch=Watch(), journal="own.jsonl")
    finally:
        tracemalloc.stop()
    assert found.counts == {"passed": 729}
    assert passed[1][0] - passed[0][0] < 600 * min(sizes)
    assert (passed[1][1] - passed[0][1]) * resource.getpagesize() < 600 * min(sizes)


def _pages_of(pid: str) -> int:
    """Return how many pages of memory a process has of its own."""
    resident, shared = Path(f"/proc/{pid}/statm").read_text().split()[1:3]
    return int(resident) - int(shared)


def test_frames_survive_being_cut_anywhere() -> None:
    case = Case(sequence=1, id="abcdefghjk", matrix=2, argv=("a",))
    record = CaseRecorder(case, "m")
    record.add(case.argv, Outcome(seconds=0.5), Judged(verdict="passed", aspects=()))
    told = record.record(0)
    frames = [pack_result(case, told), pack_live("abcdefghjk", "stdout", 0.1, b"x" * 300), pack([1, 2])]
    stream = b"".join(frames)
    for size in (1, 2, 3, 7, len(stream)):
        reader = FrameReader()
        bodies = [body for at in range(0, len(stream), size) for body in reader.feed(stream[at : at + size])]
        assert len(bodies) == 3
        assert unpack(bodies[0]) == (1, 2, 0, 0.5, False, "abcdefghjk", encode(told)) and unpack(bodies[1]) == (
            "abcdefghjk",
            "stdout",
            0.1,
            b"x" * 300,
        )


@pytest.mark.parametrize("moment", [0.06, 0.1, 0.14, 0.2, None])
@pytest.mark.parametrize("number", [signal.SIGINT, signal.SIGTERM, signal.SIGHUP])
def test_what_ends_a_run_leaves_nothing_at_any_moment(place: Place, number: int, moment: float | None) -> None:
    """The whole process group gets the signal, as from a terminal that is closed or a CI system that cancels: at some moment of
    the start, whichever that is on this machine, or (None) once programs run."""
    place.write("t.matrix.toml", LONG.replace("0.05", "30"))
    process = place.start_anew("run", env={**os.environ, "TMPDIR": str(place.directory)})
    if moment is None:
        place.await_programs(process, 1)
    else:
        time.sleep(moment)
    os.killpg(process.pid, number)
    try:
        told = process.communicate(timeout=60)
    except subprocess.TimeoutExpired as late:
        # An interpreter that is only starting, and has not called us yet, may drop an interruption for good.
        assert number == signal.SIGINT and b"Exception ignored in" in (late.stderr or b""), late
        os.killpg(process.pid, number)
        told = process.communicate(timeout=60)
    assert process.returncode in (130, -number) and _processes_below(place.directory) == [], told
    assert process.returncode == 130 or moment is not None, "only before the command is there to hear it"
    assert not [each for each in os.listdir(place.directory) if each.startswith("keen-matrix-")]


@pytest.mark.skipif(not sys.platform.startswith("linux"), reason="found by /proc")
def test_a_run_under_nohup_goes_on(place: Place) -> None:
    place.write("t.matrix.toml", ONE_SECOND)
    process = place.start_anew("run", preexec_fn=lambda: signal.signal(signal.SIGHUP, signal.SIG_IGN))
    time.sleep(0.6)
    os.killpg(process.pid, signal.SIGHUP)
    process.communicate(timeout=60)
    assert process.returncode == 0


@pytest.mark.skipif(not hasattr(os, "pidfd_open"), reason="needs descriptors of processes")
def test_an_end_that_cannot_be_watched_for_is_asked_for(tmp_path: Path) -> None:
    """The kernel may have a descriptor of the process to give and no room to watch it (ENOSPC, epoll_ctl(2))."""

    class Full:
        def __init__(self) -> None:
            self.watched: list[int] = []

        def register(self, fd: int, eventmask: int = 0) -> None:
            if len(self.watched) == 2:
                raise OSError(28, "No space left on device")
            self.watched.append(fd)

        def unregister(self, fd: int) -> None:
            self.watched.remove(fd)

        def poll(self, timeout: float | None = None) -> list[tuple[int, int]]:
            return []

    before = len(os.listdir("/proc/self/fd"))
    launch = Launch(System(pidfds=True), Full(), 1_000)
    start = Start(file="/bin/sh", words=["sh"], env={}, directory=str(tmp_path), timeout=20)
    here = os.getcwd()
    launch.start(start, ["-c", "echo came; exit 3"], Cold(pidfds=True))
    os.chdir(here)
    assert launch.running is not None and launch.running.watched == -1
    until = time.monotonic() + 10
    while not launch.finished and time.monotonic() < until:
        time.sleep(0.005)
        launch.on_deadline(time.monotonic())
    assert (launch.outcome.exit, launch.outcome.stdout) == (3, b"came\n")
    assert launch.outcome.seconds < 5 and len(os.listdir("/proc/self/fd")) == before
