"""A signature in a spec: its families on real programs, what refusals promise, drafting, and what lint says."""

from __future__ import annotations

import re
import sys
from collections import Counter
from pathlib import Path

import pytest

from keen_matrix.core.launch.process.system import enter_system
from keen_matrix.core.signature.signature import Signature
from keen_matrix.core.vectors.derived import standing_of
from tests.conftest import Place
from tests.programs import in_sh

OFFICE = Path(__file__).parent.parent / "src/keen_matrix/demo/office"
FARE = """
    [program]
    launch = "{python} -S {office}/sound/fare.py"
    warm = true
    [signature]
    synopsis = "[-n,--riders RIDERS] [--bike | --car] [--round-trip] [--format FORMAT] [-s,--save FILE] ORIGIN DESTINATION"
    help = ["-h", "--help"]
    only-if = ["ORIGIN != DESTINATION"]
    derive = ["help", "accepted", "refusals", "rephrasings", "effects", "again"]
    [signature.values]
    RIDERS = {{ type = "int", min = 1, max = 60, default = 1, example = 3 }}
    FORMAT = {{ of = ["text", "json"], default = "text" }}
    FILE = {{ type = "path", example = "ticket.txt" }}
    ORIGIN = {{ of = ["Skerry", "Holm", "Voe"] }}
    DESTINATION = {{ of = ["Skerry", "Holm", "Voe"], example = "Holm" }}
    """.replace("{python}", sys.executable)
PORT = """
    [program]
    launch = "sh {{here}}/port.sh"
    timeout = 4
    [signature]
    synopsis = "{synopsis}"
    style = "posix"
    repeat = "last"
    dash-values = "take"
    help = ["-h"]
    derive = {derive}
    values.PORT = {{ of = ["Holm", "Voe"] }}
    {more}
    """
SOUND = """\
    usage() { echo "usage: port [-q] PORT"; }
    refuse() { echo "port: $1" >&2; usage >&2; exit 2; }
    quiet=
    while getopts :qh option; do
        case $option in q) quiet=1 ;; h) usage; exit 0 ;; *) refuse "unknown option -$OPTARG" ;; esac
    done
    shift $((OPTIND - 1))
    [ $# -ge 1 ] || refuse "missing PORT"
    [ $# -le 1 ] || refuse "unexpected $2"
    case $1 in Holm | Voe) ;; *) refuse "unknown PORT '$1'" ;; esac
    [ -n "$quiet" ] || echo "port $1"
    """


def failed(place: Place) -> set[tuple[str, str, str]]:
    """Return family, kind and aspect of everything that fails."""
    return {
        (case["family"], case["kind"], aspect["aspect"])
        for case in place.cases() for aspect in case["aspects"] if not aspect["met"]
    }  # fmt: skip


def port(
    place: Place, script: str, *, derive: str = '["refusals"]', more: str = "", synopsis: str = "[-q] PORT"
) -> int:
    place.write("port.sh", script)
    place.write("port.matrix.toml", PORT.format(derive=derive, more=more, synopsis=synopsis))
    return place.call("run").status


@pytest.mark.long
def test_a_signature_alone_finds_the_faults_of_the_faulty_fare_and_none_in_the_sound_one(place: Place) -> None:
    place.write("fare.matrix.toml", FARE.replace("{office}", str(OFFICE)).replace("{{", "{").replace("}}", "}"))
    came = place.call("run", "--warm-check", "0")
    assert came.status == 0, came.out
    assert Counter(case["family"] for case in place.cases())["refusals"] > 80
    came = place.call("run", "--warm-check", "0", "--program", f"{sys.executable} -S {OFFICE}/faulty/fare.py")
    assert came.status == 1
    assert {(family, kind) for family, kind, _ in failed(place)} == {
        ("refusals", "condition"), ("refusals", "not-a-choice"), ("refusals", "bad-type"), ("refusals", "conflict"),
        ("effects", "effect"), ("again", "fullest"),
    }  # fmt: skip
    crashed = {case["kind"] for case in place.cases() if case["verdict"] == "crashed"}
    assert crashed == {"bad-type"}, "a refusal by an unhandled exception is a crash, not a refusal"


