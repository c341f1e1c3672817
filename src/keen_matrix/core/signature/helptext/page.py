"""What a help text tells, in values."""

from __future__ import annotations

from keen_matrix.core.signature.helptext.texts import default_in
from keen_matrix.core.signature.values.base import TypeName
from keen_matrix.core.structs import Struct


class HelpOption(Struct, frozen=True):
    """An option as a help text lists it."""

    spellings: tuple[str, ...]
    #: The NAMEs of its values, as a synopsis writes them: in capitals as they stand, others between
    #: < and >.
    values: tuple[str, ...] = ()
    optional_value: bool = False
    #: Whether it takes any number of values at once.
    several: bool = False
    text: str = ""
    choices: tuple[str, ...] = ()
    #: Spellings that switch it off.
    negated: tuple[str, ...] = ()
    #: The type of its value, where the help says so on its own (`[number]`, `-n int`).
    kind: TypeName | None = None
    required: bool = False
    #: Whether it may be given again.
    again: bool = False
    #: Whether its spellings are the first and the last of a range of flags, as in `-0 … -9`.
    is_range: bool = False
    #: The NAME of its value in the help, where a draft calls it otherwise.
    meant: str = ""

    @property
    def default(self) -> str | None:
        """The default that its text tells of."""
        return default_in(self.text)


class HelpOperand(Struct, frozen=True):
    """An operand as a help text lists it."""

    #: As a synopsis writes it.
    name: str
    text: str = ""
    choices: tuple[str, ...] = ()
    kind: TypeName | None = None


class HelpCommand(Struct, frozen=True):
    """A subcommand as a help text lists it."""

    name: str
    text: str = ""


class HelpText(Struct, frozen=True):
    """What a help text tells: usage lines (the program's name in front), options, operands,
    subcommands."""

    usages: tuple[str, ...]
    options: tuple[HelpOption, ...]
    operands: tuple[HelpOperand, ...]
    commands: tuple[HelpCommand, ...] = ()
    #: Lines that look like an option and gave none.
    unread: tuple[str, ...] = ()
    #: The name of the layout that fits it best.
    layout: str = "general"
    #: The reader that prints this layout, where only one does.
    reader: str = ""
    #: Whether a bare word in small letters of its usage lines is typed as it is.
    has_keywords: bool = False
    #: Words that usage lines begin with and that are typed as they are.
    keywords: frozenset[str] = frozenset()
