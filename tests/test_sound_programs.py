"""A program that is sound runs green as it is drafted and settled: nothing is edited, and nothing is told as a fault of its."""

from __future__ import annotations

import pytest

from tests.conftest import Place

FLAGS = """\
import argparse
p = argparse.ArgumentParser(prog="fare")
g = p.add_mutually_exclusive_group()
g.add_argument("--tide", action=argparse.BooleanOptionalAction)
g.add_argument("--depth", nargs="?", const="auto")
p.add_argument("--kind", nargs="+", required=True)
p.add_argument("count", nargs=2, metavar="COUNT")
p.add_argument("name", nargs="?", metavar="NAME")
print(sorted(vars(p.parse_args()).items()))
"""
COMMANDS = """\
import argparse
p = argparse.ArgumentParser(prog="fare")
p.add_argument("-r", "--route", required=True)
s = p.add_subparsers(dest="command", required=True)
q = s.add_parser("add")
q.add_argument("island", type=int)
q = s.add_parser("list")
q.add_argument("island", choices=["Voe", "Holm"], metavar="island")
q.add_argument("names", nargs="*")
print(sorted(vars(p.parse_args()).items()))
"""


@pytest.mark.parametrize("program", [FLAGS, COMMANDS], ids=["flags", "commands"])
@pytest.mark.long
def test_it_runs_green_as_it_is_drafted(place: Place, program: str) -> None:
    place.write("fare.py", program)
    came = place.call("draft", "--settle", "-o", "fare.matrix.toml", "--", "python3", "-S", "fare.py", timeout=240)
    assert came.status == 0 and "\ndefect" not in came.out + came.err, came.out + came.err
    ran = place.call("run", timeout=240)
    assert ran.status == 0 and "not settled" not in ran.out, ran.out
    verdicts = [each["verdict"] for each in place.cases()]
    assert set(verdicts) == {"passed"} and len(verdicts) > 40
