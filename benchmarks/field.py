"""What unedited drafts of real programs report: python benchmarks/field.py [--plain] [--unseen] [PROGRAM...].

Each program is drafted, settled and run, nothing edited; with --plain it is not settled. Every cause that is reported is
looked up in field.toml, where those seen before are classed by hand, as patterns: `program` (a fault of the program, or a habit
of it that deserves to be told), `ours`
(a false alarm, or the draft's mistake). A cause that comes with the edit which states it in the spec is `stated`: the help
says too little, and the run told it once. What is in no class is new, and stands at the end.

The programs of PROGRAMS are those that Keen Matrix was made better by, so they flatter it. Those of UNSEEN were chosen by their
names before any of them was looked at, and are told of apart (--unseen); their causes are classed below [unseen].
"""

from __future__ import annotations

import json
import shutil
import subprocess
import sys
import tempfile
import time
import tomllib
from collections import Counter
from collections.abc import Mapping
from fnmatch import fnmatch
from pathlib import Path

from results import write_section

from keen_matrix.core.model.lines import decode
from keen_matrix.core.model.record import Record
from keen_matrix.core.results.causes import cause_key, statement_of

COMMAND = str(Path(sys.executable).parent / "keen-matrix")
CLASSED = Path(__file__).with_name("field.toml")
PROGRAMS = """
basename; base32; base64; b2sum; cat; cksum; comm; cut; df; dirname; du; expand; fmt; fold; head; join;
ls; md5sum; mktemp; nl; nproc; numfmt; od; paste; pathchk; pr; printenv; ptx; readlink; realpath; seq;
sha1sum; sha256sum; shuf; sort; stat; sum; tac; tail; tr; truncate; tsort; uname; unexpand; uniq; wc; who;
grep; diff; cmp; gzip; xz; file; cal; column; getopt; hexdump; look; rev; namei; whereis;
python3 -m json.tool; python3 -m tokenize; python3 -m calendar; python3 -m gzip; python3 -m ast;
python3 -m dis; python3 -m quopri; python3 -m textwrap; pygmentize; jq; sqlite3; pod2text; pod2man;
podchecker; prename; shasum; json_pp; corelist; zipdetails; xsubpp; git hash-object; git rev-parse;
openssl rand; node
"""
UNSEEN = """
tree; bc; dc; units; figlet; datamash; wdiff; dos2unix; qrencode; uuencode; uudecode; rg; fdfind; batcat; hexyl; mlr; fdupes;
jo; html2text; par; ts; m4; gawk; ascii; toilet
"""
# no program of these lists may change the system by an option that a draft finds: date --set did
SECONDS = 120
"""Time that the run of one program gets."""


def causes_of(
    program: str, directory: str, *, is_plain: bool
) -> tuple[list[dict[str, object]], Counter[str], float, str]:
    """Draft and run a program; return its causes, its verdicts, the seconds, and why it could not be tried."""
    path = Path(directory, "d.matrix.toml")
    begun = time.monotonic()
    settle = [] if is_plain else ["--settle"]
    drafted = subprocess.run(
        [COMMAND, "draft", *settle, "-o", str(path), "--", *program.split()],
        capture_output=True,
        text=True,
        cwd=directory,
    )
    if drafted.returncode:
        return (
            [],
            Counter(),
            0.0,
            drafted.stderr.strip().splitlines()[-1] if drafted.stderr else "no draft",
        )
    try:
        done = subprocess.run(
            [COMMAND, "run", str(path)],
            capture_output=True,
            text=True,
            cwd=directory,
            timeout=SECONDS,
        )
    except subprocess.TimeoutExpired:
        return [], Counter(), time.monotonic() - begun, "it took too long"
    journal = Path(directory, ".keen-matrix/last.jsonl")
    seconds = time.monotonic() - begun
    if not journal.exists():
        return [], Counter(), seconds, (done.stderr or done.stdout).strip().splitlines()[-1][:120]
    found: dict[str, dict[str, object]] = {}
    verdicts: Counter[str] = Counter()
    for line in journal.read_bytes().splitlines(keepends=True):
        record = decode(line)
        if not isinstance(record, Record):
            continue
        verdicts[record.verdict] += 1
        if record.verdict == "passed":
            continue
        cause = found.setdefault(
            repr(cause_key(record)), {"count": 0, "words": record.argv, "record": record}
        )
        cause["count"] = int(str(cause["count"])) + 1
        shortest = cause["words"]
        if isinstance(shortest, tuple) and len(record.argv) < len(shortest):
            cause["words"], cause["record"] = record.argv, record
    return list(found.values()), verdicts, seconds, ""


