"""What the programs of the examples must print, worked out apart from them."""

import json


def counted(numbers, separator=None, equal_width=False):
    """What seq prints for one to three whole numbers."""
    values = [int(number) for number in numbers]
    first, step, last = {1: [1, 1, *values], 2: [values[0], 1, values[-1]], 3: values}[len(values)]
    shown = [str(number) for number in range(first, last + (1 if step > 0 else -1), step)]
    width = max(map(len, shown), default=0) if equal_width else 0
    shown = [number.zfill(width) for number in shown]
    return ("\n" if separator is None else separator).join(shown) + ("\n" if shown else "")


def pretty(text, indent):
    """What json.tool prints."""
    return json.dumps(json.loads(text), indent=indent)


def in_order(words, reverse, numeric, unique):
    """What sort prints, in the C locale."""
    chosen = sorted(
        set(words) if unique else words, key=(lambda word: (float(word), word)) if numeric else None, reverse=reverse
    )
    return "".join(word + "\n" for word in chosen)
