"""The document as a user writes it: pydantic models whose fields are the spec's keys (in kebab-case there).

Everything that can be judged from one value alone is judged here, texts of the notation and expressions included, so that
one validation reports all such mistakes at once. What needs two places at a time is lint's.
"""

from __future__ import annotations

import datetime
import math
from collections.abc import Callable, Mapping
from typing import Annotated, Any, Literal, TypeAlias

from pydantic import (
    AfterValidator,
    BaseModel,
    BeforeValidator,
    ConfigDict,
    Field,
    WithJsonSchema,
    model_validator,
)
from pydantic_core import PydanticCustomError

from keen_matrix.core.errors import ExpressionFault, NotationFault
from keen_matrix.core.expect.exits import parse_exit
from keen_matrix.core.expect.forms import FORMS
from keen_matrix.core.expect.limits import parse_limit
from keen_matrix.core.expressions import Expression, Template
from keen_matrix.core.model.quantities import SIZE_UNITS, TIME_UNITS, parse_duration, parse_size
from keen_matrix.core.model.signals import signal_number
from keen_matrix.core.notation.parse import parse_line, parse_list, parse_words
from keen_matrix.core.signature.kinds import DEFAULT_FAMILIES, FamilyName
from keen_matrix.core.vectors.axes import SOURCES

MAX_STRENGTH = 6
"""Strengths above 6 need more rows than anyone runs; `all` says what is then meant."""


def _kebab(name: str) -> str:
    return name.rstrip("_").replace("_", "-")


class Table(BaseModel):
    """A table of the spec: unknown keys are errors."""

    model_config = ConfigDict(extra="forbid", frozen=True, alias_generator=_kebab, validate_by_name=False)


def _checked(parse: Callable[[str], object]) -> AfterValidator:
    """Return a validator that parses a text and reports a fault with its offset in the text."""

    def check(text: str) -> str:
        try:
            parse(text)
        except NotationFault as fault:
            raise PydanticCustomError(
                "notation", "{reason}", {"reason": fault.message, "offset": fault.offset}
            ) from None
        except ExpressionFault as fault:
            reason = _reason_of(fault)
            raise PydanticCustomError("notation", "{reason}", {"reason": reason, "offset": fault.offset}) from None
        if "\0" in text:
            raise PydanticCustomError(
                "notation",
                "{reason}",
                {"reason": "a NUL cannot stand in a text here", "offset": text.index("\0")},
            )
        return text

    return AfterValidator(check)


def _line_fields(text: str) -> None:
    for field in parse_line(text).fields():
        _field_expression(field.source, field.span[0])


def _words_fields(text: str) -> None:
    for word in parse_words(text):
        Template(text, parts=word.parts)


def _field_expression(source: str, at: int) -> None:
    try:
        Expression(source)
    except ExpressionFault as fault:
        fault.offset += at + 1
        raise


def _reason_of(fault: NotationFault | ExpressionFault) -> str:
    """Return what is wrong in one line, without a drawing of the place."""
    if isinstance(fault, NotationFault):
        return fault.message
    return f"in the expression {fault.source}: {fault.reason}"


def _fault(reason: str) -> PydanticCustomError:
    return PydanticCustomError("value", "{reason}", {"reason": reason})


TemplateText = Annotated[str, _checked(Template)]
ExpressionText = Annotated[str, _checked(Expression)]
LineString = Annotated[str, _checked(_line_fields)]
WordsString = Annotated[str, _checked(_words_fields)]


def _word_list(words: list[str]) -> list[str]:
    for word in words:
        _checked(lambda text: parse_list([text])).func(word)  # type: ignore[call-arg]
    return words


def _text_or_list(text_type: Any) -> Any:
    """A text in the notation, or a list of words. The kind is chosen by what was written, so that one error names it."""
    from pydantic import TypeAdapter

    string, words = TypeAdapter(text_type), TypeAdapter(Annotated[list[str], AfterValidator(_word_list)])

    def check(value: Any) -> Any:
        if isinstance(value, list):
            return words.validate_python(value, strict=True)
        if not isinstance(value, str):
            raise _fault(f"expected a text or a list of words, found {kind_of(value)}")
        return string.validate_python(value)

    return Annotated[Any, BeforeValidator(check), WithJsonSchema({"anyOf": [{"type": "string"}, _STRINGS]})]


_STRINGS = {"type": "array", "items": {"type": "string"}}
WordsOrList: TypeAlias = _text_or_list(WordsString)  # type: ignore[valid-type]
TextOrList: TypeAlias = _text_or_list(LineString)  # type: ignore[valid-type]


def kind_of(value: Any) -> str:
    """Return what a TOML value is, in a user's words."""
    if isinstance(value, bool):
        return "a boolean"
    if isinstance(value, (datetime.date, datetime.time)):
        return "a date or time"
    kinds: dict[type, str] = {
        str: "a text",
        int: "a number",
        float: "a number",
        list: "an array",
        dict: "a table",
    }
    return kinds.get(type(value), type(value).__name__)


# --- expectations ---


def _one_or_more(value: Any) -> Any:
    return [value] if isinstance(value, str) else value


Texts = Annotated[
    list[TemplateText],
    BeforeValidator(_one_or_more, json_schema_input_type=str | list[str]),
    Field(min_length=1),
]


def _read_by(parse: Callable[[Any], object], value: Any) -> Any:
    """Return a value as it is once a parser has taken it; what the parser says is the fault."""
    try:
        parse(value)
    except (NotationFault, ExpressionFault) as fault:
        raise _fault(_reason_of(fault)) from None
    except ValueError as error:
        raise _fault(str(error)) from None
    return value


def _exit(value: Any) -> Any:
    return _read_by(parse_exit, value)


