"""`bytes`: the very bytes, or their digest."""

from __future__ import annotations

from collections.abc import Iterator

from keen_matrix.core.expect.context import CheckContext
from keen_matrix.core.expect.forms.base import Form, FormContext, FormKind, decoded, given
from keen_matrix.core.expect.mismatch import Mismatch
from keen_matrix.core.model.table import Table

ALGORITHMS = ("sha256", "sha1", "md5", "blake2b", "sha512")


class BytesForm(Form, frozen=True):
    """The bytes, or with an algorithm their digest."""

    algorithm: str
    wanted: bytes

    def check(self, actual: bytes, context: CheckContext) -> Iterator[Mismatch]:
        """Yield a mismatch when the bytes are others."""
        import hashlib

        found = hashlib.new(self.algorithm, actual).digest() if self.algorithm else actual
        if found == self.wanted:
            return
        if self.algorithm:
            label = f"{self.algorithm}:"
            yield Mismatch(form="digest", expected=label + self.wanted.hex(), actual=label + found.hex())
        else:
            yield Mismatch(form="is", expected=decoded(self.wanted), actual=decoded(actual))

    def describe(self) -> str:
        """Return what it asks for."""
        return (
            f"has the {self.algorithm} digest {self.wanted.hex()}" if self.algorithm else "is the given bytes"
        )


def parse_bytes(text: str) -> tuple[str, bytes]:
    """Return the algorithm (empty for the bytes themselves) and the bytes of a digest or base64
    text. Raises ValueError."""
    import base64
    import binascii
    import hashlib

    name, colon, rest = text.partition(":")
    if colon and name == "base64":
        try:
            return "", base64.b64decode(rest, validate=True)
        except binascii.Error as error:
            raise ValueError(f"this is not base64: {error}") from None
    if not colon or name not in ALGORITHMS:
        raise ValueError('expected "base64:…" or a digest such as "sha256:…"')
    try:
        digest = bytes.fromhex(rest)
    except ValueError:
        raise ValueError(f"expected hex digits after {name}:") from None
    size = hashlib.new(name).digest_size
    if len(digest) != size:
        raise ValueError(f"a {name} digest has {size * 2} hex digits, this one {len(digest) * 2}")
    return name, digest


def _bytes(table: Table, about: FormContext) -> Iterator[Form]:
    if given(table, "bytes") is not None:
        yield BytesForm(*parse_bytes(given(table, "bytes")))


BYTES = FormKind(key="bytes", compile=_bytes)
