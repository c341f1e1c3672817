"""[program]: what is launched and how."""

from __future__ import annotations

from typing import Annotated, Any

from pydantic import (
    BeforeValidator,
    Field,
    WithJsonSchema,
)

from keen_matrix.core.spec.document.marks import Needs
from keen_matrix.core.spec.document.surroundings import Around, Directory, Jobs, Launch, read_size


class ProgramTable(Around):
    """The console program under test."""

    launch: Launch = Field(
        description="The words before every vector; {here} is the folder of this spec.",
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
        description="Variables taken over from the environment of Keen Matrix.",
        examples=[["PATH", "LANG"]],
    )
    jobs: Jobs | None = None
    directory: Directory = Field(
        "fresh",
        description="Where a case runs: in an empty directory of its own or in the spec's folder.",
        examples=["fresh"],
    )
    warm: bool = Field(
        False,
        description="Whether a Python program is forked from a keeper instead of started anew.",
        examples=[True],
    )
    output_cap: Annotated[
        Any, BeforeValidator(read_size), WithJsonSchema({"type": ["string", "integer"]})
    ] = Field(
        8 * 1024 * 1024,
        description="How much of each stream is kept; a program that prints more is ended.",
        examples=["8 MiB"],
    )
    needs: Needs = []
    oracle: str | None = Field(
        None,
        description="A Python file beside the spec whose functions expressions may call.",
        examples=["oracle.py"],
    )


# --- values ---
