"""The reference pages, made from the models and the parsers: python docs/generate.py writes them anew."""

from __future__ import annotations

import argparse
import itertools
import json
import os
import re
import runpy
import sys
import tempfile
from collections.abc import Iterable, Iterator, Mapping
from pathlib import Path
from typing import Any, get_args

from keen_matrix import __version__
from keen_matrix.cli import COMMANDS, build_parser
from keen_matrix.core.signature import habits
from keen_matrix.core.signature.habits import Habits
from keen_matrix.core.signature.kinds import KINDS
from keen_matrix.core.signature.readers import READERS
from keen_matrix.core.spec.document.tables import Table, kebab
from keen_matrix.core.spec.document.texts import Role
from keen_matrix.core.spec.schema import json_schema

DOCS = Path(__file__).parent
MAN_VERSION = (3, 11)
"""The Python whose argparse the manual page is made with: others break usage lines elsewhere."""


SECTIONS: Mapping[str, tuple[str, str]] = {
    "": ("The top of a spec", ""),
    "ProgramTable": ("[program]", ""),
    "MatrixTable": ("[[matrix]]", "`line` or `steps` says which words; `axes`, `columns` with `rows` and the groups of the line multiply."),
    "AxisTable": ("axes.NAME", "Beside a plain list of values. An array among them is several words, `[]` none."),
    "RowsTable": ("matrix.rows", ""),
    "DenserTable": ("[[matrix.denser]]", ""),
    "StepTable": ("[[matrix.steps]]", "The steps of a case share its directory."),
    "PutTable": ("files.NAME", "At the top for all cases, in a matrix or a step for its own. The name may be a template."),
    "StdinTable": ("stdin", "A plain text means `{ text = … }`."),
    "TerminalTable": ("terminal", "`{}` is one of 80 by 24."),
    "AnswerTable": ("dialogue", ""),
    "MeanwhileTable": ("meanwhile", ""),
    "StopTable": ("stop", ""),
    "KnownTable": ("matrix.known", ""),
    "SkipTable": ("matrix.skip", ""),
    "Expectations": ("[expect]", "For every case; with a signature, for those that it accepts."),
    "ExpectRule": ("[[matrix.expect]]", "The last rule that applies and names an aspect wins. `expect = { … }` is a single one."),
    "TextTable": ("expect.stdout", "Also of `stderr`. A plain text means `{ is = … }`; a final newline may then be missing."),
    "FileTable": ("expect.files.NAME", "A plain text means `{ is = … }`, `\"absent\"` for a file that must not exist."),
    "NumberTable": ("expect.stdout.number", ""),
    "ColumnsTable": ("expect.stdout.columns", ""),
    "ToleranceTable": ("expect.stdout.tolerance", ""),
    "AlikeTable": ("expect.alike", ""),
    "DiffersTable": ("expect.differs", ""),
    "SignatureTable": ("[signature]", ""),
    "ValueTable": ("[signature.values] NAME", "One class a type: `text`, `int`, `float`, `bool`, `choice`, `date`, `duration`, `file`, `dir`, `path`."),
    "UsageTable": ("[signature.usage.WORD]", ""),
    "BeforeTable": ("[[signature.before]]", ""),
    "BeforeStep": ("steps of [[signature.before]]", ""),
    "RefuseTable": ("[[signature.refuse]]", ""),
    "RefusalTable": ("[refusal]", ""),
    "RefusalKind": ("[refusal.KIND]", "The kinds: " + ", ".join(f"`{each}`" for each in KINDS) + ", and those of `[[signature.refuse]]`."),
    "HelpTable": ("[help]", ""),
    "MaskTable": ("[[mask]]", "At the top, and in a matrix."),
    "KnownCases": ("[[known]]", ""),
    "ReferenceTable": ("[reference]", ""),
}  # fmt: skip
"""Name of a table's model → its heading and what stands below it, in the order in which people write them."""
COMMON = {
    "MatrixTable": "ProgramTable",
    "StepTable": "ProgramTable",
    "FileTable": "TextTable",
    "ExpectRule": "Expectations",
    "RefusalTable": "Expectations",
    "RefusalKind": "Expectations",
}
"""A table → the one whose keys it has too: these are listed once."""
HEAD = """# Every key of a spec

Made from the models by `python docs/generate.py`, in the order in which people write them. Unknown keys are errors, with the nearest
right word. `keen-matrix schema` prints the same as a JSON Schema for editors; `keen-matrix lint --effective` prints a merged spec.

## How texts are read

| kind | content | which |
|---|---|---|
| template | `{expression}` is filled in, with `{expression:format}` as in Python; `{{` is a brace | names and texts of files, standard input, environment, most expectations; `literal = true` next to it switches fields off |
| line | words, groups `[ ]`, `( a \\| b )`, and fields; quotes group | `line` of a matrix |
| words | words and fields, split by the word rules, never given to a shell | `launch`, `build`, `command`, `line` of a step |
| expression | Python's syntax, evaluated in a sandbox | `only-if`, `when`, `holds` |
| text | as it is | all others |

| name in an expression | is |
|---|---|
| an axis, a column | its value as written, so a number is a number; None if its part of the line is left out |
| a NAME of the signature | its value, of its type; its default, `[]` or None if it is not given ([the signature](signature.md#values)) |
| `words`, `argc` | the words of the call, and their number |
| `case_id`, `here`, `platform` | the id of the case, the directory of the spec, `linux` or `darwin` |
| `has('--bike')` | whether an option is given, in any spelling |
| `culprit` | in `[refusal]`: the word or NAME that a good message would mention |
| functions of the oracle | what `[program] oracle` defines |
"""


