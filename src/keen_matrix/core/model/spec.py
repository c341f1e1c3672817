"""The compiled spec: plain values that unfolding, launching and checking use. Free of heavy
imports, and picklable."""

from __future__ import annotations

import datetime
from collections.abc import Mapping
from typing import TYPE_CHECKING

from keen_matrix.core.structs import Struct, field

if TYPE_CHECKING:
    from keen_matrix.core.covering.search import Effort
    from keen_matrix.core.expect.aspects import Aspect
    from keen_matrix.core.expect.masks import Mask
    from keen_matrix.core.expressions import Expression, Template
    from keen_matrix.core.notation.nodes import Sequence
    from keen_matrix.core.signature.grounds import Grounds
    from keen_matrix.core.signature.signature import Signature
    from keen_matrix.core.vectors.axes import Values


#: How `Surroundings.templates` names those whose value may be a list.
REPLIES = "replies"


class Put(Struct, frozen=True, kw_only=True):
    """Something put in the case's directory: exactly one of text, data, copy, directory, link."""

    text: Template | None = None
    data: bytes | None = None
    copy: Template | None = None
    directory: bool = False
    link: Template | None = None
    mode: int | None = None


class Stdin(Struct, frozen=True, kw_only=True):
    """Standard input: a text, a file, the output of a chain of commands, or none at all."""

    text: Template | None = None
    file: Template | None = None
    chain: tuple[tuple[Template, ...], ...] = ()
    closed: bool = False
    #: Open, with nothing coming: a program that reads it waits.
    silent: bool = False

    @property
    def templates(self) -> tuple[Template, ...]:
        """Every template in it."""
        single = tuple(each for each in (self.text, self.file) if each is not None)
        return (*single, *(word for command in self.chain for word in command))


class Terminal(Struct, frozen=True, kw_only=True):
    """The size of a pseudo-terminal, in cells."""

    columns: int
    rows: int
    stderr_apart: bool = False
    #: Whether standard input is a pipe, as of `printf Ada | fare`.
    stdin_apart: bool = False
    #: Whether typed text is shown, as on a real terminal.
    echo: bool = False


class Reply(Struct, frozen=True, kw_only=True):
    """A prompt to wait for, at most so many seconds, and the reply it gets; or a pattern of
    prompts, and the replies that they get one after another."""

    prompt: Template
    replies: tuple[Template, ...]
    within: float
    #: Whether `replies` may be any number of them, and the prompt is a pattern.
    is_list: bool = False
    #: Whether the program may ask once more than there are replies, and finds the end of its input.
    until_end: bool = False


class Stop(Struct, frozen=True, kw_only=True):
    """When a program gets a signal that ends it: the first of the moments given."""

    #: Its name or number; a template.
    signal: Template
    #: Whether the program alone gets it, or its whole process group.
    alone: bool = False
    after: float | None = None
    when_stdout: Template | None = None
    when_stderr: Template | None = None


class Meanwhile(Struct, frozen=True, kw_only=True):
    """Something that happens while the program runs: after some seconds, or a text that it prints,
    and after what happens before it."""

    after: float | None = None
    text: Template | None = None
    write: tuple[tuple[Template, Put], ...] = ()
    remove: tuple[Template, ...] = ()
    launch: tuple[Template, ...] = ()
    signal: Template | None = None
    alone: bool = False

    @property
    def templates(self) -> tuple[Template, ...]:
        """Every template in it."""
        own = [self.text, self.signal, *self.remove, *self.launch]
        put = [each for name, made in self.write for each in (name, made.text, made.copy, made.link)]
        return tuple(each for each in (*own, *put) if each is not None)


class Surroundings(Struct, frozen=True, kw_only=True):
    """What a case, or a step of it, has around its vector."""

    #: Seconds for one launch.
    timeout: float = 10.0
    #: The directory in which the program starts, from the directory of the case.
    start_in: Template | None = None
    #: Whether standard error goes where standard output goes, in the exact order.
    joined: bool = False
    stdin: Stdin | None = None
    #: None unsets a variable.
    env: tuple[tuple[str, Template | None], ...] = ()
    #: Names and what is put there.
    files: tuple[tuple[Template, Put], ...] = ()
    terminal: Terminal | None = None
    dialogue: tuple[Reply, ...] = ()
    stop: Stop | None = None
    meanwhile: tuple[Meanwhile, ...] = ()

    @property
    def templates(self) -> tuple[tuple[str, Template], ...]:
        """Every template in it, with a name that tells where it stands."""
        found = [(f"env {name}", template) for name, template in self.env if template is not None]
        for name, put in self.files:
            texts = (name, put.text, put.copy, put.link)
            found += [(f"file {name.source}", each) for each in texts if each is not None]
        if self.start_in is not None:
            found.append(("start-in", self.start_in))
        found += [("stdin", each) for each in (self.stdin.templates if self.stdin else ())]
        for answer in self.dialogue:
            kind = REPLIES if answer.is_list else "dialogue"
            found += [("dialogue", answer.prompt), *((kind, each) for each in answer.replies)]
        if self.stop:
            whens = (self.stop.signal, self.stop.when_stdout, self.stop.when_stderr)
            found += [("stop", each) for each in whens if each is not None]
        found += [("meanwhile", each) for one in self.meanwhile for each in one.templates]
        return tuple(found)


