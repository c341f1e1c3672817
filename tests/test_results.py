"""Results that people and other programs use: grids, reports, comparisons, history, replays, completion."""

from __future__ import annotations

import base64
import csv
import hashlib
import io
import json
import os
import re
import shutil
import sqlite3
import subprocess
import sys
import time
import xml.etree.ElementTree as ET
from pathlib import Path

import pytest

from keen_matrix.core.results.compare import difference_of
from keen_matrix.core.results.grid import Grid
from tests.conftest import COMMAND, Place

HOSTILE = "<script>document.title='owned'</script>]]>\x1b]0;title\x07\x1b[31mred \u202eabc"
SPEC = """
    [program]
    launch = "sh {here}/p.sh"
    timeout = 1.5
    [expect]
    exit = 0
    [[matrix]]
    name = "crossings"
    line = "{port} {riders} [--bike]"
    axes.port = ["Skerry", "Holm"]
    axes.riders = [1, 2, 60]
    expect.stdout = "{port}"
    [[matrix]]
    name = "hostile <b>, | `x`"
    line = "{word}"
    axes.word = ["hostile", "crash", "hang", "plain"]
    [[matrix.expect]]
    when = "word == 'hostile'"
    stdout = "fine"
    """
SCRIPT = f"""
    case $1 in
        hostile) printf '%s\\n' "{HOSTILE}"; exit 1 ;;
        crash) kill -SEGV $$ ;;
        hang) sleep 5 ;;
        Holm) [ "$2" = 60 ] && [ "$3" ] && echo wrong || echo Holm ;;
        *) echo "$1" ;;
    esac
    """


@pytest.fixture
def ran(place: Place) -> Place:
    place.write("p.sh", SCRIPT)
    place.write("t.matrix.toml", SPEC)
    assert place.call("run").status == 1
    return place


def test_a_grid_shows_what_separates_the_failures(ran: Place) -> None:
    came = ran.call("report", env={"COLUMNS": "80"})
    assert came.status == 0
    assert "crossings   across --bike, down riders, port Holm" in came.out, came.out
    split = ran.call("report", "--by", "riders,port,--bike")
    assert re.search(r"Holm += += +≠", split.out) and re.search(r"Skerry += += +=", split.out), split.out
    wrong = ran.call("report", "--by", "rider")
    assert wrong.status == 2 and "did you mean 'riders'" in wrong.err
    plain = ran.call("report", env={"PYTHONIOENCODING": "ascii", "LC_ALL": "C"})
    assert plain.out.isascii() and "= all passed" in plain.out
    for width in ("60", "200"):
        assert ran.call("run", "--grid", "--only", "crossings", env={"COLUMNS": width}).status == 1


def test_cells_of_a_grid() -> None:
    grid = Grid("m", "a", "b", ["1"], ["x"], {("x", "1"): [2, 0], ("x", "2"): [1, 1], ("x", "3"): [0, 1]})
    assert [grid.state("x", column) for column in "1234"] == ["passed", "mixed", "failed", "none"]


def test_junit_is_legal_xml_with_a_suite_a_matrix(ran: Place) -> None:
    assert ran.call("report", "--format", "junit", "-o", "out/run.xml").status == 0
    root = ET.parse(ran.directory / "out/run.xml").getroot()
    assert (root.get("tests"), root.get("failures"), root.get("errors")) == ("16", "2", "2")
    assert [suite.get("name") for suite in root] == ["t.matrix.toml: crossings", "t.matrix.toml: hostile <b>, | `x`"]
    bad = next(case for case in root.iter("testcase") if "hostile" in str(case.get("name")))
    assert "\\e[31mred \\u202eabc" in str(bad.findtext("failure"))
    assert next(root.iter("testcase")).get("time")


def test_tap_counts_and_its_blocks_are_indented(ran: Place) -> None:
    text = ran.call("report", "--format", "tap").out
    assert (
        text.startswith("TAP version 14\n1..16\n") and len(re.findall(r"^(?:not )?ok \d+ - ", text, re.MULTILINE)) == 16
    )
    assert text.count("\n  ---\n") == text.count("\n  ...\n") == len(re.findall(r"^not ok", text, re.MULTILINE)) == 4
    assert "\x1b" not in text


