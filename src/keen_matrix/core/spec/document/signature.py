"""[signature]: what the program says it accepts; [refusal] and [help]: what comes of that."""

import datetime
import math
from typing import Annotated, Any, ClassVar, Literal

from pydantic import AfterValidator, BeforeValidator, ConfigDict, Field, WithJsonSchema
from pydantic_core import PydanticCustomError

from keen_matrix.core.errors import NotationFault
from keen_matrix.core.signature.kinds import DEFAULT_FAMILIES, FamilyName
from keen_matrix.core.signature.readers import ReaderName, Style
from keen_matrix.core.signature.values.base import TypeName
from keen_matrix.core.spec.document.axes import AxisValue
from keen_matrix.core.spec.document.base import STRINGS, ExpressionText, kind_of, read_by, read_regex, wrong
from keen_matrix.core.spec.document.expectations import Expectations
from keen_matrix.core.spec.document.tables import Table, kebab


def _synopsis(value: Any) -> object:
    from keen_matrix.core.notation.synopsis import parse_synopsis

    lines = value if isinstance(value, list) else [value]
    if not lines or not all(isinstance(each, str) for each in lines):
        raise wrong("expected a usage line, or a list of them")
    for line in lines:
        try:
            parse_synopsis(line)
        except NotationFault as fault:
            offset = {"offset": fault.offset} if isinstance(value, str) else {}
            reason = fault.message if isinstance(value, str) else f'in "{line}": {fault.message}'
            raise PydanticCustomError("notation", "{reason}", {"reason": reason, **offset}) from None
    return value


def _count(value: object) -> object:
    from keen_matrix.core.signature.model import parse_count

    return read_by(parse_count, value)


def _number_or_date(value: object) -> object:
    if isinstance(value, datetime.date):
        return value.isoformat()
    if isinstance(value, str):
        try:
            return datetime.date.fromisoformat(value).isoformat()
        except ValueError:
            raise wrong(f"expected a number or a date, found {value!r}") from None
    if isinstance(value, bool) or not isinstance(value, (int, float)):
        raise wrong(f"expected a number or a date, found {kind_of(value)}")
    if not math.isfinite(value):
        raise wrong(f"expected a finite number or a date, found {value}")
    return value


Bound = Annotated[object, BeforeValidator(_number_or_date), WithJsonSchema({"type": ["number", "string"]})]


class ValueTable(Table):
    """The type of a value of the synopsis."""

    type: TypeName | None = Field(
        None, description="Its type; a choice when `of` is given, else text.", examples=["int"]
    )
    min: Bound = Field(
        None, description="The least number or first date; of a text its least length.", examples=[1]
    )
    max: Bound = Field(
        None, description="The largest number or last date; of a text its length.", examples=[60]
    )
    of: Annotated[list[AxisValue], Field(min_length=1)] | None = Field(
        None, description="The choices.", examples=[["text", "json"]]
    )
    case: Literal["exact", "ignore"] = Field(
        "exact", description="Whether a choice may be written in other letter case.", examples=["ignore"]
    )
    matches: Annotated[str, AfterValidator(read_regex)] | None = Field(
        None,
        description="A regular expression that matches a part of it; ^ and $ match its ends.",
        examples=["^[A-Z]{3}$"],
    )
    default: AxisValue = Field(None, description="Its value when it is not given.", examples=[1])
    example: AxisValue = Field(None, description="A usual legal value, tried first.", examples=["3"])
    open: bool = Field(
        False,
        description="Whether there may be other choices, about which nothing is claimed.",
        examples=[True],
    )
    directories: bool = Field(False, description="Whether a directory will do for a file.", examples=[True])
    units: list[Annotated[str, Field(pattern="^[^0-9.+-]+$")]] = Field(
        [], description="What may follow the digits of a number.", examples=[["K", "M"]]
    )
    list_: Annotated[str, Field(min_length=1, max_length=1)] | None = Field(
        None, description="The sign between several values in one word.", examples=[","]
    )
    count: Annotated[object, BeforeValidator(_count), WithJsonSchema({"type": ["integer", "string"]})] = (
        Field(None, description="How many words it has.", examples=["2..4", "1.."])
    )


class RefuseTable(Table):
    """A refusal of the program's own kind."""

    when: ExpressionText = Field(
        description="The condition, on values by NAME.", examples=["ORIGIN == DESTINATION"]
    )
    kind: Annotated[str, Field(pattern="^[a-z][a-z0-9-]*$")] = Field(
        description="What this kind of refusal is called.", examples=["same-port"]
    )


class BeforeStep(Table):
    """A call that precedes those of a usage."""

    line: str = Field(
        description="Its words, quoted as in a shell and without the program; {NAME} is the value that the "
        "call after it has.",
        examples=["add {name}"],
    )


class BeforeTable(Table):
    """What calls of one usage need first."""

    usage: str = Field(description="The word that the usage begins with.", examples=["weigh"])
    steps: Annotated[list[BeforeStep], Field(min_length=1)] = Field(
        description="Calls of the program, launched before each derived call of the usage, in the same "
        "directory; each must exit 0.",
        examples=[[{"line": "add Alder"}]],
    )


class HelpTable(Table):
    """What a derived case must do that asks for help."""

    stream: Literal["stdout", "stderr"] | None = Field(
        None,
        description="The stream of the help text; by default either, with a remark about standard error.",
        examples=["stdout"],
    )