class Step(Struct, frozen=True, kw_only=True):
    """One launch of a case: its line, what surrounds it, and the rules it adds to its matrix's."""

    line: Sequence
    surroundings: Surroundings
    rules: tuple[Rule, ...] = ()
    #: Whether it starts another program, whose name is the first word of its line.
    is_other: bool = False


class Once(Struct, frozen=True, kw_only=True):
    """Commands that run once for a whole spec: before its cases, and after them."""

    before: tuple[Template, ...] = ()
    after: tuple[Template, ...] = ()
    #: What the first one prints when it is ready; it runs on then. None where it must end before
    #: anything is launched.
    ready_when: str | None = None
    #: Seconds in which it must be ready, or have ended.
    within: float = 30.0


class Program(Struct, frozen=True, kw_only=True):
    """How the program under test is started."""

    launch: tuple[Template, ...]
    launchers: Mapping[str, tuple[Template, ...]] = field(default_factory=dict)
    build: tuple[Template, ...] = ()
    #: Whether it is forked from a keeper; None where that is found out.
    warm: bool | None = None
    #: "launcher" or "resolved"; empty where that is found out.
    launch_through: str = ""
    #: Bytes kept of each stream.
    output_cap: int = 8 * 1024 * 1024
    env_from_caller: tuple[str, ...] = ("PATH",)
    fresh_directory: bool = True
    once: Once | None = None
    #: The most launches at a time; None leaves it to who runs it.
    jobs: int | None = None
    #: Programs without which no case is launched.
    requires_programs: tuple[str, ...] = ()
    #: Absolute paths of further directories and files that the program is made of.
    sources: tuple[str, ...] = ()
    #: Absolute path of a Python file whose functions expressions may call.
    oracle: str | None = None


class Rule(Struct, frozen=True, kw_only=True):
    """Expectations with the condition under which they apply; `origin` is `file:line` of the rule,
    per aspect."""

    when: Expression | None
    aspects: Mapping[str, Aspect]
    origins: Mapping[str, str]


class OtherLaunch(Struct, frozen=True, kw_only=True):
    """Further launches that each case of a matrix is compared with: alike, or (with other words)
    different."""

    differs: bool = False
    launchers: tuple[str, ...] = ()
    again: bool = False
    words: tuple[Template, ...] | None = None
    #: What stands around them, where that is not what stands around the case.
    surroundings: Surroundings | None = None
    aspects: tuple[str, ...] = ("exit", "stdout", "stderr", "files")
    origin: str = ""


class Reference(Struct, frozen=True, kw_only=True):
    """Another program that every vector is given to as well."""

    launch: tuple[Template, ...]
    aspects: tuple[str, ...]
    only_accepted: bool = False
    any_order: bool = False
    tolerance: tuple[float, float] = (0.0, 0.0)


class Known(Struct, frozen=True, kw_only=True):
    """A difference that is known: of cases whose condition is met, or whose ids begin so."""

    because: Template
    #: The last day on which the failure is excused.
    until: datetime.date | None = None
    when: Expression | None = None
    ids: tuple[str, ...] = ()
    #: Aspects that may differ; none stands for all of them.
    aspects: tuple[str, ...] = ()
    #: The verdict that is known.
    verdict: str = "failed"


class Skip(Struct, frozen=True, kw_only=True):
    """Cases that are not launched, where their condition is met."""

    because: Template
    when: Expression | None = None


class Marks(Struct, frozen=True, kw_only=True):
    """What a matrix says of its cases beside what they must do."""

    note: Template | None = None
    tags: tuple[str, ...] = ()
    known: tuple[Known, ...] = ()
    skips: tuple[Skip, ...] = ()
    #: Programs that must be installed; without them its cases are skipped.
    requires_programs: tuple[str, ...] = ()
    #: Where each of its rows stands, `tickets.csv:7`.
    rows: tuple[str, ...] = ()
    #: Columns that only expectations use, where a cell is left open or empty.
    expected_columns: tuple[str, ...] = ()


