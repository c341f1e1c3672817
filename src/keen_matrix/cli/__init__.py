"""The command line: one module per command. Only this package reads options, prints and sets exit
statuses."""

from __future__ import annotations

import argparse
import contextlib
import errno
import gc
import io
import itertools
import os
import re
import signal
import sys
import traceback
from collections.abc import Iterator, Mapping, Sequence
from importlib import import_module
from types import ModuleType
from typing import Any, NoReturn

from keen_matrix.cli.faults import exit_status_of, tell, tell_interruption
from keen_matrix.cli.statuses import EXIT_MISUSE, EXIT_NOT_RUN, EXIT_OK
from keen_matrix.core import doing, interruption
from keen_matrix.core.version import VERSION
from keen_matrix.wording.safe import escape

#: Command → what it does. The module of the same name adds its options only when it is called.
COMMANDS = {
    "run": "run every case of the specs, check the results and report",
    "try": "run calls now and show their results; --write adds them to the spec",
    "unfold": "show the cases without running anything",
    "draft": "write a first spec from a program's own parser or help text",
    "settle": "run experiments to fill the gaps in a signature (types, ranges, required options)",
    "fill": "record actual results where a spec says <fill>, or replace expectations that were not met",
    "lint": "read specs only and point out every problem",
    "baseline": "list, show and accept baselines: outputs that later runs are compared with",
    "report": "show a run as grids, or write it as junit, tap, html, markdown, csv, json or a picture",
    "compare": "compare two runs: list the cases that changed their verdict or output, or got slower",
    "replay": "run a case again and show everything about it",
    "history": "list past runs, flaky cases and slow ones, or show the trend of a case",
    "doubt": "find the expectations that would accept a wrong output",
    "suspects": "show what the failed cases have in common",
    "narrow": "shrink a failing call to the smallest one that still fails the same way",
    "places": "show which source lines go with the failures, and which lines no case reaches",
    "coverage": "list the options, values, refusals and combinations that the cases reach, and those "
    "they miss",
    "schema": "print the JSON Schema of specs, for editors, and of what commands write",
    "completion": "print the script that has bash, zsh or fish complete commands, options and ids",
    "demo": "put the sample ferry office in a directory and run it",
}

#: What one is doing → the commands for it, as the help lists them.
GROUPS = {
    "begin": ("try", "draft", "settle", "fill", "demo"),
    "run": ("run", "unfold", "lint", "baseline", "replay"),
    "look at results": ("report", "compare", "history"),
    "think about the spec": ("coverage", "doubt", "suspects", "narrow", "places"),
    "set up": ("schema", "completion"),
}
BEGINNING = """\
There is no spec (*.matrix.toml) in or below this directory. Three ways to begin:

  keen-matrix try -- python3 fare.py Skerry    run one call and look at the result
  keen-matrix draft -- python3 fare.py         write a first spec from the program's own help
  keen-matrix demo                             a sample office with programs and specs

keen-matrix --help lists every command.
"""
#: Objects made before those in circles are looked for: imports and cases leave few, and each look
#: costs start-up.
GARBAGE_THRESHOLD = 120_000
#: Signals that end a command in order: programs are ended, directories removed, what has come so
#: far stays.
ENDING = (signal.SIGINT, signal.SIGTERM, signal.SIGHUP, signal.SIGQUIT)
#: The environment variable that has a fault of our own shown with its traceback.
TRACEBACK = "KEEN_MATRIX_TRACEBACK"

_EPILOG = """\
A first spec, hello.matrix.toml:

  [program]
  launch = "echo"
  [[matrix]]
  name = "greetings"
  line = "hello {name}"
  axes.name = ["Ada", "Ben Ten"]
  expect.stdout = "hello {name}"

Then: keen-matrix run

exit status: 0 everything passed, 1 something failed, 2 wrong usage or a wrong spec, 3 nothing could be run,
4 a budget did not suffice, 130 interrupted
"""


