"""Lines made smoother or sparser without ever crossing what they must stay clear of."""

from __future__ import annotations

import numba
import numpy as np
from numpy.typing import NDArray

from vastgrid.kernels.triangles.crossings import sorted_into_cells
from vastgrid.kernels.triangles.predicates import turn


@numba.njit(cache=True, nogil=True)
def densified(plan, offsets, step):
    """Return lines with places put between their vertices, none farther from the next than a step.

    Returns
    -------
    out : (m, 2) float64
        The vertices themselves are among them, bit for bit.
    starts : (k + 1,) int64
        Where each line begins.
    own : (m,) bool
        Which are vertices.
    """
    lines = offsets.shape[0] - 1
    starts = np.zeros(lines + 1, np.int64)
    for k in range(lines):
        number = 1 if offsets[k + 1] > offsets[k] else 0
        for i in range(offsets[k] + 1, offsets[k + 1]):
            far = np.hypot(plan[i, 0] - plan[i - 1, 0], plan[i, 1] - plan[i - 1, 1])
            number += max(int(np.ceil(far / step)), 1)
        starts[k + 1] = starts[k] + number
    out = np.zeros((starts[lines], 2))
    own = np.zeros(starts[lines], np.bool_)
    for k in range(lines):
        at = starts[k]
        for i in range(offsets[k], offsets[k + 1]):
            if i > offsets[k]:
                far = np.hypot(plan[i, 0] - plan[i - 1, 0], plan[i, 1] - plan[i - 1, 1])
                n = max(int(np.ceil(far / step)), 1)
                for j in range(1, n):
                    out[at, 0] = plan[i - 1, 0] + j / n * (plan[i, 0] - plan[i - 1, 0])
                    out[at, 1] = plan[i - 1, 1] + j / n * (plan[i, 1] - plan[i - 1, 1])
                    at += 1
            out[at], own[at] = plan[i], True
            at += 1
    return out, starts, own


@numba.njit(cache=True, nogil=True)
def mean_along(plan, offsets, closed, reach):
    """Return each place's mean along its line, weighted by a bell of a standard deviation, (n, 2).

    Places count by the length of line that is theirs. Ends of open lines stay: towards them the bell narrows.
    """
    out = plan.copy()
    for k in range(offsets.shape[0] - 1):
        first, last = offsets[k], offsets[k + 1] - 1
        n = last - first
        if n < 2:
            continue
        along = np.zeros(n + 1)
        for i in range(1, n + 1):
            j = first + i
            along[i] = along[i - 1] + np.hypot(plan[j, 0] - plan[j - 1, 0], plan[j, 1] - plan[j - 1, 1])
        whole = along[n]
        if whole == 0.0:
            continue
        ring = closed[k]
        for i in range(n if ring else n + 1):
            room = whole / 8.0 if ring else min(along[i], whole - along[i]) / 3.0
            wide = min(reach, room)
            if wide <= 0.0:
                continue
            x0, y0 = plan[first + i, 0], plan[first + i, 1]
            total, sx, sy = 0.0, 0.0, 0.0
            for way in (-1, 1):
                j, far = i, 0.0
                if way == 1:
                    # The place itself counts once.
                    share = _length_at(along, i, n, whole, ring)
                    total += share
                while True:
                    o = j + way
                    if ring:
                        if o < 0:
                            o += n
                        elif o >= n:
                            o -= n
                    elif o < 0 or o > n:
                        break
                    step = along[max(o, j)] - along[min(o, j)]
                    if ring and abs(o - j) > 1:
                        step = whole - along[n - 1] if n > 1 else 0.0
                    far += step
                    if far > 3.0 * wide or (ring and far > 0.5 * whole):
                        break
                    j = o
                    share = _length_at(along, j, n, whole, ring) * np.exp(-0.5 * (far / wide) ** 2)
                    total += share
                    sx += share * (plan[first + j, 0] - x0)
                    sy += share * (plan[first + j, 1] - y0)
            if total > 0.0:
                out[first + i, 0] = x0 + sx / total
                out[first + i, 1] = y0 + sy / total
        if ring:
            out[last] = out[first]
    return out


@numba.njit(cache=True, nogil=True, inline="always")
def _length_at(along, i, n, whole, ring):
    if ring and i == 0:
        return 0.5 * (along[1] + whole - along[n - 1])
    before = along[i] - along[i - 1] if i > 0 else 0.0
    after = along[i + 1] - along[i] if i < n else 0.0
    return 0.5 * (before + after)


