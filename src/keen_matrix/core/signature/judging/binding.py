"""Pass 4: values are checked by their types, bound to their NAMEs, and conditions are asked."""

from __future__ import annotations

import re
from collections import Counter
from collections.abc import Callable, Mapping, Sequence
from functools import lru_cache
from typing import TypeAlias

from keen_matrix.core.errors import ExpressionFault
from keen_matrix.core.expressions import FUNCTIONS, Expression, Scope
from keen_matrix.core.notation.synopsis import Operand
from keen_matrix.core.oracle import OracleNotRun
from keen_matrix.core.signature.habits import OPERANDS, need
from keen_matrix.core.signature.judging.findings import Bound, Findings, Given
from keen_matrix.core.signature.judging.matching import Binding
from keen_matrix.core.signature.judging.taking import Reading
from keen_matrix.core.signature.model import SignatureParts, UsageModel, names_of
from keen_matrix.core.structs import replace


def check_repeats(signature: SignatureParts, reading: Reading) -> Findings:
    """Find options that are given again though the synopsis has no dots after them."""
    findings = Findings()
    counts: Counter[str] = Counter()
    for given in reading.given:
        option = given.option
        counts[option.key] += 1
        if counts[option.key] != 2 or option.again:
            continue
        how = None if option.takes_value else signature.habits.repeat_flags
        if how is None:
            refused = need(signature.habits.repeat, "repeat") == "refuse"
        else:
            refused = how == "refuse"
        if refused:
            why = f"{given.spelling} is given twice"
            findings.refuse("repeated", given.spelling, *option.spellings, why=why)
    return findings


def check_values(signature: SignatureParts, reading: Reading, bound: Sequence[Binding]) -> Findings:
    """Find values that are not of their types: of options first, then of operands."""
    findings = Findings()
    for given in _looked_at(signature, reading):
        for number, text in enumerate(given.values):
            name = given.option.name_of(number)
            mentions = (given.spelling, *given.option.spellings, name)
            _check_value(signature, findings, name, text, mentions)
    for _, name, text in bound:
        # to many programs a lone - is standard input, wherever a file may stand
        kind = signature.values[name].type
        if not text and kind in ("text", "path") and signature.habits.empty_values == "operands":
            continue
        if text == "-" and kind in ("text", "path", "file", "dir"):
            if signature.habits.lone_dash is None or signature.values[name].type == "file":
                findings.doubt_value(f"what a lone - means for {name}")
        else:
            _check_value(signature, findings, name, text, (name,))
    return findings


def _looked_at(signature: SignatureParts, reading: Reading) -> Sequence[Given]:
    """Return the options whose values a reader looks at: of some only the last use."""
    if not signature.habits.late_values or signature.habits.repeat != "last":
        return reading.given
    last = {given.option.key: given for given in reading.given}
    return [each for each in reading.given if each.option.again or last[each.option.key] is each]


def _check_value(
    signature: SignatureParts, findings: Findings, name: str, text: str, mentions: tuple[str, ...]
) -> None:
    kind = signature.values[name]
    is_number = kind.habits.numbers is not None and kind.type in ("int", "float")
    is_of_operand = is_number and not mentions[0].startswith("-")
    if is_of_operand and OPERANDS not in signature.row.refuses:
        # the library hands operands over as texts: how they are converted is the program's
        kind = kind.read_by(replace(kind.habits, numbers=None))
    verdict = kind.read(text)
    why = f"{name} {text!r}: {verdict.reason}"
    if verdict.status == "doubtful":
        findings.doubt_value(why)
    elif verdict.status == "illegal":
        findings.refuse(verdict.kind, text or mentions[0], *mentions, why=why)


def bindings_of(
    signature: SignatureParts, form: UsageModel, reading: Reading, bound: Sequence[Binding]
) -> dict[str, Bound]:
    """Return what every option that is given and every operand is bound to."""
    found: dict[str, Bound] = {}
    for given in reading.given:
        option = given.option
        old = found.get(option.key)
        if not given.values and option.takes_value:
            found.setdefault(option.key, True)
        elif not given.values:
            found[option.key] = True if old is None or not option.again else _count(old) + 1
        elif option.again or signature.habits.repeat == "collect":
            found[option.key] = [*(old if isinstance(old, list) else []), *given.values]
        else:
            several = option.most is None or option.most > 1
            found[option.key] = list(given.values) if several else given.values[0]
    operands = _operands_of(form) if bound else ()
    several_names = {each.name.name for each in operands if _is_several(signature, each)}
    for _, name, text in bound:
        before = found.get(name)
        if name not in several_names:
            found[name] = text
        else:
            found[name] = [*before, text] if isinstance(before, list) else [text]
    return found


@lru_cache(1_000)
def _operands_of(form: UsageModel) -> tuple[Operand, ...]:
    return tuple(item for item in form.form.walk() if isinstance(item, Operand))


def _count(bound: Bound) -> int:
    """Return how often a flag was given that is bound to something."""
    return bound if isinstance(bound, int) else 1


def _is_several(signature: SignatureParts, item: Operand) -> bool:
    count = signature.values[item.name.name].count
    return item.name.several or (count is not None and count[1] != 1)