class HelpFormatter(argparse.HelpFormatter):
    """Help that fits the terminal: paragraphs are filled, indented examples keep their lines,
    their remarks go below."""

    def _format_action(self, action: argparse.Action) -> str:
        """Return the commands in groups, by what one is doing; anything else as argparse does."""
        if not isinstance(action, argparse._SubParsersAction):
            return super()._format_action(action)
        by_name = {each.dest: each for each in self._iter_indented_subactions(action)}
        parts = []
        for title, names in GROUPS.items():
            parts.append(f"{'':{self._current_indent}}{title}:\n")
            self._indent()
            parts += [super(HelpFormatter, self)._format_action(by_name[name]) for name in names]
            self._dedent()
        return self._join_parts(parts)

    def _fill_text(self, text: str, width: int, indent: str) -> str:
        return "\n".join(indent + line for line in filled(text, width - len(indent)))


def filled(text: str, width: int) -> Iterator[str]:
    """Yield lines of a help text in which no line but an unbreakable example is longer than
    `width`.

    A line that begins with two spaces is an example: a command, and after two or more spaces a
    remark. Other lines that follow each other are one paragraph; one that begins with `exit
    status:` begins another.
    """
    import textwrap

    lines = text.replace(
        "\nexit status:", "\n\0exit status:"
    ).splitlines()  # a paragraph of its own without an empty line
    for is_example, part in itertools.groupby(lines, lambda line: line.startswith("  ") if line else None):
        block = list(part)
        if is_example is None:
            yield from block
        elif not is_example:
            for paragraph in " ".join(block).split("\0"):
                yield from textwrap.wrap(paragraph, width)
        elif max(map(len, block)) <= width:
            yield from block
        else:
            for line in block:
                command, _, remark = line.strip().partition("  ")
                yield from textwrap.wrap(
                    command, width, initial_indent="  ", subsequent_indent="      ", break_on_hyphens=False
                )
                yield from textwrap.wrap(
                    remark.strip(), width, initial_indent="    ", subsequent_indent="    "
                )


class Parser(argparse.ArgumentParser):
    """A parser whose errors name the nearest right word."""

    commands: Mapping[str, Parser]

    def __init__(self, **settings: Any) -> None:
        super().__init__(formatter_class=HelpFormatter, allow_abbrev=False, **settings)
        self._positionals.title = "operands"

    def take_operands(self, options: argparse.Namespace, words: list[str]) -> list[str]:
        """Add operands that follow options to those before them, which argparse alone takes;
        return what is left."""
        open_ended = next(
            (each for each in self._actions if each.nargs == "*" and not each.option_strings), None
        )
        head, _, behind = _parted(words)
        if open_ended is None or any(word.startswith("-") for word in head):
            return words
        getattr(options, open_ended.dest).extend([*head, *behind])
        return []

    def hint(self, word: str) -> str:
        """Return a question with the option or command most like a wrong word, or nothing when
        none is near."""
        from keen_matrix.core.errors import nearest

        known = re.findall(r"(?<![\w-])--[\w-]+", self.format_help()) if word.startswith("-") else COMMANDS
        name = word.partition("=")[0]
        found = nearest(name, known)
        # Two dashes and an o in common are no likeness.
        if found and name.startswith("--") and nearest(name[2:], [found[2:]]) is None:
            return ""
        return f"; did you mean {found}?" if found else ""

    def error(self, message: str) -> NoReturn:
        """Print the message and where to look, and leave with status 2."""
        text = self._reworded(message)
        where = "" if "--help" in text else f"see {self.prog} --help\n"
        self.exit(EXIT_MISUSE, f"{self.prog}: {text}\n{where}")

    def _reworded(self, message: str) -> str:
        """Return a message of argparse's in our words, with the nearest right word where a wrong
        one was given."""
        from keen_matrix.core.errors import nearest

        about, colon, text = message.removeprefix("argument ").partition(": ")
        if not (message.startswith("argument ") and colon):
            return message.replace("the following arguments are required:", "missing")
        wrong = re.match(r"invalid choice: '(.*?)' \(choose from (.*)\)$", text, re.DOTALL)
        if wrong and about == "COMMAND":
            return f"there is no command {wrong[1]!r}{self.hint(wrong[1]) or ', see keen-matrix --help'}"
        if wrong:
            known = re.findall(r"'(.*?)'", wrong[2])
            found = nearest(wrong[1], known)
            near = f"did you mean {found}? " if found else ""
            return f"{about}: found {wrong[1]!r}; {near}expected {', '.join(known[:-1])} or {known[-1]}"
        other = re.match(r"not allowed with argument (.*)$", text)
        if other:
            return f"{about} does not go together with {other[1]}; give one of them"
        if text == "expected one argument":
            return f"{about} needs a value; {self.prog} --help shows which"
        given = re.match(r"ignored explicit argument (.*)$", text, re.DOTALL)
        if given:
            return f"{about} takes no value, found {given[1]}"
        return f"{about}: {text}"