def _signal(value: Any) -> Any:
    return _read_by(signal_number, value)


ExitForms = Annotated[
    Any,
    BeforeValidator(_exit),
    WithJsonSchema(
        {"anyOf": [{"type": "integer"}, {"type": "string"}, {"type": "array", "items": {"type": "integer"}}]}
    ),
]
SignalName = Annotated[
    Any, BeforeValidator(_signal), WithJsonSchema({"anyOf": [{"type": "string"}, {"type": "integer"}]})
]


def _regex(text: str) -> str:
    import regex

    try:
        regex.compile(text)
    except regex.error as error:
        reason = f"this regular expression does not parse: {error.msg}"
        raise PydanticCustomError("notation", "{reason}", {"reason": reason, "offset": error.pos or 0}) from None
    return text


def _number_of_lines(value: Any) -> Any:
    from keen_matrix.core.expect.forms.lines import parse_amount

    return _read_by(parse_amount, value)


def _digest_or_base64(text: str) -> str:
    from keen_matrix.core.expect.forms.digest import parse_bytes

    _read_by(parse_bytes, text)
    return text


def _json_value(value: Any) -> Any:
    if isinstance(value, dict):
        return {key: _json_value(each) for key, each in value.items()}
    if isinstance(value, list):
        return [_json_value(each) for each in value]
    if isinstance(value, (datetime.date, datetime.time)):
        return value.isoformat()
    return value


def _json_values(value: Any) -> Any:
    if not isinstance(value, list):
        raise _fault(f"expected a list of values, one a line, found {kind_of(value)}")
    return _json_value(value)


def _pointers(value: Any) -> Any:
    listed = [value] if isinstance(value, str) else value
    for pointer in listed if isinstance(listed, list) else ():
        if not isinstance(pointer, str) or (pointer and not pointer.startswith("/")):
            raise _fault(f'{pointer!r} is not a JSON Pointer; expected one such as "/ports/0"')
    return listed


class ToleranceTable(Table):
    """How far numbers may be off: the larger of the two counts."""

    absolute: Annotated[float, Field(ge=0)] = Field(0.0, description="At most so much.", examples=[0.01])
    relative: Annotated[float, Field(ge=0)] = Field(
        0.0, description="At most this part of the number.", examples=[1e-6]
    )


def _tolerance(value: Any) -> Any:
    if isinstance(value, (int, float)) and not isinstance(value, bool):
        return {"absolute": value}
    if not isinstance(value, (dict, ToleranceTable)):
        raise _fault(f"expected a number such as 0.01 or a table such as {{ relative = 1e-6 }}, found {kind_of(value)}")
    return value


Tolerated = Annotated[ToleranceTable, BeforeValidator(_tolerance, json_schema_input_type=float | ToleranceTable)]


def _composed(value: Any) -> Any:
    if not isinstance(value, list):
        raise _fault(f"expected a list of texts or tables of forms, found {kind_of(value)}")
    return value


def _inner_table(value: Any) -> Any:
    """Read a table of forms inside another: a baseline has its place in the outer one, where it can be accepted."""
    if isinstance(value, dict) and "baseline" in value:
        raise _fault("a baseline cannot stand in any, all or not; expected it in the table of the stream or file")
    return _text_table(value)


Composed: TypeAlias = Annotated["TextTable", BeforeValidator(_inner_table)]


class TextTable(Table):
    """What a text must be. All forms of one table must be met."""

    is_: TemplateText | None = Field(
        None,
        description="The whole text; a newline at its end must be there; after a text without one, a newline may follow.",
        examples=["4.50"],
    )
    contains: Texts | None = Field(
        None, description="It contains each of these texts.", examples=[["usage:", "riders"]]
    )
    lacks: Texts | None = Field(None, description="It contains none of these texts.", examples=["Traceback"])
    matches: Annotated[str, AfterValidator(_regex)] | None = Field(
        None,
        description="A regular expression (the regex library's) that matches a part of it; ^ and $ stand for its ends.",
        examples=["^fare: [0-9.]+$"],
    )
    starts: TemplateText | None = Field(None, description="What it starts with.", examples=["usage: "])
    ends: TemplateText | None = Field(
        None, description="What it ends with; a newline may follow a text that ends in none.", examples=["done"]
    )
    empty: bool | None = Field(None, description="Whether it is empty.", examples=[True])
    lines: Texts | None = Field(None, description="All its lines, in order.", examples=[["Skerry", "Holm"]])
    lines_any_order: Texts | None = Field(
        None, description="All its lines, in whatever order.", examples=[["Holm", "Skerry"]]
    )
    number_of_lines: Annotated[
        Any, BeforeValidator(_number_of_lines), WithJsonSchema({"type": ["integer", "string"]})
    ] = Field(
        None,
        description='How many lines it has: a number, a range "1..3" or a template.',
        examples=[3, "1..3", "{riders}"],
    )
    holds: (
        Annotated[list[ExpressionText], BeforeValidator(_one_or_more, json_schema_input_type=str | list[str])] | None
    ) = Field(None, description="Conditions on the named groups of `matches`.", examples=[["int(hour) < 24"]])
    file: TemplateText | None = Field(
        None, description="The same as a file beside the spec.", examples=["expected/{origin}.txt"]
    )
    command: WordsOrList | None = Field(
        None, description="The same as the output of another command.", examples=["sort {here}/ports.txt"]
    )
    bytes_: Annotated[str, AfterValidator(_digest_or_base64)] | None = Field(
        None,
        description="The same bytes: base64:… or a digest, sha256:… or md5:….",
        examples=["sha256:e3b0c44298fc1c149afbf4c8996fb92427ae41e4649b934ca495991b7852b855"],
    )
    json_: Annotated[Any, BeforeValidator(_json_value)] = Field(
        None, description="The same JSON value, whatever its spelling; taken as it stands.", examples=[{"price": 4.5}]
    )
    json_lines: Annotated[list[Any], BeforeValidator(_json_values)] | None = Field(
        None, description="A JSON value a line.", examples=[[{"port": "Holm"}, {"port": "Voe"}]]
    )
    ignore: Annotated[list[str], BeforeValidator(_pointers, json_schema_input_type=str | list[str])] | None = Field(
        None,
        description="JSON Pointers (RFC 6901) of what is not compared; * stands for any step.",
        examples=[["/date", "/*/id"]],
    )
    any_order: Literal[True] | Annotated[list[str], BeforeValidator(_pointers)] | None = Field(
        None, description="Arrays of the JSON whose order does not matter: true for all, or JSON Pointers.",
        examples=[True, ["/ports"]],
    )  # fmt: skip
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
        None, description="At least one of these is met.", examples=[[{"contains": "Holm"}, {"contains": "Voe"}]]
    )
    all_: Annotated[list[Composed], BeforeValidator(_composed), Field(min_length=1)] | None = Field(
        None, description="Every one of these is met.", examples=[[{"starts": "fare:"}, {"not": {"contains": "bike"}}]]
    )
    not_: Composed | None = Field(None, description="What it must not be.", examples=[{"matches": "[Ee]rror"}])
    literal: bool = Field(False, description="Take the texts as they stand: braces are no fields.", examples=[True])


