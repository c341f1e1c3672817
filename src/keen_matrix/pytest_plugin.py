"""Specs as test items of pytest: each case is an item with its id, and one run launches all of
them.

It is off unless the configuration has `keen_matrix = true`. Under pytest-xdist one of the workers
makes the run, and the others read the result of it."""

from __future__ import annotations

import io
import os
from collections.abc import Iterator
from pathlib import Path
from typing import TYPE_CHECKING, Any

import pytest

if TYPE_CHECKING:
    from keen_matrix.core.errors import KeenMatrixError
    from keen_matrix.core.model.case import Case
    from keen_matrix.core.model.record import Record
    from keen_matrix.core.model.spec import Matrix, Spec

SUFFIX = ".matrix.toml"
#: Below the root directory of pytest.
JOURNAL = os.path.join(".keen-matrix", "pytest.jsonl")
#: How long a worker waits for the one that makes the run.
WAIT_SECONDS = 3_600.0
NOT_DERIVED = "the spec no longer derives it: its base call was not accepted; keen-matrix run shows why"
_RESULTS = pytest.StashKey["Results"]()


def pytest_addoption(parser: pytest.Parser) -> None:
    """Add the switch to the configuration."""
    parser.addini("keen_matrix", f"collect *{SUFFIX} as tests, a case an item", "bool", False)
    parser.addini(
        "keen_matrix_jobs", "launches of a spec's program at a time (default: the processors)", "string", ""
    )


def pytest_collect_file(file_path: Path, parent: pytest.Collector) -> pytest.Collector | None:
    """Collect a spec, where that is asked for."""
    if not (file_path.name.endswith(SUFFIX) and parent.config.getini("keen_matrix")):
        return None
    return SpecFile.from_parent(parent, path=file_path)


class SpecFile(pytest.File):
    """A spec: its items are its cases. Nothing is launched to collect them."""

    def collect(self) -> Iterator[pytest.Collector]:
        """Yield a collector for each matrix."""
        from keen_matrix.core.errors import KeenMatrixError

        try:
            spec = self._spec()
        except KeenMatrixError as fault:
            raise self.CollectError(_told(fault)) from None
        for matrix in spec.matrices:
            yield MatrixNode.from_parent(self, name=_node_name(matrix.name), spec=spec, matrix=matrix)

    def _spec(self) -> Spec:
        from keen_matrix.core.results.kept_grounds import load_grounds
        from keen_matrix.core.runs.grounding.controls import grounded
        from keen_matrix.core.spec.kept import kept_spec

        spec = kept_spec(str(self.path))
        if spec.signature is None:
            return spec
        return grounded(spec, load_grounds(str(self.config.rootpath / JOURNAL), spec))


class MatrixNode(pytest.Collector):
    """A matrix of a spec: its items are its cases."""

    def __init__(self, *, spec: Spec, matrix: Matrix, **more: Any) -> None:
        super().__init__(**more)
        self.spec, self.matrix = spec, matrix

    def collect(self) -> Iterator[pytest.Item]:
        """Yield an item for each case, by its id."""
        from keen_matrix.core.errors import KeenMatrixError
        from keen_matrix.core.vectors.unfold import unfold_matrix

        try:
            for case in unfold_matrix(self.spec, self.matrix):
                yield CaseItem.from_parent(self, name=case.id, spec=self.spec, matrix=self.matrix, case=case)
        except KeenMatrixError as fault:
            raise self.CollectError(_told(fault)) from None


def _node_name(name: str) -> str:
    """Return the name of a matrix without the signs that part the ids of pytest."""
    return name.replace("::", ":").replace("[", "(").replace("]", ")")


class CaseItem(pytest.Item):
    """A case of a spec."""

    def __init__(self, *, spec: Spec, matrix: Matrix, case: Case, **more: Any) -> None:
        super().__init__(**more)
        self.spec, self.matrix, self.case = spec, matrix, case
        words = (*case.argv, case.family, case.kind, *matrix.marks.tags)
        self.extra_keyword_matches.update(filter(None, words))

    def runtest(self) -> None:
        """Take the result of the case from the run of all of them. Raises CaseFailure."""
        results = self.config.stash.get(_RESULTS, None)
        if results is None:
            results = self.config.stash[_RESULTS] = Results(self.session)
        fault = results.faults.get(str(self.path))
        if fault:
            pytest.fail(fault, pytrace=False)
        record = results.records.get((str(self.path), self.case.id))
        if record is None:
            pytest.skip(NOT_DERIVED)
        if record.verdict == "skipped":
            pytest.skip(record.skipped)
        if record.verdict == "known":
            pytest.xfail(record.known)
        if record.verdict != "passed":
            raise CaseFailure(self, record)

    def repr_failure(self, excinfo: pytest.ExceptionInfo[BaseException], style: Any = None) -> Any:
        """Return a failure in the words of a run."""
        if isinstance(excinfo.value, CaseFailure):
            return excinfo.value.text()
        return super().repr_failure(excinfo, style)

    def reportinfo(self) -> tuple[Path, int | None, str]:
        """Return where the matrix of the case stands, and its vector."""
        from keen_matrix.wording.safe import shell_line

        line = self.matrix.origin.rpartition(":")[2]
        number = max(0, int(line) - 1) if line.isdecimal() else None
        return self.path, number, f"{self.matrix.name}: {shell_line(self.case.argv) or 'no words'}"


