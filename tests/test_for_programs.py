"""What other programs read: JSON with a schema, SARIF, annotations; a hook, a manual page, completion in three shells."""

from __future__ import annotations

import json
import os
import re
import shutil
import subprocess
import sys
import tomllib
from pathlib import Path

import jsonschema
import pytest
from sarif_pydantic import Sarif

from keen_matrix.cli import COMMANDS
from keen_matrix.cli.documents import DOCUMENTS
from keen_matrix.cli.schema import SCHEMAS
from tests.conftest import COMMAND, Place

ROOT = Path(__file__).parent.parent
SPEC = """\
[program]
launch = "sh {here}/fare.sh"
[signature]
synopsis = "[-b] [-n N] ISLAND"
values.N = { type = "int", min = 1 }
[[matrix]]
name = "fares"
line = "[-b] [-n {n}] {island}"
axes.n = [1, 2, 3]
axes.island = ["Holm", "Ry"]
expect.exit = 0
expect.stdout.contains = "fare"
"""
PROGRAM = """\
while getopts bn: o; do case $o in b) b=1;; n) case $OPTARG in ''|*[!0-9]*|0) echo "bad $OPTARG" >&2; exit 2;; esac; n=$OPTARG;;
  *) exit 2;; esac; done
shift $((OPTIND - 1))
[ $# -eq 1 ] || { echo "one island" >&2; exit 2; }
[ "$b$n" = 13 ] && echo oops || echo "fare of $1"
"""


@pytest.fixture
def ran(place: Place) -> Place:
    place.write("fare.sh", PROGRAM)
    place.write("fare.matrix.toml", SPEC)
    assert place.call("run").status == 1
    return place


CALLS = {
    "places": ["places"], "lint": ["lint"], "doubt": ["doubt"], "suspects": ["suspects", "--confirm", "2"], "narrow": ["narrow"], "coverage": ["coverage"],
    "compare": ["compare", ".keen-matrix/last.jsonl", ".keen-matrix/last.jsonl"], "history": ["history"], "settle": ["settle"],
    "calls": ["try", "fare.matrix.toml", "--line", "{words}", "--axis", "words=Holm,-b"],
}  # fmt: skip


def test_every_document_is_called_here_and_has_a_schema() -> None:
    assert set(CALLS) == set(DOCUMENTS) <= {*COMMANDS, "calls"}
    assert {*DOCUMENTS, "journal", "case"} == set(SCHEMAS)


@pytest.mark.parametrize("name", CALLS)
def test_a_command_writes_one_document_of_its_schema(ran: Place, name: str) -> None:
    text = ran.call(*CALLS[name])
    came = ran.call(*CALLS[name], "--format", "json")
    assert came.status == text.status
    document = json.loads(came.out)
    assert (list(document)[:2], document["kind"], document["version"]) == (["kind", "version"], name, 1)
    schema = json.loads(ran.call("schema", "--of", name).out)
    jsonschema.Draft202012Validator.check_schema(schema)
    jsonschema.validate(document, schema)
    with pytest.raises(jsonschema.ValidationError):
        jsonschema.validate({**document, "version": 2}, schema)


def test_what_the_documents_say(ran: Place) -> None:
    def of(name: str, *more: str) -> dict:
        return json.loads(ran.call(*CALLS[name], *more, "--format", "json").out)

    failed = sum(each["verdict"] == "failed" for each in ran.cases())
    pools = of("suspects")["specs"][0]["pools"]
    assert sum(each["failing"] for each in pools) == failed
    pool = pools[0]
    assert any("-b" in feature for feature in pool["causes"][0]["suspect"]["features"])
    assert ["-b", "-n", "3"] in [each["narrowed"][:3] for each in of("narrow")["cases"]]
    id = ran.cases()[0]["id"]
    trend = json.loads(ran.call("history", id[:6], "--format", "json").out)
    assert [each["id"] for each in trend["trend"]] == [id]
    assert ran.call("history", "zzzzzz", "--format", "json").status == 3
    assert {each["spec"] for each in of("settle")["specs"]} == {"fare.matrix.toml"}


@pytest.mark.parametrize(("name", "lines"), [
    ("journal", lambda ran: (ran.directory / ".keen-matrix/last.jsonl").read_text()),
    ("case", lambda ran: ran.call("unfold", "--format", "json").out),
])
def test_lines_are_of_their_schema(ran: Place, name: str, lines) -> None:
    schema = jsonschema.Draft202012Validator(json.loads(ran.call("schema", "--of", name).out))
    written = lines(ran).splitlines()
    assert len(written) > 20
    for line in written:
        schema.validate(json.loads(line))


WRONG = '[program]\nlaunch = "true"\n[[matrix]]\nname = "a"\nlime = "x"\nline = "{q} ä"\n'


