"""`keen-matrix run` on real programs: verdicts, exit statuses, journal, output, and everything a program may do to us."""

from __future__ import annotations

import json
import os
import shlex
import signal
import subprocess
import time
from collections.abc import Callable
from pathlib import Path

import pytest

from tests.conftest import Place

GREET = """
    [program]
    launch = "sh {here}/greet.sh"
    timeout = 5
    [expect]
    exit = 0
    [[matrix]]
    name = "greetings"
    line = "{name} [-v]"
    axes.name = ["Ada", "Ben Ten", "*", "$HOME", ""]
    expect.stdout = "hello {name}"
"""


def greet(place: Place, script: str = 'echo "hello $1"') -> None:
    place.write("greet.sh", script)
    place.write("greet.matrix.toml", GREET)


def test_a_ten_line_spec_holds(place: Place) -> None:
    greet(place)
    came = place.call("run")
    assert (came.status, came.err) == (0, "")
    assert came.out.splitlines()[0] == "greet.matrix.toml   sh greet.sh"
    assert came.out.splitlines()[1] == "  = greetings  10 passed"
    assert came.out.splitlines()[-1].startswith("10 cases: all passed. ")


def test_a_failure_shows_expected_before_came_and_a_line_to_paste(place: Place) -> None:
    greet(place, 'if [ "$1" = "Ben Ten" ]; then printf "hello  Ben\\t\\033[31m \\n"; exit 3; fi; echo "hello $1"')
    came = place.call("run")
    assert came.status == 1
    assert "  sh greet.sh 'Ben Ten'\n" in came.out
    assert "  exit        expected  0" in came.out and "              found     3\n" in came.out
    assert 'expected  "hello Ben Ten"' in came.out and r'found     "hello  Ben\t\e[31m·"' in came.out
    assert "greet.matrix.toml:6\n" in came.out and "greet.matrix.toml:11\n" in came.out
    assert "\x1b" not in came.out
    assert "10 cases: 8 passed, 2 failed" in came.out and "same cause: " in came.out


def test_the_shown_line_does_what_the_case_did(place: Place) -> None:
    greet(place, 'printf "%s|" "$@"')
    came = place.call("unfold", "--format", "shell")
    lines = came.out.splitlines()
    assert len(lines) == 10
    by_hand = [
        subprocess.run(line, shell=True, cwd=place.directory, capture_output=True, text=True).stdout for line in lines
    ]
    place.call("run")
    assert sorted(by_hand) == sorted(each["stdout"] for each in place.cases())


def test_words_reach_the_program_as_they_are_and_never_a_shell(place: Place) -> None:
    nasty = ["a b", "'", '"', "*", "$(touch x)", "a\nb", "\\", "é", "-", ";", "{here}", "\t"]
    place.write("p.py", "import sys, json; print(json.dumps(sys.argv[1:]))")
    place.write(
        "w.matrix.toml",
        f"""
        [program]
        launch = "python3 {{here}}/p.py"
        [[matrix]]
        name = "m"
        line = "{{w}} '{{w}} x'"
        axes.w = {json.dumps(nasty)}
        expect.exit = 0
        """,
    )
    assert place.call("run").status == 0
    assert sorted(json.loads(each["stdout"])[0] for each in place.cases()) == sorted(nasty)
    assert all(json.loads(each["stdout"]) == each["argv"] for each in place.cases())


