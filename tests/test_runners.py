"""A program that is started through a runner or an interpreter: which words are its own, and its own exit and streams."""

from __future__ import annotations

import json
import os
import re
import shlex
import shutil
from pathlib import Path

import pytest

from keen_matrix.core.launch.runners import RUNNER_NAMES, hidden_status, runners, started_by
from tests.conftest import Place

HERE = "/office"
#: What is typed → the program's own words, and what is started (`/office` is where it is typed, `/out` where builds go).
TYPED = {
    "./fare Skerry -n 2": ("Skerry -n 2", "/office/fare"),
    "fare Skerry": ("Skerry", "fare"),
    "python3 fare.py Skerry": ("Skerry", "python3 /office/fare.py"),
    "python3 -u -W ignore fare.py -x": ("-x", "python3 -u -W ignore /office/fare.py"),
    "python3 -m ferry Skerry": ("Skerry", "python3 -m ferry"),
    "python3 -c 'print(1)' a -h": ("a -h", "python3 -c 'print(1)'"),
    "node -r ./lib/a.js fare.js a": ("a", "node -r /office/lib/a.js /office/fare.js"),
    "node -e 1 -- --help": ("--help", "node -e 1 --"),
    "node . a": ("a", "node /office"),
    "perl -Ilib -w fare.pl a": ("a", "perl -I/office/lib -w /office/fare.pl"),
    "perl -lne print a": ("a", "perl -lne print --"),
    "ruby -I lib fare.rb": ("", "ruby -I /office/lib /office/fare.rb"),
    "php -d a=b -f fare.php x": ("x", "php -d a=b -f /office/fare.php"),
    "sh -c 'echo $1' sh a": ("a", "sh -c 'echo $1' sh"),
    "bash -c '. lib/a.sh; f $@'": ("", "bash -c '. /office/lib/a.sh; f $@' bash"),
    "bash -o pipefail fare.sh a": ("a", "bash -o pipefail /office/fare.sh"),
    "awk -F , -f fare.awk a -x": ("a -x", "awk -F , -f /office/fare.awk --"),
    "awk -v n=1 '{ print }' -- a": ("-- a", "awk -v n=1 '{ print }'"),
    "env -u A B=1 nice -n 5 timeout 3 ./fare a": ("a", "env -u A B=1 nice -n 5 timeout 3 /office/fare"),
    "env": ("", "env"),
    "timeout -k 1 2 python3 fare.py a": ("a", "timeout -k 1 2 python3 /office/fare.py"),
    "java -Xmx9m -cp lib:a.jar office.Fare a": ("a", "java -Xmx9m -cp /office/lib:/office/a.jar office.Fare"),
    "java -jar a.jar a": ("a", "java -jar /office/a.jar"),
    "java office.Fare a": ("a", "java -cp /office office.Fare"),
    "java Fare.java a": ("a", "java -cp /out/Fare.classes office.Fare"),
    "go run . Skerry": ("Skerry", "/out/ferry"),
    "go run -race -tags x ./cmd/fare -n 2": ("-n 2", "/out/fare"),
    "go run a.go b.go c": ("c", "/out/a"),
    "cargo run a": ("a", "/office/target/debug/rate"),
    "cargo run --release --bin fare -- -n 2": ("-n 2", "/office/target/release/fare"),
    "cargo +stable run -q -- a": ("a", "/office/target/debug/rate"),
    "npm start a": ("a", "node /office/fare.js"),
    "npm run -s fare -- --help": ("--help", "node /office/fare.js --fast"),
    "npm run fare a --silent": ("a", "node /office/fare.js --fast"),
    "npm --prefix . start": ("", "node /office/fare.js"),
    "yarn fare -x": ("-x", "node /office/fare.js --fast"),
    "pnpm run fare a": ("a", "node /office/fare.js --fast"),
    "npx office a": ("a", "node /office/fare.js"),
    "npm exec -- office -x": ("-x", "node /office/fare.js"),
    "npm run shell a": ("a", "sh -c 'cd \"$0\" && PATH=/office/node_modules/.bin:\"$PATH\" && A=1 node fare.js \"$@\"' /office"),
    "uv run fare a": ("a", "/office/.venv/bin/fare"),
    "poetry run python fare.py a": ("a", "/office/.venv/bin/python /office/fare.py"),
    "uv run fare.py a": ("a", "/office/.venv/bin/python /office/fare.py"),
    "dotnet run --project . -- a": ("a", "dotnet /out/Fare/Fare.dll"),
    "./gradlew -q run --args='a \"b c\"'": ("a 'b c'", "/office/build/install/ferry/bin/ferry"),
    "make -s run ARGS='a \"b c\"'": ("a 'b c'", "/office/fare --fast"),
    "make python": ("", "python3 /office/fare.py"),
    "make piped": ("", "sh -c 'cd \"$0\" && ./fare \"$@\" | cat' /office"),
}  # fmt: skip
FILES = {
    "package.json": json.dumps({
        "name": "office", "bin": "fare.js",
        "scripts": {"start": "node fare.js", "fare": "node ./fare.js --fast", "shell": "A=1 node fare.js"},
    }),
    "Cargo.toml": '[package]\nname = "rate"\n', "go.mod": "module example.org/x/ferry\n", "pyproject.toml": "", "Fare.csproj": "",
    "settings.gradle": "rootProject.name = 'ferry'\n", "Fare.java": "package office;\nclass Fare {}\n", "lib/a.js": "", "lib/a.sh": "",
    "Makefile": "fare: fare.c\n\tcc -o fare fare.c\nrun: fare\n\t@./fare --fast $(ARGS)\npython:\n\tpython3 fare.py $(args)\npiped:\n\t./fare $(ARGS) | cat\n",
    ".venv/bin/fare": "", ".venv/bin/python": "", "cmd/fare/main.go": "", "ferry.py": "", "fare.c": "",
}  # fmt: skip
for _name in ("fare", "fare.py", "fare.js", "fare.pl", "fare.rb", "fare.php", "fare.sh", "fare.awk", "a.jar", "a.go", "b.go"):
    FILES[_name] = ""


