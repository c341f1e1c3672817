"""The surroundings of a case, filled in and put in place: its environment, its files, its standard
input."""

from __future__ import annotations

import contextlib
import errno
import os
import shlex
import stat
from collections.abc import Iterator, Mapping
from typing import NamedTuple

from keen_matrix.core.expressions import Scope, Template, words_of
from keen_matrix.core.files import leaves_directory
from keen_matrix.core.launch.directories.file_states import FileState, snapshot
from keen_matrix.core.launch.directories.trees import (
    copy_file,
    copy_inside,
    directory_inside,
    open_directory,
    open_new,
)
from keen_matrix.core.launch.directories.working import CaseDirectories
from keen_matrix.core.launch.environment import find_program
from keen_matrix.core.launch.process.dialogue import Answering
from keen_matrix.core.launch.start import Start, Stopping, TerminalSetup
from keen_matrix.core.model.command import Command
from keen_matrix.core.model.signals import signal_number
from keen_matrix.core.model.spec import Put, Reply, Stdin, Stop, Surroundings
from keen_matrix.core.structs import replace

FEEDER_NOT_FOUND = "the command that feeds standard input cannot be launched"


class TemplateScope(NamedTuple):
    """What templates of a case are filled with: its scope, and the directory of its spec, from
    which paths go."""

    scope: Scope
    here: str


class SurroundingsFault(Exception):
    """What a case should have around it could not be made."""


def environment_of(
    base: Mapping[str, str], around: Surroundings, scope: Scope, places: CaseDirectories
) -> dict[str, str]:
    """Return the environment of one launch. Raises ExpressionFault."""
    # What the spec says comes last: it may well set HOME itself, or take it over.
    env = {"HOME": places.home, "TMPDIR": places.tmp, **base}
    if around.terminal is not None:
        env |= {"COLUMNS": str(around.terminal.columns), "LINES": str(around.terminal.rows)}
    for name, template in around.env:
        if template is None:
            env.pop(name, None)
        else:
            env[name] = template.render(scope)
    return env


def is_constant(around: Surroundings) -> bool:
    """Tell whether surroundings are the same for every case, so that what starts one starts all."""
    # Whatever is read, typed or timed differs from case to case, or is opened again for each.
    return not _is_particular(around) and all(
        template is None or template.constant is not None for _, template in around.env
    )


def _is_particular(around: Surroundings) -> bool:
    """Tell whether a launch gets more than an environment and files."""
    more = around.terminal or around.dialogue or around.stop or around.meanwhile
    return around.stdin is not None or bool(more)


def start_of(
    command: Command, env: dict[str, str], directory: str, around: Surroundings, case: TemplateScope
) -> Start:
    """Return how to start one launch. Raises ExpressionFault or SurroundingsFault."""
    start = Start(
        file=command.file,
        words=command.words,
        env=env,
        directory=directory,
        timeout=around.timeout,
        joined=around.joined,
    )
    if not _is_particular(around):
        return start  # by far the commonest
    stdin, screen = around.stdin or Stdin(), around.terminal
    return replace(
        start,
        stdin=_input(stdin, case),
        closed=stdin.closed,
        silent=stdin.silent,
        chain=tuple(found_command(words, case, env, FEEDER_NOT_FOUND) for words in stdin.chain),
        terminal=TerminalSetup(
            screen.columns, screen.rows, screen.stderr_apart, screen.echo, screen.stdin_apart
        )
        if screen
        else None,
        dialogue=tuple(answer for each in around.dialogue for answer in _answers(each, case.scope)),
        beyond=_beyond(around.dialogue, case.scope),
        may_ask_more=bool(around.dialogue) and around.dialogue[-1].until_end,
        stop=_stopping(around.stop, case.scope) if around.stop else None,
    )