def test_rows_have_axis_values_as_columns(ran: Place) -> None:
    rows = list(csv.DictReader(io.StringIO(ran.call("report", "--format", "csv").out)))
    assert len(rows) == 16 and {row["axis.riders"] for row in rows if row["matrix"] == "crossings"} == {"1", "2", "60"}
    same = json.loads(ran.call("report", "--format", "json").out)
    assert [row["id"] for row in same] == [row["id"] for row in rows] and same[0]["axis.riders"] in (1, 2, 60)
    failed = next(row for row in rows if row["verdict"] == "failed" and row["matrix"] == "crossings")
    assert (failed["failed"], failed["rule"], failed["call"]) == ("stdout", "t.matrix.toml:12", "Holm 60 --bike")


def test_markdown_and_annotations_hold_no_markup_of_others(ran: Place) -> None:
    text = ran.call("report", "--format", "markdown").out
    assert (
        "12 passed" in text
        and "<script>" not in re.sub(r"(`{3,})text\n.*?\n\1", "", text, flags=re.DOTALL)
        and "| ≠ |" in text
    )
    notes = ran.call("report", "--format", "annotations").out.splitlines()
    assert len(notes) == 4 and all(
        re.match(r"::error file=t\.matrix\.toml,line=\d+,title=[^:]+::", each) for each in notes
    )


def test_without_its_extra_a_picture_is_refused_in_one_sentence(ran: Place) -> None:
    script = "import sys; sys.modules['matplotlib'] = None; from keen_matrix.cli import main; sys.exit(main(['report', '--format', 'picture', '-o', 'run.png']))"
    came = subprocess.run([sys.executable, "-c", script], cwd=ran.directory, capture_output=True, text=True, timeout=60, check=False)
    assert (came.returncode, came.stdout) == (2, "") and "pictures need an extra: python3 -m pip install 'keen-matrix[plots]'" in came.stderr
    assert not (ran.directory / "run.png").exists()


def test_a_picture_is_drawn(ran: Place) -> None:
    assert ran.call("run", "--report", "picture=run.png", "--brief").status == 1
    assert (ran.directory / "run.png").read_bytes().startswith(b"\x89PNG")
    wrong = ran.call("report", "--format", "picture", "-o", "run.bmp")
    assert wrong.status == 2 and ".png or .svg" in wrong.err and not (ran.directory / "run.bmp").exists()


def test_shards_are_read_as_one_run(ran: Place) -> None:
    for part in ("1", "2"):
        ran.call("run", "--shard", f"{part}/2", "--journal", f"{part}.jsonl")
    root = ET.fromstring(ran.call("report", "1.jsonl", "2.jsonl", "--format", "junit").out)
    assert root.get("tests") == "16"


def test_a_journal_that_is_none_is_told(place: Place) -> None:
    place.write("x.jsonl", '{"journal": 99}\n')
    came = place.call("report", "x.jsonl")
    assert came.status == 3 and "journal of version 99" in came.err
    assert "there is no journal" in place.call("report").err


CHROMIUM = shutil.which("chromium")
DRIVE = """
<script>
const wait = () => new Promise(r => setTimeout(r, 30));
(async () => {
  const out = {}, at = id => document.getElementById(id), set = (id, v) => { at(id).value = v; at(id).dispatchEvent(new Event("input")); };
  out.all = keenMatrix.count();
  set("search", "skerry"); out.search = keenMatrix.count(); set("search", "");
  set("verdict", "crashed"); out.crashed = keenMatrix.count(); set("verdict", "");
  set("aspect", "stdout"); out.stdout = keenMatrix.count(); at("clear").click();
  document.querySelector("button.cell").click(); out.cell = keenMatrix.count(); at("clear").click();
  at("rows").firstChild.click(); await wait();
  out.copied = null; document.execCommand = () => { out.copied = document.querySelector("textarea").value; return true; };
  Object.defineProperty(navigator, "clipboard", { value: undefined });
  document.querySelector(".detail .plain").click(); await wait();
  out.detail = document.querySelector(".detail").textContent;
  const begun = performance.now(); set("search", "hol"); out.filter = performance.now() - begun; at("clear").click();
  out.title = document.title; out.scripts = document.querySelectorAll("script").length;
  const pre = document.createElement("pre"); pre.id = "came"; pre.textContent = JSON.stringify(out); document.body.append(pre);
})();
</script>
"""


