"""Quick tests of expectations: whatever they say, the full checks say too; and the rules that apply are worked out but once."""

from __future__ import annotations

from collections.abc import Sequence
from itertools import product
from unittest.mock import patch

import pytest
from hypothesis import given
from hypothesis import strategies as st

from keen_matrix.core.expect import cascade
from keen_matrix.core.expect.aspects import ExitAspect, OtherFilesAspect, StreamAspect, plain_test
from keen_matrix.core.expect.cascade import Cascade
from keen_matrix.core.expect.context import CheckContext
from keen_matrix.core.expect.exits import ExitExpectation
from keen_matrix.core.expect.forms import Form
from keen_matrix.core.expect.forms.text import (
    ContainsForm,
    EmptyForm,
    EndsForm,
    IsForm,
    MatchesForm,
    StartsForm,
)
from keen_matrix.core.expressions import Expression, Scope, Template
from keen_matrix.core.model.outcome import Outcome
from keen_matrix.core.model.record import FileChange
from keen_matrix.core.model.spec import Rule


def text_form(name: str, texts: Sequence[Template], flag: bool) -> Form:
    """Return a form by its key in a spec."""
    forms: dict[str, Form] = {
        "is": IsForm(texts[0]), "contains": ContainsForm(tuple(texts)), "lacks": ContainsForm(tuple(texts), wanted=False),
        "starts": StartsForm(texts[0]), "ends": EndsForm(texts[0]), "empty": EmptyForm(flag), "matches": MatchesForm("a|b$"),
    }  # fmt: skip
    return forms[name]


SAMPLES = ["", "\n", "\n\n", "a", "a\n", "a\n\n", "ab", "ab\n", "b{", "a\nb"]
TEXTS = st.sampled_from(SAMPLES).map(lambda text: Template(text, literal=True))
NAMES = st.sampled_from(["is", "contains", "lacks", "starts", "ends", "empty", "matches"])
FORMS = st.builds(
    text_form,
    NAMES, st.lists(TEXTS, min_size=1, max_size=2).map(tuple), st.booleans(),
)  # fmt: skip
RANGES = st.lists(st.tuples(st.integers(0, 3), st.integers(3, 5)), min_size=1, max_size=2).map(tuple)
EXITS = st.one_of(RANGES, st.sampled_from([Template("{code}"), Template("3")]))
ASPECTS = st.fixed_dictionaries({}, optional={
    "exit": EXITS.map(lambda allowed: ExitAspect(ExitExpectation(allowed))),
    "stdout": st.lists(FORMS, min_size=1, max_size=2).map(lambda forms: StreamAspect("stdout", tuple(forms))),
    "stderr": st.lists(FORMS, min_size=1, max_size=2).map(lambda forms: StreamAspect("stderr", tuple(forms))),
    "other-files": st.just(OtherFilesAspect((), False)),
})  # fmt: skip
WHENS = st.sampled_from([None, Expression("code == 3"), Expression("code < 9"), Expression("code > 4")])
RULES = st.lists(
    st.builds(lambda aspects, when: Rule(aspects=aspects, when=when, origins={}), ASPECTS, WHENS), max_size=3
)
STREAMS = st.sampled_from(SAMPLES).map(str.encode)
OUTCOMES = st.builds(
    lambda exit, out, err, files: Outcome(exit=exit, stdout=out, stderr=err, files=files),
    st.integers(0, 6), STREAMS, STREAMS, st.sampled_from([{}, {"new.txt": FileChange("created")}]),
)  # fmt: skip


@given(RULES, st.lists(OUTCOMES, min_size=1, max_size=4), st.integers(2, 6))
def test_quick_tests_change_no_verdict(rules: list[Rule], outcomes: list[Outcome], code: int) -> None:
    scope = CheckContext(Scope({"code": code}))
    quick = Cascade(rules)
    with patch.object(cascade, "plain_test", lambda aspect: None):
        full = Cascade(rules)
        whole = [full.judge(each, scope, timeout=1, cap=100) for each in outcomes]
    assert [quick.judge(each, scope, timeout=1, cap=100) for each in outcomes] == whole


@pytest.mark.parametrize("name", ["is", "contains", "lacks", "starts", "ends", "empty"])
def test_a_quick_test_is_true_exactly_where_the_check_finds_nothing(name: str) -> None:
    for text, raw, flag in product(SAMPLES, SAMPLES, (True, False)):
        form = text_form(name, [Template(text, literal=True)], flag)
        test = plain_test(StreamAspect("stdout", (form,)))
        assert test is not None
        assert test(Outcome(stdout=raw.encode())) is (not list(form.check(raw.encode(), CheckContext()))), (text, raw)


def test_rules_with_conditions_are_worked_out_once_for_the_same_rules() -> None:
    rules = [
        Rule(aspects={"exit": ExitAspect(ExitExpectation(((0, 0),)))}, when=None, origins={}),
        Rule(aspects={"exit": ExitAspect(ExitExpectation(((3, 3),)))}, when=Expression("code == 3"), origins={}),
    ]
    judged = Cascade(rules)
    with patch.object(cascade, "plain_test", wraps=plain_test) as made:
        for code in (3, 4, 3, 5, 3):
            outcome = Outcome(exit=3 if code == 3 else 0)
            assert judged.judge(outcome, CheckContext(Scope({"code": code})), timeout=1, cap=100).verdict == "held"
        assert made.call_count == 2
    assert Cascade([]).judge(Outcome(exit=0), CheckContext(), timeout=1, cap=100).verdict == "unchecked"


def test_masked_outcomes_are_always_checked_in_full() -> None:
    rule = Rule(aspects={"stdout": StreamAspect("stdout", (IsForm(Template("a")),))}, when=None, origins={})
    outcome = Outcome(exit=0, stdout=b"a", masked={"stdout": b"a"})
    with patch.object(StreamAspect, "check", return_value=iter(())) as check:
        Cascade([rule]).judge(outcome, CheckContext(), timeout=1, cap=100)
    assert check.called
