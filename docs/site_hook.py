"""What mkdocs asks while it builds the site: the menu, and pages that stand outside docs/."""

from __future__ import annotations

import html
import re
import runpy
from pathlib import Path
from typing import Any

from mkdocs.structure.files import File, Files

HERE = Path(__file__).parent
OUTSIDE = {"../CONTRIBUTING.md": "contributing.md", "../CHANGELOG.md": "changes.md"}


def on_config(config: Any) -> Any:
    """Make the menu."""
    sections = runpy.run_path(str(HERE / "navigation.py"))["SECTIONS"]
    menu: list[dict[str, Any]] = [{"All pages": "index.md"}]
    menu += [
        {section: [{title: file} for file, title in pages]} for section, pages in sections.items()
    ]
    menu[-1]["Reference"] += [{"Contributing": "contributing.md"}, {"Changes": "changes.md"}]
    config["nav"] = menu
    return config


def on_files(files: Files, config: Any) -> Files:
    """Add the pages that stand at the top of the repository."""
    for source, name in OUTSIDE.items():
        text = (HERE / source).read_text().replace("](docs/", "](")
        files.append(File.generated(config, name, content=text))
    return files


def on_page_markdown(markdown: str, **_: Any) -> str:
    """Lead to those pages where they are on the site."""
    for source, name in OUTSIDE.items():
        markdown = markdown.replace(f"]({source}", f"]({name}")
    # A bar in the code of a table is written \\| for hosts of repositories; here it would be shown so.
    return re.sub(r"`([^`\n]*\\\|[^`\n]*)`", _code, markdown)


def _code(match: re.Match[str]) -> str:
    return f"<code>{html.escape(match[1]).replace(chr(92) + '|', '&#124;')}</code>"
