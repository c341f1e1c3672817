"""The history of runs: an SQLite file in the project's directory. What it cannot keep is reported
and never stops a run.

A case is *flaky* when its verdict changed between two runs of the same spec and the same
program.
"""

from __future__ import annotations

import contextlib
import hashlib
import itertools
import json
import os
import sqlite3
import time
from collections.abc import Callable, Iterator, Mapping, Sequence
from typing import Self
from urllib.parse import quote

from keen_matrix.core.errors import RunFault
from keen_matrix.core.files import open_regular
from keen_matrix.core.results.journal import DIRECTORY
from keen_matrix.core.structs import Struct

#: One history for a project, whatever the journals of its runs are called.
DEFAULT_HISTORY = os.path.join(DIRECTORY, "history.sqlite3")
VERSION = 2
#: What SQLite keeps in the header of a file to tell whose it is (PRAGMA application_id): KMhx.
APPLICATION_ID = 0x4B4D6878
#: Cases that are entered together, in the order of the table: that takes half the time of entering
#: them as they come.
BATCH = 10_000
#: How long a run waits while another one writes.
WAIT_SECONDS = 0.5
_SCHEMA = """
CREATE TABLE runs (number INTEGER PRIMARY KEY, spec TEXT, spec_digest TEXT, program TEXT, program_digest TEXT,
  started TEXT, seconds REAL, jobs INTEGER, part INTEGER, counts TEXT, journal TEXT);
CREATE TABLE cases (run INTEGER, id TEXT, matrix TEXT, verdict TEXT, seconds REAL, PRIMARY KEY (id, run)) WITHOUT ROWID;
CREATE INDEX cases_of_run ON cases (run);
CREATE INDEX runs_of_spec ON runs (spec, number);
"""
#: The header of an SQLite file: its magic text first, the application id in bytes 68 to 71 (SQLite
#: file format, 1.3).
_HEADER_BYTES = 100
_MAGIC = b"SQLite format 3\0"


class HistoryRun(Struct, frozen=True, kw_only=True):
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
    #: The absolute path of the journal that the run wrote.
    journal: str = ""


def program_digest(words: Sequence[str]) -> str:
    """Return a digest of a program: of the words that start it and the content of every file among
    them."""
    digest = hashlib.blake2b(digest_size=12)
    for word in words:
        digest.update(word.encode("utf-8", "surrogateescape") + b"\0")
        with contextlib.suppress(OSError, ValueError):
            # A larger file takes longer to read than most runs do.
            if os.path.isfile(word) and os.path.getsize(word) < 64 * 1024 * 1024:
                with open(word, "rb") as file:
                    digest.update(file.read())
    return digest.hexdigest()


def is_ours(path: str) -> bool:
    """Tell whether a file is, or was before it was damaged, a history of ours: by the header that
    SQLite gave it."""
    try:
        with open_regular(path) as file:
            header = file.read(_HEADER_BYTES)
    except OSError:
        return False
    # The application id is in the first page, which outlives most damage, so a broken history
    # is still known for ours.
    return header.startswith(_MAGIC) and header[68:72] == APPLICATION_ID.to_bytes(4, "big")


class DamagedHistory(RunFault):
    """A file that was a history of ours can no longer be read as one."""


