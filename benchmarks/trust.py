"""Trust, tried at length: mutated specs and journals, and runs that are killed. By hand: python benchmarks/trust.py [PART] [SEED]

Parts: specs (5,000 mutated specs through lint and unfold), journals (1,000 mutated journals through every reader), kills (30
kills of a run at random moments, each resumed). A traceback, a fault of our own, or a union of records that is another one is
told at once, and the exit status is 1.
"""

from __future__ import annotations

import contextlib
import io
import json
import os
import random
import re
import shutil
import signal
import subprocess
import sys
import tempfile
import time
from collections import Counter
from pathlib import Path
from typing import Any

ROOT = Path(__file__).resolve().parent.parent
COMMAND = str(Path(sys.executable).parent / "keen-matrix")
VALUES = [
    "0", "-1", "1e999", '"x"', '""', "[]", "{}", "true", "9" * 40, '"{"', '"{x"', '"}"', "[[1]]", '"\\u0000"', '"é\\n"',
    "2027-03-01", '"' + "a b " * 500 + '"', "[1, [2, [3]]]", "{ a = { b = 1 } }", "inf", "nan", '"{1/0}"',
    '"{[x for x in range(9)]}"',
]  # fmt: skip
BAD = ("Traceback", "a fault in Keen Matrix itself")


def seeds() -> list[str]:
    """Return the texts of every spec of the demo and the examples, and of the documentation."""
    whole = [path.read_text() for directory in ("examples", "src/keen_matrix/demo/office")
             for path in sorted((ROOT / directory).glob("*.matrix.toml"))]  # fmt: skip
    texts = whole * 12
    for page in sorted((ROOT / "docs").glob("*.md")):
        texts += [f'[program]\nlaunch = "echo"\n{block}' if "[program]" not in block else block
                  for block in re.findall(r"```toml\n(.*?)```", page.read_text(), re.DOTALL)]  # fmt: skip
    return texts


def mutated(text: str, chance: random.Random) -> str:
    """Return a spec with one to three slips: a line gone, doubled or moved, a value or a key another one, a character lost."""
    for _ in range(chance.choice([1, 1, 1, 2, 3])):
        lines = text.split("\n")
        at = chance.randrange(len(lines))
        how = chance.randrange(8)
        if how == 0:
            del lines[at]
        elif how == 1:
            lines.insert(at, lines[chance.randrange(len(lines))])
        elif how == 2 and "=" in lines[at]:
            key = lines[at].partition("=")[0]
            lines[at] = f"{key}= {chance.choice(VALUES)}"
        elif how == 3 and "=" in lines[at]:
            other = lines[chance.randrange(len(lines))].partition("=")[0]
            lines[at] = f"{other}={lines[at].partition('=')[2]}"
        elif how == 4 and lines[at]:
            place = chance.randrange(len(lines[at]))
            lines[at] = (
                lines[at][:place]
                + chance.choice(["", "[", "{", '"', "\\", "\0", "\x7f", "}", "]", ".", "é"])
                + lines[at][place + 1 :]
            )
        elif how == 5:
            lines[at], lines[0] = lines[0], lines[at]
        elif how == 6:
            numbers = list(re.finditer(r"\d+", lines[at]))
            if numbers:
                found = chance.choice(numbers)
                lines[at] = (
                    lines[at][: found.start()]
                    + chance.choice(["-1", "0", "99999999999999999999", "1.5"])
                    + lines[at][found.end() :]
                )
        else:
            words = list(re.finditer(r"[a-z-]{3,}", lines[at]))
            if words:
                found = chance.choice(words)
                lines[at] = (
                    lines[at][: found.start()]
                    + chance.choice(["x", "matches", "files", "type", "N"])
                    + lines[at][found.end() :]
                )
        text = "\n".join(lines) or "\n"
    return text


def called(*words: str) -> tuple[int, str]:
    """Call the command in this process; return its status and what it printed."""
    from keen_matrix import cli

    out = io.StringIO()
    with contextlib.redirect_stdout(out), contextlib.redirect_stderr(out):
        status = cli.main(list(words))
    return status, out.getvalue()


