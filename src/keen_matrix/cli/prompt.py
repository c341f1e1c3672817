"""The prompt of `try`: one vector after another, with what the signature says while it is typed.

On a terminal it is a line that is edited, with history and completion; of a pipe each line is taken
as if it were typed."""

from __future__ import annotations

import os
import shlex
import sys
import termios
import tty
from collections.abc import Callable, Iterable, Iterator, Sequence
from contextlib import ExitStack, contextmanager, suppress
from typing import TYPE_CHECKING, NamedTuple

from keen_matrix.cli.calls import call_line, given_lines
from keen_matrix.cli.console.differences import write_difference
from keen_matrix.cli.live import LiveStreams
from keen_matrix.cli.shared import remark, text_of_spec, write_spec
from keen_matrix.core import interruption
from keen_matrix.core.errors import KeenMatrixError, Misuse, nearest
from keen_matrix.core.launch.launchers import resolved_launch
from keen_matrix.core.launch.workers.engine import WorkerPool
from keen_matrix.core.model.lookups import stamp
from keen_matrix.core.model.record import BROKEN, PASSING, Record, StepRecord, end_of
from keen_matrix.core.results.compare import change_of
from keen_matrix.core.results.journal import DIRECTORY
from keen_matrix.core.runs.keeping.calls import Call
from keen_matrix.core.runs.keeping.trying import TriedCase, tried_case, with_vector
from keen_matrix.core.runs.starting.directly import directly, made_ready
from keen_matrix.core.runs.starting.once import used_by
from keen_matrix.core.structs import replace
from keen_matrix.core.width import cells
from keen_matrix.wording.counts import counted, duration
from keen_matrix.wording.safe import cut, escape, pad, shell_line, shortened
from keen_matrix.wording.signs import STYLE_OF, verdict_text

if TYPE_CHECKING:
    from prompt_toolkit import PromptSession
    from prompt_toolkit.completion import Completer
    from prompt_toolkit.document import Document

    from keen_matrix.cli.console.screen import Screen
    from keen_matrix.core.model.spec import Spec

#: Word → what it does. Any other line is a vector, its words split and quoted as in a shell.
COMMANDS = {
    ":none": "run the call without words",
    ":again": "run the last call again",
    ":compare": "show how the last result differs from the one before",
    ":follow": "run what follows from the last call: its refusals and rephrasings",
    ":write": "write the last call and its result into the spec; :write NAME as a matrix of that name",
    ":new": "begin a spec FILE with all calls of this session",
    ":table": "show all calls of this session side by side",
    ":input": "text of standard input for the next calls; :input alone takes it away",
    ":env": "a variable for the next calls, NAME=VALUE; :env alone takes all away",
    ":file": "a copy of a file in the directory of the next calls, NAME or NAME=SOURCE",
    ":undo": "take the last :write back",
    ":why": "show what the spec says about the last call, and all its expectations",
    ":help": "show this",
    ":quit": "end, as Ctrl-D, quit and exit do",
}
HISTORY = os.path.join(DIRECTORY, "tried.history")
#: Lines of a difference between two outcomes.
DIFFERENCE_SHOWN = 40
PROMPT = "try> "
#: Cells of a column of vectors at least, and of what is beside it.
LEAST_COLUMN, ABOUT_COLUMN = 20, 40


class _WrittenCall(NamedTuple):
    """A change of the spec: its text before and after, and the files written beside it."""

    before: str
    after: str
    files: tuple[str, ...]


class _TypedCall(NamedTuple):
    tried: TriedCase
    record: Record
    call: Call


def typed_words(line: str) -> list[str]:
    """Return the words of a line, split and quoted as in a shell, where nothing is expanded.
    Raises Misuse."""
    try:
        return shlex.split(line)
    except ValueError as error:
        raise Misuse(f"cannot split this line into words: {str(error).lower()}") from None


class ProgramWithoutSpec(NamedTuple):
    """A program that has no spec yet: the words that start it, and a spec without matrices."""

    words: tuple[str, ...]
    text: str
    #: Whether it runs where it was typed, and not in a directory of its own.
    in_place: bool