def drive(page: Path) -> dict[str, object]:
    """Load a page in headless Chromium with a script that uses it, and return what the script saw."""
    assert CHROMIUM
    driven = page.with_name("driven.html")
    text = page.read_text()
    policy = re.search(r"script-src '(sha256-[\w+/=]+)'", text)
    assert policy and "script-src 'unsafe-inline'" not in text
    script = DRIVE.strip().removeprefix("<script>").removesuffix("</script>")
    digest = base64.b64encode(hashlib.sha256(script.encode()).digest()).decode()
    text = text.replace(f"'{policy[1]}'", f"'{policy[1]}' 'sha256-{digest}'")
    injected = "<script>document.title = 'injected'</script>"
    driven.write_text(text.replace("</body>", f"{injected}<script>{script}</script></body>"))
    words = ["--headless", "--no-sandbox", "--disable-gpu", "--no-first-run", "--disable-background-networking",
             "--disable-component-update", "--disable-sync", f"--user-data-dir={page.parent}/chromium",
             "--virtual-time-budget=5000", "--dump-dom", f"file://{driven}"]  # fmt: skip
    done = subprocess.run([CHROMIUM, *words], capture_output=True, text=True, timeout=90, check=True)
    found = re.search(r'<pre id="came">(.*?)</pre>', done.stdout, re.DOTALL)
    assert found, done.stdout[-2000:]
    import html

    return dict(json.loads(html.unescape(found[1])))


@pytest.mark.skipif(CHROMIUM is None, reason="chromium is not installed")
def test_the_page_filters_shows_and_copies_and_nothing_hostile_runs(ran: Place) -> None:
    assert ran.call("report", "--format", "html", "-o", "run.html").status == 0
    text = (ran.directory / "run.html").read_text()
    assert "<script>document" not in text and not re.search(r"(?:src|href)=[\"']?(?:https?:)?//", text)
    came = drive(ran.directory / "run.html")
    assert (came["all"], came["search"], came["crashed"], came["stdout"]) == (16, 6, 1, 2)
    assert came["cell"] and int(str(came["cell"])) < 16
    assert str(came["copied"]).startswith("sh ") and "p.sh" in str(came["copied"])
    assert came["title"] == "16 cases: 12 passed" and came["scripts"] == 4
    assert "expected" in str(came["detail"]) and "found" in str(came["detail"])


def test_compare_tells_what_changed(ran: Place) -> None:
    shutil.copy(ran.directory / ".keen-matrix/last.jsonl", ran.directory / "a.jsonl")
    same = ran.call("compare", "a.jsonl", "a.jsonl")
    assert same.status == 0 and "nothing differs" in same.out and "16 cases in both" in same.out
    ran.write(
        "p.sh", SCRIPT.replace("Holm) [", "Holm) echo note >&2; [").replace('*) echo "$1"', '*) echo "$1" | tr S s')
    )
    ran.write("t.matrix.toml", SPEC.replace("[1, 2, 60]", "[2, 60, 61]"))
    ran.call("run", "--journal", "b.jsonl")
    came = ran.call("compare", "a.jsonl", "b.jsonl", "--all")
    assert came.status == 1
    assert (
        "newly failing  4" in came.out
        and "other output  4" in came.out
        and "new  4" in came.out
        and "gone  4" in came.out
    )
    ways = ran.call("compare", "a.jsonl", "b.jsonl").out
    assert 'line 1 of standard error: no such line' in ways or 'standard error: an empty line → "note"' in ways
    assert 'line 1 of standard output: "Skerry" → "skerry"' in ways and "such as" in ways
    back = ran.call("compare", "b.jsonl", "a.jsonl")
    assert back.status == 1 and "newly passing  4" in back.out


@pytest.mark.parametrize(("before", "after", "told"), [
    ({"stderr": "fare.py: error: no"}, {"stderr": "fare: error: no"}, 'line 1 of standard error: "fare.py" → "fare"'),
    ({"stderr": "no port 'Holm'\n"}, {"stderr": "no harbour 'Voe'\n"}, """line 1 of standard error: "port" → "harbour\""""),
    ({"stderr": "no port 'Holm'\n"}, {"stderr": "no port 'Voe'\n"}, """line 1 of standard error: "Holm" → "Voe\""""),
    ({"stdout": "a\nb\n"}, {"stdout": "a\nb\nc\n"}, 'line 3 of standard output: an empty line → "c"'),
    ({"end": "exit 0", "stdout": "x"}, {"end": "exit 2", "stdout": "y"}, "exit 0 → exit 2"),
    ({"files": "a created"}, {"files": "b created"}, 'the files: "a" → "b"'), ({}, {}, "beyond what is compared"),
])  # fmt: skip
def test_what_differs_first_is_told_without_the_rest_of_its_line(before: dict[str, str], after: dict[str, str], told: str) -> None:
    nothing = {"end": "exit 0", "stderr": "", "stdout": "", "files": ""}
    assert difference_of({**nothing, **before}, {**nothing, **after}) == told


