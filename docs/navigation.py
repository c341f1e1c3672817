"""The order of the pages, from which the line below each title and the menu of the site are made."""

from __future__ import annotations

import posixpath
import re

SECTIONS: dict[str, list[tuple[str, str]]] = {
    "Begin": [
        ("tutorial.md", "Tutorial"),
        ("looking.md", "Look first"),
        ("drafting.md", "From a program to a spec"),
        ("loop.md", "The working loop"),
        ("concepts.md", "Concepts"),
        ("glossary.md", "Glossary"),
    ],
    "Specs": [
        ("matrix.md", "The matrix"),
        ("signature.md", "The signature"),
        ("readers.md", "Readers"),
        ("expectations.md", "Expectations"),
        ("surroundings.md", "Surroundings"),
        ("runners.md", "Programs started through runners"),
    ],
    "Results": [
        ("results.md", "Results"),
        ("insight.md", "Insight"),
        ("in-ci.md", "In continuous integration"),
        ("test-runner.md", "In a test runner"),
        ("python.md", "From Python"),
        ("scale.md", "Scale"),
    ],
    "Cookbook": [
        ("cookbook/index.md", "Cookbook"),
        ("cookbook/argparse.md", "Python: argparse"),
        ("cookbook/click.md", "Python: click"),
        ("cookbook/typer.md", "Python: typer"),
        ("cookbook/by-hand.md", "A reader of your own"),
        ("cookbook/no-help.md", "A program without help"),
        ("cookbook/getopts.md", "Shell: getopts"),
        ("cookbook/bash.md", "Bash, by hand"),
        ("cookbook/node-parseargs.md", "Node: parseArgs"),
        ("cookbook/commander.md", "Node: commander"),
        ("cookbook/yargs.md", "Node: yargs"),
        ("cookbook/go-flag.md", "Go: flag"),
        ("cookbook/go-subcommands.md", "Go: subcommands"),
        ("cookbook/c-getopt-long.md", "C: getopt_long"),
        ("cookbook/rust-clap.md", "Rust: clap"),
        ("cookbook/perl.md", "Perl: Getopt::Long"),
        ("cookbook/subcommands.md", "Subcommands"),
        ("cookbook/prompts.md", "Prompts and terminals"),
        ("cookbook/filters.md", "Filters"),
        ("cookbook/files.md", "Files and permissions"),
        ("cookbook/databases.md", "Databases"),
        ("cookbook/never-ending.md", "Programs that never end"),
        ("cookbook/random.md", "Output that varies"),
        ("cookbook/porting.md", "Porting"),
    ],
    "Reference": [
        ("reference-spec.md", "Every key of a spec"),
        ("reference-commands.md", "Every command"),
        ("settings.md", "Settings"),
        ("messages.md", "Messages"),
        ("security.md", "What is executed and written"),
        ("troubleshooting.md", "Troubleshooting"),
        ("faq.md", "Questions"),
        ("by-hand.md", "Compared with doing it by hand"),
        ("drafts.md", "Drafts of real programs"),
        ("architecture.md", "Architecture"),
    ],
}
PAGES = [page for pages in SECTIONS.values() for page in pages]
LINE = re.compile(r"^\[All pages\]\(.*\n\n", re.MULTILINE)


def with_navigation(name: str, text: str) -> str:
    """Return a page with the line below its title that leads on and back."""
    names = [each for each, _ in PAGES]
    at = names.index(name)
    here = posixpath.dirname(name)
    parts = [f"[All pages]({posixpath.relpath('index.md', here or '.')})"]
    for word, number in (("before", at - 1), ("next", at + 1)):
        if 0 <= number < len(PAGES):
            file, title = PAGES[number]
            parts.append(f"{word}: [{title}]({posixpath.relpath(file, here or '.')})")
    title, _, rest = LINE.sub("", text, count=1).partition("\n\n")
    return f"{title}\n\n{' · '.join(parts)}\n\n{rest}"
