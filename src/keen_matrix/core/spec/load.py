"""From a file to a compiled spec: reading, validating, compiling, with every problem collected on
the way."""

from __future__ import annotations

import base64
import contextlib
import os
from collections.abc import Iterable, Mapping, Sequence
from dataclasses import replace
from typing import TYPE_CHECKING, Any, Unpack

from pydantic import TypeAdapter, ValidationError

from keen_matrix.core.errors import Problem, RunFault, SpecFault, nearest
from keen_matrix.core.expect.aspects import (
    Aspect,
    CrashAspect,
    ExitAspect,
    FileAspect,
    LeftoversAspect,
    OtherFilesAspect,
    SignalAspect,
    StreamAspect,
)
from keen_matrix.core.expect.exits import ExitExpectation, parse_exit
from keen_matrix.core.expect.forms import forms_of
from keen_matrix.core.expect.limits import DurationAspect, MemoryAspect, parse_limit
from keen_matrix.core.expect.masks import Mask
from keen_matrix.core.expect.tidy import TidyAspect
from keen_matrix.core.expressions import Expression, Template, as_text
from keen_matrix.core.model.quantities import SIZE_UNITS, TIME_UNITS
from keen_matrix.core.model.signals import signal_number
from keen_matrix.core.model.spec import (
    Answer,
    Matrix,
    OtherLaunch,
    Program,
    Put,
    Reference,
    RefusalRules,
    Rule,
    Spec,
    Stdin,
    Step,
    Stop,
    Surroundings,
    Terminal,
)
from keen_matrix.core.notation.nodes import Sequence as LineSequence
from keen_matrix.core.notation.nodes import Word
from keen_matrix.core.notation.parse import parse_line, parse_list, parse_words
from keen_matrix.core.oracle import named_functions
from keen_matrix.core.spec.document.expectations import (
    Expectations,
    MaskTable,
    ReferenceTable,
    RefusalKind,
    RefusalTable,
)
from keen_matrix.core.spec.document.matrix import CheckedMatrix, MatrixTable, StepTable
from keen_matrix.core.spec.document.program import ProgramTable
from keen_matrix.core.spec.document.signature import HelpTable, SignatureTable
from keen_matrix.core.spec.document.surroundings import Around, PutTable, StdinTable
from keen_matrix.core.spec.document.whole import SpecDocument
from keen_matrix.core.spec.keys import KeyPath
from keen_matrix.core.spec.problems import problems_of
from keen_matrix.core.spec.source import Placing, Source, read_source
from keen_matrix.core.vectors.axes import SourceFault, Values, axis_values, read_csv

if (
    TYPE_CHECKING
):  # at run time only for specs with a signature: a third of what a small run's start would cost
    from keen_matrix.core.signature.signature import Signature
    from keen_matrix.core.signature.values import Existing

SUFFIX = ".matrix.toml"


def load_spec(path: str) -> Spec:
    """Return the compiled spec of a file. Raises SpecFault with every problem found, each with its
    place."""
    spec, problems = read_spec(path)
    errors = [problem for problem in problems if problem.severity == "error"]
    if errors or spec is None:
        raise SpecFault(errors)
    return spec


def read_spec(path: str, *, deep: bool = False) -> tuple[Spec | None, list[Problem]]:
    """Return the compiled spec (None when it has errors) and all problems, warnings included, in
    file order.

    `deep` also thinks the matrices through: clashing conditions, values that make no difference,
    sizes.
    """
    try:
        source = read_source(path)
    except SpecFault as fault:
        return None, list(fault.problems)
    problems: list[Problem] = []
    document = _validated(source, problems)
    compiler = Compiler(source)
    spec = compiler.spec(document)
    from keen_matrix.core.spec.lint import cross_checks

    problems += compiler.problems
    problems += cross_checks(source, document, spec, deep=deep and not problems)
    problems = sorted(
        dict.fromkeys(problems), key=lambda problem: (problem.line, problem.column, problem.message)
    )
    failed = any(problem.severity == "error" for problem in problems)
    return (None if failed else spec), problems


