"""A spec put together from several files: those that it includes, and the project file above it.

Tables are laid over each other: first the project file, then the files that are included, in their
order, then the spec. Of a key that several have the last one wins; matrices, masks and known
differences are put after each other. Paths in every file go from the directory of the spec that is
run, as `{here}` does.
"""

from __future__ import annotations

import hashlib
import os
from collections.abc import Iterator

from keen_matrix.core.errors import Problem, SpecFault, nearest
from keen_matrix.core.model.lookups import look
from keen_matrix.core.spec.document.project import RunDefaults
from keen_matrix.core.spec.document.tables import kebab
from keen_matrix.core.spec.keys import TomlTables
from keen_matrix.core.spec.project import PROJECT_FILE, project_paths
from keen_matrix.core.spec.source import JOINED, Layer, Source, read_source

TOOL = ("tool", "keen-matrix")
#: Tables of a project file that are defaults of its specs; `run` is for the command.
PROJECT_TABLES = ("program", "refusal", "expect")
RUN_TABLE = "run"
MOST_FILES = 100


def whole_source(path: str, text: str | None = None) -> Source:
    """Read a spec with everything that it includes and the project file above it. Raises
    SpecFault."""
    own = read_source(path, text)
    layers = [*_project_layers(own), *_included(own, (os.path.realpath(path),))]
    if not layers:
        return own
    for layer in layers:
        look(layer.source.path)
    return _merged(own, [*layers, Layer(own)])


def _merged(own: Source, layers: list[Layer]) -> Source:
    data: TomlTables = {}
    counts = dict.fromkeys(JOINED, 0)
    for layer in layers:
        found = layer.data
        if layer.source is not own:
            found.pop("include", None)
        for name in JOINED:
            items = found.get(name)
            if isinstance(items, list):
                # So that a problem of the third mask can be reported in the file and under the
                # number that its author knows.
                layer.first[name] = counts[name]
                counts[name] += len(items)
        data = _laid_over(data, found, top=True)
    of_spec = [each.data for each in layers if not isinstance(each, ProjectLayer)]
    if "signature" not in data and not any("refusal" in each for each in of_spec):
        data.pop("refusal", None)  # of the project: a default for specs that have a signature
    digest = hashlib.blake2b("".join(each.source.digest for each in layers).encode(), digest_size=16)
    return Source(own.path, own.text, data, digest.hexdigest(), layers)


def _laid_over(below: TomlTables, above: TomlTables, *, top: bool = False) -> TomlTables:
    """Return tables with those of another file laid over them."""
    made = dict(below)
    for key, value in above.items():
        old = made.get(key)
        # Tables are laid over each other key by key; all else is replaced, lists too: nobody can
        # say that a list has one item less.
        if isinstance(old, dict) and isinstance(value, dict):
            made[key] = _laid_over(old, value)
        elif top and key in JOINED and isinstance(old, list) and isinstance(value, list):
            made[key] = [*old, *value]
        else:
            made[key] = value
    return made


def _included(source: Source, chain: tuple[str, ...]) -> Iterator[Layer]:
    """Yield the files that a file includes, each behind those that it includes itself."""
    listed = source.data.get("include", [])
    names = [listed] if isinstance(listed, str) else listed if isinstance(listed, list) else []
    for number, name in enumerate(names):
        key = ("include", number) if isinstance(listed, list) else ("include",)
        if not isinstance(name, str):
            continue  # told when the whole is validated
        path = os.path.normpath(os.path.join(os.path.dirname(source.path), name))
        look(path)
        # By what it really is: two names may lead to one file.
        real = os.path.realpath(path)
        if real in chain:
            shown = " → ".join(os.path.basename(each) for each in (*chain[chain.index(real) :], real))
            raise SpecFault([source.problem(key, f"{name} includes itself: {shown}")])
        if len(chain) > MOST_FILES:
            raise SpecFault([source.problem(key, "files include each other too deep")])
        if not os.path.isfile(path):
            raise SpecFault([_missing(source, key, name, path)])
        found = read_source(path)
        # Those below first, since what includes them has the later word.
        yield from _included(found, (*chain, real))
        yield Layer(found)


