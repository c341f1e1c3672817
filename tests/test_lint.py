"""`keen-matrix lint`: every mistake, all at once, each with its place, what was expected and the nearest right word."""

from __future__ import annotations

import pytest

from tests.conftest import Place

GOOD = {
    "program": 'launch = "true"',
    "top": "",
    "matrix": 'name = "m"\nline = "{x}"\naxes.x = ["a", "b"]\nexpect.exit = 0',
}


def spec(program: str = "", top: str = "", matrix: str = "", more: str = "") -> str:
    return f"{top}\n[program]\n{program or GOOD['program']}\n[[matrix]]\n{matrix or GOOD['matrix']}\n{more}\n"


BASE = 'name = "m"\nline = "{x}"\naxes.x = ["a", "b"]\n'
SIGNED = '[program]\nlaunch = "true"\n[signature]\n{}\n'
MISTAKES = [
    ("a slip in a key of [refusal]", SIGNED.format('synopsis = "X"\n[refusal]\nexti = 2'), '6:1: unknown key "exti" in [refusal] … did you mean "exit"?'),
    ("a kind that is no table", SIGNED.format('synopsis = "X"\n[refusal]\ntoo-few = 2'), "6:11: refusal.too-few is a number … expected a table"),
    ("a syntax error", "[program\n", '1:9: this is not valid TOML: expected'),
    ("an unknown key", spec(program='launch = "true"\ntimeot = 3'), '4:1: unknown key "timeot" in [program] … did you mean "timeout"?'),
    ("a misspelt table that is needed", '[programm]\nlaunch = "true"\n[[matrix]]\nname = "m"\nline = "x"\n', '1:2: unknown key "programm" in the spec … did you mean "program"?'),
    ("a former key", spec(program='launch = "true"\nenv-inherit = ["PATH"]'), 'unknown key "env-inherit" in [program] … did you mean "env-from-caller"?'),
    ("a former key of a text", spec(matrix=BASE + "expect.stdout.line-count = 3"), 'unknown key "line-count" in [matrix[1].expect.stdout] … did you mean "number-of-lines"?'),
    ("an unknown table", spec(more="[expct]\nexit = 0"), '9:2: unknown key "expct" in the spec … did you mean "expect"?'),
    ("a key far from any", spec(more="[expect]\nzzz = 0"), '10:1: unknown key "zzz" in [expect] … expected one of alike, crash, differs, duration, exit'),
    ("a wrong type", spec(program='launch = "true"\ntimeout = "long"'), "4:11: program.timeout: expected a time"),
    ("no launch", spec(program="timeout = 1"), '2:2: "launch" is missing in [program]'),
    ("an empty launch", spec(program='launch = " "'), "3:10: launch is empty … expected the words that start the program"),
    ("an empty list of launch words", spec(program="launch = []"), "3:10: launch is empty … expected the words that start the program"),
    ("a wrong launch", spec(program="launch = 3"), "3:10: program.launch: expected a text or a list of words, found a number"),
    ("an unknown axis", spec(matrix=BASE.replace("{x}", "{y}")), '6:10: "y" is neither an axis nor a column here'),
    ("a misspelt axis", spec(matrix='name="m"\nline = "a {riders_}"\naxes.riders = [1]'), '6:12: "riders_" is neither'),
    ("an empty axis", spec(matrix=BASE + "axes.z = []"), "8:10: matrix[1].axes.z: this axis has no values; expected at least one"),
    ("a nested empty axis", spec(matrix=BASE + "axes.z = [1, {}]"), "8:14: matrix[1].axes.z[2]: expected a text, number, boolean"),
    ("two of one name", spec(more="[[matrix]]\n" + GOOD["matrix"]), '10:8: two matrices are named "m"'),
    ("a wrong line", spec(matrix=BASE.replace("{x}", "{x} [a")), '6:13: matrix[1].line: this "[" is never closed'),
    ("a wrong expression", spec(matrix=BASE + 'only-if = ["x =! 3"]'), "8:15: matrix[1].only-if[1]: in the expression x =! 3"),
    ("a wrong condition", spec(matrix=BASE + 'expect = [{ when = "x ==", exit = 0 }]'), "8:21: matrix[1].expect[1].when: in the exp"),
    ("a wrong template", spec(matrix=BASE + 'expect.stdout = "a {"'), '8:20: matrix[1].expect.stdout: this "{" is never closed'),
    ("an unknown function", spec(matrix=BASE + 'expect.stdout = "é {faer(x)}"'), '8:21: unknown function "faer"'),
    ("a wrong regex", spec(matrix=BASE + 'expect.stdout.matches = "a("'), "8:28: matrix[1].expect.stdout.matches: this regular"),
    ("a wrong exit", spec(matrix=BASE + "expect.exit = 300"), "8:15: matrix[1].expect.exit: 300 is not an exit code"),
    ("an exit range backwards", spec(matrix=BASE + 'expect.exit = "9..1"'), "8:15: matrix[1].expect.exit: expected a code 0..255"),
    ("a wrong signal", spec(matrix=BASE + 'expect.signal = "TREM"'), "8:17: matrix[1].expect.signal: 'TREM' is not a signal; exp"),
    ("a step of 0", spec(matrix=BASE + "axes.n = { from = 1, to = 3, step = 0 }"), "8:10: matrix[1].axes.n: a step of 0 never"),
    ("a step the wrong way", spec(matrix=BASE + "axes.n = { from = 3, to = 1 }"), "expected a step below 0"),
    ("an axis of two sources", spec(matrix=BASE + 'axes.n = { from = 1, to = 3, lines = "f" }'), "found from and lines"),
    ("a key that does not go", spec(matrix=BASE + 'axes.n = { lines = "f", to = 3 }'), '"to" does not go with "lines"'),
    ("a partner missing", spec(matrix=BASE + 'axes.n = { table = "f" }'), '"table" needs "column" beside it'),
    ("a file not there", spec(matrix=BASE + 'axes.n = { lines = "ports.txt" }'), "axis n: ports.txt does not exist"),
    ("an uneven row", spec(matrix=BASE + 'columns = ["a", "b"]\nrows = [[1, 2], [3]]'), "9:17: this row has 1 values … expected 2: a, b"),
    ("rows without columns", spec(matrix=BASE + "rows = [[1, 2]]"), '8:8: "rows" needs "columns"'),
    ("columns without rows", spec(matrix=BASE + 'columns = ["a"]'), '8:11: "columns" is given without "rows"'),
    ("an axis that is a column", spec(matrix=BASE + 'columns = ["x"]\nrows = [[1]]'), '"x" is an axis and a column'),
    ("a wrong combine", spec(matrix=BASE + 'combine = "pair"'), 'matrix[1].combine: expected one of all, each, pairs, triples, zip or a'),
    ("an axis no name", spec(matrix=BASE + 'axes."a b" = [1]'), '8:6: "a b" cannot be used in expressions'),
    ("a missing oracle", spec(program='launch = "true"\noracle = "o.py"'), "4:10: the oracle file o.py does not exist"),
    ("a file outside", spec(top='[files]\n"../x" = "y"'), "leads out of the case's directory"),
    ("no matrix and nothing else", "[program]\nlaunch = 7\n", "launch"),
    ("a text in escapes", spec(matrix=BASE + 'expect.stdout = "\\t\\u00e9{"'), '8:26: matrix[1].expect.stdout: this "{"'),
    ("neither line nor steps", spec(matrix='name = "m"'), "4:3: matrix[1]: expected either line or steps"),
    ("both line and steps", spec(matrix=BASE + 'steps = [ { line = "a" } ]'), "4:3: matrix[1]: expected either line or steps"),
    ("a condition no text", spec(matrix=BASE + "only-if = [1]"), "8:12: matrix[1].only-if[1] is a number … expected a text"),
    ("a when no text", spec(matrix=BASE + "expect = [{ when = true, exit = 0 }]"), "8:20: matrix[1].expect[1].when is a boolean"),
    ("a NUL in a text", spec(matrix=BASE + 'expect.stdout = "a\\u0000b"'), "8:19: matrix[1].expect.stdout: a text cannot contain a NUL"),
    ("a boolean for a text", spec(matrix=BASE + "expect.stdout = true"), "8:17: matrix[1].expect.stdout: expected a text or a table"),
    ("a table without a form", spec(matrix=BASE + "expect.stdout = { literal = true }"), "expected at least one form, such as contains"),
    ("a wrong count of lines", spec(matrix=BASE + 'expect.stdout.number-of-lines = "few"'), 'expected a number, a range such as "1..3"'),
    ("a tolerance no number", spec(matrix=BASE + 'expect.stdout = { is = "1", tolerance = "much" }'), "8:41: matrix[1].expect.stdout.tolerance: expected a number such as 0.01"),
    ("a variable no text", spec(program='launch = "true"\nenv = { A = 3 }'), "4:13: program.env.A: expected a text, or false to unset it"),
    ("a wrong mode", spec(matrix=BASE + 'expect.files."x".mode = "888"'), '8:25: matrix[1].expect.files.x.mode: expected an octal mode such as "755"'),
    ("a file of two contents", spec(top='[files]\n"x" = { text = "a", copy = "b" }'), "2:7: files.x: expected exactly one of text, bytes, copy, dir, link"),
    ("a file no base64", spec(top='[files]\n"x" = { bytes = "base64:§" }'), "2:7: files.x: bytes is not base64"),
    ("an input of two sources", spec(matrix=BASE + 'stdin = { text = "a", file = "b" }'), "expected exactly one of text, file, command, closed"),
    ("a wrong command", spec(matrix=BASE + "stdin = { command = \"echo 'a\" }"), "8:9: matrix[1].stdin: command: this quote is never closed"),
    ("a stop without a moment", spec(matrix=BASE + 'stop = { signal = "TERM" }'), "expected at least one of after, when-stdout, when-stderr"),
    ("a wrong cap", spec(program='launch = "true"\noutput-cap = "much"'), '4:14: program.output-cap: expected a size such as "8 MiB"'),
    ("a timeout of 0", spec(program='launch = "true"\ntimeout = 0'), "4:11: program.timeout is 0 … expected a number above 0"),
    ("a terminal of no width", spec(matrix=BASE + "terminal = { columns = 0, rows = 9 }"), "8:24: matrix[1].terminal.columns is 0 … expected a number of at least 1"),
    ("an axis of no source", spec(matrix=BASE + "axes.n = { }"), "8:10: matrix[1].axes.n: expected exactly one source of values"),
    ("a misspelt source", spec(matrix=BASE + "axes.n = { form = 1, to = 2 }"), '8:12: unknown key "form" in [matrix[1].axes.n] … did you mean "from"?'),
    ("a wrong count of times", spec(matrix=BASE + 'axes.n = { repeat = "w", times = "many" }'), 'expected a range of counts such as "0..4"'),
    ("too many words", spec(matrix=BASE + 'axes.n = { repeat = "w", times = "0..99999" }'), "8:34: axis n: so many words in all are more than 1,000,000"),
    ("rows that are none", spec(matrix='name = "m"\nline = "{a}"\ncolumns = ["a"]\nrows = [1]'), "8:8: matrix[1].rows: row 1 is a number"),
    ("a table not there", spec(matrix='name = "m"\nline = "{a}"\ncolumns = ["a"]\nrows = "r.csv"'), "8:8: r.csv does not exist"),
    ("a sample too large", spec(matrix=BASE + "axes.n = { sample = 5, of = [1, 2] }"), "8:21: axis n: cannot draw 5 of 2 values"),
    ("an empty launcher", spec(program='launch = "true"\n[program.launchers]\nother = ""'), '5:9: the launcher "other" is empty'),
    ("an empty build", spec(program='launch = "true"\nbuild = " "'), "4:9: build is empty … expected the words of a command"),
    ("a digest too short", spec(matrix=BASE + 'expect.stdout.bytes = "sha256:12"'), "a sha256 digest has 64 hex digits, this one 2"),
    ("no digest at all", spec(matrix=BASE + 'expect.stdout.bytes = "abc"'), 'expected "base64:…" or a digest such as "sha256:…"'),
    ("a wrong limit", spec(matrix=BASE + 'expect.memory = "< 3"'), '8:17: matrix[1].expect.memory: expected a limit such as "< 2 MiB"'),
    ("a prompt without reply", spec(matrix=BASE + 'dialogue = [ { prompt = "x" } ]'), 'matrix[1].dialogue[1]: expected exactly one of reply, replies'),
    ("a usage line no text", SIGNED.format("synopsis = 3"), "4:12: signature.synopsis: expected a usage line, or a list of them"),
    ("an unknown NAME", SIGNED.format('synopsis = "PORT"\nvalues.PROT = { type = "int" }'), 'the synopsis has no value "PROT"; it has PORT … did you mean "PORT"?'),
    ("an unknown type", SIGNED.format('synopsis = "A"\nvalues.A = { type = "itn" }'), 'signature.values.A.type is \'itn\' … did you mean "int"?'),
    ("an example not legal", SIGNED.format('synopsis = "A"\nvalues.A = { type = "int", max = 3, example = 9 }'), "A: its example '9' is not a legal value: it is more than 3"),
    ("a bound no number", SIGNED.format('synopsis = "A"\nvalues.A = { type = "int", min = nan }'), "signature.values.A.min: expected a finite number or a date"),
    ("a count too large", SIGNED.format('synopsis = "A..."\nvalues.A = { count = 99999 }'), "signature.values.A.count: expected a count of at most 10,000 words"),
    ("an unknown family", SIGNED.format('synopsis = "A"\nderive = ["refusal"]'), 'signature.derive[1] is \'refusal\' … did you mean "refusals"?'),
    ("an unknown style", SIGNED.format('synopsis = "A"\nstyle = "gun"'), 'signature.style is \'gun\' … did you mean "gnu"?'),
    ("an option of two kinds", SIGNED.format('synopsis = "[-a] [-a,--all X]"'), "-a names two different options"),
    ("a text of lines", spec(matrix=BASE + 'expect.stdout = """\nab\n{"""'), "10:1: matrix[1].expect.stdout: this"),
]  # fmt: skip


