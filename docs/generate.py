"""The reference pages, made from the models and the parsers: python docs/generate.py writes them anew."""

from __future__ import annotations

import argparse
import ast
import itertools
import json
import os
import sys
from collections.abc import Iterator
from pathlib import Path
from typing import Any

from keen_matrix import __version__
from keen_matrix.cli import COMMANDS, build_parser
from keen_matrix.core.signature import habits
from keen_matrix.core.signature.readers import READERS
from keen_matrix.core.spec.schema import json_schema

DOCS = Path(__file__).parent
MAN_VERSION = (3, 11)
"""The Python whose argparse the manual page is made with: others break usage lines elsewhere."""


def spec_reference() -> str:
    """Return the page of all spec keys, table by table."""
    schema = json_schema()
    definitions = schema["$defs"]
    parts = [
        "# Every key of a spec\n\nMade from the models by `python docs/generate.py`. Unknown keys are errors; "
        "`keen-matrix schema` prints the JSON Schema.\n",
        _table("The spec", schema),
    ]
    parts += [
        _table(_title(name), definitions[name])
        for name in sorted(definitions)
        if definitions[name].get("properties")
    ]
    return "\n".join(parts)


TITLES = {
    "ProgramTable": "[program]",
    "SignatureTable": "[signature]",
    "MatrixTable": "[[matrix]]",
    "StepTable": "[[matrix.steps]]",
    "Expectations": "[expect]",
    "RefusalTable": "[refusal]",
    "RefusalKind": "[refusal.KIND]",
    "ExpectRule": "[[matrix.expect]]",
    "MaskTable": "[[mask]]",
    "ReferenceTable": "[reference]",
    "ValueTable": "[signature.values] NAME = { … }",
}


def _title(name: str) -> str:
    return TITLES.get(name, name)


def _table(title: str, schema: dict[str, Any]) -> str:
    lines = [
        f"## {title}\n",
        " ".join(schema.get("description", "").split("\n\n")[0].split()) + "\n",
        "| key | type | meaning | example |",
        "|---|---|---|---|",
    ]
    for key, value in schema["properties"].items():
        examples = value.get("examples") or _inner(value).get("examples") or []
        example = f"`{_toml(examples[0])}`" if examples and examples[0] not in ([], [[]]) else ""
        required = " (required)" if key in schema.get("required", ()) else ""
        lines.append(
            f"| `{key}`{required} | {_cell(_type(value))} | {_cell(value.get('description', ''))} | {_cell(example)} |"
        )
    return "\n".join(lines) + "\n"


def _inner(value: dict[str, Any]) -> dict[str, Any]:
    return next((each for each in value.get("anyOf", ()) if each.get("type") != "null"), {})


def _type(value: dict[str, Any]) -> str:
    if "anyOf" in value:
        return " or ".join(
            dict.fromkeys(_type(each) for each in value["anyOf"] if each.get("type") != "null")
        )
    if "$ref" in value:
        return value["$ref"].rsplit("/", 1)[-1]
    if "enum" in value:
        return ", ".join(json.dumps(each) for each in value["enum"])
    if "const" in value:
        return json.dumps(value["const"])
    kind = value.get("type", "any value")
    if kind == "array":
        return f"list of {_type(value.get('items', {}))}"
    if kind == "object":
        inner = value.get("additionalProperties")
        return f"table of {_type(inner)}" if isinstance(inner, dict) else "table"
    names = {"string": "text", "boolean": "boolean", "integer": "whole number", "number": "number"}
    return " or ".join(
        names.get(each, each) for each in ([kind] if isinstance(kind, str) else kind)
    )


def _toml(value: Any) -> str:
    if isinstance(value, dict):
        return "{ " + ", ".join(f"{key} = {_toml(each)}" for key, each in value.items()) + " }"
    if isinstance(value, list):
        return "[" + ", ".join(map(_toml, value)) + "]"
    return json.dumps(value, ensure_ascii=False)


def _cell(text: str) -> str:
    return text.replace("|", "\\|").replace("\n", " ")


def command_reference() -> str:
    """Return the page of all commands and their options."""
    parser = build_parser()
    commands = next(
        each for each in parser._actions if isinstance(each, argparse._SubParsersAction)
    ).choices
    parts = [
        "# Every command\n\nMade from the parsers by `python docs/generate.py`. Every command has `--help`.\n"
    ]
    for name in COMMANDS:
        sub = commands[name]
        rows = [
            f"| {_cell(_spelt(action))} | {_cell(action.help or '')} |"
            for action in sub._actions
            if "--help" not in action.option_strings
        ]
        parts.append(f"## keen-matrix {name}\n\n{sub.description}\n")
        parts += (
            ["| option or operand | meaning |\n|---|---|\n" + "\n".join(rows) + "\n"]
            if rows
            else []
        )
        parts.append(f"```text\n{(sub.epilog or '').strip()}\n```\n")
    return "\n".join(parts)