def _answers(asked: Reply, scope: Scope) -> Iterator[Answering]:
    """Yield the prompts and replies of one entry of a dialogue. Raises ExpressionFault."""
    for reply in replies_of(asked, scope):
        yield Answering(
            prompt=rendered_bytes(asked.prompt, scope),
            reply=reply.encode("utf-8", "surrogateescape"),
            within=asked.within,
            is_pattern=asked.is_list,
        )


def replies_of(asked: Reply, scope: Scope) -> list[str]:
    """Return the replies of one entry of a dialogue: a field that is a list gives as many. Raises
    ExpressionFault."""
    if not asked.is_list:
        return [each.render(scope) for each in asked.replies]
    return [word for each in asked.replies for word in words_of(each, scope)]


def _beyond(dialogue: tuple[Reply, ...], scope: Scope) -> Answering | None:
    """Return the prompt that would ask for a reply more than there are; None where the last is
    known by its text, or the program may go on asking."""
    if not dialogue or not dialogue[-1].is_list:
        return None
    last = dialogue[-1]
    return Answering(prompt=rendered_bytes(last.prompt, scope), within=last.within, is_pattern=True)


def _stopping(stop: Stop, scope: Scope) -> Stopping:
    moments = (("stdout", stop.when_stdout), ("stderr", stop.when_stderr))
    texts = ((stream, rendered_bytes(text, scope)) for stream, text in moments if text is not None)
    return Stopping(
        signal=signal_of(stop.signal, scope), alone=stop.alone, after=stop.after, when=tuple(texts)
    )


def signal_of(template: Template, scope: Scope) -> int:
    """Return the number of a signal. Raises ExpressionFault or SurroundingsFault."""
    name = template.render(scope)
    try:
        return signal_number(int(name) if name.isdecimal() else name)
    except ValueError as error:
        raise SurroundingsFault(f"{name!r} is no signal: {error}") from None


def rendered_bytes(template: Template, scope: Scope) -> bytes:
    """Return a text, filled in, as bytes. Raises ExpressionFault."""
    return template.render(scope).encode("utf-8", "surrogateescape")


def _input(stdin: Stdin, case: TemplateScope) -> bytes:
    if stdin.text is not None:
        return rendered_bytes(stdin.text, case.scope)
    if stdin.file is None:
        return b""
    path = os.path.join(case.here, stdin.file.render(case.scope))
    try:
        # A pipe or a device would be read until it ends, which it may never do.
        if not stat.S_ISREG(os.stat(path).st_mode):
            raise SurroundingsFault(f"{path}, which should be standard input, is not a file")
        with open(path, "rb") as file:
            return file.read()
    except (OSError, ValueError) as error:
        reason = getattr(error, "strerror", None) or error
        raise SurroundingsFault(f"{path}, which should be standard input, cannot be read: {reason}") from None


def found_command(
    words: tuple[Template, ...], case: TemplateScope, env: Mapping[str, str], why_not: str
) -> Command:
    """Return how a command of a spec is started. Raises ExpressionFault, and SurroundingsFault,
    beginning with `why_not`, where it is not found."""
    rendered = tuple(word.render(case.scope) for word in words)
    # In the case's own PATH: what feeds the program is found where the program would find it.
    file, reason = find_program(rendered[0], env.get("PATH"), case.here)
    if reason:
        raise SurroundingsFault(f"{why_not}: {reason}")
    return Command(file, rendered)


def other_program(words: tuple[str, ...], env: Mapping[str, str], here: str, directory: str) -> Command:
    """Return how another program is started, whose name is the first of its words; the words are
    its vector, and `directory` is where it starts. Raises SurroundingsFault."""
    if not words:
        raise SurroundingsFault("the step that starts another program has no words")
    file, reason = find_program(words[0], env.get("PATH"), here, directory)
    if reason:
        raise SurroundingsFault(f"the step {shlex.join(words)[:200]} cannot be launched: {reason}")
    return Command(file, ())


