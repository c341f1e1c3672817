"""The forms that compare a text as lines, with files, commands, digests, baselines, and by conditions on its parts."""

from __future__ import annotations

import os
from collections import Counter
from collections.abc import Iterator
from dataclasses import dataclass
from functools import lru_cache
from typing import Any

from keen_matrix.core.expect.aspects import MATCH_SECONDS, MAX_FILE_BYTES, Mismatch
from keen_matrix.core.expect.masks import masked_expectation
from keen_matrix.core.expect.numbers import Tolerance, texts_alike
from keen_matrix.core.expressions import Expression, Scope, Template
from keen_matrix.core.model.quantities import bounds_text, parse_bounds

COMMAND_SECONDS = 10.0
"""Seconds that a reference command may take."""
SHOWN_LINES = 20
"""Missing or extra lines that a mismatch lists."""


def decoded(raw: bytes) -> str:
    """Return bytes as text; what is no UTF-8 comes back as it was when encoded again."""
    return raw.decode("utf-8", "surrogateescape")


def encoded(text: str) -> bytes:
    """Return a text as bytes."""
    return text.encode("utf-8", "surrogateescape")


def lines_of(text: str) -> list[str]:
    """Return the lines of a text; a final newline makes no further line."""
    lines = text.split("\n")
    return lines[:-1] if lines[-1] == "" else lines


@dataclass(frozen=True, slots=True)
class LinesForm:
    """`lines` and `lines-any-order`: all lines, each given on its own or as a text of several."""

    texts: tuple[Template, ...]
    any_order: bool = False
    tolerance: Tolerance | None = None

    def check(self, actual: bytes, scope: Scope) -> Iterator[Mismatch]:
        """Yield a mismatch when lines are missing, extra, or (in order) different."""
        expected = [
            line for text in self.texts for line in lines_of(masked_expectation(text.render(scope), scope)) or [""]
        ]
        came = lines_of(decoded(actual))
        if self.any_order:
            yield from self._counted(expected, came)
        elif len(came) != len(expected) or not all(
            texts_alike(left, right, self.tolerance) for left, right in zip(expected, came, strict=True)
        ):
            yield Mismatch(
                form="lines", expected="\n".join(expected) + "\n" if expected else "", actual=decoded(actual)
            )

    def _counted(self, expected: list[str], came: list[str]) -> Iterator[Mismatch]:
        missing = list((Counter(expected) - Counter(came)).elements())
        extra = list((Counter(came) - Counter(expected)).elements())
        for line in list(missing) if self.tolerance else ():
            near = next((each for each in extra if texts_alike(line, each, self.tolerance)), None)
            if near is not None:
                missing.remove(line)
                extra.remove(near)
        if missing or extra:
            yield Mismatch(form="lines-any-order", expected=_listed(missing), actual=_listed(extra))


EMPTY_LINE = "(an empty line)"


def _listed(lines: list[str]) -> str:
    more = f"\n… and {len(lines) - SHOWN_LINES:,} more" if len(lines) > SHOWN_LINES else ""
    return "\n".join(line[:1_000] or EMPTY_LINE for line in lines[:SHOWN_LINES]) + more


def parse_number_of_lines(value: Any) -> tuple[int, int | None] | Template:
    """Return the bounds of a count: 3, "1..3", "1..", or a template that gives one. Raises ValueError."""
    if isinstance(value, str) and "{" in value:
        return Template(value)
    bounds = parse_bounds(value)
    if bounds is not None:
        return bounds
    raise ValueError('expected a number, a range such as "1..3" or "1..", or a template')


@dataclass(frozen=True, slots=True)
class CountForm:
    """`number-of-lines`, or the `size` of a file when `lines` is off."""

    count: tuple[int, int | None] | Template
    lines: bool = True

    def check(self, actual: bytes, scope: Scope) -> Iterator[Mismatch]:
        """Yield a mismatch when the count is another. Raises ValueError when a template gives no count."""
        bounds = self.count if isinstance(self.count, tuple) else parse_number_of_lines(self._value(scope))
        assert isinstance(bounds, tuple)
        came = len(lines_of(decoded(actual))) if self.lines else len(actual)
        low, high = bounds
        if came < low or (high is not None and came > high):
            form = "number-of-lines" if self.lines else "size"
            yield Mismatch(form=form, expected=bounds_text(low, high), actual=str(came))

    def _value(self, scope: Scope) -> Any:
        assert isinstance(self.count, Template)
        value = self.count.value(scope)
        return int(value) if isinstance(value, str) and value.isdecimal() else value


@dataclass(frozen=True, slots=True)
class SameForm:
    """The whole text as it stands elsewhere: in a file beside the spec, or as another command prints it."""

    file: Template | None = None
    command: tuple[Template, ...] = ()
    tolerance: Tolerance | None = None

    def check(self, actual: bytes, scope: Scope) -> Iterator[Mismatch]:
        """Yield a mismatch when the text is another. Raises ValueError when there is nothing to compare with."""
        expected = self._expected(scope, actual)
        expected = encoded(masked_expectation(decoded(expected), scope))
        if not texts_alike(decoded(expected), decoded(actual), self.tolerance, newline=True):
            yield Mismatch(form="is", expected=decoded(expected), actual=decoded(actual))

    def _expected(self, scope: Scope, actual: bytes) -> bytes:
        here = str(scope.names["here"])
        if self.file is not None:
            return read_beside(os.path.join(here, self.file.render(scope)))
        words = tuple(word.render(scope) for word in self.command)
        outputs: dict[tuple[str, ...], bytes] | None = scope.names.get(OUTPUTS)
        if outputs is None:
            return command_output(words, here)
        return outputs.setdefault(words, actual)