@numba.njit(cache=True, nogil=True)
def lowered(share, bad, offsets, closed, times, reach):
    """Return shares lowered at bad places, and the less along their lines the farther away, so that none has a kink.

    Parameters
    ----------
    share : (n,) float64
        0 … 1.
    bad : (n,) bool
    times : float
        What a bad place's own share is multiplied by.
    reach : int
        So many places away nothing is lowered any more.
    """
    out = share.copy()
    for k in range(offsets.shape[0] - 1):
        first = offsets[k]
        # Both ends of a ring are one place.
        n = offsets[k + 1] - first - (1 if closed[k] else 0)
        for i in range(offsets[k + 1] - first):
            if not bad[first + i]:
                continue
            least = share[first + i] * times
            for d in range(-reach, reach + 1):
                j = i + d
                if closed[k]:
                    j %= n
                elif j < 0 or j >= n:
                    continue
                out[first + j] = min(out[first + j], least + (1.0 - least) * abs(d) / (reach + 1))
        if closed[k]:
            out[first + n] = out[first]
    return out


def crossed(
    p: NDArray[np.float64], q: NDArray[np.float64], fixed: NDArray[np.float64], fixed_to: NDArray[np.float64]
) -> NDArray[np.bool_]:
    """Return which segments cross another of their own, or a fixed one, (n,) bool; what only touches does not cross.

    Parameters
    ----------
    p, q : (n, 2) float64
        Ends of the segments.
    fixed, fixed_to : (m, 2) float64
        Ends of those that must not be crossed; they may cross each other.
    """
    a, b = np.concatenate((p, fixed)), np.concatenate((q, fixed_to))
    out = np.zeros(len(p), np.bool_)
    if len(p) == 0:
        return out
    low, _, _, starts, members = sorted_into_cells(a, b)
    _crossed(np.ascontiguousarray(a - low), np.ascontiguousarray(b - low), starts, members, out)
    return out


@numba.njit(cache=True, nogil=True)
def _crossed(p, q, starts, members, out):
    n = out.shape[0]
    for cell in range(starts.shape[0] - 1):
        for m in range(starts[cell], starts[cell + 1]):
            i = members[m]
            for k in range(m + 1, starts[cell + 1]):
                j = members[k]
                if i >= n and j >= n:
                    continue
                if (i >= n or out[i]) and (j >= n or out[j]):
                    continue
                if min(p[i, 0], q[i, 0]) > max(p[j, 0], q[j, 0]) or min(p[j, 0], q[j, 0]) > max(p[i, 0], q[i, 0]):
                    continue
                if min(p[i, 1], q[i, 1]) > max(p[j, 1], q[j, 1]) or min(p[j, 1], q[j, 1]) > max(p[i, 1], q[i, 1]):
                    continue
                if _proper(p[i], q[i], p[j], q[j]):
                    if i < n:
                        out[i] = True
                    if j < n:
                        out[j] = True


@numba.njit(cache=True, nogil=True)
def _proper(a, b, c, d):
    one, two = turn(a[0], a[1], b[0], b[1], c[0], c[1]), turn(a[0], a[1], b[0], b[1], d[0], d[1])
    if not ((one > 0 and two < 0) or (one < 0 and two > 0)):
        return False
    three, four = turn(c[0], c[1], d[0], d[1], a[0], a[1]), turn(c[0], c[1], d[0], d[1], b[0], b[1])
    return (three > 0 and four < 0) or (three < 0 and four > 0)


