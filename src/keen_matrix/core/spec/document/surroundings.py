"""What stands around a launch: environment, files, standard input, a terminal, prompts, its end."""

from typing import Annotated, Any, Literal, Self

from pydantic import BeforeValidator, Field, model_validator

from keen_matrix.core.errors import ExpressionFault, NotationFault
from keen_matrix.core.model.quantities import parse_duration, parse_size
from keen_matrix.core.spec.document.base import (
    SignalName,
    TemplateText,
    WordsOrList,
    check_words,
    kind_of,
    literal_texts,
    reason_of,
    wrong,
)
from keen_matrix.core.spec.document.expectations import Mode
from keen_matrix.core.spec.document.tables import Table
from keen_matrix.core.spec.document.texts import Role


def _env_value(value: object) -> object:
    if value is not False and not isinstance(value, str):
        raise wrong(f"expected a text, or false to unset it, found {kind_of(value)}")
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
Directory = Literal["fresh", "spec"]
MOST_AT_A_TIME = "The most launches at a time: 1 where cases share a directory, a port or a file."


class PutTable(Table):
    """A file, directory or link put in the case's directory: exactly one of text, bytes, copy, dir,
    link."""

    text: TemplateText | None = Field(None, description="Its content.", examples=["Ada\n"])
    bytes_: str | None = Field(None, description="Its content: base64:…", examples=["base64:AAEC/w=="])
    copy_: TemplateText | None = Field(
        None, description="A file or directory beside the spec, to copy.", examples=["names.txt"]
    )
    dir: bool | None = Field(None, description="Whether it is an empty directory.", examples=[True])
    link: TemplateText | None = Field(
        None, description="Where it links to, inside the case's directory.", examples=["names.txt"]
    )
    mode: Mode | None = Field(None, description="Its permissions.", examples=["755"])
    literal: bool = Field(
        False, description="Take the text literally: braces are no fields.", examples=[True]
    )

    @model_validator(mode="after")
    def _one_content(self) -> Self:
        given = [
            name for name in ("text", "bytes_", "copy_", "dir", "link") if getattr(self, name) is not None
        ]
        if len(given) != 1:
            raise wrong("expected exactly one of text, bytes, copy, dir, link")
        if self.bytes_ is not None:
            import base64

            try:
                _, colon, digits = self.bytes_.partition("base64:")
                base64.b64decode(digits, validate=True)
            except ValueError:
                raise wrong("bytes is not base64") from None
            if not (colon and self.bytes_.startswith(colon)):
                raise wrong(f'bytes is {self.bytes_[:40]!r}; expected "base64:…"')
        return self


def _put(value: object) -> object:
    if isinstance(value, str):
        return {"text": value}
    if not isinstance(value, dict):
        raise wrong(f'expected a text or a table such as {{ copy = "names.txt" }}, found {kind_of(value)}')
    return literal_texts(PutTable, value)


FilesTable = Annotated[
    dict[TemplateText, Annotated[PutTable, BeforeValidator(_put, json_schema_input_type=str | PutTable)]],
    Field(
        description="What is put in the case's directory before the launch.",
        examples=[{"names.txt": "Ada\n"}],
    ),
]


class StdinTable(Table):
    """Standard input: exactly one of text, file, command, closed."""

    text: TemplateText | None = Field(None, description="A text.", examples=["Ada,2\n"])
    file: TemplateText | None = Field(None, description="A file beside the spec.", examples=["names.txt"])
    command: Annotated[Any, Role.COMMANDS] = Field(
        None,
        description="A command whose output is piped in; a list of texts is a chain, each "
        "piped into the next.",
        examples=["printf Ada", ["cat {here}/names.txt", "sort"]],
    )
    closed: bool | None = Field(None, description="Whether standard input is closed.", examples=[True])
    literal: bool = Field(
        False, description="Take the text literally: braces are no fields.", examples=[True]
    )

    @model_validator(mode="after")
    def _one_source(self) -> Self:
        given = [name for name in ("text", "file", "command", "closed") if getattr(self, name) is not None]
        if len(given) != 1:
            raise wrong("expected exactly one of text, file, command, closed")
        if self.command is not None:
            commands = self.command if isinstance(self.command, list) else [self.command]
            for each in commands:
                if not isinstance(each, str) or not each.strip():
                    raise wrong("command: expected a text, or a list of texts that are piped together")
                try:
                    check_words(each)
                except (NotationFault, ExpressionFault) as fault:
                    raise wrong(f"command: {reason_of(fault)}") from None
        return self


