"""What a launch must do: texts, files, exits, rules."""

from collections.abc import Callable, Mapping
from typing import Annotated, Literal, Self, TypeAlias

from pydantic import AfterValidator, BeforeValidator, Field, model_validator

from keen_matrix.core.expect.limits import parse_limit
from keen_matrix.core.model.quantities import SIZE_UNITS, TIME_UNITS
from keen_matrix.core.spec.document.base import (
    Amount,
    ExitForms,
    ExpressionText,
    Mode,
    SignalName,
    TemplateText,
    TextOrList,
    Texts,
    WordsOrList,
    kind_of,
    literal_texts,
    one_or_more,
    read_by,
    read_bytes,
    read_json_value,
    read_json_values,
    read_pointers,
    read_regex,
    wrong,
)
from keen_matrix.core.spec.document.surroundings import Dialogue, StdinText, TerminalTable
from keen_matrix.core.spec.document.tables import Table


class ToleranceTable(Table):
    """How far numbers may be off; the larger of the two counts."""

    absolute: Annotated[float, Field(ge=0)] = Field(0.0, description="At most so much.", examples=[0.01])
    relative: Annotated[float, Field(ge=0)] = Field(
        0.0, description="At most this part of the number.", examples=[1e-6]
    )


def _tolerance(value: object) -> object:
    if isinstance(value, (int, float)) and not isinstance(value, bool):
        return {"absolute": value}
    if not isinstance(value, (dict, ToleranceTable)):
        raise wrong(
            f"expected a number such as 0.01 or a table such as {{ relative = 1e-6 }}, found {kind_of(value)}"
        )
    return value


Tolerated = Annotated[
    ToleranceTable, BeforeValidator(_tolerance, json_schema_input_type=float | ToleranceTable)
]


def _composed(value: object) -> object:
    if not isinstance(value, list):
        raise wrong(f"expected a list of texts or tables of forms, found {kind_of(value)}")
    return value


def _inner_table(value: object) -> object:
    """Read a table of forms inside another: a baseline has its place in the outer one, where it
    can be accepted."""
    if isinstance(value, dict) and "baseline" in value:
        raise wrong(
            "a baseline is not allowed inside any, all or not; put it in the table of the stream or file"
        )
    return _text_table(value)


Composed: TypeAlias = Annotated["TextTable", BeforeValidator(_inner_table)]


class PlainForms(Table):
    """What a text must be, said by texts."""

    is_: TemplateText | None = Field(
        None,
        description="The whole text; a newline at its end must be there; after a text without "
        "one, a newline may follow.",
        examples=["4.50"],
    )
    contains: Texts | None = Field(
        None, description="It contains each of these texts.", examples=[["usage:", "riders"]]
    )
    lacks: Texts | None = Field(None, description="It contains none of these texts.", examples=["Traceback"])
    matches: Annotated[str, AfterValidator(read_regex)] | None = Field(
        None,
        description="A regular expression (the regex library's) that matches a part of it; ^ and $ "
        "match its ends.",
        examples=["^fare: [0-9.]+$"],
    )
    starts: TemplateText | None = Field(None, description="What it starts with.", examples=["usage: "])
    ends: TemplateText | None = Field(
        None,
        description="What it ends with; a newline may follow a text that ends in none.",
        examples=["done"],
    )
    empty: bool | None = Field(None, description="Whether it is empty.", examples=[True])
    lines: Texts | None = Field(None, description="All its lines, in order.", examples=[["Skerry", "Holm"]])
    lines_any_order: Texts | None = Field(
        None, description="All its lines, in whatever order.", examples=[["Holm", "Skerry"]]
    )
    number_of_lines: Amount = Field(
        None,
        description='How many lines it has: a number, a range "1..3" or a template.',
        examples=[3, "1..3", "{riders}"],
    )
    holds: (
        Annotated[list[ExpressionText], BeforeValidator(one_or_more, json_schema_input_type=str | list[str])]
        | None
    ) = Field(None, description="Conditions on the named groups of `matches`.", examples=[["int(hour) < 24"]])


class NumberTable(Table):
    """A number: the whole text, or a named group of `matches`."""

    about: float | TemplateText | None = Field(
        None, description="The number, or a template for it.", examples=[3.14, "{price}"]
    )
    within: Annotated[float, Field(ge=0)] | TemplateText = Field(
        0.0, description="How far from it the number may be.", examples=[0.01]
    )
    min: float | TemplateText | None = Field(None, description="The least it may be.", examples=[0])
    max: float | TemplateText | None = Field(
        None, description="The most it may be.", examples=[100, "{riders}"]
    )
    group: str | None = Field(
        None, description="The named group of `matches` that it is.", examples=["price"]
    )


