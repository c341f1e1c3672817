"""Drafts from a program's own parser: what libraries know is in the signature as they know it, and nothing else runs."""

from __future__ import annotations

import json
import shutil
import stat
import sys
import textwrap
from pathlib import Path

import jsonschema
import pytest

from keen_matrix.core.launch.workers.engine import WorkerPool
from keen_matrix.core.runs.grounding import asking
from keen_matrix.core.signature.drafting import Draft, checked
from keen_matrix.core.signature.parsers.described import (
    DescribedParser,
    DescriptionFault,
    description_schema,
    read_description,
)
from keen_matrix.core.signature.parsers.translated import translated
from tests.conftest import Place

HEADS = {
    "argparse": "import argparse, datetime, pathlib\nfrom decimal import Decimal\np = argparse.ArgumentParser()\nadd = p.add_argument\n",
    "optparse": "import optparse\np = optparse.OptionParser(usage='%prog [options] FILE [NAME...]')\nadd = p.add_option\n",
    "click": "import click\n@click.command()\n",
    "typer": "import typer\nfrom enum import Enum\nfrom pathlib import Path\nclass Port(str, Enum):\n    A='Skerry'; B='Holm'\n",
}
TAILS = {
    "argparse": "\np.parse_args()", "optparse": "\np.parse_args()",
    "click": "\ndef main(**given): pass\nmain()", "typer": ": pass\ntyper.run(main)",
}  # fmt: skip
CASES = [
    # library, what the program says of its words, synopsis, types
    ("argparse", "add('--riders', '-n', type=int, default=3)", "[--riders,-n RIDERS]", {"RIDERS": {"type": "int", "default": 3}}),
    ("argparse", "add('--day', type=datetime.date.fromisoformat)", "[--day DAY]", {"DAY": {"type": "date"}}),
    ("argparse", "add('--price', type=Decimal, required=True)", "--price PRICE", {"PRICE": {"type": "float"}}),
    ("argparse", "add('port', choices=['Skerry', 'Holm'])", "<port>", {"port": {"type": "choice", "of": ["Skerry", "Holm"]}}),
    ("argparse", "add('level', type=int, choices=range(1, 6))", "<level>", {"level": {"type": "int", "min": 1, "max": 5}}),
    ("argparse", "add('FROM'); add('TO', nargs='?'); add('MORE', nargs='*')", "FROM [TO] [MORE...]", {}),
    ("argparse", "add('FILE', nargs='+', type=argparse.FileType('r'))", "FILE...", {"FILE": {"type": "file"}}),
    ("argparse", "add('PAIR', nargs=2)", "PAIR...", {"PAIR": {"count": 2}}),
    ("argparse", "add('--tags', nargs='+'); add('--any', nargs='*')", "[--tags TAGS...] [--any [ANY...]]", {}),
    ("argparse", "add('--size', nargs=2, metavar=('W', 'H'), required=True, type=int)", "(--size W H)",
     {"W": {"type": "int"}, "H": {"type": "int"}}),
    ("argparse", "add('--color', nargs='?', const='always')", "[--color[=COLOR]]", {}),
    ("argparse", "add('-v', action='count'); add('--add', action='append', metavar='NAME')", "[-v...] [--add... NAME]", {}),
    ("argparse", "add('--loud', action=argparse.BooleanOptionalAction)", "[--loud | --no-loud]...", {}),
    ("argparse", "g = p.add_mutually_exclusive_group()\ng.add_argument('--loud', action=argparse.BooleanOptionalAction)\ng.add_argument('-b')",
     "[(--loud | --no-loud)... | -b B]", {}),
    ("argparse", "add('-N', metavar='N', type=int); add('-M', metavar='N', type=float)", "[-N N] [-M M]",
     {"N": {"type": "int"}, "M": {"type": "float"}}),
    ("argparse", "g = p.add_mutually_exclusive_group(required=True)\ng.add_argument('-a', action='store_true')\ng.add_argument('-b')",
     "(-a | -b B)", {}),
    ("argparse", "add('--out', type=pathlib.Path)", "[--out OUT]", {"OUT": {"type": "path"}}),
    ("optparse", "add('-q', '--quiet', action='store_true'); add('-k', type='choice', choices=['a', 'b'])", "[-q,--quiet] [-k K] FILE [NAME...]",
     {"K": {"type": "choice", "of": ["a", "b"]}, "FILE": {"type": "file"}}),
    ("click", "@click.option('--riders', '-n', type=click.IntRange(1, 60), default=2)", "[--riders,-n RIDERS]",
     {"RIDERS": {"type": "int", "min": 1, "max": 60, "default": 2}}),
    ("click", "@click.option('--loud/--quiet')\n@click.option('-v', count=True)", "[--loud | --quiet]... [-v...]", {}),
    ("click", "@click.argument('src', metavar='SRC ...', nargs=-1, type=click.Path(exists=True, dir_okay=False))", "[SRC...]",
     {"SRC": {"type": "file"}}),
    ("click", "@click.argument('src', nargs=-1, required=True)", "SRC...", {}),
    ("click", "@click.argument('pair', nargs=2)", "PAIR...", {"PAIR": {"count": 2}}),
    ("click", "@click.argument('src')\n@click.argument('to', required=False)", "SRC [TO]", {}),
    ("click", "@click.argument('src', type=click.Path(exists=True))\n@click.argument('rest', nargs=-1)", "SRC [REST...]",
     {"SRC": {"type": "file", "directories": True}}),
    ("click", "@click.option('--kind', type=click.Choice(['a', 'b'], case_sensitive=False), required=True)", "--kind KIND",
     {"KIND": {"type": "choice", "of": ["a", "b"], "case": "ignore"}}),
    ("click", "@click.option('--below', type=click.IntRange(max=9, max_open=True))", "[--below BELOW]", {"BELOW": {"type": "int", "max": 8}}),
    ("typer", "def main(port: Port, riders: int = typer.Option(1, min=1, max=60), bike: bool = False)", "[--riders RIDERS] [--bike | --no-bike]... PORT",
     {"RIDERS": {"type": "int", "min": 1, "max": 60, "default": 1}, "PORT": {"type": "choice", "of": ["Skerry", "Holm"]}}),
]  # fmt: skip


