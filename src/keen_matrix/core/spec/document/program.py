"""[program]: what is launched and how."""

from __future__ import annotations

from typing import Annotated, Any, Literal

from pydantic import BeforeValidator, Field, WithJsonSchema, model_validator

from keen_matrix.core.spec.document.base import wrong
from keen_matrix.core.spec.document.marks import RequiredPrograms
from keen_matrix.core.spec.document.surroundings import (
    MOST_AT_A_TIME,
    Around,
    Directory,
    Launch,
    read_seconds,
    read_size,
)


class ProgramTable(Around):
    """The console program under test."""

    @model_validator(mode="after")
    def _ready_of_something(self) -> ProgramTable:
        if self.ready_when is not None and self.once_before is None:
            raise wrong("ready-when is given without once-before, which prints it")
        return self

    launch: Launch = Field(
        description="The words that start the program; {here} is the directory of this spec.",
        examples=["python3 {here}/fare.py"],
    )
    launchers: dict[str, Launch] = Field(
        {},
        description="Other ways to start the same program.",
        examples=[{"isolated": "python3 -S {here}/fare.py"}],
    )
    build: Launch | None = Field(
        None,
        description="A command run once, before anything else; unless it exits 0 nothing is run.",
        examples=["make -C {here}"],
    )
    env_from_caller: list[str] = Field(
        ["PATH"],
        description="Variables passed on from the environment of Keen Matrix.",
        examples=[["PATH", "LANG"]],
    )
    once_before: Launch | None = Field(
        None,
        description="A command run once before the cases of this spec: a database to fill, "
        "a server to start.",
        examples=["python3 {here}/harbour.py --port 4711"],
    )
    ready_when: Annotated[str, Field(min_length=1)] | None = Field(
        None,
        description="What once-before prints when it is ready; it then keeps running and is ended "
        "after the last case.",
        examples=["listening"],
    )
    ready_within: Annotated[
        float, BeforeValidator(read_seconds, json_schema_input_type=float | str), Field(gt=0, le=86_400)
    ] = Field(
        30.0, description="How long once-before may take until it is ready, or has ended.", examples=["30 s"]
    )
    once_after: Launch | None = Field(
        None,
        description="A command run once after the cases of this spec, however they ended.",
        examples=["rm -r {here}/store"],
    )
    jobs: Annotated[int, Field(ge=1)] | None = Field(None, description=MOST_AT_A_TIME, examples=[1])
    directory: Directory = Field(
        "fresh",
        description="Where a case runs: in an empty directory of its own or in the spec's directory.",
        examples=["fresh"],
    )
    warm: bool | None = Field(
        None,
        description="Whether each Python run is forked from a preloaded interpreter; by default "
        "automatic, after a sample of the cases gave the same results both ways.",
        examples=[True],
    )
    launch_through: Literal["launcher", "resolved"] | None = Field(
        None,
        description="Whether each case is started by the launcher, or directly by what that starts (the python3 of a "
        "version manager is a script that starts another). By default directly if the script of a "
        "version manager sets no variables.",
        examples=["resolved"],
    )
    output_cap: Annotated[
        Any, BeforeValidator(read_size), WithJsonSchema({"type": ["string", "integer"]})
    ] = Field(
        8 * 1024 * 1024,
        description="How much of each stream is recorded; a program that prints more is ended.",
        examples=["8 MiB"],
    )
    sources: list[str] = Field(
        [],
        description="Directories and files that the program and the data of its cases are made of: "
        "run --changed and run --watch look at these, instead of the directories of the spec and the "
        "program.",
        examples=[["../src"]],
    )
    requires_programs: RequiredPrograms = []
    oracle: str | None = Field(
        None,
        description="A Python file beside the spec whose functions expressions may call.",
        examples=["oracle.py"],
    )


# --- values ---