def _text_table(value: Any) -> Any:
    if isinstance(value, str):
        return {"is": value}
    if not isinstance(value, (dict, TextTable)):
        raise _fault(f"expected a text or a table of forms, found {kind_of(value)}")
    if isinstance(value, dict) and not set(value) - {"literal", "tolerance"}:
        raise _fault("expected at least one form, such as contains")
    if isinstance(value, dict) and value.get("literal") is True:
        # nothing in these texts is a field, so they must not be parsed as templates
        return {key: _escaped(each) if key in _TEMPLATED else each for key, each in value.items()}
    return value


_TEMPLATED = frozenset(kind.key for kind in FORMS.values() if kind.texts == "template")


def _escaped(value: Any) -> Any:
    if isinstance(value, str):
        return value.replace("{", "{{").replace("}", "}}")
    return [_escaped(each) for each in value] if isinstance(value, list) else value


TextExpectation = Annotated[TextTable, BeforeValidator(_text_table, json_schema_input_type=str | TextTable)]


def _mode(text: str) -> str:
    if not (3 <= len(text) <= 4 and set(text) <= set("01234567")):
        raise _fault('expected an octal mode such as "755"')
    return text


Mode = Annotated[str, AfterValidator(_mode), WithJsonSchema({"type": "string", "pattern": "^[0-7]{3,4}$"})]


class FileTable(TextTable):
    """What a file must be after the launch."""

    absent: bool | None = Field(None, description="Whether the file must not exist.", examples=[True])
    mode: Mode | None = Field(None, description="Its permissions, in octal digits.", examples=["755"])
    size: Annotated[Any, BeforeValidator(_number_of_lines), WithJsonSchema({"type": ["integer", "string"]})] = Field(
        None, description='Its size in bytes: a number, a range "1..100" or a template.', examples=[36, "1.."]
    )
    unchanged: Literal[True] | None = Field(
        None, description="Whether it is as it was before the launch, in content and mode.", examples=[True]
    )
    link: TemplateText | None = Field(None, description="What it is a symbolic link to.", examples=["names.txt"])


def _file_table(value: Any) -> Any:
    if value == "absent":
        return {"absent": True}
    if isinstance(value, dict) and set(value) & {"absent", "mode", "size", "unchanged", "link"}:
        return value
    return _text_table(value)


FileExpectation = Annotated[FileTable, BeforeValidator(_file_table, json_schema_input_type=str | FileTable)]


def _limit_of(units: Mapping[str, float]) -> Callable[[str], str]:
    def check(text: str) -> str:
        _read_by(lambda each: parse_limit(each, units), text)
        return text

    return check


AspectName = Literal["exit", "stdout", "stderr", "files"]


class AlikeTable(Table):
    """Another launch of the same case: exactly one of launchers, again, line."""

    launchers: Literal[True] | list[str] | None = Field(
        None, description="Under every other launcher, or those named.", examples=[True, ["isolated"]]
    )
    again: Literal[True] | None = Field(
        None, description="Once more in the same directory, and in a fresh one.", examples=[True]
    )
    line: TextOrList | None = Field(None, description="With other words.", examples=["--bike {origin} {destination}"])
    aspects: Annotated[list[AspectName], Field(min_length=1)] = Field(
        ["exit", "stdout", "stderr", "files"], description="What is compared.", examples=[["exit", "stdout"]]
    )

    @model_validator(mode="after")
    def _one_other(self) -> AlikeTable:
        given = [name for name in ("launchers", "again", "line") if getattr(self, name) is not None]
        if len(given) != 1:
            raise _fault(f"expected exactly one of launchers, again, line, found {' and '.join(given) or 'none'}")
        return self


