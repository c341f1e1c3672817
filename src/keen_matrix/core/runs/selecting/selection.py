"""Which cases of a spec are run, and which are left of them in a run that goes on."""

from __future__ import annotations

import os
import shlex
from collections.abc import Callable, Container, Iterable, Iterator, Sequence
from fnmatch import fnmatchcase
from typing import NamedTuple, TypeAlias

from keen_matrix.core.errors import nearest
from keen_matrix.core.model.case import Case
from keen_matrix.core.model.identity import CaseKey
from keen_matrix.core.model.record import PASSING, Finished, Header, Record
from keen_matrix.core.model.spec import Spec
from keen_matrix.core.results.journal import Journal
from keen_matrix.core.results.tally import Tally
from keen_matrix.core.runs.options import CaseChoice, Tags
from keen_matrix.core.vectors.ids import ALPHABET, ID_LENGTH, SHORTEST_ID, shard_of
from keen_matrix.core.vectors.unfold import unfold

CaseTest: TypeAlias = Callable[[Case], bool]
#: Matrices that a message lists.
SHOWN_NAMES = 12


class Selection:
    """Cases of a spec that pass some tests; it can be gone through again and again."""

    def __init__(self, spec: Spec, tests: Iterable[CaseTest | None]) -> None:
        self._spec = spec
        self._tests = [test for test in tests if test is not None]

    @property
    def is_all(self) -> bool:
        """Whether no case is left out."""
        return not self._tests

    def without(self, ids: Container[str]) -> Selection:
        """Return its cases except for those with some ids."""
        return Selection(self._spec, (*self._tests, lambda case: case.id not in ids))

    def of_matrices(self, matrices: Container[int]) -> Selection:
        """Return those of its cases that are of some matrices, by their index."""
        return Selection(self._spec, (*self._tests, lambda case: case.matrix in matrices))

    def __iter__(self) -> Iterator[Case]:
        cases = unfold(self._spec)
        if not self._tests:
            return cases
        # Unfolded again each time and never kept: there may be more cases than memory.
        return (case for case in cases if all(test(case) for test in self._tests))


def selected(spec: Spec, choice: CaseChoice, failed: LastRun | None, done: frozenset[str]) -> Selection:
    """Return the cases of a spec that are asked for, except for those whose ids are done; with
    `failed` only those that the last run has not shown to pass."""
    return Selection(
        spec,
        (
            selector(choice.only, choice.tags, spec),
            None if failed is None else failed.wants(spec),
            None if choice.shard is None else _in_shard(*choice.shard),
            (lambda case: case.id not in done) if done else None,
        ),
    )


def parts_by_jobs(spec: Spec, chosen: Selection) -> Iterator[tuple[int | None, Selection]]:
    """Yield the cases that are chosen in parts, each with the most launches that it may have at a
    time: first the matrices that nothing limits by themselves, then each that something does."""
    own = [each for each in spec.matrices if spec.most_jobs(each) != spec.program.jobs]
    if not own:
        yield spec.program.jobs, chosen
        return
    others = {each.index for each in spec.matrices} - {each.index for each in own}
    # Those without a limit first, while all workers are there; what runs alone comes last.
    if others:
        yield spec.program.jobs, chosen.of_matrices(others)
    for matrix in own:
        yield spec.most_jobs(matrix), chosen.of_matrices({matrix.index})


def _in_shard(part: int, parts: int) -> CaseTest:
    return lambda case: shard_of(case.id, parts) == part


def selector(patterns: Sequence[str], tags: Tags, spec: Spec) -> CaseTest | None:
    """Return the test that patterns of ids, matrices and words, and tags, stand for, or None when
    every case is taken."""
    tests = [each for each in (_pattern_test(patterns, spec), _tag_test(tags, spec)) if each]
    if len(tests) < 2:
        return next(iter(tests), None)
    return lambda case: all(test(case) for test in tests)


def _pattern_test(patterns: Sequence[str], spec: Spec) -> CaseTest | None:
    if not patterns:
        return None
    names = {matrix.index: matrix.name for matrix in spec.matrices}
    ids = tuple(
        each
        for each in patterns
        # A word may look like an id; it is tried as a pattern as well.
        if SHORTEST_ID <= len(each) <= ID_LENGTH and set(each) <= set(ALPHABET)
    )

    # A thousand ids of a list from elsewhere are looked up, and not compared one by one with each
    # case.
    whole = frozenset(each for each in ids if len(each) == ID_LENGTH)
    ids = tuple(each for each in ids if each not in whole)
    patterns = [each for each in patterns if each not in whole]

    def fits(case: Case) -> bool:
        if case.id in whole or (ids and case.id.startswith(ids)):
            return True
        return any(
            fnmatchcase(names[case.matrix], pattern) or any(fnmatchcase(word, pattern) for word in case.argv)
            for pattern in patterns
        )

    return fits


def _tag_test(tags: Tags, spec: Spec) -> CaseTest | None:
    """Return the test for the tags of a choice; None when there are none."""
    if not any(tags):
        return None
    wanted, unwanted = map(set, tags)
    chosen = {
        matrix.index
        for matrix in spec.matrices
        if not unwanted & set(matrix.marks.tags) and (not wanted or wanted & set(matrix.marks.tags))
    }
    return lambda case: case.matrix in chosen