def test_compare_respects_noise_when_there_are_repetitions(place: Place) -> None:
    spec = '[program]\nlaunch = "sleep"\n[[matrix]]\nname = "m"\nline = "{n}"\naxes.n = [0, 0.001]\nexpect.exit = 0\n'
    place.write("t.matrix.toml", spec)
    place.call("run", "--repeat", "4", "--journal", "a.jsonl")

    def timed(name: str, seconds: list[float]) -> None:
        cases = place.journal("a.jsonl")
        for case in cases:
            if "id" in case:
                assert len(case["repeats"]["seconds"]) == 4
                case["repeats"]["seconds"], case["seconds"] = seconds, sum(seconds) / 4
        (place.directory / name).write_text("".join(json.dumps(each) + "\n" for each in cases))

    timed("first.jsonl", [0.030, 0.031, 0.042, 0.033])
    timed("noisy.jsonl", [0.032, 0.030, 0.034, 0.044])
    timed("slow.jsonl", [0.139, 0.140, 0.151, 0.142])
    assert "slower" not in place.call("compare", "first.jsonl", "noisy.jsonl").out
    assert "slower  2" in place.call("compare", "first.jsonl", "slow.jsonl").out
    assert "faster  2" in place.call("compare", "slow.jsonl", "first.jsonl").out


FLAKY = """
    [program]
    launch = "sh -c 'n=$(cat {here}/count); test $1 != odd || test $n = even' p"
    [[matrix]]
    name = "m"
    line = "{w}"
    axes.w = ["odd", "other"]
    expect.exit = 0
    """


def test_history_finds_flaky_cases_trends_and_prunes(place: Place) -> None:
    place.write("t.matrix.toml", FLAKY)
    for state in ("even", "odd", "even"):
        (place.directory / "count").write_text(state)
        place.call("run")
    came = place.call("history")
    assert came.status == 0 and came.out.partition("flaky")[0].count("t.matrix.toml") == 3
    flaky = re.search(r"(\w{6})  m  2 changes   = ≠ =", came.out)
    assert flaky, came.out
    trend = place.call("history", flaky[1])
    assert [line.split()[5] for line in trend.out.splitlines()] == ["=", "≠", "="]
    place.write("t.matrix.toml", FLAKY + "\n")
    (place.directory / "count").write_text("odd")
    place.call("run", "--order", "failed", "--jobs", "1")
    assert "spec or program changed" in place.call("history", flaky[1]).out
    (place.directory / "count").write_text("even")
    place.call("run", "--order", "failed", "--jobs", "1")
    assert place.cases()[0]["argv"] == ["odd"]
    place.call("run", "--order", "quick", "--jobs", "1")
    assert place.call("history", "--prune", "1").out == "5 runs dropped\n"
    assert place.call("history", "zzzz").status == 3


def test_a_damaged_history_is_set_aside_by_a_run_and_no_other_file_ever_is(place: Place) -> None:
    place.write("t.matrix.toml", FLAKY)
    (place.directory / "count").write_text("even")
    directory = place.directory / ".keen-matrix"
    file = directory / "history.sqlite3"
    directory.mkdir()
    file.write_text("no database at all, but long enough to be looked at " * 20)
    before = file.read_bytes()
    came = place.call("run")
    assert came.status == 0 and "is not a history of Keen Matrix; it is left as it is" in came.err
    assert file.read_bytes() == before and len(list(directory.iterdir())) == 2
    file.unlink()
    assert place.call("run").err == ""
    raw = bytearray(file.read_bytes())
    raw[100:4000] = bytes(each ^ 0x55 for each in raw[100:4000])
    file.write_bytes(raw)
    read = place.call("history")
    assert read.status == 3 and "is damaged" in read.err and file.read_bytes() == raw
    came = place.call("run")
    assert came.status == 0 and "set aside as" in came.err and len(list(directory.glob("*.damaged"))) == 1
    assert place.call("run").err == "" and place.call("history").status == 0
    with sqlite3.connect(file) as database:
        database.execute("PRAGMA user_version = 99")
    came = place.call("run")
    assert came.status == 0 and "it is of version 99" in came.err


