"""What a help text tells, in values."""

from __future__ import annotations

from keen_matrix.core.signature.helptext.texts import default_in
from keen_matrix.core.signature.values.base import TypeName
from keen_matrix.core.structs import Struct


class HelpOption(Struct, frozen=True):
    """An option as a help text lists it."""

    spellings: tuple[str, ...]
    values: tuple[str, ...] = ()
    """The NAMEs of its values, as a synopsis writes them: in capitals as they stand, others between
    < and >."""
    optional_value: bool = False
    several: bool = False
    """Whether it takes any number of values at once."""
    text: str = ""
    choices: tuple[str, ...] = ()
    negated: tuple[str, ...] = ()
    """Spellings that switch it off."""
    kind: TypeName | None = None
    """The type of its value, where the help says so by itself (`[number]`, `-n int`)."""
    required: bool = False
    again: bool = False
    """Whether it may be given again."""
    is_range: bool = False
    """Whether its spellings are the first and the last of a range of flags, as in `-0 … -9`."""
    meant: str = ""
    """The NAME of its value in the help, where a draft calls it otherwise."""

    @property
    def default(self) -> str | None:
        """The default that its text tells of."""
        return default_in(self.text)


class HelpOperand(Struct, frozen=True):
    """An operand as a help text lists it."""

    name: str
    """As a synopsis writes it."""
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
    unread: tuple[str, ...] = ()
    """Lines that look like an option and gave none."""
    layout: str = "general"
    """The name of the layout that fits it best."""
    reader: str = ""
    """The reader that prints this layout, where only one does."""
    has_keywords: bool = False
    """Whether a bare word in small letters of its usage lines is typed as it is."""
