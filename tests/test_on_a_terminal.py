"""The command on a terminal: the progress bar, colours, Ctrl-C by the terminal, and what programs print shown harmless."""

from __future__ import annotations

import os
import pty
import select
import subprocess
import time
from collections.abc import Iterator
from contextlib import contextmanager

import pyte

from tests.conftest import COMMAND, Place, zygote


class Terminal:
    """A call of the command on a pseudo-terminal of 100 columns, its session's controlling one but for a fork's."""

    def __init__(self, place: Place, words: tuple[str, ...], env: dict[str, str], command: str) -> None:
        outer = {key: value for key, value in os.environ.items() if key != "NO_COLOR"}
        self.master, self.slave = pty.openpty()
        self.seen = b""
        self.screen = pyte.Screen(100, 30)
        self.screen.write_process_input = lambda answer: os.write(self.master, answer.encode())  # where the cursor is
        self._stream = pyte.ByteStream(self.screen)
        name = os.ttyname(self.slave)
        self.process = subprocess.Popen(
            ["sh", "-c", f'exec <{name} >{name} 2>&1; stty columns 100 rows 30; exec "$@"', "sh", command, *words],
            cwd=place.directory, env={**outer, "TERM": "xterm-256color", **env}, start_new_session=True,
        )  # fmt: skip

    def read(self, until: bytes | None = None, seconds: float = 60) -> bytes:
        """Take what comes until a text has, or until the command has ended."""
        end = time.monotonic() + seconds
        while time.monotonic() < end and (until is None or until not in self.seen):
            ready, _, _ = select.select([self.master], [], [], 0.2)
            if not ready:
                if self.process.poll() is not None:
                    break
                continue
            came = os.read(self.master, 65536)
            self.seen += came
            self._stream.feed(came)
        return self.seen

    def shows(self, text: str, seconds: float = 60) -> str:
        """Wait until a text stands on the screen: what is written there comes in pieces, since what stands already is left out.

        Returns the screen as it is then, or as it was last.
        """
        end = time.monotonic() + seconds
        while time.monotonic() < end and text not in (shown := "\n".join(self.screen.display)):
            self.read(until=b"\x00", seconds=0.2)
        return shown


@contextmanager
def terminal(place: Place, *words: str, command: str = COMMAND, **env: str) -> Iterator[Terminal]:
    call = Terminal(place, words, env, command)
    try:
        yield call
    finally:
        call.process.kill()
        call.process.wait()
        os.close(call.master)
        os.close(call.slave)


def forked() -> str:
    return os.path.join(zygote().bin, "keen-matrix")


SLOW = """
    [program]
    launch = "sh -c 'sleep 0.$1; exit $(($1 == 4))' sh"
    [[matrix]]
    name = "m"
    line = "{n}"
    axes.n = { from = 1, to = 9 }
    expect.exit = 0
    """


def test_a_bar_tells_how_far_a_run_is_and_goes_away(place: Place) -> None:
    place.write("t.matrix.toml", SLOW)
    with terminal(place, "run", "--jobs", "1") as call:
        seen = call.read().decode()
        assert call.process.wait(30) == 1
    assert "running" in seen and "1 failed" in seen and "5/9" in seen.replace(" ", "")
    last = seen[seen.rindex("\x1b[2K") :]
    assert "9 cases:" in last and "running" not in last, "the bar is wiped before the results are shown"


def test_ctrl_c_on_a_terminal_shows_what_was_found_and_leaves_nothing(place: Place) -> None:
    place.write("t.matrix.toml", SLOW.replace("sleep 0.$1", "sleep $(( $1 > 2 ? 30 : 0 ))"))
    temporary = place.directory / "temporary"
    temporary.mkdir()
    with terminal(place, "run", "--jobs", "2", TMPDIR=str(temporary), NO_COLOR="1") as call:
        call.read(until=b"2/9")
        os.write(call.master, b"\x03")
        seen = call.read().decode()
        assert call.process.wait(30) == 130
    assert "2 cases: passed; interrupted" in seen and "Traceback" not in seen
    assert os.listdir(temporary) == []


def test_a_run_that_is_ended_before_anything_has_says_so(place: Place) -> None:
    place.write("t.matrix.toml", SLOW.replace("sleep 0.$1", "sleep 30"))
    with terminal(place, "run", NO_COLOR="1") as call:
        call.read(until=b"0/9")
        os.write(call.master, b"\x03")
        seen = call.read().decode()
        assert call.process.wait(30) == 130
    assert "no case has finished. " in seen and "Traceback" not in seen


def test_colours_are_for_terminals_that_want_them(place: Place) -> None:
    place.write("t.matrix.toml", SLOW.replace("sleep 0.$1; ", ""))
    for env, coloured in (({}, True), ({"NO_COLOR": "1"}, False), ({"TERM": "dumb"}, False)):
        with terminal(place, "run", command=forked(), **env) as call:
            assert ("\x1b[3" in call.read().decode()) is coloured, env
    with terminal(place, "run", "--color", "never", command=forked()) as call:
        assert "\x1b[3" not in call.read().decode()
    assert "\x1b[3" in place.call("run", "--color", "always", env={"NO_COLOR": ""}).out


def test_what_a_program_prints_cannot_reach_the_terminal(place: Place) -> None:
    place.write("p.sh", r"printf '\033]0;title\007\033[2J\033[31mred\r\b\bover\n\302\233A\n'")
    place.write("t.matrix.toml", """
        [program]
        launch = "sh {here}/p.sh"
        [[matrix]]
        name = "m\\u001b[2Jx"
        line = "'a\\u001b[5m'"
        expect.stdout = "nothing"
        """)  # fmt: skip
    for words in (("run",), ("run", "--all"), ("run", "--live"), ("report",), ("unfold",)):
        with terminal(place, *words, command=forked()) as call:
            seen = call.read()
        for sequence in (b"\x1b]0;", b"\x1b[2J", b"\x1b[5m", b"\x07", b"\x08", b"\xc2\x9b", b"red\r"):
            assert sequence not in seen, (words, sequence)
        assert words == ("unfold",) or b"failed" in seen


def test_what_is_typed_without_a_last_newline_ends_too(place: Place) -> None:
    place.write("p.sh", 'read x; echo "got $x"')
    place.write("t.matrix.toml", """[program]
launch = "sh {here}/p.sh"
timeout = 20
[[matrix]]
name = "m"
line = ""
terminal = {}
stdin = "Ada"
expect = { exit = 0, stdout.contains = "got Ada" }
""")
    assert place.call("run").status == 0


def test_a_terminal_that_echoes_shows_a_password_that_is_not_hidden(place: Place) -> None:
    place.write("t.matrix.toml", """
        [program]
        launch = ["sh", "-c", '[ "$1" = hide ] && stty -echo; printf "Password: "; read it; echo; echo thanks', "ask"]
        terminal = { echo = true }
        [[matrix]]
        name = "asked"
        line = "{how}"
        axes.how = ["hide", "show"]
        dialogue = [{ prompt = "Password: ", reply = "secret" }]
        expect = { stdout.lacks = "secret" }
    """)  # fmt: skip
    came = place.call("run")
    assert came.status == 1 and {each["argv"][0]: each["verdict"] for each in place.cases()} == {"hide": "passed", "show": "failed"}
    place.write("t.matrix.toml", (place.directory / "t.matrix.toml").read_text().replace("terminal = { echo = true }", "terminal = {}"))
    assert place.call("run").status == 0, "what is typed is not shown unless that is asked for"
