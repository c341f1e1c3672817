"""What the text of a spec says apart from its vectors, which tells the cases that
a change of the spec leaves as they were."""

from __future__ import annotations

import json
import os
from collections.abc import Iterator
from hashlib import blake2b

from keen_matrix.core.model.spec import Parts
from keen_matrix.core.spec.source import Source

#: Keys of a matrix that say which cases there are: their words and values are in the cases.
OF_VECTORS = (
    "rows",
    "axes",
    "columns",
    "only-if",
    "combine",
    "always",
    "denser",
    "effort",
    "seed",
    "tags",
    "limit",
    "jobs",
)


def parts_of(source: Source) -> Parts:
    """Return the digests of what a spec says, its vectors apart."""
    data = source.data
    listed = data.get("matrix")
    written = [each for each in listed if isinstance(each, dict)] if isinstance(listed, list) else []
    bare = [{key: each[key] for key in each if key not in OF_VECTORS} for each in written]
    common = {key: value for key, value in data.items() if key not in ("matrix", "include")}
    text = _canonical([common, bare])
    tables = {
        os.path.normpath(os.path.join(source.here, name))
        for each in written
        for name in _texts([each.get("rows"), each.get("axes")])
        # one that is named elsewhere too may be read by the program
        if "." in name and os.path.basename(name) not in text
    }
    return Parts(
        common=_digest(_canonical(common)),
        matrices={index: _digest(_canonical(each)) for index, each in enumerate(bare)},
        tables=tuple(sorted(each for each in tables if os.path.isfile(each))),
    )


def _texts(value: object) -> Iterator[str]:
    if isinstance(value, str):
        if len(value) < 1_000 and "\0" not in value:
            yield value
    elif isinstance(value, dict):
        yield from _texts(list(value.values()))
    elif isinstance(value, list):
        for each in value:
            yield from _texts(each)


def _canonical(value: object) -> str:
    return json.dumps(value, sort_keys=True, default=repr)


def _digest(text: str) -> str:
    return blake2b(text.encode("utf-8", "surrogatepass"), digest_size=12).hexdigest()
