"""The reference pages, made from the models and the parsers: python docs/generate.py writes them anew."""

from __future__ import annotations

import argparse
import json
from collections.abc import Iterator
from pathlib import Path
from typing import Any

from keen_matrix.cli import COMMANDS, build_parser
from keen_matrix.core.spec.schema import json_schema

DOCS = Path(__file__).parent


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
        _table(_title(name), definitions[name]) for name in sorted(definitions) if definitions[name].get("properties")
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
        return " or ".join(dict.fromkeys(_type(each) for each in value["anyOf"] if each.get("type") != "null"))
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
    return " or ".join(names.get(each, each) for each in ([kind] if isinstance(kind, str) else kind))


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
    commands = next(each for each in parser._actions if isinstance(each, argparse._SubParsersAction)).choices
    parts = ["# Every command\n\nMade from the parsers by `python docs/generate.py`. Every command has `--help`.\n"]
    for name in COMMANDS:
        sub = commands[name]
        rows = [
            f"| {_cell(_spelt(action))} | {_cell(action.help or '')} |"
            for action in sub._actions
            if "--help" not in action.option_strings
        ]
        parts.append(f"## keen-matrix {name}\n\n{sub.description}\n")
        parts += ["| option or operand | meaning |\n|---|---|\n" + "\n".join(rows) + "\n"] if rows else []
        parts.append(f"```text\n{(sub.epilog or '').strip()}\n```\n")
    return "\n".join(parts)


def _spelt(action: argparse.Action) -> str:
    value = (
        ""
        if action.nargs == 0
        else action.metavar or ("|".join(map(str, action.choices)) if action.choices else action.dest.upper())
    )
    if not action.option_strings:
        return f"`{value}`" + (" …" if action.nargs in ("*", "+") else "")
    return ", ".join(f"`{each}{f' {value}' if value else ''}`" for each in action.option_strings)


def pages() -> Iterator[tuple[str, str]]:
    """Yield the name and the text of each page."""
    yield "reference-spec.md", spec_reference()
    yield "reference-commands.md", command_reference()


if __name__ == "__main__":
    for name, text in pages():
        (DOCS / name).write_text(text)
        print(name)