def spec_reference() -> str:
    """Return the page of all spec keys, table by table."""
    schema = json_schema()
    definitions = {"": schema, **schema["$defs"]}
    headed = {name for name, each in definitions.items() if each.get("properties")}
    if headed != set(SECTIONS):
        raise SystemExit(f"without a heading, or without a table: {sorted(headed ^ set(SECTIONS))}")
    parts = [
        HEAD,
        "".join(f"- [`{_heading(name)}`](#{_slug(_heading(name))})\n" for name in SECTIONS),
    ]
    return "\n".join([*parts, *(_table(name, definitions) for name in SECTIONS)])


def _heading(name: str) -> str:
    return SECTIONS[name][0]


def _slug(heading: str) -> str:
    """Return the anchor of a heading."""
    return re.sub(r"\s", "-", re.sub(r"[^\w\s-]", "", heading.lower()))


def _table(name: str, definitions: Mapping[str, Any]) -> str:
    schema, (heading, more) = definitions[name], SECTIONS[name]
    about = " ".join(schema.get("description", "").split("\n\n")[0].split())
    common = definitions.get(COMMON.get(name, "?"), {}).get("properties", {})
    rows = {key: value for key, value in schema["properties"].items() if common.get(key) != value}
    lines = [f"## {heading}\n", f"{about} {more}".strip() + "\n"]
    if common:
        shared = [key for key in common if schema["properties"].get(key) == common[key]]
        which = (
            "The keys"
            if len(shared) == len(common)
            else f"{', '.join(f'`{each}`' for each in shared)}"
        )
        lines.append(f"{which} of {_link(COMMON[name])}, and:\n")
    lines += ["| key | type | default | meaning | example |", "|---|---|---|---|---|"]
    required = schema.get("required", ())
    for key, value in sorted(rows.items(), key=lambda each: each[0] not in required):
        examples = value.get("examples") or _inner(value).get("examples") or []
        example = f"`{_toml(examples[0])}`" if examples and examples[0] not in ([], [[]]) else ""
        kind = _kind(name, key, value)
        default, meaning = _default(value, is_required=key in required)
        lines.append(
            f"| `{key}` | {_cell(kind)} | {_cell(default)} | {_cell(meaning)} | {_cell(example)} |"
        )
    return "\n".join(lines) + "\n"


def _link(name: str) -> str:
    return f"[`{_heading(name)}`](#{_slug(_heading(name))})"