OUTPUTS = "outputs of commands"
"""Name under which checks that run nothing keep what commands printed: of an outcome that is tried again, what it was itself."""


def read_beside(path: str) -> bytes:
    """Return a file that a spec names. Raises ValueError."""
    try:
        if os.path.getsize(path) > MAX_FILE_BYTES:
            raise ValueError(f"{path} has more than {MAX_FILE_BYTES:,} bytes")
        with open(path, "rb") as file:
            return file.read()
    except OSError as error:
        raise ValueError(f"{path} cannot be read: {error.strerror}") from None


@lru_cache(maxsize=1_000)
def command_output(words: tuple[str, ...], here: str) -> bytes:
    """Return what a command prints in an empty standard input, in the spec's folder. Raises ValueError."""
    import subprocess  # here and below: few specs need these, and every worker would pay for them when it starts

    try:
        done = subprocess.run(
            words, stdin=subprocess.DEVNULL, capture_output=True, timeout=COMMAND_SECONDS, cwd=here, check=False
        )
    except subprocess.TimeoutExpired:
        raise ValueError(f"the command {words[0]} took longer than {COMMAND_SECONDS:g} s") from None
    except (OSError, ValueError) as error:
        raise ValueError(f"the command {words[0]} cannot be run: {getattr(error, 'strerror', None) or error}") from None
    if done.returncode:
        raise ValueError(f"the command {words[0]} ended with exit {done.returncode}")
    return done.stdout


def parse_bytes(text: str) -> tuple[str, bytes]:
    """Return the algorithm (empty for the bytes themselves) and the bytes of a digest or base64 text. Raises ValueError."""
    import base64
    import binascii
    import hashlib

    name, colon, rest = text.partition(":")
    if colon and name == "base64":
        try:
            return "", base64.b64decode(rest, validate=True)
        except binascii.Error as error:
            raise ValueError(f"this is not base64: {error}") from None
    if colon and name in ("sha256", "sha1", "md5", "blake2b", "sha512"):
        try:
            digest = bytes.fromhex(rest)
        except ValueError:
            raise ValueError(f"expected hex digits after {name}:") from None
        if len(digest) != hashlib.new(name).digest_size:
            raise ValueError(
                f"a {name} digest has {hashlib.new(name).digest_size * 2} hex digits, this one {len(digest) * 2}"
            )
        return name, digest
    raise ValueError('expected "base64:…" or a digest such as "sha256:…"')


@dataclass(frozen=True, slots=True)
class BytesForm:
    """`bytes`: the very bytes, or their digest."""

    algorithm: str
    wanted: bytes

    def check(self, actual: bytes, scope: Scope) -> Iterator[Mismatch]:
        """Yield a mismatch when the bytes are others."""
        import hashlib

        came = hashlib.new(self.algorithm, actual).digest() if self.algorithm else actual
        if came == self.wanted:
            return
        if self.algorithm:
            label = f"{self.algorithm}:"
            yield Mismatch(form="digest", expected=label + self.wanted.hex(), actual=label + came.hex())
        else:
            yield Mismatch(form="is", expected=decoded(self.wanted), actual=decoded(actual))


@dataclass(frozen=True, slots=True)
class HoldsForm:
    """`holds`: conditions on the named groups of a regular expression, which are texts."""

    pattern: str
    conditions: tuple[Expression, ...]

    def check(self, actual: bytes, scope: Scope) -> Iterator[Mismatch]:
        """Yield a mismatch for each condition that is not met; none when the pattern itself does not match."""
        import regex

        text = decoded(actual)
        try:
            found = regex.compile(self.pattern).search(text, timeout=MATCH_SECONDS)
        except TimeoutError:
            return  # `matches` itself tells of it
        if found is None:
            return
        groups = found.groupdict()
        inner = Scope({**scope.names, **groups}, scope.functions)
        for condition in self.conditions:
            if not condition.evaluate(inner):
                values = ", ".join(f"{name} = {value!r}" for name, value in groups.items() if name in condition.names)
                yield Mismatch(form="holds", expected=condition.source, actual=values or text)


@dataclass(frozen=True, slots=True)
class BaselineForm:
    """`baseline`: what was recorded and accepted. The recorded texts stand in a file beside the spec."""

    aspect: str
    tolerance: Tolerance | None = None

    def check(self, actual: bytes, scope: Scope) -> Iterator[Mismatch]:
        """Yield a mismatch when nothing was recorded for the case, or something else. Raises ValueError."""
        path, id = scope.names[BASELINE]
        recorded = baseline_of(path, _written(path)).get(id, {}).get(self.aspect)
        if recorded is None:
            yield Mismatch(form="unrecorded", expected="", actual=decoded(actual), recorded=actual)
        elif not texts_alike(decoded(recorded), decoded(actual), self.tolerance) and recorded != actual:
            yield Mismatch(form="is", expected=decoded(recorded), actual=decoded(actual), recorded=actual)


BASELINE = "baseline of this case"
"""Name under which checks, not expressions, find the file of baselines and the case's id."""


def _written(path: str) -> int:
    """Return when a file was last written, 0 when there is none: a reader's key for keeping it."""
    try:
        return os.stat(path).st_mtime_ns
    except OSError:
        return 0


@lru_cache(maxsize=64)
def baseline_of(path: str, written: int) -> dict[str, dict[str, bytes]]:
    """Return a file of baselines; empty when there is none. Raises ValueError."""
    from keen_matrix.core.results.baselines import read_baselines

    return read_baselines(path) if written else {}
