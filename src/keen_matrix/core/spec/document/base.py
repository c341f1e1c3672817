"""The types of values that many tables have."""

import datetime
from collections.abc import Callable
from typing import Annotated, Any, TypeAlias

from pydantic import AfterValidator, BaseModel, BeforeValidator, ConfigDict, Field, WithJsonSchema
from pydantic_core import PydanticCustomError

from keen_matrix.core.errors import ExpressionFault, NotationFault
from keen_matrix.core.expect.exits import parse_exit
from keen_matrix.core.expressions import Expression, Template
from keen_matrix.core.model.signals import signal_number
from keen_matrix.core.notation.parse import parse_line, parse_list, parse_words
from keen_matrix.core.spec.document.texts import Role, fields_with

#: Strengths above 6 need more rows than anyone runs; `all` says what is then meant.
MAX_STRENGTH = 6


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
            reason = reason_of(fault)
            raise PydanticCustomError(
                "notation", "{reason}", {"reason": reason, "offset": fault.offset}
            ) from None
        if "\0" in text:
            raise PydanticCustomError(
                "notation",
                "{reason}",
                {"reason": "a text cannot contain a NUL here", "offset": text.index("\0")},
            )
        return text

    return AfterValidator(check)


def _line_fields(text: str) -> None:
    for field in parse_line(text).fields():
        _field_expression(field.source, field.span[0])


def check_words(text: str) -> None:
    """Raise what is wrong with a text that is read as words."""
    for word in parse_words(text):
        Template(text, parts=word.parts)


def _field_expression(source: str, at: int) -> None:
    try:
        Expression(source)
    except ExpressionFault as fault:
        fault.offset += at + 1
        raise


def reason_of(fault: NotationFault | ExpressionFault) -> str:
    """Return what is wrong in one line, without a drawing of the place."""
    if isinstance(fault, NotationFault):
        return fault.message
    return f"in the expression {fault.source}: {fault.reason}"


def wrong(reason: str) -> PydanticCustomError:
    """Return the error of a value, with what was expected in our words."""
    return PydanticCustomError("value", "{reason}", {"reason": reason})


TemplateText = Annotated[str, _checked(Template), Role.TEMPLATE]
ExpressionText = Annotated[str, _checked(Expression), Role.EXPRESSION]
LineString = Annotated[str, _checked(_line_fields)]
WordsString = Annotated[str, _checked(check_words)]


def _word_list(words: list[str]) -> list[str]:
    for word in words:
        _checked(lambda text: parse_list([text])).func(word)  # type: ignore[call-arg]
    return words


def text_or_list(text_type: Any, role: Role) -> object:
    """A text in the notation, or a list of words, with the role of such a text. The kind is chosen
    by what was written, so that one error names it."""
    from pydantic import TypeAdapter

    later = ConfigDict(defer_build=True)
    string, words = (
        TypeAdapter(text_type, config=later),
        TypeAdapter(Annotated[list[str], AfterValidator(_word_list)], config=later),
    )

    def check(value: object) -> object:
        if isinstance(value, list):
            return words.validate_python(value, strict=True)
        if not isinstance(value, str):
            raise wrong(f"expected a text or a list of words, found {kind_of(value)}")
        return string.validate_python(value)

    return Annotated[
        object, BeforeValidator(check), WithJsonSchema({"anyOf": [{"type": "string"}, STRINGS]}), role
    ]


STRINGS = {"type": "array", "items": {"type": "string"}}


WordsOrList: TypeAlias = text_or_list(WordsString, Role.WORDS)  # type: ignore[valid-type]


TextOrList: TypeAlias = text_or_list(LineString, Role.LINE)  # type: ignore[valid-type]


def kind_of(value: object) -> str:
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


def one_or_more(value: object) -> object:
    """Read a text, or a list of them, as a list."""
    return [value] if isinstance(value, str) else value


Texts = Annotated[
    list[TemplateText],
    BeforeValidator(one_or_more, json_schema_input_type=str | list[str]),
    Field(min_length=1),
]


