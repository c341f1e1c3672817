"""How much of real programs' options a draft gets right: python benchmarks/drafts.py writes docs/drafts.md.

What is right is counted apart from the reader under test: every spelling that stands in the option column of the help text.
"""

from __future__ import annotations

import re
import shutil
import subprocess
import sys
import tempfile
from pathlib import Path

from keen_matrix.core.runs.grounding.asking import HELP_WORDS
from keen_matrix.core.spec.load import read_spec

COMMAND = str(Path(sys.executable).parent / "keen-matrix")
PROGRAMS = [
    "sort", "seq", "head", "tail", "cut", "wc", "tr", "date", "du", "df", "ls", "cp", "mv", "rm", "uniq", "comm",
    "join", "paste", "split", "stat", "touch", "mktemp", "tac", "nl", "fold", "od", "tar", "gzip", "grep", "sed",
    "xargs", "diff", "cmp", "python3 -m json.tool", "python3 -m zipapp", "python3 -m timeit",
    "python3 -m compileall", "python3 -m tarfile", "python3 -m venv", "python3 -m http.server", "jq", "sqlite3",
    "node", "install", "pod2text", "podchecker", "xz", "file", "make",
]  # fmt: skip
COLUMN = re.compile(r"^\s{0,12}(-\S.*?)(?:\s{2,}|\t|$)", re.MULTILINE)
SPELLING = re.compile(r"(?<![\w-])(--?\w[\w-]*(?:\.\d+)*)")


def listed(text: str) -> set[str]:
    """Return the spellings in the option column of a help text."""
    return {
        spelling
        for head in COLUMN.findall(text)
        for spelling in SPELLING.findall(head.split("=")[0])
    }


def help_text(program: str) -> str:
    for words in HELP_WORDS:
        done = subprocess.run(
            [*program.split(), *words], capture_output=True, stdin=subprocess.DEVNULL, timeout=10
        )
        text = (done.stdout + b"\n" + done.stderr).decode("utf-8", "replace")
        if len(listed(text)) > 1 or re.search("usage", text, re.IGNORECASE):
            return text
    return ""


def row(program: str, directory: str) -> str:
    path = Path(directory) / "d.matrix.toml"
    path.unlink(missing_ok=True)
    done = subprocess.run(
        [COMMAND, "draft", "-o", str(path), "--", *program.split()], capture_output=True, text=True
    )
    if done.returncode:
        return f"| `{program}` | - | - | {done.stderr.strip()} |"
    spec, problems = read_spec(str(path), deep=True)
    signature = spec.signature if spec else None
    found = (
        {each for option in signature.options for each in option.spellings}
        | {*signature.help}
        | {each for action in signature.actions for each in action}
        if signature
        else set()
    )
    true = listed(help_text(program))
    wrong = sorted(true - found)
    note = f"misses {' '.join(wrong[:4])}{' …' if len(wrong) > 4 else ''}" if wrong else ""
    note += "; does not lint clean" if problems else ""
    return f"| `{program}` | {len(true & found)} of {len(true)} | {len(signature.values) if signature else 0} | {note} |"


def main() -> None:
    there = [each for each in PROGRAMS if shutil.which(each.split()[0])]
    with tempfile.TemporaryDirectory() as directory:
        rows = [row(each, directory) for each in there]
    text = (
        "# Drafts of real programs\n\nWhat `keen-matrix draft` made of the help texts of a Debian 12 machine "
        "(`python benchmarks/drafts.py`). Counted are spellings\nin the option column of the help; values are NAMEs in the "
        "synopsis. Types of values are guesses and marked so in the draft.\n\n"
        "| program | spellings right | values | what is missing |\n|---|---|---|---|\n"
    )
    (Path(__file__).parent.parent / "docs" / "drafts.md").write_text(text + "\n".join(rows) + "\n")
    print("\n".join(rows))


if __name__ == "__main__":
    main()