def _spelt(action: argparse.Action) -> str:
    value = (
        ""
        if action.nargs == 0
        else action.metavar
        or ("|".join(map(str, action.choices)) if action.choices else action.dest.upper())
    )
    if not action.option_strings:
        return f"`{value}`" + (" …" if action.nargs in ("*", "+") else "")
    return ", ".join(f"`{each}{f' {value}' if value else ''}`" for each in action.option_strings)


READERS_HEAD = """# Readers: who reads the words

Made from the rows of readers by `python docs/generate.py`.

Programs read their argument words by a library, and libraries differ: in whether `--rid` is short for `--riders`, what
`-n=3` gives, whether options may follow operands, which texts are numbers. Of 2,160 vectors that probe this,
fifteen libraries with the same signature agree in little more than half
on whether to take them. So there is no one right answer; there is the reader's. One word in the spec settles it:

```toml
[signature]
synopsis = "[-n,--riders RIDERS] [--bike] PORT"
reader = "argparse"
values.RIDERS = { type = "int", min = 1 }
```

`reader` sets every habit below, the spellings of help that the library adds by itself, and what it promises: argparse ends
with 2 and writes to standard error, so that is asked of every refusal that argparse itself makes (an unknown option, a word
where a number belongs), and of none that the program makes behind it (a condition of `where`, two ports that are the same).
`[refusal]` overrides it, and a single key such as `abbreviations = false` a single habit.

Without a reader, `style` says how options are written (`gnu`, `posix`, `one-dash`) and habits stay open. A vector that depends
on an open one is judged under every setting of it, up to 64 readings: where all of them agree it is settled, else it is
*unspecified* and nothing is claimed of it. `keen-matrix unfold --why ID` then says which readers would accept it and which
would refuse.

## Which reader a program has

- Python: `import argparse`, `optparse`, `click`, `typer` in its source. Their refusals begin with `usage: PROGRAM` in small
  letters (argparse), with `Usage: PROGRAM` (optparse, click: `Try 'PROGRAM --help' for help.`).
- Shell: `while getopts` is `getopts`; `getopt -o … -l …` is `getopt-long`.
- C: `getopt_long` in its source; messages such as `invalid option -- 'z'` and `unrecognized option '--zzz'`.
- Go: `flag provided but not defined: -zzz` is `go-flag`; `unknown flag: --zzz` is `go-pflag`.
- Node: `parseArgs` of `node:util` (`ERR_PARSE_ARGS_UNKNOWN_OPTION`), `commander` (`error: unknown option '--zzz'`),
  `yargs` (`Unknown argument: zzz`), `minimist` (refuses nothing).
- Perl: `use Getopt::Long` (`Unknown option: zzz`); with `bundling` in its configuration `perl-getopt-long-bundling`.
- Ruby: `require 'optparse'` (`invalid option: --zzz`). Rust: `error: unexpected argument '--zzz' found` is `clap`.

## What the libraries promise
"""
READERS_TAIL = """
## What is still judged otherwise

Of the trial's vectors the judge says something else than the library on five of yargs, eight of minimist and one of
perl-getopt-long-bundling. They are all of words that hardly anybody writes:

- yargs and minimist read `-a b` as one word letter by letter, white space included, and leave a sign such as `-5` or `-` behind
  an option that they do not know to chance; to yargs an empty operand is the number 0.
- Getopt::Long with bundling calls `--a` ambiguous beside `-a` and `--alpha` when what follows is no value of `--alpha`.

What node, commander and minimist hand over as text is turned into numbers by the program, in a way of its own: whether `1e3`,
`0x10` or `+3` is a number stays open there, and whether `+3` is one for C and the shell.

## How to add one

A reader is a row in `core/signature/readers.py` and nothing else: its habits, the source of each (the documentation, or a
trial), help, exit status and streams. `benchmarks/readers.py` asks a library 2,160 vectors over 24 signatures that probe its
habits, and shows what the judge says otherwise; `--keep` keeps the answers, which the tests replay.
"""


