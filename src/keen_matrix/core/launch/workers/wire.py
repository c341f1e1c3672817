"""What the engine and its workers say to each other: frames on a socket, each a length and a
body."""

from __future__ import annotations

import pickle
import struct
from collections.abc import Mapping
from typing import TYPE_CHECKING, NamedTuple

from keen_matrix.core.launch.launchers import ResolvedLaunch
from keen_matrix.core.launch.workers.frames import LENGTH
from keen_matrix.core.model.case import Case
from keen_matrix.core.model.lines import decode_record, encode
from keen_matrix.core.model.record import VERDICTS, Record
from keen_matrix.core.model.spec import Spec
from keen_matrix.core.structs import Struct, field

if TYPE_CHECKING:
    from keen_matrix.core.launch.warm.keepers import WarmPlan

_RESULT = struct.Struct("!BIIBd?10s")
_LIVE = struct.Struct("!B10s6sd")
_IS_RESULT, _IS_LIVE, _IS_READY, _IS_FAULT = 0, 1, 2, 3


class Plan(Struct, frozen=True, kw_only=True):
    """What a worker has to know before the first case."""

    #: Without the values of its axes: those travel with each case.
    spec: Spec
    #: The file to start.
    file: str
    #: The launch words, filled in, as the spec has them: the first is the name that the program
    #: sees itself called by.
    launch: tuple[str, ...]
    environment: dict[str, str]
    #: The directory in which the worker makes those of its cases.
    root: str
    #: How many programs the worker runs at a time.
    jobs: int
    #: Bytes kept of each stream.
    cap: int
    #: The directory in which the directories of failing cases are kept; empty to keep none.
    keep: str = ""
    #: How often each case is launched.
    repeat: int = 1
    #: Whether output is sent as it comes.
    live: bool = False
    #: How the program is run warm; None to start it again each time.
    warm: WarmPlan | None = None
    #: Other ways to start the program: the file and the words of each.
    launchers: Mapping[str, ResolvedLaunch] = field(default_factory=dict)


class ResultFrame(NamedTuple):
    """What a worker says of a finished case: `verdict` is a number into VERDICTS, `line` the
    journal's JSON."""

    sequence: int
    matrix: int
    verdict: int
    seconds: float
    #: Whether the record has remarks, or masks that found something.
    noted: bool
    id: str
    line: bytes

    @property
    def record(self) -> Record:
        """The whole record."""
        return decode_record(self.line)


def pack(message: object) -> bytes:
    """Return the frame of a message to a worker."""
    body = pickle.dumps(message, protocol=pickle.HIGHEST_PROTOCOL)
    return LENGTH.pack(len(body)) + body


class LiveFrame(NamedTuple):
    """Some output of a case as it came: the case's id, the stream, and the seconds since the
    program was started."""

    id: str
    stream: str
    seconds: float
    text: bytes


def pack_result(case: Case, record: Record) -> bytes:
    """Return the frame of a finished case."""
    sequence, matrix, verdict, seconds, noted, id, line = result_frame(case, record)
    head = _RESULT.pack(_IS_RESULT, sequence, matrix, verdict, seconds, noted, id.encode())
    return LENGTH.pack(_RESULT.size + len(line)) + head + line


def result_frame(case: Case, record: Record) -> ResultFrame:
    """Return what is said of a finished case."""
    number = VERDICTS.index(record.verdict)
    noted = bool(record.remarks or record.masked)
    return ResultFrame(case.sequence, case.matrix, number, record.seconds, noted, case.id, encode(record))


def pack_live(id: str, stream: str, seconds: float, text: bytes) -> bytes:
    """Return the frame of some output."""
    return (
        LENGTH.pack(_LIVE.size + len(text))
        + _LIVE.pack(_IS_LIVE, id.encode(), stream.encode(), seconds)
        + text
    )


class ReadyFrame(NamedTuple):
    """A worker has taken a plan and can launch."""


class FaultFrame(NamedTuple):
    """Why a worker ends before it was told to."""

    text: str


def pack_ready() -> bytes:
    """Return the frame of a worker that has taken its plan."""
    return LENGTH.pack(1) + bytes([_IS_READY])


def pack_fault(text: str) -> bytes:
    """Return the frame of a worker that ends for a reason of its own."""
    body = bytes([_IS_FAULT]) + text.encode("utf-8", "backslashreplace")[:2_000]
    return LENGTH.pack(len(body)) + body


def unpack(body: bytes) -> ResultFrame | LiveFrame | ReadyFrame | FaultFrame:
    """Return what is in a frame's body from a worker."""
    if body[0] == _IS_READY:
        return ReadyFrame()
    if body[0] == _IS_FAULT:
        return FaultFrame(body[1:].decode("utf-8", "replace"))
    if body[0] == _IS_LIVE:
        _, id, stream, seconds = _LIVE.unpack_from(body)
        return LiveFrame(id.decode(), stream.decode(), seconds, body[_LIVE.size :])
    _, sequence, matrix, verdict, seconds, noted, id = _RESULT.unpack_from(body)
    return ResultFrame(sequence, matrix, verdict, seconds, noted, id.decode(), body[_RESULT.size :])