@pytest.mark.parametrize(("text", "message"), [each[1:] for each in MISTAKES], ids=[each[0] for each in MISTAKES])
def test_a_mistake_is_told_with_its_place(place: Place, text: str, message: str) -> None:
    (place.directory / "t.matrix.toml").write_text(text)
    came = place.call("lint")
    assert came.status == 1 and "Traceback" not in came.err
    for part in message.split(" … "):
        assert part in came.out
    assert "1 spec: 1 error" in came.out
    if len(text) % 4:  # every fourth through run as well, which must say the same and run nothing
        return
    run = place.call("run")
    assert (run.status, run.out) == (2, "") and message.split(" … ")[0] in run.err


def test_all_mistakes_come_at_once_in_the_order_of_the_file(place: Place) -> None:
    place.write(
        "t.matrix.toml",
        """
        [program]
        launch = "echo {heer}"
        timeot = 3
        [expect]
        exit = "300"
        stdout.contain = "x"
        [[matrix]]
        name = "a"
        line = "{x} {y}"
        axes.x = { from = 1, to = 3, step = 0 }
        axes.z = []
        only-if = ["x !! 3"]
        [[matrix]]
        name = "b"
        line = "{x} [b"
        [[matrix]]
        name = "b"
        line = "{x}"
        axes.x = [1, 2]
        [[matrix.expect]]
        when = "xx == 2"
        """,
    )
    out = place.call("lint").out
    lines = [int(line.split(":")[1]) for line in out.splitlines() if line.startswith("t.matrix.toml:")]
    assert lines == sorted(lines) == [3, 4, 6, 7, 10, 11, 12, 13, 16, 18, 22]
    assert out.count("did you mean") == 4 and "1 spec: 11 errors" in out


