"""Reports that are written where the user says, and over nothing but an earlier one."""

from __future__ import annotations

import os
import re
import sys
from itertools import chain

from keen_matrix.core.errors import RunFault
from keen_matrix.core.files import open_stream_of, written
from keen_matrix.reports.formats import CALL_FORMATS, FORMATS, FormatKind


def write_to(kind: FormatKind, report: object, output: str | None) -> None:
    """Write a report, or a table of calls, to standard output, or to what is at a path: a file
    whole or not at all, a pipe or device as it is.

    Raises RunFault when it cannot be written, and when a file is there that is no earlier report.
    """
    if output is None:
        sys.stdout.flush()
        kind.write(report, sys.stdout.buffer)
        sys.stdout.buffer.flush()
        return
    try:
        refuse_other_file(output)
        if os.path.dirname(output):
            os.makedirs(os.path.dirname(output), exist_ok=True)
        with written(output) as stream:
            kind.write(report, stream)
    except OSError as error:
        raise RunFault(f"{output} cannot be written: {error.strerror}") from None


def refuse_other_file(output: str) -> None:
    """Raise RunFault when a regular file with some other content than an earlier report is at
    a path."""
    if not os.path.isfile(output) or open_stream_of(output) is not None:
        return
    with open(output, "rb") as file:
        start = file.read(4_000)
    kinds = chain(FORMATS.values(), CALL_FORMATS.values())
    if start and not any(re.match(kind.mark, start) for kind in kinds):
        raise RunFault(
            f"{output} exists and is not an earlier report; it is left as it is: give another name, or "
            "remove it first"
        )