def read_by(parse: Callable[[Any], object], value: object) -> object:
    """Return a value as it is once a parser has taken it; what the parser says is the fault."""
    try:
        parse(value)
    except (NotationFault, ExpressionFault) as fault:
        raise wrong(reason_of(fault)) from None
    except ValueError as error:
        raise wrong(str(error)) from None
    return value


def _exit(value: object) -> object:
    return read_by(parse_exit, value)


def _signal(value: object) -> object:
    return read_by(signal_number, value)


def _signal_template(value: object) -> object:
    """Read a signal whose name may have a field."""
    if isinstance(value, str) and "{" in value:
        return value
    read_by(signal_number, value)
    return str(value)


ExitForms = Annotated[
    object,
    BeforeValidator(_exit),
    WithJsonSchema(
        {"anyOf": [{"type": "integer"}, {"type": "string"}, {"type": "array", "items": {"type": "integer"}}]}
    ),
    Role.AMOUNT,
]


SignalName = Annotated[
    object, BeforeValidator(_signal), WithJsonSchema({"anyOf": [{"type": "string"}, {"type": "integer"}]})
]


def _mode(text: str) -> str:
    if not (3 <= len(text) <= 4 and set(text) <= set("01234567")):
        raise wrong('expected an octal mode such as "755"')
    return text


Mode = Annotated[str, AfterValidator(_mode), WithJsonSchema({"type": "string", "pattern": "^[0-7]{3,4}$"})]


SignalTemplate = Annotated[
    TemplateText,
    BeforeValidator(_signal_template),
    WithJsonSchema({"anyOf": [{"type": "string"}, {"type": "integer"}]}),
]


def read_regex(text: str) -> str:
    """Check a regular expression."""
    import regex

    try:
        regex.compile(text)
    except regex.error as error:
        reason = f"this regular expression does not parse: {error.msg}"
        raise PydanticCustomError(
            "notation", "{reason}", {"reason": reason, "offset": error.pos or 0}
        ) from None
    return text


def _amount(value: object) -> object:
    from keen_matrix.core.expect.forms.lines import parse_amount

    return read_by(parse_amount, value)


Amount = Annotated[
    object, BeforeValidator(_amount), WithJsonSchema({"type": ["integer", "string"]}), Role.AMOUNT
]


def read_bytes(text: str) -> str:
    """Check bytes or a digest."""
    from keen_matrix.core.expect.forms.digest import parse_bytes

    read_by(parse_bytes, text)
    return text


def read_json_value(value: object) -> object:
    """Check a value that is to be compared as JSON."""
    if isinstance(value, dict):
        return {key: read_json_value(each) for key, each in value.items()}
    if isinstance(value, list):
        return [read_json_value(each) for each in value]
    if isinstance(value, (datetime.date, datetime.time)):
        return value.isoformat()
    return value


def read_json_values(value: object) -> object:
    """Check a list of values, one a line."""
    if not isinstance(value, list):
        raise wrong(f"expected a list of values, one a line, found {kind_of(value)}")
    return read_json_value(value)


def read_pointers(value: object) -> object:
    """Check JSON Pointers."""
    listed = [value] if isinstance(value, str) else value
    for pointer in listed if isinstance(listed, list) else ():
        if not isinstance(pointer, str) or (pointer and not pointer.startswith("/")):
            raise wrong(f'{pointer!r} is not a JSON Pointer; expected one such as "/ports/0"')
    return listed


def literal_texts(model: type[BaseModel], table: Any) -> Any:
    """Return a table in which nothing of its texts is a field, where it says that they are
    literal: they must not be parsed as templates."""
    if not isinstance(table, dict) or table.get("literal") is not True:
        return table
    keys = fields_with(model, Role.TEMPLATE)
    return {key: _escaped(each) if key in keys else each for key, each in table.items()}


def _escaped(value: Any) -> Any:
    if isinstance(value, str):
        return value.replace("{", "{{").replace("}", "}}")
    return [_escaped(each) for each in value] if isinstance(value, list) else value