def test_problems_as_sarif_and_as_annotations(place: Place) -> None:
    place.write("a b.matrix.toml", WRONG)
    came = place.call("lint", "--format", "sarif")
    assert came.status == 1
    found = Sarif.model_validate_json(came.out)
    results = found.runs[0].results
    assert [each.level.value for each in results] == ["error", "error"]
    region = results[1].locations[0].physical_location
    assert (region.artifact_location.uri, region.region.start_line, region.region.start_column) == ("a%20b.matrix.toml", 6, 10)
    assert [each.rule_id for each in results] == ["unknown-key", "unknown-name"]
    rules = [each.id for each in found.runs[0].tool.driver.rules]
    assert [rules[each.rule_index] for each in results] == [each.rule_id for each in results]
    annotated = place.call("lint", "--format", "annotations").out
    assert annotated.splitlines()[0] == (
        '::error file=a b.matrix.toml,line=5,col=1,title=keen-matrix lint::unknown key "lime" in [matrix[1]]'
    )
    place.write("a b.matrix.toml", WRONG.replace('lime = "x"\n', "").replace("{q}", "q"))
    sound = place.call("lint", "--format", "sarif")
    assert (sound.status, Sarif.model_validate_json(sound.out).runs[0].results) == (0, [])


def test_the_hook_lints_the_specs_that_it_is_given(place: Place) -> None:
    text = (ROOT / ".pre-commit-hooks.yaml").read_text()
    entry = re.search(r"^  entry: (.*)$", text, re.MULTILINE)
    pattern = re.search(r"^  files: (.*)$", text, re.MULTILINE)
    assert entry is not None and pattern is not None
    assert re.search(pattern[1], "specs/fare.matrix.toml") and not re.search(pattern[1], "fare.toml")
    place.write("a.matrix.toml", WRONG)
    assert place.call(*entry[1].split()[1:], "a.matrix.toml").status == 1


def test_the_manual_page_is_installed_and_has_every_command() -> None:
    text = (ROOT / "docs/keen-matrix.1").read_text().replace("\\-", "-")
    assert all(f"keen-matrix {name}'" in text for name in COMMANDS)
    project = tomllib.loads((ROOT / "pyproject.toml").read_text())
    shared = project["tool"]["hatch"]["build"]["targets"]["wheel"]["shared-data"]
    assert shared == {"docs/keen-matrix.1": "share/man/man1/keen-matrix.1"}
    if shutil.which("mandoc"):
        done = subprocess.run(["mandoc", "-T", "lint", "-W", "error", str(ROOT / "docs/keen-matrix.1")], capture_output=True, check=False)
        assert done.returncode == 0, done.stdout


SHELLS = {
    "bash": 'eval "$(register-python-argcomplete keen-matrix)"; COMP_LINE="$1"; COMP_POINT=${#1}; COMP_TYPE=9; read -ra COMP_WORDS <<< "$1"; '
            '_python_argcomplete keen-matrix; printf "%s\\n" "${COMPREPLY[@]}"',
    "fish": 'register-python-argcomplete --shell fish keen-matrix | source; complete -C $argv[1]',
    "zsh": """zmodload zsh/zpty; zpty z zsh -f -i
zpty -w z 'PS1="> "; autoload -U compinit; compinit -u -D; autoload -U is-at-least; eval "$(register-python-argcomplete --shell zsh keen-matrix)"; echo REA""DY'
zpty -r z out '*READY*'; zpty -n -w z "$1"$'\\t'; sleep ${WAIT:-4}; zpty -n -w z $'\\C-c'; sleep 1
while zpty -r -t z line; do print -r -- "$line"; done""",
}


@pytest.mark.parametrize("shell", SHELLS)
@pytest.mark.parametrize(("typed", "completed"), [("keen-matrix repl", "replay"), ("keen-matrix run --only far", "fares")])
def test_a_shell_completes(ran: Place, shell: str, typed: str, completed: str) -> None:
    if not shutil.which(shell):
        pytest.skip(f"no {shell} here")
    words = [shell, *(["-f"] if shell == "zsh" else []), "-c", SHELLS[shell], *([shell] if shell != "fish" else []), typed]
    path = f"{Path(COMMAND).parent}{os.pathsep}{os.environ['PATH']}"
    done = subprocess.run(
        words, cwd=ran.directory, env={**os.environ, "PATH": path, "TERM": "dumb"}, capture_output=True, text=True, timeout=60, check=False,
        stdin=subprocess.DEVNULL,
    )  # fmt: skip
    assert completed in done.stdout, done


def test_documents_are_no_load_for_others() -> None:
    script = "import sys; from keen_matrix.cli import main; main(['lint', '--help'])"
    done = subprocess.run([sys.executable, "-X", "importtime", "-c", script], capture_output=True, text=True, check=False)
    assert "keen_matrix.cli.documents" not in done.stderr