def _validated(source: Source, problems: list[Problem]) -> SpecDocument:
    """Return the document, with the parts left out that do not validate; what is wrong with them
    joins `problems`."""
    try:
        return SpecDocument.model_validate(source.data)
    except ValidationError as error:
        problems += problems_of(error, source)
    data = dict(source.data)
    program = _part(ProgramTable, data.get("program")) or ProgramTable.model_construct(launch=["?"])
    expect = _part(Expectations, data.get("expect", {})) or Expectations()
    raw = data.get("matrix")
    matrices = [_part(CheckedMatrix, each) for each in raw] if isinstance(raw, list) else []
    checked = _part(SpecDocument, {"program": {"launch": "true"}, "files": data.get("files", {})})
    return SpecDocument.model_construct(
        program=program,
        expect=expect,
        refusal=_part(RefusalTable, data.get("refusal", {})) or RefusalTable(),
        help=_part(HelpTable, data.get("help", {})) or HelpTable(),
        signature=_part(SignatureTable, data["signature"]) if "signature" in data else None,
        files=checked.files if checked else {},
        mask=[
            each
            for each in (_part(MaskTable, raw) for raw in _listed(data.get("mask")))
            if each is not None
        ],
        reference=_part(ReferenceTable, data["reference"]) if "reference" in data else None,
        matrix=[each if each is not None else _INVALID for each in matrices],
    )


_INVALID = MatrixTable.model_construct(name="", line="", axes={})
"""Stands for a matrix that does not validate, so that the others keep their numbers."""


def _listed(value: object) -> list[object]:
    return value if isinstance(value, list) else []


def _part(model: Any, data: object) -> Any:
    """Return what data of the type `model` (a model or an annotation) validates to; None when it
    does not."""
    try:
        return TypeAdapter(model).validate_python(data)
    except ValidationError:
        return None