def parser_of(program: list[str]) -> DescribedParser | None:
    with WorkerPool(1) as pool:
        return asking.parser_of(pool, asking.AskedProgram(tuple(program)))


def drafted(directory: Path, text: str) -> Draft:
    path = directory / "ferry.py"
    path.write_text(text)
    described = parser_of([sys.executable, str(path)])
    assert described is not None
    return translated(described, ["ferry.py"])


@pytest.mark.parametrize(("library", "text", "synopsis", "values"), CASES)
def test_a_signature_is_the_parsers_own(
    tmp_path: Path, library: str, text: str, synopsis: str, values: dict[str, object]
) -> None:
    draft = drafted(tmp_path, HEADS[library] + text + TAILS[library])
    assert draft.synopsis == [synopsis] and draft.values == values and draft.reader == library
    assert checked(draft).forms and draft.sure == {name for name in values if name != "FILE" or library != "optparse"}


COMMANDS = """
import argparse
p = argparse.ArgumentParser(allow_abbrev=False)
p.add_argument("-V", "--version", action="version", version="1")
p.add_argument("--level", type=int)
p.add_argument("-q", action="store_true")
below = p.add_subparsers(required=True)
book = below.add_parser("book", aliases=["b"])
book.add_argument("--level", type=float)
book.add_argument("NAME")
below.add_parser("list")
p.parse_args()
"""


def test_subcommands_are_forms_and_an_option_of_theirs_is_their_own(tmp_path: Path) -> None:
    draft = drafted(tmp_path, COMMANDS)
    assert draft.synopsis == ["[-q] (book | b) [--level LEVEL] NAME", "[--level LEVEL-2] [-q] list"]
    assert draft.actions == ["-V,--version"] and draft.switches == {"abbreviations": False}
    signature = checked(draft)
    for words, status in [
        (["b", "--level", "1.5", "Ada"], "accepted"), (["book", "Ada"], "accepted"), (["--level", "2", "list"], "accepted"),
        (["book"], "refused"), (["lend", "Ada"], "refused"), (["list", "--level", "2"], "unspecified"), ([], "refused"),
    ]:  # fmt: skip
        assert signature.judge(words).status == status, words


AFTERWARDS = """
import argparse, atexit, os
atexit.register(lambda: open({mark!r}, "w"))
given = argparse.ArgumentParser().parse_args()
open({mark!r}, "w")
"""


