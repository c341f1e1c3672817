"""The compiled spec: plain values that unfolding, launching and checking use. Free of heavy imports, and picklable."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass, field
from typing import TYPE_CHECKING, Any

if TYPE_CHECKING:
    from keen_matrix.core.expect.aspects import Aspect
    from keen_matrix.core.expressions import Expression, Template
    from keen_matrix.core.notation.nodes import Sequence
    from keen_matrix.core.vectors.axes import Values


@dataclass(frozen=True, slots=True, kw_only=True)
class Surroundings:
    """What a case has around its vector."""

    stdin: Template | None = None
    env: tuple[tuple[str, Template], ...] = ()
    files: tuple[tuple[str, Template], ...] = ()


@dataclass(frozen=True, slots=True, kw_only=True)
class Program:
    """How the program under test is started."""

    launch: tuple[Template, ...]
    timeout: float = 10.0
    """Seconds for one launch."""
    env_inherit: tuple[str, ...] = ("PATH",)
    fresh_directory: bool = True
    oracle: str | None = None
    """Absolute path of a Python file whose functions expressions may call."""


@dataclass(frozen=True, slots=True, kw_only=True)
class Rule:
    """Expectations with the condition under which they apply; `origin` is `file:line` of the rule, per aspect."""

    when: Expression | None
    aspects: Mapping[str, Aspect]
    origins: Mapping[str, str]


@dataclass(frozen=True, slots=True, kw_only=True)
class Matrix:
    """One block of a spec that unfolds to vectors."""

    index: int
    name: str
    line: Sequence
    line_text: str
    axes: Mapping[str, Values]
    columns: tuple[str, ...] = ()
    rows: tuple[tuple[Any, ...], ...] = ()
    combine: str | int = "all"
    where: tuple[Expression, ...] = ()
    always: tuple[Mapping[str, Any], ...] = ()
    focus: tuple[tuple[tuple[str, ...], int], ...] = ()
    """Axes with a strength of their own."""
    seed: int = 0
    effort: str = "normal"
    limit: int | None = None
    """The most vectors it may have; None stands for the usual limit."""
    surroundings: Surroundings = field(default_factory=Surroundings)
    """The program's defaults with the matrix's own keys laid over them."""
    rules: tuple[Rule, ...] = ()
    origin: str = ""


@dataclass(frozen=True, slots=True, kw_only=True)
class Spec:
    """A whole spec, ready to unfold and run."""

    path: str
    here: str
    name: str
    digest: str
    program: Program
    rules: tuple[Rule, ...]
    matrices: tuple[Matrix, ...]

    @property
    def seed(self) -> int:
        """The seed of the first matrix that has one of its own, else 0."""
        return next((matrix.seed for matrix in self.matrices if matrix.seed), 0)
