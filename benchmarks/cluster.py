"""A run on a cluster of this machine beside one of the same number of jobs: python benchmarks/cluster.py."""

from __future__ import annotations

import statistics
import subprocess
import sys
import tempfile
import time
from pathlib import Path

from results import write_section

COMMAND = str(Path(sys.executable).parent / "keen-matrix")
FEW, MANY = 1_000, 4_000
ROUNDS = 3


def seconds(words: list[str], directory: str) -> float:
    started = time.perf_counter()
    subprocess.run(
        [COMMAND, "run", "--jobs", "2", *words], cwd=directory, capture_output=True, check=True
    )
    return time.perf_counter() - started


def spec(directory: str, count: int) -> str:
    name = f"n{count}.matrix.toml"
    Path(directory, name).write_text(
        f'[program]\nlaunch = "{sys.executable} -c pass"\n[expect]\nexit = 0\nstdout = ""\n'
        f'[[matrix]]\nname = "m"\nline = "{{n}}"\naxes.n = {{ from = 1, to = {count} }}\nlimit = {count}\n'
    )
    return name


def main() -> None:
    with tempfile.TemporaryDirectory() as directory:
        few, many = spec(directory, FEW), spec(directory, MANY)
        took = {
            (way, name): statistics.median(seconds([*words, name], directory) for _ in range(rounds))
            for name, rounds in ((few, ROUNDS), (many, 1))
            for way, words in (("jobs", []), ("cluster", ["--cluster", "local"]))
        }
    each = {
        way: (took[way, many] - took[way, few]) / (MANY - FEW) * 1000 for way in ("jobs", "cluster")
    }
    lines = [
        "| launches of Python | run --jobs 2 | --cluster local | ratio |", "|---|---|---|---|",
        *(f"| {count:,}, seconds in all | {took['jobs', name]:.2f} | {took['cluster', name]:.2f} | "
          f"{took['cluster', name] / took['jobs', name]:.2f} |" for count, name in ((FEW, few), (MANY, many))),
        f"| each further one, ms | {each['jobs']:.2f} | {each['cluster']:.2f} | {each['cluster'] / each['jobs']:.2f} |",
    ]  # fmt: skip
    print("\n".join(lines))
    write_section("A cluster of this machine", "python benchmarks/cluster.py", lines)


if __name__ == "__main__":
    main()