class Expectations(Table):
    """What must come of a launch."""

    exit: ExitForms = Field(
        None,
        description='The exit code: one, a list, a range "1..125", "nonzero" or a template.',
        examples=[0, "1..125"],
    )
    signal: SignalName = Field(None, description="The signal that must end the program.", examples=["TERM"])
    stdout: TextExpectation | None = Field(None, description="Standard output.", examples=["4.50"])
    stderr: TextExpectation | None = Field(None, description="Standard error.", examples=[{"contains": "usage:"}])
    files: dict[str, FileExpectation] = Field(
        {},
        description="Files of the case's directory after the launch.",
        examples=[{"ticket.txt": "Skerry to Holm"}],
    )
    other_files: Literal["none", "allowed"] | None = Field(
        None,
        description="Whether files that no expectation names may be created, changed or deleted (not by a refusal).",
        examples=["none"],
    )
    duration: Annotated[str, AfterValidator(_limit_of(TIME_UNITS))] | None = Field(
        None, description="How long the launch may take.", examples=["< 2 s", "> 100 ms"]
    )
    memory: Annotated[str, AfterValidator(_limit_of(SIZE_UNITS))] | None = Field(
        None, description="How much memory it may take at its peak.", examples=["< 64 MiB"]
    )
    alike: AlikeTable | None = Field(
        None, description="Another launch that must do the same.", examples=[{"again": True}, {"line": "{b} {a}"}]
    )
    differs: AlikeTable | None = Field(
        None, description="Another launch that must do something else.", examples=[{"line": "{origin} Holm"}]
    )
    leftovers: Literal["none", "allowed"] | None = Field(
        None,
        description="Whether the program may leave processes behind (it may not, unless allowed).",
        examples=["allowed"],
    )
    crash: Literal["allowed", "forbidden"] | None = Field(
        None, description="Whether a crash is allowed.", examples=["allowed"]
    )


class RefusalKind(Expectations):
    """What must come of a vector that the signature says must be refused, for one kind of refusal."""

    names_culprit: bool | None = Field(
        None, description="Whether the message must name what is to blame.", examples=[True]
    )
    blame: Literal["culprit", "anything"] | None = Field(
        None,
        description="Whether the message may name other arguments and not the one to blame (it may not, by default).",
        examples=["anything"],
    )


class RefusalTable(RefusalKind):
    """What must come of every vector that the signature says must be refused; [refusal.KIND] for one kind alone."""

    model_config = ConfigDict(extra="allow", frozen=True, alias_generator=_kebab, validate_by_name=False)
    __pydantic_extra__: dict[str, RefusalKind] = Field(init=False)


class ExpectRule(Expectations):
    """Expectations that apply under a condition."""

    when: ExpressionText | None = Field(
        None, description="The condition; without it the rule always applies.", examples=["exit == 0"]
    )


def _rules(value: Any) -> Any:
    return [value] if isinstance(value, dict) else value


Rules = Annotated[list[ExpectRule], BeforeValidator(_rules, json_schema_input_type=ExpectRule | list[ExpectRule])]


class MaskTable(Table):
    """What varies from run to run, and what is put in its place in both sides before they are compared."""

    matches: Annotated[str, AfterValidator(_regex)] = Field(
        description="A regular expression for what varies.", examples=[r"\d\d:\d\d:\d\d"]
    )
    as_: str = Field(description="What is put in its place; \\1 is its first group.", examples=["<time>"])
    in_: list[Literal["stdout", "stderr", "files"]] = Field(
        ["stdout", "stderr", "files"], description="Where it is masked.", examples=[["stdout"]]
    )


class ReferenceTable(Table):
    """Another program that the same vectors are given to, and that must do the same: an older edition, say."""

    launch: WordsOrList = Field(description="The words that start it.", examples=["perl {here}/fare.pl"])
    aspects: Annotated[list[AspectName], Field(min_length=1)] = Field(
        ["exit", "stdout", "stderr", "files"], description="What is compared.", examples=[["exit", "stdout"]]
    )
    only_accepted: bool = Field(
        False, description="Whether vectors are passed over that the reference does not exit 0 on.", examples=[True]
    )


# --- surroundings and the program ---


def _env_value(value: Any) -> Any:
    if value is not False and not isinstance(value, str):
        raise _fault(f"expected a text, or false to unset it, found {kind_of(value)}")
    return value


EnvValue = Annotated[
    TemplateText | Literal[False], BeforeValidator(_env_value, json_schema_input_type=str | Literal[False])
]
EnvTable = Annotated[
    dict[str, EnvValue],
    Field(
        description="Environment variables on top of the clean environment; false unsets one.",
        examples=[{"TARIFF": "summer", "NO_COLOR": False}],
    ),
]
Launch = WordsOrList


class PutTable(Table):
    """A file, folder or link put in the case's directory: exactly one of text, bytes, copy, dir, link."""

    text: TemplateText | None = Field(None, description="Its content.", examples=["Ada\n"])
    bytes_: str | None = Field(None, description="Its content: base64:…", examples=["base64:AAEC/w=="])
    copy_: TemplateText | None = Field(
        None, description="A file or folder beside the spec, to copy.", examples=["names.txt"]
    )
    dir: bool | None = Field(None, description="Whether it is an empty folder.", examples=[True])
    link: TemplateText | None = Field(
        None, description="Where it links to, inside the case's directory.", examples=["names.txt"]
    )
    mode: Mode | None = Field(None, description="Its permissions.", examples=["755"])

    @model_validator(mode="after")
    def _one_content(self) -> PutTable:
        given = [name for name in ("text", "bytes_", "copy_", "dir", "link") if getattr(self, name) is not None]
        if len(given) != 1:
            raise _fault("expected exactly one of text, bytes, copy, dir, link")
        if self.bytes_ is not None:
            import base64

            try:
                _, colon, digits = self.bytes_.partition("base64:")
                base64.b64decode(digits, validate=True)
            except ValueError:
                raise _fault("bytes is not base64") from None
            if not (colon and self.bytes_.startswith(colon)):
                raise _fault(f'bytes is {self.bytes_[:40]!r}; expected "base64:…"')
        return self


