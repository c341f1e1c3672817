"""The aspects that a rule can name, as frozen values that know how to check an outcome."""

from __future__ import annotations

import os
import stat
from collections.abc import Iterable, Iterator
from fnmatch import fnmatchcase
from functools import lru_cache
from glob import glob
from typing import Protocol

from keen_matrix.core.errors import ExpressionFault
from keen_matrix.core.expect.context import CheckContext
from keen_matrix.core.expect.exits import ExitExpectation, wording
from keen_matrix.core.expect.forms.base import Form, decoded
from keen_matrix.core.expect.forms.reference import MAX_FILE_BYTES
from keen_matrix.core.expect.masks import mask
from keen_matrix.core.expect.mismatch import Mismatch
from keen_matrix.core.expressions import Scope, Template
from keen_matrix.core.model.outcome import Looked, Outcome
from keen_matrix.core.model.signals import signal_name
from keen_matrix.core.structs import Struct


class Aspect(Protocol):
    """What every aspect answers."""

    def check(self, outcome: Outcome, context: CheckContext) -> Iterator[Mismatch]:
        """Yield what differs; nothing when the outcome is as expected. Raises ExpressionFault."""
        ...


def describe_end(outcome: Outcome) -> str:
    """Return how a launch ended, in words: `2`, `ended by SEGV`."""
    if outcome.signal is not None:
        return f"ended by signal {signal_name(outcome.signal)}"
    return str(outcome.exit)


class ExitAspect(Struct, frozen=True):
    """The exit code."""

    expectation: ExitExpectation

    def check(self, outcome: Outcome, context: CheckContext) -> Iterator[Mismatch]:
        """Yield a mismatch when the code is not one of those allowed."""
        ranges = self.expectation.ranges(context.scope)
        # One that was ended by a signal has no exit code, whatever a shell would make of it.
        if outcome.exit is not None:
            for low, high in ranges:
                if low <= outcome.exit <= high:
                    return
        yield Mismatch(form="is", expected=wording(ranges), actual=describe_end(outcome))


class SignalAspect(Struct, frozen=True):
    """The signal that ended the program."""

    number: int

    def check(self, outcome: Outcome, context: CheckContext) -> Iterator[Mismatch]:
        """Yield a mismatch when the program ended otherwise."""
        if outcome.signal != self.number:
            came = f"exit {outcome.exit}" if outcome.signal is None else signal_name(outcome.signal)
            yield Mismatch(form="is", expected=signal_name(self.number), actual=came)


class StreamAspect(Struct, frozen=True):
    """Standard output or standard error."""

    stream: str
    forms: tuple[Form, ...]

    def check(self, outcome: Outcome, context: CheckContext) -> Iterator[Mismatch]:
        """Yield what differs, form by form."""
        raw: bytes = outcome.stdout if self.stream == "stdout" else outcome.stderr
        for form in self.forms:
            yield from form.check(raw, context)

    @property
    def may_ask_nothing(self) -> bool:
        """Whether there may be cases in which any output will do."""
        # without any form nothing is asked on purpose
        return bool(self.forms) and all(form.may_ask_nothing for form in self.forms)

    def asks_nothing(self, outcome: Outcome, context: CheckContext) -> bool:
        """Tell whether any output would do in this case. Raises ExpressionFault."""
        raw: bytes = outcome.stdout if self.stream == "stdout" else outcome.stderr
        return bool(self.forms) and all(form.asks_nothing(raw, context) for form in self.forms)


def takes_no_time(aspect: Aspect) -> bool:
    """Tell whether an aspect is checked by comparing a code or some texts, however they are filled
    in."""
    if isinstance(aspect, StreamAspect):
        return all(form.instant for form in aspect.forms)
    return isinstance(aspect, (ExitAspect, SignalAspect, OtherFilesAspect, CrashAspect, LeftoversAspect))


def named_file(name: str, scope: Scope) -> str:
    """Return the name of a file, or a pattern for several, with its fields filled in. Raises
    ExpressionFault."""
    return _name_template(name).render(scope) if "{" in name else name


@lru_cache(1024)
def _name_template(name: str) -> Template:
    return Template(name)


class FileAspect(Struct, frozen=True):
    """A file of the case's directory after the launch, or every file that a pattern names."""

    name: str
    forms: tuple[Form, ...]
    absent: bool | None = None
    mode: str | None = None
    unchanged: bool = False
    link: Template | None = None

    def check(self, outcome: Outcome, context: CheckContext) -> Iterator[Mismatch]:
        """Yield what differs; a file that cannot be read as one says what it is instead."""
        pattern = named_file(self.name, context.scope)
        if not any(character in pattern for character in "*?["):
            yield from self._check_one(pattern, outcome, context)
            return
        names = _names(outcome, pattern)
        if not names and not self.absent:
            yield Mismatch(form="file-named", expected=pattern, actual=f"none{_there(outcome)}")
        for name in names:
            yield from self._check_one(name, outcome, context)

    def _check_one(self, name: str, outcome: Outcome, context: CheckContext) -> Iterator[Mismatch]:
        found = look_at(outcome, name)
        if self.link is not None and (expected := self.link.render(context.scope)) != found.link:
            came = found.link or ("absent" if found.instead == "absent" else "no link")
            yield Mismatch(form="link", expected=expected, actual=came)
        content = found.content
        if self.absent:
            if found.instead != "absent" or found.link:
                link = f"a link to {found.link}" if found.link else ""
                yield Mismatch(form="absent", expected="", actual=link or found.instead or _sized(content))
            return
        if found.instead == "absent" or (found.instead and self.forms):
            there = _there(outcome) if found.instead == "absent" else ""
            yield Mismatch(form="file", expected="", actual=found.instead + there)
            return
        change = outcome.files.get(name) if self.unchanged else None
        if change is not None and change.differs == ("mode",):
            yield Mismatch(form="unchanged-mode", expected=change.old_mode, actual=change.mode)
        elif change is not None:
            if "mode" in change.differs:
                yield Mismatch(form="unchanged-mode", expected=change.old_mode, actual=change.mode)
            yield Mismatch(form="unchanged", expected="", actual=decoded(content))
        if self.mode is not None and found.mode != self.mode.lstrip("0").zfill(3):
            yield Mismatch(form="mode", expected=self.mode, actual=found.mode)
        if context.masks:
            masked = mask(content, context.masks, "files")
            content = masked.text
            context.masks_used |= masked.used
        for form in self.forms:
            yield from form.check(content, context)