def _default(value: dict[str, Any], *, is_required: bool) -> tuple[str, str]:
    """Return the default of a key, and what it means without the words on its default."""
    meaning = value.get("description", "")
    if is_required:
        return "required", meaning
    told = re.search(r"[;,] (?P<default>[^;,.]+(?:\.\d+)?[^;,.]*) by default", meaning)
    if told:
        return told["default"], meaning.replace(told[0], "")
    default = value.get("default")
    return ("" if default in (None, [], {}) else f"`{_toml(default)}`"), meaning


READ_AS = {
    Role.TEMPLATE: "template",
    Role.AMOUNT: "template",
    Role.WORDS: "words",
    Role.LINE: "line",
    Role.EXPRESSION: "expression",
    Role.COMMANDS: "words",
}


def _kind(name: str, key: str, value: dict[str, Any]) -> str:
    """Return what a key takes, its texts named for how they are read."""
    models = {each.__name__: each for each in _models(Table)}
    fields = models[name or "SpecDocument"].model_fields
    field = next(each for field_name, each in fields.items() if kebab(field_name) == key)
    roles = {READ_AS[each] for each in _roles((field.annotation, *field.metadata))}
    return re.sub(r"\btext\b(?!`)", roles.pop(), _type(value)) if len(roles) == 1 else _type(value)


def _models(model: type[Any]) -> Iterator[type[Any]]:
    yield model
    for each in model.__subclasses__():
        yield from _models(each)


def _roles(parts: Iterable[object]) -> Iterator[Role]:
    for part in parts:
        if isinstance(part, Role):
            yield part
        yield from _roles(get_args(part))


def _inner(value: dict[str, Any]) -> dict[str, Any]:
    return next((each for each in value.get("anyOf", ()) if each.get("type") != "null"), {})


ONE_VALUE = ("text", "whole number", "number", "boolean", "array", "list of values")
"""Types that are told as one: a value, of an axis or a cell."""


def _type(value: dict[str, Any]) -> str:
    if "anyOf" in value:
        names = [_type(each) for each in value["anyOf"] if each.get("type") != "null"]
        apart = [[name] if " of " in name else name.split(" or ") for name in names]
        names = list(dict.fromkeys(itertools.chain(*apart)))
        if {"text", "number", "boolean"} <= set(names):
            names = ["value", *(each for each in names if each not in ONE_VALUE)]
        return " or ".join(names)
    if "$ref" in value:
        return _link(value["$ref"].rsplit("/", 1)[-1])
    if "enum" in value:
        return ", ".join(json.dumps(each) for each in value["enum"])
    if "const" in value:
        return json.dumps(value["const"])
    kind = value.get("type", "any value")
    if kind == "array":
        inner = _type(value.get("items", {}))
        return (
            "list of values"
            if {"text", "boolean"} <= set(inner.split(" or "))
            else f"list of {inner}"
        )
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
        "# Every command\n\nMade from the parsers by `python docs/generate.py`. Every command has `--help`.\n",
        *_table_of("Exit statuses", "command | exits with", _statuses(commands)),
        *_table_of("Environment variables", "variable | does", VARIABLES.items()),
        *_table_of("Files", "file | is", FILES.items()),
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


def _statuses(commands: Mapping[str, argparse.ArgumentParser]) -> Iterator[tuple[str, str]]:
    """Yield each command with the line of its help that tells its exit statuses."""
    for name in COMMANDS:
        told = re.search(r"^exit status: ((?:.+\n?)+)", commands[name].epilog or "", re.MULTILINE)
        yield f"keen-matrix {name}", " ".join(told[1].split()) if told else ""


def _table_of(title: str, head: str, rows: Iterable[tuple[str, str]]) -> Iterator[str]:
    yield f"## {title}\n"
    lines = [f"| `{name}` | {_cell(what)} |" for name, what in rows]
    yield "\n".join([f"| {head} |", "|---|---|", *lines]) + "\n"


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

Programs read their words with a library, and libraries differ. May `--rid` be short for `--riders`? What does `-n=3` mean? May options follow
operands? Which texts are numbers? On 2,160 cases that probe this, fifteen libraries with the same signature agree in little more than half whether to
accept the call. So there is no single right answer, only that of the reader. One word in the spec says which:

