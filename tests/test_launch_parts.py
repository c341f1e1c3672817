"""The parts of a launch that do no input or output: what is kept, and what is looked for in it, at every split."""

from __future__ import annotations

import os
from itertools import pairwise
from pathlib import Path

import pytest
from hypothesis import given
from hypothesis import strategies as st

from keen_matrix.core.launch.directories.working import CaseDirectories, WorkerDirectory
from keen_matrix.core.launch.process.capture import Capture
from keen_matrix.core.launch.process.dialogue import Answering, Dialogue
from keen_matrix.core.launch.process.state import GRACE, Event, Machine, State

SAIL = Answering(prompt=b"Proceed?", reply=b"yes", within=1.0)
SURE = Answering(prompt=b"Sure?", reply=b"no", within=2.0)
TEXT = b"aboard\nProceed? taken. Sure? ok\n"


def pieces(text: bytes, cuts: list[int]) -> list[bytes]:
    edges = [0, *sorted(cut % (len(text) + 1) for cut in cuts), len(text)]
    return [text[a:b] for a, b in pairwise(edges)]


@given(st.lists(st.integers(0, 100), max_size=8))
def test_prompts_are_found_wherever_output_is_split(cuts: list[int]) -> None:
    dialogue = Dialogue([SAIL, SURE], [("stdout", b"ok\n")], 0.0)
    found, stops = [], False
    for number, piece in enumerate(pieces(TEXT, cuts)):
        heard = dialogue.feed("stdout", piece, float(number))
        found += heard.replies
        stops |= heard.stops
    assert found == [b"yes", b"no"] and stops and dialogue.waited_for is None
    assert dialogue.conversation == [(b"Proceed?", b"yes"), (b"Sure?", b"no")]


@pytest.mark.parametrize("at", range(1, len(SAIL.prompt)))
def test_a_prompt_over_two_reads(at: int) -> None:
    dialogue = Dialogue([SAIL], [], 0.0)
    assert dialogue.feed("stdout", SAIL.prompt[:at], 0.1).replies == []
    assert dialogue.feed("stdout", SAIL.prompt[at:], 0.2).replies == [b"yes"]


def test_pieces_of_different_streams_make_no_prompt_and_no_end() -> None:
    dialogue = Dialogue([SAIL], [("stderr", b"done")], 0.0)
    assert not dialogue.feed("stdout", b"Pro", 0.1).replies and not dialogue.feed("stderr", b"ceed?", 0.2).replies
    assert not dialogue.feed("stdout", b"done", 0.3).stops and dialogue.feed("stderr", b"x done", 0.4).stops


def test_a_prompt_is_looked_for_behind_the_one_before_it() -> None:
    twice = Dialogue([SAIL, SAIL], [], 0.0)
    assert twice.feed("stdout", b"Proceed?", 1.0).replies == [b"yes"] and twice.waited_for == SAIL
    assert twice.feed("stdout", b"Proceed?Proceed?", 2.0).replies == [b"yes"]


def test_the_patience_of_each_prompt_begins_with_the_answer_to_the_one_before() -> None:
    dialogue = Dialogue([SAIL, SURE], [], 10.0)
    assert dialogue.overdue_at == 11.0
    dialogue.feed("stdout", b"Proceed?", 10.5)
    assert dialogue.overdue_at == 12.5
    dialogue.feed("stdout", b"Sure?", 11.0)
    assert dialogue.overdue_at is None and Dialogue([], [], 0.0).waited_for is None


@given(st.binary(max_size=60), st.lists(st.integers(0, 100), max_size=6), st.integers(1, 70))
def test_what_is_kept_is_the_beginning_however_it_comes(text: bytes, cuts: list[int], cap: int) -> None:
    capture = Capture(cap)
    within = [capture.feed("stderr", piece, 0.5) for piece in pieces(text, cuts)]
    assert capture.finish("stderr") == text[:cap] and capture.finish("stdout") == b""
    assert capture.sizes == {"stdout": 0, "stderr": len(text)}
    assert all(within) is (len(text) <= cap)
    assert sum(size for _, size, _ in capture.arrivals) == min(len(text), cap)


# --- the states of a launch ---

_MOVES = """
             STOP      OVERDUE      FLOOD   TIME    EXIT      FED      DONE
RUNNING      STOPPING  TERMINATING  KILLED  -       DRAINING  -        -
STOPPING     -         -            KILLED  KILLED  DRAINING  -        -
TERMINATING  -         -            KILLED  KILLED  DRAINING  -        -
KILLED       -         -            -       -       DRAINING  FEEDING  FINISHED
DRAINING     -         -            CUT     -       -         FEEDING  FINISHED
CUT          -         -            -       -       -         FEEDING  FINISHED
FEEDING      -         -            -       -       -         -        FINISHED
FINISHED     -         -            -       -       -         -        -
"""


def table_of_moves() -> list[tuple[State, Event, State | None]]:
    head, *lines = _MOVES.strip().splitlines()
    events = head.split()
    rows = [line.split() for line in lines]
    return [
        (State[name], Event[event], None if to == "-" else State[to])
        for name, *cells in rows
        for event, to in zip(events, cells, strict=True)
    ]


def test_the_table_of_moves_has_every_state_and_event() -> None:
    assert {(state, event) for state, event, _ in table_of_moves()} == {(s, e) for s in State for e in Event}


@pytest.mark.parametrize(("state", "event", "to"), table_of_moves(), ids=lambda each: getattr(each, "name", "-"))
def test_an_event_leads_from_a_state_to_the_right_one(state: State, event: Event, to: State | None) -> None:
    machine = Machine()
    machine.state, machine.deadline = state, 7.0
    assert machine.move(event, 100.0) is (to is not None)
    assert (machine.state, machine.deadline) == ((state, 7.0) if to is None else (to, 100.0 + GRACE[to]))


def test_every_move_leads_to_the_right_and_so_every_launch_ends() -> None:
    assert all(to is None or to > state for state, _, to in table_of_moves())
    assert {state for state, _, to in table_of_moves() if to is not None} == set(State) - {State.FINISHED}


def test_a_directory_that_one_runner_begins_anew_is_that_of_the_others_too(tmp_path: Path) -> None:
    above = WorkerDirectory(str(tmp_path / "shared/0"))
    first, second, third = (CaseDirectories(above, number) for number in range(3))
    first.prepare()
    second.prepare()
    (tmp_path / "shared").rename(tmp_path / "moved")
    (tmp_path / "outside").mkdir()
    (tmp_path / "shared").symlink_to(tmp_path / "outside")
    first.renew()
    for each in (first, second, third):
        each.prepare()
        assert os.path.dirname(each.root) == above.path and os.listdir(each.work) == [] and each.work_is_in_place
    assert os.listdir(tmp_path / "outside") == []