def specs(seed: int, count: int = int(os.environ.get("COUNT", "5000"))) -> int:
    """Put mutated specs through lint and unfold."""
    chance = random.Random(seed)
    texts = seeds()
    found: Counter[int] = Counter()
    wrong, slowest = 0, (0.0, "")
    with tempfile.TemporaryDirectory() as directory:
        for name in ("oracle.py", "tickets.csv"):
            shutil.copy(ROOT / "src/keen_matrix/demo/office" / name, directory)
        shutil.copytree(ROOT / "src/keen_matrix/demo/office/sound", Path(directory) / "sound")
        os.chdir(directory)
        for number in range(count):
            text = mutated(chance.choice(texts), chance)
            Path("t.matrix.toml").write_bytes(text.encode("utf-8", "surrogateescape"))
            for words in (("lint", "t.matrix.toml"), ("unfold", "--count", "t.matrix.toml")):
                started = time.monotonic()
                status, out = called(*words)
                slowest = max(slowest, (time.monotonic() - started, text))
                found[status] += 1
                if any(each in out for each in BAD) or (status and not out.strip()):
                    wrong += 1
                    Path(f"/tmp/wrong-{seed}-{number}.matrix.toml").write_text(text)
                    print(
                        f"/tmp/wrong-{seed}-{number}.matrix.toml {words[0]}: {status} {out[:300]}",
                        flush=True,
                    )
    print(
        f"specs: {count} mutated, statuses {dict(found)}, wrong {wrong}, slowest {slowest[0]:.1f} s"
    )
    return wrong


def journal_lines(chance: random.Random, lines: list[str]) -> list[str]:
    """Return the lines of a journal with a few of them changed, torn, doubled, or made another value altogether."""
    lines = list(lines)
    for _ in range(chance.randint(1, 3)):
        at = chance.randrange(len(lines))
        how = chance.randrange(6)
        if how == 0:
            lines[at] = lines[at][: chance.randrange(len(lines[at]) + 1)]
        elif how == 1:
            lines.insert(at, lines[chance.randrange(len(lines))])
        elif how == 2:
            lines[at] = chance.choice(
                ["[]", "3", "null", '"x"', "[" * 100_000, '{"a":' * 50_000, "{}", "\0"]
            )
        else:
            with contextlib.suppress(ValueError, RecursionError):
                value = json.loads(lines[at])
                lines[at] = json.dumps(changed(value, chance), separators=(",", ":"))
    return lines


def changed(value: Any, chance: random.Random) -> Any:
    """Return a JSON value with something in it another value."""
    if isinstance(value, dict) and value and chance.random() < 0.85:
        key = chance.choice(list(value))
        if chance.random() < 0.1:
            return {each: value[each] for each in value if each != key}
        return {**value, key: changed(value[key], chance)}
    if isinstance(value, list) and value and chance.random() < 0.8:
        at = chance.randrange(len(value))
        return [*value[:at], changed(value[at], chance), *value[at + 1 :]]
    return chance.choice(
        [
            None,
            3,
            -1,
            1.5,
            1e300,
            "x",
            "",
            [],
            {},
            True,
            [[]],
            {"a": 1},
            ["x"],
            10**30,
            "\ud800",
            "9" * 5_000,
        ]
    )


