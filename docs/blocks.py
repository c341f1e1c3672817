"""Pages whose blocks are walked through in a directory: files written, commands run, what they print compared.

A comment on the line before a block says what the block is:

    <!-- file: NAME -->      a file, whole
    <!-- more: NAME -->      what is added at the end of a file
    <!-- change: NAME -->    a change of a file: lines that go with -, that come with +, that stay with a blank
    <!-- run: STATUS -->     lines of a shell; the last ends with that exit status (0 where none is given)
    <!-- prints -->          what the commands before it print; a line ... stands for any number of lines

and `<!-- needs: node, npm:yargs, python:click, go: 1.20 -->` what has to be there to walk through the page.
`python docs/generate.py --outputs` writes what is printed anew.
"""

from __future__ import annotations

import importlib.util
import os
import re
import shutil
import subprocess
import sys
from collections.abc import Mapping
from pathlib import Path
from typing import NamedTuple

BLOCK = re.compile(
    r"^<!-- (?P<kind>file|more|change|run|prints)(?:: (?P<about>.*?))? -->\n```\w*\n(?P<text>.*?)^```$",
    re.MULTILINE | re.DOTALL,
)
NEEDS = re.compile(r"^<!-- needs: (.*?) -->$", re.MULTILINE)
GAP = "..."
HOME = "~/ferry"
"""What stands for the directory in what is shown."""
VARIES = (
    (re.compile(r"\d+(\.\d+)? m?s\b"), "… s"),
    (re.compile(r"\d+ jobs?\b"), "… jobs"),
    (re.compile(r"\d{4}-\d\d-\d\d \d\d:\d\d(:\d\d)?( UTC)?"), "… UTC"),
    (re.compile(r"\d+(\.\d+)? launches? a second"), "… a second"),
    (re.compile(r"\d+(\.\d+)? MiB"), "… MiB"),
    (re.compile(r"\(\d+ characters\)"), "(… characters)"),
)
"""What is another each time: it is not compared."""
SLOW = re.compile(r"^time: .*\n?", re.MULTILINE)
"""Is said of a run on a machine on which it takes long."""
SECONDS = 120


class Block(NamedTuple):
    """A block of a page: its kind, what the comment says of it, its text, and where that stands."""

    kind: str
    about: str
    text: str
    start: int
    end: int


class Unlike(AssertionError):
    """What came is not what the page shows."""


def blocks_of(page: str) -> list[Block]:
    """Return the blocks of a page that are walked through."""
    return [
        Block(each["kind"], each["about"] or "", each["text"], each.start("text"), each.end("text"))
        for each in BLOCK.finditer(page)
    ]


def missing(page: str) -> str:
    """Return the first thing that a page needs and that is not here; empty where all is."""
    for needed in re.split(r",\s*", ", ".join(NEEDS.findall(page))):
        kind, _, name = needed.rpartition(":")
        there = {
            "python": lambda name: importlib.util.find_spec(name) is not None,
            "npm": lambda name: shutil.which("node") and not _run(f"node -e 'require(\"{name}\")'", Path.cwd()).returncode,
            "crate": lambda name: any((Path.home() / ".cargo/registry").rglob(f"{name}-*.crate")),
            "": lambda name: not name or shutil.which(name) is not None,
        }[kind]  # fmt: skip
        if not there(name):
            return needed
    return ""


def _run(script: str, directory: Path, first: str = "") -> subprocess.CompletedProcess[str]:
    own = [first] if first else []
    path = os.pathsep.join([*own, str(Path(sys.executable).parent), os.environ["PATH"]])
    environment: Mapping[str, str] = {
        **os.environ,
        "PATH": path,
        "NO_COLOR": "1",
        "LC_ALL": "C.UTF-8",
    }
    return subprocess.run(
        ["sh", "-c", script], cwd=directory, env=environment, stdin=subprocess.DEVNULL, stdout=subprocess.PIPE,
        stderr=subprocess.STDOUT, text=True, timeout=SECONDS, check=False,
    )  # fmt: skip


def changed(text: str, change: str) -> str:
    """Return a text with a change made: lines with -, + or a blank before them. Raises Unlike where the
    lines that go or stay are not in it, or several times."""
    lines = [each if each else " " for each in change.splitlines()]
    before = "".join(f"{each[1:]}\n" for each in lines if each[0] in " -")
    after = "".join(f"{each[1:]}\n" for each in lines if each[0] in " +")
    if text.count(before) != 1:
        raise Unlike(
            f"the change does not fit, its lines are there {text.count(before)} times:\n{before}"
        )
    return text.replace(before, after)


def plain(text: str) -> str:
    """Return a text without what varies."""
    for pattern, stands in VARIES:
        text = pattern.sub(stands, text)
    text = SLOW.sub("", text)
    return "".join(f"{each.rstrip()}\n" for each in text.strip("\n").splitlines())


def is_like(shown: str, printed: str) -> bool:
    """Tell whether something was printed as a page shows it."""
    parts = re.split(rf"^\s*{re.escape(GAP)}\n", plain(shown), flags=re.MULTILINE)
    whole = r"(?:.*\n)*?".join(map(re.escape, parts))
    return re.fullmatch(whole, plain(printed)) is not None


def shortened(shown: str, printed: str) -> str:
    """Return what is printed now, with the gap that a page has."""
    lines = SLOW.sub("", printed).strip("\n").splitlines()
    parts = [
        part.splitlines()
        for part in re.split(rf"^\s*{re.escape(GAP)}\n", shown, flags=re.MULTILINE)
    ]
    if len(parts) == 1:
        return "\n".join(each.rstrip() for each in lines) + "\n"
    if len(parts) > 2:
        raise Unlike(f"it has several gaps, so write it by hand:\n{printed}")
    head, tail = lines[: len(parts[0])], lines[len(lines) - len(parts[1]) :]
    return "\n".join(each.rstrip() for each in [*head, GAP, *tail]) + "\n"


def walk(page: str, directory: Path, *, anew: bool = False, first: str = "") -> str:
    """Walk through a page in an empty directory; return the page, with what is printed written anew where
    that is asked for. A directory given as `first` stands before all others in PATH. Raises Unlike where
    something comes otherwise than the page shows."""
    printed = ""
    changes: list[tuple[Block, str]] = []
    for block in blocks_of(page):
        path = directory / block.about
        if block.kind == "run":
            came = _run(block.text, directory, first)
            printed = came.stdout.replace(str(directory), HOME)
            if came.returncode != int(block.about or 0):
                raise Unlike(f"exit {came.returncode} of\n{block.text}\n{printed}")
        elif block.kind == "prints":
            if not is_like(block.text, printed):
                if not anew:
                    raise Unlike(f"the page shows\n{block.text}\nand this came\n{printed}")
                changes.append((block, shortened(block.text, printed)))
        else:
            path.parent.mkdir(parents=True, exist_ok=True)
            old = path.read_text() if path.exists() else ""
            new = {"file": block.text, "more": old + block.text}.get(block.kind)
            path.write_text(changed(old, block.text) if new is None else new)
            if block.text.startswith("#!"):
                path.chmod(0o755)
    for block, text in reversed(changes):
        page = page[: block.start] + text + page[block.end :]
    return page