#: NAMEs as expressions write them, with their values.
Names: TypeAlias = dict[str, object]
#: Spellings of options in a condition, as in has('--bike').
_GIVEN = re.compile(r"""['"](-[^'"]+)['"]""")


def check_conditions(
    signature: SignatureParts,
    form: UsageModel,
    words: Sequence[str],
    spellings: frozenset[str],
    bindings: Mapping[str, Bound],
) -> Findings:
    """Ask the conditions of the signature that are about a form."""
    findings = Findings()
    if not signature.only_if and not signature.refuse:
        return findings
    names = named_values(signature, form, bindings, words)
    scope = Scope(names, condition_functions(signature, spellings))
    for own in signature.refuse:
        if concerns(signature, form, own.when) and _is_met(own.when, scope, findings):
            _refuse(form, own.kind, own.when, scope, findings)
    for condition in signature.only_if:
        if concerns(signature, form, condition) and _is_met(condition, scope, findings) is False:
            _refuse(form, "condition", condition, scope, findings)
    return findings


def _refuse(form: UsageModel, kind: str, condition: Expression, scope: Scope, findings: Findings) -> None:
    """Refuse what breaks a condition. A message is to blame the options and operands that the
    condition is about, by spelling, NAME or value; nobody repeats the condition itself."""
    names = sorted(condition.names)
    # A message may name the value itself and neither option nor NAME: "60 is too many".
    texts = [str(scope.names[name]) for name in names if scope.names.get(name) is not None]
    owners = [
        spelling
        for option in form.options
        if any(identifier(each) in names for each in option.value_names)
        for spelling in option.spellings
    ]
    asked = [each for each in _GIVEN.findall(condition.source) if each in form.by_spelling]
    of_asked = [spelling for each in asked for spelling in form.by_spelling[each].spellings]
    mentions = [*texts, *owners, *of_asked, *names] or [condition.source]
    findings.refuse_own(kind, mentions[0], *mentions, why=condition.source)


def _is_met(condition: Expression, scope: Scope, findings: Findings) -> bool | None:
    """Tell whether a condition is met; None, with a doubt, when that cannot be known."""
    try:
        return bool(condition.evaluate(scope))
    except ExpressionFault as fault:
        findings.doubt_value(f"{condition.source}: {fault.reason}")
    except OracleNotRun:
        findings.doubt_value(f"{condition.source}: it calls the oracle, which is not run here")
    return None


def concerns(signature: SignatureParts, form: UsageModel, condition: Expression) -> bool:
    """Tell whether a condition is about a form: one that asks for a NAME which only other forms
    have is not."""
    others = {identifier(name) for name in signature.values} - _identifiers_of(form)
    return condition.names.isdisjoint(others)


@lru_cache(1_000)
def _identifiers_of(form: UsageModel) -> frozenset[str]:
    return frozenset(map(identifier, names_of(form.form)))


def named_values(
    signature: SignatureParts, form: UsageModel, bindings: Mapping[str, Bound], words: Sequence[str]
) -> Names:
    """Return what conditions see: each NAME's value (when it is not given its default, else an
    empty list of an operand that may stand several times, else None), `words`, `argc`."""
    return {
        **values_left_out(signature, form),
        **given_values(signature, form, bindings),
        "words": list(words),
        "argc": len(words),
    }


def values_left_out(signature: SignatureParts, form: UsageModel) -> Names:
    """Return what each NAME is where no word gives it."""
    names: Names = {
        identifier(name): None if kind.default is None else kind.converted(str(kind.default))
        for name, kind in signature.values.items()
    }
    for item in _operands_of(form):
        name = item.name.name
        if _is_several(signature, item) and signature.values[name].default is None:
            names[identifier(name)] = []  # so that sums and lengths of none are those of none
    return names


def given_values(signature: SignatureParts, form: UsageModel, bindings: Mapping[str, Bound]) -> Names:
    """Return the values of the NAMEs that words give, as the options and operands of a form have
    them."""
    names: Names = {}
    for option in form.options:
        value = bindings.get(option.key)
        if value is None or not option.takes_value or value is True:
            continue
        texts = value if isinstance(value, list) else [str(value)]
        # An option of two values has a NAME for each; one of many has them all under one.
        if len(option.use.values) > 1:
            for number, text in enumerate(texts):
                name = option.name_of(number)
                names[identifier(name)] = signature.values[name].converted(text)
        else:
            name = option.name_of(0)
            made = [signature.values[name].converted(text) for text in texts]
            names[identifier(name)] = made if isinstance(value, list) else made[0]
    for name in signature.operand_names:
        value, kind = bindings.get(name), signature.values[name]
        if isinstance(value, list):
            names[identifier(name)] = [kind.converted(text) for text in value]
        elif value is not None:
            names[identifier(name)] = kind.converted(str(value))
    return names


@lru_cache(maxsize=4096)
def identifier(name: str) -> str:
    """Return a NAME as expressions write it: other characters than letters and digits become `_`,
    and a digit at the front gets one before it."""
    return re.sub(r"\W|^(?=\d)", "_", name)


def condition_functions(
    signature: SignatureParts, spellings: frozenset[str]
) -> Mapping[str, Callable[..., object]]:
    """Return the functions that conditions may call; `given` knows the spellings that are given."""
    return {**FUNCTIONS, **signature.functions, "has": lambda *each: any(one in spellings for one in each)}