class Bounds(Struct, frozen=True, kw_only=True):
    """How many vectors a matrix may have, and how many of them may be launched at a time, and
    where."""

    #: The most vectors; None stands for the usual limit.
    limit: int | None = None
    #: The most launches at a time; None leaves it to the program, or to who runs it.
    jobs: int | None = None
    #: Whether each case has a directory of its own.
    fresh_directory: bool = True


class Matrix(Struct, frozen=True, kw_only=True):
    """One block of a spec that unfolds to vectors."""

    index: int
    name: str
    #: The line, or the lines of all steps one after another: what its axes and groups stand in.
    line: Sequence
    line_text: str
    axes: Mapping[str, Values]
    columns: tuple[str, ...] = ()
    rows: tuple[tuple[object, ...], ...] = ()
    combine: str | int = "all"
    only_if: tuple[Expression, ...] = ()
    always: tuple[Mapping[str, object], ...] = ()
    #: Axes with a strength of their own.
    denser: tuple[tuple[tuple[str, ...], int], ...] = ()
    seed: int = 0
    effort: Effort = "normal"
    #: The launches of each case; a matrix with a line has one step.
    steps: tuple[Step, ...] = ()
    rules: tuple[Rule, ...] = ()
    #: Those of the spec and its own.
    masks: tuple[Mask, ...] = ()
    #: What every case is compared with.
    other: OtherLaunch | None = None
    marks: Marks = Marks()
    bounds: Bounds = Bounds()
    origin: str = ""
    #: The derived family that this is; empty for a matrix that a spec writes out.
    family: str = ""

    @property
    def surroundings(self) -> tuple[Surroundings, ...]:
        """What stands around each launch: of every step, and of what it is compared with."""
        other = self.other.surroundings if self.other is not None else None
        return (*(step.surroundings for step in self.steps), *([other] if other is not None else ()))


class RefusalRules(Struct, frozen=True, kw_only=True):
    """The rules for vectors that the signature refuses: the promise that is made by default,
    [refusal], [refusal.KIND]."""

    #: What every refusal promises.
    promise: Rule
    #: What the reader's library promises of those that it makes itself; null where it is not
    #: known.
    library: Rule | None
    #: What [refusal] says.
    general: Rule
    kinds: Mapping[str, Rule]


class Parts(Struct, frozen=True, kw_only=True):
    """What the text of a spec says apart from its vectors, as digests: where one is as before,
    cases with the same words and values have the same expectations and surroundings."""

    #: Of all that holds for every matrix.
    common: str = ""
    #: Of each matrix that is written out, by its index.
    matrices: Mapping[int, str] = field(default_factory=dict)
    #: Absolute paths of files that only rows and axes read: what is in them is in the cases.
    tables: tuple[str, ...] = ()


class Spec(Struct, frozen=True, kw_only=True):
    """A whole spec, ready to unfold and run."""

    path: str
    here: str
    name: str
    digest: str
    program: Program
    rules: tuple[Rule, ...]
    #: The derived families first, then the matrices of the spec.
    matrices: tuple[Matrix, ...]
    signature: Signature | None = None
    #: Where its synopsis stands, `fare.matrix.toml:5`.
    signature_origin: str = ""
    refusal: RefusalRules | None = None
    reference: Reference | None = None
    #: Differences that are known of cases of any matrix, by ids.
    known: tuple[Known, ...] = ()
    #: What controls of derived vectors are launched as; none without a signature.
    controls: Matrix | None = None
    #: What is known of them; null while nothing is.
    grounds: Grounds | None = None
    #: What accepted derived vectors are not to leave behind, beside [expect].
    tidy_rules: tuple[Rule, ...] = ()
    #: What a derived vector that asks for help must do, instead of [expect].
    help_rules: tuple[Rule, ...] = ()
    parts: Parts = Parts()

    def most_jobs(self, matrix: Matrix) -> int | None:
        """Return how many launches of a matrix may run at a time; None where nothing limits them.
        Those that share a directory run one by one."""
        limits = [each for each in (self.program.jobs, matrix.bounds.jobs) if each is not None]
        return 1 if not matrix.bounds.fresh_directory else min(limits, default=None)

    @property
    def least_jobs(self) -> int | None:
        """How many launches may run at a time whatever matrices they are of; None where nothing
        limits them."""
        limits = [self.most_jobs(each) for each in self.matrices]
        return min([each for each in limits if each is not None], default=self.program.jobs)

    @property
    def seed(self) -> int:
        """The seed of the first matrix that has one of its own, else 0."""
        return next((matrix.seed for matrix in self.matrices if matrix.seed), 0)
