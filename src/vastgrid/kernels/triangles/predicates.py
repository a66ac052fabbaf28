"""Which side of a line a place lies on, exactly; and whether it lies in a circle, with room for rounding.

The exact sign follows Shewchuk, “Adaptive precision floating-point arithmetic and fast robust geometric predicates”,
Discrete & Computational Geometry 18 (1997): an error bound first, products without rounding only where it does not decide.
"""

from __future__ import annotations

import numba
import numpy as np

# (3 + 16 ε) ε and (10 + 96 ε) ε of the paper, with ε = 2⁻⁵³.
_TURN_BOUND = 3.3306690738754716e-16
_CIRCLE_BOUND = 1.1102230246251577e-15
_SPLITTER = 134217729.0


@numba.njit(cache=True, nogil=True)
def _product(a, b):
    # a·b as the sum of two numbers, nothing lost (Dekker).
    high = a * b
    c = _SPLITTER * a
    a1 = c - (c - a)
    a2 = a - a1
    c = _SPLITTER * b
    b1 = c - (c - b)
    b2 = b - b1
    return high, a2 * b2 - (((high - a1 * b1) - a2 * b1) - a1 * b2)


@numba.njit(cache=True, nogil=True)
def _grown(parts, n, value):
    # Adds a number to an expansion, nothing lost.
    carry = value
    out = 0
    for i in range(n):
        total = carry + parts[i]
        back = total - carry
        rest = (carry - (total - back)) + (parts[i] - back)
        carry = total
        if rest != 0.0:
            parts[out] = rest
            out += 1
    parts[out] = carry
    return out + 1


@numba.njit(cache=True, nogil=True)
def _exact_turn(ax, ay, bx, by, cx, cy):
    parts = np.zeros(16)
    n = 0
    for p, q in ((ax, by), (-ax, cy), (-cx, by), (-ay, bx), (ay, cx), (cy, bx)):
        high, low = _product(p, q)
        n = _grown(parts, n, low)
        n = _grown(parts, n, high)
    return parts[n - 1]


@numba.njit(cache=True, nogil=True)
def turn(ax, ay, bx, by, cx, cy):
    """Return twice the signed area of a triangle; its sign is exact: positive where c lies left of a → b."""
    left, right = (ax - cx) * (by - cy), (ay - cy) * (bx - cx)
    found = left - right
    if abs(found) > _TURN_BOUND * (abs(left) + abs(right)):
        return found
    if left == 0.0 and right == 0.0 and (ax == cx or by == cy) and (ay == cy or bx == cx):
        return 0.0
    return _exact_turn(ax, ay, bx, by, cx, cy)


@numba.njit(cache=True, nogil=True)
def in_circle(ax, ay, bx, by, cx, cy, dx, dy):
    """Return whether d lies inside the circle through a, b and c (counter-clockwise), by more than rounding can make it."""
    adx, ady, bdx, bdy, cdx, cdy = ax - dx, ay - dy, bx - dx, by - dy, cx - dx, cy - dy
    bc, cb, ca, ac, ab, ba = bdx * cdy, cdx * bdy, cdx * ady, adx * cdy, adx * bdy, bdx * ady
    a, b, c = adx * adx + ady * ady, bdx * bdx + bdy * bdy, cdx * cdx + cdy * cdy
    found = a * (bc - cb) + b * (ca - ac) + c * (ab - ba)
    room = (abs(bc) + abs(cb)) * a + (abs(ca) + abs(ac)) * b + (abs(ab) + abs(ba)) * c
    return found > 16.0 * _CIRCLE_BOUND * room
