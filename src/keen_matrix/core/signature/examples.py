"""Examples: calls that somebody says work. Their words are the first values that NAMEs have, and
they are bases of derived cases before anything is tried."""

from __future__ import annotations

import re
import shlex
from collections.abc import Container, Iterable, Mapping, Sequence

from keen_matrix.core.signature.grounds import Words
from keen_matrix.core.signature.judging.findings import Bound, Judgement
from keen_matrix.core.signature.model import SignatureFault, SignatureParts
from keen_matrix.core.signature.signature import Signature
from keen_matrix.core.signature.values.text import Text
from keen_matrix.core.structs import replace


def example_words(text: str) -> Words:
    """Return the words of an example, quoted as in a shell; no shell ever reads it. Raises
    ValueError for quotes that are not closed."""
    return tuple(shlex.split(text))


def with_examples(signature: Signature, texts: Sequence[str], stated: Container[str] = ()) -> Signature:
    """Return a signature with examples, whose words come first among the values of each NAME, and
    are all that is tried of a NAME whose type is not among those stated. Raises SignatureFault for
    an example that the signature refuses."""
    examples: list[Words] = []
    for number, text in enumerate(texts):
        try:
            words = example_words(text)
        except ValueError as error:
            raise SignatureFault(
                f"this example cannot be split into words: {error}", "example", number
            ) from None
        judged = signature.judge(words)
        if judged.status == "refused":
            # reasons also tell of what is right; those of a refusal begin with its kind
            why = next((each for each in judged.reasons if each.startswith(judged.kinds)), judged.kinds[0])
            told = f"the synopsis refuses this example ({why}); correct one of the two"
            raise SignatureFault(told, "example", number)
        examples.append(words)
    if not examples:
        return signature
    seen = values_seen(signature, examples)
    values = dict(signature.values)
    for name, listed in seen.items():
        values[name] = replace(values[name], seen=tuple(listed))
        if isinstance(values[name], Text) and name not in stated:
            values[name] = replace(values[name], only_seen=True)
    return replace(signature, examples=tuple(examples), values=values)


def steps_before(signature: Signature, words: Words) -> tuple[Words, ...]:
    """Return the vectors that are launched before a vector, by its usage: the first word that is
    one of those that usages begin with. `{NAME}` in them is the value that the vector has."""
    known = dict(signature.before)
    first = next((each for each in words if each in known), None)
    if first is None:
        return ()
    steps = known[first]
    if not any("{" in word for step in steps for word in step):
        return steps
    bound = dict(reversed(list(named_words(signature, signature.judge(words)))))
    values = {name: bound.get(name) or value.usual for name, value in signature.values.items()}
    return tuple(tuple(_filled(word, values) for word in step) for step in steps)


def _filled(word: str, values: Mapping[str, str]) -> str:
    return re.sub(r"\{([^{}]+)\}", lambda match: values.get(match[1], match[0]), word)


def values_seen(signature: Signature, examples: Iterable[Words]) -> Mapping[str, list[str]]:
    """Return the values of each NAME in examples, in their order, each once."""
    found: dict[str, list[str]] = {}
    for words in examples:
        for name, value in named_words(signature, signature.judge(words)):
            listed = found.setdefault(name, [])
            if value not in listed:
                listed.append(value)
    return found


def named_words(signature: SignatureParts, judged: Judgement) -> Iterable[tuple[str, str]]:
    """Yield the NAMEs of a judgement with each word that they are bound to."""
    options = {option.key: option for option in signature.options}
    for key, bound in judged.bindings.items():
        option = options.get(key)
        for number, word in enumerate(_texts(bound)):
            if option is None:
                yield key, word
            elif option.value_names:
                yield option.name_of(number % len(option.value_names)), word


def _texts(bound: Bound) -> Sequence[str]:
    if isinstance(bound, list):
        return bound
    return [bound] if isinstance(bound, str) else []