class AcceptedTable(Table):
    """What the program says it accepts, and what is derived from it."""

    synopsis: Annotated[
        Any, BeforeValidator(_synopsis), WithJsonSchema({"anyOf": [{"type": "string"}, STRINGS]})
    ] = Field(
        description="The usage line in POSIX notation, or several.", examples=["[-n,--riders RIDERS] ORIGIN"]
    )
    help: list[str] | None = Field(
        None,
        description='Spellings of help; ["--help"] by default in the gnu style.',
        examples=[["-h", "--help"]],
    )
    actions: list[str] = Field(
        [],
        description="Options that end the call by themselves, as help does, each with all its "
        "spellings; never combined.",
        examples=[["-V,--version", "--list"]],
    )
    example: list[str] = Field(
        [],
        description="Calls that work, quoted as in a shell and without the program: each is a case, and its "
        "values are the first that derived cases use.",
        examples=[["Skerry Holm -n 2"]],
    )
    aside: list[str] = Field(
        [],
        description="Options that no derived case uses, because what they need cannot be said here.",
        examples=[["--follow"]],
    )
    help_complete: bool = Field(
        False, description="Whether an option that the help lists must be in the synopsis.", examples=[True]
    )
    values: dict[str, ValueTable] = Field(
        {}, description="The types of the values, by NAME.", examples=[{"RIDERS": {"type": "int", "min": 1}}]
    )
    only_if: list[ExpressionText] = Field(
        [], description="Conditions that every accepted call meets.", examples=[["ORIGIN != DESTINATION"]]
    )
    refuse: list[RefuseTable] = Field(
        [], description="Refusals of kinds of the program's own.", examples=[[]]
    )
    before: list[BeforeTable] = Field(
        [], description="What derived calls of a usage need first.", examples=[[]]
    )
    derive: list[FamilyName] = Field(
        list(DEFAULT_FAMILIES), description="The families to run.", examples=[["refusals"]]
    )
    depends_on: list[
        Literal["COLUMNS", "LANG", "TZ", "HOME", "umask", "directory", "closed output", "full device"]
    ] = Field(
        [],
        description="Surroundings in which the result may differ; the family elsewhere skips them.",
        examples=[["COLUMNS"]],
    )
    tidy: bool = Field(
        False,
        description="Whether an accepted call may leave no file that none of its words names, and "
        "print no control characters to a pipe.",
        examples=[True],
    )


class UsageTable(Table):
    """How the program reads the words of one usage, where that differs from the others."""

    abbreviations: bool | None = Field(
        None, description="Whether long options may be shortened.", examples=[False]
    )
    bundling: bool | None = Field(None, description="Whether flags may share one dash.", examples=[True])
    interleaved: bool | None = Field(
        None, description="Whether options may follow operands.", examples=[True]
    )
    joined: bool | None = Field(None, description="Whether a value may join its option.", examples=[True])
    repeat: Literal["last", "refuse", "collect", "open"] | None = Field(
        None,
        description='What a second use of an option does; "open": it depends on the option.',
        examples=["refuse"],
    )
    negative_numbers: bool | None = Field(
        None, description="Whether -5 is a value and no option.", examples=[True]
    )
    dash_values: Literal["take", "refuse"] | None = Field(
        None, description="Whether the word after a valued option may begin with a dash.", examples=["take"]
    )
    help_wins: bool | Literal["alone"] | None = Field(
        None,
        description="Whether help beats other faults; alone: help is asked for without any other word.",
        examples=[True, "alone"],
    )
    delimiter: bool | None = Field(
        None, description="Whether -- ends the options (it does, by default).", examples=[False]
    )
    unknown_options: Literal["refuse", "take", "operand", "open"] | None = Field(
        None,
        description="What an unknown option gets: refused (by default), accepted without effect, read "
        "as an operand, or open (nothing is claimed), as where subcommands differ.",
        examples=["take"],
    )
    superfluous_operands: Literal["refuse", "ignore"] | None = Field(
        None, description="What operands beyond the synopsis get.", examples=["ignore"]
    )
    flag_values: Literal["refuse", "ignore"] | None = Field(
        None, description="What --flag=x gets.", examples=["ignore"]
    )
    missing_values: Literal["refuse", "ignore"] | None = Field(
        None, description="What a valued option at the end gets.", examples=["ignore"]
    )
    ignore_case: bool | None = Field(
        None, description="Whether long options may be written in any letter case.", examples=[False]
    )


class SignatureTable(UsageTable, AcceptedTable):
    """What the program says it accepts, and how it reads its words."""

    reader: ReaderName | None = Field(
        None,
        description="The library that reads the words; it sets every habit below.",
        examples=["argparse"],
    )
    style: Style | None = Field(
        None,
        description="How options are written, where no reader is named: gnu by default.",
        examples=["posix"],
    )
    usage: dict[str, UsageTable] = Field(
        {},
        description="What differs for one usage, by the word that it begins with.",
        examples=[{"run": {"unknown-options": "take"}}],
    )


# --- axes and matrices ---


class RefusalKind(Expectations):
    """What every case must do that the signature refuses, for one kind of refusal."""

    names_culprit: bool | None = Field(
        None, description="Whether the message must name the culprit.", examples=[True]
    )
    blame: Literal["culprit", "anything"] | None = Field(
        None,
        description="Whether the message may name other arguments and not the one to blame (it "
        "may not, by default).",
        examples=["anything"],
    )


class RefusalTable(RefusalKind):
    """What every case must do that the signature refuses; [refusal.KIND] is for one kind only."""

    model_config = ConfigDict(extra="allow", frozen=True, alias_generator=kebab, validate_by_name=False)
    __pydantic_extra__: dict[str, RefusalKind] = Field(init=False)
    #: The class of the tables under keys of a spec's own.
    others: ClassVar = RefusalKind
