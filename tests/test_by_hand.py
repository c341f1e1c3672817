"""A program on my own terminal, what is recorded of it, and how it is saved."""

from __future__ import annotations

import os

import pytest

from keen_matrix.cli.by_hand import Listener
from tests.conftest import Place
from tests.test_on_a_terminal import terminal

ASK = "printf 'From? '; read -r a; printf 'To? '; read -r b; echo \"$a to $b\"\n"
MANY = "while printf 'Rider? '; read -r name; do n=$((n + 1)); done; echo; echo \"${n:-0} riders\"\n"


def session(*pieces: str, lines: bool = True, shown: bool = True) -> Listener:
    """Return a listener after what was printed and (from `>`) typed."""
    listener = Listener()
    for piece in pieces:
        if piece.startswith(">"):
            listener.typed(piece[1:].encode(), lines=lines, shown=shown)
        else:
            listener.printed(piece.encode())
    return listener


SESSIONS = {
    "one prompt after another": (["From? ", ">Skerry\r", "Skerry\r\nTo? ", ">Holm\r"], [("From? ", "Skerry"), ("To? ", "Holm")]),
    "keys one by one, and mended": (["N? ", ">A", "A", ">x", "x", ">\x7f", "\b \b", ">d", "d", ">a\r"], [("N? ", "Ada")]),
    "a character of two bytes taken back": (["N? ", ">Bø\x7fo\r"], [("N? ", "Bo")]),
    "a line begun anew": (["N? ", ">Ola\x15Ada\r"], [("N? ", "Ada")]),
    "nothing but Enter": (["a list:\r\n1\r\nSure? ", ">\r"], [("Sure? ", "")]),
    "a prompt with its own line": (["Which port?\r\n", ">Voe\r"], [("Which port?", "Voe")]),
}


@pytest.mark.parametrize("name", SESSIONS)
def test_prompts_and_replies_are_made_of_what_passes(name: str) -> None:
    pieces, replies = SESSIONS[name]
    found = session(*pieces).found
    assert found.replies == replies and not found.why_not and not found.has_ended


def test_what_no_dialogue_can_say_is_known() -> None:
    assert "single keys" in session("menu", ">q", lines=False).found.why_not
    assert "before the program printed anything" in session(">x\r").found.why_not
    assert "no text" in session("N? ", ">\x1b[A\r").found.why_not
    assert "Ctrl-D" in session("N? ", ">Ada\x04").found.why_not
    assert session("N? ", ">Ada\r", "N? ", ">\x04").found.has_ended
    assert session("Password: ", ">secret\r", shown=False).found.has_hidden


def test_what_is_answered_is_shown_and_saved(place: Place) -> None:
    place.write("ask.sh", ASK)
    with terminal(place, "try", "--by-hand", "--new", "ask.matrix.toml", "--", "sh", "ask.sh") as shown:
        shown.shows("From?")
        os.write(shown.master, b"Skerry\r")
        shown.shows("To?")
        os.write(shown.master, b"Holm\r")
        assert "Skerry to Holm" in shown.shows("ask.matrix.toml written")
        shown.read()
    text = (place.directory / "ask.matrix.toml").read_text()
    assert 'dialogue = [{ prompt = "From? ", reply = "Skerry" }, { prompt = "To? ", reply = "Holm" }]' in text
    assert "1 case: all passed" in place.call("run").out
    place.write("ask.sh", ASK.replace(" to ", " and "))
    assert "1 failed" in place.call("run").out


def test_input_that_was_ended_is_saved_as_such(place: Place) -> None:
    place.write("ask.sh", MANY)
    with terminal(place, "try", "--by-hand", "--new", "ask.matrix.toml", "--", "sh", "ask.sh") as shown:
        for at, typed in {"Rider?": b"Ada\r", "Rider? Ada": b"Bo\r", "Rider? Bo": b"\x04"}.items():
            shown.shows(at)
            os.write(shown.master, typed)
        shown.shows("ask.matrix.toml written")
        shown.read()
    assert 'replies = ["Ada", "Bo"], until-end = true' in (place.directory / "ask.matrix.toml").read_text()
    assert "1 case: all passed" in place.call("run").out


def test_without_a_terminal_nothing_is_recorded_or_written(place: Place) -> None:
    place.write("ask.sh", ASK)
    came = place.call("try", "--by-hand", "--new", "a.toml", "--", "sh", "ask.sh", stdin="Skerry\nHolm\n")
    assert came.status == 2 and "can only be recorded on a terminal" in came.err and not (place.directory / "a.toml").exists()


def test_a_case_is_shown_as_it_would_be_typed(place: Place) -> None:
    place.write("ask.sh", ASK)
    place.write("t.matrix.toml", """
        [program]
        launch = "sh {here}/ask.sh"
        [[matrix]]
        name = "typed"
        line = ""
        terminal = {}
        stdin = "Skerry\\nHolm\\n"
        expect.stdout.contains = "nobody"
    """)  # fmt: skip
    assert 'sh ask.sh   # typing "Skerry\\nHolm\\n", on a terminal' in place.call("run").out
    (record,) = place.cases()
    assert place.call("replay", record["id"], "--script", "s.sh").status == 0
    script = (place.directory / "s.sh").read_text()
    assert '# type: "Skerry\\nHolm\\n"' in script and "printf" not in script and "/dev/null" not in script


def test_a_call_is_tried_on_a_terminal(place: Place) -> None:
    came = place.call("try", "--terminal", "--full", "--calls", "-", "--", "sh", "-c", "stty size; echo $1", "sh", stdin="one\ntwo\n")
    assert came.out.count("24 80") == 2 and "# on a terminal" in came.out
