"""Two runs compared: what no longer passes, what passes now, what prints something else, got faster
or slower.

The cases of both are kept in a temporary database, so that a million of them take no memory.
"""

from __future__ import annotations

import contextlib
import json
import os
import re
import sqlite3
import tempfile
from collections import Counter
from collections.abc import Iterator, Mapping, Sequence
from hashlib import blake2b
from itertools import zip_longest
from statistics import median

from keen_matrix.core.doing import Doing, doing
from keen_matrix.core.model.lines import encode
from keen_matrix.core.model.record import Record, end_of
from keen_matrix.core.results.reading import RecordReader, headers_of, placed_cases
from keen_matrix.core.structs import Struct, field

#: Without repetitions a case counts as slower only when it takes twice as long, and a tenth of a
#: second longer.
SLOWER_FACTOR, SLOWER_SECONDS = 2.0, 0.1
#: With repetitions it must take a tenth longer, and every repetition of one run longer than every
#: one of the other.
STEADY_FACTOR = 1.1
#: Repetitions from which times are compared one by one: three against three agree by chance once
#: in twenty.
LEAST_REPETITIONS = 3


class Change(Struct, frozen=True):
    """What became of one case."""

    id: str
    matrix: str
    argv: tuple[str, ...]
    before: str
    #: Verdicts, or seconds for a change of speed.
    after: str
    #: What differs first in what the launches did, the same for all cases that changed in one
    #: way.
    difference: str = ""


class Comparison(Struct):
    """Everything that differs between two runs; lists are cut to MOST_LISTED, the counts are
    whole."""

    counts: dict[str, int] = field(default_factory=dict)
    changes: dict[str, list[Change]] = field(default_factory=dict)
    #: Kind → what differs → how many cases, and the one with the shortest vector.
    groups: dict[str, dict[str, tuple[int, Change]]] = field(default_factory=dict)
    both: int = 0
    #: Cases that passed before and have no result in the later run.
    lost: int = 0
    #: Median of after/before of the seconds of all cases in both.
    pace: float | None = None

    def add(self, kind: str, change: Change) -> None:
        """Take one change."""
        self.counts[kind] = self.counts.get(kind, 0) + 1
        groups = self.groups.setdefault(kind, {})
        # Cases that changed in one way are one line, however many: that is what somebody reads.
        if change.difference in groups or len(groups) < MOST_LISTED:
            count, shortest = groups.get(change.difference, (0, change))
            telling = min(shortest, change, key=lambda each: (len(each.argv), each.argv))
            groups[change.difference] = (count + 1, telling)
        listed = self.changes.setdefault(kind, [])
        if len(listed) < MOST_LISTED:
            listed.append(change)


MOST_LISTED = 2_000
KINDS = ("newly failing", "newly passing", "other verdict", "other output", "slower", "faster", "new", "gone")
#: What every case is compared by, and where its line stands, for those of which more is said.
_TABLE = """CREATE TABLE {} (id TEXT, spec TEXT, matrix TEXT, verdict TEXT, digest BLOB, seconds REAL, times TEXT,
    path TEXT, offset INTEGER, PRIMARY KEY (id, matrix, spec)) WITHOUT ROWID"""


def compare_runs(before: Sequence[str], after: Sequence[str]) -> Comparison:
    """Return what differs between two runs, each one or more journals. Raises RunFault when one
    cannot be read."""
    with (
        tempfile.NamedTemporaryFile(prefix="keen-matrix-", suffix=".sqlite3") as file,
        contextlib.closing(sqlite3.connect(file.name, isolation_level=None)) as database,
        contextlib.ExitStack() as stack,
        doing("comparing") as told,
    ):
        # A temporary file: what a crash leaves of it nobody reads.
        database.execute("PRAGMA journal_mode = OFF")
        database.execute("PRAGMA synchronous = OFF")
        names = common_names(before, after)
        for name, paths in (("a", before), ("b", after)):
            database.execute(_TABLE.format(name))
            database.execute("BEGIN")
            database.executemany(
                f"INSERT OR REPLACE INTO {name} VALUES (?, ?, ?, ?, ?, ?, ?, ?, ?)", _rows(paths, names, told)
            )
            database.execute("COMMIT")
        return _compared(database, RecordReader(stack))