BREAKS = {
    "exits 0": ("exit 2", "exit 0", "exit"),
    "exits like the shell": ("exit 2", "exit 127", "exit"),
    "says nothing": ('echo "port: $1" >&2; usage >&2;', ":;", "stderr"),
    "prints on standard output": ("usage >&2;", "usage;", "stdout"),
    "leaves a file": ("exit 2", "touch log; exit 2", "other-files"),
    "waits for input": ("exit 2", "read answer; exit 2", "input" if enter_system().sees_calls else "timeout"),
    "blames another": ('refuse "missing PORT"', 'refuse "-q --quiet-mode is wrong"', ""),
}


@pytest.mark.parametrize("name", BREAKS)
def test_a_refusal_promises_by_default(place: Place, name: str) -> None:
    old, new, aspect = BREAKS[name]
    assert port(place, SOUND) == 0, place.call("run").out
    script = SOUND.replace(old, new).replace("port: $1", "p: $1")
    assert script != SOUND
    status = port(place, script)
    if not aspect:
        assert status == 0 and "does not name its culprit" in place.call("run").out
        assert port(place, script, more="[refusal]\nnames-culprit = true") == 1
        return
    assert status == 1
    assert {each[2] for each in failed(place)} == {aspect}


def test_the_message_must_not_blame_another_argument(place: Place) -> None:
    told = """printf 'fare: error: %s\\n' "$1";"""
    script = in_sh({"--riders": "N", "--save": "FILE"})
    assert told in script
    place.write("p.sh", script.replace(told, "echo 'fare: error: argument --riders: is wrong';"))
    text = """
        [program]
        launch = "sh {here}/p.sh"
        [signature]
        synopsis = "[--riders N] [--save FILE] PORT"
        derive = ["refusals"]
        [refusal]
        blame = "culprit"
        """
    place.write("p.matrix.toml", text)
    assert place.call("run", "--only", "refusals").status == 1
    blamed = [case for case in place.cases() if any(a["aspect"] == "blame" for a in case["aspects"] if not a["met"])]
    assert blamed and all("--riders" not in case["culprit"] for case in blamed)
    place.write("p.matrix.toml", text.replace('"culprit"', '"anything"'))
    assert place.call("run").status == 0


def test_a_kind_has_rules_of_its_own_and_a_spec_adds_kinds(place: Place) -> None:
    more = """
    only-if = ["PORT != 'Voe' or has('-q')"]
    refuse = [{ when = "PORT == 'Voe' and has('-q')", kind = "too-quiet" }]
    [refusal]
    exit = 2
    stderr.contains = "{culprit}"
    [refusal.too-few]
    stderr.contains = "missing {culprit}"
    [refusal.too-quiet]
    exit = 3
    """
    script = SOUND.replace("[ -n", '[ "$1" = Holm ] || [ -z "$quiet" ] || { echo "not Voe" >&2; exit 3; }\n'
                           '    [ "$1" = Holm ] || refuse "not Voe"\n    [ -n')  # fmt: skip
    assert port(place, script, more=more) == 0, place.call("run").out
    assert {case["kind"] for case in place.cases()} >= {"too-quiet", "condition", "too-few"}


FORMS = ["book [-n,--riders RIDERS] PORT", "cancel TICKET", "list [-r,--rides RIDERS] [PORT...]"]


@pytest.mark.parametrize(
    ("words", "named"),
    [
        ("book --riders 2 Voe", {"RIDERS": 2, "PORT": "Voe", "TICKET": None}),
        ("book Voe", {"RIDERS": 1, "PORT": "Voe", "TICKET": None}),
        ("cancel 7", {"RIDERS": 1, "PORT": [], "TICKET": 7}),
        ("list -r 3", {"RIDERS": 3, "PORT": [], "TICKET": None}),
        ("list Holm Voe", {"RIDERS": 1, "PORT": ["Holm", "Voe"], "TICKET": None}),
    ],
)
def test_a_word_of_one_form_is_not_overruled_by_the_default_of_another(words: str, named: dict[str, object]) -> None:
    values = {"RIDERS": {"type": "int", "default": 1}, "TICKET": {"type": "int"}}
    signature = Signature.from_synopsis(FORMS, values)
    assert standing_of(signature, words.split()).bound == named


