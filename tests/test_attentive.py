"""What an attentive person also tries: a default written out, an option given twice, numbers that wrap, other surroundings, tidiness."""

from __future__ import annotations

import sys
from typing import Any

import pytest

from keen_matrix import Signature
from keen_matrix.core.signature.families import family_of
from keen_matrix.core.signature.families.elsewhere import PLACES
from tests.conftest import Place

SOUND = r"""
number=3 operands= names= left=
wrong() { echo "usage: p [-n N] [-q] PORT
p: $1" >&2; exit 2; }
number() {
    given=$1
    case ${given#-} in '' | *[!0-9]*) wrong "-n, --number: '$1' is no whole number" ;; esac
    [ ${#given} -lt 10 ] && [ "$given" -ge 1 ] && [ "$given" -le 60 ] || wrong "-n, --number: $1 is not in 1..60"
    number=$given
}
operand() { [ -z "$names" ] || wrong "unexpected operand: $1"; names=x; port=$1; }
while [ $# -gt 0 ]; do
    case $left$1 in
        x*) operand "$1" ;;
        --) left=x ;;
        --number=*) number "${1#*=}" ;;
        --quiet) ;;
        -n | --number) [ $# -gt 1 ] || wrong "$1 needs a value"; number "$2"; shift ;;
        --*) wrong "unknown option $1" ;;
        -n*) number "${1#-n}" ;;
        -q?*) rest=${1#-q}; shift; set -- q "-$rest" "$@" ;;
        -q) ;;
        -?*) wrong "unknown option $1" ;;
        *) operand "$1" ;;
    esac
    shift
done
[ -n "$names" ] || wrong "missing operand PORT"
echo "fare $number $port" || exit 3
"""
VALUES = 'values.N = { type = "int", min = 1, max = 60, default = 3 }\n'
FAULTS = {
    "a default that is another": ("number=3", "number=4", {"default written out"}),
    "a number that wraps": ("[ ${#given} -lt 10 ]", "given=$((given % 4294967296))", {"out-of-range"}),
    "a decimal comma": ("given=$1", "given=${1%%,*}", {"bad-type"}),
    "any letter case": ('case $left$1 in', 'case $1 in --[NQ]*) low=$(echo "$1" | tr A-Z a-z); shift; set -- "$low" "$@" ;; esac\n    case $left$1 in',
                        {"unknown-option"}),
    "the width of the terminal": ('echo "fare', 'cut=$(printf "%s" "fare" | cut -c "1-$((${COLUMNS:-80} / 20))")\necho "$cut', {"COLUMNS"}),
    "the zone": ('echo "fare', 'echo "$TZ fare', {"TZ"}),
    "the home": ('echo "fare', 'echo "${HOME##*/} fare', {"HOME"}),
    "the directory": ('echo "fare', 'echo "${PWD##*/} fare', {"directory"}),
    "output that is lost": ("|| exit 3", "2> nothing; rm -f nothing; exit 0", {"closed-output", "full-device"}),
}  # fmt: skip


def run(place: Place, program: str, more: str = "") -> set[str]:
    """Run the program above in some edition; return the kinds that failed."""
    place.write("p.sh", program)
    families = '["accepted", "refusals", "rephrasings", "elsewhere"]'
    top = '[program]\nlaunch = "sh {here}/p.sh"\n[signature]\nsynopsis = "[-n,--number N] [-q,--quiet] PORT"\n'
    place.write("p.matrix.toml", f"{top}derive = {families}\n{more}{VALUES}")
    place.last = place.call("run")  # type: ignore[attr-defined]
    return {each["kind"] for each in place.cases() if each["verdict"] != "passed"}


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
    "a file": ('echo "fare', ': > log.txt\necho "fare', "it leaves log.txt, which no word of the call names"),
    "a control sign": ('echo "fare', 'printf "\\033[1m"; echo "fare', "it prints the control character \\x1b to a pipe"),
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
        output-cap = "64 KiB"
        [signature]
        synopsis = "[-c,--clear]"
        derive = ["accepted"]
        """)  # fmt: skip
    ran = place.call("run")
    cases = place.cases()
    unanswered = [each for each in cases if each["kind"] == "end-of-input"]
    assert [each["argv"] for each in unanswered] == ([] if again != "False" else [["--clear"]]), ran.out
    assert {each["kind"] for each in cases if each["verdict"] != "passed"} <= kinds, ran.out
    assert ran.status == bool(kinds)
    if kinds == {"end-of-input"}:
        assert "cleared created" in ran.out and "no file changed" in ran.out