class Prompt:
    """What is tried in one session, on one spec, which is read again when it has changed."""

    def __init__(
        self,
        screen: Screen,
        path: str,
        pool: WorkerPool,
        pools: ExitStack,
        program: ProgramWithoutSpec | None = None,
    ) -> None:
        self.screen, self.path, self._pool, self._pools = screen, path, pool, pools
        self._program = program
        self._text = program.text if program is not None else text_of_spec(path)
        self._stamp = stamp(path)
        self.spec: Spec = tried_case(path, self._text, ()).spec
        self.came: list[_TypedCall] = []
        #: What the next calls get.
        self._given = Call(words=())
        #: What was written, the last at the end.
        self._written: list[_WrittenCall] = []
        #: Whether the last vector did not do as it must.
        self.failed = False

    @property
    def has_no_spec(self) -> bool:
        """Whether the calls are those of a program that has no spec yet."""
        return self._program is not None

    def give_up(self) -> None:
        """Go on after an interruption: what was launched is ended."""
        with interruption.not_now():
            self._pool.close()
        interruption.forget()
        self._pool = self._pools.enter_context(WorkerPool(1))
        self.failed = True
        self.screen.line(("given up", "warn"))

    def do(self, line: str) -> bool:
        """Do what a line says; tell whether to go on. What is wrong with it is reported."""
        line = line.strip()
        if not line:
            return True
        try:
            if line in ("quit", "exit"):
                return False
            if line.startswith(":"):
                return self._command(line)
            self._try(typed_words(line))
        except KeenMatrixError as fault:
            from keen_matrix.core.errors import SpecFault

            self.failed = True
            for text in map(str, fault.problems) if isinstance(fault, SpecFault) else [str(fault)]:
                self.screen.line((text, "warn"))
        return True

    def _command(self, line: str) -> bool:
        word, _, rest = line.partition(" ")
        if word == ":quit":
            return False
        acts: dict[str, Callable[[], None]] = {
            ":none": lambda: self._try([]),
            ":again": lambda: self._try(list(self._last.tried.case.argv)),
            ":compare": self._compare,
            ":follow": self._follow,
            ":write": lambda: self._keep(rest.strip()),
            ":new": lambda: self._begin(rest.strip()),
            ":table": self._table,
            ":input": lambda: self._give(stdin=_line_of(rest)),
            ":env": lambda: self._give_variable(rest.strip()),
            ":file": lambda: self._give_file(rest.strip()),
            ":undo": self._undo,
            ":why": self._why,
            ":help": lambda: _write_help(self.screen),
        }
        if word not in acts:
            near = nearest(word, COMMANDS)
            hint = f"; did you mean {near}?" if near else ""
            raise Misuse(f"there is no {word}{hint or '; :help lists what there is'}")
        acts[word]()
        return True

    @property
    def _last(self) -> _TypedCall:
        if not self.came:
            raise Misuse("nothing was tried yet; type the words of a call")
        return self.came[-1]

    def _tried(self, words: list[str]) -> TriedCase:
        """Return a vector as a case of the spec as it is now."""
        if self._program is None and stamp(self.path) != self._stamp:
            self._text, self._stamp = text_of_spec(self.path), stamp(self.path)
        given = given_lines(self._given, os.path.dirname(os.path.abspath(self.path)))
        tried = tried_case(self.path, self._text, words, given)
        self.spec = tried.spec
        return tried

    def _give(self, **changes: object) -> None:
        """Change what the next calls get, and say what that is."""
        self._given = replace(self._given, **changes)
        shown = call_line(self._given)
        self.screen.line(
            (f"the next calls get  {shown}" if shown else "the next calls get nothing more", "dim")
        )

    def _give_variable(self, text: str) -> None:
        name, equals, value = text.partition("=")
        if text and not (name and equals):
            raise Misuse(f"expected :env NAME=VALUE, found {text!r}")
        others = tuple(each for each in self._given.env if each[0] != name)
        self._give(env=(*others, (name, value)) if text else ())

    def _give_file(self, text: str) -> None:
        name, _, source = text.partition("=")
        if text and not os.path.exists(source or name):
            raise Misuse(f"{source or name} does not exist; :file NAME=SOURCE copies SOURCE to NAME")
        others = tuple(each for each in self._given.files if each[0] != name)
        self._give(files=(*others, (name, source or name)) if text else ())

    def _table(self) -> None:
        from keen_matrix.cli.console.calls import shown_calls, write_calls

        self._last  # noqa: B018 - says that nothing was tried yet
        rows = [(call_line(each.call), each.record) for each in self.came]
        write_calls(self.screen, shown_calls(rows, grouped=False), full=False, words=False)

    def _try(self, words: list[str]) -> None:
        """Launch a vector, show what comes and what is to be said of it."""
        tried = self._tried(words)
        screen = self.screen
        if judgement := judged(self.spec, words):
            screen.line(*judgement)
        live = LiveStreams(screen)
        ready = made_ready(tried.spec, remark)
        self._pool.plan(ready, resolved_launch(ready), live=live.show)
        (result,) = self._pool.results([tried.case])
        record = result.record
        self._write(tried, record, live)
        before = next((each.record for each in reversed(self.came) if each.record.argv == record.argv), None)
        if before is not None:
            change = change_of(before, record)
            told = change[1].difference or f"{change[1].before} → {change[1].after}" if change else ""
            if change:
                screen.line(("  other than before", "warn"), f"   {told}   ", (":compare shows all", "dim"))
            else:
                screen.line(("  as before", "dim"))
        self.came.append(_TypedCall(tried, record, replace(self._given, words=record.argv)))
        self.failed = record.verdict not in (*PASSING, "unchecked")

    def _write(self, tried: TriedCase, record: Record, live: LiveStreams) -> None:
        from keen_matrix.wording.failures import aspects_rows

        screen = self.screen
        if record.steps or not live.has_shown:
            for step in (*record.steps,) or (record,):
                _write_streams(screen, step)
        where = (
            f"{record.id[:6]} of {tried.matrix.name}"
            if tried.is_there
            else "not in the spec; :write writes it"
            if self._program is None
            else ":new FILE begins a spec"
        )
        verdict = "" if record.verdict == "unchecked" else record.verdict
        screen.line(
            "  ",
            (end_of(record), "strong"),
            (f"   {duration(record.seconds)}   ", "dim"),
            *(
                [
                    (screen.sign(verdict), STYLE_OF[verdict]),
                    (f" {verdict_text(verdict)}   ", STYLE_OF[verdict]),
                ]
                if verdict
                else []
            ),
            (where, "dim"),
        )
        for name, change in record.files.items():
            screen.line("  ", ("file        ", "dim"), f"{escape(name)} {change.state}")
        screen.rows(aspects_rows(screen, record, everything=False))

    def _compare(self) -> None:
        if len(self.came) < 2:
            raise Misuse("there is only one result; :again makes another")
        before, after = (_shown_outcome(each.record) for each in self.came[-2:])
        if not write_difference(self.screen, before, after, ("before", "after"), DIFFERENCE_SHOWN):
            self.screen.line(("both did the same", "good"))

    def _follow(self) -> None:
        from keen_matrix.core.runs.following import following, with_following

        last = self._last
        if last.record.verdict not in ("passed", "unchecked", "known"):
            raise Misuse(f"the last call {verdict_text(last.record.verdict)}: nothing can be derived from it")
        spec = last.tried.spec
        cases = following(spec, last.tried.case.argv)
        if not cases:
            raise Misuse("nothing to derive: only calls that the signature accepts can be varied")
        ready = directly(spec)
        self._pool.plan(with_following(ready), resolved_launch(ready))
        records = {each.id: each.record for each in self._pool.results(cases)}
        screen = self.screen
        shown = {case.id: shell_line((case.more or (case.argv,))[-1]) or "(no words)" for case in cases}
        width = min(max(map(cells, shown.values())), max(LEAST_COLUMN, screen.width - ABOUT_COLUMN))
        for case in cases:
            record, words = records[case.id], pad(shortened(shown[case.id], width), width)
            about = " ".join(filter(None, (case.kind, case.culprit)))
            screen.line(
                "  ",
                (screen.sign(record.verdict), STYLE_OF[record.verdict]),
                f" {words}  ",
                (f"{about}   ", "dim"),
                end_of(record),
            )
            if record.verdict not in PASSING:
                first = next(iter((record.stderr or record.stdout or "").splitlines()), "")
                names = ", ".join(dict.fromkeys(each.aspect for each in record.unmet))
                screen.line("      ", (names, "bad"), f"   {cut(first, 90)}")
        passed = sum(each.verdict in PASSING for each in records.values())
        screen.line(
            (f"{passed} of {counted(len(cases), 'case')} passed", "good" if passed == len(cases) else "bad")
        )

    def _begin(self, target: str) -> None:
        """Begin a spec with all calls of this session; of equal ones the last counts."""
        from keen_matrix.cli.calls import beginning_of, head_of
        from keen_matrix.cli.kept import begin_spec
        from keen_matrix.core.runs.keeping.call_rows import CallResult, matrices_of

        if not target:
            raise Misuse(":new needs the name of the spec that it begins: :new fare.matrix.toml")
        latest = {each.call: each for each in self.came if each.record.verdict not in BROKEN}
        if not latest:
            raise Misuse("no call was made yet whose result could be saved")
        results = [CallResult(each.call, each.record) for each in latest.values()]
        more, files, _ = matrices_of(results, os.path.dirname(os.path.abspath(target)), ())
        if self._program is not None:
            program = self._program
            head = beginning_of(program.words, (), target, in_place=program.in_place)
        else:
            head = head_of(self._text)
        begin_spec(self.screen, target, f"{head}\n{more}", files)

    def _keep(self, name: str) -> None:
        from keen_matrix.cli.kept import write_kept

        last = self._last
        if self._program is not None:
            raise Misuse(
                "there is no spec yet to write into; :new FILE begins one with all calls of this session"
            )
        if stamp(self.path) != self._stamp:
            raise Misuse(f"{self.path} was changed since; :again tries it as the spec is now")
        kept = with_vector(self._text, last.tried, last.record, name, last.call)
        before = self._text
        write_kept(self.screen, self.path, before, kept)
        self._text, self._stamp = text_of_spec(self.path), stamp(self.path)
        self._written.append(_WrittenCall(before, self._text, tuple(kept.files)))

    def _undo(self) -> None:
        """Put back the spec as it was before the last :write, and remove the files it wrote."""
        if not self._written:
            raise Misuse("nothing was written in this session")
        last = self._written[-1]
        write_spec(self.path, last.after, last.before)
        self._written.pop()
        directory = os.path.dirname(self.path)
        for name in last.files:
            with suppress(OSError):
                os.unlink(os.path.join(directory, name))
        self._text, self._stamp = text_of_spec(self.path), stamp(self.path)
        self.screen.line((self.path, "place"), " is as before the last :write")

    def _why(self) -> None:
        from keen_matrix.cli.console.why import write_why

        tried = self._last.tried
        write_why(self.screen, tried.spec, tried.matrix, tried.case, brief=not tried.is_there)


