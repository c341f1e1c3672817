"""RESULTS.md: each benchmark replaces its own section and leaves the others as they are."""

from __future__ import annotations

import platform
import re
from datetime import date
from pathlib import Path

RESULTS = Path(__file__).parent / "RESULTS.md"


def write_section(title: str, command: str, lines: list[str]) -> None:
    """Put a section into RESULTS.md, with the command that measured it and the day."""
    text = RESULTS.read_text() if RESULTS.exists() else "# Measured\n"
    machine = (
        f"{platform.system()} {platform.machine()}, Python {platform.python_version()}, 2 cores"
    )
    section = (
        f"## {title}\n\n`{command}`, {date.today()}, {machine}\n\n"
        + "\n".join(lines).strip()
        + "\n"
    )
    pattern = re.compile(rf"^## {re.escape(title)}\n.*?(?=^## |\Z)", re.DOTALL | re.MULTILINE)
    text = pattern.sub("", text).rstrip() + "\n\n" + section
    RESULTS.write_text(text)