class History:
    """The file, open for reading, which changes nothing and makes no file. Use it as a context.

    Raises RunFault when there is none to read, when the file is none of ours or of another
    version, or when it is in use; DamagedHistory when it is ours and damaged.
    """

    def __init__(self, path: str) -> None:
        self.path = path
        with self.faults_told():
            self._database = self._opened()

    def _opened(self) -> sqlite3.Connection:
        if not os.path.exists(self.path):
            raise RunFault(f"there is no history yet: {self.path} is written by the first run")
        if not os.path.isfile(self.path):
            raise RunFault(f"the history {self.path} cannot be used: it is not a regular file")
        _refuse_other_files(self.path)
        return _checked(_connected(self.path, "ro"))

    @contextlib.contextmanager
    def faults_told(self) -> Iterator[None]:
        """Turn what SQLite says while the block lasts into our own faults."""
        try:
            yield
        # In use, read-only, full: the file itself may be in order, so nothing is set aside.
        except sqlite3.OperationalError as error:
            raise RunFault(f"the history {self.path} cannot be used: {error}") from None
        except (sqlite3.Error, ValueError, TypeError, OverflowError) as error:
            raise DamagedHistory(f"the history {self.path} is damaged: {error}") from None

    def runs(self, spec: str | None = None) -> Iterator[HistoryRun]:
        """Yield the runs, the newest first."""
        where, values = ("WHERE spec = ?", (spec,)) if spec else ("", ())
        columns = (
            "number, spec, spec_digest, program, program_digest, started, seconds, jobs, part, "
            "counts, journal"
        )
        for row in self._database.execute(f"SELECT {columns} FROM runs {where} ORDER BY number DESC", values):
            named = dict(zip(columns.split(", "), row, strict=True))
            yield HistoryRun(**{**named, "part": bool(named["part"]), "counts": json.loads(named["counts"])})

    def flaky(self, spec: str | None = None) -> Iterator[tuple[str, str, str, int, list[str]]]:
        """Yield id, matrix, spec, changes and verdicts (oldest first) of cases whose verdict
        changed while nothing else did."""
        query = (
            "SELECT r.spec, c.id, c.matrix, r.spec_digest || r.program_digest, c.verdict FROM cases c "
            "JOIN runs r ON r.number = c.run WHERE c.id IN (SELECT id FROM cases GROUP BY id "
            "HAVING COUNT(DISTINCT verdict) > 1) "
            f"{'AND r.spec = ? ' if spec else ''}ORDER BY r.spec, c.id, c.run"
        )
        current: tuple[str, str, str] | None = None
        seen: list[tuple[str, str]] = []
        for owner, id, matrix, digest, verdict in self._database.execute(query, (spec,) if spec else ()):
            # Ordered by the query, so one case is in the memory at a time.
            if (owner, id, matrix) != current:
                yield from _changed(current, seen)
                current, seen = (owner, id, matrix), []
            seen.append((digest, verdict))
        yield from _changed(current, seen)

    def slowest(self, spec: str | None = None, most: int = 10) -> list[tuple[str, str, str, float, int]]:
        """Return spec, id, matrix, mean seconds and runs of the cases that take longest."""
        where, values = ("WHERE r.spec = ?", (spec,)) if spec else ("", ())
        query = (
            f"SELECT r.spec, c.id, c.matrix, AVG(c.seconds), COUNT(*) FROM cases c JOIN runs r ON "
            f"r.number = c.run {where} "
            "GROUP BY r.spec, c.id, c.matrix ORDER BY 4 DESC LIMIT ?"
        )
        return list(self._database.execute(query, (*values, most)))

    def trend(self, id: str) -> list[tuple[str, str, str, str, str, float, str]]:
        """Return spec, started, full id, matrix, verdict, seconds and digests of every run of the
        cases whose id begins so."""
        query = (
            "SELECT r.spec, r.started, c.id, c.matrix, c.verdict, c.seconds, r.spec_digest || "
            "r.program_digest FROM cases c "
            "JOIN runs r ON r.number = c.run WHERE c.id >= ? AND c.id < ? ORDER BY r.spec, c.run"
        )
        # A range and no pattern, since the index has only the first.
        return list(self._database.execute(query, (id, id + "\x7f")))

    def last_of(self, spec: str) -> dict[str, tuple[str, float]]:
        """Return the last verdict and seconds of each case of a spec, by id."""
        query = (
            "SELECT c.id, c.verdict, c.seconds FROM cases c JOIN runs r ON r.number = c.run WHERE "
            "r.spec = ? ORDER BY c.run"
        )
        return {id: (verdict, seconds) for id, verdict, seconds in self._database.execute(query, (spec,))}

    def newest(self) -> tuple[str, str] | None:
        """Return when the newest run of all was started, and the absolute path of its journal."""
        found = self._database.execute(
            "SELECT started, journal FROM runs ORDER BY number DESC LIMIT 1"
        ).fetchone()
        return (str(found[0]), str(found[1])) if found else None

    def close(self) -> None:
        """Close the file."""
        self._database.close()

    def __enter__(self) -> Self:
        return self

    def __exit__(self, *_: object) -> None:
        self.close()