def _line_of(rest: str) -> str | None:
    """Return a text of standard input as it is typed: a line, whose newline is added."""
    return f"{rest.strip()}\n" if rest.strip() else None


def _write_help(screen: Screen) -> None:
    screen.line("type the words of a call, quoted as in a shell")
    for word, meaning in COMMANDS.items():
        screen.line("  ", (f"{word:10}", "strong"), meaning)


def judged(spec: Spec, words: list[str]) -> list[tuple[str, str]]:
    """Return what the signature says of a vector, as segments of a line."""
    if spec.signature is None:
        return []
    found = spec.signature.judge(words)
    style = {"accepted": "good", "refused": "bad"}.get(found.status, "warn")
    segments: list[tuple[str, str]] = [(found.status, style)]
    if found.status == "refused":
        told = ", ".join(f"{each.kind} {each.culprit}".strip() for each in found.refusals)
        segments.append((f"  {told}", ""))
    elif found.status == "unspecified" and found.reasons:
        segments.append((f"  {found.reasons[-1]}", "dim"))
    return segments


def _write_streams(screen: Screen, step: Record | StepRecord) -> None:
    for name in ("stdout", "stderr"):
        for line in (getattr(step, name) or "").splitlines()[:DIFFERENCE_SHOWN]:
            screen.line("  ", (f"{name} ", "dim"), (f"{screen.sign('bar')} ", "dim"), escape(line))


