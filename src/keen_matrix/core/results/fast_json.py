"""orjson, imported so that no interruption meets it half made: its first moments end the process when one does."""

from __future__ import annotations

from keen_matrix.core.interruption import put_off

with put_off():
    import orjson

JSONDecodeError = orjson.JSONDecodeError
dumps = orjson.dumps
loads = orjson.loads

__all__ = ["JSONDecodeError", "dumps", "loads"]
