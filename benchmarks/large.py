"""A journal of a million cases: how long reports of it take, and in how much memory: python benchmarks/large.py [CASES]."""

from __future__ import annotations

import json
import os
import subprocess
import sys
import tempfile
import time
from pathlib import Path

from results import write_section

COMMAND = str(Path(sys.executable).parent / "keen-matrix")
SPEC = """[program]
launch = "true"
[expect]
exit = 0
stdout = ""
[[matrix]]
name = "many"
line = "{a} {b} {c}"
axes.a = { from = 1, to = 100 }
axes.b = { from = 1, to = 100 }
axes.c = { from = 1, to = %d }
limit = 100000000
"""


def journal(path: Path, spec: str, count: int, failing: int) -> None:
    """Write a journal of made-up results of the very cases of a spec."""
    done = subprocess.Popen(
        [COMMAND, "unfold", "--format", "json", spec], stdout=subprocess.PIPE, text=True
    )
    assert done.stdout is not None
    head = {
        "journal": 1,
        "version": "0",
        "spec": spec,
        "spec_digest": "0",
        "started": "2026-01-01T00:00:00.000",
        "jobs": 2,
    }
    passed = (
        ',"verdict":"passed","exit":0,"signal":null,"seconds":0.0012,"user_seconds":0.0004,"system_seconds":0.0005,"peak_bytes":900000,'
        '"stdout":"","stderr":"","files":{},"aspects":[{"aspect":"exit","met":true,"rule":"m:4"},{"aspect":"stdout","met":true,"rule":"m:5"}]}\n'
    )
    bad = passed.replace('"passed"', '"failed"', 1).replace(
        '"aspect":"exit","met":true',
        '"aspect":"exit","met":false,"form":"is","expected":"0","actual":"1"',
    )
    with path.open("w") as file:
        file.write(json.dumps(head, separators=(",", ":")) + "\n")
        for number, line in enumerate(done.stdout):
            file.write(line.rstrip()[:-1] + (bad if number % failing == 0 else passed))
        file.write('{"finished":"2026-01-01T00:10:00","counts":{}}\n')
    done.wait()


def measured(words: list[str], directory: str) -> tuple[float, int, int]:
    """Return seconds, peak MiB and exit status of a command."""
    started = time.perf_counter()
    process = subprocess.Popen([COMMAND, *words], cwd=directory, stdout=subprocess.DEVNULL)
    _, status, usage = os.wait4(process.pid, 0)
    process.returncode = 0
    return time.perf_counter() - started, usage.ru_maxrss // 1024, os.WEXITSTATUS(status)


def main() -> None:
    count = int(sys.argv[1]) if len(sys.argv) > 1 else 1_000_000
    lines = ["| command | seconds | peak MiB |", "|---|---|---|"]
    with tempfile.TemporaryDirectory() as directory:
        spec = Path(directory) / "m.matrix.toml"
        spec.write_text(SPEC % (count // 10_000))
        journal(Path(directory) / "a.jsonl", str(spec), count, 1000)
        journal(Path(directory) / "b.jsonl", str(spec), count, 900)
        size = (Path(directory) / "a.jsonl").stat().st_size / 1024**2
        commands = [
            ["report", "a.jsonl", "--format", format, "-o", f"out.{format}"]
            for format in ("junit", "csv", "markdown", "tap", "html")
        ]
        commands += [
            ["compare", "a.jsonl", "b.jsonl"],
            ["coverage", "m.matrix.toml", "--journal", "a.jsonl"],
        ]
        for words in commands:
            seconds, peak, status = measured(words, directory)
            lines.append(f"| {' '.join(words[:4])} | {seconds:.1f} | {peak} |")
            print(lines[-1], "exit", status, flush=True)
    write_section(
        "Large results",
        f"python benchmarks/large.py {count}",
        [f"{count:,} cases, a journal of {size:,.0f} MiB.", "", *lines],
    )


if __name__ == "__main__":
    main()