@pytest.fixture
def office(tmp_path: Path) -> Path:
    for name, text in FILES.items():
        (tmp_path / name).parent.mkdir(parents=True, exist_ok=True)
        (tmp_path / name).write_text(text)
    return tmp_path


@pytest.mark.parametrize("typed", TYPED)
def test_a_program_is_told_from_its_words(office: Path, typed: str) -> None:
    if typed.startswith("make") and not shutil.which("make"):
        pytest.skip("make is not installed")
    given, launch = TYPED[typed]
    found = started_by(shlex.split(typed), str(office), "/out")
    assert list(found.given) == shlex.split(given)
    assert shlex.join(found.launch).replace(str(office), HERE) == shlex.join(shlex.split(launch))
    assert not found.is_through and list(found.words) == shlex.split(typed)[: len(found.words)]


def test_every_runner_is_in_the_table() -> None:
    named = {each.name for each in runners()}
    assert all(re.fullmatch(RUNNER_NAMES, each.name.split()[0]) for each in runners())
    seen = {found for found in named if any(typed.split()[0].removeprefix("./").startswith(found.split()[0]) for typed in TYPED)}
    assert named - seen == {"mvn exec", "npx"} - seen


def test_what_a_runner_builds_comes_first(office: Path) -> None:
    builds = {
        "go run -tags x .": "go build -tags x -o /out/ferry .", "cargo run -r -- a": "cargo build --quiet -r",
        "java Fare.java": f"javac -d /out/Fare.classes {office}/Fare.java", "make run ARGS=": "sh -c 'set -e\ncc -o fare fare.c'",
        "./gradlew run": f"{office}/gradlew -q installDist", "npm start": "",
    }  # fmt: skip
    (office / "gradlew").write_text("")
    for typed, build in builds.items():
        assert shlex.join(started_by(shlex.split(typed), str(office), "/out").build) == build, typed


def test_an_exit_that_a_runner_hides_is_read(office: Path) -> None:
    (office / "pom.xml").write_text("")
    found = started_by(["mvn", "exec:java", "-Dexec.args=a 'b c'"], str(office), "/out")
    assert found.is_through and found.given == ("a", "b c")
    for name, said, status in (
        ("go run", "fare: bad\nexit status 3\n", 3), ("make", "make: *** [Makefile:3: run] Error 4\n", 4), ("make", "all fine\n", None),
        ("gradle run", "> Process 'command 'java'' finished with non-zero exit value 5\n", 5),
    ):  # fmt: skip
        hides = next(each.hides for each in runners() if each.name == name)
        from keen_matrix.core.structs import replace

        assert hidden_status(replace(found, hides=hides), "", said) == status


