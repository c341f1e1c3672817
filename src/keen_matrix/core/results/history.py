"""The history of runs: an SQLite file beside the journal. What it cannot keep is told and never stops a run.

A case is *flaky* when its verdict changed between two runs of the same spec and the same program.
"""

from __future__ import annotations

import contextlib
import hashlib
import itertools
import json
import os
import sqlite3
import time
from collections.abc import Iterator, Mapping, Sequence
from dataclasses import dataclass

from keen_matrix.core.errors import RunFault

NAME = "history.sqlite3"
VERSION = 1
BATCH = 10_000
"""Cases that are entered together, in the order of the table: that takes half the time of entering them as they come."""
WAIT_SECONDS = 15.0
"""How long a run waits while another one writes."""
_SCHEMA = """
CREATE TABLE runs (number INTEGER PRIMARY KEY, spec TEXT, spec_digest TEXT, program TEXT, program_digest TEXT,
  started TEXT, seconds REAL, jobs INTEGER, part INTEGER, counts TEXT);
CREATE TABLE cases (run INTEGER, id TEXT, matrix TEXT, verdict TEXT, seconds REAL, PRIMARY KEY (id, run)) WITHOUT ROWID;
CREATE INDEX cases_of_run ON cases (run);
CREATE INDEX runs_of_spec ON runs (spec, number);
"""


@dataclass(frozen=True, slots=True, kw_only=True)
class Run:
    """A run of one spec. `part` tells that only a choice of its vectors was run."""

    number: int = 0
    spec: str
    spec_digest: str
    program: str
    program_digest: str
    started: str
    seconds: float = 0.0
    jobs: int = 1
    part: bool = False
    counts: Mapping[str, int]


def program_digest(words: Sequence[str]) -> str:
    """Return a digest of a program: of the words that start it and the content of every file among them."""
    digest = hashlib.blake2b(digest_size=12)
    for word in words:
        digest.update(word.encode("utf-8", "surrogateescape") + b"\0")
        with contextlib.suppress(OSError, ValueError):
            if os.path.isfile(word) and os.path.getsize(word) < 64 * 1024 * 1024:
                with open(word, "rb") as file:
                    digest.update(file.read())
    return digest.hexdigest()