def test_reading_a_history_changes_nothing_and_a_locked_one_holds_nobody_up(place: Place) -> None:
    place.write("t.matrix.toml", FLAKY)
    (place.directory / "count").write_text("even")
    for name, text in (("notes.txt", "my notes"), ("empty", "")):
        (place.directory / name).write_text(text)
        came = place.call("history", "--history", name)
        assert came.status == 3 and (place.directory / name).read_text() == text, came
    with sqlite3.connect(place.directory / "other.sqlite3") as database:
        database.execute("CREATE TABLE runs (number INTEGER)")
    before = (place.directory / "other.sqlite3").read_bytes()
    assert "is not a history of Keen Matrix" in place.call("history", "--history", "other.sqlite3").err
    assert (place.directory / "other.sqlite3").read_bytes() == before
    assert place.call("run").status == 0
    seen = sorted(os.listdir(place.directory / ".keen-matrix"))
    assert place.call("history").status == 0 and sorted(os.listdir(place.directory / ".keen-matrix")) == seen
    lock = sqlite3.connect(place.directory / ".keen-matrix/history.sqlite3", isolation_level=None)
    lock.execute("BEGIN EXCLUSIVE")
    came = place.call("run")
    lock.close()
    assert came.status == 0 and "are not entered into the history" in came.err and "2 cases: all passed" in came.out


def test_several_runs_at_once_share_a_history(place: Place) -> None:
    place.write("t.matrix.toml", FLAKY)
    (place.directory / "count").write_text("even")
    started = [place.start("run", "--journal", f".keen-matrix/{n}.jsonl") for n in range(5)]
    assert [each.wait(60) for each in started] == [0] * 5
    for each in started:
        each.communicate()
    assert place.call("history").out.partition("flaky")[0].count("t.matrix.toml") == 5


def test_replay_shows_everything_and_writes_a_script(ran: Place) -> None:
    ran.write("s.matrix.toml", """
        [program]
        launch = "sh -c 'cat; cat a.txt; echo $V; echo oops >&2; exit 3' p"
        [[matrix]]
        name = "all of it"
        line = "{w}"
        axes.w = ["it's", "two words"]
        stdin = "fed {w}\\n"
        env.V = "v $w"
        files."a.txt" = { text = "file\\n", mode = "600" }
        expect.exit = 0
        """)  # fmt: skip
    id = json.loads(ran.call("unfold", "s.matrix.toml", "--format", "json").out.splitlines()[0])["id"]
    came = ran.call("replay", id[:6], "s.matrix.toml")
    assert came.status == 1
    for text in ("comes from", "must satisfy", "failed", "stdout", "oops", "expected  0", "found     3", "always"):
        assert text in came.out, came.out
    assert ran.call("replay", id, "s.matrix.toml", "--script", "again.sh").status == 0
    done = subprocess.run(["sh", "again.sh"], cwd=ran.directory, capture_output=True, text=True)
    assert (done.stdout, done.stderr, done.returncode) == ("fed it's\nfile\nv $w\n", "oops\n", 3)
    assert ran.call("replay", "zzzz").status == 3


def test_the_shell_completes_commands_options_matrices_and_ids(ran: Place) -> None:
    def completed(line: str) -> list[str]:
        env = {
            **os.environ,
            "_ARGCOMPLETE": "1",
            "COMP_LINE": line,
            "COMP_POINT": str(len(line)),
            "_ARGCOMPLETE_IFS": "\n",
        }
        with open(ran.directory / "out", "w+b") as out:
            subprocess.run(
                ["bash", "-c", f'exec 8>&1 9>/dev/null; "{COMMAND}"'], env=env, cwd=ran.directory, stdout=out, check=False
            )
            out.seek(0)
            return [each.strip() for each in out.read().decode().splitlines()]

    assert set(completed("keen-matrix re")) == {"report", "replay"}
    assert "--journal" in completed("keen-matrix run --jou")[0]
    assert completed("keen-matrix run --only cro") == ["crossings"]
    assert len(completed("keen-matrix replay ")) >= 16


