"""Single lines whose slip no wider test would show: each of these was wrong once, on purpose, and nothing else noticed."""

from __future__ import annotations

import os
import signal
import sys
from pathlib import Path
from typing import get_args

import pytest

from keen_matrix import Signature
from keen_matrix.core.doing import doing, spent
from keen_matrix.core.expect.forms.figures import NumberForm
from keen_matrix.core.experiments import stating
from keen_matrix.core.experiments.edits import ValueEdit, edited
from keen_matrix.core.expressions import Template
from keen_matrix.core.insight.settling import reading, slots
from keen_matrix.core.launch.process.launch import _undo
from keen_matrix.core.model.record import AspectRecord, Record
from keen_matrix.core.results.causes import statement_of
from keen_matrix.core.runs.starting.scripts import text_of_script
from keen_matrix.core.signature.families.accepted import accepted_requests
from keen_matrix.core.signature.helptext import read_help
from keen_matrix.core.signature.requests import builders
from keen_matrix.core.signature.values import TYPES
from keen_matrix.core.signature.values.base import TypeName
from tests.conftest import Place
from tests.started import Zygote

# --- help texts ---

HELP = """\
usage: ferry [options] PORT SIDE

positional arguments:
  PORT   the port
  SIDE   which side

options:
  --color             colours
  --no-color          none
  --colour-map FILE   a map
  -z, --zone[=ZONE]   the zone
"""


def test_the_first_operand_that_a_help_lists_is_read_as_the_others_are() -> None:
    assert [(each.name, each.text) for each in read_help(HELP).operands] == [("PORT", "the port"), ("SIDE", "which side")]


def test_an_option_for_on_and_one_for_off_beside_another_long_one() -> None:
    spelt = {each.spellings: each.values for each in read_help(HELP).options}
    assert spelt[("--color",)] == () and spelt[("--no-color",)] == () and spelt[("--colour-map",)] == ("FILE",)


def test_a_letter_takes_no_value_where_only_its_long_name_shows_one_that_may_be_left_out() -> None:
    zone = [each for each in read_help(HELP).options if each.spellings[-1] in ("-z", "--zone")]
    assert [(each.spellings, each.values, each.optional_value) for each in zone] == [(("-z",), (), False), (("--zone",), ("ZONE",), True)]


# --- what is described and suggested ---


@pytest.mark.parametrize(
    ("bounds", "text"),
    [
        ({}, "is a number"),
        ({"least": 1.0}, "is a number at least 1"),
        ({"least": 1.0, "most": 9.0}, "is a number at least 1 at most 9"),
        ({"about": 5.0, "most": Template("{top}")}, "is a number about 5 at most {top}"),
    ],
)
def test_a_number_is_described_with_all_of_its_bounds(bounds: dict[str, object], text: str) -> None:
    assert NumberForm(**bounds).describe() == text  # type: ignore[arg-type]


def accepted(**more: object) -> Record:
    fields: dict[str, object] = {"id": "a", "matrix": "accepted", "argv": ("-a", "-b", "x"), "values": {}, "verdict": "failed", "seconds": 0.0}
    unmet = AspectRecord(aspect="exit", met=False)
    return Record(**{**fields, "aspects": [unmet], "family": "accepted", "stderr": "p: -a and -b do not go together\n", **more})  # type: ignore[arg-type]


@pytest.mark.parametrize(
    ("more", "text"),
    [
        ({"detail": "only-if = [...]"}, "only-if = [...]"),
        ({}, "synopsis: [-a | -b]"),
        ({"verdict": "crashed"}, ""),
        ({"family": "refusals", "detail": ""}, ""),
        ({"stderr": "p: no\n", "kind": "edge", "culprit": "N"}, "values.N: bounds, or examples, without the value that is refused"),
    ],
)
def test_the_detail_of_an_experiment_comes_before_what_a_message_names(more: dict[str, object], text: str) -> None:
    assert statement_of(accepted(**more)) == text


@pytest.mark.parametrize("size", [1, 99, 200])
def test_a_comment_of_any_length_is_one_line_of_the_spec(size: int) -> None:
    text = '[program]\nlaunch = "p"\n[signature]\nsynopsis = "N"\n'
    after = edited(text, [ValueEdit("N", {"type": "int"}, "x" * size)])
    assert after is not None and next(line for line in after.splitlines() if "#" in line).partition("# ")[2].startswith("x")


