"""Tables of the document as the values that a run uses: each on its own, nothing else in view."""

from __future__ import annotations

import base64
import shlex
from collections.abc import Iterable, Sequence
from typing import Any

from keen_matrix.core.expect.aspects import (
    Aspect,
    CrashAspect,
    ExitAspect,
    FileAspect,
    LeftoversAspect,
    OtherFilesAspect,
    SignalAspect,
    StreamAspect,
)
from keen_matrix.core.expect.exits import ExitExpectation, parse_exit
from keen_matrix.core.expect.forms import forms_of
from keen_matrix.core.expect.limits import DurationAspect, MemoryAspect, parse_limit
from keen_matrix.core.expressions import Expression, Template
from keen_matrix.core.model.quantities import SIZE_UNITS, TIME_UNITS
from keen_matrix.core.model.signals import signal_number
from keen_matrix.core.model.spec import (
    Known,
    Meanwhile,
    Put,
    Reply,
    Skip,
    Stdin,
    Stop,
    Surroundings,
    Terminal,
)
from keen_matrix.core.notation.nodes import Sequence as LineSequence
from keen_matrix.core.notation.parse import parse_line, parse_list, parse_words
from keen_matrix.core.spec.document.expectations import AlikeTable, DiffersTable, Expectations
from keen_matrix.core.spec.document.marks import KnownTable, SkipTable
from keen_matrix.core.spec.document.matrix import MatrixTable, StepTable
from keen_matrix.core.spec.document.surroundings import (
    AnswerTable,
    Around,
    MeanwhileTable,
    PutTable,
    StdinTable,
    TerminalTable,
)
from keen_matrix.core.structs import replace


def steps_of(table: MatrixTable) -> list[StepTable | None]:
    """Return the steps of a matrix; None stands for the one of a matrix that names none."""
    return list(table.steps) if table.steps else [None]


def places_of_lines(table: MatrixTable) -> tuple[list[LineSequence], str]:
    """Return the line of each step, and the text of all, in which the spans of each line are
    right."""
    if table.line is not None and not isinstance(table.line, str):
        return [LineSequence(parse_list(table.line))], ""
    steps = table.steps or ()
    texts = [table.line] if table.line is not None else [each.line for each in steps]
    lines, whole = [], ""
    for number, text in enumerate(texts):
        if text is None:  # another program, of whose words each is one
            launch = steps[number].launch
            shown = launch if isinstance(launch, str) else shlex.join(map(str, launch or ()))
            whole += f"{' ; ' if whole else ''}{shown}"
            words = parse_words(launch) if isinstance(launch, str) else parse_list(launch or [])
            lines.append(LineSequence(tuple(words)))
            continue
        if not isinstance(text, str):
            lines.append(LineSequence(parse_list(text)))
            continue
        whole += " ; " if whole else ""
        lines.append(
            parse_line(" " * len(whole) + text)
        )  # white space in front moves the spans to their place
        whole += text
    return lines, whole


def launch_templates(launch: str | Sequence[str]) -> tuple[Template, ...]:
    """Return the words of a launch text or list, their fields still to be filled in. Raises
    NotationFault."""
    words = parse_words(launch) if isinstance(launch, str) else parse_list(list(launch))
    return tuple(Template("", parts=word.parts) for word in words)


def known_of(table: KnownTable, ids: tuple[str, ...] = ()) -> Known:
    """Return a difference that is known."""
    return Known(
        because=Template(table.because),
        until=table.until,
        when=_condition(table.when),
        ids=ids,
        aspects=tuple(table.aspect or ()),
        verdict=table.verdict or "failed",
    )


def skip_of(table: SkipTable) -> Skip:
    """Return which cases are not launched."""
    return Skip(because=Template(table.because), when=_condition(table.when))


def _condition(text: str | None) -> Expression | None:
    return None if text is None else Expression(text)


def surroundings_of(*tables: Around, files: dict[str, PutTable]) -> Surroundings:
    """Return what surrounds a case: each table's keys laid over those of the tables before it."""

    def last(name: str) -> Any:
        return next(
            (getattr(each, name) for each in reversed(tables) if getattr(each, name) is not None), None
        )

    # Name by name, as no other key: a matrix adds a variable and keeps those of the program.
    env = {name: value for table in tables for name, value in table.env.items()}
    terminal, stop, timeout = last("terminal"), last("stop"), last("timeout")
    return Surroundings(
        timeout=10.0 if timeout is None else timeout,
        start_in=_template(last("start_in")),
        joined=last("streams") == "joined",
        stdin=_stdin(last("stdin")),
        env=tuple((name, None if value is False else Template(value)) for name, value in env.items()),
        files=tuple((Template(name), _put(each)) for name, each in files.items()),
        terminal=_terminal(terminal) if terminal else None,
        dialogue=tuple(map(reply_of, last("dialogue") or ())),
        meanwhile=tuple(map(_meanwhile, last("meanwhile") or ())),
        stop=Stop(
            signal=Template(stop.signal),
            alone=stop.to == "program",
            after=stop.after,
            when_stdout=_template(stop.when_stdout),
            when_stderr=_template(stop.when_stderr),
        )
        if stop
        else None,
    )