def journals(seed: int, count: int = 1_000) -> int:
    """Put mutated journals through every command that reads one."""
    chance = random.Random(seed)
    wrong, found = 0, Counter[int]()
    with tempfile.TemporaryDirectory() as directory:
        shutil.copytree(ROOT / "src/keen_matrix/demo/office", directory, dirs_exist_ok=True)
        os.chdir(directory)
        subprocess.run(
            [
                COMMAND,
                "run",
                "tide.matrix.toml",
                "--program",
                "sh faulty/tide.sh",
                "--repeat",
                "2",
                "--brief",
            ],
            check=False,
        )
        lines = Path(".keen-matrix/last.jsonl").read_text().splitlines()
        formats = ("junit", "tap", "html", "markdown", "csv", "json", "annotations")
        spec = "tide.matrix.toml"
        readers = [
            ["report"],
            *(["report", "--format", each] for each in formats),
            ["compare", "l.jsonl", ".keen-matrix/last.jsonl"],
        ]
        readers += [
            [each, "--journal", "l.jsonl", spec]
            for each in ("suspects", "doubt", "baseline", "coverage")
        ]
        for number in range(count):
            kept = [lines[0], *chance.sample(lines[1:], 12)]
            text = "\n".join(journal_lines(chance, kept)) + chance.choice(["\n", ""])
            Path("l.jsonl").write_bytes(text.encode("utf-8", "surrogatepass"))
            for words in (readers[number % len(readers)], readers[(number * 5 + 3) % len(readers)]):
                words = [*words, "l.jsonl"] if words[0] == "report" else words
                output = ["-o", "out"] if "--format" in words else []
                Path("out").unlink(missing_ok=True)
                status, out = called(*words, *output)
                found[status] += 1
                if any(each in out for each in BAD) or (status and not out.strip()):
                    wrong += 1
                    Path(f"/tmp/wrong-{seed}-{number}.jsonl").write_bytes(
                        Path("l.jsonl").read_bytes()
                    )
                    print(
                        f"/tmp/wrong-{seed}-{number}.jsonl {words}: {status} {out[-300:]}",
                        flush=True,
                    )
    print(f"journals: {count} mutated, statuses {dict(found)}, wrong {wrong}")
    return wrong


KILLED = """
[program]
launch = "sh -c 'sleep 0.03; exit $(($1 % 3 == 0))' sh"
[[matrix]]
name = "m"
line = "{n}"
axes.n = { from = 1, to = 60 }
expect.exit = 0
"""


def kills(seed: int, count: int = 30) -> int:
    """Kill a run at random moments, resume it, and compare the union of its records with that of a run left alone."""
    chance = random.Random(seed)
    wrong = 0
    with tempfile.TemporaryDirectory() as directory:
        for name in ("a", "b"):
            (Path(directory) / f"{name}.matrix.toml").write_text(KILLED)

        def union() -> Counter[tuple[str, str, str]]:
            records: Counter[tuple[str, str, str]] = Counter()
            spec = ""
            with contextlib.suppress(FileNotFoundError):
                for line in (Path(directory) / ".keen-matrix/last.jsonl").read_text().splitlines():
                    fields = json.loads(line)
                    spec = fields.get("spec", spec)
                    if "id" in fields:
                        records[spec, fields["id"], fields["verdict"]] += 1
            return records

        subprocess.run([COMMAND, "run", "--brief"], cwd=directory, capture_output=True, check=False)
        whole = union()
        for number in range(count):
            shutil.rmtree(Path(directory) / ".keen-matrix")
            for _ in range(chance.randint(1, 3)):
                words = [COMMAND, "run", "--brief", "--resume"]
                process = subprocess.Popen(
                    words,
                    cwd=directory,
                    stdout=subprocess.DEVNULL,
                    stderr=subprocess.DEVNULL,
                    start_new_session=True,
                )
                time.sleep(chance.uniform(0.05, 2.5))
                which = chance.choice(
                    [signal.SIGKILL, signal.SIGKILL, signal.SIGINT, signal.SIGTERM]
                )
                with contextlib.suppress(ProcessLookupError):
                    (os.killpg if chance.random() < 0.5 else os.kill)(process.pid, which)
                process.wait()
            done = subprocess.run(
                [COMMAND, "run", "--brief", "--resume"],
                cwd=directory,
                capture_output=True,
                text=True,
                check=False,
            )
            if union() != whole or done.returncode != 1 or "120 cases" not in done.stdout:
                wrong += 1
                counts = f"{len(union())} of {len(whole)} records, status {done.returncode}"
                print(
                    f"kill {number}: {counts} {done.stdout[-200:]}{done.stderr[-300:]}", flush=True
                )
    print(f"kills: {count}, wrong {wrong}")
    return wrong


def main() -> int:
    """Try the parts that are named, or all."""
    parts = {"specs": specs, "journals": journals, "kills": kills}
    chosen = [each for each in sys.argv[1:] if each in parts] or list(parts)
    seed = next((int(each) for each in sys.argv[1:] if each.isdecimal()), 1)
    return 1 if sum(parts[each](seed) for each in chosen) else 0


if __name__ == "__main__":
    sys.exit(main())
