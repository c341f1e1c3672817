"""Asking a program what it accepts: its parser where that can be taken hold of, else its help.

The program is started in an empty directory, with nothing on standard input, and with no words but
those that ask for help, and the subcommands that its help lists.
"""

from __future__ import annotations

import os
import shutil
import tempfile
from collections.abc import Sequence
from typing import NamedTuple

from keen_matrix.core.errors import RunFault
from keen_matrix.core.expressions import Template
from keen_matrix.core.launch.runners import FoundProgram
from keen_matrix.core.launch.warm.keepers import ColdOnly, WarmPlan, warm_plan
from keen_matrix.core.launch.workers.engine import WorkerPool, run_in
from keen_matrix.core.model.case import Case
from keen_matrix.core.model.record import Record
from keen_matrix.core.model.spec import Bounds, Matrix, Program, Spec, Step, Surroundings
from keen_matrix.core.notation.nodes import Sequence as Items
from keen_matrix.core.runs.starting.scripts import language_of, reader_named, text_of_script
from keen_matrix.core.signature.helptext import HelpText, read_help
from keen_matrix.core.signature.parsers import hook
from keen_matrix.core.signature.parsers.described import (
    MOST_DESCRIPTION,
    DescribedParser,
    DescriptionFault,
    read_description,
)
from keen_matrix.core.structs import Struct, field, replace

#: What is tried, in this order.
HELP_WORDS: tuple[tuple[str, ...], ...] = (("--help",), ("-h",), ("-help",), ("help",), ())
HELP_SECONDS = 5.0
#: Subcommands that are asked for help, each once or twice.
MOST_COMMANDS = 40


class HelpAnswer(Struct, frozen=True):
    """What a program printed when it was asked for help."""

    words: tuple[str, ...]
    page: HelpText
    #: Whether it told only since it took the words for a mistake.
    on_mistake: bool = False
    #: Subcommand → what it printed when it was asked for help after the subcommand.
    commands: dict[str, HelpText] = field(default_factory=dict)
    #: What was not found out, in words.
    doubts: tuple[str, ...] = ()


class AskedProgram(NamedTuple):
    """A program that is asked what it accepts: how it is started, and what it needs for that."""

    words: tuple[str, ...]
    env: tuple[tuple[str, str], ...] = ()
    from_caller: tuple[str, ...] = ("PATH",)
    #: Whether it runs where it was typed, and not in an empty directory.
    in_place: bool = False

    @classmethod
    def of(cls, started: FoundProgram, *, in_place: bool = False) -> AskedProgram:
        """Return the program that words start."""
        return cls(started.launch, started.env, started.from_caller or ("PATH",), in_place)


class NoHelp(NamedTuple):
    """A program that prints no help, and what it did instead."""

    told: str


def launch_once(pool: WorkerPool, program: AskedProgram, words: Sequence[str] = ()) -> Record:
    """Return the result of one launch of a program, bounded as every launch is."""
    env = tuple((name, Template(value, literal=True)) for name, value in program.env)
    step = Step(line=Items(()), surroundings=Surroundings(timeout=HELP_SECONDS, env=env))
    bounds = Bounds(fresh_directory=not program.in_place)
    matrix = Matrix(index=0, name="help", line=Items(()), line_text="", axes={}, steps=(step,), bounds=bounds)
    spec = Spec(
        path="draft",
        here=os.getcwd(),
        name="draft",
        digest="",
        rules=(),
        matrices=(matrix,),
        program=Program(
            launch=tuple(Template(word, literal=True) for word in program.words),
            env_from_caller=program.from_caller,
            fresh_directory=not program.in_place,
        ),
    )
    case = Case(id="draft00000", matrix=0, argv=tuple(words))
    (record,) = run_in(pool, [case], spec)
    return record


# --- its parser ---

#: What a program's parser says of those of its subcommands too.
INHERITED = ("reader", "help", "abbreviations", "interleaved")


def parser_of(pool: WorkerPool, asked: AskedProgram) -> DescribedParser | None:
    """Return the description of a Python program's own parser; None where the program is none,
    makes no parser that is known, or does not come to the point at which it parses.

    It is started once, under its own interpreter, and ends where it is about to parse. Words behind
    the program may name a subcommand, whose parser it then is."""
    program = asked.words
    plans = ((cut, _plan(program[:cut])) for cut in range(len(program), 0, -1))
    cut, plan = next(((cut, plan) for cut, plan in plans if plan is not None), (0, None))
    if plan is None:
        return None
    with tempfile.TemporaryDirectory(prefix="keen-matrix-") as directory:
        out = os.path.join(directory, "parser.json")
        words = (plan.interpreter, *plan.switches, hook.__file__, out, plan.kind, plan.name)
        launch_once(pool, asked._replace(words=words), HELP_WORDS[0])
        try:
            with open(out, "rb") as file:
                found = read_description(file.read(MOST_DESCRIPTION + 1), "the program's parser")
        except (OSError, DescriptionFault):
            return None  # the help is read instead
    return _subparser(found, program[cut:])


