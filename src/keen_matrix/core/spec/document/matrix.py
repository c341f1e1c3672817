"""[[matrix]]: the pattern of vectors, how they are combined, their steps."""

from typing import Annotated, Any, Literal, Self

from pydantic import AfterValidator, BeforeValidator, Field, WithJsonSchema, model_validator

from keen_matrix.core.spec.document.axes import AxisSource, AxisValue, read_axis_value
from keen_matrix.core.spec.document.base import (
    MAX_STRENGTH,
    ExpressionText,
    TemplateText,
    TextOrList,
    kind_of,
    wrong,
)
from keen_matrix.core.spec.document.expectations import MaskTable, Rules
from keen_matrix.core.spec.document.marks import KnownTables, RequiredPrograms, SkipTables, Tags
from keen_matrix.core.spec.document.surroundings import MOST_AT_A_TIME, Around, Directory, FilesTable, Launch
from keen_matrix.core.spec.document.tables import Table


def _combine(value: object) -> object:
    names = ("all", "each", "pairs", "triples", "zip")
    if isinstance(value, int) and not isinstance(value, bool) and 1 <= value <= MAX_STRENGTH:
        return value
    if value not in names:
        from keen_matrix.core.errors import nearest

        hint = nearest(str(value), names)
        more = f'; did you mean "{hint}"?' if hint else ""
        raise wrong(f"expected one of {', '.join(names)} or a strength from 1 to {MAX_STRENGTH}{more}")
    return value


class DenserTable(Table):
    """Axes that are combined more thoroughly than the others."""

    axes: Annotated[list[str], Field(min_length=2)] = Field(
        description="Names of axes (or of the line's groups).", examples=[["origin", "destination", "riders"]]
    )
    strength: Annotated[int, Field(ge=2, le=MAX_STRENGTH)] | Literal["all"] = Field(
        description="Their strength among each other.", examples=[3]
    )


class RowsTable(Table):
    """Rows in a CSV file beside the spec."""

    file: str = Field(description="The file; its first line names the columns.", examples=["tickets.csv"])
    separator: str | None = Field(
        None,
        description="The sign between fields; by default the comma, semicolon, tab or bar that "
        "the header has most of.",
        min_length=1,
        max_length=1,
        examples=[";"],
    )
    empty: Literal["text", "left out"] = Field(
        "text",
        description="What an empty cell means: an empty text, or nothing, which leaves out the word or "
        "the group of the line around it.",
        examples=["left out"],
    )


def _rows_value(value: object) -> object:
    if isinstance(value, str):
        return RowsTable(file=value)
    if isinstance(value, dict):
        return RowsTable.model_validate(value)
    if not isinstance(value, list) or not value:
        raise wrong('expected a list of rows, the name of a CSV file, or { file = "…" }')
    for number, row in enumerate(value):
        if not isinstance(row, list):
            raise wrong(f"row {number + 1} is {kind_of(row)}; expected a list of values")
    return [[read_axis_value(each) for each in row] for row in value]


class StepTable(Around):
    """One of several launches in the same directory."""

    line: TextOrList | None = Field(
        None, description="The words of this launch.", examples=["Skerry Holm --save ticket.txt"]
    )
    launch: Launch | None = Field(
        None,
        description="Another program with all of its words, instead of line; it must exit 0, or meet "
        "its own expectations.",
        examples=["git init -q ."],
    )
    expect: Rules = Field([], description="Its rules, in order.", examples=[{"exit": 0}])

    @model_validator(mode="after")
    def _one_program(self) -> Self:
        if (self.line is None) == (self.launch is None):
            raise wrong("expected either line, words of the program, or launch, another program")
        return self


class CasesTable(Around):
    """Notes, tags and marks of a matrix's cases, and where and how many at a time they run."""

    note: TemplateText | None = Field(
        None,
        description="What to know when one of its cases fails; also a column of this name.",
        examples=["as agreed with the harbour master"],
    )
    tags: Tags = []
    known: KnownTables = []
    skip: SkipTables = []
    requires_programs: RequiredPrograms = []
    jobs: Annotated[int, Field(ge=1)] | None = Field(None, description=MOST_AT_A_TIME, examples=[1])
    directory: Directory | None = Field(
        None, description="Where its cases run, as in [program].", examples=["spec"]
    )


class MatrixTable(CasesTable):
    """A block of the spec that unfolds to cases."""

    name: Annotated[str, Field(min_length=1, max_length=200)] = Field(
        description="Its name; must be unique in the spec.", examples=["fares"]
    )
    line: TextOrList | None = Field(
        None, description="The pattern of its calls.", examples=["{origin} {destination} [-n {riders}]"]
    )
    axes: dict[str, AxisSource] = Field(
        {}, description="Named lists of values.", examples=[{"origin": ["Skerry", "Holm"]}]
    )
    columns: Annotated[list[str], Field(min_length=1)] | None = Field(
        None, description="Names of the columns of rows.", examples=[["origin", "destination", "exit"]]
    )
    rows: Annotated[
        Any, BeforeValidator(_rows_value, json_schema_input_type=str | RowsTable | list[list[AxisValue]])
    ] = Field(
        None,
        description="Values that go together: a list a row, or a CSV file with a header.",
        examples=["tickets.csv"],
    )
    combine: Annotated[
        Any,
        BeforeValidator(_combine),
        WithJsonSchema(
            {
                "anyOf": [
                    {"enum": ["all", "each", "pairs", "triples", "zip"]},
                    {"type": "integer", "minimum": 1, "maximum": 6},
                ]
            }
        ),
    ] = Field("all", description="How values of different axes are combined.", examples=["pairs"])
    only_if: list[ExpressionText] = Field(
        [], description="Conditions that every case meets.", examples=[["origin != destination"]]
    )
    always: list[dict[str, AxisValue]] = Field(
        [],
        description="Combinations that must be among the cases.",
        examples=[[{"origin": "Voe", "riders": 60}]],
    )
    denser: list[DenserTable] = Field([], description="Axes that get a higher strength.", examples=[[]])
    seed: int = Field(0, description="Seed of the combining.", examples=[7])
    effort: Literal["quick", "normal", "thorough"] = Field(
        "normal", description="How much work to spend on finding fewer cases.", examples=["thorough"]
    )
    limit: Annotated[int, Field(ge=1)] | None = Field(
        None,
        description="The most cases this matrix may have, when more than 100,000 are wanted.",
        examples=[250000],
    )
    steps: list[StepTable] | None = Field(
        None,
        description="Several launches, one after another in the same directory, instead of line.",
        examples=[[{"line": "Skerry Holm --save t.txt"}, {"line": "Holm Voe --save t.txt"}]],
    )
    files: FilesTable = {}
    mask: list[MaskTable] = Field(
        [], description="What varies, in this matrix.", examples=[[{"matches": "[0-9]+ ms", "as": "<time>"}]]
    )
    expect: Rules = Field([], description="Its rules, in order.", examples=[{"exit": 0}])


def _one_pattern(table: MatrixTable) -> MatrixTable:
    if (table.line is None) == (not table.steps):
        raise wrong("expected either line or steps")
    return table


CheckedMatrix = Annotated[MatrixTable, AfterValidator(_one_pattern)]
