"""What a program's own parser says of itself: the description that a hook writes, or a file that a
user brings for a program in another language.

It is JSON, with the keys of the models below; `keen-matrix schema --of parser` prints its schema.
"""

from __future__ import annotations

import json
from typing import Annotated, Literal, TypeAlias

from pydantic import BaseModel, ConfigDict, Field, ValidationError

from keen_matrix.core.errors import KeenMatrixError, nearest
from keen_matrix.core.signature.readers import ReaderName
from keen_matrix.core.signature.values.base import TypeName

Plain: TypeAlias = str | int | float | bool | None
Spelling: TypeAlias = Annotated[str, Field(pattern=r"^-")]
#: Bytes of a description that are read.
MOST_DESCRIPTION = 4_000_000


def _kebab(name: str) -> str:
    return name.rstrip("_").replace("_", "-")


class Described(BaseModel):
    """A part of a description: unknown keys are errors."""

    model_config = ConfigDict(extra="forbid", frozen=True, alias_generator=_kebab, populate_by_name=False)


class DescribedValue(Described):
    """The type of a value."""

    type: TypeName | None = Field(None, description="What it is; a text by default.")
    converter: str = Field("", description="The program's own function that reads it, where there is one.")
    of: list[Plain] = Field([], description="What it is chosen from.")
    case: Literal["exact", "ignore"] = Field(
        "exact", description="Whether a choice may be in other letter case."
    )
    min: float | int | None = Field(None, description="The least number.")
    max: float | int | None = Field(None, description="The largest number.")
    directories: bool = Field(False, description="Whether a directory will do for a file.")
    default: Plain = Field(None, description="Its value when it is not given.")


class DescribedOption(Described):
    """An option, with all its spellings."""

    spellings: Annotated[list[Spelling], Field(min_length=1)] = Field(
        description="As they are typed, dashes included."
    )
    negated: list[Spelling] = Field([], description="Spellings that switch it off.")
    values: list[str] = Field([], description="What its values are called; none for a flag.")
    least: int = Field(1, ge=0, description="The fewest words that it takes.")
    most: int | None = Field(1, ge=0, description="The most words that it takes; null for any number.")
    again: bool = Field(False, description="Whether each further use adds to those before it.")
    required: bool = Field(False, description="Whether nothing is accepted without it.")
    action: bool = Field(False, description="Whether it acts alone, as help does.")
    value: DescribedValue = Field(DescribedValue(), description="The type of its values.")
    text: str = Field("", description="What the help says about it.")


class DescribedOperand(Described):
    """An operand."""

    name: str = Field(description="What the help calls it.")
    least: int = Field(1, ge=0, description="The fewest words that it takes.")
    most: int | None = Field(1, ge=0, description="The most words that it takes; null for any number.")
    rest: bool = Field(False, description="Whether it takes whatever follows, options too.")
    value: DescribedValue = Field(DescribedValue(), description="Its type.")
    text: str = Field("", description="What the help says about it.")


class DescribedGroup(Described):
    """Options of which at most one is given."""

    of: list[str] = Field(description="A spelling of each option, or the name of an operand.")
    required: bool = Field(False, description="Whether one of them must be given.")


class DescribedCommand(Described):
    """A subcommand."""

    name: str = Field(description="As it is typed.")
    aliases: list[str] = Field([], description="Its other names.")
    text: str = Field("", description="What the help says about it.")
    parser: DescribedParser = Field(description="What may follow it.")


class DescribedParser(Described):
    """A parser: what a program, or one of its subcommands, reads."""

    reader: ReaderName | None = Field(None, description="The library that reads the words.")
    options: list[DescribedOption] = Field([], description="Those that ask for help aside.")
    operands: list[DescribedOperand] = Field([], description="In the order in which they are read.")
    exclusive: list[DescribedGroup] = Field([], description="What excludes each other.")
    commands: list[DescribedCommand] = Field([], description="Its subcommands.")
    command_required: bool = Field(True, description="Whether one of them must be given.")
    help: list[Spelling] = Field([], description="Spellings that ask for help.")
    usage: str = Field("", description="A usage line, for a parser that knows nothing of its operands.")
    abbreviations: bool | None = Field(None, description="Set where the reader's habit is not kept.")
    interleaved: bool | None = Field(None, description="The same, for options after operands.")
    unknown_options: Literal["refuse", "take", "operand"] | None = Field(
        None, description="What an unknown option gets, where it is not refused."
    )
    superfluous_operands: Literal["refuse", "ignore"] | None = Field(
        None, description="What operands beyond those described get, where they are not refused."
    )
    doubts: list[str] = Field([], description="What could not be described, in words.")


class DescriptionFault(KeenMatrixError):
    """A description that cannot be read: what, where, and what was expected."""


def read_description(text: str | bytes, source: str) -> DescribedParser:
    """Return the parser that a JSON text describes. Raises DescriptionFault with the place:
    `source`, the line and column of what is no JSON, else the path of the key."""
    if len(text) > MOST_DESCRIPTION:
        raise DescriptionFault(
            f"{source} is longer than {MOST_DESCRIPTION:,} bytes, more than any parser has to say"
        )
    try:
        found = json.loads(text)
    except json.JSONDecodeError as error:
        place = f"{source}:{error.lineno}:{error.colno}"
        raise DescriptionFault(f"{place}: this is not JSON: {error.msg}") from None
    except (UnicodeDecodeError, RecursionError) as error:
        what = "not UTF-8" if isinstance(error, UnicodeDecodeError) else "nested too deep"
        raise DescriptionFault(f"{source}: this is not JSON: it is {what}") from None
    try:
        return DescribedParser.model_validate(found)
    except ValidationError as error:
        raise DescriptionFault(_told(error, source)) from None


def _told(error: ValidationError, source: str) -> str:
    """Return the first fault of a description in words, and how many more there are."""
    faults = error.errors()
    first = faults[0]
    path = "".join(f"[{each}]" if isinstance(each, int) else f".{each}" for each in first["loc"])
    where = f"{source}: {path.removeprefix('.')}: " if path else f"{source}: "
    if first["type"] == "extra_forbidden":
        key = str(first["loc"][-1])
        known = sorted(_keys_of(DescribedParser))
        near = nearest(key, known)
        reason = "unknown key" + (f'; did you mean "{near}"?' if near else "")
    else:
        reason = first["msg"][:1].lower() + first["msg"][1:]
    more = f" (and {len(faults) - 1} more)" if len(faults) > 1 else ""
    return f"{where}{reason}{more}; its shape: keen-matrix schema --of parser"


def _keys_of(model: type[Described]) -> set[str]:
    """Return the keys of all parts of a description."""
    parts = (model, DescribedCommand, DescribedGroup, DescribedOperand, DescribedOption, DescribedValue)
    return {_kebab(name) for each in parts for name in each.model_fields}


def description_schema() -> dict[str, object]:
    """Return the JSON Schema (draft 2020-12) of descriptions."""
    schema = DescribedParser.model_json_schema(by_alias=True, mode="validation")
    return {
        "$schema": "https://json-schema.org/draft/2020-12/schema",
        "title": "Description of a parser, for keen-matrix draft --from",
        **{key: value for key, value in schema.items() if key != "title"},
    }


DescribedCommand.model_rebuild()