def _shown_outcome(record: Record) -> list[str]:
    """Return what a launch did as lines, to be compared."""
    lines = [f"words   {shell_line(record.argv)}", end_of(record)]
    for name in ("stdout", "stderr"):
        lines += [f"{name}  {escape(each)}" for each in (record.compared_stream(name) or "").splitlines()]
    return [*lines, *(f"file    {escape(name)} {each.state}" for name, each in record.files.items())]


def prompt_for_program(screen: Screen, words: Sequence[str], pool: WorkerPool, *, in_place: bool) -> int:
    """Take the calls of a program that has no spec."""
    from keen_matrix.cli.calls import tell_runner
    from keen_matrix.core.runs.keeping.trying import bare_call, typed_program

    started = typed_program(words)
    tell_runner(started)
    program = ProgramWithoutSpec(started.words, bare_call(started, (), in_place=in_place).head, in_place)
    return prompt(screen, "try.matrix.toml", pool, program)


def prompt(screen: Screen, path: str, pool: WorkerPool, program: ProgramWithoutSpec | None = None) -> int:
    """Take vectors until there are no more, and return the exit status: 1 where the last one did
    not do as it must. With a `program` the path is only where a spec of it would be. Raises Misuse
    when standard input has none."""
    with ExitStack() as pools, ExitStack() as stack:
        session = Prompt(screen, path, pool, pools, program)
        if session.spec.program.once is not None:
            beside = stack.enter_context(WorkerPool(1))
            stack.enter_context(used_by(session.spec, beside, remark))
        is_typed = sys.stdin.isatty()
        if is_typed:
            stack.enter_context(_no_echo(sys.stdin.fileno()))
        lines = _typed(session) if is_typed else iter(sys.stdin)
        count = 0
        for line in lines:
            count += 1
            if not is_typed:
                screen.line((f"{PROMPT}{line.strip()}", "strong"))
            try:
                if not session.do(line):
                    break
            except KeyboardInterrupt:
                if not is_typed:
                    raise
                session.give_up()  # the launch, not the session
            screen.line()
            screen.flush()
        if not count and not is_typed:
            raise Misuse(
                "try needs the words of a call after --: keen-matrix try fare.matrix.toml -- Skerry Holm"
            )
        return 1 if session.failed else 0