def test_the_pairs_that_a_large_matrix_would_have_are_counted_for_it(place: Place) -> None:
    axes = "".join(f"axes.a{number} = {{ from = 1, to = 10 }}\n" for number in range(6))
    line = " ".join(f"{{a{number}}}" for number in range(6))
    place.write("w.matrix.toml", f'[program]\nlaunch = "true"\n[[matrix]]\nname = "wide"\nline = "{line}"\n{axes}expect.exit = 0\n')
    came = place.call("lint")
    assert "has 1,000,000 cases" in came.out and 'combine = "pairs", which has 1' in came.out, "between 100 and 199 rows cover 10 × 10 pairs"


def test_lint_knows_a_function_that_a_text_calls(place: Place) -> None:
    spec = '[program]\nlaunch = "echo"\n[[matrix]]\nname = "m"\nline = "{n}"\naxes.n = ["a", "b"]\nexpect.stdout = "{NAME(n)}"\n'
    place.write("t.matrix.toml", spec.replace("NAME", "len"))
    assert place.call("lint").status == 0
    place.write("t.matrix.toml", spec.replace("NAME", "lenn"))
    came = place.call("lint")
    assert came.status == 1 and 'unknown function "lenn"' in came.out and 'did you mean "len"?' in came.out


# --- experiments ---


def test_what_a_vector_rules_out_is_the_smaller_part_of_the_candidates() -> None:
    candidates = {name: Signature.from_synopsis("[--long]", reader=name) for name in ("argparse", "click", "getopts")}
    for words in ((), ("--long",), ("--lon",)):
        statuses = [each.judge(words).status for each in candidates.values()]
        assert reading._splits(candidates, words) == min(statuses.count("accepted"), statuses.count("refused"))
    assert reading._splits(candidates, ("--lon",)) == 1 and not reading._differ(candidates, ())


def test_requests_come_from_the_smallest_to_pairs() -> None:
    signature = Signature.from_synopsis("[-a] [-n N] [PORT]", {"N": {"type": "int", "min": 1, "max": 9}})
    kinds = [kind for kind, _, _ in accepted_requests(signature, builders(signature)[0])]
    order = list(dict.fromkeys(kinds))
    assert order == ["smallest", "count", "option", "edge", "fullest", "pairs"]


def test_a_script_that_is_gone_has_no_text(tmp_path: Path) -> None:
    path = tmp_path / "p.sh"
    path.write_text("echo $1\n")
    assert text_of_script(["sh", str(path)]) == "echo $1\n"
    path.unlink()
    assert text_of_script(["sh", str(path)]) == ""


def test_every_type_of_value_has_its_class_and_a_usual_text() -> None:
    names = set(get_args(TypeName))
    assert set(TYPES) == names
    assert set(stating.USUAL) <= names and set(slots.USUAL) <= names
    without = {"text", "choice", "file", "dir", "path", "duration"}  # any word, the choices, or a name of a file
    assert names - without <= set(stating.USUAL)


# --- processes and times ---


class Watched:
    """A program that was started, and whether it is still watched."""

    def __init__(self, pid: int) -> None:
        self.pid, self.unwatched = pid, False

    def unwatch(self) -> None:
        self.unwatched = True


@pytest.mark.skipif(sys.platform != "linux", reason="needs /proc")
def test_a_program_that_cannot_be_watched_is_ended_and_waited_for() -> None:
    pid = os.posix_spawn("/bin/sleep", ["sleep", "30"], os.environ, setpgroup=0)
    program = Watched(pid)
    _undo(program)  # type: ignore[arg-type]
    assert program.unwatched and not os.path.exists(f"/proc/{pid}")
    with pytest.raises(ChildProcessError):
        os.waitpid(pid, os.WNOHANG)


def test_time_that_goes_into_a_thing_adds_up_by_its_first_word() -> None:
    before = spent("thinking")
    for _ in range(2):
        with doing("thinking of ferries"), doing("thinking inside of it"):
            pass
    first = spent("thinking")
    assert first > before
    with doing("thinking again"):
        pass
    assert spent("thinking") > first