def _put(value: Any) -> Any:
    if isinstance(value, str):
        return {"text": value}
    if not isinstance(value, dict):
        raise _fault(f'expected a text or a table such as {{ copy = "names.txt" }}, found {kind_of(value)}')
    return value


FilesTable = Annotated[
    dict[str, Annotated[PutTable, BeforeValidator(_put, json_schema_input_type=str | PutTable)]],
    Field(description="What is put in the case's directory before the launch.", examples=[{"names.txt": "Ada\n"}]),
]


class StdinTable(Table):
    """Standard input: exactly one of text, file, command, closed."""

    text: TemplateText | None = Field(None, description="A text.", examples=["Ada,2\n"])
    file: TemplateText | None = Field(None, description="A file beside the spec.", examples=["names.txt"])
    command: Any = Field(
        None,
        description="A command whose output is piped in; a list of texts is a chain, each piped into the next.",
        examples=["printf Ada", ["cat {here}/names.txt", "sort"]],
    )
    closed: bool | None = Field(None, description="Whether standard input is closed.", examples=[True])

    @model_validator(mode="after")
    def _one_source(self) -> StdinTable:
        given = [name for name in ("text", "file", "command", "closed") if getattr(self, name) is not None]
        if len(given) != 1:
            raise _fault("expected exactly one of text, file, command, closed")
        if self.command is not None:
            commands = self.command if isinstance(self.command, list) else [self.command]
            for each in commands:
                if not isinstance(each, str) or not each.strip():
                    raise _fault("command: expected a text, or a list of texts that are piped together")
                try:
                    _words_fields(each)
                except (NotationFault, ExpressionFault) as fault:
                    raise _fault(f"command: {_reason_of(fault)}") from None
        return self


def _stdin(value: Any) -> Any:
    if isinstance(value, str):
        return {"closed": True} if value == "closed" else {"text": value}
    if not isinstance(value, dict):
        raise _fault(f'expected a text or a table such as {{ file = "names.txt" }}, found {kind_of(value)}')
    return value


class TerminalTable(Table):
    """A pseudo-terminal for the launch."""

    columns: Annotated[int, Field(ge=1, le=10_000)] = Field(80, description="Its width in cells.", examples=[80])
    rows: Annotated[int, Field(ge=1, le=10_000)] = Field(24, description="Its height in lines.", examples=[24])
    stderr: Literal["joined", "apart"] = Field(
        "joined",
        description="Whether standard error goes to the terminal too, or to a pipe of its own.",
        examples=["apart"],
    )


class AnswerTable(Table):
    """A prompt that must come, and the reply it gets."""

    prompt: TemplateText = Field(description="A text that the program prints.", examples=["Proceed?"])
    reply: TemplateText = Field(description="What is typed then; a newline is added.", examples=["yes"])
    within: Annotated[float, Field(gt=0)] = Field(5.0, description="Seconds to wait for the prompt.", examples=[2])


class StopTable(Table):
    """How a program that never ends by itself is ended, without counting as hung."""

    after: Annotated[float, Field(gt=0)] | None = Field(None, description="Seconds after its start.", examples=[2])
    when_stdout: TemplateText | None = Field(None, description="A text on standard output.", examples=["ready"])
    when_stderr: TemplateText | None = Field(None, description="A text on standard error.", examples=["listening"])
    signal: SignalName = Field("TERM", description="The signal that it gets.", examples=["INT"])

    @model_validator(mode="after")
    def _some_moment(self) -> StopTable:
        if self.after is None and self.when_stdout is None and self.when_stderr is None:
            raise _fault("expected at least one of after, when-stdout, when-stderr")
        return self


def _seconds(value: Any) -> Any:
    """Read a duration; what is no text is left to the check of numbers."""
    if not isinstance(value, str):
        return value
    try:
        return parse_duration(value)
    except ValueError as error:
        raise _fault(str(error)) from None


def _size(value: Any) -> int:
    try:
        size = parse_size(value)
    except ValueError as error:
        raise _fault(str(error)) from None
    if not 1 <= size <= 1024**3:
        raise _fault("expected a size from 1 byte to 1 GiB")
    return size


class Around(Table):
    """What can stand around a case; in [program] as a default, in a matrix or step for it alone."""

    timeout: Annotated[float, BeforeValidator(_seconds), Field(gt=0, le=86_400)] | None = Field(
        None,
        description="How long one launch may take, in seconds or with a unit; 10 s by default.",
        examples=[5, "2 min"],
    )
    env: EnvTable = {}
    stdin: Annotated[StdinTable, BeforeValidator(_stdin, json_schema_input_type=str | StdinTable)] | None = Field(
        None, description='Standard input; empty by default, "closed" for none at all.', examples=["Ada,2\n"]
    )
    terminal: TerminalTable | None = Field(
        None, description="Run on a pseudo-terminal of this size.", examples=[{"columns": 80, "rows": 24}]
    )
    dialogue: list[AnswerTable] | None = Field(
        None, description="Prompts and their replies, in order.", examples=[[{"prompt": "Proceed?", "reply": "yes"}]]
    )
    stop: StopTable | None = Field(
        None, description="How a program is ended that never ends by itself.", examples=[{"after": 2, "signal": "INT"}]
    )