class Compiler:
    """Compiles a validated document; collects what can only be seen while doing so."""

    def __init__(self, source: Source) -> None:
        self.source = source
        self.problems: list[Problem] = []
        self.signature: Signature | None = None

    def spec(self, document: SpecDocument) -> Spec:
        """Return the compiled spec."""
        here = self.source.here
        self.signature = self._signature(document, here)
        derived = self._derived(document)
        name = os.path.basename(self.source.path).removesuffix(SUFFIX)
        return Spec(
            path=self.source.path,
            here=here,
            name=name,
            digest=self.source.digest,
            program=self.program(document, here),
            rules=self._accepted_rules(document),
            signature=self.signature,
            controls=self._controls(document),
            refusal=self._refusal_rules(document) if self.signature else None,
            reference=self._reference(document),
            help_rules=self._help_rules(document),
            tidy_rules=self._tidy_rules(),
            matrices=derived
            + tuple(
                self.matrix(index, table, document, here)
                for index, table in enumerate(document.matrix)
                if table is not _INVALID
            ),
        )

    def _place(self, *path: str) -> str:
        return f"{os.path.basename(self.source.path)}:{self.source.line(path)}"

    def _help_rules(self, document: SpecDocument) -> tuple[Rule, ...]:
        if self.signature is None or document.signature is None:
            return ()
        from keen_matrix.core.expect.help import help_rule

        complete, stream = document.signature.help_complete, document.help.stream or ""
        return (help_rule(self.signature, complete, stream, self._place("signature")),)

    def _tidy_rules(self) -> tuple[Rule, ...]:
        """Return what derived accepted vectors are not to leave behind."""
        if self.signature is None:
            return ()
        place, aspect = self._place("signature", "tidy"), TidyAspect(self.signature.tidy)
        return (Rule(when=None, aspects={"tidy": aspect}, origins={"tidy": place}),)

    @staticmethod
    def _reference(document: SpecDocument) -> Reference | None:
        table = document.reference
        if table is None:
            return None
        return Reference(
            launch=launch_templates(table.launch),
            aspects=tuple(table.aspects),
            only_accepted=table.only_accepted,
        )

    def _signature(self, document: SpecDocument, here: str) -> Signature | None:
        """Return the compiled signature; what does not fit together in it is a problem."""
        table = document.signature
        if table is None:
            return None
        from keen_matrix.core.signature.model import SWITCH_NAMES, SignatureFault
        from keen_matrix.core.signature.signature import Signature
        from keen_matrix.core.signature.values import Existing

        values = {
            name: {
                key: _plain(each)
                for key, each in value.model_dump(exclude_unset=True, by_alias=True).items()
            }
            for name, value in table.values.items()
        }
        fresh = document.program.directory == "fresh"
        switches = {
            name: value for name in SWITCH_NAMES if (value := getattr(table, name)) is not None
        }
        try:
            made = Signature.from_synopsis(
                table.synopsis, values, table.style, help=table.help, actions=table.actions,
                depends_on=table.depends_on, tidy=table.tidy, where=table.where,
                refuse=[{"when": each.when, "kind": each.kind} for each in table.refuse], **switches,
            )  # fmt: skip
        except SignatureFault as fault:
            steps = [each for each in (fault.key, fault.item) if each not in ("", None)]
            path: KeyPath = ("signature", *steps)
            self.problems.append(
                self.source.problem(path, str(fault), suggestion=fault.suggestion, at_key=True)
            )
            return None
        types = {
            name: replace(value, known=_known_files(document, value, fresh), closed=fresh)
            if isinstance(value, Existing)
            else value
            for name, value in made.values.items()
        }
        functions: Mapping[str, Any] = {}
        if document.program.oracle and (table.where or table.refuse):
            with contextlib.suppress(RunFault):  # lint tells of it
                functions = named_functions(os.path.join(here, document.program.oracle))
        return replace(made, values=types, functions=functions)

    def _derived(self, document: SpecDocument) -> tuple[Matrix, ...]:
        """Return the derived families as matrices, numbered after those of the spec."""
        if self.signature is None or document.signature is None:
            return ()
        from keen_matrix.core.signature.families import FAMILIES

        names = [name for name in FAMILIES if name in document.signature.derive]
        nothing = LineSequence(())
        found = []
        for number, name in enumerate(names):
            around = surroundings_of(document.program, files=document.files)
            if name == "refusals":
                around = replace(around, stdin=Stdin(silent=True))
            step = Step(line=nothing, surroundings=around)
            masks = self.masks(document.mask, ("mask",))
            found.append(Matrix(index=len(document.matrix) + number, name=name, line=nothing, line_text="", axes={},
                                steps=(step,), family=name, masks=masks, origin=self._place("signature")))  # fmt: skip
        return tuple(found)

    def _controls(self, document: SpecDocument) -> Matrix | None:
        """Return what controls are launched as: accepted vectors, numbered behind all matrices."""
        if self.signature is None or document.signature is None:
            return None
        nothing = LineSequence(())
        around = surroundings_of(document.program, files=document.files)
        index = len(document.matrix) + len(document.signature.derive)
        return Matrix(index=index, name="controls", line=nothing, line_text="", axes={}, family="accepted",
                      steps=(Step(line=nothing, surroundings=around),), origin=self._place("signature"))  # fmt: skip

    def _accepted_rules(self, document: SpecDocument) -> tuple[Rule, ...]:
        """Return the rules of accepted vectors; a signature alone promises that they exit 0."""
        rule = self.rule(document.expect, ("expect",))
        if self.signature is None or document.expect.model_fields_set:
            return (rule,)
        promise = {"exit": ExitAspect(ExitExpectation(((0, 0),)))}
        return (Rule(when=None, aspects=promise, origins={"exit": self._place("signature")}),)

    def _refusal_rules(self, document: SpecDocument) -> RefusalRules:
        from keen_matrix.core.expect.refusals import refusal_promise

        assert self.signature is not None
        promise = refusal_promise(self.signature, self._place("signature"))
        table = document.refusal
        general = self.rule(table, ("refusal",), promise)
        kinds = {
            kind: self.rule(each, ("refusal", kind), promise)
            for kind, each in (table.__pydantic_extra__ or {}).items()
            if isinstance(each, Expectations)
        }
        return RefusalRules(general=(promise, general), kinds=kinds)

    def program(self, document: SpecDocument, here: str) -> Program:
        """Return the program, its launch words still with their fields."""
        table = document.program
        return Program(
            launch=launch_templates(table.launch),
            launchers={name: launch_templates(launch) for name, launch in table.launchers.items()},
            build=launch_templates(table.build) if table.build else (),
            warm=table.warm,
            output_cap=table.output_cap,
            env_from_caller=tuple(table.env_from_caller),
            fresh_directory=table.directory == "fresh",
            oracle=os.path.join(here, table.oracle) if table.oracle else None,
        )

    def rule(self, table: Expectations, path: KeyPath, promise: Rule | None = None) -> Rule:
        """Return one rule with the line of every aspect it names. `promise` is what a [refusal]
        changes."""
        aspects = dict(compiled_aspects(table))
        if promise is not None and isinstance(table, RefusalKind):
            from keen_matrix.core.expect.refusals import blame_aspects

            aspects |= dict(blame_aspects(table, promise))
        when = getattr(table, "when", None)
        shown = os.path.basename(self.source.path)
        return Rule(
            when=Expression(when) if when else None,
            aspects=aspects,
            origins={
                name: f"{shown}:{self.source.line((*path, *_aspect_path(name)))}"
                for name in aspects
            },
        )

    def matrix(self, index: int, table: MatrixTable, document: SpecDocument, here: str) -> Matrix:
        """Return one matrix; an axis or table that cannot be read is a problem and stands empty."""
        path: KeyPath = ("matrix", index)
        columns, rows = self.rows(table, path, here)
        single = isinstance(self.source.data["matrix"][index].get("expect"), dict)
        files = {**document.files, **table.files}
        lines, text = _lines(table)
        steps = [
            Step(
                line=line,
                surroundings=surroundings_of(
                    document.program, table, *([step] if step else []), files=files
                ),
                rules=self._step_rules(step, (*path, "steps", number)) if step else (),
            )
            for number, (line, step) in enumerate(zip(lines, _steps_of(table), strict=True))
        ]
        return Matrix(
            index=index,
            name=table.name,
            line=LineSequence(tuple(item for line in lines for item in line.items), (0, len(text))),
            line_text=text,
            steps=tuple(steps),
            axes={name: self.axis(name, axis, path, here) for name, axis in table.axes.items()},
            columns=columns,
            rows=rows,
            combine=table.combine,
            where=tuple(Expression(text) for text in table.where),
            always=tuple(table.always),
            focus=tuple(
                (tuple(each.axes), 0 if each.strength == "all" else each.strength)
                for each in table.focus
            ),
            seed=table.seed,
            effort=table.effort,
            limit=table.limit,
            rules=tuple(
                self.rule(rule, (*path, "expect") if single else (*path, "expect", number))
                for number, rule in enumerate(table.expect)
            ),
            masks=(*self.masks(document.mask, ("mask",)), *self.masks(table.mask, (*path, "mask"))),
            other=self.other(document, table, path),
            origin=f"{os.path.basename(self.source.path)}:{self.source.line(path)}",
        )

    def masks(self, tables: Sequence[MaskTable], path: KeyPath) -> tuple[Mask, ...]:
        """Return masks with their places."""
        shown = os.path.basename(self.source.path)
        return tuple(
            Mask(
                each.matches,
                each.as_,
                tuple(each.in_),
                f"{shown}:{self.source.line((*path, number))}",
            )
            for number, each in enumerate(tables)
        )

    def other(
        self, document: SpecDocument, table: MatrixTable, path: KeyPath
    ) -> OtherLaunch | None:
        """Return what every case of a matrix is compared with: by the last rule that says so."""
        found: OtherLaunch | None = None
        tables: list[tuple[KeyPath, Expectations]] = [(("expect",), document.expect)]
        single = isinstance(self.source.data["matrix"][path[1]].get("expect"), dict)
        tables += [
            ((*path, "expect") if single else (*path, "expect", n), each)
            for n, each in enumerate(table.expect)
        ]
        for where, rule in tables:
            for name in ("alike", "differs"):
                asked = getattr(rule, name)
                if asked is None:
                    continue
                if getattr(rule, "when", None) or table.steps:
                    what = (
                        "a rule with a condition"
                        if getattr(rule, "when", None)
                        else "a matrix with steps"
                    )
                    self._problem((*where, name), f'"{name}" does not go with {what}')
                elif name == "differs" and asked.line is None:
                    self._problem(
                        (*where, name), '"differs" needs "line", other words that make a difference'
                    )
                else:
                    found = self._other_launch(document, asked, (*where, name))
        return found

    def _other_launch(
        self, document: SpecDocument, asked: Any, where: KeyPath
    ) -> OtherLaunch | None:
        words = None
        if asked.line is not None:
            line = (
                parse_line(asked.line)
                if isinstance(asked.line, str)
                else LineSequence(parse_list(asked.line))
            )
            if not all(isinstance(item, Word) for item in line.items):
                self._problem((*where, "line"), "the line of another launch has no groups; an axis of arrays such as "
                              '[[], ["--bike"]] gives both lines the same choice')  # fmt: skip
                return None
            words = tuple(
                Template("", parts=item.parts) for item in line.items if isinstance(item, Word)
            )
        names = tuple(document.program.launchers)
        if asked.launchers and not names:
            self._problem(where, "the spec has no [program.launchers] to compare")
        for number, name in enumerate(asked.launchers if isinstance(asked.launchers, list) else ()):
            if name not in names:
                self._problem((*where, "launchers", number), f'unknown launcher "{name}"',
                              suggestion=nearest(name, names))  # fmt: skip
        launchers = (
            tuple(asked.launchers)
            if isinstance(asked.launchers, list)
            else names
            if asked.launchers
            else ()
        )
        return OtherLaunch(differs=where[-1] == "differs", launchers=launchers, again=bool(asked.again), words=words,
                           aspects=tuple(asked.aspects), origin=self._place(*map(str, where[:1])))  # fmt: skip

    def _step_rules(self, step: StepTable, path: KeyPath) -> tuple[Rule, ...]:
        return tuple(self.rule(rule, (*path, "expect")) for rule in step.expect)

    def axis(self, name: str, table: Any, path: KeyPath, here: str) -> Values:
        """Return the values of an axis."""
        try:
            return axis_values(table, here, self.signature.values if self.signature else None)
        except SourceFault as fault:
            key = (fault.key,) if fault.key else ()
            self.problems.append(
                self.source.problem((*path, "axes", name, *key), f"axis {name}: {fault}")
            )
            return ("?",)

    def rows(
        self, table: MatrixTable, path: KeyPath, here: str
    ) -> tuple[tuple[str, ...], tuple[tuple[object, ...], ...]]:
        """Return the columns and rows of a matrix, inline or from a CSV file."""
        if table.rows is None:
            if table.columns is not None:
                self._problem((*path, "columns"), '"columns" is given without "rows"')
            return (), ()
        if isinstance(table.rows, str):
            return self._csv_rows(table, path, here)
        if table.columns is None:
            self._problem((*path, "rows"), '"rows" needs "columns", the names of its columns')
            return (), ()
        if len(set(table.columns)) < len(table.columns):
            self._problem((*path, "columns"), "two columns have the same name")
        for number, row in enumerate(table.rows):
            if len(row) != len(table.columns):
                self._problem(
                    (*path, "rows", number),
                    f"this row has {len(row)} values",
                    expected=f"{len(table.columns)}: {', '.join(table.columns)}",
                )
        fitting = [tuple(row) for row in table.rows if len(row) == len(table.columns)]
        return tuple(table.columns), tuple(fitting)

    def _csv_rows(
        self, table: MatrixTable, path: KeyPath, here: str
    ) -> tuple[tuple[str, ...], tuple[tuple[object, ...], ...]]:
        try:
            read = read_csv(os.path.join(here, table.rows), table.rows)
        except SourceFault as fault:
            self._problem((*path, "rows"), str(fault))
            return tuple(table.columns or ()), ()
        if table.columns is None:
            return read.header, read.rows
        for number, column in enumerate(table.columns):
            if column not in read.header:
                self._problem(
                    (*path, "columns", number),
                    f'{table.rows} has no column "{column}"',
                    expected=f"one of {', '.join(read.header)}",
                    suggestion=nearest(column, read.header),
                )
                return (), ()
        picked = [read.header.index(column) for column in table.columns]
        return tuple(table.columns), tuple(
            tuple(row[index] for index in picked) for row in read.rows
        )

    def _problem(self, path: KeyPath, message: str, **more: Unpack[Placing]) -> None:
        self.problems.append(self.source.problem(path, message, **more))