def key_of(program: str, record: Record) -> str:
    """Return what a cause is called in field.toml: the program, the kind, and what was not as expected."""
    unmet = "+".join(dict.fromkeys(each.aspect for each in record.unmet))
    about = record.culprit or (record.argv[-1] if record.argv else "")
    return f"{program} | {record.family} {record.kind} | {record.verdict} {unmet} | {about}"


def class_of(key: str, classed: Mapping[str, object]) -> str:
    """Return the class of a cause; the first pattern that fits has it."""
    for kind, patterns in classed.items():
        if isinstance(patterns, list) and any(fnmatch(key, str(each)) for each in patterns):
            return kind
    return "new"


def told(record: Record) -> str:
    said = (record.stderr or record.stdout or "").strip().splitlines()
    return f"exit {record.exit} {record.note} {said[0][:110] if said else ''}"


def main(given: list[str]) -> None:
    is_plain, is_unseen = "--plain" in given, "--unseen" in given
    chosen = [each for each in given if each not in ("--plain", "--unseen")]
    known = tomllib.loads(CLASSED.read_text()) if CLASSED.exists() else {}
    classed = known.get("unseen", {}) if is_unseen else known
    there = [
        each
        for each in (
            chosen or [one.strip() for one in (UNSEEN if is_unseen else PROGRAMS).split(";")]
        )
        if shutil.which(each.split()[0])
    ]
    total: Counter[str] = Counter()
    verdicts: Counter[str] = Counter()
    new, slow, untried = [], [], []
    green = []
    for program in there:
        with tempfile.TemporaryDirectory() as directory:
            causes, counts, seconds, reason = causes_of(program, directory, is_plain=is_plain)
        verdicts += counts
        if reason:
            untried.append(f"{program}: {reason}")
        slow.append((seconds, program))
        if not reason and not causes:
            green.append(program)
        for cause in causes:
            record = cause["record"]
            assert isinstance(record, Record)
            key = key_of(program, record)
            kind = (
                "stated"
                if record.family == "accepted" and statement_of(record)
                else class_of(key, classed)
            )
            total[kind] += 1
            if kind == "new":
                new.append(
                    f"{key}   x{cause['count']}   {json.dumps(record.argv)}   {told(record)}"
                )
            print(
                f"  {kind:8} {key}   x{cause['count']}   {json.dumps(record.argv)[:120]}   {told(record)[:160]}"
            )
        print(
            f"{program:24} {seconds:6.1f} s  {dict(counts)}  {len(causes)} causes {reason}",
            flush=True,
        )
    reported = sum(total.values())
    print("\n".join(["", "new causes:", *new, "", "not tried:", *untried]))
    if not chosen:
        by_verdict = ", ".join(f"{count:,} {name}" for name, count in verdicts.most_common())
        rows = [
            "| measured | |",
            "|---|---|",
            f"| programs, nothing edited | {len(there) - len(untried)} |",
            f"| of these all passed | {len(green)}: {', '.join(green)} |",
            f"| vectors | {sum(verdicts.values()):,}: {by_verdict} |",
            f"| causes reported | {reported} |",
        ]
        for kind, count in total.most_common():
            share = 100 * count / max(1, reported)
            rows.append(f"| of these {kind} | {count} ({share:.0f} %) |")
        median = sorted(slow)[len(slow) // 2][0]
        rows.append(
            f"| seconds a program | median {median:.0f}, slowest {max(slow)[0]:.0f} ({max(slow)[1]}) |"
        )
        title = (
            "Real programs, drafted and run"
            if is_plain
            else "Real programs, drafted, settled and run"
        )
        if is_unseen:
            title = title.replace("Real programs", "Programs never used before")
        flags = "".join(each for each in (" --plain" * is_plain, " --unseen" * is_unseen))
        write_section(title, f"python benchmarks/field.py{flags}", rows)


if __name__ == "__main__":
    main(sys.argv[1:])
