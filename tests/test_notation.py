"""Words, fields and groups."""

from __future__ import annotations

import shlex
from string import ascii_letters

import pytest
from hypothesis import given
from hypothesis import strategies as st

from keen_matrix.core.errors import ExpressionFault, NotationFault
from keen_matrix.core.expressions import Expression, Scope, Template
from keen_matrix.core.notation.parse import parse_line, parse_words
from keen_matrix.core.notation.synopsis import parse_synopsis

WORDS = [
    ("a b", ["a", "b"]),
    ("  a\tb\n", ["a", "b"]),
    ("'a b' c", ["a b", "c"]),
    ('"a b"c', ["a bc"]),
    ("a''b ''", ["ab", ""]),
    (r"a\ b \[ \|", ["a b", "[", "|"]),
    (r"'a\b' \\", [r"a\b", "\\"]),
    (r'"a\"b\\c\d"', [r'a"b\c\d']),
    ("{{x}} '{{'", ["{x}", "{"]),
    ("[a] (b|c)", ["[a]", "(b|c)"]),
    ("", []),
]


@pytest.mark.parametrize(("text", "words"), WORDS, ids=[text for text, _ in WORDS])
def test_words_split_as_the_word_rules_say(text: str, words: list[str]) -> None:
    assert [word.literal for word in parse_words(text)] == words


@given(st.lists(st.text(ascii_letters + " '\"\\*$|[]é", min_size=0), min_size=1))
def test_what_a_shell_quotes_reads_back_the_same(words: list[str]) -> None:
    assert [word.literal for word in parse_words(shlex.join(words))] == words


FAULTS = [
    ("a [b", 'this "[" is never closed; expected "]"', 2),
    ("a b]", 'this "]" closes nothing; quote it to get it literally', 3),
    ("a | b", '"|" is outside a group; put the alternatives in [ ] or ( ), or quote it', 2),
    ("[a|]", "this alternative is empty", 2),
    ("[]", "this alternative is empty", 0),
    ("(a]", 'expected ")" here, found "]"', 2),
    ("a 'b", "this quote is never closed; expected '", 2),
    ("{a", 'this "{" is never closed; expected "}"', 0),
    ("a}", 'this "}" closes nothing; write "}}" to get it literally', 1),
    ("{}", 'expected an expression in "{ }"', 0),
    ("{a!x}", 'expected "r", "s" or "a" after "!"', 3),
    ("a\\", "a backslash at the end escapes nothing", 1),
    ("[" * 300 + "a" + "]" * 300, "groups are nested more than 256 deep", 257),
]


@pytest.mark.parametrize(("text", "message", "at"), FAULTS, ids=[text[:12] for text, *_ in FAULTS])
def test_a_fault_says_what_and_where(text: str, message: str, at: int) -> None:
    with pytest.raises(NotationFault) as caught:
        parse_line(text)
    assert (caught.value.message, caught.value.offset) == (message, at)
    assert str(caught.value).splitlines()[-1].endswith("^")


def test_two_hundred_groups_deep_is_no_fault() -> None:
    assert len(parse_line("[a " * 200 + "]" * 200).items) == 1


NAMES = {"x": 3, "name": "Ada", "flag": True, "none": None, "list": ["a b", "c"], "price": 4.5}
RENDERED = [
    ("{x}", "3"), ("{name:>5}|", "  Ada|"), ("{price:.2f}", "4.50"), ("{name!r}", "'Ada'"), ("{flag}", "true"),
    ("{none}", ""), ("{{{x}}}", "{3}"), ("{x if flag else 'a}b'}", "3"), ("{list[0]}", "a b"), ("{x != 3}", "false"),
    ("{'a:b'}", "a:b"), ("{len(list) + max(x, 2)}", "5"), ("{any(e == 'c' for e in list)}", "true"),
]  # fmt: skip


@pytest.mark.parametrize(("text", "shown"), RENDERED, ids=[text for text, _ in RENDERED])
def test_a_template_is_filled_in(text: str, shown: str) -> None:
    assert Template(text).render(Scope(NAMES)) == shown


HOSTILE = [
    "9**9**9", "'x' * 10**9", "sum(range(10**9))", "'a'.ljust(10**9)", "1 << 10**9", "x.__class__", "open('f')",
    "[0] * 10**9", "'%1000000000d' % 1", "nothing", "1 / 0", "'a' + 1", "(lambda: 1)()", "[a for a in range(10**5) for b in range(10**5)]",
]  # fmt: skip


@pytest.mark.parametrize("source", HOSTILE)
def test_an_expression_that_would_hang_or_reach_out_fails_at_once(source: str) -> None:
    with pytest.raises(ExpressionFault) as caught:
        Expression(source).evaluate(Scope(NAMES))
    assert source in str(caught.value)


def test_a_failed_expression_tells_the_values_it_saw() -> None:
    with pytest.raises(
        ExpressionFault, match=r"the expression name \+ x failed: these values do not go together: name is a text, x is a number \(with name = 'Ada', x = 3\)"
    ):
        Expression("name + x").evaluate(Scope(NAMES))


def test_a_format_wider_than_any_text_is_refused() -> None:
    with pytest.raises(ExpressionFault, match="width over"):
        Template("{x:>999999999}").render(Scope(NAMES))


@pytest.mark.parametrize(("line", "same"), [
    ("[-1 … -3]...", "[-1 | -2 | -3]..."), ("[(-a | -b)]...", "[-a | -b]..."), ("[(A | B)...]", "[A | B]..."), ("[[A] B]", "[[A] B]"), ("[[-a]]...", "[[-a]]..."),
])  # fmt: skip
def test_brackets_round_nothing_but_a_group_are_its_own(line: str, same: str) -> None:
    assert str(parse_synopsis(line)) == same


class _Clock:
    """The clocks of a machine on which somebody else works all the time, or of one on which we do."""

    def __init__(self, *, is_ours: bool) -> None:
        self.now, self.is_ours = 0.0, is_ours

    def monotonic(self) -> float:
        self.now += 1
        return self.now

    def thread_time(self) -> float:
        return self.monotonic() if self.is_ours else 0.0


def test_only_the_time_that_an_expression_works_counts(monkeypatch: pytest.MonkeyPatch) -> None:
    """A busy machine must not turn a verdict."""
    monkeypatch.setattr("keen_matrix.core.expressions.time", _Clock(is_ours=False))
    assert Expression("a + b * c - a + b").evaluate(Scope({"a": 1, "b": 2, "c": 3})) == 8
    monkeypatch.setattr("keen_matrix.core.expressions.time", _Clock(is_ours=True))
    with pytest.raises(ExpressionFault, match=r"it takes longer than 0\.5 s"):
        Expression("a + b * c - a + b").evaluate(Scope({"a": 1, "b": 2, "c": 3}))