def module_of(command: str) -> ModuleType:
    """Return the module of a command."""
    # a module cannot be imported by the name of a keyword
    return import_module(f"keen_matrix.cli.{'trying' if command == 'try' else command}")


def build_parser(chosen: str | None = None, *, alone: bool = False) -> Parser:
    """Return the parser; only the chosen command (None: every command) gets its options, since
    they cost imports. `alone` leaves the others out, where their names cannot matter: to make a
    parser for each takes longer than to read the options."""
    parser = Parser(
        prog="keen-matrix",
        description="Describe how a console program is called; Keen Matrix makes the calls, runs them "
        "and checks the results.",
        epilog=_EPILOG,
    )
    parser.add_argument("-V", "--version", action="version", version=f"keen-matrix {VERSION}")
    commands = parser.add_subparsers(dest="command", metavar="COMMAND", title="commands")
    parser.commands = commands.choices
    for name, summary in COMMANDS.items():
        if chosen in (name, None):
            module = module_of(name)
            sub = commands.add_parser(
                name, help=summary, description=f"{summary[0].upper()}{summary[1:]}.", epilog=module.EPILOG
            )
            module.add_options(sub)
        elif not alone:
            commands.add_parser(name, help=summary, add_help=False)
    return parser


def main(words: Sequence[str] | None = None) -> int:
    """Run the command line and return the exit status."""
    if os.name != "posix":
        print(
            "keen-matrix does not run on Windows yet; it needs a POSIX system such as Linux or macOS.",
            file=sys.stderr,
        )
        return EXIT_NOT_RUN
    if "_ARGCOMPLETE" in os.environ:
        from keen_matrix.cli.completing import complete

        chosen = _command_in(os.environ.get("COMP_LINE", ""))
        complete(build_parser(chosen, alone=chosen in COMMANDS))
    gc.set_threshold(GARBAGE_THRESHOLD)
    try:
        _prepare_signals()
        _open_closed_streams()
        return _call(sys.argv[1:] if words is None else list(words))
    except KeyboardInterrupt:
        return _flushed(tell_interruption())
    except SystemExit as leaving:  # argparse's own, for help and wrong usage
        return _flushed(leaving.code if isinstance(leaving.code, int) else EXIT_MISUSE)
    except Exception as error:
        return _broken_off(error)
    finally:
        gc.freeze()  # what goes with the process needs no looking through


def _command_in(line: str) -> str:
    """Return the command that is in a line that is being completed; empty before it is there:
    no other command's options are asked for, and they cost imports."""
    words = line.split()[1:] if line[-1:].isspace() else line.split()[1:-1]
    return next((word for word in words if not word.startswith("-")), "")


def _prepare_signals() -> None:
    """Have signals that end a command interrupt it, and those of children tell of their ends,
    whoever has ignored them."""
    # Whoever starts us may ignore it; then the system reaps our children itself, and their statuses
    # are lost.
    if signal.getsignal(signal.SIGCHLD) is signal.SIG_IGN:
        signal.signal(signal.SIGCHLD, signal.SIG_DFL)
    interruption.hear(ENDING)