TYPED_STYLES = {
    "bottom-toolbar": "noreverse",
    "good": "ansigreen",
    "bad": "ansired",
    "warn": "ansiyellow",
    "dim": "ansibrightblack",
}


def _line_editor(session: Prompt) -> PromptSession[str]:
    """Return what reads lines from a terminal: with history, and completion of what is typed."""
    from prompt_toolkit import PromptSession
    from prompt_toolkit.auto_suggest import AutoSuggestFromHistory
    from prompt_toolkit.history import FileHistory, History, InMemoryHistory
    from prompt_toolkit.output import ColorDepth
    from prompt_toolkit.styles import Style

    history: History
    try:
        os.makedirs(DIRECTORY, exist_ok=True)
        history = FileHistory(HISTORY)
    except OSError:
        history = InMemoryHistory()
    return PromptSession(
        history=history,
        completer=_completer(session),
        auto_suggest=AutoSuggestFromHistory(),
        # A menu at every key would hide what the signature says below the line.
        complete_while_typing=False,
        color_depth=None if session.screen.color else ColorDepth.DEPTH_1_BIT,
        style=Style.from_dict(TYPED_STYLES),
    )


def _typed(session: Prompt) -> Iterator[str]:
    """Yield the lines that are typed on a terminal."""
    from prompt_toolkit.formatted_text import FormattedText

    typed = _line_editor(session)

    def below() -> FormattedText:
        text = typed.default_buffer.text.strip()
        if text.startswith(":"):
            meaning = COMMANDS.get(text.split(" ")[0], "")
            return FormattedText([("class:dim", meaning or ", ".join(COMMANDS))])
        try:
            # The line may be half of one: an open quote is no mistake yet, only something to be
            # told.
            words = typed_words(text)
            segments = judged(session.spec, words)
        except KeenMatrixError as fault:
            segments = [(str(fault), "warn")]
        return FormattedText([(f"class:{style}" if style else "", text) for text, style in segments])

    if session.spec.signature is None and not session.has_no_spec:
        session.screen.line(("no [signature] in this spec, so words are not judged", "dim"))
    session.screen.line(
        ("the words of a call, or a command such as :help; Tab completes, Ctrl-D ends", "dim")
    )
    session.screen.flush()
    while True:
        try:
            yield typed.prompt(PROMPT, bottom_toolbar=below)
        except KeyboardInterrupt:  # the line is given up, not the session
            continue
        except EOFError:
            return