@numba.njit(cache=True, nogil=True)
def swept(before, after, offsets, xy, owner, starts, west, south, size, columns, rows):
    """Return which places move over one of some places, or their legs do, (n,) bool.

    Parameters
    ----------
    before, after : (n, 2) float64
        Where the lines' places were and are.
    xy : (k, 2) float64
        The places that no line may pass, ordered by cell.
    owner : (k,) int64
        The line that a place belongs to, which alone may pass it; -1 for none.
    starts : (rows × columns + 1,) int64
        Where the places of each cell begin.
    """
    out = np.zeros(before.shape[0], np.bool_)
    for k in range(offsets.shape[0] - 1):
        for i in range(offsets[k], offsets[k + 1] - 1):
            a, b, c, d = before[i], before[i + 1], after[i + 1], after[i]
            if a[0] == d[0] and a[1] == d[1] and b[0] == c[0] and b[1] == c[1]:
                continue
            left, right = min(a[0], b[0], c[0], d[0]), max(a[0], b[0], c[0], d[0])
            low, high = min(a[1], b[1], c[1], d[1]), max(a[1], b[1], c[1], d[1])
            c0, c1 = _within(left - west, size, columns), _within(right - west, size, columns)
            r0, r1 = _within(low - south, size, rows), _within(high - south, size, rows)
            found = False
            for r in range(r0, r1 + 1):
                for m in range(starts[r * columns + c0], starts[r * columns + c1 + 1]):
                    if owner[m] != k and (_in_triangle(a, b, c, xy[m]) or _in_triangle(a, c, d, xy[m])):
                        found = True
                        break
                if found:
                    break
            if found:
                out[i] = out[i + 1] = True
    return out


@numba.njit(cache=True, nogil=True, inline="always")
def _within(way, size, count):
    # Ways may lie beside all cells.
    return int(min(max(way / size, 0.0), count - 1.0))


@numba.njit(cache=True, nogil=True, inline="always")
def _in_triangle(a, b, c, p):
    one = (b[0] - a[0]) * (p[1] - a[1]) - (b[1] - a[1]) * (p[0] - a[0])
    two = (c[0] - b[0]) * (p[1] - b[1]) - (c[1] - b[1]) * (p[0] - b[0])
    three = (a[0] - c[0]) * (p[1] - c[1]) - (a[1] - c[1]) * (p[0] - c[0])
    if one == 0.0 and two == 0.0 and three == 0.0:
        return False
    return (one >= 0 and two >= 0 and three >= 0) or (one <= 0 and two <= 0 and three <= 0)


@numba.njit(cache=True, nogil=True)
def weeded(plan, offsets, closed, tolerance):
    """Return which vertices stay where those nearer to the straight way than a tolerance go, (n,) bool.

    After Ramer (1972) and Douglas and Peucker (1973). A ring is held at its first vertex and the one farthest from it, and
    keeps at least a triangle.
    """
    keep = np.zeros(plan.shape[0], np.bool_)
    longest = 0
    for k in range(offsets.shape[0] - 1):
        longest = max(longest, offsets[k + 1] - offsets[k])
    stack = np.zeros((longest + 4, 2), np.int64)
    for k in range(offsets.shape[0] - 1):
        first, last = offsets[k], offsets[k + 1] - 1
        if last < first:
            continue
        keep[first] = keep[last] = True
        depth = 0
        if closed[k]:
            far, best = 0, -1.0
            for i in range(first, last):
                d = (plan[i, 0] - plan[first, 0]) ** 2 + (plan[i, 1] - plan[first, 1]) ** 2
                if d > best:
                    far, best = i, d
            keep[far] = True
            stack[0, 0], stack[0, 1], stack[1, 0], stack[1, 1] = first, far, far, last
            depth = 2
            # A third corner, the one farthest from the line between both.
            third, best = -1, -1.0
            for i in range(first + 1, last):
                d = _away(plan, first, far, i)
                if d > best and i != far:
                    third, best = i, d
            if third >= 0:
                keep[third] = True
        else:
            stack[0, 0], stack[0, 1] = first, last
            depth = 1
        while depth > 0:
            depth -= 1
            a, b = stack[depth, 0], stack[depth, 1]
            best, at = tolerance, -1
            for i in range(a + 1, b):
                d = _away(plan, a, b, i)
                if d > best:
                    best, at = d, i
            if at >= 0:
                keep[at] = True
                stack[depth, 0], stack[depth, 1] = a, at
                stack[depth + 1, 0], stack[depth + 1, 1] = at, b
                depth += 2
    return keep


@numba.njit(cache=True, nogil=True, inline="always")
def _away(plan, a, b, i):
    """Return the distance of a place from the stretch between two others."""
    ux, uy = plan[b, 0] - plan[a, 0], plan[b, 1] - plan[a, 1]
    wx, wy = plan[i, 0] - plan[a, 0], plan[i, 1] - plan[a, 1]
    square = ux * ux + uy * uy
    share = min(max((ux * wx + uy * wy) / square, 0.0), 1.0) if square > 0.0 else 0.0
    return np.hypot(wx - share * ux, wy - share * uy)