def test_the_help_family_reads_the_help(place: Place) -> None:
    derive = '["help"]'
    assert port(place, SOUND, derive=derive) == 0
    assert port(place, SOUND.replace("[-q] PORT", "PORT"), derive=derive) == 1
    listed = SOUND.replace('PORT"; }', 'PORT\n  -q  quiet\n  -z  zeal"; }')
    assert port(place, listed, derive=derive) == 0
    assert "the help lists -z" in place.call("run").out
    assert port(place, listed, derive=derive, more="help-complete = true") == 1
    assert {each[2] for each in failed(place)} == {"help"}
    on_error = SOUND.replace("usage; exit 0", "usage >&2; exit 0")
    assert port(place, on_error, derive=derive, more='[help]\nstream = "stdout"') == 1
    assert {each[2] for each in failed(place)} == {"help"}
    assert port(place, on_error, derive=derive, more='[help]\nstream = "stderr"') == 0
    assert port(place, on_error, derive=derive) == 0 and "help is printed on standard error" in place.call("run").out


def test_relations_between_launches(place: Place) -> None:
    every = '["rephrasings", "effects", "again", "renamed", "launchers"]'
    named = SOUND.replace("usage: port", "usage: ${0##*/}")
    launchers = '[program.launchers]\nstrict = "sh -u {here}/port.sh"'
    assert port(place, named, derive=every, more=launchers) == 0, place.call("run").out
    assert Counter(case["family"] for case in place.cases()).keys() == {
        "rephrasings",
        "effects",
        "again",
        "renamed",
        "launchers",
    }
    port(place, SOUND.replace("quiet=1", "quiet="), derive=every, more=launchers)
    assert failed(place) >= {("effects", "effect", "effect")}
    port(place, named.replace('echo "port $1"', 'echo x >> log; echo "port $(cat log)"'), derive=every, more=launchers)
    assert {each for each in failed(place) if each[0] == "again"} == {("again", "smallest", "alike")}
    port(
        place,
        named.replace("shift $((", '[ "$1" != -- ] || refuse "no --"\n    shift $(('),
        derive=every,
        more=launchers,
    )
    assert failed(place) == {("rephrasings", "after --", "alike")}
    port(place, named + "\necho $-", derive=every, more=launchers)
    assert {each[0] for each in failed(place)} >= {"launchers"}
    port(place, SOUND, derive=every, more=launchers)
    assert {each[0] for each in failed(place)} == {"renamed"}


def test_axes_of_a_signatures_values(place: Place) -> None:
    place.write("t.matrix.toml", """
        [program]
        launch = "echo"
        [signature]
        synopsis = "-n N"
        derive = []
        values.N = { type = "int", min = 1, max = 60 }
        [[matrix]]
        name = "edges"
        line = "-n {n}"
        axes.n = { edges = "N" }
        expect = { exit = 0, stdout = "-n {N}" }
        [[matrix]]
        name = "bad"
        line = "-n {n}"
        axes.n = { bad = "N" }
        expect = { exit = 0, stdout.contains = "-n", stderr = "", other-files = "none" }
        [[matrix]]
        name = "some"
        line = "-n {n}"
        axes.n = { sample = 5, of = "N", seed = 1 }
        """)  # fmt: skip
    came = place.call("run")
    assert came.status == 1, "echo refuses nothing"
    values = {
        name: [case["argv"][-1] for case in place.cases() if case["matrix"] == name]
        for name in ("edges", "bad", "some")
    }
    assert set(values["edges"]) == {"1", "2", "60"} and "61" in values["bad"] and "abc" in values["bad"]
    assert len(values["some"]) == 5 and all(1 <= int(each) <= 60 for each in values["some"])
    assert all(case["judgement"] == "refused" for case in place.cases() if case["matrix"] == "bad")