@pytest.mark.parametrize("slip", ['synopsys = "PORT"', 'synopsis = "PORT"\nvalues.PORT = { typ = "int" }', 'synopsis = "[PORT"'])
def test_one_slip_in_a_signature_is_one_error(place: Place, slip: str) -> None:
    place.write("t.matrix.toml", SIGNED.format(slip + '\n[refusal]\nexit = 2\nharbour-closed.exit = 3'))
    out = place.call("lint").out
    assert "1 spec: 1 error" in out and "[refusal] needs" not in out, out


def test_the_caret_stands_under_the_place(place: Place) -> None:
    place.write("t.matrix.toml", spec(matrix=BASE.replace("{x}", "é {ports}")))
    out = place.call("lint").out.splitlines()
    source, caret = out[1], out[2]
    assert source[caret.index("^") :].startswith("ports")


UNREADABLE = [
    ("directory", None, "no *.matrix.toml was found below t.matrix.toml"),
    ("empty", b"", '"program" is missing in the spec'),
    ("no UTF-8", b'a = "\xff"\n', "t.matrix.toml:1:6: this is not UTF-8 text (byte 0xff)"),
    ("too large", b"#" * 5_000_000, "the spec has 5,000,000 bytes, more than a spec may have"),
    ("NUL", b"a = 1\0", "t.matrix.toml:1:6: this is not valid TOML"),
    ("deep", b"a = " + b"[" * 5000, "values are nested too deep"),
]


