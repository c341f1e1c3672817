"""The prompt of try: line by line from a pipe, and edited on a terminal."""

from __future__ import annotations

import time
from pathlib import Path

import pytest

from keen_matrix.core.runs.following import following, request_of
from keen_matrix.core.signature.signature import Signature
from keen_matrix.core.spec.load import load_spec
from tests.conftest import Place
from tests.test_on_a_terminal import forked, terminal

SPEC = """\
# fares
[program]
launch = "sh {here}/fare.sh"
[signature]
synopsis = "[-b] [-n,--riders N] [--kind KIND] ISLAND"
values.N = { type = "int", min = 1, max = 60 }
values.KIND = { of = ["bike", "car"] }
style = "posix"
"""
PROGRAM = """\
while getopts bn: o; do case $o in b) b=1;; n) case $OPTARG in ''|*[!0-9]*|0) echo "bad number $OPTARG" >&2; exit 2;; esac;; *) exit 2;; esac; done
shift $((OPTIND - 1))
[ $# -eq 1 ] || { echo "one island, not $#" >&2; exit 2; }
echo "fare of $1"
"""


@pytest.fixture
def office(place: Place) -> Place:
    place.write("fare.sh", PROGRAM)
    place.write("fare.matrix.toml", SPEC.replace(',--riders', "").replace(" [--kind KIND]", "").replace('values.KIND = { of = ["bike", "car"] }\n', ""))
    return place


def said(office: Place, *lines: str, status: int | None = None) -> str:
    came = office.call("try", "fare.matrix.toml", stdin="".join(f"{line}\n" for line in lines))
    assert status is None or came.status == status, came
    return came.out


def test_a_line_of_a_pipe_is_a_vector(office: Place) -> None:
    out = said(office, "Holm", "-n abc Holm", "'North  Holm' x", status=0)
    first, second, third = (part for part in out.split("try> ")[1:])
    assert "accepted" in first and "│ fare of Holm" in first and "exit 0" in first
    assert "refused  bad-type abc" in second and "│ bad number abc" in second and "passed" in second
    assert "refused  too-many x" in third and "one island, not 2" in third


@pytest.mark.parametrize(("lines", "shown", "status"), [
    (["Holm", ":again"], "as before", 0),
    ([":none"], "refused  too-few", 0),
    (["Holm", "Skerry", ":compare"], "-stdout  fare of Holm\n+stdout  fare of Skerry", 0),
    (["Holm", ":why"], "the signature says  accepted", 0),
    (["Holm", ":quit", "Skerry"], "fare of Holm", 0),
    ([":agian"], "there is no :agian; did you mean :again?", 1),
    ([":again"], "nothing was tried yet", 1),
    (["Holm", ":compare"], "there is only one result", 1),
    (["'Holm"], "cannot split this line into words", 1),
    (["", "  ", "Holm"], "fare of Holm", 0),
    ([":help"], ":follow ", 0),
])  # fmt: skip
def test_words_of_the_prompt(office: Place, lines: list[str], shown: str, status: int) -> None:
    out = said(office, *lines, status=status)
    assert shown in out
    assert ":quit" not in lines or "Skerry" not in out


def test_what_follows_is_launched_and_told(office: Place) -> None:
    out = said(office, "-n 3 Holm", ":follow", "-n abc Holm", ":follow")
    assert "11 of 12 cases passed" in out and "≠ -n 61 Holm" in out
    for kind in ("too-few ISLAND", "too-many", "unknown-option", "bad-type abc"):
        assert kind in out
    assert "nothing to derive" in out


def test_a_vector_is_kept_and_the_spec_read_again(office: Place) -> None:
    out = said(office, "Holm", ":write", "Holm")
    assert '+line = "{word1}"' in out
    assert (office.directory / "fare.matrix.toml").read_text().startswith("# fares\n")
    assert office.call("run", "--only", "Holm").status == 0
    assert "of Holm\n" in out.split("try> ")[3]


def test_no_line_at_all_is_wrong_usage(office: Place) -> None:
    came = office.call("try", "fare.matrix.toml")
    assert (came.status, "after --" in came.err) == (2, True)
    assert office.call("try", "fare.matrix.toml", "--write", stdin="Holm\n").status == 2