class ColumnsTable(Table):
    """A simple table with one row a line."""

    names: list[TemplateText] = Field(
        [], description="The header, which is its first line.", examples=[["port", "price"]]
    )
    types: list[Literal["text", "int", "float", "date"]] = Field(
        [], description="The types of its columns.", examples=[["text", "float"]]
    )
    count: Amount = Field(None, description="How many rows it has, the header aside.", examples=[3, "1.."])
    separator: Annotated[str, Field(min_length=1)] | None = Field(
        None, description="The separator between cells; white space by default.", examples=["|"]
    )

    @model_validator(mode="after")
    def _same_width(self) -> Self:
        if self.names and self.types and len(self.names) != len(self.types):
            raise wrong(f"{len(self.names)} names and {len(self.types)} types; expected as many")
        if not self.names and not self.types and self.count is None:
            raise wrong("expected names, types or count")
        return self


def _number(value: object) -> object:
    if isinstance(value, (str, int, float)) and not isinstance(value, bool):
        return {"about": value}
    return value


class TextTable(PlainForms):
    """What a text must be. All forms of one table must be met."""

    number: (
        Annotated[NumberTable, BeforeValidator(_number, json_schema_input_type=float | str | NumberTable)]
        | None
    ) = Field(
        None,
        description="It is a number, or a named group of `matches` is.",
        examples=[{"about": 3.14, "within": 0.01}],
    )
    columns: ColumnsTable | None = Field(
        None,
        description="It is a simple table: its header, the types of its columns, its rows.",
        examples=[{"names": ["port", "price"], "types": ["text", "float"], "count": 3}],
    )
    sorted_: Literal[True, "down", "numbers", "numbers-down"] | None = Field(
        None,
        description="Its lines are in order: as texts, or by the number that each begins with.",
        examples=[True],
    )
    unique: Literal[True] | None = Field(None, description="No line occurs twice.", examples=[True])

    file: TemplateText | None = Field(
        None, description="The same as a file beside the spec.", examples=["expected/{origin}.txt"]
    )
    command: WordsOrList | None = Field(
        None,
        description="The same as the output of another command, run where the case ran.",
        examples=["sort {here}/ports.txt"],
    )
    command_in: Literal["case", "spec"] | None = Field(
        None,
        description="Where the command runs: in the case's directory with its environment, or in "
        "the spec's directory with that of "
        "Keen Matrix, once for all cases with the same words.",
        examples=["spec"],
    )
    bytes_: Annotated[str, AfterValidator(read_bytes)] | None = Field(
        None,
        description="The same bytes: base64:… or a digest, sha256:… or md5:….",
        examples=["sha256:e3b0c44298fc1c149afbf4c8996fb92427ae41e4649b934ca495991b7852b855"],
    )
    json_: Annotated[object, BeforeValidator(read_json_value)] = Field(
        None,
        description="The same JSON value, however it is written; fields are not filled in.",
        examples=[{"price": 4.5}],
    )
    json_lines: Annotated[list[object], BeforeValidator(read_json_values)] | None = Field(
        None, description="A JSON value a line.", examples=[[{"port": "Holm"}, {"port": "Voe"}]]
    )
    ignore: (
        Annotated[list[str], BeforeValidator(read_pointers, json_schema_input_type=str | list[str])] | None
    ) = Field(
        None,
        description="JSON Pointers (RFC 6901) of values that are not compared; * matches any step.",
        examples=[["/date", "/*/id"]],
    )
    any_order: Literal[True] | Annotated[list[str], BeforeValidator(read_pointers)] | None = Field(
        None,
        description="What may come in any order: true for all arrays of the JSON, or JSON Pointers of some; "
        "true for the lines of `file` or `command`.",
        examples=[True, ["/ports"]],
    )
    tolerance: Tolerated | None = Field(
        None,
        description="How far numbers in `is`, `lines`, `json`, `file`, `command` and baselines may be off.",
        examples=[0.01, {"relative": 1e-6}],
    )
    baseline: Literal[True] | None = Field(
        None,
        description="Whether it must be as its baseline, the output accepted with keen-matrix baseline.",
        examples=[True],
    )
    any_: Annotated[list[Composed], BeforeValidator(_composed), Field(min_length=1)] | None = Field(
        None,
        description="At least one of these is met.",
        examples=[[{"contains": "Holm"}, {"contains": "Voe"}]],
    )
    all_: Annotated[list[Composed], BeforeValidator(_composed), Field(min_length=1)] | None = Field(
        None,
        description="Every one of these is met.",
        examples=[[{"starts": "fare:"}, {"not": {"contains": "bike"}}]],
    )
    not_: Composed | None = Field(
        None, description="What it must not be.", examples=[{"matches": "[Ee]rror"}]
    )
    literal: bool = Field(
        False, description="Take the texts literally: braces are no fields.", examples=[True]
    )

    @model_validator(mode="after")
    def _order_of_lines(self) -> Self:
        if isinstance(self.any_order, list) and (self.file is not None or self.command is not None):
            raise wrong("any-order of file and command is true; JSON Pointers are for json")
        return self


