"""Arrays from algebra: orthogonal arrays over finite fields, their products, and the binary
construction.

"Orthogonal arrays of index unity" (1952): the values of all polynomials of degree below t over a
field of q elements form an orthogonal array of q^t rows with q + 1 columns. "Products of mixed
covering arrays of strength two" (2006), for the product. "Families of k-independent sets" (1973),
for two values.
"""

from __future__ import annotations

from collections.abc import Sequence
from functools import cache
from itertools import combinations, islice, product
from math import comb

import numpy as np

from keen_matrix.core.covering.blocks import Ints

#: Fields up to this order are built; axes with more values than that are left to growth.
LARGEST_FIELD = 32


@cache
def prime_power(order: int) -> tuple[int, int] | None:
    """Return the prime and the exponent of a prime power, or None."""
    for prime in range(2, order + 1):
        if order % prime == 0:
            exponent, rest = 0, order
            while rest % prime == 0:
                exponent, rest = exponent + 1, rest // prime
            return (prime, exponent) if rest == 1 else None
    return None


def field_orders(smallest: int) -> list[int]:
    """Return the orders of the fields with at least `smallest` elements, up to the largest that is
    built."""
    return [order for order in range(max(2, smallest), LARGEST_FIELD + 1) if prime_power(order)]


@cache
def field(order: int) -> tuple[Ints, Ints]:
    """Return the tables of addition and multiplication of the field of `order` elements; 0 and 1
    are what they say."""
    found = prime_power(order)
    if found is None:
        raise ValueError(f"there is no field of {order} elements")
    prime, exponent = found
    digits = [tuple(number // prime**at % prime for at in range(exponent)) for number in range(order)]
    number_of = {each: number for number, each in enumerate(digits)}
    modulus = _irreducible(prime, exponent)
    adding = np.zeros((order, order), dtype=np.int32)
    times = np.zeros((order, order), dtype=np.int32)
    for left in range(order):
        for right in range(order):
            total = tuple((a + b) % prime for a, b in zip(digits[left], digits[right], strict=True))
            adding[left, right] = number_of[total]
            times[left, right] = number_of[
                _reduced(_multiplied(digits[left], digits[right], prime), modulus, prime)
            ]
    return adding, times


def _multiplied(left: tuple[int, ...], right: tuple[int, ...], prime: int) -> list[int]:
    result = [0] * (len(left) + len(right) - 1)
    for i, a in enumerate(left):
        for j, b in enumerate(right):
            result[i + j] = (result[i + j] + a * b) % prime
    return result


def _reduced(coefficients: list[int], modulus: tuple[int, ...], prime: int) -> tuple[int, ...]:
    degree = len(modulus) - 1
    rest = list(coefficients)
    for at in range(len(rest) - 1, degree - 1, -1):
        factor = rest[at]
        for back in range(degree + 1):
            rest[at - degree + back] = (rest[at - degree + back] - factor * modulus[back]) % prime
    return tuple(rest[:degree])


def _irreducible(prime: int, degree: int) -> tuple[int, ...]:
    """Return a monic polynomial of the degree without divisors, lowest coefficient first, found by
    trying."""
    if degree == 1:
        return (0, 1)
    for low in product(range(prime), repeat=degree):
        candidate = (*low, 1)
        divisors = (
            (*lower, 1) for size in range(1, degree // 2 + 1) for lower in product(range(prime), repeat=size)
        )
        if all(any(_remainder(candidate, divisor, prime)) for divisor in divisors):
            return candidate
    raise AssertionError("every field order has an irreducible polynomial")


def _remainder(dividend: tuple[int, ...], divisor: tuple[int, ...], prime: int) -> list[int]:
    rest, degree = list(dividend), len(divisor) - 1
    for at in range(len(rest) - 1, degree - 1, -1):
        factor = rest[at]
        for back in range(degree + 1):
            rest[at - degree + back] = (rest[at - degree + back] - factor * divisor[back]) % prime
    return rest[:degree]


def orthogonal(order: int, strength: int) -> Ints:
    """Return the array of all polynomials: order^strength rows, order + 1 columns (one more for
    strength 3 and even order)."""
    adding, times = field(order)
    coefficients = np.array(list(product(range(order), repeat=strength)), dtype=np.int32)
    columns = []
    for point in range(order):
        value = np.zeros(len(coefficients), dtype=np.int32)
        for at in range(strength):  # Horner's rule, the highest coefficient first
            value = adding[times[value, point], coefficients[:, at]]
        columns.append(value)
    columns.append(coefficients[:, 0])
    if strength == 3 and order % 2 == 0:
        columns.append(coefficients[:, 1])
    return np.stack(columns, axis=1)


def paired(order: int, columns: int) -> Ints | None:
    """Return an array of strength 2 with at least so many columns, by repeated products; None when
    it would be too long.

    With C covering k columns in N rows, and E the q² - q rows of the lines with a slope in that
    array of polynomials: C repeated q times side by side over E with each column repeated k times
    covers k q columns, and one more that is 0 beside C and the slope beside E.
    """
    rows = orthogonal(order, 2)
    lines = rows[rows[:, order] != 0]  # the slope is the leading coefficient, the last column
    while rows.shape[1] < columns:
        if len(rows) > 60 * order:
            return None
        upper = np.tile(rows, (1, order))
        lower = np.repeat(lines[:, :order], rows.shape[1], axis=1)
        last = np.concatenate([np.zeros(len(rows), dtype=np.int32), lines[:, order]])
        rows = np.hstack([np.vstack([upper, lower]), last[:, None]]).astype(np.int32)
    return rows


def zero_sum(levels: Sequence[int], strength: int) -> Ints:
    """Return the product of the first `strength` axes with one more, the sum of the others'
    values.

    `levels` fall; the last column counts modulo the last of the axes before it, so any `strength`
    of the columns contain every combination: whichever other axis is left out, its values carry
    the sum through all residues.
    """
    rows = np.array(list(product(*map(range, levels[:strength]))), dtype=np.int32)
    return np.hstack([rows, (rows.sum(axis=1) % levels[strength - 1])[:, None]]).astype(np.int32)


def binary(columns: int) -> Ints:
    """Return the smallest array of strength 2 for axes of two values."""
    rows = 4
    while comb(rows - 1, (rows + 1) // 2) < columns:
        rows += 1
    array = np.zeros((rows, columns), dtype=np.int32)
    for column, ones in enumerate(islice(combinations(range(1, rows), (rows + 1) // 2), columns)):
        array[list(ones), column] = 1
    return array
