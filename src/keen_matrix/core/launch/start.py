"""How a launch starts: values, filled in for one case."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from typing import NamedTuple

from keen_matrix.core.launch.process.dialogue import Answering
from keen_matrix.core.launch.process.meanwhile import Happening
from keen_matrix.core.model.command import Command
from keen_matrix.core.structs import Struct


class TerminalSetup(NamedTuple):
    """A terminal's size, and which streams have a pipe of their own."""

    columns: int
    rows: int
    stderr_apart: bool
    echo: bool
    #: Whether standard input has a pipe of its own.
    stdin_apart: bool = False


class Stopping(Struct, frozen=True, kw_only=True):
    """When the program gets its last signal: some seconds after its start, or when a text came."""

    signal: int
    #: Whether the program alone gets it, or its whole process group.
    alone: bool = False
    after: float | None = None
    #: Streams and the texts on them.
    when: tuple[tuple[str, bytes], ...] = ()


class Start(Struct, frozen=True, kw_only=True):
    """All that is needed to start a program, except for the vector."""

    file: str
    #: The launch words; the vector follows them.
    words: Sequence[str]
    env: Mapping[str, str]
    directory: str
    #: Seconds until a program that still runs is ended.
    timeout: float
    stdin: bytes = b""
    #: Whether standard error goes where standard output goes.
    joined: bool = False
    #: Whether standard input is closed instead of empty.
    closed: bool = False
    #: Whether standard input stays open with nothing coming.
    silent: bool = False
    #: Commands whose output is piped into each other and then into the program.
    chain: tuple[Command, ...] = ()
    terminal: TerminalSetup | None = None
    dialogue: tuple[Answering, ...] = ()
    #: The prompt for which there is no reply any more, and whether the program may come to it.
    beyond: Answering | None = None
    may_ask_more: bool = False
    #: What happens while the program runs, in order.
    meanwhile: tuple[Happening, ...] = ()
    stop: Stopping | None = None