def _steps_of(table: MatrixTable) -> list[StepTable | None]:
    return list(table.steps) if table.steps else [None]


def _lines(table: MatrixTable) -> tuple[list[LineSequence], str]:
    """Return the line of each step, and the text of all, in which the spans of each line are
    right."""
    if table.line is not None and not isinstance(table.line, str):
        return [LineSequence(parse_list(table.line))], ""
    texts = [table.line] if table.line is not None else [step.line for step in table.steps or ()]
    lines, whole = [], ""
    for text in texts:
        if not isinstance(text, str):
            lines.append(LineSequence(parse_list(text)))
            continue
        whole += " ; " if whole else ""
        lines.append(
            parse_line(" " * len(whole) + text)
        )  # white space in front moves the spans to their place
        whole += text
    return lines, whole


def launch_templates(launch: str | Sequence[str]) -> tuple[Template, ...]:
    """Return the words of a launch text or list, their fields still to be filled in. Raises
    NotationFault."""
    words = parse_words(launch) if isinstance(launch, str) else parse_list(list(launch))
    return tuple(Template("", parts=word.parts) for word in words)


def surroundings_of(*tables: Around, files: dict[str, PutTable]) -> Surroundings:
    """Return what surrounds a case: each table's keys laid over those of the tables before it."""

    def last(name: str) -> Any:
        return next(
            (getattr(each, name) for each in reversed(tables) if getattr(each, name) is not None),
            None,
        )

    env = {name: value for table in tables for name, value in table.env.items()}
    terminal, stop, timeout = last("terminal"), last("stop"), last("timeout")
    return Surroundings(
        timeout=10.0 if timeout is None else timeout,
        stdin=_stdin(last("stdin")),
        env=tuple(
            (name, None if value is False else Template(value)) for name, value in env.items()
        ),
        files=tuple((Template(name), _put(each)) for name, each in files.items()),
        terminal=Terminal(
            columns=terminal.columns, rows=terminal.rows, stderr_apart=terminal.stderr == "apart"
        )
        if terminal
        else None,
        dialogue=tuple(
            Answer(prompt=Template(each.prompt), reply=Template(each.reply), within=each.within)
            for each in last("dialogue") or ()
        ),
        stop=Stop(
            signal=signal_number(stop.signal),
            after=stop.after,
            when_stdout=_template(stop.when_stdout),
            when_stderr=_template(stop.when_stderr),
        )
        if stop
        else None,
    )