def unknown_tag(specs: Sequence[Spec], tags: Tags) -> str:
    """Return the message that no matrix has one of some tags; nothing where each has one."""
    known = dict.fromkeys(tag for spec in specs for each in spec.matrices for tag in each.marks.tags)
    wrong = next((each for each in (*tags.wanted, *tags.unwanted) if each not in known), None)
    if wrong is None:
        return ""
    hint = nearest(wrong, known)
    near = f'; did you mean "{hint}"?' if hint else ""
    listed = f"the tags are {', '.join(known)}" if known else 'a matrix has tags by tags = ["slow"]'
    return f'no matrix has the tag "{wrong}"{near}\n  {listed}'


def nothing_matches(specs: Sequence[Spec], asked: Sequence[str], patterns: Sequence[str]) -> str:
    """Return the message that a choice of vectors takes none: what there is, the nearest right
    word, how to see ids."""
    names = list(dict.fromkeys(matrix.name for spec in specs for matrix in spec.matrices))
    hint = next((found for each in patterns if (found := nearest(each, names))), None)
    listed = ", ".join(f'"{each}"' for each in names[:SHOWN_NAMES])
    more = f" and {len(names) - SHOWN_NAMES} more" if len(names) > SHOWN_NAMES else ""
    near = f'; did you mean "{hint}"?' if hint else ""
    noun = "matrix is" if len(names) == 1 else "matrices are"
    return (
        f"no case matches {' '.join(asked)}{near}\n  the {noun} {listed}{more}; keen-matrix unfold "
        f"shows the ids"
    )


def nothing_selected(specs: Sequence[Spec], choice: CaseChoice) -> str:
    """Return the message that a run has no case."""
    asked = list(choice.only)  # given behind --only, or as ids
    asked += choice.tags.options()
    asked += ["--failed"] if choice.failed else []
    asked += ["--shard {}/{}".format(*choice.shard)] if choice.shard else []
    if not asked:
        names = " ".join(shlex.quote(each.path) for each in specs)
        return (
            f"{names} has no cases yet\n  keen-matrix try --write {names} -- WORDS saves a call as its first one\n"
            f"  keen-matrix draft -- PROGRAM writes a signature, from which cases follow"
        )
    return nothing_matches(specs, asked, choice.only)


class LastRun:
    """What a run before this one has not shown to pass, by its journal: what failed, and
    every case that it was asked for and has no result of, since a result that is not there is no
    good one."""

    def __init__(self, journal: str) -> None:
        """Read a journal. Raises RunFault."""
        from keen_matrix.core.results.missing import missing_results
        from keen_matrix.core.results.reading import read_journal

        self._passing: set[CaseKey] = set()
        self._failing: set[CaseKey] = set()
        #: Absolute path of a spec that the run was asked for → its header.
        self._asked: dict[str, Header] = {}
        header: Header | None = None
        for line in read_journal(journal):
            if isinstance(line, Header):
                header = line
                self._asked[os.path.abspath(line.spec)] = line
                for spec in line.specs:
                    bare = Header(
                        journal=0,
                        spec=spec,
                        started="",
                        only=line.only,
                        tags=line.tags,
                        not_tags=line.not_tags,
                    )
                    self._asked.setdefault(os.path.abspath(spec), bare)
            elif isinstance(line, Record) and header is not None:
                kept = self._passing if line.verdict in PASSING else self._failing
                kept.add(CaseKey.of(header.spec, line.id))
        self._cut_off = {os.path.abspath(each.spec) for each in missing_results([journal])}

    def had(self, spec: str) -> bool:
        """Tell whether the run was asked for a spec."""
        return os.path.abspath(spec) in self._asked

    def wants(self, spec: Spec) -> CaseTest:
        """Return the test for the cases of a spec that are to be run again."""
        path = os.path.abspath(spec.path)
        header = self._asked.get(path)
        if header is None:
            return lambda case: False
        asked = selector(header.only, Tags(header.tags, header.not_tags), spec)
        # A run of what had not passed has no record of what had: only if it was cut off is it not
        # known which is which, and then all without a record are run.
        leaves_out = header.failed and path not in self._cut_off
        shard = _shard_of(header.shard)

        def test(case: Case) -> bool:
            key = CaseKey.of(spec.path, case.id)
            if key in self._failing:
                return True
            if key in self._passing or leaves_out:
                return False
            return (asked is None or asked(case)) and (shard is None or shard(case))

        return test


def _shard_of(text: str) -> CaseTest | None:
    part, slash, parts = text.partition("/")
    return _in_shard(int(part), int(parts)) if slash else None


class Recorded(NamedTuple):
    """What a journal has of a spec already."""

    #: Of the cases that it has a record of.
    ids: frozenset[str]
    #: Whether further records would stand under this spec's header.
    is_open: bool
    #: Whether its run has ended, by its closing line.
    is_closed: bool = False


def count_recorded(spec: Spec, tally: Tally, journal: Journal) -> Recorded:
    """Count the cases of a spec that a journal which is gone on with has a record of."""
    done: set[str] = set()
    by_name = {matrix.name: matrix.index for matrix in spec.matrices}
    current = closed = False
    for offset, line, said in journal.lines():
        if isinstance(said, Header):
            # A journal has several specs after each other; a record belongs to the header above
            # it.
            current = said.spec == spec.path and not said.fault
            closed = False
        elif isinstance(said, Finished):
            closed = said.left == 0
        elif isinstance(said, Record) and current and said.matrix in by_name:
            # A run that was broken off may have written a case that the next one wrote again.
            if said.id in done:
                continue
            done.add(said.id)
            tally.add_record(said, by_name[said.matrix], offset, line)
    return Recorded(frozenset(done), current, current and closed)