def _missing(source: Source, key: tuple[str | int, ...], name: str, path: str) -> Problem:
    directory = os.path.dirname(path) or "."
    try:
        there = [each for each in os.listdir(directory) if each.endswith(".toml")]
    except OSError:
        there = []
    hint = nearest(os.path.basename(name), there)
    near = os.path.join(os.path.dirname(name), hint) if hint else None
    return source.problem(
        key, f"{name} does not exist", expected="a file, from the directory of this one", suggestion=near
    )


def placed(problem: Problem) -> Problem:
    """Return a problem that names a key with the line and column of that key, where its spec can
    still be read."""
    if not problem.key:
        return problem
    try:
        found = whole_source(problem.path).problem(problem.key, problem.message)
    except SpecFault:
        return problem
    return problem.moved(found.path, found.line, found.column, found.excerpt)


# --- the project file ---


def project_file(directory: str) -> Layer | None:
    """Return the project file of a directory (see core.spec.project). Raises SpecFault."""
    for path in project_paths(directory):
        look(path)
        if os.path.isfile(path):
            source = _read(path)
            if os.path.basename(path) == PROJECT_FILE:
                return Layer(source)
            tool = source.data.get("tool")
            if isinstance(tool, dict) and isinstance(tool.get(TOOL[1]), dict):
                return Layer(source, TOOL)
    return None


def _read(path: str) -> Source:
    """Read a project file; it is named from here where it is not far."""
    found = read_source(path)
    near = os.path.relpath(path)
    found.path = near if len(near) < len(path) else path
    return found


def run_defaults(directory: str) -> RunDefaults:
    """Return what the project file of a directory says of runs. Raises SpecFault."""
    found = project_file(directory)
    if found is None:
        return RunDefaults()
    return _validated_run(found)


def _validated_run(found: Layer) -> RunDefaults:
    from pydantic import ValidationError

    try:
        return RunDefaults.model_validate(found.data.get(RUN_TABLE, {}))
    except ValidationError as error:
        known = [kebab(name) for name in RunDefaults.model_fields]
        problems = []
        for each in error.errors(include_url=False):
            path = (*found.prefix, RUN_TABLE, *each["loc"])
            if each["type"] == "extra_forbidden":
                name = str(each["loc"][-1])
                text = f'unknown key "{name}" in [run]'
                near, expected = nearest(name, known), f"one of {', '.join(known)}"
                problems.append(
                    found.source.problem(path, text, at_key=True, suggestion=near, expected=expected)
                )
            else:
                reason = each.get("ctx", {}).get("reason") or each["msg"][:1].lower() + each["msg"][1:]
                problems.append(found.source.problem(path, f"run.{each['loc'][0]}: {reason}"))
        raise SpecFault(problems) from None


def _project_layers(own: Source) -> list[Layer]:
    found = project_file(own.here)
    # A project file may be linted as a spec; it does not stand above itself.
    if found is None or os.path.realpath(found.source.path) == os.path.realpath(own.path):
        return []
    known = (*PROJECT_TABLES, RUN_TABLE)
    problems = [
        found.source.problem(
            (*found.prefix, key),
            f'unknown key "{key}" in a project file',
            at_key=True,
            suggestion=nearest(key, known),
            expected=f"one of {', '.join(known)}",
        )
        for key in found.data
        if key not in known
    ]
    if problems:
        raise SpecFault(problems)
    _validated_run(found)
    return [ProjectLayer(found.source, found.prefix)]


class ProjectLayer(Layer):
    """A project file as a layer of a spec: what it says of runs is left out."""

    @property
    def data(self) -> TomlTables:
        """The tables that are defaults of specs."""
        whole = super().data
        return {key: whole[key] for key in PROJECT_TABLES if key in whole}
