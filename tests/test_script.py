"""A case written as a shell script does what the case did: the same words, surroundings, output and exit, by sh alone."""

from __future__ import annotations

import os
import subprocess
import sys
from pathlib import Path
from typing import Any

import pytest

from tests.conftest import Place

PROGRAM = r"""
import os, sys
print("words", sys.argv[1:])
print("here", sorted(os.listdir(".")), os.path.basename(os.getcwd()))
print("env", {k: v for k, v in sorted(os.environ.items()) if k not in ("HOME", "TMPDIR", "PWD", "OLDPWD", "SHLVL", "_", "LC_CTYPE")})
print("home", os.listdir(os.environ["HOME"]), os.listdir(os.environ["TMPDIR"]))
for name in sorted(os.listdir(".")):
    what = os.readlink(name) if os.path.islink(name) else ""
    if os.path.isfile(name):
        print(name, oct(os.stat(name).st_mode & 0o777), open(name, "rb").read(), what)
    else:
        print(name, sorted(os.listdir(name)), what)
try:
    print("fed", sys.stdin.read() if sys.stdin else "closed")
except OSError as error:
    print("fed", error.strerror)
open("log", "a").write("was here\n")
print("err", file=sys.stderr)
sys.exit(int(os.environ.get("CODE", "0")))
"""
WAYS = {
    "bare": 'line = "a"',
    "quoted words": r"""line = ["a b", "it's", "", "$HOME", "*", "-n", "x\ny", "é"]""",
    "axes": 'line = "{w}"\naxes.w = ["one", "two words"]\nstdin = "fed {w}\\n"\nenv.V = "v {w}"\nfiles."{w}.txt" = "of {w}"',
    "a text": 'line = "a"\nstdin = "two\\nlines %s \\\\ \'quoted\'"',
    "a file": 'line = "a"\nstdin = { file = "fed.txt" }',
    "closed": 'line = "a"\nstdin = { closed = true }',
    "a command": 'line = "a"\nstdin = { command = "printf %s one" }',
    "a chain": 'line = "a"\nstdin = { command = ["printf %s one", "tr o 0"] }',
    "unset": 'line = "a"\nenv.TZ = false\nenv.LC_ALL = "C"',
    "exits": 'line = "a"\nenv.CODE = "3"',
    "files": """line = "a"
        [matrix.files]
        "t.txt" = "a text"
        "run.sh" = { text = "#!/bin/sh\\n", mode = "755" }
        "b.bin" = { bytes = "base64:AAH/" }
        "copy" = { copy = "directory" }
        "one" = { copy = "fed.txt" }
        "empty" = { dir = true }
        "deep/er/x" = "x"
        "link" = { link = "t.txt" }""",
    "steps": 'steps = [ { line = "first", env.CODE = "4" }, { line = "second", stdin = "for it" }, { line = "third", env.CODE = "5" } ]',
}


@pytest.mark.parametrize("way", WAYS)
def test_a_script_does_what_the_case_did(place: Place, tmp_path: Path, way: str) -> None:
    place.write("p.py", PROGRAM)
    place.write("fed.txt", "from a file\n")
    place.write("directory/in/it.txt", "deep\n")
    place.write("t.matrix.toml", f"""
        [program]
        launch = "{sys.executable} {{here}}/p.py"
        env.CODE = "0"
        [[matrix]]
        name = "m"
        {WAYS[way]}
        """)  # fmt: skip
    place.call("run")
    cases = place.cases()
    assert len(cases) == (2 if way == "axes" else 1)
    for case in cases:
        assert case["verdict"] in ("passed", "unchecked"), case
        assert place.call("replay", case["id"], "--script", "again.sh").out.startswith("written: again.sh")
        temporary = tmp_path / "temporary"
        temporary.mkdir(exist_ok=True)
        done = subprocess.run(
            ["sh", "again.sh"], cwd=place.directory, capture_output=True, stdin=subprocess.DEVNULL,
            env={**os.environ, "TMPDIR": str(temporary)},
        )  # fmt: skip
        launches: list[dict[str, Any]] = case.get("steps", [case])
        assert done.stdout.decode() == "".join(each["stdout"] for each in launches)
        assert done.stderr.decode() == "".join(each["stderr"] for each in launches)
        assert done.returncode == launches[-1]["exit"]
        assert os.listdir(temporary) == []