def _broken_off(error: Exception) -> int:
    """Tell of what no command expected, and return the exit status."""
    if isinstance(error, BrokenPipeError):
        return _pipe_closed()
    if interruption.is_requested():
        return _flushed(tell_interruption())
    if isinstance(error, OSError):
        return _system_refuses(error)
    return _own_fault(error)


def _system_refuses(error: OSError) -> int:
    """Tell of an error of the system's that no command expected: a full disk, no descriptors, a
    directory that is gone."""
    what = "the output cannot be written" if _is_about_stdout(error) else "the system refuses"
    place = f"{error.filename}: " if isinstance(error.filename, str) and error.filename else ""
    tell(f"{what}: {escape(place)}{error.strerror or error}")
    if TRACEBACK in os.environ:
        traceback.print_exception(error)
    _silence_stdout()
    return EXIT_NOT_RUN


def _is_about_stdout(error: OSError) -> bool:
    """Tell whether an error came of writing our own output: nothing else of ours writes without
    naming a file."""
    return error.filename is None and error.errno in (
        errno.ENOSPC,
        errno.EIO,
        errno.EBADF,
        errno.EFBIG,
        errno.EDQUOT,
    )


def _own_fault(error: Exception) -> int:
    """Tell of a fault of Keen Matrix itself, without the traceback that only its developers can
    read."""
    # The last frame alone goes into the message: it fits a line, and finds the place.
    frames = traceback.extract_tb(error.__traceback__)
    where = f" ({os.path.basename(frames[-1].filename)}:{frames[-1].lineno})" if frames else ""
    text = str(error).splitlines()[0][:200] if str(error) else ""
    tell(
        f"a bug in Keen Matrix itself: {type(error).__name__}: {escape(text)}{where}; please "
        f"report it with what "
        f"{TRACEBACK}=1 shows"
    )
    if TRACEBACK in os.environ:
        traceback.print_exception(error)
    return _flushed(EXIT_NOT_RUN)


def _open_closed_streams() -> None:
    """Have standard streams that we were started without lead to nothing, or files that are opened
    would get their numbers."""
    for fd in range(3):
        try:
            os.fstat(fd)
        except OSError:
            os.open(os.devnull, os.O_RDWR)  # the lowest number that is free
            os.set_inheritable(fd, True)
    if sys.stdin is None:
        sys.stdin = open(0, encoding="utf-8", closefd=False)  # noqa: SIM115 - for as long as we run
    for name, fd in (("stdout", 1), ("stderr", 2)):
        if getattr(sys, name) is None:
            setattr(sys, name, io.TextIOWrapper(io.FileIO(fd, "w", closefd=False), encoding="utf-8"))


def _call(words: list[str]) -> int:
    words = _asked_for_help(_command_first(words))
    chosen = next((word for word in words if not word.startswith("-")), "")
    parser = build_parser(chosen, alone=words[:1] == [chosen] and chosen in COMMANDS)
    behind: list[str] | None = None
    if chosen == "try" and "--" in words:  # they are the vector, whatever they look like
        at = words.index("--")
        words, behind = words[:at], words[at + 1 :]
    # What it does not know is ours to tell, with the nearest right word.
    if meant := _command_of_format(words):
        parser.commands["report"].error(meant)
    options, unknown = parser.parse_known_args(words)
    options.words = behind
    owner = parser.commands.get(chosen, parser)
    unknown = owner.take_operands(options, unknown)
    if unknown:
        more = "; the words of the call go after --" if chosen == "try" and behind is None else ""
        owner.error(unknown_words(unknown, owner) + more)
    if options.command is None:
        if _has_no_spec():
            sys.stderr.write(BEGINNING)
            return EXIT_MISUSE
        parser.print_help(sys.stderr)
        return EXIT_MISUSE
    return _run_command(options)