def test_the_environment_is_clean_and_the_directory_fresh(place: Place) -> None:
    place.write("p.sh", 'env | sort; ls -A; ls -A "$HOME" "$TMPDIR"; pwd; touch left "$HOME/left"; cat')
    place.write(
        "e.matrix.toml",
        """
        [program]
        launch = "sh {here}/p.sh"
        env = { TARIFF = "{tariff}" }
        env-from-caller = ["PATH", "KEEP"]
        [[matrix]]
        name = "m"
        line = "{n}"
        axes.n = [1, 2, 3]
        axes.tariff = ["summer", "winter"]
        expect.exit = 0
        """,
    )
    place.call("run", "--jobs", "1", env={"KEEP": "yes", "SECRET": "no"})
    seen = place.cases()
    assert len(seen) == 6 and {each["values"]["tariff"] for each in seen} == {"summer", "winter"}
    for each in seen:
        lines = each["stdout"].splitlines()
        assert {"KEEP=yes", "LC_ALL=C.UTF-8", "TZ=UTC", "NO_COLOR=1", "HOME=<home>", "TMPDIR=<tmp>"} <= set(lines)
        assert f"TARIFF={each['values']['tariff']}" in lines
        assert not any("SECRET" in line or line == "left" for line in lines)
        assert "<dir>" in lines


VERDICTS = [
    ("exit 0", "expect.exit = 0", {"passed": ()}),
    ("exit 3", "expect.exit = 0", {"failed": ("exit",)}),
    ("exit 3", 'expect.exit = "1..125"', {"passed": ()}),
    ("exit 3", "expect.exit = [0, 3]", {"passed": ()}),
    ("exit 0", 'expect.exit = "nonzero"', {"failed": ("exit",)}),
    ("exit 2", 'expect.exit = "{argc + 1}"', {"passed": ()}),
    ("exit 1", 'expect.exit = "{nine(1)}"', {}),
    ("exit 0", 'expect.exit = "{1 / 0}"', {}),
    ("exit 0", 'expect.exit = "{1 // (argc - 1)}"', {}),
    ("kill -TERM $$", 'expect.signal = "TERM"', {"passed": ()}),
    ("exit 0", 'expect.signal = "TERM"', {"failed": ("signal",)}),
    ("kill -SEGV $$", 'expect.stdout = ""', {"crashed": ("crash",)}),
    ("kill -SEGV $$", 'expect = { stdout = "", crash = "allowed" }', {"passed": ()}),
    ("nosuchcommand", 'expect.exit = "nonzero"', {"crashed": ("crash",)}),
    ("python3 -c 'int(\"x\")'", "expect.exit = 1", {"crashed": ("crash",)}),
    ("perl -e 'die \"no such port\"'", 'expect.exit = "nonzero"', {"crashed": ("crash",)}),
    ("perl -e 'die \"no such port\\n\"'", 'expect.exit = "nonzero"', {"passed": ()}),
    ("node -e 'null.x'", 'expect.exit = "nonzero"', {"crashed": ("crash",)}),
    ("echo 'error: no such port' >&2; exit 1", "expect.exit = 1", {"passed": ()}),
    ("echo hi", 'expect.stdout = "hi"', {"passed": ()}),
    ("printf hi", 'expect.stdout = "hi\\n"', {"failed": ("stdout",)}),
    ("echo hi; echo", 'expect.stdout = "hi"', {"failed": ("stdout",)}),
    ("echo hi", 'expect.stdout.is = "ho"', {"failed": ("stdout",)}),
    ("echo hi >&2", 'expect = { stdout = "", stderr.contains = ["h", "i"] }', {"passed": ()}),
    ("echo hi", 'expect.stdout.contains = ["h", "o"]', {"failed": ("stdout",)}),
    ("echo hi", 'expect.stdout.lacks = ["x", "hi"]', {"failed": ("stdout",)}),
    ("echo hi 42", 'expect.stdout.matches = "^hi \\\\d+$"', {"passed": ()}),
    ("echo hi", 'expect.stdout.matches = "^ho"', {"failed": ("stdout",)}),
    ("echo " + "a" * 40 + "b", 'expect.stdout.matches = "^((a+)+)+$"', {"failed": ("stdout",)}),
    ("echo hi", "expect.stdout.empty = true", {"failed": ("stdout",)}),
    ("echo hi", "expect.stdout.empty = false", {"passed": ()}),
    ("echo '{x}'", 'expect.stdout = { is = "{x}", literal = true }', {"passed": ()}),
    ("printf 'a\\377b'", 'expect.stdout = { starts = "a", ends = "b" }', {"passed": ()}),
    ("echo ticket > t.txt", 'expect.files."t.txt" = "ticket"', {"passed": ()}),
    ("echo ticket >> t.txt", 'expect.files."t.txt" = "ticket"\nfiles."t.txt" = "old\\n"', {"failed": ("files.t.txt",)}),
    ("rm t.txt", 'expect.files."t.txt" = "absent"\nfiles."t.txt" = "old"', {"passed": ()}),
    ("mkdir t.txt", 'expect.files."t.txt" = "x"', {"failed": ("files.t.txt",)}),
    ("cat", 'expect.stdout = "Ada"\nstdin = "Ada"', {"passed": ()}),
    ("exit 0", "", {"unchecked": ()}),
]  # fmt: skip


