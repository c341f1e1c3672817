"""The documentation: every spec in it holds, every link leads somewhere, every command is in it and has help."""

from __future__ import annotations

import re
import runpy
import shutil
import subprocess
import sys
from pathlib import Path
from typing import Any

import pytest

from keen_matrix.cli import COMMANDS
from keen_matrix.core.model.record import VERDICTS
from keen_matrix.wording.signs import sign_of, verdict_text
from tests.conftest import Place

ROOT = Path(__file__).parent.parent
PAGES = sorted([*ROOT.glob("*.md"), *ROOT.glob("docs/**/*.md")])
SPECS = [
    (f"{page.stem}-{number}", text)
    for page in PAGES
    for number, text in enumerate(re.findall(r"```toml\n(.*?)```", page.read_text(), re.DOTALL), 1)
    if text.lstrip().startswith("[program]") and "{here}" not in text
]


@pytest.mark.parametrize(("name", "text"), SPECS, ids=[name for name, _ in SPECS])
def test_every_spec_of_the_documentation_holds(place: Place, name: str, text: str) -> None:
    (place.directory / f"{name}.matrix.toml").write_text(text)
    came = place.call("lint")
    assert came.status == 0, came.out
    came = place.call("run")
    assert came.status == 0, came.out


def test_the_pages_show_specs() -> None:
    assert len(SPECS) >= 5


@pytest.mark.parametrize("page", PAGES, ids=[page.name for page in PAGES])
def test_every_link_leads_somewhere(page: Path) -> None:
    for target, anchor in re.findall(r"\]\(([^)#:]*)(?:#([^)]*))?\)", page.read_text()):
        there = page.parent / target if target else page
        assert there.exists(), target
        assert not anchor or anchor in anchors(there), f"{target}#{anchor}"


def anchors(page: Path) -> set[str]:
    """Return the anchors of a page's headings, as hosts of repositories and generators of sites make them."""
    text = re.sub(r"```.*?```", "", page.read_text(), flags=re.DOTALL)
    headings = re.findall(r"^#+ (.*)$", text, re.MULTILINE)
    return {re.sub(r"\s", "-", re.sub(r"[^\w\s-]", "", heading.lower())) for heading in headings}


def test_every_page_stands_in_the_order_and_on_the_index() -> None:
    order = runpy.run_path(str(ROOT / "docs/navigation.py"))["PAGES"]
    pages = {str(page.relative_to(ROOT / "docs")) for page in ROOT.glob("docs/**/*.md")} - {"index.md"}
    assert {name for name, _ in order} == pages and len(order) == len(pages)
    index = (ROOT / "docs/index.md").read_text() + (ROOT / "docs/cookbook/index.md").read_text()
    assert all(f"({name.removeprefix('cookbook/')})" in index or f"({name})" in index for name in pages)


def test_the_glossary_has_every_verdict_with_its_sign() -> None:
    rows = re.findall(r"^\| `(\S+)` \| (\w[\w ]*) \|", (ROOT / "docs/glossary.md").read_text(), re.MULTILINE)
    assert rows == [(sign_of(verdict), verdict_text(verdict)) for verdict in VERDICTS]


def test_the_site_is_built_without_a_warning(tmp_path: Path) -> None:
    built = subprocess.run(
        [sys.executable, "-m", "mkdocs", "build", "--strict", "--site-dir", str(tmp_path)], cwd=ROOT, capture_output=True, text=True
    )
    # Under --quiet no warning is counted, and strict mode can not fail.
    assert built.returncode == 0 and "WARNING" not in built.stderr, built.stderr
    assert (tmp_path / "cookbook/argparse.html").exists() and (tmp_path / "contributing.html").exists()
    foreign = [page for page in tmp_path.rglob("*.html") if re.search(r"""(src=|<link [^>]*href=)["'](https?:)?//""", page.read_text())]
    assert not foreign, "a page asks for what stands elsewhere"


@pytest.mark.parametrize("command", COMMANDS)
def test_every_command_has_help_with_an_example_and_stands_in_the_readme(place: Place, command: str) -> None:
    came = place.call(command, "--help")
    assert came.status == 0 and "example" in came.out and "keen-matrix" in came.out
    assert re.search(r"^exit status: 0\b", came.out, re.MULTILINE), "each says its own"
    assert f"`keen-matrix {command}`" in (ROOT / "README.md").read_text()


FORMS_PAGE = (ROOT / "docs/expectations.md").read_text()
FORMS = re.findall(r"```toml\n# runs: ([^\n]*)\n# breaks: ([^\n]*)\n(.*?)```", FORMS_PAGE, re.DOTALL)


