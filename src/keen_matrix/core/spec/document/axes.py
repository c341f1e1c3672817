"""Values of axes and rows."""

import datetime
from typing import Annotated, Self

from pydantic import BeforeValidator, Field, WithJsonSchema, model_validator

from keen_matrix.core.spec.document.base import kind_of, wrong
from keen_matrix.core.spec.document.tables import Table
from keen_matrix.core.vectors.axes import SOURCES

Scalar = str | int | float | bool | list[str | int | float | bool]


def read_axis_value(value: object) -> object:
    """Check a value of an axis; dates become texts."""
    if isinstance(value, list):
        return [read_axis_value(each) for each in value]
    if isinstance(value, (datetime.date, datetime.time)):
        return value.isoformat()
    if not isinstance(value, (str, int, float, bool)):
        raise wrong(f"expected a text, number, boolean or array, found {kind_of(value)}")
    return value


AxisValue = Annotated[
    object,
    BeforeValidator(read_axis_value),
    WithJsonSchema({"type": ["string", "number", "boolean", "array"]}),
]


# --- the signature ---


def _times(value: object) -> object:
    if isinstance(value, int) and not isinstance(value, bool) and value >= 0:
        return f"{value}..{value}"
    low, dots, high = value.partition("..") if isinstance(value, str) else ("", "", "")
    if not (dots and low.isdecimal() and high.isdecimal() and int(low) <= int(high)):
        raise wrong('expected a range of counts such as "0..4"')
    return value


class AxisTable(Table):
    """Where the values of an axis come from: exactly one of values, from/to, lines, table/column,
    repeat, edges, bad, sample."""

    values: list[AxisValue] | None = Field(
        None, description="The values themselves.", examples=[["Skerry", "Holm"]]
    )
    from_: float | int | None = Field(None, description="First number of a range.", examples=[1])
    to: float | int | None = Field(None, description="Last number of a range, included.", examples=[60])
    step: float | int | None = Field(
        None, description="Distance of the range's numbers; 1 by default.", examples=[0.5]
    )
    lines: str | None = Field(
        None, description="A text file beside the spec; each line is a value.", examples=["ports.txt"]
    )
    table: str | None = Field(
        None, description="A CSV file beside the spec, with a header.", examples=["tickets.csv"]
    )
    column: str | None = Field(None, description="The column of the CSV file.", examples=["origin"])
    repeat: AxisValue = Field(None, description="A word to repeat.", examples=["Holm"])
    separator: Annotated[str, Field(min_length=1, max_length=1)] | None = Field(
        None,
        description="The character between its fields; by default the most frequent one in its header.",
        examples=[";"],
    )
    times: Annotated[str, BeforeValidator(_times, json_schema_input_type=str | int)] | None = Field(
        None, description="How often the word is repeated.", examples=["0..4"]
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
    of: "AxisOf | None" = Field(
        None,
        description="Where the sample is drawn from: an axis, or a NAME of the signature.",
        examples=[{"from": 1, "to": 1000}],
    )
    seed: int = Field(0, description="Seed of the sample.", examples=[7])

    @model_validator(mode="after")
    def _one_source(self) -> Self:
        given = [key for key, source in SOURCES.items() if getattr(self, source.field) is not None]
        if len(given) != 1:
            found = f"found {' and '.join(given)}" if given else "found none"
            raise wrong(f"expected exactly one source of values ({', '.join(SOURCES)}), {found}")
        self._partners(given[0])
        return self

    def _partners(self, lead: str) -> None:
        """Check that the keys beside the leading one belong to it, and that those it needs are
        there."""
        needs, takes = SOURCES[lead].needs, {*SOURCES[lead].needs, *SOURCES[lead].takes}
        for name in needs:
            if getattr(self, name) is None:
                raise wrong(f'"{lead}" needs "{name}" beside it')
        for name in dict.fromkeys(
            each for source in SOURCES.values() for each in (*source.needs, *source.takes)
        ):
            if name in self.model_fields_set and name not in takes:
                raise wrong(f'"{name}" does not go with "{lead}"')
        if self.from_ is not None and self.to is not None:
            step = 1 if self.step is None else self.step
            if step == 0:
                raise wrong("a step of 0 never arrives; expected a number above 0")
            if (self.to - self.from_) * step < 0:
                way = "a step below 0" if step > 0 else "a step above 0"
                raise wrong(
                    f"from {self.from_} to {self.to} in steps of {step} gives no value; expected {way}"
                )


def _sample_source(value: object) -> object:
    return {"edges": value} if isinstance(value, str) else _axis(value)


def _axis(value: object) -> object:
    if isinstance(value, list):
        if not value:
            raise wrong("this axis has no values; expected at least one")
        return {"values": value}
    if not isinstance(value, dict):
        raise wrong(
            f"expected a list of values or a table such as {{ from = 1, to = 3 }}, found {kind_of(value)}"
        )
    return value


AxisOf = Annotated[
    AxisTable, BeforeValidator(_sample_source, json_schema_input_type=str | list[Scalar] | AxisTable)
]


AxisSource = Annotated[AxisTable, BeforeValidator(_axis, json_schema_input_type=list[Scalar] | AxisTable)]