class CaseFailure(Exception):
    """A case failed."""

    def __init__(self, item: CaseItem, record: Record) -> None:
        super().__init__(record.verdict)
        self._item, self._record = item, record

    def text(self) -> str:
        """Return what a run says of it."""
        from keen_matrix.cli.console.screen import Screen
        from keen_matrix.cli.shown import shown_launch, surroundings_shown
        from keen_matrix.wording.failures import Failure, failure_rows
        from keen_matrix.wording.repeating import repeat_line

        spec, matrix, record = self._item.spec, self._item.matrix, self._record
        stream = io.StringIO()
        screen = Screen(stream, color="never", width=100)
        screen.unicode = True
        line = repeat_line(shown_launch(spec), record, surroundings_shown(spec, matrix, record))
        screen.rows(failure_rows(screen, Failure(record, matrix.name, line, [], 0, 0), everything=False))
        return stream.getvalue().rstrip("\n")


class Results:
    """The result of the cases of a session: one run launches those that are selected."""

    def __init__(self, session: pytest.Session) -> None:
        self.records: dict[tuple[str, str], Record] = {}
        #: Path of a spec → why it could not be run.
        self.faults: dict[str, str] = {}
        items = [each for each in session.items if isinstance(each, CaseItem)]
        shared = getattr(session.config, "workerinput", {}).get("testrunuid")
        if shared is None:
            journal = str(session.config.rootpath / JOURNAL)
            self._run(session, items, journal)
            self._read(journal)
        else:
            self._share(session, items, str(shared))

    def _share(self, session: pytest.Session, items: list[CaseItem], uid: str) -> None:
        """Make the run, unless another worker of pytest-xdist does or has: it leaves the number of
        the session beside the journal."""
        from keen_matrix.core.results.locks import waiting_lock

        journal = str(session.config.rootpath / JOURNAL)
        os.makedirs(os.path.dirname(journal), exist_ok=True)
        made = Path(f"{journal}.session")
        with waiting_lock(str(made), WAIT_SECONDS):
            if not made.exists() or made.read_text() != uid:
                self._run(session, items, journal)
                made.write_text(uid)
        self._read(journal)

    def _run(self, session: pytest.Session, items: list[CaseItem], journal: str) -> None:
        from keen_matrix.core.errors import KeenMatrixError
        from keen_matrix.core.runs.in_process import run_specs

        paths = list(dict.fromkeys(str(each.path) for each in items))
        jobs = str(session.config.getini("keen_matrix_jobs"))
        most = session.config.getoption("maxfail", 0) or None
        ids = [each.case.id for each in items]
        try:
            found = run_specs(
                paths,
                only=ids,
                jobs=int(jobs) if jobs.isdecimal() else None,
                journal=journal,
                stop_after=most,
            )
            for fault in found.faults:
                self.faults |= dict.fromkeys(_specs_of(fault, paths), _told(fault))
        except KeenMatrixError as fault:
            self.faults |= dict.fromkeys(paths, _told(fault))

    def _read(self, journal: str) -> None:
        from keen_matrix.core.results.reading import cases_of, spec_faults

        if not os.path.exists(journal):
            return
        for header, record in cases_of([journal]):
            self.records[os.path.abspath(header.spec), record.id] = record
        for spec, fault in spec_faults([journal]).items():
            self.faults.setdefault(os.path.abspath(spec), fault)


def _specs_of(fault: KeenMatrixError, paths: list[str]) -> list[str]:
    """Return the specs that a fault is about: those that it names, or all."""
    text = str(fault)
    return [each for each in paths if each in text] or paths


def _told(fault: KeenMatrixError) -> str:
    from keen_matrix.core.errors import SpecFault

    return "\n".join(map(str, fault.problems)) if isinstance(fault, SpecFault) else str(fault)