def test_on_a_terminal_it_judges_while_typing_and_completes(office: Place) -> None:
    place = office
    place.write("fare.matrix.toml", SPEC.replace('style = "posix"\n', ""))
    with terminal(place, "try", "fare.matrix.toml", command=forked(), NO_COLOR="1") as call:
        from os import write

        def typed(text: bytes) -> None:
            for each in (text[at : at + 1] for at in range(len(text))):
                write(call.master, each)
                time.sleep(0.01)

        call.read(b"try>")
        for keys, shown in ((b"-n 3", "too-few"), (b"00 Holm", "out-of-range 300")):
            typed(keys)
            assert shown in call.shows(shown)
        call.seen = b""
        write(call.master, b"\x03")  # gives up the line, not the session
        call.read(b"try>")
        for keys, shown in ((b"--ri\t", "try> --riders"), (b" 2 --kind b\t", "--kind bike"), (b" Holm\r", "exit 2")):
            typed(keys)
            assert shown in call.shows(shown)
        assert call.shows("too-few ISLAND").count("try>") == 3, "the prompt comes again, and judges what is typed so far: nothing"
        for each in (b":", b"q", b"u", b"i", b"\t", b"\r"):
            write(call.master, each)
            time.sleep(0.05)
        call.process.wait(60)
    assert "--kind bike Holm" in (place.directory / ".keen-matrix/tried.history").read_text()


def test_ctrl_c_gives_up_a_launch_and_not_the_session(office: Place) -> None:
    from os import write

    office.write("fare.sh", f'test "$1" != Ry || {{ touch {office.directory}/hangs; sleep 60; }}; echo "fare of $1"\n')
    with terminal(office, "try", "fare.matrix.toml") as call:
        call.read(b"try>")
        write(call.master, b"Ry\r")
        while not (office.directory / "hangs").exists():
            time.sleep(0.02)
        call.seen = b""
        write(call.master, b"\x03")
        assert b"given up" in call.read(b"given up")
        call.read(b"try>")
        write(call.master, b"Holm\r")
        assert b"fare of Holm" in call.read(b"fare of Holm")
        call.seen = b""
        call.read(b"try>")
        write(call.master, b"\x04")
        assert call.process.wait(20) == 0


def test_what_is_typed_ahead_stands_behind_the_next_prompt_and_nowhere_else(office: Place) -> None:
    """The kernel's echo of it would stand before the prompt, and the line drawn over it be read as another."""
    from os import write
    from termios import ECHO, tcgetattr

    office.write("fare.sh", f'touch {office.directory}/runs; while [ ! -e {office.directory}/ends ]; do sleep 0.05; done; echo "fare of $1"\n')
    with terminal(office, "try", "fare.matrix.toml", NO_COLOR="1") as call:
        before = tcgetattr(call.slave)
        call.read(b"try>")
        write(call.master, b"Holm\r")
        while not (office.directory / "runs").exists():
            time.sleep(0.02)
        write(call.master, b"Sk")
        call.read(until=b"\x00", seconds=0.3)  # what is echoed would have come by now
        (office.directory / "ends").touch()
        call.read(b"fare of Holm")
        call.shows("try> Sk")
        write(call.master, b"erry")
        shown = call.shows("\ntry> Skerry")
        assert "\ntry> Skerry" in shown and shown.count("Sk") == 1, shown
        write(call.master, b"\x03\x04")
        assert call.process.wait(20) == 0
        assert tcgetattr(call.slave)[3] & ECHO and tcgetattr(call.slave) == before, "the terminal is as it was"


def test_what_was_tried_comes_back_by_the_arrow(office: Place) -> None:
    from os import write

    for keys, shown in ((b"Holm\r", b"fare of Holm"), (b"\x1b[A\r", b"fare of Holm")):
        with terminal(office, "try", "fare.matrix.toml", command=forked()) as call:
            call.read(b"try>")
            write(call.master, keys)
            assert shown in call.read(shown)
            call.seen = b""
            call.read(b"try>")
            write(call.master, b"\x04")
            assert call.process.wait(20) == 0


def test_an_accepted_vector_is_read_back_as_what_it_says() -> None:
    signature = Signature.from_synopsis("[-v]... [-n,--riders N] [--kind KIND] (go|stop) ISLAND [PORT...]", {"N": {"type": "int"}})
    for words in (["go", "Holm"], ["-v", "-v", "--riders=3", "stop", "Holm", "a", "b"], ["--kind", "x", "go", "Holm"], ["-vn3", "go", "Holm"]):
        request = request_of(signature, words)
        assert request is not None, words
        assert signature.judge(request.words()).bindings == signature.judge(words).bindings
    assert request_of(signature, ["go"]) is None


