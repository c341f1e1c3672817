"""[run] of a project file: what the command does unless its options say otherwise."""

from typing import Annotated

from pydantic import Field

from keen_matrix.core.spec.document.tables import Table


class RunDefaults(Table):
    """Defaults of `keen-matrix run` for all specs of a project."""

    jobs: Annotated[int, Field(ge=1)] | None = Field(None, description="Launches at a time.", examples=[4])
    warm: bool | None = Field(
        None,
        description="Whether Python runs are forked from a preloaded interpreter when their spec does "
        "not say.",
        examples=[True],
    )
    reports: list[str] = Field(
        [], description="Reports that are written, FORMAT=FILE.", examples=[["junit=results.xml"]]
    )
