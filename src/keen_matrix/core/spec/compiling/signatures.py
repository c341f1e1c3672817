"""The signature of a document, and what follows from it: families, controls, rules of refusals."""

from __future__ import annotations

import contextlib
import os
from collections.abc import Mapping
from typing import TYPE_CHECKING, Any

from keen_matrix.core.errors import RunFault
from keen_matrix.core.expect.aspects import ExitAspect
from keen_matrix.core.expect.exits import ExitExpectation
from keen_matrix.core.expect.tidy import TidyAspect
from keen_matrix.core.expressions import Template, as_text
from keen_matrix.core.model.spec import Bounds, Matrix, RefusalRules, Rule, Stdin, Step
from keen_matrix.core.notation.nodes import Sequence as LineSequence
from keen_matrix.core.oracle import named_functions
from keen_matrix.core.spec.compiling.base import Compiling
from keen_matrix.core.spec.compiling.tables import surroundings_of
from keen_matrix.core.spec.document.expectations import Expectations
from keen_matrix.core.spec.document.whole import SpecDocument
from keen_matrix.core.spec.keys import KeyPath
from keen_matrix.core.structs import replace

if TYPE_CHECKING:
    # at run time only for specs with a signature: a third of what a small run's start would cost
    from keen_matrix.core.signature.signature import Signature
    from keen_matrix.core.signature.values import Existing
    from keen_matrix.core.spec.document.signature import SignatureTable


def compiled_signature(base: Compiling) -> Signature | None:
    """Return the compiled signature; what does not fit together in it is a problem."""
    document = base.document
    table = document.signature
    if table is None:
        return None
    from keen_matrix.core.signature.habits import SWITCH_NAMES
    from keen_matrix.core.signature.model import SignatureFault
    from keen_matrix.core.signature.signature import Signature

    values = {name: _told_value(value) for name, value in table.values.items()}
    fresh = document.program.directory == "fresh"
    switches = {name: value for name in SWITCH_NAMES if (value := getattr(table, name)) is not None}
    try:
        made = Signature.from_synopsis(
            table.synopsis,
            values,
            table.style,
            reader=table.reader,
            help=table.help,
            actions=table.actions,
            aside=table.aside,
            depends_on=table.depends_on,
            tidy=table.tidy,
            only_if=table.only_if,
            refuse=[{"when": each.when, "kind": each.kind} for each in table.refuse],
            **switches,
        )
        if table.example:
            from keen_matrix.core.signature.examples import with_examples

            stated = {each.strip("<>") for each in table.values}
            made = with_examples(_with_files(document, made, fresh), table.example, stated)
    except SignatureFault as fault:
        steps = [each for each in (fault.key, fault.item) if each not in ("", None)]
        path: KeyPath = ("signature", *steps)
        base.problem(path, str(fault), suggestion=fault.suggestion, at_key=True)
        return None
    made = _with_usages(base, table, _with_before(base, table, made))
    return replace(_with_files(document, made, fresh), functions=_functions_for(base, table))


def _keywords(made: Signature) -> set[str]:
    """Return the words that are typed as they are in the usages of a synopsis."""
    from keen_matrix.core.notation.synopsis import Keyword

    return {item.word for line in made.lines for item in line.walk() if isinstance(item, Keyword)}


def _with_usages(base: Compiling, table: SignatureTable, made: Signature) -> Signature:
    """Return a signature with the habits that differ for single usages."""
    if not table.usage:
        return made
    from keen_matrix.core.errors import nearest
    from keen_matrix.core.signature.habits import SWITCH_NAMES
    from keen_matrix.core.signature.model import habits_of_switches

    found = []
    for word, each in table.usage.items():
        if word not in _keywords(made):
            told = f"no usage of the synopsis begins with {word}"
            suggestion = nearest(word, _keywords(made))
            base.problem(("signature", "usage", word), told, suggestion=suggestion, at_key=True)
            continue
        given = {name: value for name in SWITCH_NAMES if (value := getattr(each, name)) is not None}
        # what is open stays as it is for all usages
        settled = {name: one for name, one in habits_of_switches(given).items() if one is not None}
        found.append((word, tuple(settled.items())))
    return replace(made, usage_habits=tuple(found))


def _with_before(base: Compiling, table: SignatureTable, made: Signature) -> Signature:
    """Return a signature with what its usages need first."""
    if not table.before:
        return made
    from keen_matrix.core.errors import nearest
    from keen_matrix.core.signature.examples import example_words

    keywords = _keywords(made)
    found: list[tuple[str, tuple[tuple[str, ...], ...]]] = []
    for number, each in enumerate(table.before):
        path: KeyPath = ("signature", "before", number, "usage")
        if each.usage not in keywords:
            told = f"no usage of the synopsis begins with {each.usage}"
            base.problem(path, told, suggestion=nearest(each.usage, keywords))
            continue
        try:
            found.append((each.usage, tuple(example_words(step.line) for step in each.steps)))
        except ValueError as error:
            base.problem(path, f"a step cannot be split into words: {error}")
    return replace(made, before=tuple(found))


