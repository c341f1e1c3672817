"""Covering arrays that are kept between calls: a search takes seconds, and comes to the same each
time.

An array is found again by a digest of everything that the search depends on: the levels, the
conditions with the values that they look at, what must be in it, seed and effort, and this very
build of the search. A condition that calls a function of the oracle may say something else
tomorrow; such arrays are not kept. They are in the user's own cache directory, and are numbers:
reading one runs nothing."""

from __future__ import annotations

import contextlib
import json
import os
from collections.abc import Sequence
from hashlib import blake2b
from typing import TYPE_CHECKING

from keen_matrix.core.files import cache_directory, drop_oldest, open_regular, replacing
from keen_matrix.core.model.lookups import stamp
from keen_matrix.core.model.spec import Matrix
from keen_matrix.core.vectors.constraints import Constraint
from keen_matrix.core.vectors.factors import Layout
from keen_matrix.core.version import VERSION

if TYPE_CHECKING:
    from keen_matrix.core.covering.search import Covering, Demand

#: Arrays that are kept; beyond, the half goes that was made first.
MOST_KEPT = 400
#: Cells of an array that is kept.
LARGEST = 4 << 20
SUFFIX = ".rows"
_DTYPE = "<i4"


def place_of(matrix: Matrix, layout: Layout, constraints: Sequence[Constraint], demand: Demand) -> str:
    """Return where the array of a demand is kept; empty where it cannot be."""
    if not all(each.is_fixed for each in constraints):
        return ""
    looked: dict[str, list[object]] = {}
    for each in constraints:
        if each.source:
            for name, factor in layout.names.items():
                if factor in each.factors:
                    looked[name] = list(layout.values[name])
    told = [
        VERSION,
        _build(),
        list(demand.levels),
        demand.strength,
        [(each.levels, each.parents) for each in layout.factors],
        [(each.source, each.factors) for each in constraints],
        looked,
        matrix.line_text if len(constraints) else "",
        [[cell is None for cell in row] for row in matrix.rows if None in row],
        demand.always,
        demand.denser,
        demand.effort,
        demand.seed,
    ]
    text = repr(told).encode("utf-8", "surrogatepass")
    digest = blake2b(text, digest_size=16).hexdigest()
    return os.path.join(cache_directory("rows"), digest + SUFFIX)


def _build() -> list[object]:
    """Return what tells this build of the search from any other."""
    from keen_matrix.core import covering

    top = os.path.dirname(str(covering.__file__))
    return [
        (each, stamp(os.path.join(top, each))) for each in sorted(os.listdir(top)) if each.endswith(".py")
    ]


def read_rows(place: str) -> Covering | None:
    """Return the array that is kept at a place; None where there is none, or it is damaged."""
    import numpy as np

    from keen_matrix.core.covering.search import Covering

    try:
        with open_regular(place) as file:
            head = json.loads(file.readline())
            shape = (int(head["rows"]), int(head["axes"]))
            body = file.read()
        if blake2b(body, digest_size=16).hexdigest() != head["digest"]:
            return None
        rows = np.frombuffer(body, dtype=_DTYPE).reshape(shape).astype(np.int32)
        return Covering(
            rows=rows,
            tuples=int(head["tuples"]),
            impossible=int(head["impossible"]),
            bound=int(head["bound"]),
        )
    except (OSError, ValueError, KeyError, TypeError):
        return None


def keep(place: str, covering: Covering) -> None:
    """Keep an array; where that cannot be it is searched for again the next time."""
    rows = covering.rows
    if rows.size > LARGEST:
        return
    body = rows.astype(_DTYPE).tobytes()
    head = {
        "rows": rows.shape[0],
        "axes": rows.shape[1],
        "tuples": covering.tuples,
        "impossible": covering.impossible,
        "bound": covering.bound,
        "digest": blake2b(body, digest_size=16).hexdigest(),
    }
    where = os.path.dirname(place)
    with contextlib.suppress(OSError):
        os.makedirs(where, mode=0o700, exist_ok=True)
        drop_oldest(where, MOST_KEPT)
        with replacing(place) as file:
            file.write(json.dumps(head).encode() + b"\n" + body)