class WritableHistory(History):
    """The file, open for reading and writing; it is made where there is none."""

    def _opened(self) -> sqlite3.Connection:
        if os.path.exists(self.path):
            _refuse_other_files(self.path)
        os.makedirs(os.path.dirname(self.path) or ".", exist_ok=True)
        database = _connected(self.path, "rwc")
        try:
            _make(database)
        except BaseException:
            database.close()
            raise
        return _checked(database)

    def begin(self, run: HistoryRun) -> int:
        """Enter a run and return its number."""
        cursor = self._database.execute(
            "INSERT INTO runs (spec, spec_digest, program, program_digest, started, seconds, "
            "jobs, part, counts, journal) "
            "VALUES (?, ?, ?, ?, ?, ?, ?, ?, ?, ?)",
            (
                *map(_utf8, (run.spec, run.spec_digest, run.program, run.program_digest)),
                run.started,
                run.seconds,
                run.jobs,
                run.part,
                json.dumps(dict(run.counts)),
                _utf8(run.journal),
            ),
        )
        return int(cursor.lastrowid or 0)

    def add(self, run: int, cases: Sequence[tuple[str, str, str, float]]) -> None:
        """Enter cases of a run: id, matrix, verdict, seconds."""
        self._database.execute("BEGIN IMMEDIATE")
        # In the order of the key, so that pages are filled one after another.
        rows = ((run, *case) for case in sorted(cases))
        columns = "run, id, matrix, verdict, seconds"
        self._database.executemany(f"INSERT OR REPLACE INTO cases ({columns}) VALUES (?, ?, ?, ?, ?)", rows)
        self._database.execute("COMMIT")

    def finish(self, run: int, seconds: float, counts: Mapping[str, int]) -> None:
        """Enter what a run came to."""
        values = (seconds, json.dumps(dict(counts)), run)
        self._database.execute("UPDATE runs SET seconds = ?, counts = ? WHERE number = ?", values)

    def prune(self, keep: int) -> int:
        """Keep the newest runs of each spec and return how many were dropped."""
        # By spec, and not the newest of all: a spec that is run once a month keeps its past beside
        # one that is run every minute.
        old = (
            "SELECT number FROM runs r WHERE (SELECT COUNT(*) FROM runs n WHERE n.spec = r.spec AND "
            "n.number > r.number) >= ?"
        )
        self._database.execute("BEGIN IMMEDIATE")
        self._database.execute(f"DELETE FROM cases WHERE run IN ({old})", (keep,))
        dropped = self._database.execute(f"DELETE FROM runs WHERE number IN ({old})", (keep,)).rowcount
        self._database.execute("COMMIT")
        return dropped


def _refuse_other_files(path: str) -> None:
    # An empty file is what a run leaves that was ended before it wrote; it becomes a history like
    # one that is not there.
    if os.path.getsize(path) and not is_ours(path):
        raise RunFault(f"{path} is not a history of Keen Matrix; it is left as it is")


def _connected(path: str, mode: str) -> sqlite3.Connection:
    # As a URI, for its mode: a reading command must not make the file, and a name with ? or # must
    # stay a name.
    name = f"file:{quote(os.fsencode(os.path.abspath(path)))}?mode={mode}"
    return sqlite3.connect(name, timeout=WAIT_SECONDS, isolation_level=None, uri=True)


def _checked(database: sqlite3.Connection) -> sqlite3.Connection:
    """Return a database that is of our version; one of another is closed and refused."""
    try:
        (version,) = database.execute("PRAGMA user_version").fetchone()
        if version != VERSION:
            raise sqlite3.OperationalError(
                f"it is of version {version}; this Keen Matrix knows version {VERSION}"
            )
    except BaseException:
        database.close()
        raise
    return database