@pytest.mark.parametrize(("runs", "breaks", "expect"), FORMS, ids=[each[2].splitlines()[-1][:50] for each in FORMS])
def test_an_example_of_a_form_holds_and_is_seen_to_differ(place: Place, runs: str, breaks: str, expect: str) -> None:
    line = "" if expect.startswith("line") else 'line = "Skerry"\n'
    (place.directory / "t.matrix.toml").write_text(
        f'[program]\nlaunch = "sh {{here}}/p.sh"\n[[matrix]]\nname = "m"\n{line}{expect}'
    )
    for script, status in ((runs, 0), (breaks, 1)):
        (place.directory / "p.sh").write_text(script + "\n")
        came = place.call("run", "--all")
        assert came.status == status, came.out + came.err


def test_every_form_has_an_example() -> None:
    assert len(FORMS) >= 19


def test_the_reference_pages_are_what_models_and_parsers_say() -> None:
    made = runpy.run_path(str(ROOT / "docs/generate.py"))
    for name, text in made["pages"]():
        assert (ROOT / "docs" / name).read_text() == text, f"python docs/generate.py writes {name} anew"


FARE = """
    import argparse

    parser = argparse.ArgumentParser()
    parser.add_argument("port", choices=["Skerry", "Holm", "Voe"])
    parser.add_argument("-n", "--riders", default="1")
    either = parser.add_mutually_exclusive_group()
    either.add_argument("--bike", action="store_true")
    either.add_argument("--car", action="store_true")
    options = parser.parse_args()
    print(f"{4.5 * int(options.riders) + 3 * options.bike + 21 * options.car:.2f}")
    """


@pytest.fixture(scope="module")
def readme(tmp_path_factory: pytest.TempPathFactory) -> tuple[Place, str]:
    """The spec of the readme in a directory where it was run, and what that printed."""
    place = Place(tmp_path_factory.mktemp("readme"))
    place.write("fare.py", FARE)
    place.write("fare.matrix.toml", re.findall(r"```toml\n(.*?)```", (ROOT / "README.md").read_text(), re.DOTALL)[0])
    return place, place.call("run", "--jobs", "2", env={"LC_ALL": "C.UTF-8"}).out


def test_the_output_in_the_readme_is_what_the_spec_above_it_gives(readme: tuple[Place, str]) -> None:
    shown = (ROOT / "README.md").read_text().partition("```\nfare.matrix.toml ")[2].partition("```")[0]
    printed = readme[1].partition("fare.matrix.toml ")[2]
    printed = re.sub(r"time: .*\n", "", printed)  # on a machine that takes more than ten seconds for it
    seconds = re.compile(r"\d+\.\d+ s")
    at = 0
    parts = [seconds.sub("… s", part) for part in shown.split("  ...\n")]
    assert len(parts) == 3
    for part in parts:  # in this order, with something left out between them
        at = seconds.sub("… s", printed).index(part, at) + len(part)


def test_the_python_page_runs(readme: tuple[Place, str], monkeypatch: pytest.MonkeyPatch) -> None:
    import keen_matrix

    text = (ROOT / "docs/python.md").read_text()
    monkeypatch.chdir(readme[0].directory)
    names: dict[str, Any] = {"print": lambda *_: None}
    for block in re.findall(r"```python\n(.*?)```", text, re.DOTALL):
        exec(block, names)
    assert len(names["wrong"]) == 31 and names["record"].verdict in ("passed", "crashed")
    assert set(re.findall(r"^\| `(\w+)", text, re.MULTILINE)) == set(keen_matrix.__all__)
    assert all(getattr(keen_matrix, name) for name in keen_matrix.__all__)


def test_the_page_on_the_loop_leaves_open_and_fills_in(place: Place) -> None:
    block = (ROOT / "docs/loop.md").read_text().partition("```toml\n")[2].partition("```")[0]
    place.write("fare.py", FARE.replace('"port", choices=["Skerry", "Holm", "Voe"]', '"ports", nargs=2'))
    place.write("fare.matrix.toml", f'[program]\nlaunch = "python3 {{here}}/fare.py"\n{block}')
    assert place.call("run").status == 1
    assert {case["verdict"] for case in place.cases()} == {"unchecked"}
    assert place.call("fill", "--write").status == 0
    assert '["Skerry", "Holm", "4.50"], ["Holm", "Voe", "4.50"]' in (place.directory / "fare.matrix.toml").read_text()
    assert place.call("run").status == 0
    place.write("mark.matrix.toml", '[program]\nlaunch = "echo"\n[[matrix]]\nname = "a"\nline = "?"\nexpect.stdout.lines = ["?"]\n')
    assert place.call("run", "mark.matrix.toml").status == 0


def test_what_the_page_on_drafting_shows_is_what_settling_finds(place: Place) -> None:
    page = (ROOT / "docs/drafting.md").read_text()
    shown = page.partition("```text\n")[2].partition("```")[0]
    shutil.copytree(ROOT / "src/keen_matrix/demo/office", place.directory / "ferry-office")
    assert place.call("draft", "-o", "ferry-office/tide-2.matrix.toml", "--", "sh", "ferry-office/sound/tide.sh").status == 0
    came = place.call("settle", "ferry-office/tide-2.matrix.toml", timeout=120).out
    assert came.startswith(shown.rpartition("\n\n")[0]), "the page shows another output"