def test_each_vector_that_follows_is_one_change_away(tmp_path: Path) -> None:
    path = tmp_path / "a.matrix.toml"
    path.write_text(SPEC.replace("{here}/fare.sh", "true"))
    spec = load_spec(str(path))
    assert spec.signature is not None
    cases = following(spec, ["-b", "Holm"])
    assert len(cases) == 11
    assert {case.control for case in cases} == {("-b", "Holm")}
    for case in cases:
        status = spec.signature.judge(case.argv).status
        assert status == ("refused" if case.family == "refusals" else "accepted"), case


def test_all_calls_of_a_session_side_by_side(office: Place) -> None:
    out = said(office, "Holm", "-n 3 Holm", ":table")
    table = out.rpartition("try> :table")[2]
    assert "call " in table and table.count("fare of Holm") == 2


def test_what_the_next_calls_get(office: Place) -> None:
    office.write("names.txt", "Ola B.\n")
    office.write("cat.toml", '[program]\nlaunch = "sh -c \'cat; echo $COLOUR; ls\'"\n')
    came = office.call("try", "cat.toml", stdin=":input Ada T.\n:env COLOUR=red\n:file names.txt\n:none\n:input\n:env\n:file\n:none\n:env x\n:file none\n")
    first, _, later = came.out.partition("try> :input\n")
    assert "stdout   0" in first and "│ Ada T." in first and "│ red" in first and "│ names.txt" in first
    assert "│ names.txt" not in later.partition("try> :none")[2] and "expected :env NAME=VALUE" in later and "none does not exist" in later
    office.call("try", "cat.toml", stdin=":input Ada T.\n:env COLOUR=red\n:file names.txt\n:none\n:write\n")
    spec = (office.directory / "cat.toml").read_text()
    assert 'env.COLOUR = "red"' in spec and 'files."names.txt" = { copy = "{here}/names.txt" }' in spec
    assert office.call("run", "cat.toml").status == 0


def test_what_was_written_is_taken_back(office: Place) -> None:
    before = (office.directory / "fare.matrix.toml").read_text()
    out = said(office, "Holm", ":write", ":undo", ":undo", "quit", "Holm")
    assert (office.directory / "fare.matrix.toml").read_text() == before
    assert "is as before the last :write" in out and "nothing was written in this session" in out and out.endswith("try> quit\n")


def test_a_program_without_a_spec_has_a_prompt_and_begins_one(office: Place) -> None:
    with terminal(office, "try", "--", "sh", "fare.sh", NO_COLOR="1") as call:
        from os import write

        call.read(b"try>")
        for line, shown in (("Holm", "fare of Holm"), (":none", ":new FILE begins a spec"), (":write", "there is no spec yet"),
                            (":new fare2.matrix.toml", "written; run it"), (":quit", "")):  # fmt: skip
            write(call.master, f"{line}\r".encode())
            if shown:
                assert shown in call.shows(shown)
        call.process.wait(60)
    spec = (office.directory / "fare2.matrix.toml").read_text()
    assert 'launch = "sh {here}/fare.sh"' in spec and '["Holm", 0, ' in spec
    assert office.call("run", "fare2.matrix.toml").status == 0


def test_a_session_on_a_spec_begins_another(office: Place) -> None:
    said(office, "Holm", "Holm", ":new other.matrix.toml")
    assert (office.directory / "other.matrix.toml").read_text().count('["Holm", ') == 1


def test_a_program_in_place_runs_where_it_was_typed(office: Place) -> None:
    office.write("here.sh", "pwd\n")
    with terminal(office, "try", "--in-place", "--", "sh", "here.sh", NO_COLOR="1", COLUMNS="200") as call:
        from os import write

        call.read(b"try>")
        write(call.master, b"a\r")
        call.shows("exit 0")
        write(call.master, b":new here.matrix.toml\r")
        call.shows("written; run it")
        write(call.master, b":quit\r")
        call.process.wait(60)
    text = (office.directory / "here.matrix.toml").read_text()
    assert 'directory = "spec"' in text and "{here}" in text.partition("rows")[2] + text.partition("expect")[2]
    assert office.call("run", "here.matrix.toml").status == 0