def _command_first(words: list[str]) -> list[str]:
    """Return the words with the options before the command after it, so that `keen-matrix --color
    never run` is read as it is meant."""
    end = words.index("--") if "--" in words else len(words)
    at = next((at for at, word in enumerate(words[:end]) if word in (*COMMANDS, "help")), 0)
    is_asking = any(word in ("-h", "--help", "-V", "--version") for word in words[:at])
    if not at or is_asking or not words[0].startswith("-"):
        return words
    return [words[at], *words[:at], *words[at + 1 :]]


def _asked_for_help(words: list[str]) -> list[str]:
    """Return the words with `help COMMAND` as the option that asks for it."""
    if words[:1] != ["help"]:
        return words
    return [*words[1:2], "--help"]


def _command_of_format(words: Sequence[str]) -> str:
    """Return the answer to `report html` and `report --html FILE`: the line that was meant; empty
    for anything else."""
    if words[:1] != ["report"] or len(words) < 2 or os.path.exists(words[1]):
        return ""
    from keen_matrix.reports.formats import FORMATS

    format = words[1].removeprefix("--")
    if format not in FORMATS:
        return ""
    file = words[2] if len(words) > 2 else f"report.{'png' if format == 'picture' else format}"
    return f"a report is written with keen-matrix report --format {format} -o {file}"


def _has_no_spec() -> bool:
    """Tell whether no spec is found below the current directory."""
    from keen_matrix.cli.shared import spec_paths
    from keen_matrix.core.errors import Misuse

    try:
        spec_paths([])
    except (Misuse, OSError):
        return True
    return False


def _parted(words: Sequence[str]) -> tuple[Sequence[str], bool, Sequence[str]]:
    """Return the words before `--`, whether it is there, and those after it, which are operands
    (POSIX.1-2017, XBD 12.2, guideline 10)."""
    if "--" not in words:
        return words, False, ()
    at = words.index("--")
    return words[:at], True, words[at + 1 :]


def unknown_words(words: Sequence[str], owner: Parser) -> str:
    """Return the message on words that a command does not take."""
    head, delimiter, behind = _parted(words)
    if delimiter and not head:
        return f"unknown operand {' '.join(behind)}"
    kind = "option" if words[0].startswith("-") else "operand"
    return f"unknown {kind} {' '.join(words)}{owner.hint(words[0]) if kind == 'option' else ''}"


def _run_command(options: argparse.Namespace) -> int:
    try:
        # Every path is taken from there; what comes of one that is gone would be reported in many
        # odd ways.
        os.getcwd()
    except FileNotFoundError:
        tell("the current directory no longer exists; go to another one")
        return EXIT_NOT_RUN
    if sys.stderr.isatty() and os.environ.get("TERM") != "dumb":
        doing.draw_with(_waited)
    try:
        status: int = module_of(options.command).main(options)
        return _flushed(status)
    except Exception as error:
        return exit_status_of(error, options)


def _waited(what: doing.Doing) -> contextlib.AbstractContextManager[None]:
    """Draw what takes a while."""
    from keen_matrix.cli.console.waiting import waiting

    return waiting(what)


def _flushed(status: int) -> int:
    try:
        sys.stdout.flush()
    except BrokenPipeError:
        _pipe_closed()
    except OSError as error:
        tell(f"the output cannot be written: {error.strerror}")
        _silence_stdout()
        return EXIT_NOT_RUN
    return status


def _silence_stdout() -> None:
    """Point standard output at nothing, so that the interpreter's own flush at exit finds no
    closed pipe."""
    with contextlib.suppress(OSError, ValueError):
        nothing = os.open(os.devnull, os.O_WRONLY)
        os.dup2(nothing, sys.stdout.fileno())
        os.close(nothing)


def _pipe_closed() -> int:
    """Whoever read our output has enough of it: that is no error, but nothing more can be said."""
    _silence_stdout()
    return EXIT_OK
