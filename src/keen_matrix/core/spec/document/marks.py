"""What a matrix says of its cases beside what they must do: notes, tags, known differences,
skips."""

import datetime
from typing import Annotated, Literal, Self

from pydantic import AfterValidator, BeforeValidator, Field, model_validator

from keen_matrix.core.spec.document.base import ExpressionText, TemplateText, kind_of, one_or_more, wrong
from keen_matrix.core.spec.document.tables import Table
from keen_matrix.core.vectors.ids import ALPHABET, ID_LENGTH, SHORTEST_ID


def _day(value: object) -> object:
    if type(value) is not datetime.date:
        found = f"{value!r}" if isinstance(value, str) else kind_of(value)
        raise wrong(f"expected a day without quotes, such as 2027-03-01, found {found}")
    return value


def _reason(text: str) -> str:
    if not text.strip():
        raise wrong("expected a reason")
    return text


def _id(text: str) -> str:
    if not SHORTEST_ID <= len(text) <= ID_LENGTH or not set(text) <= set(ALPHABET):
        raise wrong(
            f"{text!r} is not an id of a case; expected {SHORTEST_ID} to {ID_LENGTH} letters and "
            f"digits, as a run shows them"
        )
    return text


def _tag(text: str) -> str:
    if not text or text.startswith("!") or any(each.isspace() or each == "," for each in text):
        raise wrong(
            f"{text!r} is not a tag; expected a word without spaces and commas that does not begin with !"
        )
    return text


def _one_or_more_tables(value: object) -> object:
    return [value] if isinstance(value, dict) else value


OneOrMoreTexts = Annotated[
    list[Annotated[str, Field(min_length=1)]],
    BeforeValidator(one_or_more, json_schema_input_type=str | list[str]),
]
Reason = Annotated[TemplateText, AfterValidator(_reason)]
Day = Annotated[datetime.date, BeforeValidator(_day)]
Tags = Annotated[
    list[Annotated[str, AfterValidator(_tag)]],
    Field(description="Words to choose it by: --tag slow, --tag '!slow'.", examples=[["slow"]]),
]
RequiredPrograms = Annotated[
    list[Annotated[str, Field(min_length=1)]],
    Field(
        description="Programs that must be installed; without them its cases are skipped.",
        examples=[["sqlite3", "git"]],
    ),
]


class KnownTable(Table):
    """A known failure: its cases may fail, and the run stays green."""

    because: Reason = Field(
        description="The reason, shown in the summary.", examples=["rounding, to be mended"]
    )
    until: Day | None = Field(
        None,
        description="The last day on which the failure is excused.",
        examples=[datetime.date(2027, 3, 1)],
    )
    when: ExpressionText | None = Field(
        None, description="For which of the cases; all by default.", examples=["riders > 8"]
    )
    aspect: OneOrMoreTexts | None = Field(
        None,
        description="Which aspects may differ: stdout, exit, files.ticket.txt. All by default.",
        examples=["stdout", ["stdout", "exit"]],
    )
    verdict: Literal["failed", "crashed", "timed-out"] | None = Field(
        None,
        description="The verdict that is known: `failed` by default, so that a new crash or timeout "
        "still counts.",
        examples=["crashed"],
    )

    @model_validator(mode="after")
    def _one_of_both(self) -> Self:
        if self.aspect is not None and self.verdict not in (None, "failed"):
            raise wrong(
                f'expected either aspect or verdict = "{self.verdict}": such a launch answers no '
                f"other expectation"
            )
        return self


class KnownCases(KnownTable):
    """Known failures of cases of any matrix, also derived ones, by their ids."""

    ids: Annotated[list[Annotated[str, AfterValidator(_id)]], Field(min_length=1)] = Field(
        description="The ids of the cases, or their beginnings.", examples=[["k3gmxq"]]
    )


class SkipTable(Table):
    """Cases that are not run."""

    because: Reason = Field(
        description="The reason, shown in the summary.", examples=["no tide tables on this system"]
    )
    when: ExpressionText | None = Field(
        None,
        description="For which of the cases, and where; always by default.",
        examples=["platform != 'linux'"],
    )


KnownTables = Annotated[
    list[KnownTable],
    BeforeValidator(_one_or_more_tables, json_schema_input_type=KnownTable | list[KnownTable]),
    Field(
        description="Failures that are known.",
        examples=[{"because": "rounding, to be mended", "until": datetime.date(2027, 3, 1)}],
    ),
]
SkipTables = Annotated[
    list[SkipTable],
    BeforeValidator(_one_or_more_tables, json_schema_input_type=SkipTable | list[SkipTable]),
    Field(
        description="Cases that are not run.",
        examples=[{"because": "no tide tables there", "when": "platform != 'linux'"}],
    ),
]
