"""What a signature can say of lenient readers, of options that end the call, of numbers with units, lists and open choices."""

from __future__ import annotations

from typing import Any

import pytest

from keen_matrix import Signature
from keen_matrix.core.errors import NotationFault
from keen_matrix.core.notation.synopsis import parse_synopsis
from keen_matrix.core.signature.families import family_of
from keen_matrix.core.signature.model import SignatureFault
from tests.conftest import Place
from tests.programs import in_sh

ONE: dict[str, dict[str, Any]] = {"N": {"type": "int", "min": 1, "max": 9}}
JUDGED: list[tuple[str, dict[str, Any], str, str]] = [
    ("[-abc] FILE", {}, "-a x", "accepted"), ("[-abc] FILE", {}, "-cab x", "accepted"), ("[-abc] FILE", {}, "-d x", "refused"),
    ("[-abc] FILE", {"style": "posix"}, "-ab x", "accepted"), ("[-abc] FILE", {"style": "one-dash"}, "-abc x", "accepted"),
    ("[-abc] FILE", {"style": "one-dash"}, "-a x", "unspecified"), ("[-abc,--abc] FILE", {}, "-abc x", "accepted"),
    ("[-aba] FILE", {}, "-aba x", "accepted"), ("[-1 … -9] FILE", {}, "-1 x", "accepted"), ("[-1 ... -9] FILE", {}, "-9 x", "accepted"),
    ("[-1 … -9] FILE", {}, "-1 -2 x", "refused"), ("[-1 … -9] FILE", {}, "-0 x", "refused"),
    ("[-n N] FILE", {"actions": ["-V,--version"]}, "-V", "accepted"), ("[-n N] FILE", {"actions": ["-V,--version"]}, "--version x", "unspecified"),
    ("[-f] FILE", {"unknown_options": "take"}, "-f --zz=1 x", "accepted"), ("[-f] FILE", {"unknown_options": "take"}, "--zz x", "unspecified"),
    ("[-f] FILE", {"unknown_options": "operand"}, "--zz", "accepted"), ("[-f] FILE", {"unknown_options": "operand"}, "-z -f", "accepted"),
    ("[-f] FILE", {"superfluous_operands": "ignore"}, "x y z", "accepted"), ("[-f] FILE", {}, "x y", "refused"),
    ("[-f,--force] FILE", {"flag_values": "ignore"}, "--force=3 x", "accepted"), ("[-f,--force] FILE", {}, "--force=3 x", "refused"),
    ("[-n N] FILE", {"missing_values": "ignore"}, "x -n", "accepted"), ("[-n N] FILE", {}, "x -n", "refused"),
    ("[-f] FILE", {"delimiter": False}, "-- x", "unspecified"), ("[-f] FILE", {}, "-- x", "accepted"),
]  # fmt: skip


@pytest.mark.parametrize(("synopsis", "more", "words", "status"), JUDGED)
def test_what_a_reader_takes(synopsis: str, more: dict[str, Any], words: str, status: str) -> None:
    values = ONE if " N]" in synopsis else {}
    assert Signature.from_synopsis(synopsis, values, **more).judge(words.split()).status == status


VALUES: list[tuple[dict[str, Any], str, str]] = [
    ({"type": "int", "units": ["K", "M"], "max": 9}, "9K", "legal"), ({"type": "int", "units": ["K"], "max": 9}, "10K", "illegal"),
    ({"type": "int", "units": ["K"]}, "2Q", "illegal"), ({"type": "int", "units": ["K"]}, "K", "illegal"), ({"type": "int", "units": ["K"]}, "7", "legal"),
    ({"type": "file", "directories": True}, ".", "legal"), ({"type": "file", "directories": True}, "no-such-file", "illegal"),
    ({"type": "float", "units": ["km", "m"]}, "1.5km", "legal"), ({"type": "float", "units": ["km"]}, "1.5mi", "illegal"),
    ({"type": "int", "list": ","}, "1,2,3", "legal"), ({"type": "int", "list": ","}, "1,b", "illegal"), ({"type": "int", "list": ","}, "1,,2", "doubtful"),
    ({"of": ["a", "b"], "list": ":"}, "a:b", "legal"), ({"of": ["a", "b"], "list": ":"}, "a:c", "illegal"),
    ({"of": ["a"], "open": True}, "a", "legal"), ({"of": ["a"], "open": True}, "b", "doubtful"),
]  # fmt: skip


@pytest.mark.parametrize(("table", "text", "status"), VALUES)
def test_what_a_value_may_be(table: dict[str, Any], text: str, status: str) -> None:
    kind = Signature.from_synopsis("N", {"N": table}).values["N"]
    assert kind.read(text).status == status
    assert all(kind.read(each).status == "legal" for each in kind.legal()) and kind.legal()
    assert all(kind.read(each).status == "illegal" for each in kind.bad())
    assert bool(kind.bad()) is not bool(table.get("open"))


@pytest.mark.parametrize("table", [{"units": ["K"]}, {"type": "bool", "open": True}, {"type": "date", "units": ["d"]}, {"type": "dir", "directories": True}])
def test_units_and_open_go_with_what_they_are_for(table: dict[str, Any]) -> None:
    with pytest.raises(SignatureFault, match="does not go with"):
        Signature.from_synopsis("N", {"N": table})


@pytest.mark.parametrize("text", ["[-9 … -1]", "[-a … -9]", "[-a … -a]"])
def test_a_range_that_is_none_is_a_fault(text: str) -> None:
    with pytest.raises(NotationFault, match="is not a range"):
        parse_synopsis(text)


def test_lenient_readers_are_not_asked_to_refuse() -> None:
    lenient = {"superfluous_operands": "ignore", "flag_values": "ignore", "missing_values": "ignore", "unknown_options": "take"}
    own = Signature.from_synopsis("[-f,--force] [-n,--number N] FILE", ONE, **lenient)
    kinds = {vector.kind for vector in family_of(own, "refusals").vectors}
    assert kinds == {"too-few", "bad-type", "out-of-range"}
    assert not any("--version" in vector.words[1:] for vector in family_of(own, "accepted").vectors)


def test_an_action_is_tried_alone_and_one_that_is_not_stated_is_found_out(place: Place) -> None:
    script = in_sh({"-a,--all": "", "-L,--list": ""})
    assert "is_list=x" in script
    place.write("p.sh", script.replace("is_list=x", "echo one two; exit"))
    top = '[program]\nlaunch = "sh {here}/p.sh"\n[signature]\n'
    place.write("p.matrix.toml", top + 'synopsis = "[-a,--all] [-L,--list] PORT"\n')
    came = place.call("run")
    assert came.status == 0 and 'actions = ["-L,--list"]' in came.out, came.out
    stated = top + 'synopsis = "[-a,--all] PORT"\nactions = ["-L,--list"]\nhelp-complete = true\n'
    place.write("p.matrix.toml", stated)
    came = place.call("run")
    assert came.status == 0 and "acts alone" not in came.out, came.out
    assert [each["argv"] for each in place.cases() if each["kind"] == "action"] in ([["-L"], ["--list"]], [["--list"], ["-L"]])