def _text_table(value: object) -> object:
    if isinstance(value, str):
        return {"is": value}
    if not isinstance(value, (dict, TextTable)):
        raise wrong(f"expected a text or a table of forms, found {kind_of(value)}")
    if isinstance(value, dict) and not set(value) - {"literal", "tolerance"}:
        raise wrong("expected at least one form, such as contains")
    return literal_texts(FileTable, value)


def _stream_table(value: object) -> object:
    """Return a table of forms; an empty one says that anything will do, where another table says
    otherwise."""
    return TextTable() if value == {} else _text_table(value)


TextExpectation = Annotated[TextTable, BeforeValidator(_stream_table, json_schema_input_type=str | TextTable)]


class FileTable(TextTable):
    """What a file must be after the launch."""

    absent: bool | None = Field(None, description="Whether the file must not exist.", examples=[True])
    mode: Mode | None = Field(None, description="Its permissions, in octal digits.", examples=["755"])
    size: Amount = Field(
        None, description='Its size in bytes: a number, a range "1..100" or a template.', examples=[36, "1.."]
    )
    unchanged: Literal[True] | None = Field(
        None, description="Whether its content and mode are unchanged by the launch.", examples=[True]
    )
    link: TemplateText | None = Field(
        None, description="What it is a symbolic link to.", examples=["names.txt"]
    )


def _file_table(value: object) -> object:
    if value == "absent":
        return {"absent": True}
    if isinstance(value, dict) and set(value) & {"absent", "mode", "size", "unchanged", "link"}:
        return value
    return _text_table(value)


FileExpectation = Annotated[FileTable, BeforeValidator(_file_table, json_schema_input_type=str | FileTable)]


def _limit_of(units: Mapping[str, float]) -> Callable[[str], str]:
    def check(text: str) -> str:
        read_by(lambda each: parse_limit(each, units), text)
        return text

    return check


AspectName = Literal["exit", "stdout", "stderr", "files"]


class OtherTable(Table):
    """Another launch that a case is compared with."""

    stdin: StdinText | None = Field(
        None,
        description="With another standard input, instead of what is typed in the case.",
        examples=["{riders}\n{port}\n"],
    )
    dialogue: Dialogue | None = Field(
        None,
        description="With prompts and their replies, instead of what is typed in the case.",
        examples=[{"prompt": r"\? $", "replies": ["{riders}", "{port}"]}],
    )
    terminal: TerminalTable | None = Field(
        None, description="On another terminal, or on one at all.", examples=[{"columns": 40}]
    )
    aspects: Annotated[list[AspectName], Field(min_length=1)] = Field(
        ["exit", "stdout", "stderr", "files"], description="What is compared.", examples=[["exit", "stdout"]]
    )


TYPED = ("line", "stdin", "dialogue", "terminal")


class AlikeTable(OtherTable):
    """Another launch of the same case: by launchers, again, or with another line, stdin, dialogue,
    terminal."""

    launchers: Literal[True] | list[str] | None = Field(
        None, description="Under every other launcher, or those named.", examples=[True, ["isolated"]]
    )
    again: Literal[True] | None = Field(
        None, description="Once more in the same directory, and in a fresh one.", examples=[True]
    )
    line: TextOrList | None = Field(
        None, description="With other words.", examples=["--bike {origin} {destination}"]
    )

    @model_validator(mode="after")
    def _one_other(self) -> Self:
        given = [name for name in ("launchers", "again") if getattr(self, name) is not None]
        given += ["line"] if any(getattr(self, name) is not None for name in TYPED) else []
        if len(given) != 1:
            raise wrong(
                "expected exactly one of launchers, again, line (with stdin, dialogue or terminal), "
                f"found {' and '.join(given) or 'none'}"
            )
        return self