@pytest.mark.parametrize(("script", "expect", "verdicts"), VERDICTS, ids=[f"{s[:24]}|{e[:30]}" for s, e, _ in VERDICTS])
def test_each_expectation_holds_or_is_seen_to_fail(
    aspects_of: Callable[..., dict[str, tuple[str, ...]]],
    script: str,
    expect: str,
    verdicts: dict[str, tuple[str, ...]],
) -> None:
    if not verdicts:  # a wrong spec: nothing runs, so there is no journal
        with pytest.raises(FileNotFoundError):
            aspects_of(script, expect)
        return
    assert aspects_of(script, expect) == verdicts


def test_the_last_rule_that_names_an_aspect_wins(place: Place) -> None:
    place.write(
        "c.matrix.toml",
        """
        [program]
        launch = "sh -c 'exit $1' sh"
        [expect]
        exit = 9
        [[matrix]]
        name = "m"
        columns = ["code", "want"]
        line = "{code}"
        rows = [[0, 0], [4, 4], [7, 0]]
        [[matrix.expect]]
        when = "code > 0"
        exit = "{want}"
        [[matrix.expect]]
        when = "code == 7"
        exit = [7, 8]
        """,
    )
    assert place.call("run").status == 1
    assert {each["argv"][0]: each["verdict"] for each in place.cases()} == {"0": "failed", "4": "passed", "7": "passed"}


def test_an_oracle_answers_and_its_failures_stay_in_their_case(place: Place) -> None:
    place.write("oracle.py", "def double(n):\n    if n == 3: raise ValueError('no three')\n    return 2 * n\n")
    place.write(
        "o.matrix.toml",
        """
        [program]
        launch = "sh -c 'echo $(($1 * 2))' sh"
        oracle = "oracle.py"
        [[matrix]]
        name = "m"
        line = "{n}"
        axes.n = { from = 1, to = 4 }
        expect.stdout = "{double(n)}"
        """,
    )
    came = place.call("run")
    assert came.status == 1 and "3 of 4 passed" in came.out
    assert "the expression double(n) failed: no three (with n = 3)" in came.out


def run_script(
    place: Place, script: str, *words: str, timeout: float = 1, axes: str = '["x"]', expect: str = "exit = 0"
) -> str:
    place.write("p.sh", script)
    place.write(
        "p.matrix.toml",
        f'[program]\nlaunch = "sh {{here}}/p.sh"\ntimeout = {timeout}\n[expect]\n{expect}\n'
        f'[[matrix]]\nname = "m"\nline = "{{x}}"\naxes.x = {axes}\n',
    )
    return place.call("run", *words).out


def test_a_program_that_ignores_sigterm_is_killed_and_its_output_kept(place: Place) -> None:
    out = run_script(place, "trap '' TERM; echo begun; while :; do sleep 0.1; done")
    (case,) = place.cases()
    assert (case["verdict"], case["stdout"]) == ("timed-out", "begun\n")
    assert 1.4 < case["seconds"] < 20
    assert "to end within 1 s" in out and "begun" in out