```toml
[signature]
synopsis = "[-n,--riders RIDERS] [--bike] PORT"
reader = "argparse"
values.RIDERS = { type = "int", min = 1 }
```

`reader` sets every habit below, the spellings of help that the library adds, and how the library refuses. For example, argparse ends with 2 and
writes to standard error. That is expected of every refusal that argparse makes itself, such as an unknown option or a word instead of a number. It is
not expected of refusals that the program makes afterwards, such as a condition of `only-if`. `[refusal]` overrides it, and a key such as
`abbreviations = false` overrides one habit.

Without a reader, `style` says how options are written (`gnu`, `posix`, `one-dash`), and habits stay open. A call that depends on an open habit is
judged under every setting of it, up to 64 readings. If they all agree, the judgement is clear; otherwise the call is *unspecified*, and nothing is
claimed about it. `keen-matrix unfold --why ID` then says which readers would accept it and which would refuse it.

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
## Where the model is still wrong

In the trial, the judgement differs from the library in five calls of yargs, eight of minimist and one of perl-getopt-long-bundling. Hardly anybody
writes such words:

- yargs and minimist read `-a b` as one word letter by letter, including the space. What they make of `-5` or `-` after an unknown option follows no
  rule. For yargs an empty operand is the number 0.
- Getopt::Long with bundling calls `--a` ambiguous beside `-a` and `--alpha` when what follows is no value of `--alpha`.

With node, commander and minimist the program itself converts texts to numbers. So it stays open whether `1e3`, `0x10` or `+3` is a number, and for C
and the shell whether `+3` is one.

## How to add one

A reader is one row in `core/signature/readers.py`: its habits, the source of each (the documentation, or a trial), help, exit status and streams.
`benchmarks/readers.py` runs 2,160 calls over 24 signatures through a library and shows where the judgement differs. `--keep` saves the answers, which
the tests replay.
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
        helped = f"exit 0, {row.help_stream}" if row.help_stream else "the program's"
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
        return "no" if name == "negated" else "open"
    return {True: "yes", False: "no", None: "open"}.get(value, str(value))  # type: ignore[call-overload]


def habit_meanings() -> dict[str, str]:
    """Return each habit with the comment that stands above it in the class."""
    found, told = {}, []
    for line in Path(habits.__file__).read_text().splitlines():
        name, colon, _ = line.strip().partition(": ")
        if line.startswith("    #: "):
            told.append(line.strip().removeprefix("#: "))
            continue
        if line.startswith("    ") and colon and name.isidentifier():
            found[name] = " ".join(told)
        told = []
    return {name: found[name] for name in Habits.__struct_fields__}


MESSAGES_HEAD = """# Messages, and what to do

Made by `python docs/generate.py`. `…` is the part of a message that varies; search for the words around it. A message about a spec begins with
`file:line:column` and shows the line; after "expected" it says what would be right, and after "did you mean" the nearest right word.
"""
AREAS = (
    ("Reading a spec", ("core/spec/", "core/notation/", "core/expressions", "core/signature/", "core/vectors/", "core/expect/", "core/model/")),
    ("Running", ("core/launch/", "core/runs/", "core/oracle", "core/insight/")),
    ("Results and reports", ("core/results/", "reports/")),
    ("Calling a command", ("cli/",)),
)  # fmt: skip


