"""What a spec launches, and what stands around its vectors: its script, its language, a file and
standard input for it."""

from __future__ import annotations

from collections.abc import Sequence

from keen_matrix.core.experiments.edits import Edit, KeyEdit, edited
from keen_matrix.core.expressions import Scope, Template
from keen_matrix.core.insight.settling.lab import Lab
from keen_matrix.core.model.spec import Matrix, Put
from keen_matrix.core.runs.starting.scripts import language_of, text_of_script
from keen_matrix.core.signature.readers import Runtime
from keen_matrix.core.signature.sources.beside import directories_of_program, program_names
from keen_matrix.core.signature.sources.manuals import manual_of
from keen_matrix.core.spec.drafted import SAMPLE_FILE, SAMPLE_LINES


def has_sample(lab: Lab) -> bool:
    """Tell whether a file stands ready for the program to read."""
    return any(name.constant == SAMPLE_FILE for name, _ in _around(lab.spec.controls))


def with_sample(lab: Lab, content: str = "") -> Lab:
    """Return a lab in which a file stands ready for the program to read, with a content where
    that is given."""
    if not content and has_sample(lab):
        return lab
    return with_edit(lab, KeyEdit(("files", SAMPLE_FILE), content or SAMPLE_LINES))


def has_input(lab: Lab) -> bool:
    """Tell whether the spec says what stands on standard input."""
    controls = lab.spec.controls
    return controls is not None and controls.steps[0].surroundings.stdin is not None


def with_edit(lab: Lab, edit: KeyEdit) -> Lab:
    """Return a lab with a spec that says something else; its launches count as well."""
    return with_edits(lab, [edit])


def with_edits(lab: Lab, edits: Sequence[Edit]) -> Lab:
    """Return a lab with a spec in which edits are made; its launches count as well."""
    text = edited(lab.text, edits)
    other = Lab(lab.path, text, lab.pool, lab.watch, lab.limit, lab.launch)
    other.is_given = lab.is_given
    other.experiments.go_on(lab.experiments)
    return other


def script_of(lab: Lab) -> str:
    """Return the program's own text, where it is a script; else an empty one."""
    scope = Scope({"here": lab.spec.here})
    launch = [str(each.render(scope)) for each in lab.spec.program.launch]
    return text_of_script([lab.launch.file, *launch])


def language_of_program(lab: Lab) -> Runtime:
    """Return what the program is run by."""
    return language_of(lab.launch.file, lab.launch.words)


def _around(controls: Matrix | None) -> tuple[tuple[Template, Put], ...]:
    """Return the files that vectors have around them."""
    return () if controls is None else controls.steps[0].surroundings.files


def own_texts(lab: Lab) -> str:
    """Return what the program says of itself: its help and its manual page."""
    names = program_names(lab.launch.words)
    manual = manual_of(names[0], directories_of_program(lab.launch.words)) if names else ""
    record = lab.answer(lab.signature.help[:1]).record if lab.signature.help else None
    printed = "" if record is None else f"{record.stdout or ''}\n{record.stderr or ''}"
    return f"{printed}\n{manual}"