LINT = {
    'synopsis = "[-n RIDERS"': ('signature.synopsis: this "[" is never closed; expected "]"', 5, 13),
    'synopsis = "PORT"\nvalues.PROT = { type = "int" }': ('the synopsis has no value "PROT"; it has PORT', 6, 8),
    'synopsis = "PORT"\nstyle = "gnuu"': ("signature.style is 'gnuu'", 6, 9),
    'synopsis = "PORT"\nderive = ["help", "refusal"]': ("signature.derive[2] is 'refusal'", 6, 19),
    'synopsis = "PORT"\nonly-if = ["PRT != \'x\'"]': ('"PRT" is neither an axis nor a column here', 6, 13),
    'synopsis = "PORT"\n[refusal.too-fww]\nexit = 2': ('unknown kind of refusal "too-fww"', 6, 2),
    'synopsis = "N"\nvalues.N = { type = "int", min = 5, max = 2 }': ("N: min 5 is more than max 2", 6, 8),
    'synopsis = "N"\nvalues.N = { type = "int", count = "4..2" }': ('signature.values.N.count: expected a count such as 2, "2..4" or "1.."', 6, 36),
}  # fmt: skip


@pytest.mark.parametrize("text", LINT, ids=[each.splitlines()[-1] for each in LINT])
def test_lint_knows_the_signature(place: Place, text: str) -> None:
    message, line, column = LINT[text]
    (place.directory / "t.matrix.toml").write_text(f'[program]\nlaunch = "true"\n\n[signature]\n{text}\n')
    came = place.call("lint")
    assert came.status == 1
    assert f"t.matrix.toml:{line}:{column}: {message}" in came.out, came.out


@pytest.mark.parametrize(("more", "told"), [
    ('[refusal]\nstdrr.contains = "x"', ['unknown kind of refusal "stdrr"']),
    ('refuse = [{ when = "PORT == \'x\'", kind = "exits" }]\n[refusal.exits]\nexitt = 2', ['unknown key "exitt" in [refusal.exits]']),
])  # fmt: skip
def test_a_slip_in_a_key_of_refusals_is_one_error(place: Place, more: str, told: list[str]) -> None:
    (place.directory / "t.matrix.toml").write_text(f'[program]\nlaunch = "true"\n[signature]\nsynopsis = "PORT"\n{more}\n')
    assert re.findall(r"^t\.matrix\.toml:\d+:\d+: (.*)$", place.call("lint").out, re.MULTILINE) == told


def test_unfold_shows_families_and_tells_why(place: Place) -> None:
    port(place, SOUND, derive='["refusals", "rephrasings"]')
    came = place.call("unfold")
    assert "derived from the signature" in came.out and "too-few" in came.out
    id = re.search(r"(\w{6})  not-a-choice +nonesuch +nonesuch\n", came.out)
    assert id
    why = place.call("unfold", "--why", id[1])
    assert (
        "the signature says  refused  not-a-choice" in why.out and "PORT 'nonesuch': it is none of Holm, Voe" in why.out
    )
    assert "1..125" in why.out and "port.matrix.toml:5" in why.out
    assert place.call("unfold", "--why", "zzzz").status == 3


@pytest.mark.parametrize(
    ("program", "found"),
    [
        (f"{sys.executable} {OFFICE}/sound/fare.py", ["[-n,--riders RIDERS]", "[--bike | --car]", "ORIGIN DESTINATION", 'reader = "argparse"',
                                                     'RIDERS = { type = "int", min = 1, max = 60, default = 1 }']),
        (f"sh {OFFICE}/sound/tide.sh", ['"[-q] [-d DAY] [-u UNIT] PORT"', 'reader = "getopts" # guess: its script names it', "default = 1"]),
        (f"{sys.executable} -m json.tool", ["[--indent INDENT | --tab | --no-indent | --compact]", "[<infile>] [<outfile>]"]),
        ("seq", ["[-w,--equal-width]", "FIRST INCREMENT LAST", "[-s,--separator STRING]"]),
    ],
)  # fmt: skip
def test_a_draft_lints_clean_and_has_the_options(place: Place, program: str, found: list[str]) -> None:
    came = place.call("draft", "-o", "d.matrix.toml", "--", *program.split())
    assert came.status == 0, came.err
    text = (place.directory / "d.matrix.toml").read_text()
    assert not [each for each in found if each not in " ".join(text.split())], text
    assert place.call("lint").out == "1 spec: no errors, no warnings\n"
    assert place.call("draft", "-o", "d.matrix.toml", "--", *program.split()).status == 2, "never over a file"


def test_a_program_without_help_is_drafted_by_what_it_does(place: Place) -> None:
    came = place.call("draft", "--", "sh", "-c", "exit 3")
    assert came.status == 0 and "no usage line and no list of options or subcommands" in came.out and "[3, " in came.out
