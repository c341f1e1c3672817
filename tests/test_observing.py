"""Drafts of programs that print no help: what they are seen to do, written down as rows."""

from __future__ import annotations

import tomllib

import pytest

from keen_matrix.core.insight.observing.search import CandidateWords, candidates_of
from keen_matrix.core.insight.observing.source import reading_of_source
from tests.conftest import Place

SHELL = """
# fare.sh: what a crossing costs
case "$1" in
    Skerry|Holm) each=4 ;;
    -r|--return) echo "not yet"; exit 4 ;;
    "") echo "fare: which port?" >&2; exit 2 ;;
    *) echo "fare: no port $1" >&2; exit 1 ;;
esac
n=${2:-1}
[ "$n" -le 60 ] 2> /dev/null || { echo "fare: 1 to 60 riders" >&2; exit 2; }
echo "$((each * n))"
"""
SOURCES = {
    "a shell's case": (SHELL, {"words": {"Skerry", "Holm"}, "options": {"-r", "--return"}, "numbers": {"4", "60"}}),
    "python": ('if sys.argv[1] == "add":\n  x = int(a)\nelif cmd in ("list",): pass\n# "comment"\nopen(sys.argv[2])',
               {"words": {"add", "list"}, "reads_files": True}),
    "node": ("switch (op) { case '+': break; case \"mul\": }\nconst f = {Skerry: 4};", {"words": {"+", "mul", "Skerry"}}),
    "perl": ("if ($x eq 'up') {} my %h = (Voe => 3); while (<STDIN>) { split /,/ }", {"words": {"up", "Voe"}, "reads_input": True, "separators": {","}}),
    "c": ('getopt(argc, argv, "n:qv"); if (!strcmp(argv[1], "tide")) n < 18.5', {"words": {"tide"}, "options": {"-n", "-q", "-v"}, "numbers": {"18.5"}}),
    "ruby": ("when 'north' then 1\nif a == \"south\"\ngets", {"words": {"north", "south"}, "reads_input": True}),
    "getopts": ("while getopts qd: name; do :; done", {"options": {"-q", "-d"}}),
}  # fmt: skip


@pytest.mark.parametrize("name", SOURCES)
def test_a_source_tells_what_it_compares_its_words_with(name: str) -> None:
    text, wanted = SOURCES[name]
    reading = reading_of_source(text)
    for key, value in wanted.items():
        found = getattr(reading, key)
        assert found is value if isinstance(value, bool) else value <= {*found}, (key, found)
    assert "comment" not in reading.words


def test_candidates_are_of_every_kind_and_beside_numbers() -> None:
    reading = reading_of_source(SHELL)
    found = candidates_of(reading, ["Voe", "--own"])
    assert {"59", "60", "61", "3", "5", "Skerry", "-r", "word", ""} <= {*found.all} and found.all[0] == "Voe"
    assert [found.kind_of_word(each) for each in ("Skerry", "60", "--own")] == [0, 1, 2]
    assert CandidateWords((("a", "b"), ("1",), ())).all == ("a", "1", "b")


def drafted(place: Place, *words: str) -> str:
    came = place.call("draft", "-o", "d.matrix.toml", *words)
    assert came.status == 0, came.err
    return (place.directory / "d.matrix.toml").read_text()


MENDED = {"another price": ("each=4", "each=5"), "a limit": ("-le 60", "-le 61"), "an exit": ("exit 1", "exit 3"), "a word": ("Skerry|Holm", "Skerry"),
          "an option": ("-r|--return", "--return"), "a message": ("which port", "what port"), "a default": (":-1", ":-2")}  # fmt: skip


def test_a_program_without_help_is_drafted_by_what_it_does(place: Place) -> None:
    place.write("fare.sh", SHELL)
    text = drafted(place, "--", "sh", "fare.sh")
    assert "Observed, not documented" in text and "# observed" in text and tomllib.loads(text)["program"] == {"launch": "sh {here}/fare.sh"}
    assert "all passed" in place.call("run").out
    for name, (old, new) in MENDED.items():
        place.write("fare.sh", SHELL.replace(old, new))
        assert place.call("run").status == 1, name


def test_what_varies_or_crashes_is_no_row(place: Place) -> None:
    place.write("odd.py", "import sys, time\nif not sys.argv[1:]: print(time.time_ns())\nelif sys.argv[1] == 'word': print('fine')\nelse: print(1 / 0)\n")
    text = drafted(place, "--", "python3", "odd.py")
    assert "# doubt: prints something else each time: \n" in text and "# doubt: it crashed or did not end:" in text
    assert '["word", 0, "fine\\n", ""]' in text and "all passed" in place.call("run").out


def test_calls_of_ones_own_are_rows_and_lead_further(place: Place) -> None:
    place.write("add.py", "import sys\na = sys.argv[1:]\nprint(sum(map(int, a)) if a and all(x.isdigit() for x in a) else 'no')\n")
    place.write("calls.txt", "17 25\n\n")
    text = drafted(place, "--calls", "calls.txt", "--", "python3", "add.py")
    assert '["17", "25", 0, "42\\n", ""]' in text and "all passed" in place.call("run").out


def test_a_usage_line_is_believed_only_where_it_explains_the_program(place: Place) -> None:
    place.write("fare.sh", '[ $# = 2 ] || { echo "usage: fare PORT RIDERS" >&2; exit 2; }; case $2 in 1|2) ;; *) exit 3 ;; esac; echo "$1 $2"\n')
    text = drafted(place, "--", "sh", "fare.sh")
    assert ("its usage line does not say all that it does" in text and "usage: fare PORT RIDERS" in text) or "[signature]" in text
    assert "failed" not in place.call("run").out.splitlines()[-1]


def test_input_and_files_are_tried_where_the_source_reads_them(place: Place) -> None:
    place.write("count.py", "import sys\ntext = open(sys.argv[1]).read() if sys.argv[1:] else sys.stdin.read()\nprint(len(text.split(',')))\n")
    text = drafted(place, "--", "python3", "count.py")
    data = tomllib.loads(text)
    assert any("stdin" in each.get("columns", ()) for each in data["matrix"]) and any("sample.txt" in each.get("files", {}) for each in data["matrix"])
    assert "all passed" in place.call("run").out


def test_what_cannot_be_started_has_no_draft(place: Place) -> None:
    came = place.call("draft", "--", "./nothing-here")
    assert came.status == 3 and "nothing-here" in came.err
