"""Baselines: plain text files beside the spec, a file a matrix, a section a case, sorted by id.

A section begins with `case ID  words`, a part of it with `ASPECT:` on a line of its own. A line of
output follows `| `; one with control characters or bytes that are no UTF-8 stands, escaped,
after `\\ `. A last line without a newline is followed by `^`. Sections are sorted by id, so that
outputs accepted in different branches seldom touch.
"""

from __future__ import annotations

import os
import re
from collections.abc import Iterator, Mapping

from keen_matrix.core.files import read_regular, replacing
from keen_matrix.core.model.identity import file_stem

#: Ends the name of the directory with the files of a spec.
DIRECTORY = ".baselines"
_PLAIN = re.compile(rb"[^\x00-\x08\x0a-\x1f\x7f]*")


def baseline_path(spec_path: str, matrix: str) -> str:
    """Return the file with the baselines of a matrix."""
    directory = os.path.abspath(spec_path).removesuffix(".matrix.toml") + DIRECTORY
    return os.path.join(directory, f"{file_stem(matrix)}.txt")


#: Bytes of a file of baselines: no output that is compared by eye comes near.
MOST_BYTES = 256 << 20


def read_baselines(path: str) -> dict[str, dict[str, bytes]]:
    """Return what is recorded in a file: id → aspect → bytes. Raises ValueError naming the line
    that is none of ours."""
    found: dict[str, dict[str, bytes]] = {}
    section: dict[str, bytes] | None = None
    aspect = ""
    try:
        raw = read_regular(path, MOST_BYTES)
    except OSError as error:
        raise ValueError(f"{path} cannot be read: {error.strerror}") from None
    for number, line in enumerate(raw.split(b"\n"), 1):
        if line.startswith(b"case ") and len(line.split()) > 1:
            section = found.setdefault(line.split()[1].decode("utf-8", "replace"), {})
            aspect = ""
        elif line[:1] == b"|" and section is not None and aspect:
            section[aspect] += line[2:] + b"\n"
        elif line[:1] == b"\\" and section is not None and aspect:
            section[aspect] += _unescaped(line[2:]) + b"\n"
        elif line == b"^" and section is not None and aspect:
            section[aspect] = section[aspect].removesuffix(b"\n")
        elif line[:1].isalpha() and line.endswith(b":") and section is not None:
            aspect = _unescaped(line[:-1]).decode("utf-8", "surrogateescape")
            section[aspect] = b""
        elif line.strip() and not line.startswith(b"#"):
            raise ValueError(f"{path}:{number}: this line does not belong in a file of baselines")
    return found


def written_baselines(
    matrix: str, spec: str, entries: Mapping[str, Mapping[str, bytes]], words: Mapping[str, str]
) -> bytes:
    """Return the text of a file of baselines; `words` are the vectors by id, for people."""
    parts = [
        f'# Baselines of the matrix "{matrix}" of {spec}; keen-matrix baseline shows '
        f"and accepts them.\n".encode()
    ]
    for id in sorted(entries):
        parts.append(f"\ncase {id}  {words.get(id, '')}".rstrip().encode("utf-8", "backslashreplace") + b"\n")
        for aspect in sorted(entries[id]):
            parts.append(_escaped(aspect.encode("utf-8", "surrogateescape")) + b":\n")
            parts += _lines(entries[id][aspect])
    return b"".join(parts)


def _lines(raw: bytes) -> Iterator[bytes]:
    if not raw:
        return
    ended = raw.endswith(b"\n")
    for line in (raw[:-1] if ended else raw).split(b"\n"):
        try:
            line.decode("utf-8")
            plain = _PLAIN.fullmatch(line) is not None
        except UnicodeDecodeError:
            plain = False
        yield b"| " + line + b"\n" if plain else b"\\ " + _escaped(line) + b"\n"
    if not ended:
        yield b"^\n"


def _escaped(line: bytes) -> bytes:
    text = line.decode("utf-8", "surrogateescape").replace("\\", "\\\\")
    shown = re.sub(r"[\x00-\x08\x0a-\x1f\x7f\ud800-\udfff]", lambda m: f"\\x{ord(m[0]) & 0xFF:02x}", text)
    return shown.encode("utf-8")


def _unescaped(line: bytes) -> bytes:
    return re.sub(
        rb"\\(\\|x[0-9a-f]{2})", lambda m: b"\\" if m[1] == b"\\" else bytes([int(m[1][1:], 16)]), line
    )


def write_baselines(path: str, text: bytes) -> None:
    """Put a file of baselines in place, whole or not at all. Raises OSError."""
    os.makedirs(os.path.dirname(path), exist_ok=True)
    with replacing(path) as file:
        file.write(text)