def reader_page() -> str:
    """Return the page of readers: what they promise, and each habit with who has it."""
    lines = [
        READERS_HEAD,
        "| reader | its own help | a refusal of its own | help | known from |",
        "|---|---|---|---|---|",
    ]
    for name, row in READERS.items():
        refusal = f"exit {row.exit}, {row.stream}" if row.exit is not None else "the program's"
        helped = (
            f"exit {row.help_exit}, {row.help_stream}"
            if row.help_exit is not None
            else "the program's"
        )
        lines.append(
            f"| `{name}` | {', '.join(f'`{each}`' for each in row.help) or '–'} | {refusal} | {helped} | {row.source} |"
        )
    lines += ["\n## Habits\n", "| habit | meaning | who |", "|---|---|---|"]
    for name, meaning in habit_meanings().items():
        by_setting: dict[str, list[str]] = {}
        for reader, row in READERS.items():
            by_setting.setdefault(_setting(name, getattr(row.habits, name)), []).append(reader)
        *few, (usual, most) = sorted(by_setting.items(), key=lambda each: len(each[1]))
        parts = [f"**{setting}** {', '.join(readers)}" for setting, readers in few]
        others = "all" if not few else "the others" if len(most) > 2 else ", ".join(most)
        who = "; ".join([*parts, f"**{usual}** {others}"])
        lines.append(f"| `{name.replace('_', '-')}` | {_cell(meaning)} | {who} |")
    return "\n".join(lines) + "\n" + READERS_TAIL


def _setting(name: str, value: object) -> str:
    if isinstance(value, frozenset):
        return ", ".join(sorted(value)) or "none"
    if value is None and name not in habits.SETTINGS:
        return "no" if name == "negated" else "not told"
    return {True: "yes", False: "no", None: "open"}.get(value, str(value))  # type: ignore[call-overload]


def habit_meanings() -> dict[str, str]:
    """Return each habit with the text that stands below it in the class."""
    tree = ast.parse(Path(habits.__file__).read_text())
    classes = [
        node
        for node in tree.body
        if isinstance(node, ast.ClassDef) and node.name.endswith("Habits")
    ]
    found = {}
    for field, text in (pair for node in classes for pair in itertools.pairwise(node.body)):
        if isinstance(field, ast.AnnAssign) and isinstance(field.target, ast.Name):
            told = (
                text.value.value
                if isinstance(text, ast.Expr) and isinstance(text.value, ast.Constant)
                else ""
            )
            found[field.target.id] = " ".join(str(told).split())
    return found


FILES = {
    ".keen-matrix/last.jsonl": "the journal of the last run: what came of each case",
    ".keen-matrix/history.sqlite3": "the history of all runs of a folder",
    ".keen-matrix/grounds/": "what was learnt of a program's accepted vectors",
    "keen-matrix.toml": "the project file: defaults of the specs below it",
    "~/.cache/keen-matrix/": "specs and covering arrays that are kept, so that an unchanged one is not made again",
}
VARIABLES = {
    "NO_COLOR": "when it is set, nothing is coloured unless --color always says so",
    "XDG_CACHE_HOME": "where specs are kept, in place of ~/.cache",
    "KEEN_MATRIX_TRACEBACK": "when it is set, a fault of Keen Matrix itself is shown with its traceback",
}


def man_page() -> str:
    """Return the manual page, in roff."""
    from argparse_manpage.manpage import Manpage

    os.environ |= {"SOURCE_DATE_EPOCH": "0", "COLUMNS": "80"}
    about = {
        "project_name": "Keen Matrix",
        "version": __version__,
        "manual_title": "Keen Matrix",
        "description": "run a console program with many argument vectors and check what comes",
    }
    text = str(Manpage(build_parser(), _data=about)).replace('"1970\\-01\\-01"', '""')
    for title, rows in (("FILES", FILES), ("ENVIRONMENT", VARIABLES)):
        text += f"\n.SH {title}\n"
        text += "".join(f".TP\n.B {_roff(name)}\n{_roff(what)}\n" for name, what in rows.items())
    return text


def _roff(text: str) -> str:
    escaped = text.replace("-", "\\-")
    return f"\\&{escaped}" if escaped.startswith(".") else escaped


def pages() -> Iterator[tuple[str, str]]:
    """Yield the name and the text of each page."""
    yield "reference-spec.md", spec_reference()
    yield "reference-commands.md", command_reference()
    yield "readers.md", reader_page()
    if sys.version_info[:2] == MAN_VERSION:
        yield "keen-matrix.1", man_page()


if __name__ == "__main__":
    for name, text in pages():
        (DOCS / name).write_text(text)
        print(name)
