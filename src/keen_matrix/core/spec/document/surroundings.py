"""What stands around a launch: environment, files, standard input, a terminal, prompts, its end."""

from typing import Annotated, Any, Literal, Self

from pydantic import BeforeValidator, Field, TypeAdapter, WithJsonSchema, model_validator

from keen_matrix.core.errors import ExpressionFault, NotationFault
from keen_matrix.core.model.quantities import parse_duration, parse_size
from keen_matrix.core.spec.document.base import (
    Mode,
    SignalTemplate,
    TemplateText,
    WordsOrList,
    check_words,
    kind_of,
    literal_texts,
    read_regex,
    reason_of,
    wrong,
)
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
Receiver = Literal["group", "program"]
#: A text, or a list of texts, of the schema.
TEXTS = {"anyOf": [{"type": "string"}, {"type": "array", "items": {"type": "string"}}]}
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


StdinText = Annotated[StdinTable, BeforeValidator(_stdin, json_schema_input_type=str | StdinTable)]


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
    stdin: Literal["joined", "apart"] = Field(
        "joined",
        description="Whether standard input is the terminal too, or a pipe of its own, as of printf Ada | fare.",
        examples=["apart"],
    )
    echo: bool = Field(
        False,
        description="Whether typed text is shown, as on a real terminal; a program that asks for a password "
        "then has to switch it off.",
        examples=[True],
    )


def _replies(value: object) -> object:
    texts = value if isinstance(value, list) else [value]
    if not all(isinstance(each, str) for each in texts):
        raise wrong(f"expected a list of texts, or a text with a field, found {kind_of(value)}")
    template = TypeAdapter(TemplateText)
    return [template.validate_python(each) for each in texts]


class AnswerTable(Table):
    """A prompt that must appear, and its reply; or the form of several prompts, and as many
    replies."""

    prompt: TemplateText = Field(
        description="A text that the program prints; beside replies a regular expression.",
        examples=["Proceed?", r"\? $"],
    )
    reply: TemplateText | None = Field(
        None, description="What is typed then; a newline is added.", examples=["yes"]
    )
    replies: Annotated[object, BeforeValidator(_replies), Role.TEMPLATE, WithJsonSchema(TEXTS)] = Field(
        None,
        description="What is typed at one prompt after another, until the list or the program ends: "
        "a list, or a field with a list.",
        examples=["{answers}", ["Ada", "Bo"]],
    )
    until_end: bool = Field(
        False,
        description="Whether the program may ask once more after the last of the replies, and then finds "
        "the end of its input.",
        examples=[True],
    )
    within: Annotated[float, Field(gt=0)] = Field(
        5.0, description="Seconds to wait for the prompt.", examples=[2]
    )

    @model_validator(mode="after")
    def _one_kind(self) -> Self:
        if (self.reply is None) == (self.replies is None):
            raise wrong("expected exactly one of reply, replies")
        if self.replies is None and self.until_end:
            raise wrong("until-end goes with replies")
        if self.replies is not None and "{" not in self.prompt:
            read_regex(self.prompt)
        return self


def _dialogue(value: object) -> object:
    return [value] if isinstance(value, dict) else value


Dialogue = Annotated[list[AnswerTable], BeforeValidator(_dialogue)]


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
    signal: SignalTemplate = Field("TERM", description="The signal that it gets.", examples=["INT"])
    to: Receiver = Field(
        "group",
        description="Whether its whole process group gets it, or the program alone.",
        examples=["program"],
    )

    @model_validator(mode="after")
    def _some_moment(self) -> Self:
        if self.after is None and self.when_stdout is None and self.when_stderr is None:
            raise wrong("expected at least one of after, when-stdout, when-stderr")
        return self


def _after(value: object) -> object:
    if isinstance(value, bool) or not isinstance(value, (int, float, str)):
        raise wrong(f"expected seconds, or a text that the program prints, found {kind_of(value)}")
    if isinstance(value, str):
        return TypeAdapter(TemplateText).validate_python(value)
    if not 0 <= value <= 86_400:
        raise wrong("expected seconds from 0 to 86400")
    return value


class MeanwhileTable(Table):
    """Something that happens while the program runs, after what happens before it."""

    after: Annotated[
        object,
        BeforeValidator(_after),
        Role.TEMPLATE,
        WithJsonSchema({"anyOf": [{"type": "string"}, {"type": "number"}]}),
    ] = Field(
        description="When: a text that the program prints, or seconds after its start or what happened before.",
        examples=["watching", 0.5],
    )
    write: FilesTable = Field(
        {}, description="Files that are written then, as in files.", examples=[{"a.txt": "2\n"}]
    )
    remove: list[TemplateText] = Field([], description="Files that are removed then.", examples=[["a.txt"]])
    launch: WordsOrList | None = Field(
        None,
        description="A command that runs beside the program, in its directory; it must exit 0.",
        examples=["touch b.txt"],
    )
    signal: SignalTemplate | None = Field(None, description="A signal that is sent.", examples=["HUP"])
    to: Receiver = Field(
        "group",
        description="Whether the whole process group gets the signal, or the program alone.",
        examples=["program"],
    )

    @model_validator(mode="after")
    def _something(self) -> Self:
        if not (self.write or self.remove or self.launch or self.signal):
            raise wrong("expected at least one of write, remove, launch, signal")
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
    stdin: StdinText | None = Field(
        None, description='Standard input; empty by default, "closed" for none at all.', examples=["Ada,2\n"]
    )
    terminal: TerminalTable | None = Field(
        None, description="Run on a pseudo-terminal of this size.", examples=[{"columns": 80, "rows": 24}]
    )
    dialogue: Dialogue | None = Field(
        None,
        description="Prompts and their replies, in order; or one table, of as many replies as there are.",
        examples=[[{"prompt": "Proceed?", "reply": "yes"}], {"prompt": r"\? $", "replies": "{answers}"}],
    )
    meanwhile: list[MeanwhileTable] | None = Field(
        None,
        description="What happens while the program runs, in order.",
        examples=[[{"after": "watching", "write": {"a.txt": "2\n"}}]],
    )
    stop: StopTable | None = Field(
        None,
        description="How to end a program that never ends on its own.",
        examples=[{"after": 2, "signal": "INT"}],
    )
