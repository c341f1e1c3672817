"""What the engine costs beside the launches themselves: python benchmarks/engine.py.

Every ratio is taken in one run, pair by pair, and the median told; the specs are written to a temporary directory. Python
keeps the bytecode of the command there, as it does for an installed one.
"""

from __future__ import annotations

import os
import statistics
import subprocess
import sys
import tempfile
import time
from concurrent.futures import ThreadPoolExecutor
from pathlib import Path

from results import write_section

COMMAND = str(Path(sys.executable).parent / "keen-matrix")
COUNT = 5_000
ROUNDS = 5


def spec(directory: str, name: str, launch: str, count: int) -> str:
    path = os.path.join(directory, f"{name}.matrix.toml")
    Path(path).write_text(
        f'[program]\nlaunch = "{launch}"\n[expect]\nexit = 0\nstdout = ""\nstderr = ""\n'
        f'[[matrix]]\nname = "m"\nline = "{{n}}"\naxes.n = {{ from = 1, to = {count} }}\nlimit = {count}\n'
    )
    return path


def seconds(words: list[str], directory: str) -> float:
    started = time.perf_counter()
    subprocess.run(words, cwd=directory, stdout=subprocess.DEVNULL, check=False)
    return time.perf_counter() - started


def case_environment() -> list[str]:
    """Words that start a command in the environment that every case gets."""
    own = {
        "PATH": os.environ["PATH"],
        "HOME": "/tmp",
        "TMPDIR": "/tmp",
        "LC_ALL": "C.UTF-8",
        "TZ": "UTC",
    }
    own |= {"COLUMNS": "80", "TERM": "dumb", "NO_COLOR": "1"}
    return ["env", "-i", *(f"{name}={value}" for name, value in own.items())]


def threads(count: int) -> float:
    def one(number: int) -> int:
        return subprocess.run(
            ["/bin/true", str(number)], capture_output=True, check=False
        ).returncode

    started = time.perf_counter()
    with ThreadPoolExecutor(2) as pool:
        list(pool.map(one, range(count)))
    return time.perf_counter() - started


def spawn_floor(count: int) -> float:
    """Two processes that only spawn and wait, in the environment that every case gets."""
    env = {"PATH": os.environ["PATH"], "LC_ALL": "C.UTF-8", "HOME": "/tmp", "TERM": "dumb"}
    started = time.perf_counter()
    workers = []
    for _ in range(2):
        pid = os.fork()
        if pid == 0:
            for number in range(count // 2):
                os.waitpid(
                    os.posix_spawn("/bin/true", ["/bin/true", str(number)], env, setsid=True), 0
                )
            os._exit(0)
        workers.append(pid)
    for pid in workers:
        os.waitpid(pid, 0)
    return time.perf_counter() - started


def peak(words: list[str], directory: str) -> int:
    done = subprocess.Popen(words, cwd=directory, stdout=subprocess.DEVNULL)
    _, _, usage = os.wait4(done.pid, 0)
    done.returncode = 0
    return usage.ru_maxrss // 1024


def main() -> None:
    lines = ["| measured (medians) | seconds | ratio |", "|---|---|---|"]

    def row(text: str) -> None:
        print(text, flush=True)
        lines.append(text)

    with tempfile.TemporaryDirectory() as directory:
        os.environ.pop("PYTHONDONTWRITEBYTECODE", None)
        os.environ["PYTHONPYCACHEPREFIX"] = os.path.join(directory, "bytecode")
        run = [COMMAND, "run", "--jobs", "2", "--brief"]
        many = spec(directory, "many", "/bin/true", COUNT)
        xargs = ["sh", "-c", f"seq {COUNT} | xargs -P2 -n1 /bin/true"]
        seconds([*run, spec(directory, "first", "/bin/true", 1)], directory)
        rows = [
            (
                seconds([*run, many], directory),
                seconds(xargs, directory),
                spawn_floor(COUNT),
                threads(COUNT),
            )
            for _ in range(ROUNDS)
        ]
        ours, theirs, floor, pool = (
            statistics.median(column) for column in zip(*rows, strict=True)
        )
        against = [statistics.median(each[0] / each[number] for each in rows) for number in (1, 2)]
        more = statistics.median(each[3] / each[0] for each in rows)
        row(
            f"| {COUNT} vectors of /bin/true, checked, with directories and journal | {ours:.2f} | 1 |"
        )
        row(
            f"| seq {COUNT} to xargs -P2 -n1 /bin/true, which checks nothing | {theirs:.2f} | {against[0]:.2f} of it |"
        )
        row(f"| two bare loops of posix_spawn and wait | {floor:.2f} | {against[1]:.2f} of it |")
        row(
            f"| subprocess.run in a pool of two threads | {pool:.2f} | {more:.2f} x as many a second |"
        )
        sleeper = f"{sys.executable} -c 'import time; time.sleep(0.03)'"
        for count in (200, 1_000):
            slow = spec(directory, f"slow{count}", sleeper, count)
            words = [*case_environment(), "sh", "-c", f"seq {count} | xargs -P2 -n1 {sleeper}"]
            pairs = [(seconds([*run, slow], directory), seconds(words, directory)) for _ in range(3)]
            ratio = statistics.median(pair[0] / pair[1] for pair in pairs)
            row(f"| {count:,} launches of a Python program of about 50 ms | {statistics.median(p[0] for p in pairs):.2f} | "
                f"{ratio:.2f} of bare launches in the same environment |")  # fmt: skip
        one = spec(directory, "one", "/bin/true", 1)
        alone = statistics.median(seconds([*run, one], directory) for _ in range(5))
        bare = statistics.median(seconds([sys.executable, "-c", "pass"], directory) for _ in range(5))
        row(f"| one trivial case, start to end | {alone:.3f} | python -c pass takes {bare:.3f} |")
        helped = statistics.median(seconds([COMMAND, "--help"], directory) for _ in range(9))
        parser = statistics.median(
            seconds([sys.executable, "-c", "import argparse"], directory) for _ in range(9)
        )
        row(
            f"| keen-matrix --help | {helped:.3f} | {helped / parser:.1f} x python -c 'import argparse' |"
        )
        measured = []
        for count in (2_000, 200_000):
            path = spec(directory, f"n{count}", "/bin/true", count)
            started = time.perf_counter()
            measured.append(
                (peak([*run, path], directory), (time.perf_counter() - started) / count * 1000)
            )
        (small, small_ms), (large, large_ms) = measured
        row(
            f"| peak memory for 2,000 and 200,000 cases | {small} and {large} MiB | {large / small:.2f} |"
        )
        row(f"| milliseconds a case for 2,000 and 200,000 cases | {small_ms:.2f} and {large_ms:.2f} | "
            f"{large_ms / small_ms:.2f} |")  # fmt: skip
    write_section("The launch engine", "python benchmarks/engine.py", lines)


if __name__ == "__main__":
    main()