@pytest.mark.parametrize(
    ("content", "message"), [each[1:] for each in UNREADABLE], ids=[each[0] for each in UNREADABLE]
)
def test_a_spec_that_cannot_be_read(place: Place, content: bytes | None, message: str) -> None:
    path = place.directory / "t.matrix.toml"
    if content is None:
        path.mkdir()
    else:
        path.write_bytes(content)
    came = place.call("run", "t.matrix.toml")
    assert came.status == 2 and message in came.err and "Traceback" not in came.err


def test_a_spec_that_is_not_there_names_the_nearest(place: Place) -> None:
    place.write("fares.matrix.toml", spec())
    assert place.call("run", "fare.matrix.toml").err.endswith("did you mean fares.matrix.toml?\n")
    assert place.call("run", "fares").err.endswith("did you mean fares.matrix.toml?\n")


def test_a_sound_spec_lints_clean(place: Place) -> None:
    place.write("t.matrix.toml", spec())
    came = place.call("lint")
    assert (came.status, came.out, came.err) == (0, "1 spec: no errors, no warnings\n", "")


PLACES = """
expect.stdout.is = ?
expect.stdout.contains = [?]
expect.stdout.number-of-lines = ?
expect.stdout.any = [{ not = { starts = ? } }]
expect.stderr.command = ?
expect.files."a.txt".link = ?
expect.files."a.txt".size = ?
expect.exit = ?
expect.alike.line = ?
expect = [{ when = "@", exit = 0 }]
expect.stdout = { matches = "a", holds = "@" }
env.A = ?
files."a.txt" = ?
files."a.txt".copy = ?
stdin = ?
stdin.command = [?]
dialogue = [{ prompt = ?, reply = "x" }]
stop.when-stderr = ?
only-if = ["@"]
"""
"""Every place of a matrix at which a name can stand: ? for a template, @ for an expression."""


@pytest.mark.parametrize("place_of", PLACES.strip().splitlines())
def test_an_unknown_name_is_seen_wherever_it_stands(place: Place, place_of: str) -> None:
    at = "origine" if "@" in place_of else "{origine}"
    matrix = 'name = "m"\nline = "{origin}"\naxes.origin = ["a"]\n'
    text = spec(matrix=matrix + place_of.replace("?", f'"{at}"').replace("@", at))
    place.write("t.matrix.toml", text)
    came = place.call("lint", "t.matrix.toml")
    line = text.splitlines()[7]
    assert f't.matrix.toml:8:{line.index("origine") + 1}: "origine" is neither an axis nor a column here' in came.out, came.out
    assert 'did you mean "origin"?' in came.out
