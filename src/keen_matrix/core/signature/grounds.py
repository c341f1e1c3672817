"""Grounds: what experiments with a program's accepted vectors showed, and what derived vectors
stand on.

A derived vector is worth something only when its control, the accepted vector that it was made of
by one change, was seen to work. Where a signature says more than its program does (options that
exclude each other and are not declared so, a value of another type, an option that is required),
the experiments of `runs.grounding` find it out once, and the families keep clear of it.
"""

from __future__ import annotations

from typing import TypeAlias

from keen_matrix.core.structs import Struct

Words: TypeAlias = tuple[str, ...]


class Clash(Struct, frozen=True, kw_only=True):
    """Options that the program refuses though the signature accepts them: several together, or one
    on its own."""

    #: Their keys; none when it is the number of operands.
    options: tuple[str, ...]
    #: The smallest vector in which it was seen.
    words: Words
    #: What the program said.
    answer: str
    #: What would state it in the spec.
    edit: str = ""
    #: The option of which only the value was refused, or which was refused beside others alone:
    #: beside operands, or beside options of which the one that it clashes with was not found.
    about: str = ""


class UsageGrounds(Struct, frozen=True, kw_only=True):
    """What is known of one form of the synopsis."""

    #: Whether any vector of it was accepted.
    works: bool = True
    #: Keys of options that the synopsis calls optional and no case is accepted without.
    required: tuple[str, ...] = ()
    #: NAMEs of operands that the synopsis calls optional and no case is accepted without.
    operands: tuple[str, ...] = ()
    clashes: tuple[Clash, ...] = ()
    #: Keys of options beside which an unknown option was accepted: they end the call by
    #: themselves.
    actions: tuple[str, ...] = ()
    #: NAMEs without a type of their own, and values that were accepted where a word was not.
    values: tuple[tuple[str, str], ...] = ()
    #: NAMEs whose values must not be the same, though the synopsis does not say so.
    unequal: tuple[tuple[str, str], ...] = ()
    #: Whether more operands than the least were refused.
    few_operands: bool = False
    #: What would state in the spec what is required, or why nothing is accepted.
    edit: str = ""

    @property
    def alone(self) -> frozenset[str]:
        """Options that are tried beside nothing else: they are refused by themselves, or end the
        call."""
        refused = (each.options[0] for each in self.clashes if len(each.options) == 1)
        return frozenset([*refused, *self.actions])


class Varying(Struct, frozen=True, kw_only=True):
    """What differs between two launches of one vector."""

    stream: str
    #: A regular expression for what varies; none when the whole stream does.
    pattern: str


class Grounds(Struct, frozen=True, kw_only=True):
    """What is known of the controls of a signature. Without experiments nothing is: every control
    is taken to work."""

    #: One for each form of the synopsis; none when nothing was tried.
    forms: tuple[UsageGrounds, ...] = ()
    #: Controls that the program did not accept, and what it said.
    refused: tuple[tuple[Words, str], ...] = ()
    varying: tuple[Varying, ...] = ()
    #: Vectors at which the program was seen to wait at a prompt, with nothing changed until
    #: then.
    asking: tuple[Words, ...] = ()

    #: Accepted vectors that printed nothing on standard output: where it leads to matters to none
    #: of them.
    silent: tuple[Words, ...] = ()

    #: Subcommands, empty for none, whose accepted vectors showed nothing of the program at work,
    #: and a sentence that says so.
    hollow: tuple[tuple[str, str], ...] = ()

    def form(self, number: int) -> UsageGrounds:
        """Return what is known of a form."""
        return self.forms[number] if number < len(self.forms) else UNTRIED

    def answer(self, control: Words) -> str | None:
        """Return what the program said to a control that it did not accept; None when it worked."""
        return next((answer for words, answer in self.refused if words == control), None)

    @property
    def unequal(self) -> tuple[tuple[str, str], ...]:
        """NAMEs whose values must not be the same, of all forms."""
        return tuple(dict.fromkeys(pair for form in self.forms for pair in form.unequal))

    @property
    def wholly(self) -> frozenset[str]:
        """Streams of which nothing can be compared."""
        return frozenset(each.stream for each in self.varying if not each.pattern)


UNTRIED = UsageGrounds()
NO_GROUNDS = Grounds()