def _sized(content: bytes) -> str:
    return (
        f"a file of {len(content):,} bytes"
        if len(content) > 1
        else "a file of 1 byte"
        if content
        else "an empty file"
    )


#: Size up to which a file that an expectation looked at is kept with the outcome.
KEPT_BYTES = 65_536


def look_at(outcome: Outcome, name: str) -> Looked:
    """Return what is at a file's place in a case's directory, or what was seen there while it
    still existed."""
    # The directory is gone when an insight asks again, so what was seen is kept with the outcome.
    known = outcome.looked_at.get(name)
    if known is not None:
        return known
    if not outcome.directory:
        return Looked(instead="absent")
    path = os.path.join(outcome.directory, name)
    content, instead = _read_file(path)
    link = mode = ""
    try:
        link = os.readlink(path) if os.path.islink(path) else ""
        mode = f"{stat.S_IMODE(os.stat(path).st_mode):03o}"
    except OSError:
        pass
    found = Looked(content, instead, mode, link)
    # Larger ones would make the journal as large as all outputs together.
    if len(content) <= KEPT_BYTES:
        outcome.looked_at[name] = found
    return found


#: Files that are named where one is missing.
MOST_THERE = 8


def _there(outcome: Outcome) -> str:
    """Return what is in the case's directory instead of a file that is missing; nothing where that
    is not known any more."""
    if not outcome.directory:
        return ""
    found = _names(outcome, "**")
    names = [name for name in found if name and not os.path.isdir(os.path.join(outcome.directory, name))]
    more = f" and {len(names) - MOST_THERE} more" if len(names) > MOST_THERE else ""
    return f"; there is {', '.join(names[:MOST_THERE])}{more}" if names else "; nothing is there"


def _names(outcome: Outcome, pattern: str) -> list[str]:
    """Return the files that a pattern names."""
    if outcome.directory:
        return sorted(glob(pattern, root_dir=outcome.directory, recursive=True, include_hidden=True))
    return sorted(
        name
        for name, found in outcome.looked_at.items()
        if fnmatchcase(name, pattern) and found.instead != "absent"
    )


def _read_file(path: str) -> tuple[bytes, str]:
    """Return a regular file's content, or what is in its place. Never waits: a pipe or device
    is not opened."""
    try:
        info = os.stat(path)
        if stat.S_ISDIR(info.st_mode):
            return b"", "a directory"
        if not stat.S_ISREG(info.st_mode):
            return b"", "no regular file"
        # The program decides how large its files are; ours is the memory.
        if info.st_size > MAX_FILE_BYTES:
            return b"", f"a file of {info.st_size:,} bytes, too large to compare"
        with open(path, "rb") as file:
            return file.read(), ""
    except (FileNotFoundError, NotADirectoryError):
        return b"", "absent"
    except OSError as error:
        return b"", f"unreadable: {error.strerror}"


class OtherFilesAspect(Struct, frozen=True):
    """Files that no expectation names must be left alone, unless that is allowed."""

    named: tuple[str, ...]
    allowed: bool

    def check(self, outcome: Outcome, context: CheckContext) -> Iterator[Mismatch]:
        """Yield a mismatch that lists every other file created, changed or deleted."""
        if self.allowed:
            return
        # Names are templates; where no file changed, none of them is filled in.
        named = [named_file(each, context.scope) for each in self.named] if outcome.files else []
        others = [
            f"{name} {change.state}" for name, change in outcome.files.items() if not _is_named(name, named)
        ]
        if others:
            yield Mismatch(form="other-files", expected="", actual=", ".join(others))


def _is_named(name: str, named: Iterable[str]) -> bool:
    return any(fnmatchcase(name, each) or each.startswith(name + os.sep) for each in named)


class CrashAspect(Struct, frozen=True):
    """Whether a crash counts as a failure; the check itself is built in."""

    allowed: bool

    def check(self, outcome: Outcome, context: CheckContext) -> Iterator[Mismatch]:
        """Yield nothing: the cascade reads `allowed`."""
        return iter(())


class LeftoversAspect(Struct, frozen=True):
    """Whether the program may leave processes behind; the check itself is built in."""

    allowed: bool

    def check(self, outcome: Outcome, context: CheckContext) -> Iterator[Mismatch]:
        """Yield nothing: the cascade reads `allowed`."""
        return iter(())


def failed_expectation(error: Exception) -> Mismatch:
    """Return the mismatch that stands for an expectation which could not be worked out."""
    # These tell in words what is wrong; of any other the name of the error says more than its text.
    plain = isinstance(error, (ExpressionFault, ValueError))
    text = str(error) if plain else f"{type(error).__name__}: {error}"
    return Mismatch(form="expression", expected="", actual=text, problem=True)