def _subparser(parser: DescribedParser, path: Sequence[str]) -> DescribedParser | None:
    """Return the parser of a subcommand, by the words that lead to it; None where they name none.
    What it does not say for itself is said of the whole."""
    for word in path:
        own = next((e for e in parser.commands if word in (e.name, *e.aliases)), None)
        if own is None:
            return None
        whole = {key: getattr(parser, key) for key in INHERITED if not getattr(own.parser, key)}
        parser = own.parser.model_copy(update=whole)
    return parser


def _plan(program: Sequence[str]) -> WarmPlan | None:
    """Return how a Python program is started; None for any other."""
    file = shutil.which(program[0])
    try:
        return warm_plan(file, program) if file else None
    except ColdOnly:
        return None


# --- its help ---


def help_of(pool: WorkerPool, program: AskedProgram) -> HelpAnswer | NoHelp:
    """Ask a program for help, and return the first answer that has a usage line and a list, or what
    it did instead. Raises RunFault where it cannot be started."""
    best: HelpAnswer | None = None
    most = (False, False, False)
    records: list[tuple[tuple[str, ...], Record]] = []
    for words in HELP_WORDS:
        record = launch_once(pool, program, words)
        if record.verdict == "not-started":
            raise RunFault(f"the program could not be launched: {record.detail}")
        records.append((words, record))
        for stream, text in (("stdout", record.stdout or ""), ("stderr", record.stderr or "")):
            page = read_help(text)
            full = bool(page.usages and (page.options or page.operands or page.commands))
            if not (full or page.usages or len(page.options) > 1):
                continue
            # An answer that ends well wins: a usage with exit 2 says that the words were not known.
            # No words at all ask for nothing.
            rank = (bool(words) and record.exit == 0, full, stream == "stdout")
            if all(rank):
                return HelpAnswer(words, page)
            if best is None or rank > most:
                best, most = HelpAnswer(words, page, on_mistake=bool(record.exit)), rank
    return NoHelp(_told(records)) if best is None else best


def reader_of(program: Sequence[str], page: HelpText) -> str:
    """Return the name of the reader that a program's script names; empty where it is no script, or
    names none that has options as the help has them."""
    file = shutil.which(program[0])
    if file is None:
        return ""
    spelt = [each for option in page.options for each in option.spellings]
    script = text_of_script([file, *program[1:]])
    return reader_named(script, language_of(file, program[1:]), spelt)


def with_commands(pool: WorkerPool, program: AskedProgram, answer: HelpAnswer) -> HelpAnswer:
    """Return an answer with those of the subcommands that the help lists, one level deep: each is
    asked by the word that the program itself answered to, after the subcommand."""
    commands: dict[str, HelpText] = {}
    doubts = []
    for command in answer.page.commands[:MOST_COMMANDS]:
        page = _help_below(pool, program, command.name, answer)
        if page is None:
            doubts.append(f"the subcommand {command.name} printed no help of its own")
        commands[command.name] = page or HelpText((f"{program.words[-1]} {command.name}",), (), ())
    if len(answer.page.commands) > MOST_COMMANDS:
        doubts.append(
            f"the help lists {len(answer.page.commands)} subcommands; the first {MOST_COMMANDS} are drafted"
        )
    return replace(answer, commands=commands, doubts=tuple(doubts))


def _help_below(pool: WorkerPool, program: AskedProgram, command: str, answer: HelpAnswer) -> HelpText | None:
    """Return the help of a subcommand; None where it prints none, or that of the whole program."""
    dashed = [each for each in answer.words if each.startswith("-")]
    for word in dict.fromkeys([*dashed, "--help", "-h"]):
        record = launch_once(pool, program, (command, word))
        for text in (record.stdout or "", record.stderr or ""):
            page = read_help(text)
            if (page.usages or page.options) and page != answer.page:
                return page
    return None


def _told(records: Sequence[tuple[tuple[str, ...], Record]]) -> str:
    """Return what a program did that printed no help, in words."""
    words, record = records[0]
    asked = " ".join(words)
    if record.verdict == "timed-out":
        return f"the program did not end within {HELP_SECONDS:g} s when it was asked for {asked}"
    said = (record.stderr or record.stdout or "").strip().splitlines()
    ended = f"ended by signal {record.signal}" if record.signal else f"exited with {record.exit}"
    quoted = f', and printed "{said[-1][:100]}"' if said else ", and printed nothing"
    if record.verdict == "crashed":
        ended = f"crashed ({ended})"
    return (
        "the program printed no usage line and no list of options or subcommands when it was asked for help; "
        f"with {asked} it {ended}{quoted}"
    )