class ProgramTable(Around):
    """The console program under test."""

    launch: Launch = Field(  # type: ignore[valid-type]
        description="The words before every vector; {here} is the folder of this spec.",
        examples=["python3 {here}/fare.py"],
    )
    launchers: dict[str, Launch] = Field(  # type: ignore[valid-type]
        {}, description="Other ways to start the same program.", examples=[{"isolated": "python3 -S {here}/fare.py"}]
    )
    build: Launch | None = Field(  # type: ignore[valid-type]
        None,
        description="A command run once, before anything else; unless it exits 0 nothing is run.",
        examples=["make -C {here}"],
    )
    env_from_caller: list[str] = Field(
        ["PATH"], description="Variables taken over from the environment of Keen Matrix.", examples=[["PATH", "LANG"]]
    )
    directory: Literal["fresh", "spec"] = Field(
        "fresh",
        description="Where a case runs: in an empty directory of its own or in the spec's folder.",
        examples=["fresh"],
    )
    warm: bool = Field(
        False, description="Whether a Python program is forked from a keeper instead of started anew.", examples=[True]
    )
    output_cap: Annotated[Any, BeforeValidator(_size), WithJsonSchema({"type": ["string", "integer"]})] = Field(
        8 * 1024 * 1024,
        description="How much of each stream is kept; a program that prints more is ended.",
        examples=["8 MiB"],
    )
    oracle: str | None = Field(
        None, description="A Python file beside the spec whose functions expressions may call.", examples=["oracle.py"]
    )


# --- values ---

Scalar = str | int | float | bool | list[str | int | float | bool]


def _axis_value(value: Any) -> Any:
    if isinstance(value, list):
        return [_axis_value(each) for each in value]
    if isinstance(value, (datetime.date, datetime.time)):
        return value.isoformat()
    if not isinstance(value, (str, int, float, bool)):
        raise _fault(f"expected a text, number, boolean or array, found {kind_of(value)}")
    return value


AxisValue = Annotated[
    Any,
    BeforeValidator(_axis_value),
    WithJsonSchema({"type": ["string", "number", "boolean", "array"]}),
]


# --- the signature ---


def _synopsis(value: Any) -> Any:
    from keen_matrix.core.notation.synopsis import parse_synopsis

    lines = value if isinstance(value, list) else [value]
    if not lines or not all(isinstance(each, str) for each in lines):
        raise _fault("expected a usage line, or a list of them")
    for line in lines:
        try:
            parse_synopsis(line)
        except NotationFault as fault:
            offset = {"offset": fault.offset} if isinstance(value, str) else {}
            reason = fault.message if isinstance(value, str) else f'in "{line}": {fault.message}'
            raise PydanticCustomError("notation", "{reason}", {"reason": reason, **offset}) from None
    return value


def _count(value: Any) -> Any:
    from keen_matrix.core.signature.model import parse_count

    return _read_by(parse_count, value)


def _number_or_date(value: Any) -> Any:
    if isinstance(value, datetime.date):
        return value.isoformat()
    if isinstance(value, str):
        try:
            return datetime.date.fromisoformat(value).isoformat()
        except ValueError:
            raise _fault(f"expected a number or a date, found {value!r}") from None
    if isinstance(value, bool) or not isinstance(value, (int, float)):
        raise _fault(f"expected a number or a date, found {kind_of(value)}")
    if not math.isfinite(value):
        raise _fault(f"expected a finite number or a date, found {value}")
    return value


Bound = Annotated[Any, BeforeValidator(_number_or_date), WithJsonSchema({"type": ["number", "string"]})]


class ValueTable(Table):
    """The type of a value of the synopsis."""

    type: Literal["text", "int", "float", "bool", "choice", "date", "file", "dir", "path"] | None = Field(
        None, description="What it is; a choice when `of` is given, else a text.", examples=["int"]
    )
    min: Bound = Field(None, description="The least number or first date; of a text its least length.", examples=[1])
    max: Bound = Field(None, description="The largest number or last date; of a text its length.", examples=[60])
    of: Annotated[list[AxisValue], Field(min_length=1)] | None = Field(
        None, description="What a choice may be.", examples=[["text", "json"]]
    )
    case: Literal["exact", "ignore"] = Field(
        "exact", description="Whether a choice may be written in other letter case.", examples=["ignore"]
    )
    matches: Annotated[str, AfterValidator(_regex)] | None = Field(
        None,
        description="A regular expression that matches a part of it; ^ and $ stand for its ends.",
        examples=["^[A-Z]{3}$"],
    )
    default: AxisValue = Field(None, description="What it is when it is not given.", examples=[1])
    example: AxisValue = Field(None, description="A usual legal value, tried first.", examples=["3"])
    count: Annotated[Any, BeforeValidator(_count), WithJsonSchema({"type": ["integer", "string"]})] = Field(
        None, description="How many words it has.", examples=["2..4", "1.."]
    )


class RefuseTable(Table):
    """A refusal that the program makes for reasons of its own."""

    when: ExpressionText = Field(description="The condition, on values by NAME.", examples=["ORIGIN == DESTINATION"])
    kind: Annotated[str, Field(pattern="^[a-z][a-z0-9-]*$")] = Field(
        description="What this kind of refusal is called.", examples=["same-port"]
    )