def _make(database: sqlite3.Connection) -> None:
    """Make the tables of a file that is new; several runs may want to at once."""
    # What a power cut may lose here is in the journals; to wait for the disk at each batch would
    # slow every run.
    database.execute("PRAGMA synchronous = NORMAL")
    database.execute("BEGIN IMMEDIATE")
    (version,) = database.execute("PRAGMA user_version").fetchone()
    if version == 0:
        for statement in _SCHEMA.split(";"):
            if statement.strip():
                database.execute(statement)
        database.execute(f"PRAGMA application_id = {APPLICATION_ID}")
        database.execute(f"PRAGMA user_version = {VERSION}")
    database.execute("COMMIT")


def _changed(
    case: tuple[str, str, str] | None, seen: Sequence[tuple[str, str]]
) -> Iterator[tuple[str, str, str, int, list[str]]]:
    # Between two neighbours of the same program and spec: a verdict that changed along with the
    # program says nothing of steadiness.
    changes = sum(a == b and old != new for (a, old), (b, new) in itertools.pairwise(seen))
    if case is not None and changes:
        spec, id, matrix = case
        yield id, matrix, spec, changes, [verdict for _, verdict in seen]


def _utf8(text: str) -> str:
    """Return a text that SQLite can store: bytes that are no UTF-8, in the name of a directory say,
    as escapes."""
    return text.encode("utf-8", "surrogateescape").decode("utf-8", "backslashreplace")


class HistoryRecorder:
    """Enters one run into a history as its cases finish. What goes wrong is kept in `trouble` and
    ends the recording.

    A history of ours that is damaged is set aside, once, and a new one is begun; no other file is
    ever touched.
    """

    def __init__(self, path: str, run: HistoryRun) -> None:
        self.trouble = ""
        self._path, self._run = path, run
        self._history: WritableHistory | None = None
        self._waiting: list[tuple[str, str, str, float]] = []
        self._started = time.monotonic()
        self._guarded(self._begin)

    def _begin(self) -> None:
        self._history = WritableHistory(self._path)
        with self._history.faults_told():
            self._number = self._history.begin(self._run)

    def _guarded(self, act: Callable[[], None]) -> None:
        """Act on the history; when it turns out to be damaged, set it aside, begin another and act
        on that."""
        try:
            try:
                act()
            except DamagedHistory:
                # Once, or a full disk would leave a new damaged file after at each case.
                if self.trouble:  # the new one as well: the disk, more likely than the file
                    raise
                self._set_aside()
                self._begin()
                # To begin is what has just been done.
                if act != self._begin:
                    act()
        except (RunFault, OSError) as error:
            self.trouble = self.trouble or f"the results are not entered into the history: {error}"
            self._close()

    def _set_aside(self) -> None:
        self._close()
        aside = f"{self._path}.{time.strftime('%Y%m%d-%H%M%S')}-{os.getpid()}.damaged"
        os.rename(self._path, aside)
        for rest in (
            "-journal",
            "-wal",
            "-shm",
        ):  # of the damaged file; a new one must not be repaired with it
            with contextlib.suppress(OSError):
                os.rename(self._path + rest, aside + rest)
        self.trouble = f"the history was damaged and is set aside as {aside}; a new one is begun"

    def _close(self) -> None:
        if self._history is not None:
            with contextlib.suppress(sqlite3.Error):
                self._history.close()
            self._history = None

    def add(self, id: str, matrix: str, verdict: str, seconds: float) -> None:
        """Take a finished case."""
        if self._history is not None:
            # In batches: a transaction a case would cost more than most programs take.
            self._waiting.append((id, matrix, verdict, seconds))
            if len(self._waiting) >= BATCH:
                self._guarded(self._flush)

    def _flush(self) -> None:
        if self._history is not None and self._waiting:
            with self._history.faults_told():
                self._history.add(self._number, self._waiting)
            self._waiting = []

    def finish(self, counts: Mapping[str, int]) -> None:
        """Enter what is left and close the file."""
        self._guarded(self._flush)

        def close() -> None:
            if self._history is not None:
                with self._history.faults_told():
                    self._history.finish(self._number, time.monotonic() - self._started, counts)

        self._guarded(close)
        self._close()
