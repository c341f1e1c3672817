"""Where the project file of a folder may stand: keen-matrix.toml, or pyproject.toml with a
[tool.keen-matrix], there or in a folder above, up to the top of a repository."""

from __future__ import annotations

import os
from collections.abc import Iterator

PROJECT_FILE, PYPROJECT = "keen-matrix.toml", "pyproject.toml"


def project_paths(folder: str) -> Iterator[str]:
    """Yield where it may stand, the nearest first."""
    folder = os.path.abspath(folder)
    while True:
        yield os.path.join(folder, PROJECT_FILE)
        yield os.path.join(folder, PYPROJECT)
        above = os.path.dirname(folder)
        if above == folder or os.path.exists(os.path.join(folder, ".git")):
            return
        folder = above


def has_project_file(folder: str) -> bool:
    """Tell whether there may be one. A pyproject.toml that does not speak of us is none, which is
    seen without a parser: most calls pay for nothing else."""
    return any(map(_may_be_one, project_paths(folder)))


def _may_be_one(path: str) -> bool:
    if not os.path.isfile(path):
        return False
    if os.path.basename(path) == PROJECT_FILE:
        return True
    try:
        with open(path, "rb") as file:
            return b"keen-matrix" in file.read()
    except OSError:
        return False
