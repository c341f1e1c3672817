"""What each trick of the workers gains: python benchmarks/cleverness.py [NAME...].

Each trick is taken away by a few lines that run before the command, and the command without it is timed beside the
command as it is, pair by pair in one run, on cases of /bin/true: the dearest case for us, since the program takes
next to nothing. What gains under 3 % there has no place in the code.
"""

from __future__ import annotations

import resource
import statistics
import subprocess
import sys
import tempfile

from engine import spec
from results import write_section

ENTRY = "import sys; sys.argv[0] = 'keen-matrix'\n{prelude}\nfrom keen_matrix.entry import main; sys.exit(main())"
TRICKS = {
    "results sent together": """
import keen_matrix.core.launch.workers.outbox as outbox
outbox.HOLD_SECONDS = outbox.HOLD_BYTES = 0
""",
    "launches checked together": """
import keen_matrix.core.launch.workers.worker as worker
worker.MOST_SETTLED = 0
""",
    "few looks for circles of objects": """
import gc
gc.set_threshold = lambda *_: None
""",
    "directories used again": """
from keen_matrix.core.launch.directories.working import CaseDirectories
CaseDirectories._is_there = lambda self, stamps: False
""",
    "one event for a program's end": """
from keen_matrix.core.launch.process.outputs import Outputs
plain = Outputs.watch
def watch(self):
    plain(self)
    self.let_go()
Outputs.watch = watch
""",
    "how a launch starts, remembered": """
import keen_matrix.core.launch.workers.step_starts as step_starts
step_starts.is_constant = lambda around: False
""",
}
ROUNDS, COUNT = 7, 2_000


def processor_seconds(words: list[str], directory: str) -> float:
    """Return the processor time that a run takes, its workers and programs included: steadier than the clock."""
    before = resource.getrusage(resource.RUSAGE_CHILDREN)
    subprocess.run(words, cwd=directory, stdout=subprocess.DEVNULL, check=False)
    after = resource.getrusage(resource.RUSAGE_CHILDREN)
    return after.ru_utime + after.ru_stime - before.ru_utime - before.ru_stime


def main(chosen: list[str]) -> None:
    rows = []
    with tempfile.TemporaryDirectory() as directory:
        path = spec(directory, "true", "/bin/true", COUNT)
        python = [sys.executable, "-c"]
        subprocess.run(
            [*python, ENTRY.format(prelude=""), "run", path],
            cwd=directory,
            capture_output=True,
            check=True,
        )
        for name, prelude in TRICKS.items():
            if chosen and name not in chosen:
                continue
            pairs = []
            for turn in range(ROUNDS):
                taken = {}
                for each in (prelude, "") if turn % 2 else ("", prelude):
                    words = [*python, ENTRY.format(prelude=each), "run", path]
                    taken[each] = processor_seconds(words, directory)
                pairs.append(taken[prelude] / taken[""])
            gain = statistics.median(pairs) - 1
            rows.append(
                f"| {name} | {gain:+.1%} | {min(pairs) - 1:+.1%} to {max(pairs) - 1:+.1%} |"
            )
            print(rows[-1], flush=True)
    if not chosen:
        write_section(
            "What each trick of the workers gains",
            "python benchmarks/cleverness.py",
            [
                f"{COUNT:,} cases of /bin/true, {ROUNDS} pairs each: how much more processor time a run takes without the trick.",
                "",
                "| trick | median | range |",
                "|---|---|---|",
                *rows,
            ],
        )


if __name__ == "__main__":
    main(sys.argv[1:])