def test_nothing_that_comes_after_parsing_runs(tmp_path: Path) -> None:
    mark = tmp_path / "ran"
    assert drafted(tmp_path, AFTERWARDS.format(mark=str(mark))).reader == "argparse"
    assert not mark.exists()


@pytest.mark.parametrize("way", ["file", "script", "module"])
def test_a_program_is_found_by_every_way_it_is_started(tmp_path: Path, way: str, monkeypatch: pytest.MonkeyPatch) -> None:
    text = HEADS["argparse"] + "import helper\nadd(helper.NAME)" + TAILS["argparse"]
    path = tmp_path / "ferry.py"
    path.write_text(f"#!{sys.executable}\n{text}")
    (tmp_path / "helper.py").write_text("NAME = 'PORT'")
    path.chmod(path.stat().st_mode | stat.S_IXUSR)
    words = {"file": [sys.executable, "-u", str(path)], "script": [str(path)], "module": [sys.executable, "-m", "calendar"]}[way]
    described = parser_of(words)
    assert described is not None and described.reader == "argparse"
    assert way == "module" or [each.name for each in described.operands] == ["PORT"]


@pytest.mark.parametrize(
    "text",
    ["raise SystemExit(3)", "import time\ntime.sleep(60)", "import sys\nprint('usage: ferry PORT')", "import os\nos.kill(os.getpid(), 9)",
     "import sys\nopen(sys.argv[0] + '.json', 'w').write('x' * 9)"],
)  # fmt: skip
def test_a_program_that_makes_no_parser_is_asked_for_its_help(tmp_path: Path, text: str, monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setattr("keen_matrix.core.runs.grounding.asking.HELP_SECONDS", 1.0)
    path = tmp_path / "ferry.py"
    path.write_text(text)
    assert parser_of([sys.executable, str(path)]) is None


def test_a_program_that_is_no_python_has_no_parser_to_take(tmp_path: Path) -> None:
    assert parser_of(["sh", "-c", "true"]) is None and parser_of([str(tmp_path / "none")]) is None
    assert shutil.which("sh")


DESCRIBED = {
    "reader": "go-flag",
    "options": [{"spellings": ["-n", "--riders"], "values": ["N"], "value": {"type": "int", "min": 1}, "required": True},
                {"spellings": ["-q"]}, {"spellings": ["-v"]}],
    "operands": [{"name": "port", "most": None}],
    "exclusive": [{"of": ["-q", "-v"]}],
}  # fmt: skip


def test_a_description_is_drafted_without_a_launch(place: Place) -> None:
    place.write("ferry.json", json.dumps(DESCRIBED))
    came = place.call("draft", "--from", "ferry.json", "-o", "d.matrix.toml", "--", "./no-such-program")
    assert came.status == 0, came.err
    text = (place.directory / "d.matrix.toml").read_text()
    assert 'synopsis = "-n,--riders N [-q | -v] <port>..."' in text and 'reader = "go-flag"' in text
    assert place.call("lint", "d.matrix.toml").status == 0
    assert place.call("draft", "--from", "-", "--", "x", stdin=json.dumps(DESCRIBED)).out.count("go-flag") == 1
    jsonschema.validate(DESCRIBED, json.loads(place.call("schema", "--of", "parser").out))


@pytest.mark.parametrize(
    ("text", "told"),
    [
        ("{\n  oops", "ferry.json:2:3: this is not JSON"),
        ('{"option": []}', 'option: unknown key; did you mean "options"?'),
        ('{"options": [{"spellings": ["n"]}]}', "options[0].spellings[0]: string should match pattern '^-'"),
        ('{"options": [{"spellings": ["-n"], "least": -1}], "help": 3}', "options[0].least: input should be greater"),
        ('{"reader": "mine"}', "reader: input should be 'argparse'"),
    ],
)
def test_a_wrong_description_is_told_with_its_place(text: str, told: str) -> None:
    with pytest.raises(DescriptionFault) as fault:
        read_description(text, "ferry.json")
    assert (told in str(fault.value) and "schema --of parser" in str(fault.value)) or "not JSON" in told


def test_the_schema_is_a_schema() -> None:
    jsonschema.Draft202012Validator.check_schema(description_schema())


def test_a_draft_names_the_reader_and_one_option_a_line(place: Place) -> None:
    options = "\n".join(f"add('--option-{number}', metavar='NAME')" for number in range(9))
    place.write("ferry.py", textwrap.dedent(HEADS["argparse"]) + options + TAILS["argparse"])
    came = place.call("draft", "-o", "d.matrix.toml", "--", sys.executable, "ferry.py")
    text = (place.directory / "d.matrix.toml").read_text()
    assert came.status == 0 and 'reader = "argparse"' in text and "\n  [--option-0 NAME]\n  [--option-1 NAME]\n" in text
    assert place.call("lint", "d.matrix.toml").status == 0
    only = place.call("draft", "--help-only", "--", sys.executable, "ferry.py").out
    assert 'reader = "argparse"   # guess' in only and "--option-8 OPTION_8" in only


def test_words_behind_a_program_lead_to_the_parser_of_a_subcommand(tmp_path: Path) -> None:
    path = tmp_path / "ferry.py"
    path.write_text(COMMANDS)
    for word in ("book", "b"):
        described = parser_of([sys.executable, str(path), word])
        assert described is not None and described.reader == "argparse" and described.help
        assert translated(described, ["ferry.py", word]).synopsis == ["[--level LEVEL] NAME"]
        assert described.abbreviations is False, "as the whole parser has it"
    assert parser_of([sys.executable, str(path), "none"]) is None


def test_how_many_words_a_name_has_is_known_and_its_type_a_guess(tmp_path: Path) -> None:
    path = tmp_path / "ferry.py"
    text = "COUNT', nargs=2); add('--pair', nargs=2); add('NAME', type=int, nargs=2); add('--name', metavar='NAME', type=int)"
    path.write_text(HEADS["argparse"] + f"add('{text}" + TAILS["argparse"])
    described = parser_of([sys.executable, str(path)])
    assert described is not None
    draft = translated(described, ["ferry.py"])
    assert draft.synopsis == ["[--pair PAIR] [--name NAME] COUNT... NAME-2..."], "of another number of words it is another NAME"
    assert draft.values == {"COUNT": {"type": "int", "count": 2}, "PAIR": {"count": 2}, "NAME": {"type": "int"}, "NAME-2": {"type": "int", "count": 2}}
    assert draft.sure == {"PAIR", "NAME", "NAME-2"}


HELP_NAMES = """
import click
@click.group(context_settings={"help_option_names": ["-h", "--help"]})
def ferry(): pass
@ferry.command()
@click.argument("port")
def book(port): pass
ferry()
"""


def test_names_of_help_are_those_of_the_context(tmp_path: Path) -> None:
    path = tmp_path / "ferry.py"
    path.write_text(HELP_NAMES)
    for words in ([], ["book"]):
        described = parser_of([sys.executable, str(path), *words])
        assert described is not None and described.help == ["-h", "--help"]


HIDES = """
    import argparse
    parser = argparse.ArgumentParser()
    parser.add_argument("--shown"); parser.add_argument("--hidden", help=argparse.SUPPRESS); parser.add_argument("port")
    parser.parse_args()
    """
CLICKS = """
    import click
    @click.group()
    def cli(): pass
    @cli.command(context_settings=dict(ignore_unknown_options=True))
    @click.argument("args", nargs=-1, type=click.UNPROCESSED)
    @click.help_option("-h", "--help")
    def run(args): print(args)
    @cli.command()
    @click.option("--deep", hidden=True)
    @click.option("--name")
    @click.help_option("-h", "--help")
    def add(name, deep): print(name)
    cli()
    """


def test_options_that_a_parser_hides_are_no_promise(place: Place) -> None:
    place.write("p.py", HIDES)
    came = place.call("draft", "--", "python3", "p.py")
    assert "--shown" in came.out and "--hidden" not in came.out


def test_what_one_subcommand_does_with_unknown_options_is_not_said_of_all(place: Place) -> None:
    pytest.importorskip("click")
    place.write("p.py", CLICKS)
    came = place.call("draft", "--", "python3", "p.py")
    assert 'unknown-options = "open"' in came.out and " run" in came.out
    assert "-h" in came.out.partition("help = [")[2].partition("]")[0] and "--deep" not in came.out
