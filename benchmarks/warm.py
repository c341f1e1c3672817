"""Warm launches against cold ones on the sample fare: python benchmarks/warm.py.

The rates are cases a second while launches go on; start-up is told apart, and the check of warm launches is left out.
"""

from __future__ import annotations

import json
import os
import shutil
import statistics
import subprocess
import sys
import tempfile
import time
from pathlib import Path

from results import write_section

COMMAND = str(Path(sys.executable).parent / "keen-matrix")
OFFICE = Path(__file__).parent.parent / "src/keen_matrix/demo/office"
ROUNDS = 3
MATRIX = """
[[matrix]]
name = "many"
line = "{origin} {destination} -n {riders} [--bike | --car] [--round-trip] [--format json]"
axes.origin = ["Skerry", "Holm", "Voe"]
axes.destination = ["Skerry", "Holm", "Voe"]
axes.riders = { from = 1, to = %d }
only-if = ["origin != destination"]
"""


def run(
    directory: str, python: str, name: str, riders: int, *words: str
) -> tuple[float, int, float, dict[str, str]]:
    """Return the seconds of a run and its cases, the seconds up to the first result, and verdicts by id."""
    spec = (OFFICE / "fare.matrix.toml").read_text().split("[[matrix]]")[0]
    spec = spec.replace(
        'derive = ["help", "accepted", "refusals", "rephrasings", "effects", "again"]',
        "derive = []",
    )
    spec = spec.replace("python3 {here}", f"{python} {{here}}")
    path = Path(directory) / "fare.matrix.toml"
    path.write_text(spec + MATRIX % riders)
    journal = Path(directory) / f"{name}.jsonl"
    journal.unlink(missing_ok=True)
    started = time.perf_counter()
    process = subprocess.Popen([COMMAND, "run", str(path), "--journal", str(journal), "--jobs", "2", "--brief", *words],
                               stdout=subprocess.DEVNULL)  # fmt: skip
    first = 0.0
    while process.poll() is None:
        if not first and journal.exists() and journal.stat().st_size > 2_000:
            first = time.perf_counter() - started
        time.sleep(0.01)
    seconds = time.perf_counter() - started
    cases = [
        json.loads(line) for line in journal.read_text().splitlines() if line.startswith('{"id"')
    ]
    return seconds, len(cases), first, {case["id"]: case["verdict"] for case in cases}


def measured(directory: str, python: str) -> tuple[list[float], float, bool]:
    """Return the rates warm and cold and the warm start-up, the ratio of the rates, and whether the verdicts are the same."""
    rows = []
    for _ in range(ROUNDS):
        warm, many, warm_first, verdicts = run(
            directory, python, "warm", 20, "--warm", "--warm-check", "0"
        )
        cold, few, cold_first, others = run(directory, python, "cold", 2)
        same = all(verdicts[id] == verdict for id, verdict in others.items())
        rows.append((many / (warm - warm_first), few / (cold - cold_first), warm_first, same))
    rates = [statistics.median(column) for column in zip(*[row[:3] for row in rows], strict=True)]
    return rates, statistics.median(row[0] / row[1] for row in rows), all(row[3] for row in rows)


def main() -> None:
    lines = [
        "| interpreter | warm a second | cold a second | ratio | start-up of a warm run | verdicts |",
        "|---|---|---|---|---|---|",
    ]
    itself = os.path.join(sys.base_prefix, "bin", "python3")
    for label, python in (
        ("python3 as found in PATH", "python3"),
        ("the interpreter's own file", itself),
    ):
        with tempfile.TemporaryDirectory() as directory:
            shutil.copytree(OFFICE, directory, dirs_exist_ok=True)
            (warm, cold, first), ratio, same = measured(directory, python)
        lines.append(
            f"| {label} | {warm:.0f} | {cold:.0f} | {ratio:.1f} | {first:.2f} s | {'the same' if same else 'OTHERS'} |"
        )
        print(lines[-1], flush=True)
    write_section("Warm launches", "python benchmarks/warm.py", lines)


if __name__ == "__main__":
    main()