def common_names(before: Sequence[str], after: Sequence[str]) -> dict[str, str]:
    """Return for each spec of two runs, by its path, the name under which its cases are compared.

    A path in both runs stands for itself. Of the others, one of each run that have the same file
    name are taken for the same spec in another place, where no further spec has that file name.
    """
    found = [
        {os.path.normpath(each.spec) for path in paths for each in headers_of(path)}
        for paths in (before, after)
    ]
    both = found[0] & found[1]
    names = {path: path for path in (*found[0], *found[1])}
    alone = [Counter(map(os.path.basename, paths - both)) for paths in found]
    for path in (*(found[0] - both), *(found[1] - both)):
        name = os.path.basename(path)
        # Two checkouts of a project have other paths; with two specs of one name it would be a
        # guess which is which.
        if all(counts[name] == 1 for counts in alone):
            names[path] = f"*/{name}"
    return names


TOLD_EACH = 10_000


def _rows(paths: Sequence[str], names: Mapping[str, str], told: Doing) -> Iterator[tuple[object, ...]]:
    known: dict[str, str] = {}
    for number, ((header, fields), path, offset) in enumerate(placed_cases(paths), 1):
        times = fields.repeats.seconds if fields.repeats is not None else None
        spec = known.get(header.spec) or known.setdefault(header.spec, names[os.path.normpath(header.spec)])
        if number % TOLD_EACH == 0:
            told.told(f"{number:,} cases read")
        yield (
            fields.id,
            spec,
            fields.matrix,
            fields.verdict,
            output_digest(fields),
            fields.seconds,
            json.dumps(times) if times else None,
            path,
            offset,
        )


#: Characters of each stream in which it is looked for what differs first.
KEPT_TEXT = 1_000


def _did(fields: Record) -> dict[str, str]:
    """Return what a launch did, as far as differences in it are reported."""
    files = "\n".join(f"{name} {each.state}" for name, each in sorted(fields.files.items()))
    streams = {name: (fields.compared_stream(name) or "")[:KEPT_TEXT] for name in ("stderr", "stdout")}
    return {"end": end_of(fields), **streams, "files": files[:KEPT_TEXT]}


NAMES = {"stderr": "standard error", "stdout": "standard output", "files": "the files"}


def difference_of(before: Mapping[str, str], after: Mapping[str, str]) -> str:
    """Return what differs first in what two launches did, without what is particular to a vector:
    `line 1 of standard error: "fare.py" → "fare"`."""
    if before["end"] != after["end"]:
        return f"{before['end']} → {after['end']}"
    for name, words in NAMES.items():
        left, right = before[name].split("\n"), after[name].split("\n")
        for number, (one, other) in enumerate(zip_longest(left, right), 1):
            if one == other:
                continue
            where = f"line {number} of {words}" if name != "files" else words
            if one is None or other is None or not one or not other:
                return f"{where}: {_quoted(one)} → {_quoted(other)}"
            old, new = _middles(one, other)
            return f"{where}: {_quoted(old)} → {_quoted(new)}"
    return "beyond what is compared"


def _quoted(text: str | None) -> str:
    if text is None:
        return "no such line"
    shown = text if len(text) <= LONGEST_SHOWN else f"{text[:LONGEST_SHOWN]}…"
    return f'"{shown}"' if text else "an empty line"


LONGEST_SHOWN = 40


def _middles(one: str, other: str) -> tuple[str, str]:
    """Return two lines without the words that they begin and end with alike."""
    # what stands in quotes is mostly of the vector: it is reported only where nothing else differs
    plain = [_QUOTED.sub(r"\1…\2", each) for each in (one, other)]
    if plain[0] != plain[1]:
        one, other = plain
    left, right = _WORDS.findall(one), _WORDS.findall(other)
    start = next(
        (n for n, (a, b) in enumerate(zip(left, right, strict=False)) if a != b), min(len(left), len(right))
    )
    # From the right as well: what is between is what differs.
    end = 0
    while end < min(len(left), len(right)) - start and left[-1 - end] == right[-1 - end]:
        end += 1
    cut = [each[start : len(each) - end] for each in (left, right)]
    return "".join(cut[0]), "".join(cut[1])