def test_the_harness_shows_why_its_interpreter_has_ended() -> None:
    zygote = Zygote()
    try:
        os.kill(zygote._process.pid, signal.SIGKILL)
        with pytest.raises(RuntimeError, match="the interpreter that calls are forked from has ended"):
            zygote.call("keen-matrix", ["--version"], "/", dict(os.environ), b"", 5)
    finally:
        zygote.end()


# --- what is compared ---


@pytest.mark.parametrize(("line", "verdict"), [("{port} -n 1", "passed"), ("{port} -n 2", "failed")])
def test_the_line_of_another_launch_is_the_one_that_is_launched(place: Place, line: str, verdict: str) -> None:
    place.write("p.sh", 'echo "$1 ${3:-1}"\n')
    text = f'[program]\nlaunch = "sh {{here}}/p.sh"\n[[matrix]]\nname = "m"\nline = "{{port}}"\naxes.port = ["Holm", "Voe"]\nexpect.alike = {{ line = "{line}" }}\n'
    place.write("t.matrix.toml", text)
    place.call("run")
    assert [each["verdict"] for each in place.cases()] == [verdict, verdict]


def test_a_case_is_replayed_as_the_last_run_started_it_unless_something_else_is_asked_for(place: Place) -> None:
    place.write("p.sh", "echo one\n")
    place.write("other.sh", "echo two\n")
    place.write("t.matrix.toml", '[program]\nlaunch = "sh {here}/p.sh"\n[[matrix]]\nname = "m"\nline = "a"\nexpect.stdout = "one"\n')
    place.call("run", "--program", "sh {here}/other.sh")
    id = place.cases()[0]["id"]
    assert "two" in place.call("replay", id).out
    assert place.call("replay", id, "--program", "sh {here}/p.sh").status == 0


def test_two_conditions_that_are_kept_whole_are_searched_as_one() -> None:
    from keen_matrix.core.covering.search import covering_rows

    def far(row: object) -> bool:
        return (hash(str(row)) or True) and row[0] != row[1]  # type: ignore[index]

    rows = covering_rows([3, 3, 3], 2, allowed=[far, lambda row: row[1] != row[2]])
    assert len(rows) and all(row[0] != row[1] and row[1] != row[2] for row in rows)


def test_values_within_bounds_of_which_one_is_missing() -> None:
    def within(**bounds: float) -> list[str]:
        return list(Signature.from_synopsis("N", {"N": {"type": "float", **bounds}}).values["N"].within())

    assert within(min=1.0, max=4.0) == ["2.5", "1", "4"]
    assert within(min=1.0) == ["1.5", "1"] and within(max=4.0)[1:] == ["4"] and within() == ["1.5"]


@pytest.mark.parametrize(("reader", "text", "value"), [
    (None, "true", True), (None, "false", False), (None, "maybe", "maybe"), ("click", " YES ", True), ("click", "off", False), ("go-flag", "T", True),
])  # fmt: skip
def test_the_truth_that_a_text_stands_for(reader: str | None, text: str, value: object) -> None:
    more = {"reader": reader} if reader else {}
    signature = Signature.from_synopsis("[--sail B] [PORT]", {"B": {"type": "bool"}}, **more)
    assert signature.values["B"].converted(text) == value


def test_unfold_shows_only_what_is_asked_for(place: Place) -> None:
    place.write("t.matrix.toml", '[program]\nlaunch = "true"\n[[matrix]]\nname = "one"\nline = "{x}"\naxes.x = [1, 2]\n[[matrix]]\nname = "two"\nline = "3"\n')
    shown = place.call("unfold", "--only", "two").out
    assert "1 case" in shown and "2 cases" not in shown and "one" not in shown
    assert place.call("unfold").out.count(" case") == 2


def test_the_first_run_in_an_order_has_no_history_to_go_by(place: Place) -> None:
    place.write("t.matrix.toml", '[program]\nlaunch = "true"\n[[matrix]]\nname = "one"\nline = "{x}"\naxes.x = [1, 2]\nexpect.exit = 0\n')
    for order in ("new", "failed", "quick"):
        fresh = Place(place.directory / order)
        fresh.write("t.matrix.toml", (place.directory / "t.matrix.toml").read_text())
        assert "2 cases: all passed" in fresh.call("run", "-q", "--order", order).out