def put_files(
    files: tuple[tuple[Template, Put], ...], case: TemplateScope, places: CaseDirectories
) -> dict[str, FileState]:
    """Put files in place and return what is there now, to be compared after the launch.

    Raises ExpressionFault or SurroundingsFault.
    """
    if not files:
        return {}
    # The directory is dirty from here on, also when the third of five files cannot be put there.
    places.touched()
    put_now(files, case, places)
    # Looked at again and not worked out: modes follow the umask, and some systems round times.
    return snapshot(places.work)


def put_now(files: tuple[tuple[Template, Put], ...], case: TemplateScope, places: CaseDirectories) -> None:
    """Put files in place. Raises ExpressionFault or SurroundingsFault."""
    work = places.open_work()
    try:
        for template, put in files:
            name = template.render(case.scope)
            if leaves_directory(name):
                raise SurroundingsFault(f"the file name {name!r} leads out of the case's directory")
            try:
                # By descriptors, though nothing has run here yet: a worker hands its directory from
                # case to case, and a program of an earlier one may still live.
                with directory_inside(work, name) as (directory, last):
                    _put_one(put, name, directory, last, case)
            except (OSError, ValueError) as error:
                raise SurroundingsFault(f"{name} could not be put in place: {_put_reason(error)}") from None
    finally:
        os.close(work)


def _put_reason(error: Exception) -> str:
    """Return why a file could not be put in place; what is written never goes through a link,
    which may lead outside."""
    if isinstance(error, OSError) and error.errno in (errno.ELOOP, errno.ENOTDIR):
        return "a link, or something else that is not a directory, is in the way"
    return getattr(error, "strerror", None) or str(error)


def _put_one(put: Put, name: str, directory: int, last: str, case: TemplateScope) -> None:
    """Put one thing under its last name in an open directory. Raises OSError, ExpressionFault,
    SurroundingsFault."""
    if put.link is not None:
        target = put.link.render(case.scope)
        # A link may point anywhere inside, up and down; only what leads out would let the program
        # write there.
        inside = os.path.normpath(os.path.join(os.path.dirname(name), target))
        if os.path.isabs(target) or inside.split(os.sep)[0] == os.pardir:
            raise SurroundingsFault(f"the link to {target} leads out of the case's directory")
        os.symlink(target, last, dir_fd=directory)
        return
    if put.directory or put.copy is not None:
        copied = put.copy
        source = None if copied is None else os.path.join(case.here, copied.render(case.scope))
        _put_copy(source, directory, last)
    else:
        content = (
            put.data
            if put.data is not None
            else rendered_bytes(put.text, case.scope)
            if put.text is not None
            else b""
        )
        with open(open_new(last, directory), "wb") as file:
            file.write(content)
    if put.mode is not None:
        fd = os.open(last, os.O_RDONLY | os.O_NOFOLLOW | os.O_CLOEXEC | os.O_NONBLOCK, dir_fd=directory)
        try:
            os.fchmod(fd, put.mode)
        finally:
            os.close(fd)


def _put_copy(source: str | None, directory: int, last: str) -> None:
    """Put a copy of a file or directory beside the spec, or (None) an empty directory, under a name
    in an open directory."""
    if source is not None and not os.path.isdir(source):
        if not stat.S_ISREG(os.stat(source).st_mode):
            raise SurroundingsFault(f"{source} is not a file or directory that could be copied")
        with open(source, "rb") as file:
            copy_file(file.fileno(), last, directory)
        return
    with contextlib.suppress(FileExistsError):
        os.mkdir(last, 0o777, dir_fd=directory)
    if source is None:
        os.close(open_directory(last, directory))
        return
    reading = os.open(source, os.O_RDONLY | os.O_DIRECTORY | os.O_CLOEXEC)
    try:
        writing = open_directory(last, directory)
        try:
            # The directory is ours to fill, whatever mode the copied one has.
            os.fchmod(writing, stat.S_IMODE(os.fstat(reading).st_mode) | 0o300)
            copy_inside(reading, writing)
        finally:
            os.close(writing)
    finally:
        os.close(reading)