_QUOTED = re.compile(r"(['\"‘“`])[^'\"’”`]*(['\"’”`])")
#: White space, signs, words; a file name or a number is one.
_WORDS = re.compile(r"\s+|[^\s\w.]|[\w.]+")


def output_digest(fields: Record) -> bytes:
    """Return a digest of what a launch did: its end, its streams (masked, where masks are), the
    files it left."""
    seen = (
        fields.exit,
        fields.signal,
        sorted(fields.files.items()) if fields.files else (),
        fields.compared_stream("stdout"),
        fields.compared_stream("stderr"),
    )
    return blake2b(encode(seen), digest_size=12).digest()


def _compared(database: sqlite3.Connection, reader: RecordReader) -> Comparison:
    found = Comparison()
    ratios: list[float] = []
    query = (
        "SELECT a.verdict, b.verdict, a.digest, b.digest, a.seconds, b.seconds, a.times, b.times, "
        "a.path, a.offset, "
        "b.path, b.offset FROM a JOIN b USING (id, matrix, spec)"
    )
    for old, new, digest, other, seconds, later, times, later_times, *places in database.execute(query):
        found.both += 1
        if seconds > 0 and len(ratios) < 1_000_000:
            ratios.append(later / seconds)
        speed = _speed(
            seconds, later, json.loads(times) if times else [], json.loads(later_times) if later_times else []
        )
        # Nearly all cases: their records are not read at all.
        if old == new and digest == other and not speed:
            continue
        left, right = reader.read(*places[:2]), reader.read(*places[2:])
        changed = change_of(left, right)
        if changed is not None:
            found.add(*changed)
        if speed:
            about = (right.id, right.matrix, right.argv)
            found.add(speed, Change(*about, f"{seconds:.3f} s", f"{later:.3f} s"))
    for kind, one, two in (("gone", "a", "b"), ("new", "b", "a")):
        rows = database.execute(
            f"SELECT path, offset FROM {one} x WHERE NOT EXISTS "
            f"(SELECT 1 FROM {two} y WHERE y.id = x.id AND y.matrix = x.matrix AND y.spec = x.spec)"
        )
        for path, offset in rows:
            fields = reader.read(path, offset)
            pair = (fields.verdict, "") if kind == "gone" else ("", fields.verdict)
            found.add(kind, Change(fields.id, fields.matrix, fields.argv, *pair))
            found.lost += kind == "gone" and fields.verdict == "passed"
    found.pace = median(ratios) if ratios else None
    return found


def _kind_of(old: str, new: str) -> str:
    # A case that is skipped now, or known to fail, no longer passes either.
    if old == "passed":
        return "newly failing"
    return "newly passing" if new == "passed" else "other verdict"


def change_of(before: Record, after: Record) -> tuple[str, Change] | None:
    """Return what became of a case since another launch of it: the kind of change, and the change;
    None where it did the same and came to the same verdict."""
    old, new = before.verdict, after.verdict
    is_other = output_digest(before) != output_digest(after)
    told = difference_of(_did(before), _did(after)) if is_other else ""
    change = Change(after.id, after.matrix, after.argv, old, new, told)
    if old != new:
        return _kind_of(old, new), change
    return ("other output", change) if is_other else None


def _speed(before: float, after: float, times: list[float], later: list[float]) -> str:
    """Return whether a case got faster or slower beyond what noise explains; empty when it did
    not."""
    if len(times) >= LEAST_REPETITIONS and len(later) >= LEAST_REPETITIONS:
        # Every repetition of one run beyond every one of the other: noise does not do that.
        if min(later) > max(times) and median(later) > STEADY_FACTOR * median(times):
            return "slower"
        if max(later) < min(times) and median(times) > STEADY_FACTOR * median(later):
            return "faster"
        return ""
    if after > SLOWER_FACTOR * before and after - before > SLOWER_SECONDS:
        return "slower"
    return "faster" if before > SLOWER_FACTOR * after and before - after > SLOWER_SECONDS else ""