class DiffersTable(OtherTable):
    """Another launch, of which at least one aspect must differ."""

    line: TextOrList | None = Field(
        None, description="With other words.", examples=["--bike {origin} {destination}"]
    )

    @model_validator(mode="after")
    def _some_other(self) -> Self:
        if all(getattr(self, name) is None for name in TYPED):
            raise wrong(f"expected at least one of {', '.join(TYPED)}")
        return self


class Expectations(Table):
    """What a launch must do."""

    exit: ExitForms = Field(
        None,
        description='The exit code: one, a list, a range "1..125", "nonzero" or a template.',
        examples=[0, "1..125"],
    )
    signal: SignalName = Field(None, description="The signal that must end the program.", examples=["TERM"])
    stdout: TextExpectation | None = Field(None, description="Standard output.", examples=["4.50"])
    stderr: TextExpectation | None = Field(
        None, description="Standard error.", examples=[{"contains": "usage:"}]
    )
    files: dict[TemplateText, FileExpectation] = Field(
        {},
        description="Files of the case's directory after the launch.",
        examples=[{"ticket.txt": "Skerry to Holm"}],
    )
    other_files: Literal["none", "allowed"] | None = Field(
        None,
        description="Whether files that no expectation names may be created, changed or deleted "
        "(not by a refusal).",
        examples=["none"],
    )
    duration: Annotated[str, AfterValidator(_limit_of(TIME_UNITS))] | None = Field(
        None, description="How long the launch may take.", examples=["< 2 s", "> 100 ms"]
    )
    memory: Annotated[str, AfterValidator(_limit_of(SIZE_UNITS))] | None = Field(
        None, description="How much memory it may take at its peak.", examples=["< 64 MiB"]
    )
    alike: AlikeTable | None = Field(
        None,
        description="Another launch that must give the same result.",
        examples=[{"again": True}, {"line": "{b} {a}"}],
    )
    differs: DiffersTable | None = Field(
        None,
        description="Another launch that must give another result.",
        examples=[{"line": "{origin} Holm"}],
    )
    leftovers: Literal["none", "allowed"] | None = Field(
        None,
        description="Whether the program may leave processes running (not by default).",
        examples=["allowed"],
    )
    crash: Literal["allowed", "forbidden"] | None = Field(
        None, description="Whether a crash is allowed.", examples=["allowed"]
    )


class ExpectRule(Expectations):
    """Expectations that apply under a condition."""

    when: ExpressionText | None = Field(
        None, description="The condition; without it the rule always applies.", examples=["riders > 8"]
    )


def _rules(value: object) -> object:
    return [value] if isinstance(value, dict) else value


Rules = Annotated[
    list[ExpectRule], BeforeValidator(_rules, json_schema_input_type=ExpectRule | list[ExpectRule])
]


class MaskTable(Table):
    """Text that varies from run to run, and the word that replaces it on both sides of a
    comparison."""

    matches: Annotated[str, AfterValidator(read_regex)] = Field(
        description="A regular expression for the text that varies.", examples=[r"\d\d:\d\d:\d\d"]
    )
    as_: str = Field(description="What is put in its place; \\1 is its first group.", examples=["<time>"])
    in_: list[Literal["stdout", "stderr", "files"]] = Field(
        ["stdout", "stderr", "files"], description="Where it is masked.", examples=[["stdout"]]
    )


class ReferenceTable(Table):
    """Another program that gets the same calls and must give the same results, such as an older
    edition."""

    launch: WordsOrList = Field(description="The words that start it.", examples=["perl {here}/fare.pl"])
    aspects: Annotated[list[AspectName], Field(min_length=1)] = Field(
        ["exit", "stdout", "stderr", "files"], description="What is compared.", examples=[["exit", "stdout"]]
    )
    any_order: bool = Field(
        False, description="Whether the order of lines in the streams does not matter.", examples=[True]
    )
    tolerance: Tolerated | None = Field(
        None, description="How far numbers in the streams may be off.", examples=[0.01]
    )
    only_accepted: bool = Field(
        False, description="Whether to skip calls on which the reference does not exit 0.", examples=[True]
    )


# --- surroundings and the program ---
