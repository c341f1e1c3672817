"""How fast vectors are made, and in how much memory: python benchmarks/unfold.py."""

from __future__ import annotations

import os
import subprocess
import sys
import tempfile
import time
from pathlib import Path

from results import write_section

COMMAND = str(Path(sys.executable).parent / "keen-matrix")
SIX = "".join(f"axes.a{n} = {{ from = 1, to = 10 }}\n" for n in range(6))
SPECS = {
    "1,000,000 cases of six axes": (
        'line = "{a0} {a1} {a2} {a3} {a4} {a5}"\n' + SIX + "limit = 1000000\n", 1_000_000),
    "100,000 cases of a line with five groups": (
        'line = "{a0} [-a | -b] [-c] {a1} [--d {a2}] ( x | y | z ) {a3} [-e]"\n'
        "axes.a0 = { from = 1, to = 15 }\naxes.a1 = { from = 1, to = 10 }\n"
        "axes.a2 = { from = 1, to = 4 }\naxes.a3 = { from = 1, to = 4 }\nlimit = 200000\n", 108_000),
}  # fmt: skip


def measured(path: str) -> tuple[float, int, int]:
    """Return the seconds, the peak in MiB and the lines of unfolding a spec to JSON lines."""
    started = time.perf_counter()
    process = subprocess.Popen(
        [COMMAND, "unfold", "--format", "json", path], stdout=subprocess.PIPE
    )
    assert process.stdout is not None
    lines = 0
    while chunk := process.stdout.read(1 << 20):
        lines += chunk.count(b"\n")
    _, _, usage = os.wait4(process.pid, 0)
    process.returncode = 0
    return time.perf_counter() - started, usage.ru_maxrss // 1024, lines


def main() -> None:
    lines = ["| what | lines | seconds | peak MiB |", "|---|---|---|---|"]
    with tempfile.TemporaryDirectory() as directory:
        for name, (matrix, count) in SPECS.items():
            path = os.path.join(directory, "m.matrix.toml")
            Path(path).write_text(
                f'[program]\nlaunch = "true"\n[expect]\nexit = 0\n[[matrix]]\nname = "m"\n{matrix}'
            )
            seconds, peak, found = measured(path)
            assert found == count, found
            lines.append(f"| {name} | {found:,} | {seconds:.2f} | {peak} |")
            print(lines[-1], flush=True)
    write_section("Unfolding", "python benchmarks/unfold.py", lines)


if __name__ == "__main__":
    main()
