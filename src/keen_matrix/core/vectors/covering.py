"""Covering arrays."""

from __future__ import annotations


def covering_rows() -> None:
    """To be built."""
    raise NotImplementedError