def test_a_background_child_does_not_hold_up_the_case_and_is_gone_after(place: Place) -> None:
    out = run_script(place, "sleep 60 & echo $!")
    (case,) = place.cases()
    assert case["verdict"] == "failed" and case["leftovers"] == ["sleep"] and case["seconds"] < 40
    assert "no process left running" in out and "sleep (ended)" in out
    time.sleep(0.1)
    stat = Path(f"/proc/{case['stdout'].strip()}/stat")
    assert not stat.exists() or stat.read_text().rpartition(")")[2].split()[0] == "Z"


def test_a_program_that_closes_its_streams_and_lives_on_is_hung(place: Place) -> None:
    run_script(place, "exec >&- 2>&-; sleep 30")
    assert place.cases()[0]["verdict"] == "timed-out"


def test_a_flood_is_cut_at_the_cap_and_ended(place: Place) -> None:
    out = run_script(place, "exec yes 0123456789", timeout=30)
    (case,) = place.cases()
    assert (case["verdict"], len(case["stdout"])) == ("failed", 8 * 1024 * 1024)
    assert case["stdout_bytes"] > 8 * 1024 * 1024
    assert "at most 8,388,608 bytes a stream" in out


def test_ten_megabytes_for_a_program_that_never_reads(place: Place) -> None:
    place.write("big.txt", "x" * 10_000_000)
    place.write(
        "p.matrix.toml",
        """
        [program]
        launch = "sh -c 'sleep 0.1; echo ok'"
        [[matrix]]
        name = "m"
        line = "x"
        stdin.file = "big.txt"
        expect.stdout = "ok"
        """,
    )
    assert place.call("run").status == 0


def test_output_that_is_no_text_survives_in_the_journal(place: Place) -> None:
    run_script(place, "printf 'a\\377\\000b'")
    (case,) = place.cases()
    assert case["stdout_base64"] == "Yf8AYg==" and "stdout" not in case


UNLAUNCHED = [
    ('"nosuchprogram"', 'no program "nosuchprogram" was found in PATH'),
    ('"{here}/notthere"', "does not exist"),
    ('"{here}"', "is a directory"),
    ('"{here}/plain.txt"', "is not executable"),
    ('"./plain.txt"', 'for the file beside the spec write "{here}/plain.txt"'),
]


@pytest.mark.parametrize(("launch", "reason"), UNLAUNCHED, ids=[launch for launch, _ in UNLAUNCHED])
def test_a_program_that_cannot_be_started_is_said_once(place: Place, launch: str, reason: str) -> None:
    place.write("plain.txt", "just text")
    place.write(
        "p.matrix.toml",
        f'[program]\nlaunch = {launch}\n[[matrix]]\nname = "m"\nline = "{{x}}"\naxes.x = {{ from = 1, to = 500 }}\nexpect.exit = 0\n',
    )
    came = place.call("run")
    assert came.status == 3 and came.out == ""
    assert came.err.count("\n") == 1 and reason in came.err


def test_words_that_the_system_refuses_are_told_case_by_case(place: Place) -> None:
    out = run_script(place, "exit 0", axes='["ok", "a\\u0000b"]')
    assert "a word of a call cannot contain a NUL" in out
    place.write(
        "p.matrix.toml",
        '[program]\nlaunch = "true"\n[[matrix]]\nname = "m"\nline = "{\'x\' * n}"\naxes.n = [5, 200000]\nexpect.exit = 0\n',
    )
    came = place.call("run")
    assert came.status == 1 and "1 passed, 1 not started" in came.out
    assert "the longest has 200,000 bytes" in came.out