class SignatureTable(Table):
    """What the program says it accepts."""

    synopsis: Annotated[Any, BeforeValidator(_synopsis), WithJsonSchema({"anyOf": [{"type": "string"}, _STRINGS]})] = (
        Field(description="The usage line in POSIX notation, or several.", examples=["[-n,--riders RIDERS] ORIGIN"])
    )
    style: Literal["gnu", "posix", "one-dash"] = Field(
        "gnu", description="How the program reads its words.", examples=["posix"]
    )
    help: list[str] | None = Field(
        None, description='Spellings of help; ["--help"] by default in the gnu style.', examples=[["-h", "--help"]]
    )
    help_complete: bool = Field(
        False,
        description="Whether an option that the help names and the synopsis does not is a fault.",
        examples=[True],
    )
    values: dict[str, ValueTable] = Field(
        {}, description="The types of the values, by NAME.", examples=[{"RIDERS": {"type": "int", "min": 1}}]
    )
    where: list[ExpressionText] = Field(
        [], description="What accepted vectors satisfy.", examples=[["ORIGIN != DESTINATION"]]
    )
    refuse: list[RefuseTable] = Field([], description="Refusals of kinds of the program's own.", examples=[[]])
    derive: list[FamilyName] = Field(
        list(DEFAULT_FAMILIES), description="The families to run.", examples=[["refusals"]]
    )
    abbreviations: bool | None = Field(None, description="Whether long options may be shortened.", examples=[False])
    bundling: bool | None = Field(None, description="Whether flags may share one dash.", examples=[True])
    interleaved: bool | None = Field(None, description="Whether options may follow operands.", examples=[True])
    joined: bool | None = Field(None, description="Whether a value may join its option.", examples=[True])
    repeat: Literal["last", "refuse", "collect"] | None = Field(
        None, description="What a second use of an option does.", examples=["refuse"]
    )
    negative_numbers: bool | None = Field(None, description="Whether -5 is a value and no option.", examples=[True])
    dash_values: Literal["take", "refuse"] | None = Field(
        None, description="Whether the word after a valued option may begin with a dash.", examples=["take"]
    )
    help_wins: bool | None = Field(None, description="Whether help beats other faults.", examples=[True])


# --- axes and matrices ---


def _times(value: Any) -> Any:
    if isinstance(value, int) and not isinstance(value, bool) and value >= 0:
        return f"{value}..{value}"
    low, dots, high = value.partition("..") if isinstance(value, str) else ("", "", "")
    if not (dots and low.isdecimal() and high.isdecimal() and int(low) <= int(high)):
        raise _fault('expected a range of counts such as "0..4"')
    return value


class AxisTable(Table):
    """Where the values of an axis come from: exactly one of values, from/to, lines, table/column, repeat, edges, bad, sample."""

    values: list[AxisValue] | None = Field(None, description="The values themselves.", examples=[["Skerry", "Holm"]])
    from_: float | int | None = Field(None, description="First number of a range.", examples=[1])
    to: float | int | None = Field(None, description="Last number of a range, included.", examples=[60])
    step: float | int | None = Field(None, description="Distance of the range's numbers; 1 by default.", examples=[0.5])
    lines: str | None = Field(
        None, description="A text file beside the spec; each line is a value.", examples=["ports.txt"]
    )
    table: str | None = Field(None, description="A CSV file beside the spec, with a header.", examples=["tickets.csv"])
    column: str | None = Field(None, description="The column of the CSV file.", examples=["origin"])
    repeat: AxisValue = Field(None, description="A word that is given several times.", examples=["Holm"])
    times: Annotated[str, BeforeValidator(_times, json_schema_input_type=str | int)] | None = Field(
        None, description="How often the repeated word is given.", examples=["0..4"]
    )
    edges: str | None = Field(
        None, description="A NAME of the signature: its legal values at the edges.", examples=["RIDERS"]
    )
    bad: str | None = Field(
        None, description="A NAME of the signature: values that it plainly cannot have.", examples=["RIDERS"]
    )
    sample: Annotated[int, Field(ge=1)] | None = Field(
        None, description="How many values to draw, without putting back.", examples=[20]
    )
    of: AxisOf | None = Field(
        None, description="Where the sample is drawn from: an axis, or a NAME of the signature.",
        examples=[{"from": 1, "to": 1000}],
    )  # fmt: skip
    seed: int = Field(0, description="Seed of the sample.", examples=[7])

    @model_validator(mode="after")
    def _one_source(self) -> AxisTable:
        given = [key for key, source in SOURCES.items() if getattr(self, source.field) is not None]
        if len(given) != 1:
            found = f"found {' and '.join(given)}" if given else "found none"
            raise _fault(f"expected exactly one source of values ({', '.join(SOURCES)}), {found}")
        self._partners(given[0])
        return self

    def _partners(self, lead: str) -> None:
        """Check that the keys beside the leading one belong to it, and that those it needs are there."""
        needs, takes = SOURCES[lead].needs, {*SOURCES[lead].needs, *SOURCES[lead].takes}
        for name in needs:
            if getattr(self, name) is None:
                raise _fault(f'"{lead}" needs "{name}" beside it')
        for name in dict.fromkeys(each for source in SOURCES.values() for each in (*source.needs, *source.takes)):
            if name in self.model_fields_set and name not in takes:
                raise _fault(f'"{name}" does not go with "{lead}"')
        if self.from_ is not None and self.to is not None:
            step = 1 if self.step is None else self.step
            if step == 0:
                raise _fault("a step of 0 never arrives; expected a number above 0")
            if (self.to - self.from_) * step < 0:
                way = "a step below 0" if step > 0 else "a step above 0"
                raise _fault(f"from {self.from_} to {self.to} in steps of {step} gives no value; expected {way}")


def _sample_source(value: Any) -> Any:
    return {"edges": value} if isinstance(value, str) else _axis(value)


def _axis(value: Any) -> Any:
    if isinstance(value, list):
        if not value:
            raise _fault("this axis has no values; expected at least one")
        return {"values": value}
    if not isinstance(value, dict):
        raise _fault(f"expected a list of values or a table such as {{ from = 1, to = 3 }}, found {kind_of(value)}")
    return value


AxisOf = Annotated[AxisTable, BeforeValidator(_sample_source, json_schema_input_type=str | list[Scalar] | AxisTable)]
AxisSource = Annotated[AxisTable, BeforeValidator(_axis, json_schema_input_type=list[Scalar] | AxisTable)]