def _template(text: str | None) -> Template | None:
    return None if text is None else Template(text)


def _stdin(table: StdinTable | None) -> Stdin | None:
    if table is None:
        return None
    commands = (
        table.command
        if isinstance(table.command, list)
        else [table.command]
        if table.command
        else []
    )
    return Stdin(
        text=_template(table.text),
        file=_template(table.file),
        chain=tuple(launch_templates(command) for command in commands),
        closed=bool(table.closed),
    )


def _put(table: PutTable) -> Put:
    return Put(
        text=_template(table.text),
        data=None
        if table.bytes_ is None
        else base64.b64decode(table.bytes_.removeprefix("base64:")),
        copy=_template(table.copy_),
        folder=bool(table.dir),
        link=_template(table.link),
        mode=None if table.mode is None else int(table.mode, 8),
    )


def compiled_aspects(table: Expectations) -> Iterable[tuple[str, Aspect]]:
    """Yield the aspects that a table of expectations names."""
    if table.exit is not None:
        yield "exit", ExitAspect(ExitExpectation(parse_exit(table.exit)))
    if table.signal is not None:
        yield "signal", SignalAspect(signal_number(table.signal))
    if table.stdout is not None:
        yield "stdout", StreamAspect("stdout", forms_of(table.stdout, "stdout"))
    if table.stderr is not None:
        yield "stderr", StreamAspect("stderr", forms_of(table.stderr, "stderr"))
    for name, file in table.files.items():
        link = None if file.link is None else Template(file.link)
        yield f"files.{name}", FileAspect(name, forms_of(file, f"files.{name}"), file.absent, file.mode,
                                          bool(file.unchanged), link)  # fmt: skip
    if table.duration is not None:
        yield "duration", DurationAspect(parse_limit(table.duration, TIME_UNITS))
    if table.memory is not None:
        yield "memory", MemoryAspect(parse_limit(table.memory, SIZE_UNITS))
    if table.other_files is not None:
        named = tuple(table.files)
        yield "other-files", OtherFilesAspect(named, table.other_files == "allowed")
    if table.leftovers is not None:
        yield "leftovers", LeftoversAspect(table.leftovers == "allowed")
    if table.crash is not None:
        yield "crash", CrashAspect(table.crash == "allowed")


def _plain(value: object) -> object:
    return [as_text(each) for each in value] if isinstance(value, list) else value


def _known_files(document: SpecDocument, value: Existing, fresh: bool) -> frozenset[str]:
    """Return the names that a file or dir value can have: what the spec puts in place, or its
    example beside the spec."""
    if not fresh:
        return frozenset({value.example} if value.example else ())
    known = {name: put for key, put in document.files.items() if (name := Template(key).constant)}
    folders = {name for name, put in known.items() if put.dir}
    folders |= {os.path.dirname(name) for name in known if os.path.dirname(name)}
    return frozenset(folders if value.type == "dir" else set(known) - folders)


def _aspect_path(name: str) -> KeyPath:
    head, dot, rest = name.partition(".")
    return (head, rest) if dot else (head,)
