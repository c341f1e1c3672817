"""Which texts are numbers, by the functions that libraries call."""

from __future__ import annotations

import re
from collections.abc import Callable, Mapping
from typing import TypeAlias

#: Raises ValueError for a text that is no number to the library.
Convert: TypeAlias = Callable[[str], int | float]


def _by(pattern: str, convert: Convert) -> Convert:
    def converted(text: str) -> int | float:
        if not re.fullmatch(pattern, text, re.ASCII):
            raise ValueError(text)
        return convert(text)

    return converted


def _optparse_int(text: str) -> int:
    """Convert as optparse._parse_int does: 0x and 0b, and a leading zero is octal."""
    lowered = text[:2].lower()
    if lowered == "0x":
        return int(text, 16)
    if lowered == "0b":
        return int(text[2:] or "0", 2)
    return int(text, 8 if text[:1] == "0" else 10)


def _based(text: str) -> int:
    """Convert a number whose prefix tells its base; a leading zero is octal."""
    sign, digits = (-1, text[1:]) if text[:1] == "-" else (1, text.removeprefix("+"))
    digits = digits.replace("_", "")
    if re.fullmatch("0[0-7]+", digits):
        return sign * int(digits, 8)
    return sign * int(digits, 0)


def _go_int(text: str) -> int:
    found = _based(text)
    if not -(2**63) <= found < 2**63:
        raise ValueError(text)
    return found


def _rust_int(text: str) -> int:
    found = int(text)
    if not -(2**63) <= found < 2**63:
        raise ValueError(text)
    return found


def _plain_float(text: str) -> float:
    return float(text.replace("_", ""))


def _perl_int(text: str) -> int:
    return int(text.replace("_", ""))


def _js_number(text: str) -> float:
    """Convert as JavaScript's Number does (ECMAScript, StringToNumber)."""
    plain = text.strip()
    if not plain:
        return 0.0
    if re.fullmatch("0[xX][0-9a-fA-F]+|0[oO][0-7]+|0[bB][01]+", plain):
        return float(int(plain, 0))
    if not re.fullmatch(r"[-+]?(?:[0-9]+\.?[0-9]*|\.[0-9]+)(?:[eE][-+]?[0-9]+)?|[-+]?Infinity", plain):
        raise ValueError(text)
    return float(plain)


def _js_int(text: str) -> int:
    found = _js_number(text)
    if not found.is_integer():
        raise ValueError(text)
    return int(found)


def _perl_float(text: str) -> float:
    """Convert as Getopt::Long does, which asks only how a number begins (FindOption, PAT_FLOAT)."""
    found = re.match(r"[-+]?(?=[0-9.])[0-9_]*(?:\.[0-9_]*)?(?:[eE][-+]?[0-9_]+)?", text)
    if found is None:
        raise ValueError(text)
    return _plain_float(found[0].rstrip(".") or "0")


_RUBY_INT = (
    r"[-+]?(?:0(?:b[01]+(?:_[01]+)*|o?[0-7]+(?:_[0-7]+)*|x[0-9a-f]+(?:_[0-9a-f]+)*)?|[1-9][0-9]*(?:_[0-9]+)*)"
)
_RUBY_FLOAT = r"[-+]?(?:[0-9]+(?:_[0-9]+)*)(?:\.(?:[0-9]+(?:_[0-9]+)*)?)?(?:[eE][-+]?[0-9]+(?:_[0-9]+)*)?"
_GO_INT = r"[-+]?(?:0[xX](?:_?[0-9a-fA-F])+|0[bB](?:_?[01])+|0[oO]?(?:_?[0-7])+|0|[1-9](?:_?[0-9])*)"
_GO_FLOAT = r"[-+]?(?:(?:[0-9]+\.?[0-9]*|\.[0-9]+)(?:[eE][-+]?[0-9]+)?|(?i:inf|infinity)|(?i:nan))"

#: Library → how it reads a whole number: Python's int; optparse._parse_int; Go's strconv.ParseInt
#: with base 0; PAT_INT of Getopt::Long; OptionParser's Integer; Rust's i64::from_str.
WHOLE: Mapping[str, Convert] = {
    "python": int,
    "optparse": _optparse_int,
    "go": _by(_GO_INT, lambda text: _go_int(text)),
    "perl": _by("[-+]?_*[0-9][0-9_]*", _perl_int),
    "ruby": _by(f"(?i:{_RUBY_INT})", _based),
    "rust": _by("[-+]?[0-9]+", _rust_int),
    "js": _js_int,
}
#: Library → how it reads a number: Python's float; Go's strconv.ParseFloat; PAT_FLOAT of
#: Getopt::Long; OptionParser's Float; Rust's f64::from_str.
FRACTION: Mapping[str, Convert] = {
    "python": float,
    "optparse": float,
    "go": _by(_GO_FLOAT, float),
    "perl": _perl_float,
    "ruby": _by(_RUBY_FLOAT, _plain_float),
    "rust": _by(r"[-+]?(?:(?:[0-9]+\.?[0-9]*|\.[0-9]+)(?:[eE][-+]?[0-9]+)?|(?i:inf|infinity|nan))", float),
    "js": _js_number,
}
