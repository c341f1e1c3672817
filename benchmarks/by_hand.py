"""The same checks of one program as a shell loop, as tests with subprocess, and as a spec: python benchmarks/by_hand.py

The program is that of the tutorial, with its four faults; what each way says of them is looked for in its output.
"""

from __future__ import annotations

import os
import re
import statistics
import subprocess
import sys
import tempfile
import time
from pathlib import Path

from results import write_section

HERE = Path(__file__).parent / "by_hand"
BIN = Path(sys.executable).parent
TIMES = 5
PYTHON, COMMAND = str(BIN / "python"), str(BIN / "keen-matrix")
RUN = [COMMAND, "run", "--all", "--journal", "{journal}"]
TESTS = [PYTHON, "-m", "pytest", "-q", "-p", "no:cacheprovider", "-p", "no:keen-matrix", "test_ticket.py"]
WAYS = {
    "a shell loop": ("check.sh", ["bash", "check.sh", "ticket.py"], 34),
    "tests with subprocess": ("test_ticket.py", TESTS, 34),
    "a spec": ("ticket.matrix.toml", [*RUN, "ticket.matrix.toml"], 34),
    "a usage line": ("line.matrix.toml", [*RUN, "line.matrix.toml"], 156),
}
FAULTS = {
    "a word for a number ends in a traceback": r"abc",
    "0 and 61 riders are sold a ticket": r"\b0\.00|274\.50",
    "both flags are taken": r"--bike.*--car",
    "a directory that is not there ends in a traceback": r"no/such/directory",
}
"""A fault → what the output of a way that found it has in it."""


def main() -> None:
    lines = [
        "| | lines written | vectors | seconds | faults told |",
        "|---|---|---|---|---|",
    ]
    for way, (file, words, vectors) in WAYS.items():
        spent, said = [], ""
        for _ in range(TIMES):
            with tempfile.TemporaryDirectory() as directory:
                env = {**os.environ, "TICKET": "ticket.py", "PATH": f"{BIN}{os.pathsep}{os.environ['PATH']}"}
                began = time.perf_counter()
                done = subprocess.run(
                    [word.format(journal=f"{directory}/last.jsonl") for word in words],
                    cwd=HERE, env=env, capture_output=True, text=True, check=False,
                )  # fmt: skip
                spent.append(time.perf_counter() - began)
                said = done.stdout
        written = [each for each in (HERE / file).read_text().splitlines() if each.strip()]
        told = [fault for fault, sign in FAULTS.items() if re.search(sign, said)]
        lines.append(f"| {way} | {len(written)} | {vectors} | {statistics.median(spent):.2f} | {len(told)} of {len(FAULTS)} |")
        print(lines[-1], [fault for fault in FAULTS if fault not in told], flush=True)
    write_section("The same checks by hand", "python benchmarks/by_hand.py", lines)


if __name__ == "__main__":
    main()
