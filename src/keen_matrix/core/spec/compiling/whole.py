"""A document as a whole: the spec that it comes to."""

from __future__ import annotations

import os

from keen_matrix.core.errors import Problem
from keen_matrix.core.files import SUFFIX
from keen_matrix.core.model.spec import Matrix, Once, Program, Reference, Spec
from keen_matrix.core.spec.compiling.base import Compiling
from keen_matrix.core.spec.compiling.matrices import MatrixCompiler
from keen_matrix.core.spec.compiling.parts import parts_of
from keen_matrix.core.spec.compiling.signatures import CompiledSignature, compiled_signature
from keen_matrix.core.spec.compiling.tables import known_of, launch_templates
from keen_matrix.core.spec.document.matrix import MatrixTable
from keen_matrix.core.spec.document.program import ProgramTable
from keen_matrix.core.spec.document.whole import SpecDocument
from keen_matrix.core.spec.source import Source

#: Stands for a matrix that does not validate, so that the others keep their numbers.
INVALID = MatrixTable.model_construct(name="", line="", axes={})


def compiled(source: Source, document: SpecDocument) -> tuple[Spec, list[Problem]]:
    """Return the compiled spec of a validated document, and the problems that were only seen
    while compiling it."""
    base = Compiling(source, document)
    signature = compiled_signature(base)
    table = document.signature
    more = None
    if table is not None and signature is not None:
        more = CompiledSignature(base, table, signature)
    compiler = MatrixCompiler(base, signature)
    families: tuple[Matrix, ...] = () if more is None else more.families()
    own = tuple(
        compiler.matrix(index, table) for index, table in enumerate(document.matrix) if table is not INVALID
    )
    spec = Spec(
        path=source.path,
        here=source.here,
        name=os.path.basename(source.path).removesuffix(SUFFIX),
        digest=source.digest,
        program=_program(document, source.here),
        rules=(base.rule(document.expect, ("expect",)),) if more is None else more.accepted_rules(),
        signature=signature,
        signature_origin="" if signature is None else base.place("signature", "synopsis"),
        controls=None if more is None else more.controls(),
        refusal=None if more is None else more.refusal_rules(),
        reference=_reference(document),
        known=tuple(known_of(each, ids=tuple(each.ids)) for each in document.known),
        help_rules=() if more is None else more.help_rules(),
        tidy_rules=() if more is None else more.tidy_rules(),
        matrices=families + own,
        parts=parts_of(source),
    )
    return spec, base.problems


def _program(document: SpecDocument, here: str) -> Program:
    """Return the program, its launch words still with their fields."""
    table = document.program
    return Program(
        launch=launch_templates(table.launch),
        launchers={name: launch_templates(launch) for name, launch in table.launchers.items()},
        build=launch_templates(table.build) if table.build else (),
        warm=table.warm,
        launch_through=table.launch_through or "",
        output_cap=table.output_cap,
        env_from_caller=tuple(table.env_from_caller),
        fresh_directory=table.directory == "fresh",
        once=_once(table),
        jobs=table.jobs,
        requires_programs=tuple(table.requires_programs),
        sources=tuple(os.path.normpath(os.path.join(here, each)) for each in table.sources),
        oracle=os.path.join(here, table.oracle) if table.oracle else None,
    )


def _once(table: ProgramTable) -> Once | None:
    if table.once_before is None and table.once_after is None:
        return None
    return Once(
        before=launch_templates(table.once_before) if table.once_before else (),
        after=launch_templates(table.once_after) if table.once_after else (),
        ready_when=table.ready_when,
        within=table.ready_within,
    )


def _reference(document: SpecDocument) -> Reference | None:
    table = document.reference
    if table is None:
        return None
    return Reference(
        launch=launch_templates(table.launch),
        aspects=tuple(table.aspects),
        only_accepted=table.only_accepted,
        any_order=table.any_order,
        tolerance=(table.tolerance.absolute, table.tolerance.relative) if table.tolerance else (0.0, 0.0),
    )
