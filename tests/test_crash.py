"""A crash is a crash on whichever stream, on a terminal, in colour and in a box."""

from __future__ import annotations

import pytest

from keen_matrix.core.expect.crash import SIGNS, crash_sign, plain_text
from keen_matrix.core.model.outcome import Outcome
from tests.conftest import Place

PYTHON = 'Traceback (most recent call last):\n  File "p.py", line 1, in <module>\n    f()\nTypeError: bad operand\n'
RICH = (
    "╭─────────── Traceback (most recent call last) ────────────╮\n│ /home/ada/p.py:3 in main                                 │\n"
    "│ ❱ 3 │ f()                                                │\n╰──────────────────────────────────────────────────────────╯\n"
    "TypeError: bad operand\n"
)
GROUP = (
    "  + Exception Group Traceback (most recent call last):\n  |   File \"p.py\", line 1, in <module>\n  | ExceptionGroup: many (1 sub-exception)\n"
    "  +-+---------------- 1 ----------------\n    | ValueError: a\n    +------------------------------------\n"
)
NODE = "/p.js:1\nnull.x\n     ^\n\nTypeError: no x\n    at Object.<anonymous> (/p.js:1:6)\n\nNode.js v20.20.2\n"
GO = "panic: runtime error: index out of range [3] with length 0\n\ngoroutine 1 [running]:\nmain.main()\n\t/p.go:2 +0x1a\n"
RUST = "thread 'main' panicked at src/main.rs:1:5:\nindex out of bounds\nnote: run with `RUST_BACKTRACE=1`\n"
PHP = "PHP Fatal error:  Uncaught Exception: boom in /p.php:1\nStack trace:\n#0 /p.php(1): f()\n  thrown in /p.php on line 1\n"
UNHANDLED = {
    "python": (PYTHON, "Python: TypeError: bad operand"), "rich": (RICH, "Python: TypeError: bad operand"),
    "group": (GROUP, "Python: ExceptionGroup: many (1 sub-exception)"), "node": (NODE, "Node: TypeError: no x"),
    "go": (GO, "Go: panic: runtime error: index out of range [3] with length 0"), "rust": (RUST, "Rust: thread 'main' panicked at src/main.rs:1:5:"),
    "ruby": ("r:1:in `<main>': boom (RuntimeError)\n", "Ruby: r:1:in `<main>': boom (RuntimeError)"),
    "ruby errno": ("r.rb:1:in 'f': No such file - x (Errno::ENOENT)\n\tfrom r.rb:1:in '<main>'\n", "Ruby: r.rb:1:in 'f': No such file - x (Errno::ENOENT)"),
    "php": (PHP, "PHP: PHP Fatal error:  Uncaught Exception: boom in /p.php:1"),
    "php shown": ("\nFatal error: Uncaught Error: Call to undefined function f() in /p.php:1\n", "PHP: Fatal error: Uncaught Error: Call to undefined function f() in /p.php:1"),
    "java": ('Exception in thread "main" java.lang.NullPointerException\n\tat P.main(P.java:3)\n', 'Java: Exception in thread "main" java.lang.NullPointerException'),
    ".net": ("Unhandled exception. System.InvalidOperationException: no\n", ".NET: Unhandled exception. System.InvalidOperationException: no"),
    "c++": ("terminate called after throwing an instance of 'int'\n", "C++: terminate called after throwing an instance of 'int'"),
    "assert": ("p: p.c:3: main: Assertion `n > 0' failed.\n", "C: p: p.c:3: main: Assertion `n > 0' failed."),
    "sanitizer": ("==7==ERROR: AddressSanitizer: heap-buffer-overflow\n", "sanitizer: ==7==ERROR: AddressSanitizer: heap-buffer-overflow"),
}  # fmt: skip
SURE = {each.runtime for each in SIGNS if each.is_sure}


def on_a_terminal(text: str) -> bytes:
    return "".join(f"\x1b[1;31m{line}\x1b[0m\r\n" for line in text.splitlines()).encode()


@pytest.mark.parametrize("name", UNHANDLED)
def test_an_unhandled_error_is_seen_wherever_it_is_printed(name: str) -> None:
    text, sign = UNHANDLED[name]
    raw = text.encode()
    for outcome in (
        Outcome(exit=1, stderr=raw), Outcome(exit=1, stdout=raw), Outcome(exit=1, stdout=b"4.50\n" + raw, together=True),
        Outcome(exit=1, stdout=on_a_terminal(text), together=True),
    ):  # fmt: skip
        assert crash_sign(outcome) == sign, outcome
    # one that the program has dealt with, and ended well, is none
    assert crash_sign(Outcome(exit=0, stderr=raw)) is None and crash_sign(Outcome(exit=0, stdout=raw)) is None