def test_ctrl_c_ends_the_programs_and_keeps_what_finished(place: Place) -> None:
    place.write(
        "p.matrix.toml",
        """
        [program]
        launch = "sh -c 'if [ $1 -gt 4 ]; then sleep 60; fi' sh"
        timeout = 100
        [[matrix]]
        name = "m"
        line = "{n}"
        axes.n = { from = 1, to = 50 }
        expect.exit = 0
        """,
    )
    process = place.start("run", "--jobs", "3")
    journal = place.directory / ".keen-matrix" / "last.jsonl"
    for _ in range(200):
        if journal.exists() and journal.read_text().count('"verdict"') == 4:
            break
        time.sleep(0.05)
    os.killpg(process.pid, signal.SIGINT)
    out, _ = process.communicate(timeout=20)
    assert process.returncode == 130
    assert "4 cases: passed; interrupted, so the others have no result" in out.decode()
    lines = [json.loads(line) for line in journal.read_text().splitlines()]
    assert lines[-1]["counts"] == {"passed": 4}


def test_workers_end_their_programs_when_the_engine_is_killed(place: Place) -> None:
    place.write("p.sh", f"echo $$ >> {shlex.quote(str(place.directory))}/pids; exec sleep 60")
    place.write(
        "p.matrix.toml",
        '[program]\nlaunch = "sh {here}/p.sh"\ntimeout = 100\n[[matrix]]\nname = "m"\nline = "{n}"\naxes.n = [1, 2, 3]\nexpect.exit = 0\n',
    )
    process = place.start("run", "--jobs", "2")
    pids = place.directory / "pids"
    for _ in range(200):
        if pids.exists() and pids.read_text().count("\n") == 2:
            break
        time.sleep(0.05)
    process.kill()
    process.communicate(timeout=20)
    for _ in range(100):
        if not any(os.path.exists(f"/proc/{pid}/cwd") and _alive(pid) for pid in pids.read_text().split()):
            break
        time.sleep(0.05)
    assert not [pid for pid in pids.read_text().split() if _alive(pid)]


def _alive(pid: str) -> bool:
    try:
        return Path(f"/proc/{pid}/stat").read_text().rpartition(")")[2].split()[0] != "Z"
    except OSError:
        return False


def test_a_reader_that_leaves_early_is_no_error(place: Place) -> None:
    greet(place, "exit 1")
    for words in (["run", "--all"], ["unfold"], ["unfold", "--format", "json"]):
        process = place.start(*words)
        assert process.stdout is not None and process.stderr is not None
        process.stdout.readline()
        process.stdout.close()
        assert process.stderr.read() == b""
        assert process.wait(20) in (0, 1)
        process.stderr.close()


@pytest.mark.skipif(not os.path.exists("/dev/full"), reason="needs /dev/full")
def test_a_full_disk_is_one_clear_error(place: Place) -> None:
    greet(place)
    came = place.call("run", "--journal", "/dev/full")
    assert came.status == 3
    assert came.err.startswith("keen-matrix: the journal /dev/full cannot be written any further: No space left")
    assert "Traceback" not in came.err


def test_only_takes_ids_names_and_words(place: Place) -> None:
    greet(place)
    place.call("run")
    ids = [each["id"] for each in place.cases()]
    for pattern, count in ((ids[3], 1), (ids[3][:6], 1), ("greet*", 10), ("Ada", 2), ("-v", 5), ("Ben*", 2)):
        assert f"{count} case" in place.call("run", f"--only={pattern}").out, pattern
    came = place.call("run", "--only", "nobody")
    told = 'the matrix is "greetings"; keen-matrix unfold shows the ids\n'
    assert (came.status, came.err) == (2, f"keen-matrix: no case matches nobody\n  {told}")
    assert 'did you mean "greetings"?' in place.call("run", "--only", "greeting").err
    assert [each["id"] for each in place.cases()], "the results of the last run that ran something stay"