def messages_page() -> str:
    """Return the page of messages: those with a cause and a remedy of their own, and all other errors."""
    here = runpy.run_path(str(DOCS / "messages.py"))
    said = {_gaps(text) for _, _, text in here["sentences"]()}
    parts = [MESSAGES_HEAD]
    told: set[str] = set()
    for group, rows in runpy.run_path(str(DOCS / "remedies.py"))["REMEDIES"].items():
        parts.append(f"## {group}\n\n| message | cause | what to do |\n|---|---|---|\n" + "".join(
            f"| `{_cell(text)}` | {_cell(cause)} | {_cell(remedy)} |\n" for text, cause, remedy in rows))  # fmt: skip
        gone = [text for text, *_ in rows if not any(_is_in(text, each) for each in said)]
        if gone:
            raise SystemExit(f"docs/remedies.py has messages that nothing says: {gone}")
        told |= {text for text, *_ in rows}
    parts.append(
        "## All other errors\n\nThese messages say what was expected, or what to do next.\n"
    )
    errors = dict.fromkeys((module, _gaps(text)) for module, text in here["errors"]())
    for area, modules in AREAS:
        lines = sorted(
            {text for module, text in errors if module.startswith(modules) and text not in told}
        )
        parts.append(
            f"### {area}\n\n" + "".join(f"- `{each.replace('`', chr(39))}`\n" for each in lines)
        )
    return "\n".join(parts)


def _gaps(text: str) -> str:
    return re.sub(r"(?:…\s*)+$", "…", re.sub(r"\{…\}|\{\w+\}", "…", " ".join(text.split())))


def _is_in(text: str, sentence: str) -> bool:
    """Tell whether a message is a sentence of the sources, or made of one."""
    bare = [part.strip() for part in sentence.split("…") if part.strip()]
    return sentence == text or (
        bool(bare) and len(" ".join(bare)) > 8 and all(each in text for each in bare)
    )


FILES = {
    ".keen-matrix/last.jsonl": "the journal of the last run: the result of each case",
    ".keen-matrix/history.sqlite3": "the history of all runs of a directory",
    ".keen-matrix/grounds/": "what is known about the base calls of a program",
    ".keen-matrix/places.json": "the findings of `places` about the last run, beside the journal",
    ".keen-matrix/kept/": "directories of cases that failed, of run --keep-directories",
    "NAME.baselines/": "beside the spec NAME.matrix.toml: outputs that were accepted with keen-matrix baseline",
    "expected/": "beside a spec: long outputs that try --write and fill --write have saved",
    "keen-matrix.toml": "the project file: defaults of the specs below it",
    "~/.cache/keen-matrix/": "the cache of specs and covering arrays",
}
VARIABLES = {
    "NO_COLOR": "no colours, unless --color always is given",
    "PYTHON_CPU_COUNT": "how many cases run at a time without --jobs, instead of the number of processors",
    "TMPDIR": "where directories of cases are made",
    "XDG_CACHE_HOME": "where the cache is, instead of ~/.cache",
    "KEEN_MATRIX_TRACEBACK": "show the traceback of a bug in Keen Matrix itself",
}


def man_page() -> str:
    """Return the manual page, in roff."""
    from argparse_manpage.manpage import Manpage

    os.environ |= {"SOURCE_DATE_EPOCH": "0", "COLUMNS": "80"}
    about = {
        "project_name": "Keen Matrix",
        "version": __version__,
        "manual_title": "Keen Matrix",
        "description": "run a console program with many calls and check the results",
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
    """Yield the name and the text of each page: made ones, and the others with their line of navigation."""
    here = runpy.run_path(str(DOCS / "navigation.py"))
    made = {
        "reference-spec.md": spec_reference,
        "reference-commands.md": command_reference,
        "readers.md": reader_page,
        "messages.md": messages_page,
    }
    for name, _ in here["PAGES"]:
        text = made[name]() if name in made else (DOCS / name).read_text()
        yield name, here["with_navigation"](name, text)
    if sys.version_info[:2] == MAN_VERSION:
        yield "keen-matrix.1", man_page()


def main() -> None:
    """Write all pages anew; with --outputs also what commands print in those that are walked through."""
    for name, text in pages():
        if (DOCS / name).read_text() != text:
            (DOCS / name).write_text(text)
            print(name)
    if "--outputs" in sys.argv[1:]:
        sys.path.insert(0, str(DOCS))
        from blocks import blocks_of, missing, walk

        for page in sorted(DOCS.rglob("*.md")):
            text = page.read_text()
            if blocks_of(text) and not missing(text):
                with tempfile.TemporaryDirectory() as directory:
                    page.write_text(walk(text, Path(directory), anew=True))


if __name__ == "__main__":
    main()
