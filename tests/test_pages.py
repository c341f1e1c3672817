"""Pages that are walked through: files written, commands run, what they print compared with what is shown."""

from __future__ import annotations

import importlib.util
import re
import sys
from pathlib import Path
from types import ModuleType

import pytest

from tests.conftest import zygote

DOCS = Path(__file__).parent.parent / "docs"


def module(name: str) -> ModuleType:
    spec = importlib.util.spec_from_file_location(f"docs_{name}", DOCS / f"{name}.py")
    assert spec is not None and spec.loader is not None
    found = importlib.util.module_from_spec(spec)
    sys.modules[spec.name] = found
    spec.loader.exec_module(found)
    return found


blocks = module("blocks")
PAGES = [page for page in sorted(DOCS.rglob("*.md")) if blocks.blocks_of(page.read_text())]


@pytest.mark.parametrize("page", PAGES, ids=[str(page.relative_to(DOCS)) for page in PAGES])
@pytest.mark.long
def test_what_a_page_shows_is_what_comes(page: Path, tmp_path: Path) -> None:
    text = page.read_text()
    needed = blocks.missing(text)
    if needed:
        pytest.skip(f"there is no {needed} here")
    blocks.walk(text, tmp_path, first=zygote().bin)  # pages call the command often: as forks


def test_the_tutorial_and_the_cookbook_are_walked_through() -> None:
    names = {str(page.relative_to(DOCS)) for page in PAGES}
    assert "tutorial.md" in names
    cookbook = {f"cookbook/{page.name}" for page in (DOCS / "cookbook").glob("*.md")} - {"cookbook/index.md"}
    assert len(cookbook) >= 20 and cookbook <= names


def test_every_block_that_looks_like_one_is_one() -> None:
    """A comment with a slip in it would be passed over."""
    for page in DOCS.rglob("*.md"):
        comments = re.findall(r"^<!--(?! needs).*-->$", page.read_text(), re.MULTILINE)
        assert len(comments) == len(blocks.blocks_of(page.read_text())), page


@pytest.mark.parametrize(
    ("shown", "printed", "like"),
    [
        ("a\nb\n", "a\nb\n", True),
        ("a\nb\n", "a\nc\n", False),
        ("a\n...\nb\n", "a\nb\n", True),
        ("a\n...\nb\n", "a\n1\n2\nb\n", True),
        ("a\n...\nb\n", "a\n1\nb\nc\n", False),
        ("2 passed. 0.1 s, 2 jobs\n", "2 passed. 31.24 s, 16 jobs\n", True),
        ("2 passed. 0.1 s\n", "3 passed. 0.1 s\n", False),
        ("run of 2026-01-01 10:00 UTC\n", "run of 2027-11-30 23:59 UTC\n", True),
    ],
)
def test_what_is_printed_is_compared_but_for_what_varies(shown: str, printed: str, like: bool) -> None:
    assert blocks.is_like(shown, printed) == like


@pytest.mark.parametrize(
    ("page", "fault"),
    [
        ("<!-- run: 0 -->\n```sh\nfalse\n```\n", "exit 1"),
        ("<!-- run -->\n```sh\necho a\n```\n\n<!-- prints -->\n```text\nb\n```\n", "the page shows"),
        ("<!-- file: f -->\n```text\na\na\n```\n\n<!-- change: f -->\n```diff\n-a\n+b\n```\n", "2 times"),
        ("<!-- file: f -->\n```text\na\n```\n\n<!-- change: f -->\n```diff\n-b\n+c\n```\n", "0 times"),
    ],
)
def test_a_page_that_does_not_hold_is_seen(page: str, fault: str, tmp_path: Path) -> None:
    with pytest.raises(blocks.Unlike, match=fault):
        blocks.walk(page, tmp_path)


def test_a_page_is_written_anew_with_the_gap_that_it_has(tmp_path: Path) -> None:
    page = "<!-- run -->\n```sh\nseq 5\n```\n\n<!-- prints -->\n```text\nx\n...\ny\n```\n"
    assert blocks.walk(page, tmp_path, anew=True).endswith("```text\n1\n...\n5\n```\n")