def test_the_journal_has_its_header_a_line_per_case_and_its_end(place: Place) -> None:
    greet(place)
    place.call("run", "--journal", "j.jsonl")
    first, *cases, last = place.journal("j.jsonl")
    assert first["journal"] == 1 and first["spec"] == "greet.matrix.toml" and len(first["spec_digest"]) == 32
    assert {"version", "started", "platform", "jobs"} <= first.keys()
    assert last["counts"] == {"passed": 10} and "finished" in last
    assert len({each["id"] for each in cases}) == 10
    wanted = {"id", "matrix", "family", "kind", "argv", "values", "judgement", "verdict", "exit", "signal", "seconds",
              "user_seconds", "system_seconds", "peak_bytes", "stdout", "stderr", "files", "aspects"}  # fmt: skip
    assert all(wanted <= each.keys() for each in cases)
    assert cases[0]["aspects"][0]["rule"] == "greet.matrix.toml:6"


def test_plain_output_is_the_same_twice_but_for_the_time(place: Place) -> None:
    greet(place, "[ $# = 1 ] && echo hello $1")
    outs = {place.call("run", "--jobs", jobs).out.rsplit(". ", 1)[0] for jobs in ("1", "4", "4")}
    assert len(outs) == 1


def test_brief_and_details_and_color(place: Place) -> None:
    greet(place, "echo hullo $1")
    brief, details = place.call("run", "--brief").out, place.call("run", "--all").out
    assert len(brief.splitlines()) == 6 and "expected" not in brief
    assert "complete stdout" in details and "│ hullo Ada" in details
    assert "\x1b[" in place.call("run", "--color", "always", env={"TERM": "xterm"}).out
    ascii_out = place.call("run", env={"PYTHONIOENCODING": "ascii", "PYTHONUTF8": "0"}).out
    assert ascii_out.isascii() and "  # greetings" in ascii_out


def test_a_billion_vectors_are_refused_with_their_count_before_anything_is_built(place: Place) -> None:
    axes = "\n".join(f"axes.{name} = {{ from = 1, to = 1000 }}" for name in "abc")
    place.write(
        "h.matrix.toml", f'[program]\nlaunch = "true"\n[[matrix]]\nname = "m"\nline = "{{a}} {{b}} {{c}}"\n{axes}\n'
    )
    came = place.call("run", timeout=20)
    assert came.status == 2 and "1,000,000,000 cases, more than 100,000" in came.err


def test_ids_stay_when_a_spec_is_put_in_another_order(place: Place) -> None:
    head = '[program]\nlaunch = "true"\n'
    one = '[[matrix]]\nname = "one"\nline = "{a} {b}"\naxes.a = ["x", "y"]\naxes.b = [1, 2]\nexpect.exit = 0\n'
    other = '[[matrix]]\nname = "one"\nline = "{a} {b}"\naxes.b = [2, 1]\naxes.a = ["y", "x"]\nexpect.exit = 0\n'
    two = '[[matrix]]\nname = "two"\nline = "z"\nexpect.exit = 0\n'
    place.write("a.matrix.toml", head + one + two)
    place.write("b.matrix.toml", head + two + other)
    ids = [
        {json.loads(line)["id"] for line in place.call("unfold", name, "--format", "json").out.splitlines()}
        for name in ("a.matrix.toml", "b.matrix.toml")
    ]
    assert ids[0] == ids[1] and len(ids[0]) == 5


@pytest.mark.parametrize(
    ("words", "message"),
    [
        (["lnit"], "there is no command 'lnit'; did you mean lint?"),
        (["frobnicate"], "there is no command 'frobnicate', see keen-matrix --help"),
        (["run", "--onyl", "x"], "unknown option --onyl; did you mean --only?"),
        (["run", "--job", "3"], "did you mean --jobs?"),
        (["--versoin"], "did you mean --version?"),
        (["run", "--jobs"], "--jobs needs a value"),
        (["run", "--jobs", "none"], "--jobs"),
        (["run", "--zzzzzz"], "unknown option --zzzzzz\n"),
    ],
)
def test_a_wrong_call_is_answered_with_the_nearest_right_word(place: Place, words: list[str], message: str) -> None:
    came = place.call(*words)
    assert came.status == 2 and came.out == "" and message in came.err and "Traceback" not in came.err
