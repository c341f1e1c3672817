"""Records: what the journal says of a run, typed from the engine to the last report.

A line of a journal is a header, the record of a case, or the closing line of a spec's run. Fields
that are left out when they say nothing have a default; all others are in every line. Names and
order are those of the JSON.
"""

from __future__ import annotations

import base64
from collections.abc import Mapping
from typing import Any, Literal, TypeAlias, get_args

from keen_matrix.core.structs import Struct, field

Verdict: TypeAlias = Literal[
    "passed",
    "failed",
    "crashed",
    "timed-out",
    "not-started",
    "unchecked",
    "flaky",
    "blocked",
    "known",
    "skipped",
]
#: In the order in which counts list them; the numbers of the worker's frames point into it.
VERDICTS: tuple[Verdict, ...] = get_args(Verdict)
#: The worst first: the verdict that stands for several, and the order in which causes are reported.
FROM_WORST: tuple[Verdict, ...] = (
    "crashed",
    "timed-out",
    "not-started",
    "failed",
    "flaky",
    "blocked",
    "unchecked",
    "known",
    "skipped",
    "passed",
)


#: Verdicts with which a run is green.
PASSING: frozenset[str] = frozenset({"passed", "known", "skipped"})
#: Verdicts of launches whose result is none to go by, and what is said of these: nothing is
#: recorded of them unasked.
BROKEN: Mapping[str, str] = {
    "crashed": "crashed",
    "timed-out": "did not end in time",
    "not-started": "could not be started",
}
#: Verdicts of cases without an end of their own.
_ENDLESS: frozenset[str] = frozenset({"timed-out", "not-started", "skipped", "blocked"})


def _none() -> None:
    """Default of a field that is in every line, null too: what has a plain default is left out
    where it has it."""


def _no_files() -> dict[str, FileChange]:
    """Default of the files, which are in every line, also when there are none."""
    return {}


#: Fields of a record by name, before it is made.
RecordFields: TypeAlias = dict[str, Any]


class FileChange(Struct, frozen=True, omit_defaults=True):
    """What a launch did to a file of its directory."""

    #: created, changed or deleted; `more` for those that are only counted.
    state: str
    #: file, directory, link or other; nothing of what is gone.
    kind: str = ""
    #: In bytes; 0 of a directory, None of what is gone.
    size: int | None = None
    #: Permissions in octal digits.
    mode: str = ""
    #: What changed: kind, content, mode.
    differs: tuple[str, ...] = ()
    old_mode: str = ""
    #: Files that are not listed by name.
    count: int = 0


class LookedAt(Struct, omit_defaults=True):
    """A file that expectations looked at: its content, or what stood there instead of a file."""

    content: str | None = None
    content_base64: str | None = None
    content_bytes: int = 0
    instead: str = ""
    mode: str = ""
    link: str = ""


class FeederEnd(Struct):
    """How a command that fed standard input ended."""

    command: str
    exit: int | None
    signal: str | None


class KeptDifference(Struct):
    """Where two texts differ that are too long to be kept whole."""

    #: same, expected or found; the number of the line; its text.
    lines: list[tuple[Literal["same", "expected", "found"], int, str]]
    differing: int
    of: int


class AspectRecord(Struct, omit_defaults=True):
    """One aspect of a launch: whether its expectation is met and, if not, what was expected and
    what was found."""

    aspect: str
    met: bool
    form: str = ""
    #: None where the expectation is met, as `actual` is.
    expected: str | None = None
    actual: str | None = None
    #: Whether the expectation could not be checked.
    problem: bool = False
    difference: KeptDifference | None = None
    #: The whole output, where a baseline is to be made of it.
    recorded: str | None = None
    recorded_base64: str | None = None
    recorded_bytes: int = 0
    #: Place of the rule, `file:line`.
    rule: str = ""
    #: The number of the launch, counted from 1, in a case of several.
    step: int = 0


class Repeats(Struct):
    """The launches of a case that was launched several times."""

    times: int
    #: Outcomes that differ from each other.
    different: int
    seconds: list[float]


class StreamFields(Struct, kw_only=True, omit_defaults=True):
    """What a launch printed: text, or base64 where it is no UTF-8; `…_bytes` is how much came in
    all where the cap cut it."""

    stdout: str | None = None
    stdout_base64: str | None = None
    stdout_bytes: int = 0
    stderr: str | None = None
    stderr_base64: str | None = None
    stderr_bytes: int = 0


