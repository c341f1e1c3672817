"""The words of the interface: one meaning each, one name for an option everywhere, help that fits the terminal."""

from __future__ import annotations

import functools
import re
import runpy
import shutil
from collections.abc import Iterator
from pathlib import Path

import pytest

from keen_matrix.cli import COMMANDS, build_parser
from keen_matrix.cli.console.screen import Screen
from keen_matrix.wording.counts import counted, duration, size
from keen_matrix.wording.signs import MARKS, VERDICT_SIGNS, legend, plain, text_of
from tests.conftest import Place

ROOT = Path(__file__).parent.parent
MESSAGES = runpy.run_path(str(Path(__file__).parent.parent / "docs" / "messages.py"))


@functools.cache
def sentences() -> list[tuple[str, int, str]]:
    """Return module, line and text of every sentence that a user can be shown."""
    return list(MESSAGES["sentences"]())


WORDS = {
    r"positional argument": "an operand",
    r"\bunsteady\b|\bgroundless\b|\bhung\b|\bunlaunched\b|\bdiffered\b": "flaky, blocked, timed out, not started, failed",
    r"\b(did|does|do) not hold\b|\bheld\b|\bunheld\b": "passed, failed",
    r"\bvectors?\b": "case, or call; a vector is a list of words",
    r"\bfolders?\b": "directory",
    r"\bstand(s|ing)? (in|on|at|below|here|there|behind|before|twice|beside|between|outside)\b": "is, appears",
    r"\b(is|are|was|be) told\b|\btells? (of|which|that)\b": "reported, says",
    r"\bbehind\b": "after",
    r"\b(what|that|which) (came|comes)\b(?! (after|from|first))|\bnothing else came\b": "the output, the result",
    r"\bmilliard\b": "billion",
    r"\bbut for\b": "except for",
    r"\banew\b": "again",
    r"\bparted\b|\bput aside\b": "split, set aside",
    r"\bcan(not)? be told\b": "is unclear, is not known",
    r"\bof no\b|\bstate it\b|\bleft behind\b": "plain words",
    r"\brecorded output": "a baseline",
    r"\bnobody'?s?\b|\bstarts nowhere\b|\bcame to\b": "a sentence with a subject",
    r"\bcaller'?s positional\b": "operands",
}
"""Wordings that are not used → what is said instead."""


@pytest.mark.parametrize("wrong", WORDS)
def test_a_word_has_one_meaning_in_every_message(wrong: str) -> None:
    found = [f"{module}:{line}: {text[:80]}" for module, line, text in sentences()
             if re.search(wrong, text.replace("--fail-under", ""))]  # fmt: skip
    assert not found, f"say {WORDS[wrong]!r}"


PAGES = [ROOT / "README.md", ROOT / "CONTRIBUTING.md", ROOT / "CHANGELOG.md", *sorted((ROOT / "docs").glob("**/*.md"))]
#: Pages that define or explain the words themselves.
DEFINING = {"glossary.md": [r"\bvectors?\b"], "architecture.md": [r"\bvectors?\b"], "CONTRIBUTING.md": [r"\bvectors?\b"]}
LONGEST_SENTENCE, AVERAGE = 35, 20


def prose_of(page: Path) -> Iterator[str]:
    """Yield the sentences of a page, and of the cells of its tables; code is one word each."""
    text = re.sub(r"```.*?```", "\n\n", page.read_text(), flags=re.DOTALL)
    text = re.sub(r"<!--.*?-->|^\[All pages\].*$", "", text, flags=re.MULTILINE)
    for block in re.split(r"\n\s*\n|\n(?=\s*(?:[-*]|\d+\.) )|\n(?=[#|])", text):
        if block.startswith(("#", "|---")) or not block.strip():
            continue
        for cell in block.strip().strip("|").split(" | ") if block.startswith("|") else [block]:
            plain = " ".join(re.sub(r"\[([^\]]*)\]\([^)]*\)", r"\1", re.sub(r"`[^`]*`", "code", cell)).split())
            yield from re.split(r"(?<=[.!?:;])\s+(?=[A-Z(*]|code)", plain)


@pytest.mark.parametrize("page", PAGES, ids=[page.name for page in PAGES])
def test_a_word_has_one_meaning_on_every_page(page: Path) -> None:
    allowed = DEFINING.get(page.name, [])
    found = [(wrong, sentence[:90]) for sentence in prose_of(page) for wrong in WORDS
             if "nobody" not in wrong and wrong not in allowed and re.search(wrong, sentence)]  # fmt: skip
    assert not found