def _with_files(document: SpecDocument, signature: Signature, fresh: bool) -> Signature:
    """Return a signature whose types know the files that are in the directory of each case."""
    from keen_matrix.core.signature.values import Existing

    types = {
        name: replace(value, known=_known_files(document, value, fresh), closed=fresh)
        if isinstance(value, Existing)
        else value
        for name, value in signature.values.items()
    }
    return replace(signature, values=types)


def _told_value(value: Any) -> Mapping[str, object]:
    """Return what a table of a value says, as plain values by key."""
    told = value.model_dump(exclude_unset=True, by_alias=True)
    return {key: _plain(each) for key, each in told.items()}


def _functions_for(base: Compiling, table: Any) -> Mapping[str, Any]:
    """Return the functions of the oracle, where conditions of the signature may call them."""
    oracle = base.document.program.oracle
    if oracle and (table.only_if or table.refuse):
        with contextlib.suppress(RunFault):  # lint tells of it
            return named_functions(os.path.join(base.source.here, oracle))
    return {}


class CompiledSignature:
    """What a signature adds to a spec."""

    def __init__(self, base: Compiling, table: SignatureTable, signature: Signature) -> None:
        self._base, self._table, self._signature = base, table, signature
        self._document = base.document

    def families(self) -> tuple[Matrix, ...]:
        """Return the derived families as matrices, numbered after those of the spec."""
        from keen_matrix.core.signature.kinds import FAMILIES

        names = [name for name in FAMILIES if name in self._table.derive]
        nothing = LineSequence(())
        bounds = Bounds(fresh_directory=self._document.program.directory == "fresh")
        found = []
        for number, name in enumerate(names):
            around = surroundings_of(self._document.program, files=self._document.files)
            if name == "refusals":
                around = replace(around, stdin=Stdin(silent=True))
            step = Step(line=nothing, surroundings=around)
            masks = self._base.masks(self._document.mask, ("mask",))
            found.append(
                Matrix(
                    index=len(self._document.matrix) + number,
                    name=name,
                    line=nothing,
                    line_text="",
                    axes={},
                    steps=(step,),
                    family=name,
                    masks=masks,
                    origin=self._base.place("signature"),
                    bounds=bounds,
                )
            )
        return tuple(found)

    def controls(self) -> Matrix | None:
        """Return what controls are launched as: accepted vectors, numbered after all matrices."""
        nothing = LineSequence(())
        around = surroundings_of(self._document.program, files=self._document.files)
        index = len(self._document.matrix) + len(self._table.derive)
        return Matrix(
            index=index,
            name="controls",
            line=nothing,
            line_text="",
            axes={},
            family="accepted",
            steps=(Step(line=nothing, surroundings=around),),
            origin=self._base.place("signature"),
            bounds=Bounds(fresh_directory=self._document.program.directory == "fresh"),
        )

    def accepted_rules(self) -> tuple[Rule, ...]:
        """Return the rules of accepted vectors; a signature alone promises that they exit 0."""
        rule = self._base.rule(self._document.expect, ("expect",))
        if self._document.expect.model_fields_set:
            return (rule,)
        promise = {"exit": ExitAspect(ExitExpectation(((0, 0),)))}
        return (Rule(when=None, aspects=promise, origins={"exit": self._base.place("signature")}),)

    def refusal_rules(self) -> RefusalRules:
        """Return the rules of refused vectors, with what [refusal] changes of the promise."""
        from keen_matrix.core.expect.refusals import library_promise, refusal_promise

        promise = refusal_promise(self._signature, self._base.place("signature"))
        from keen_matrix.core.spec.document.signature import RefusalTable

        table = self._document.refusal or RefusalTable()
        general = self._base.rule(table, ("refusal",), promise)
        kinds = {
            kind: self._base.rule(each, ("refusal", kind), promise)
            for kind, each in (table.__pydantic_extra__ or {}).items()
            if isinstance(each, Expectations)
        }
        place = self._base.place("signature", "reader")
        library = library_promise(self._signature, place)
        return RefusalRules(promise=promise, library=library, general=general, kinds=kinds)

    def help_rules(self) -> tuple[Rule, ...]:
        """Return the rules of vectors that ask for help."""
        from keen_matrix.core.expect.help import help_rule

        complete, told = self._table.help_complete, self._document.help
        stream = (told.stream if told else None) or self._signature.row.help_stream or ""
        return (help_rule(self._signature, complete, stream, self._base.place("signature")),)

    def tidy_rules(self) -> tuple[Rule, ...]:
        """Return what derived accepted vectors are not to leave behind."""
        place, aspect = self._base.place("signature", "tidy"), TidyAspect(self._signature.tidy)
        return (Rule(when=None, aspects={"tidy": aspect}, origins={"tidy": place}),)


def _plain(value: object) -> object:
    return [as_text(each) for each in value] if isinstance(value, list) else value


def _known_files(document: SpecDocument, value: Existing, fresh: bool) -> frozenset[str]:
    """Return the names that a file or dir value can have: what the spec puts in place, or its
    example beside the spec."""
    if not fresh:
        return frozenset({value.example} if value.example else ())
    known = {name: put for key, put in document.files.items() if (name := Template(key).constant)}
    directories = {name for name, put in known.items() if put.dir}
    directories |= {os.path.dirname(name) for name in known if os.path.dirname(name)}
    return frozenset(directories if value.type == "dir" else set(known) - directories)