def test_a_large_journal_is_reported_quickly(place: Place) -> None:
    head = {
        "journal": 1,
        "version": "0",
        "spec": "t.matrix.toml",
        "spec_digest": "x",
        "started": "2026-01-01T00:00:00",
        "jobs": 2,
    }
    lines = [json.dumps(head)]
    for number in range(10_000):
        passed = number % 50 != 0
        aspects = [] if passed else [{"aspect": "exit", "met": False, "form": "is", "expected": "0", "actual": "1"}]
        lines.append(json.dumps({"id": f"{number:010d}", "matrix": "m", "family": None, "kind": None, "argv": [str(number)],
                                 "values": {"a": number % 20, "b": number % 7}, "verdict": "passed" if passed else "failed", "exit": 0,
                                 "signal": None, "seconds": 0.01, "user_seconds": 0, "system_seconds": 0, "peak_bytes": 1, "stdout": "x",
                                 "stderr": "", "files": {}, "aspects": aspects}))  # fmt: skip
    lines.append('{"finished":"2026-01-01T00:00:09","counts":{"passed":9800,"failed":200}}')
    (place.directory / "big.jsonl").write_text("\n".join(lines) + "\n")
    started = time.monotonic()
    assert place.call("report", "big.jsonl", "--format", "html", "-o", "run.html").status == 0
    assert time.monotonic() - started < 60
    if CHROMIUM:
        came = drive(place.directory / "run.html")
        assert came["all"] == 10_000 and float(str(came["filter"])) < 1_000


def two_specs(place: Place, launch: str, expect: str) -> None:
    """Write a.matrix.toml and b.matrix.toml, alike, with one case each."""
    for name in ("a", "b"):
        place.write(
            f"{name}.matrix.toml",
            f'[program]\nlaunch = "{launch}"\n[[matrix]]\nname = "m"\nline = "word"\n{expect}\n',
        )


def test_another_build_is_remembered_by_the_line_to_paste_and_by_replay(place: Place) -> None:
    place.write("good.sh", 'echo "$1"')
    place.write("bad.sh", "echo other")
    two_specs(place, "sh {here}/good.sh", 'expect.stdout = "word"')
    assert place.call("run").status == 0
    came = place.call("run", "a.matrix.toml", "--program", "sh bad.sh")
    id = place.cases()[0]["id"]
    assert f"again: keen-matrix run a.matrix.toml {id[:6]} --program 'sh bad.sh' --all" in came.out
    assert place.call("replay", id[:6], "a.matrix.toml").status == 1
    assert place.call("replay", id[:6], "a.matrix.toml", "--program", "sh good.sh").status == 0
    assert place.call("replay", id[:6], "b.matrix.toml").status == 0, "the last run was none of this spec"
    (place.directory / ".keen-matrix/last.jsonl").write_bytes(b"torn\n{")
    assert place.call("replay", id[:6], "a.matrix.toml").status == 0


def test_recorded_outputs_are_those_of_the_specs_that_ran_last(place: Place) -> None:
    place.write("p.sh", 'echo "$1"')
    two_specs(place, "sh {here}/p.sh", "expect.stdout.baseline = true")
    assert place.call("baseline").status == 3, "nothing has run yet"
    place.call("run", "b.matrix.toml")
    came = place.call("baseline")
    assert came.status == 1 and "b.matrix.toml   1 new" in came.out and "a.matrix.toml" not in came.out
    assert "has no run of a.matrix.toml" in place.call("baseline", "a.matrix.toml").err
    assert place.call("baseline", "--accept").status == 0 and place.call("run", "b.matrix.toml").status == 0


def test_a_program_to_draft_may_be_quoted_as_one_text(place: Place) -> None:
    place.write("my program.sh", "echo 'usage: p [-a] FILE'")
    apart, together = place.call("draft", "sh", "my program.sh"), place.call("draft", "sh 'my program.sh'")
    assert apart.status == 0 and apart.out == together.out
    assert "cannot be read as words" in place.call("draft", "sh 'my").err


def test_reports_keep_the_order_of_the_spec_whichever_case_ends_first(place: Place) -> None:
    place.write("o.matrix.toml", """
        [program]
        launch = "sh -c '[ $1 = slow ] && sleep 0.3; exit $2' p"
        [[matrix]]
        name = "zebra"
        line = "{pace} {code}"
        axes.pace = ["slow", "fast"]
        axes.code = [0, 1]
        expect.exit = 0
        [[matrix]]
        name = "ant"
        line = "fast 0"
        expect.exit = 0
        """)  # fmt: skip
    place.call("run", "--jobs", "4")
    assert place.cases()[0]["argv"][0] == "fast", "a later case ended first"
    came = place.call("report", "--by", "pace,code").out
    assert came.index("zebra") < came.index("ant") and came.index("slow  fast") > 0
    suites = ET.fromstring(place.call("report", "--format", "junit").out).findall("testsuite")
    assert [each.get("name", "").split(": ")[-1] for each in suites] == ["zebra", "ant"]