def _stdin(value: object) -> object:
    if isinstance(value, str):
        return {"closed": True} if value == "closed" else {"text": value}
    if not isinstance(value, dict):
        raise wrong(f'expected a text or a table such as {{ file = "names.txt" }}, found {kind_of(value)}')
    return literal_texts(StdinTable, value)


class TerminalTable(Table):
    """A pseudo-terminal for the launch."""

    columns: Annotated[int, Field(ge=1, le=10_000)] = Field(
        80, description="Its width in cells.", examples=[80]
    )
    rows: Annotated[int, Field(ge=1, le=10_000)] = Field(
        24, description="Its height in lines.", examples=[24]
    )
    stderr: Literal["joined", "apart"] = Field(
        "joined",
        description="Whether standard error goes to the terminal too, or to its own pipe.",
        examples=["apart"],
    )
    echo: bool = Field(
        False,
        description="Whether typed text is shown, as on a real terminal; a program that asks for a password "
        "then has to switch it off.",
        examples=[True],
    )


class AnswerTable(Table):
    """A prompt that must appear, and its reply."""

    prompt: TemplateText = Field(description="A text that the program prints.", examples=["Proceed?"])
    reply: TemplateText = Field(description="What is typed then; a newline is added.", examples=["yes"])
    within: Annotated[float, Field(gt=0)] = Field(
        5.0, description="Seconds to wait for the prompt.", examples=[2]
    )


class StopTable(Table):
    """How a program that never ends on its own is ended, without counting as timed out."""

    after: Annotated[float, Field(gt=0)] | None = Field(
        None, description="Seconds after its start.", examples=[2]
    )
    when_stdout: TemplateText | None = Field(
        None, description="A text on standard output.", examples=["ready"]
    )
    when_stderr: TemplateText | None = Field(
        None, description="A text on standard error.", examples=["listening"]
    )
    signal: SignalName = Field("TERM", description="The signal that it gets.", examples=["INT"])

    @model_validator(mode="after")
    def _some_moment(self) -> Self:
        if self.after is None and self.when_stdout is None and self.when_stderr is None:
            raise wrong("expected at least one of after, when-stdout, when-stderr")
        return self


def read_seconds(value: object) -> object:
    """Read a duration; what is no text is left to the check of numbers."""
    if not isinstance(value, str):
        return value
    try:
        return parse_duration(value)
    except ValueError as error:
        raise wrong(str(error)) from None


def read_size(value: object) -> int:
    """Read a size in bytes."""
    try:
        size = parse_size(value)
    except ValueError as error:
        raise wrong(str(error)) from None
    if not 1 <= size <= 1024**3:
        raise wrong("expected a size from 1 byte to 1 GiB")
    return size


class Around(Table):
    """The surroundings of a case: in [program] as a default, in a matrix or step only for it."""

    timeout: Annotated[float, BeforeValidator(read_seconds), Field(gt=0, le=86_400)] | None = Field(
        None,
        description="How long one launch may take, in seconds or with a unit; 10 s by default.",
        examples=[5, "2 min"],
    )
    env: EnvTable = {}
    start_in: TemplateText | None = Field(
        None,
        description="The directory in which the program starts, inside the case's directory.",
        examples=["harbour"],
    )
    streams: Literal["apart", "joined"] | None = Field(
        None,
        description="Whether standard error has its own pipe, or is joined to standard output in the "
        "exact order.",
        examples=["joined"],
    )
    stdin: Annotated[StdinTable, BeforeValidator(_stdin, json_schema_input_type=str | StdinTable)] | None = (
        Field(
            None,
            description='Standard input; empty by default, "closed" for none at all.',
            examples=["Ada,2\n"],
        )
    )
    terminal: TerminalTable | None = Field(
        None, description="Run on a pseudo-terminal of this size.", examples=[{"columns": 80, "rows": 24}]
    )
    dialogue: list[AnswerTable] | None = Field(
        None,
        description="Prompts and their replies, in order.",
        examples=[[{"prompt": "Proceed?", "reply": "yes"}]],
    )
    stop: StopTable | None = Field(
        None,
        description="How to end a program that never ends on its own.",
        examples=[{"after": 2, "signal": "INT"}],
    )