@pytest.mark.parametrize("page", PAGES, ids=[page.name for page in PAGES])
def test_no_sentence_of_a_page_is_too_long(page: Path) -> None:
    sentences = (each for each in prose_of(page) if not re.match(r"(exit status: )?0\b", each))  # those are lists
    long = [sentence for sentence in sentences if len(re.findall(r"[\w'’.-]+", sentence)) > LONGEST_SENTENCE]
    assert not long


def test_sentences_are_short_on_average() -> None:
    counts = [len(sentence.split()) for page in PAGES for sentence in prose_of(page)]
    assert sum(counts) / len(counts) < AVERAGE


def test_every_message_is_found() -> None:
    found = sentences()
    assert len(found) > 600 and len({module for module, _, _ in found}) > 60


@pytest.mark.parametrize("columns", [60, 80, 200])
@pytest.mark.parametrize("command", ["", *COMMANDS])
def test_help_fits_the_terminal(command: str, columns: int, monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setenv("COLUMNS", str(columns))
    parser = build_parser(command)
    text = (parser.commands[command] if command else parser).format_help()
    long = [line for line in text.splitlines() if len(line) > columns and "#:schema" not in line]
    assert not long and "positional arguments" not in text and "\0" not in text


def test_an_option_means_the_same_in_every_command() -> None:
    parser = build_parser()
    shapes: dict[str, set[str]] = {}
    meanings: dict[str, set[str]] = {}
    for command in parser.commands.values():
        for action in command._actions:
            for option in action.option_strings:
                if option != "--write":  # its meaning is one: try only takes a name for what it writes
                    shapes.setdefault(option, set()).add(f"{type(action).__name__} {action.metavar}")
                meanings.setdefault(option, set()).add(" ".join(str(action.help).replace(":", " ").split()[:2]))
    assert {option for option, found in shapes.items() if len(found) > 1} == set()
    assert {option: found for option, found in meanings.items() if len(found) > 1} == {}, "helps of one option begin alike"
    assert {"--details", "--as", "--id", "--keep"}.isdisjoint(shapes)
    assert all(summary.split()[0].strip(",") in {"run", "record", "shrink", "show", "write", "read", "list", "compare", "find", "print", "put"}
               for summary in COMMANDS.values())  # fmt: skip


@pytest.mark.parametrize(("count", "noun", "text"), [
    (0, "line", "no lines"), (1, "line", "1 line"), (2, "matrix", "2 matrices"), (12_000, "launch", "12,000 launches"),
])  # fmt: skip
def test_counts_have_their_nouns(count: int, noun: str, text: str) -> None:
    assert counted(count, noun) == text


def test_durations_and_sizes_are_written_in_one_way() -> None:
    assert [duration(each) for each in (0.0441, 9.9994, 12.34, 345.6, 4000)] == [
        "0.044 s",
        "9.999 s",
        "12.3 s",
        "346 s",
        "4,000 s",
    ]
    assert [size(each) for each in (0, 1, 1023, 1024, 5 * 1024**2, 3 * 1024**3)] == [
        "no bytes", "1 byte", "1,023 bytes", "1.0 KiB", "5.0 MiB", "3.0 GiB"]  # fmt: skip


def test_signs_differ_in_shape_and_are_told_in_a_legend() -> None:
    for at in (0, 1):
        signs = [each[at] for each in VERDICT_SIGNS.values()]
        assert len(set(signs)) == len(signs) and all(len(each) == 1 for each in signs)
    assert all(each[1].isascii() for each in (*VERDICT_SIGNS.values(), *MARKS.values()))
    assert plain("a → b …") == "a -> b ..."
    import io

    screen = Screen(io.StringIO(), color="never")
    screen.unicode = True
    assert text_of(legend(screen, {"crashed", "passed"})) == "signs: = passed   ! crashed"


SPEC = """
[program]
launch = "sh -c 'test $1 -lt 3' sh"
[[matrix]]
name = "numbers"
line = "{n}"
axes.n = [1, 2, 3, 4]
expect.exit = 0
"""


@pytest.fixture(scope="module")
def ran(tmp_path_factory: pytest.TempPathFactory) -> Place:
    place = Place(tmp_path_factory.mktemp("words"))
    place.write("t.matrix.toml", SPEC)
    assert place.call("run").status == 1
    return place


def test_a_legend_stands_wherever_signs_do(ran: Place) -> None:
    assert "\n  signs: ≠ failed\n" in ran.call("run").out
    assert "\n  signs: ≠ failed\n" in ran.call("report").out
    assert "| ≠ |" not in (text := ran.call("report", "--format", "markdown").out) or "≠ none passed" in text
    assert '"failed":"≠"' in ran.call("report", "--format", "html").out


def test_ids_are_operands_everywhere(ran: Place) -> None:
    wrong = [case["id"] for case in ran.cases() if case["verdict"] == "failed"]
    short = [id[:5] for id in wrong]
    assert ran.call("unfold", *short).out.count("test $1") == 0
    shown = ran.call("unfold", *short, "t.matrix.toml")
    assert shown.status == 0 and all(id[:6] in shown.out for id in wrong) and "2 cases" in shown.out
    why = ran.call("unfold", "t.matrix.toml", "--why", *short)
    assert why.status == 0 and why.out.count("must satisfy") == 2
    assert ran.call("unfold", "--why").status == 2
    narrowed = ran.call("narrow", short[0], "--launches", "50", "t.matrix.toml")
    assert narrowed.status == 0 and narrowed.out.count("to save it in the spec") == 1
    assert ran.call("history", *short).out.count("numbers") >= 2
    replayed = ran.call("replay", *short)
    assert replayed.status == 1 and replayed.out.count("verdict  ≠ failed") == 2
    both = ran.call("replay", *short, "--script", "a.sh")
    assert both.status == 2 and "a script runs one case, but 2 ids were given" in both.err
    assert ran.call("replay", "t.matrix.toml").status == 2
    none = ran.call("unfold", "zzzzz")
    assert none.status == 3 and "no case has an id that begins with zzzzz" in none.err


@pytest.mark.parametrize(("words", "message"), [
    ("run --color alway", "--color: found 'alway'; did you mean always?"),
    ("report --format htm", "--format: found 'htm'; did you mean html?"),
    ("run --report htm=x", "unknown format 'htm'; did you mean html?"),
    ("run --seed x", "--seed: expected a whole number, found 'x'"),
    ("run --jobs x", "--jobs: expected a whole number above 0, found 'x'"),
    ("run --jobs", "--jobs needs a value"),
    ("run --brief --all", "--all does not go together with --brief; give one of them"),
    ("run --brief=3", "--brief takes no value, found '3'"),
    ("compare", "missing A"),
    ("schema x", "unknown operand x"),
    ("schema --of spec -- x -y", "unknown operand x -y"),
    ("run --jobs 1 t.matrix.toml -- --nope", "--nope does not exist"),
    ("run t.matrix.toml --jobs 1 -- --nope", "--nope does not exist"),
    ("run t.matrix", "t.matrix does not exist; did you mean t.matrix.toml?"),
    ("run T.matrx.toml", "did you mean t.matrix.toml?"),
    ("history --keep 3", "unknown option --keep"),
])  # fmt: skip
def test_a_wrong_call_names_the_nearest_right_word(ran: Place, words: str, message: str) -> None:
    came = ran.call(*words.split())
    assert came.status == 2 and message in came.err and "argument --" not in came.err


GATHERED = [
    ["run", "--program", "sh {here}/faulty/tide.sh", "--all"], ["run", "--program", "sh {here}/faulty/tide.sh", "-v"], ["report"],
    ["report", "--format", "markdown"], ["report", "--format", "tap"], ["doubt", "--all"], ["suspects"], ["coverage", "--all"], ["narrow"],
    ["unfold"], ["unfold", "--count"], ["lint"], ["lint", "--effective"], ["history"], ["compare", ".keen-matrix/last.jsonl"], ["fill"],
    ["baseline"], ["places"], ["settle", "--launches", "40"], ["try", "tide.matrix.toml", "--", "Skerry"], ["draft", "--", "sh", "sound/tide.sh"],
]  # fmt: skip


@pytest.mark.long
def test_a_word_has_one_meaning_in_all_that_the_demo_prints(place: Place) -> None:
    office = ROOT / "src/keen_matrix/demo/office"
    for name in ("tide.matrix.toml", "oracle.py", "sound", "faulty"):
        source = office / name
        (shutil.copytree if source.is_dir() else shutil.copy)(source, place.directory / name)
    found = []
    for words in GATHERED:
        spec = ["tide.matrix.toml"] if words[0] in ("run", "unfold", "lint", "fill", "baseline", "settle") else []
        came = place.call(*words, *spec, timeout=120)
        assert came.status in (0, 1), (words, came)
        found += [(words, line) for line in (came.out + came.err).splitlines() for wrong in WORDS if re.search(wrong, line)]
    assert not found