@contextmanager
def _no_echo(terminal: int) -> Iterator[None]:
    """Keep the kernel from showing what is typed while no prompt is there to show it.

    The library edits without echo, yet gives it back between two lines. What is typed ahead would
    stand where the next prompt begins, and the library, which takes that for the first column,
    would then draw over the wrong cells."""
    before = termios.tcgetattr(terminal)
    quiet = termios.tcgetattr(terminal)
    quiet[tty.LFLAG] &= ~termios.ECHO
    termios.tcsetattr(terminal, termios.TCSANOW, quiet)
    try:
        yield
    finally:
        termios.tcsetattr(terminal, termios.TCSANOW, before)


def _completer(session: Prompt) -> Completer:
    from prompt_toolkit.completion import CompleteEvent, Completer, Completion

    class Words(Completer):
        """Completes the word before the cursor."""

        def get_completions(self, document: Document, event: CompleteEvent) -> Iterable[Completion]:
            """Yield what the word may become."""
            text = document.text_before_cursor
            if text.startswith(":") and " " not in text:
                found, begun = list(COMMANDS), text
            else:
                begun = text.rpartition(" ")[2]
                found = candidates(session, text[: len(text) - len(begun)].split(), begun)
            for each in found:
                if each.startswith(begun):
                    yield Completion(each, start_position=-len(begun))

    return Words()


def candidates(session: Prompt, before: list[str], begun: str) -> list[str]:
    """Return the words that may follow others: spellings of options, values of the option
    before them or of the next operand, names of files that a case finds, words of earlier
    vectors."""
    signature = session.spec.signature
    earlier = [word for each in session.came for word in each.record.argv]
    if signature is None:
        # Without a signature nothing tells what is taken; what was typed before often fits again.
        return list(dict.fromkeys([*earlier, *_words_of_spec(session)]))
    by_spelling = {
        spelling: option for form in signature.forms for spelling, option in form.by_spelling.items()
    }
    # What may follow is first of all a value of the option in front.
    option = by_spelling.get(before[-1]) if before else None
    if option is not None and option.takes_value and not option.optional_value:
        return _values(session, option.name_of(0))
    name, equals, _ = begun.partition("=")
    if equals and name in by_spelling and by_spelling[name].takes_value:
        return [f"{name}={each}" for each in _values(session, by_spelling[name].name_of(0))]
    if begun.startswith("-"):
        return list(dict.fromkeys([*by_spelling, *signature.help]))
    names = signature.operand_names
    return list(dict.fromkeys([*(value for name in names for value in _values(session, name)), *earlier]))


def _values(session: Prompt, name: str) -> list[str]:
    """Return values of a NAME: its choices, else legal ones, which of a file are those that are
    there."""
    signature = session.spec.signature
    kind = signature.values.get(name) if signature is not None else None
    if kind is None:
        return []
    return list(getattr(kind, "of", ())) or kind.legal()


def _words_of_spec(session: Prompt) -> list[str]:
    found = []
    for matrix in session.spec.matrices:
        for values in matrix.axes.values():
            found += [each for each in values if isinstance(each, str)][:20]
    return found