class History:
    """The file, open. Use it as a context."""

    def __init__(self, path: str, *, create: bool = True) -> None:
        """Open a history, or begin one. Raises RunFault when it cannot be; a corrupted file is set aside first."""
        self.path, self.set_aside = path, ""
        if not create and not os.path.exists(path):
            raise RunFault(f"there is no history yet: {path} is written by the first run")
        try:
            self._open()
        except sqlite3.DatabaseError as error:
            if isinstance(error, sqlite3.OperationalError):
                raise RunFault(f"the history {path} cannot be used: {error}") from None
            self.set_aside = f"{path}.{int(time.time())}.broken"
            os.replace(path, self.set_aside)
            self._open()

    def _open(self) -> None:
        os.makedirs(os.path.dirname(self.path) or ".", exist_ok=True)
        self._database = sqlite3.connect(self.path, timeout=WAIT_SECONDS, isolation_level=None)
        self._database.execute("PRAGMA journal_mode = WAL")
        self._database.execute("PRAGMA synchronous = NORMAL")
        self._database.execute("BEGIN IMMEDIATE")
        (version,) = self._database.execute("PRAGMA user_version").fetchone()
        if version == 0:
            for statement in _SCHEMA.split(";"):
                if statement.strip():
                    self._database.execute(statement)
            self._database.execute(f"PRAGMA user_version = {VERSION}")
        self._database.execute("COMMIT")
        if version not in (0, VERSION):
            raise sqlite3.OperationalError(f"it is of version {version}; this Keen Matrix knows version {VERSION}")

    def begin(self, run: Run) -> int:
        """Enter a run and return its number."""
        cursor = self._database.execute(
            "INSERT INTO runs (spec, spec_digest, program, program_digest, started, seconds, jobs, part, counts) "
            "VALUES (?, ?, ?, ?, ?, ?, ?, ?, ?)",
            (run.spec, run.spec_digest, run.program, run.program_digest, run.started, run.seconds, run.jobs, run.part,
             json.dumps(dict(run.counts))),
        )  # fmt: skip
        return int(cursor.lastrowid or 0)

    def add(self, run: int, cases: Sequence[tuple[str, str, str, float]]) -> None:
        """Enter cases of a run: id, matrix, verdict, seconds."""
        self._database.execute("BEGIN IMMEDIATE")
        rows = ((run, *case) for case in sorted(cases))
        columns = "run, id, matrix, verdict, seconds"
        self._database.executemany(f"INSERT OR REPLACE INTO cases ({columns}) VALUES (?, ?, ?, ?, ?)", rows)
        self._database.execute("COMMIT")

    def finish(self, run: int, seconds: float, counts: Mapping[str, int]) -> None:
        """Enter what a run came to."""
        values = (seconds, json.dumps(dict(counts)), run)
        self._database.execute("UPDATE runs SET seconds = ?, counts = ? WHERE number = ?", values)

    def runs(self, spec: str | None = None) -> Iterator[Run]:
        """Yield the runs, the newest first."""
        where, values = ("WHERE spec = ?", (spec,)) if spec else ("", ())
        columns = "number, spec, spec_digest, program, program_digest, started, seconds, jobs, part, counts"
        for row in self._database.execute(f"SELECT {columns} FROM runs {where} ORDER BY number DESC", values):
            named = dict(zip(columns.split(", "), row, strict=True))
            yield Run(**{**named, "part": bool(named["part"]), "counts": json.loads(named["counts"])})

    def flaky(self, spec: str | None = None) -> Iterator[tuple[str, str, str, int, list[str]]]:
        """Yield id, matrix, spec, changes and verdicts (oldest first) of cases whose verdict changed while nothing else did."""
        query = (
            "SELECT r.spec, c.id, c.matrix, r.spec_digest || r.program_digest, c.verdict FROM cases c "
            "JOIN runs r ON r.number = c.run WHERE c.id IN (SELECT id FROM cases GROUP BY id HAVING COUNT(DISTINCT verdict) > 1) "
            f"{'AND r.spec = ? ' if spec else ''}ORDER BY r.spec, c.id, c.run"
        )
        current: tuple[str, str, str] | None = None
        seen: list[tuple[str, str]] = []
        for owner, id, matrix, digest, verdict in self._database.execute(query, (spec,) if spec else ()):
            if (owner, id, matrix) != current:
                yield from _changed(current, seen)
                current, seen = (owner, id, matrix), []
            seen.append((digest, verdict))
        yield from _changed(current, seen)

    def slowest(self, spec: str | None = None, most: int = 10) -> list[tuple[str, str, float, int]]:
        """Return id, matrix, mean seconds and runs of the cases that take longest."""
        where, values = ("WHERE r.spec = ?", (spec,)) if spec else ("", ())
        query = (
            f"SELECT c.id, c.matrix, AVG(c.seconds), COUNT(*) FROM cases c JOIN runs r ON r.number = c.run {where} "
            "GROUP BY c.id, c.matrix ORDER BY 3 DESC LIMIT ?"
        )
        return list(self._database.execute(query, (*values, most)))

    def trend(self, id: str) -> list[tuple[str, str, str, str, float, str]]:
        """Return started, full id, matrix, verdict, seconds and digests of every run of the cases whose id begins so."""
        query = (
            "SELECT r.started, c.id, c.matrix, c.verdict, c.seconds, r.spec_digest || r.program_digest FROM cases c "
            "JOIN runs r ON r.number = c.run WHERE c.id >= ? AND c.id < ? ORDER BY c.run"
        )
        return list(self._database.execute(query, (id, id + "\x7f")))

    def last_of(self, spec: str) -> dict[str, tuple[str, float]]:
        """Return the last verdict and seconds of each case of a spec, by id."""
        query = "SELECT c.id, c.verdict, c.seconds FROM cases c JOIN runs r ON r.number = c.run WHERE r.spec = ? ORDER BY c.run"
        return {id: (verdict, seconds) for id, verdict, seconds in self._database.execute(query, (spec,))}

    def prune(self, keep: int) -> int:
        """Keep the newest runs of each spec and return how many were dropped."""
        old = "SELECT number FROM runs r WHERE (SELECT COUNT(*) FROM runs n WHERE n.spec = r.spec AND n.number > r.number) >= ?"
        self._database.execute("BEGIN IMMEDIATE")
        self._database.execute(f"DELETE FROM cases WHERE run IN ({old})", (keep,))
        dropped = self._database.execute(f"DELETE FROM runs WHERE number IN ({old})", (keep,)).rowcount
        self._database.execute("COMMIT")
        self._database.execute("PRAGMA wal_checkpoint(TRUNCATE)")
        return dropped

    def close(self) -> None:
        """Close the file."""
        self._database.close()

    def __enter__(self) -> History:
        return self

    def __exit__(self, *_: object) -> None:
        self.close()


def _changed(
    case: tuple[str, str, str] | None, seen: Sequence[tuple[str, str]]
) -> Iterator[tuple[str, str, str, int, list[str]]]:
    changes = sum(a == b and old != new for (a, old), (b, new) in itertools.pairwise(seen))
    if case is not None and changes:
        spec, id, matrix = case
        yield id, matrix, spec, changes, [verdict for _, verdict in seen]


class Recorder:
    """Enters one run into a history as its cases finish. What goes wrong is kept in `trouble` and ends the recording."""

    def __init__(self, path: str, run: Run) -> None:
        self.trouble = ""
        self._history: History | None = None
        self._waiting: list[tuple[str, str, str, float]] = []
        self._started = time.monotonic()
        with self._guarded():
            self._history = History(path)
            if self._history.set_aside:
                self.trouble = (
                    f"the history was damaged and is set aside as {self._history.set_aside}; a new one is begun"
                )
            self._number = self._history.begin(run)

    @contextlib.contextmanager
    def _guarded(self) -> Iterator[None]:
        try:
            yield
        except (RunFault, sqlite3.Error, OSError) as error:
            self.trouble = f"the history could not be kept: {error}"
            self._history = None

    def add(self, id: str, matrix: str, verdict: str, seconds: float) -> None:
        """Take a finished case."""
        if self._history is not None:
            self._waiting.append((id, matrix, verdict, seconds))
            if len(self._waiting) >= BATCH:
                self._flush()

    def _flush(self) -> None:
        if self._history is not None and self._waiting:
            with self._guarded():
                self._history.add(self._number, self._waiting)
            self._waiting = []

    def finish(self, counts: Mapping[str, int]) -> None:
        """Enter what is left and close the file."""
        self._flush()
        if self._history is not None:
            with self._guarded():
                self._history.finish(self._number, time.monotonic() - self._started, counts)
                self._history.close()
