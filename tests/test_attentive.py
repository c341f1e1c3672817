"""What an attentive person also tries: a default stated, an option given twice, numbers that wrap, other surroundings, tidiness."""

from __future__ import annotations

import sys
from typing import Any

import pytest

from keen_matrix import Signature
from keen_matrix.core.signature.families import family_of
from keen_matrix.core.signature.families.elsewhere import PLACES
from tests.conftest import Place

SOUND = """
import argparse, os, sys
parser = argparse.ArgumentParser(allow_abbrev=False)
parser.add_argument("-n", "--number", type=int, default=3)
parser.add_argument("-q", "--quiet", action="store_true")
parser.add_argument("port")
given = parser.parse_args()
if not 1 <= given.number <= 60:
    parser.error("argument -n/--number: not in 1..60")
print("fare", given.number, given.port)
try:
    sys.stdout.flush()
except (AttributeError, OSError):
    sys.exit(3)
"""
VALUES = 'values.N = { type = "int", min = 1, max = 60, default = 3 }\n'
FAULTS = {
    "a default that is another": ("default=3", "default=4", {"default stated"}),
    "a number that wraps": ("if not 1", "given.number = (given.number + 2**31) % 2**32 - 2**31\nif not 1", {"out-of-range"}),
    "a decimal comma": ("type=int", "type=lambda t: int(t.split(',')[0])", {"bad-type"}),
    "any letter case": ("given = parser.parse_args()", "given = parser.parse_args([a.lower() if a[:2] == '--' else a for a in sys.argv[1:]])",
                        {"unknown-option"}),
    "the width of the terminal": ('print("fare"', 'print("fare"[:int(os.environ.get("COLUMNS", 80)) // 20]', {"COLUMNS"}),
    "the zone": ('print("fare"', 'print(os.environ.get("TZ"), "fare"', {"TZ"}),
    "the home": ('print("fare"', 'print(os.path.basename(os.environ["HOME"]), "fare"', {"HOME"}),
    "the directory": ('print("fare"', 'print(os.path.basename(os.getcwd()), "fare"', {"directory"}),
    "output that is lost": ("sys.exit(3)", "os._exit(0)", {"closed-output", "full-device"}),
}  # fmt: skip


def run(place: Place, program: str, more: str = "") -> set[str]:
    """Run the program above in some edition; return the kinds that did not hold."""
    place.write("p.py", program)
    families = '["accepted", "refusals", "rephrasings", "elsewhere"]'
    top = f'[program]\nlaunch = "{sys.executable} {{here}}/p.py"\nwarm = true\n[signature]\nsynopsis = "[-n,--number N] [-q,--quiet] PORT"\n'
    place.write("p.matrix.toml", f"{top}derive = {families}\n{more}{VALUES}")
    place.last = place.call("run")  # type: ignore[attr-defined]
    return {each["kind"] for each in place.cases() if each["verdict"] != "held"}


def test_a_sound_program_is_told_nothing(place: Place) -> None:
    assert run(place, SOUND) == set(), place.last.out  # type: ignore[attr-defined]
    assert {each["kind"] for each in place.cases() if each["family"] == "elsewhere"} == {name.replace(" ", "-") for name in PLACES}


@pytest.mark.parametrize("name", FAULTS)
def test_each_fault_is_found_and_nothing_else(place: Place, name: str) -> None:
    old, new, kinds = FAULTS[name]
    assert old in SOUND
    assert run(place, SOUND.replace(old, new)) == kinds, place.last.out  # type: ignore[attr-defined]


def test_what_a_program_depends_on_is_passed_over(place: Place) -> None:
    old, new, _ = FAULTS["the zone"]
    assert run(place, SOUND.replace(old, new), 'depends-on = ["TZ"]\n') == set()


UNTIDY = {
    "a file": ('print("fare"', 'open("log.txt", "w").close()\nprint("fare"', "it leaves log.txt, which no word names"),
    "a control sign": ('print("fare"', 'print("\\033[1mfare"', "it prints the control sign \\x1b to a pipe"),
}


@pytest.mark.parametrize("name", UNTIDY)
def test_what_is_untidy_is_remarked_on_and_refused_where_that_is_asked(place: Place, name: str) -> None:
    old, new, told = UNTIDY[name]
    assert run(place, SOUND.replace(old, new)) == set()
    assert place.last.out.count(told) == 1  # type: ignore[attr-defined]
    assert run(place, SOUND.replace(old, new), "tidy = true\n") >= {"smallest", "option"}
    assert {one["aspect"] for each in place.cases() for one in each["aspects"] if not one["met"]} == {"tidy"}


READERS: list[tuple[dict[str, Any], str, str, bool]] = [
    ({"repeat": "last"}, "rephrasings", "-n 1 -n 2 x", True), ({}, "rephrasings", "-n 1 -n 2 x", False),
    ({"dash_values": "refuse"}, "refusals", "-n -q x", True), ({}, "refusals", "-n -q x", False),
]  # fmt: skip


@pytest.mark.parametrize(("switches", "family", "words", "there"), READERS)
def test_what_depends_on_the_reader_is_tried_where_the_signature_says(
    switches: dict[str, Any], family: Any, words: str, there: bool
) -> None:
    own = Signature.from_synopsis("[-n N] [-q] PORT", {"N": {"type": "int", "min": 1, "max": 2}, "PORT": {"example": "x"}}, **switches)
    made = {" ".join(each) for vector in family_of(own, family).vectors for each in (vector.words, *vector.more)}
    assert (words in made) is there, sorted(made)


ASKS = """
import sys
words = sys.argv[1:]
if words not in ([], ["--clear"], ["-c"]):
    sys.exit(f"usage: p [--clear], not {words[-1]}")
while words:
    print("Clear the list? ", end="", flush=True)
    answer = sys.stdin.readline()
    if AGAIN:
        continue
    if answer.strip() in CONSENT:
        open("cleared", "w").close()
    break
print("done")
"""
ANSWERS = [("False", '("y",)', set()), ("False", '("y", "")', {"end-of-input"}), ("answer == ''", '("y",)', {"option", "fullest"})]
"""Whether it asks again, what counts as consent, and what is found."""


@pytest.mark.parametrize(("again", "consent", "kinds"), ANSWERS)
def test_the_end_of_input_is_no_consent_and_no_reason_to_ask_without_end(place: Place, again: str, consent: str, kinds: set[str]) -> None:
    place.write("p.py", ASKS.replace("AGAIN", again).replace("CONSENT", consent))
    place.write("p.matrix.toml", f"""
        [program]
        launch = "{sys.executable} {{here}}/p.py"
        timeout = 5
        [signature]
        synopsis = "[-c,--clear]"
        derive = ["accepted"]
        """)  # fmt: skip
    ran = place.call("run")
    cases = place.cases()
    unanswered = [each for each in cases if each["kind"] == "end-of-input"]
    assert [each["argv"] for each in unanswered] == ([] if again != "False" else [["--clear"]]), ran.out
    assert {each["kind"] for each in cases if each["verdict"] != "held"} <= kinds, ran.out
    assert ran.status == bool(kinds)
    if kinds == {"end-of-input"}:
        assert "cleared created" in ran.out and "no file changed" in ran.out