@pytest.mark.parametrize(("text", "runtime"), [
    ("died at p.pl line 3.\n", "Perl"), ("p.sh: 3: nosuch: not found\n", "shell"), ("p.sh: line 3: x: unbound variable\n", "shell"),
])  # fmt: skip
def test_what_a_program_may_print_itself_counts_on_standard_error_alone(text: str, runtime: str) -> None:
    raw = text.encode()
    assert str(crash_sign(Outcome(exit=1, stderr=raw))).startswith(runtime)
    assert str(crash_sign(Outcome(exit=1, stdout=raw, together=True))).startswith(runtime)
    assert crash_sign(Outcome(exit=1, stdout=raw)) is None and runtime not in SURE


@pytest.mark.parametrize("text", [
    "error: no such port\n", "usage: fare PORT\n", "╭─ Error ───────╮\n│ No such port. │\n╰───────────────╯\n", "Error: bad (value)\n", "fatal: no\n",
])  # fmt: skip
def test_a_message_is_no_crash(text: str) -> None:
    assert crash_sign(Outcome(exit=1, stderr=text.encode(), stdout=text.encode(), together=True)) is None


def test_a_box_and_colours_are_taken_off() -> None:
    assert plain_text("\x1b[1m╭─ Error ─╮\x1b[0m\r\n│ no port │\n".encode()) == b"Error\nno port\n"
    assert plain_text(b"  plain \n") == b"  plain \n"


@pytest.mark.parametrize("how", ['streams = "joined"', "terminal = { columns = 80, rows = 24 }", ""])
def test_a_traceback_is_a_crash_with_joined_streams_and_on_a_terminal(place: Place, how: str) -> None:
    place.write("p.py", "raise TypeError('no')")
    place.write("t.matrix.toml", f"""
        [program]
        launch = "python3 -S {{here}}/p.py"
        {how}
        [[matrix]]
        name = "m"
        line = "a"
        expect.exit = 1
        """)
    place.call("run")
    (case,) = place.cases()
    assert case["verdict"] == "crashed" and case["aspects"][0]["actual"] == "Python: TypeError: no"


OPENS = """
    import argparse
    parser = argparse.ArgumentParser()
    parser.add_argument("file", nargs="?"); parser.add_argument("--cfg"); parser.add_argument("--old"); parser.add_argument("--log", nargs="?")
    given = parser.parse_args()
    for each in filter(None, [given.file, given.cfg, given.log]):
        open(each).read()
    print("done")
    """


def test_an_operand_or_value_that_may_be_left_out_has_wrong_values_too(place: Place) -> None:
    place.write("p.py", OPENS)
    place.write("t.matrix.toml", """
        [program]
        launch = "python3 -S {here}/p.py"
        [files]
        "a.txt" = "x"
        [signature]
        synopsis = "[--cfg CFG] [--old OLD] [--log[=LOG]] [FILE]"
        reader = "argparse"
        aside = ["--old"]
        derive = ["refusals"]
        values = { FILE.type = "file", CFG.type = "file", LOG.type = "file" }
        """)
    came = place.call("run")
    crashed = {tuple(each["argv"]) for each in place.cases() if each["verdict"] == "crashed"}
    assert {("no-such-file",), ("--cfg", "no-such-file"), ("--log=no-such-file",)} <= crashed, came
    # what is left out is counted where the result is read, and stands in no case
    assert "1 option left out" in came.out.splitlines()[-2] and "left out   1 option is in no derived case: --old" in came.out
    assert not [each for each in place.cases() if any(word.startswith("--old") for word in each["argv"])]


CRASHES = r"""
    while [ $# -gt 0 ]; do
        case $1 in
            --all) a=x ;; --list) echo "one"; exit 1 ;; --strict) echo "p: --strict is not for this" >&2; exit 2 ;;
            --decode) printf 'Traceback (most recent call last):\n  File "p", line 1\nLookupError: unknown encoding\n' >&2; exit 1 ;;
            --help) echo "usage: p [--all] [--list] [--strict] [--decode] PORT"; exit 0 ;;
            -*) echo "p: unknown option $1" >&2; exit 2 ;;
            *) port=$1; count=x$count ;;
        esac
        shift
    done
    [ "$count" = x ] || { echo "p: one port" >&2; exit 2; }
    echo "$port $a"
    """


def test_settle_sets_refusals_aside_and_no_crash(place: Place) -> None:
    place.write("p.sh", CRASHES)
    place.write("t.matrix.toml", """
        [program]
        launch = "sh {here}/p.sh"
        [signature]
        synopsis = "[--all] [--list] [--strict] [--decode] PORT"
        """)
    came = place.call("settle", "--write", "--launches", "400", timeout=120)
    text = (place.directory / "t.matrix.toml").read_text()
    assert "--decode" not in text.partition("aside")[2] and '"--list"' not in text.partition("aside")[2], text
    assert "--strict" in text.partition("aside")[2], came
    place.call("run")
    verdicts = {tuple(each["argv"]): each["verdict"] for each in place.cases()}
    assert verdicts[("--decode", "word")] == "crashed"