def _combine(value: Any) -> Any:
    names = ("all", "each", "pairs", "triples", "zip")
    if isinstance(value, int) and not isinstance(value, bool) and 1 <= value <= MAX_STRENGTH:
        return value
    if value not in names:
        from keen_matrix.core.errors import nearest

        hint = nearest(str(value), names)
        more = f'; did you mean "{hint}"?' if hint else ""
        raise _fault(f"expected one of {', '.join(names)} or a strength from 1 to {MAX_STRENGTH}{more}")
    return value


class FocusTable(Table):
    """Axes that are combined more thoroughly than the others."""

    axes: Annotated[list[str], Field(min_length=2)] = Field(
        description="Names of axes (or of the line's groups).", examples=[["origin", "destination", "riders"]]
    )
    strength: Annotated[int, Field(ge=2, le=MAX_STRENGTH)] | Literal["all"] = Field(
        description="Their strength among each other.", examples=[3]
    )


def _rows_value(value: Any) -> Any:
    if isinstance(value, str):
        return value
    if not isinstance(value, list) or not value:
        raise _fault("expected a list of rows, or the name of a CSV file")
    for number, row in enumerate(value):
        if not isinstance(row, list):
            raise _fault(f"row {number + 1} is {kind_of(row)}; expected a list of values")
    return [[_axis_value(each) for each in row] for row in value]


class StepTable(Around):
    """One of several launches in the same directory."""

    line: _text_or_list(LineString) = Field(  # type: ignore[valid-type]
        description="The words of this launch.", examples=["Skerry Holm --save ticket.txt"]
    )
    expect: Rules = Field([], description="Its rules, in order.", examples=[{"exit": 0}])


class MatrixTable(Around):
    """One block of the spec that unfolds to vectors."""

    name: Annotated[str, Field(min_length=1, max_length=200)] = Field(
        description="Its name, unlike every other matrix's.", examples=["fares"]
    )
    line: _text_or_list(LineString) | None = Field(  # type: ignore[valid-type]
        None, description="The pattern of its vectors.", examples=["{origin} {destination} [-n {riders}]"]
    )
    axes: dict[str, AxisSource] = Field(
        {}, description="Named lists of values.", examples=[{"origin": ["Skerry", "Holm"]}]
    )
    columns: Annotated[list[str], Field(min_length=1)] | None = Field(
        None, description="Names of the columns of rows.", examples=[["origin", "destination", "exit"]]
    )
    rows: Annotated[
        Any,
        BeforeValidator(_rows_value),
        WithJsonSchema({"anyOf": [{"type": "string"}, {"type": "array", "items": {"type": "array"}}]}),
    ] = Field(
        None,
        description="Values that go together: a list a row, or a CSV file with a header.",
        examples=["tickets.csv"],
    )
    combine: Annotated[
        Any, BeforeValidator(_combine), WithJsonSchema({"anyOf": [{"enum": ["all", "each", "pairs", "triples", "zip"]},
                                                               {"type": "integer", "minimum": 1, "maximum": 6}]})
    ] = Field("all", description="How values of different axes are combined.", examples=["pairs"])  # fmt: skip
    where: list[ExpressionText] = Field(
        [], description="Conditions that every vector meets.", examples=[["origin != destination"]]
    )
    always: list[dict[str, AxisValue]] = Field(
        [],
        description="Combinations that must be among the vectors.",
        examples=[[{"origin": "Voe", "riders": 60}]],
    )
    focus: list[FocusTable] = Field([], description="Axes that get a higher strength.", examples=[[]])
    seed: int = Field(0, description="Seed of the combining.", examples=[7])
    effort: Literal["quick", "normal", "thorough"] = Field(
        "normal", description="How much work to spend on few vectors.", examples=["thorough"]
    )
    limit: Annotated[int, Field(ge=1)] | None = Field(
        None,
        description="The most vectors this matrix may have, when more than 100,000 are meant.",
        examples=[250000],
    )
    steps: list[StepTable] | None = Field(
        None,
        description="Several launches one after another in the same directory, instead of line.",
        examples=[[{"line": "Skerry Holm --save t.txt"}, {"line": "Holm Voe --save t.txt"}]],
    )
    files: FilesTable = {}
    mask: list[MaskTable] = Field(
        [], description="What varies, in this matrix.", examples=[[{"matches": "[0-9]+ ms", "as": "<time>"}]]
    )
    expect: Rules = Field([], description="Its rules, in order.", examples=[{"exit": 0}])


def _one_pattern(table: MatrixTable) -> MatrixTable:
    if (table.line is None) == (not table.steps):
        raise _fault("expected either line or steps")
    return table


CheckedMatrix = Annotated[MatrixTable, AfterValidator(_one_pattern)]


class SpecDocument(Table):
    """A spec: `NAME.matrix.toml`."""

    program: ProgramTable = Field(
        description="The program under test.", examples=[{"launch": "python3 {here}/fare.py"}]
    )
    expect: Annotated[Expectations, Field(description="What every vector must do, unless a rule says otherwise.",
                                          examples=[{"exit": 0}])] = Expectations()  # fmt: skip
    refusal: Annotated[RefusalTable, Field(description="What every vector that the signature refuses must do.",
                                           examples=[{"exit": 2}])] = RefusalTable()  # fmt: skip
    signature: SignatureTable | None = Field(
        None, description="What the program says it accepts.", examples=[{"synopsis": "[-n,--riders RIDERS] ORIGIN"}]
    )
    files: FilesTable = {}
    mask: list[MaskTable] = Field(
        [], description="What varies, for all matrices.", examples=[[{"matches": "v[0-9.]+", "as": "<version>"}]]
    )
    reference: ReferenceTable | None = Field(
        None, description="A program that must do the same.", examples=[{"launch": "perl {here}/fare.pl"}]
    )
    matrix: list[CheckedMatrix] = Field([], description="The matrices.", examples=[[]])