PROGRAM = 'import sys\nif len(sys.argv) < 2: sys.exit("fare: no port")\nprint(*sys.argv[1:], sep="|")\nsys.exit(3 if sys.argv[1] == "bad" else 0)\n'


def test_a_module_is_started_in_a_directory_of_its_own(place: Place) -> None:
    place.write("ferry/__main__.py", PROGRAM)
    came = place.call("try", "--calls", "-", "--new", "a.matrix.toml", "--", "python3", "-m", "ferry", stdin="Skerry 'a b'\nbad\n\n")
    assert "Skerry|a b" in came.out, came.err
    assert 'env.PYTHONPATH = "{here}"' in (place.directory / "a.matrix.toml").read_text()
    shutil.copytree(place.directory, place.directory.parent / "moved", ignore=shutil.ignore_patterns(".keen-matrix"))
    assert "all passed" in Place(place.directory.parent / "moved").call("run").out


@pytest.mark.skipif(not shutil.which("make"), reason="make is not installed")
def test_a_recipe_has_the_programs_own_exit_and_words(place: Place) -> None:
    place.write("fare.py", PROGRAM)
    place.write("Makefile", "run: made\n\t@python3 fare.py $(ARGS)\nmade:\n\techo built > made\n")
    came = place.call("try", "--calls", "-", "--format", "json", "--", "make", "run", stdin="\"a b\" '$HOME' \"it's\"\nbad\n")
    first, second = json.loads(came.out)["calls"]
    assert (first["stdout"], second["exit"]) == ("a b|$HOME|it's\n", 3) and "make: built once" in came.err
    place.write("t.matrix.toml", '[program]\nlaunch = "make -s run"\n[[matrix]]\nname = "m"\nline = "bad"\nexpect.exit = 3\n')
    (place.directory / "made").unlink()
    assert "1 case: all passed" in place.call("run").out and (place.directory / "made").exists()


@pytest.mark.skipif(not shutil.which("go"), reason="go is not installed")
def test_a_go_program_is_built_once_and_lint_says_how(place: Place) -> None:
    place.write("go.mod", "module ferry\ngo 1.19\n")
    place.write("main.go", 'package main\nimport "os"\nfunc main() { os.Stderr.WriteString("fare: bad\\n"); os.Exit(3) }\n')
    place.write("t.matrix.toml", '[program]\nlaunch = "go run ."\n[[matrix]]\nname = "m"\nline = "x"\nexpect = { exit = 3, stderr = "fare: bad" }\n')
    home = {"HOME": os.environ.get("HOME", "/root")}
    assert "1 case: all passed" in place.call("run", env=home, timeout=120).out
    came = place.call("lint")
    assert "go run is a runner" in came.out and 'build = "go build -o {here}/.keen-matrix/build/ferry ."' in came.out
    (record,) = place.cases()
    assert "fare: bad" in place.call("replay", record["id"], env=home).out


def test_an_interpreters_own_help_is_not_the_programs(place: Place) -> None:
    place.write("fare.awk", 'BEGIN { if (ARGV[1] == "--help") print "usage: fare PORT"; else exit 2 }\n')
    came = place.call("try", "--", "awk", "-f", "fare.awk", "--help")
    assert "usage: fare PORT" in came.out
    came = place.call("draft", "--", "awk", "-f", "fare.awk")
    assert came.status == 0 and 'launch = "awk -f {here}/fare.awk --"' in came.out and "PORT" in came.out


def test_a_relative_path_beside_a_spec_that_runs_in_place(place: Place) -> None:
    place.write("fare", "#!/bin/sh\necho $1\n").chmod(0o755)
    place.write("t.matrix.toml", '[program]\nlaunch = "./fare"\ndirectory = "spec"\n[[matrix]]\nname = "m"\nline = "x"\nexpect.stdout = "x"\n')
    assert "1 case: all passed" in place.call("run").out


def test_where_it_ran_is_said_when_it_fails(place: Place) -> None:
    place.write("fare.sh", "cat ports.txt\n")
    place.write("ports.txt", "Holm\n")
    assert "it ran in an empty directory, with an empty HOME; --in-place" in place.call("try", "--", "sh", "fare.sh").err
    came = place.call("try", "--in-place", "--", "sh", "fare.sh")
    assert "Holm" in came.out and "empty directory" not in came.err