class LaunchFields(StreamFields, kw_only=True, omit_defaults=True):
    """The result of one launch. Times are seconds, memory is bytes."""

    verdict: Verdict
    exit: int | None = field(default_factory=_none)
    signal: str | None = field(default_factory=_none)
    seconds: float
    user_seconds: float = field(default_factory=float)
    system_seconds: float = field(default_factory=float)
    peak_bytes: int | None = field(default_factory=_none)
    peak_at_most: bool = False
    files: dict[str, FileChange] = field(default_factory=_no_files)
    looked_at: dict[str, LookedAt] = {}
    #: What came in which order: stream, bytes, seconds since the start.
    arrivals: list[tuple[str, int, float]] = []
    #: Prompts and the replies given.
    dialogue: list[tuple[str, str]] = []
    feeders: list[FeederEnd] = []
    leftovers: list[str] = []
    #: The signal that the spec ended the program with.
    stopped: str | None = None


class StepRecord(LaunchFields, kw_only=True, omit_defaults=True):
    """One launch of a case of several."""

    argv: tuple[str, ...]
    #: Name and line of another way in which the program was started.
    launcher: str = ""


class CaseFields(Struct, kw_only=True, omit_defaults=True):
    """What a case is, without any outcome."""

    id: str
    matrix: str
    family: str | None = field(default_factory=_none)
    kind: str | None = field(default_factory=_none)
    argv: tuple[str, ...]
    values: dict[str, Any]
    judgement: str | None = field(default_factory=_none)
    culprit: str = ""
    detail: str = ""
    #: Where its row stands, `tickets.csv:7`.
    row: str = ""
    note: str = ""
    #: Why it is known to differ.
    known: str = ""
    #: Aspects that are known to differ; none stands for all of them.
    known_aspects: tuple[str, ...] = ()
    #: The verdict that is known.
    known_verdict: str = "failed"
    #: The last day on which that did not count, once it is past.
    known_until: str = ""
    #: Why it was not launched.
    skipped: str = ""
    #: Why it shows nothing of the program at work if it prints nothing, or help.
    hollow: str = ""
    #: Columns of its row whose cells are left open.
    open_columns: tuple[str, ...] = ()
    relation: str = ""
    more_argv: tuple[tuple[str, ...], ...] = ()
    #: Numbers of the launches, from 0, that start another program.
    others: tuple[int, ...] = ()
    #: Vectors that the program was launched with before each launch in a fresh directory.
    before: tuple[tuple[str, ...], ...] = ()
    #: Why the signature refuses a vector that somebody wrote: `unknown-option --swap`.
    refused: str = ""
    fault: str = ""
    #: The vector that it was made of by one change.
    control: tuple[str, ...] = ()


class Record(CaseFields, kw_only=True, omit_defaults=True):
    """A case with the result of it. The fields of a launch are those of LaunchFields, of its only
    or its telling one: a Struct cannot have two bases with fields."""

    #: Numbers of the masks that found something.
    masked: list[int] = []
    stdout_masked: str | None = None
    stderr_masked: str | None = None
    remarks: list[str] = []
    #: Aspects whose expectation any output would have met.
    asked_nothing: tuple[str, ...] = ()
    #: Aspects of which it is not known yet what is to come.
    left_open: tuple[str, ...] = ()
    verdict: Verdict
    exit: int | None = field(default_factory=_none)
    signal: str | None = field(default_factory=_none)
    seconds: float
    user_seconds: float = field(default_factory=float)
    system_seconds: float = field(default_factory=float)
    peak_bytes: int | None = field(default_factory=_none)
    peak_at_most: bool = False
    stdout: str | None = None
    stdout_base64: str | None = None
    stdout_bytes: int = 0
    stderr: str | None = None
    stderr_base64: str | None = None
    stderr_bytes: int = 0
    files: dict[str, FileChange] = field(default_factory=_no_files)
    looked_at: dict[str, LookedAt] = {}
    #: File of the spec that a word of an accepted derived vector names → whether it was read.
    samples: dict[str, bool] = {}
    arrivals: list[tuple[str, int, float]] = []
    dialogue: list[tuple[str, str]] = []
    feeders: list[FeederEnd] = []
    leftovers: list[str] = []
    stopped: str | None = None
    aspects: list[AspectRecord]
    steps: list[StepRecord] = []
    #: Where its directory was kept.
    kept: str = ""
    #: When the run began that launched it, where nothing had changed since and it was not launched
    #: again.
    taken_from: str = ""
    repeats: Repeats | None = None

    def compared_stream(self, name: str) -> str | None:
        """Return a stream as runs are compared by it: masked where masks are, else text, else its
        base64."""
        for ending in ("_masked", "", "_base64"):
            kept: str | None = getattr(self, name + ending)
            if kept is not None:
                return kept
        return None

    @property
    def unmet(self) -> list[AspectRecord]:
        """The aspects that are not as expected."""
        return [each for each in self.aspects if not each.met]


