"""The sign of what is left open: what is to come there is not known yet."""

from __future__ import annotations

#: What stands instead of an exit, a stream, a file, or a cell that only expectations use.
OPEN = "<fill>"
