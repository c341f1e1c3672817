"""`file` and `command`: the text as it stands elsewhere."""

from __future__ import annotations

import os
from collections.abc import Iterator, Mapping
from functools import lru_cache

from keen_matrix.core.expect.context import CheckContext
from keen_matrix.core.expect.differences import split_lines
from keen_matrix.core.expect.forms.base import (
    Form,
    FormContext,
    FormKind,
    decoded,
    encoded,
    forgives_numbers,
    given,
    tolerance_of,
    within,
)
from keen_matrix.core.expect.forms.lines import lines_counted
from keen_matrix.core.expect.masks import masked_expectation
from keen_matrix.core.expect.mismatch import Mismatch
from keen_matrix.core.expect.numbers import Tolerance, texts_alike
from keen_matrix.core.expressions import Template
from keen_matrix.core.files import read_regular
from keen_matrix.core.model.table import Table
from keen_matrix.core.notation.parse import parse_list, parse_words

#: Seconds that a reference command may take.
COMMAND_SECONDS = 10.0
#: Characters shown of what a command said that failed.
SAID_LENGTH = 400
#: Bytes of a file that are read for a comparison; a larger file differs.
MAX_FILE_BYTES = 8 * 1024 * 1024


class SameForm(Form, frozen=True):
    """The whole text as a file beside the spec has it, or as another command prints it."""

    file: Template | None = None
    command: tuple[Template, ...] = ()
    #: Whether the command runs in the directory of the spec, and not in that of the case.
    beside: bool = False
    tolerance: Tolerance | None = None
    #: Whether the order of its lines does not matter.
    any_order: bool = False

    def check(self, actual: bytes, context: CheckContext) -> Iterator[Mismatch]:
        """Yield a mismatch when the text is another. Raises ValueError when there is nothing to
        compare with."""
        expected = masked_expectation(decoded(self._expected(context, actual)), context.masks)
        if self.any_order:
            yield from lines_counted(split_lines(expected), split_lines(decoded(actual)), self.tolerance)
        elif not texts_alike(expected, decoded(actual), self.tolerance, newline=True):
            yield Mismatch(form="is", expected=decoded(encoded(expected)), actual=decoded(actual))

    def _expected(self, context: CheckContext, actual: bytes) -> bytes:
        here = str(context.scope.names["here"])
        if self.file is not None:
            return read_beside(os.path.join(here, self.file.render(context.scope)))
        words = tuple(word.render(context.scope) for word in self.command)
        if context.outputs is None:
            if self.beside or not context.directory or context.env is None:
                return command_output(words, here)
            return _output(words, context.directory, context.env)
        return context.outputs.setdefault(words, actual)

    def describe(self) -> str:
        """Return what it asks for."""
        words = " ".join(
            "".join(getattr(part, "text", "{…}") for part in word.parts) for word in self.command
        )
        return (
            (f"is the file {self.file.source}" if self.file else f"is what {words} prints")
            + (", its lines in any order" if self.any_order else "")
            + within(self.tolerance)
        )

    def forgives(self, what: str) -> bool:
        """Tell whether an alteration is within the tolerance, or of the order and the end of lines
        where these do not matter."""
        if self.any_order and ("swapped" in what or "final newline" in what):
            return True
        return forgives_numbers(self.tolerance, what)


def read_beside(path: str) -> bytes:
    """Return a file that a spec names. Raises ValueError."""
    try:
        if os.path.getsize(path) > MAX_FILE_BYTES:
            raise ValueError(f"{path} has more than {MAX_FILE_BYTES:,} bytes")
        return read_regular(path, MAX_FILE_BYTES)
    except OSError as error:
        raise ValueError(f"{path} cannot be read: {error.strerror}") from None


@lru_cache(maxsize=1_000)
def command_output(words: tuple[str, ...], here: str) -> bytes:
    """Return what a command prints in the spec's directory, which is the same for every case.
    Raises ValueError."""
    return _output(words, here, None)


def _output(words: tuple[str, ...], directory: str, env: Mapping[str, str] | None) -> bytes:
    """Return what a command prints on an empty standard input. Raises ValueError with what it said
    when it fails."""
    import subprocess  # few specs need it, and every worker would pay for it when it starts

    try:
        done = subprocess.run(
            words,
            stdin=subprocess.DEVNULL,
            capture_output=True,
            timeout=COMMAND_SECONDS,
            cwd=directory,
            env=None if env is None else dict(env),
            check=False,
        )
    except subprocess.TimeoutExpired:
        raise ValueError(f"the command {words[0]} took longer than {COMMAND_SECONDS:g} s") from None
    except (OSError, ValueError) as error:
        raise ValueError(
            f"the command {words[0]} cannot be run: {getattr(error, 'strerror', None) or error}"
        ) from None
    if done.returncode:
        said = done.stderr.decode("utf-8", "replace").strip()[-SAID_LENGTH:]
        told = f": {said}" if said else ""
        raise ValueError(f"the command {words[0]} ended with exit {done.returncode}{told}")
    return done.stdout


def _file(table: Table, about: FormContext) -> Iterator[Form]:
    if table.file is not None:
        yield SameForm(file=Template(table.file), tolerance=tolerance_of(table), any_order=_any_order(table))


def _command(table: Table, about: FormContext) -> Iterator[Form]:
    if given(table, "command") is not None:
        words = parse_words(table.command) if isinstance(table.command, str) else parse_list(table.command)
        yield SameForm(
            command=tuple(Template("", parts=word.parts) for word in words),
            beside=table.command_in == "spec",
            tolerance=tolerance_of(table),
            any_order=_any_order(table),
        )


def _any_order(table: Table) -> bool:
    return given(table, "any-order") is True


FILE = FormKind(key="file", compile=_file, texts="template", modifiers=("tolerance", "any-order"))
COMMAND = FormKind(
    key="command", compile=_command, texts="always", modifiers=("tolerance", "command-in", "any-order")
)
