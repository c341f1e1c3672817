"""Where the project file of a directory may stand: keen-matrix.toml, or pyproject.toml with a
[tool.keen-matrix], there or in a directory above, up to the top of a repository."""

from __future__ import annotations

import os
from collections.abc import Iterator

PROJECT_FILE, PYPROJECT = "keen-matrix.toml", "pyproject.toml"


def project_paths(directory: str) -> Iterator[str]:
    """Yield where it may stand, the nearest first."""
    directory = os.path.abspath(directory)
    while True:
        yield os.path.join(directory, PROJECT_FILE)
        yield os.path.join(directory, PYPROJECT)
        above = os.path.dirname(directory)
        if above == directory or os.path.exists(os.path.join(directory, ".git")):
            return
        directory = above


def has_project_file(directory: str) -> bool:
    """Tell whether there may be one. A pyproject.toml that does not speak of us is none, which is
    seen without a parser: most calls pay for nothing else."""
    return any(map(_may_be_one, project_paths(directory)))


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