def typed_otherwise(around: Surroundings, asked: AlikeTable | DiffersTable) -> Surroundings | None:
    """Return what stands around a launch that is compared; None where that is the same. What is
    typed in it, by a text or at prompts, replaces all that is typed in the case."""
    if asked.stdin is None and asked.dialogue is None and asked.terminal is None:
        return None
    typed = asked.stdin is not None or asked.dialogue is not None
    return replace(
        around,
        stdin=_stdin(asked.stdin) if typed else around.stdin,
        dialogue=tuple(map(reply_of, asked.dialogue or ())) if typed else around.dialogue,
        terminal=_terminal(asked.terminal) if asked.terminal is not None else around.terminal,
    )


def _terminal(table: TerminalTable) -> Terminal:
    return Terminal(
        columns=table.columns,
        rows=table.rows,
        stderr_apart=table.stderr == "apart",
        stdin_apart=table.stdin == "apart",
        echo=table.echo,
    )


def reply_of(table: AnswerTable) -> Reply:
    """Return a prompt and its replies."""
    is_list = table.replies is not None
    replies = table.replies if isinstance(table.replies, list) else [table.reply]
    return Reply(
        prompt=Template(table.prompt),
        replies=tuple(map(Template, replies)),
        within=table.within,
        is_list=is_list,
        until_end=table.until_end,
    )


def _meanwhile(table: MeanwhileTable) -> Meanwhile:
    after = table.after
    return Meanwhile(
        after=None if isinstance(after, str) else float(str(after)),
        text=Template(after) if isinstance(after, str) else None,
        write=tuple((Template(name), _put(each)) for name, each in table.write.items()),
        remove=tuple(map(Template, table.remove)),
        launch=launch_templates(table.launch) if table.launch is not None else (),
        signal=_template(table.signal),
        alone=table.to == "program",
    )


def _template(text: str | None) -> Template | None:
    return None if text is None else Template(text)


def _stdin(table: StdinTable | None) -> Stdin | None:
    if table is None:
        return None
    commands = table.command if isinstance(table.command, list) else [table.command] if table.command else []
    return Stdin(
        text=_template(table.text),
        file=_template(table.file),
        chain=tuple(launch_templates(command) for command in commands),
        closed=bool(table.closed),
    )


def _put(table: PutTable) -> Put:
    return Put(
        text=_template(table.text),
        data=None if table.bytes_ is None else base64.b64decode(table.bytes_.removeprefix("base64:")),
        copy=_template(table.copy_),
        directory=bool(table.dir),
        link=_template(table.link),
        mode=None if table.mode is None else int(table.mode, 8),
    )


def compiled_aspects(table: Expectations) -> Iterable[tuple[str, Aspect]]:
    """Yield the aspects that a table of expectations names."""
    if table.exit is not None:
        yield "exit", ExitAspect(ExitExpectation(parse_exit(table.exit)))
    if table.signal is not None:
        yield "signal", SignalAspect(signal_number(table.signal))
    if table.stdout is not None:
        yield "stdout", StreamAspect("stdout", forms_of(table.stdout, "stdout"))
    if table.stderr is not None:
        yield "stderr", StreamAspect("stderr", forms_of(table.stderr, "stderr"))
    for name, file in table.files.items():
        link = None if file.link is None else Template(file.link)
        yield (
            f"files.{name}",
            FileAspect(
                name, forms_of(file, f"files.{name}"), file.absent, file.mode, bool(file.unchanged), link
            ),
        )
    if table.duration is not None:
        yield "duration", DurationAspect(parse_limit(table.duration, TIME_UNITS))
    if table.memory is not None:
        yield "memory", MemoryAspect(parse_limit(table.memory, SIZE_UNITS))
    if table.other_files is not None:
        named = tuple(table.files)
        yield "other-files", OtherFilesAspect(named, table.other_files == "allowed")
    if table.leftovers is not None:
        yield "leftovers", LeftoversAspect(table.leftovers == "allowed")
    if table.crash is not None:
        yield "crash", CrashAspect(table.crash == "allowed")