class Header(Struct, kw_only=True, omit_defaults=True):
    """The first line of a spec's run."""

    #: The version of the format.
    journal: int
    version: str = ""
    #: Its path from the directory in which the run was called.
    spec: str
    spec_digest: str = ""
    started: str
    platform: str = ""
    jobs: int = 0
    matrices: list[str] = []
    #: Matrix → axis → its values in order, as grids show them.
    axes: dict[str, dict[str, list[str]]] = {}
    launch: list[str] = []
    launcher: str = ""
    program: str = ""
    seed: int | None = None
    repeat: int = 1
    shard: str = ""
    #: Patterns that the run was limited to.
    only: tuple[str, ...] = ()
    #: Tags that the run was limited to.
    tags: tuple[str, ...] = ()
    #: Tags that the run left out.
    not_tags: tuple[str, ...] = ()
    #: Whether only cases without a passing result were asked for.
    failed: bool = False
    #: How many cases the run of this spec has; None where they were not counted.
    cases: int | None = None
    #: Every spec of the run, in the header of the first one where there are several.
    specs: list[str] = []
    #: Why the spec could not be run.
    fault: str = ""
    #: Matrix → a digest of all that what comes of its cases follows from beside their words and
    #: values.
    digests: dict[str, str] = {}


class Remark(Struct, frozen=True, kw_only=True, omit_defaults=True):
    """Something worth a word though it is no failure. `wording.remarks` has a sentence for each
    kind."""

    kind: str
    #: What it is about: options, a stream, a pattern, a sentence of its own.
    subject: str = ""
    #: How many cases, or options, it is about, and the first cases.
    count: int = 0
    ids: tuple[str, ...] = ()
    #: What would state it in the spec.
    edit: str = ""
    #: Where it is, `fare.matrix.toml:7`.
    place: str = ""


class Finished(Struct, kw_only=True, omit_defaults=True):
    """The last line of a spec's run."""

    finished: str
    counts: dict[str, int]
    interrupted: bool = False
    remarks: list[Remark] = []
    #: Cases that have no result; None when they were not counted.
    left: int | None = field(default=0)


Line: TypeAlias = Header | Record | Finished


def end_of(launch: Record | StepRecord) -> str:
    """Return how a launch ended, in words: `exit 2`, `signal SEGV`, `timed out`."""
    if isinstance(launch, Record) and launch.verdict in _ENDLESS:
        return launch.verdict.replace("-", " ")
    return f"signal {launch.signal}" if launch.signal else f"exit {launch.exit}"


def kept_bytes(holder: object, name: str) -> bytes:
    """Return a stream, or other text of a record that may be base64, as the bytes it was."""
    encoded = getattr(holder, f"{name}_base64")
    if encoded is not None:
        return base64.b64decode(encoded)
    return str(getattr(holder, name) or "").encode("utf-8", "surrogatepass")


def as_kept(name: str, raw: bytes, came: int | None = None) -> RecordFields:
    """Return the fields that keep bytes as text, or as base64 where they are no UTF-8; `came` is
    how many there were in all."""
    fields: RecordFields = {}
    try:
        fields[name] = raw.decode("utf-8")
    except UnicodeDecodeError:
        fields[f"{name}_base64"] = base64.b64encode(raw).decode()
    if came is not None and came > len(raw):
        fields[f"{name}_bytes"] = came
    return fields
