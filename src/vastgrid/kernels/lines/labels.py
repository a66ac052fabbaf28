"""Where labels go along lines: fairly straight, on their line, and never over each other."""

from __future__ import annotations

import numba
import numpy as np


@numba.njit(cache=True, nogil=True)
def placed_labels(plan, offsets, along, width, height, above, uphill, line, at, reach, must, shunned, shun_line, shun):
    """Return where labels are put, of many places where they may be, the first come first.

    Parameters
    ----------
    plan : (n, 2) float64
        Vertices of all lines.
    offsets : (k + 1,) int64
        Where each line begins.
    along : (n,) float64
        Length along its line to each vertex.
    width : (k,) float64
        How wide a label of each line is, in the unit of plan.
    height : float
        How tall.
    above : bool
        Whether labels stand above their line instead of on it.
    uphill : bool
        Whether they are upright for who looks uphill, with the line's left side above; otherwise for the reader.
    line, at, reach, must : (c,) int64, float64, float64, bool
        Candidates: their line, how far along it, how far they may be moved along it, and whether they stay there in any
        case.
    shunned : (s, 2) float64
        Places that labels of some lines keep away from, by `shun`.
    shun_line : (s, k) bool
        Which lines that is.

    Returns
    -------
    chosen : (l,) int64
        Candidates that were put.
    out : (l, 4) float64
        Of each: easting and northing of its middle, angle in radians counter-clockwise from east, and how far along.
    """
    number = line.shape[0]
    chosen = np.zeros(number, np.int64)
    out = np.zeros((number, 4))
    half = np.zeros(number)
    count = 0
    widest = height
    for k in range(width.shape[0]):
        widest = max(widest, width[k])
    size = np.hypot(widest, height) * 1.001
    room = 64
    while room < 4 * number:
        room *= 2
    head = np.full(room, -1, np.int64)
    follow = np.full(number, -1, np.int64)
    for c in range(number):
        k = line[c]
        w = width[k]
        whole = along[offsets[k + 1] - 1] if offsets[k + 1] > offsets[k] else 0.0
        if whole < w and not must[c]:
            continue
        tries = 1 if must[c] else 1 + 2 * int(reach[c] / (0.5 * w))
        for t in range(tries):
            move = 0.5 * w * ((t + 1) // 2) * (1 if t % 2 else -1)
            s = at[c] + move
            if must[c]:
                s = min(max(s, min(0.5 * w, 0.5 * whole)), max(whole - 0.5 * w, 0.5 * whole))
            elif s - 0.5 * w < 0.0 or s + 0.5 * w > whole:
                continue
            x0, y0, i0 = _at(plan, along, offsets[k], offsets[k + 1], s - 0.5 * w)
            x1, y1, i1 = _at(plan, along, offsets[k], offsets[k + 1], s + 0.5 * w)
            ux, uy = x1 - x0, y1 - y0
            chord = np.hypot(ux, uy)
            if chord == 0.0 or (not must[c] and chord < 0.93 * w):
                continue
            ux, uy = ux / chord, uy / chord
            worst = 0.0
            for i in range(i0 + 1, i1 + 1):
                worst = max(worst, abs((plan[i, 0] - x0) * uy - (plan[i, 1] - y0) * ux))
            if worst > 0.4 * height and not must[c]:
                continue
            # Text goes along the line, which has higher ground on its left, or is turned for the reader.
            turned = not uphill and (ux < -1e-12 or (abs(ux) <= 1e-12 and uy < 0.0))
            if turned:
                ux, uy = -ux, -uy
            mx, my, _ = _at(plan, along, offsets[k], offsets[k + 1], s)
            if above:
                mx, my = mx - 0.85 * height * uy, my + 0.85 * height * ux
            if not must[c] and _shunned(mx, my, k, shunned, shun_line, shun):
                continue
            if not must[c] and _over(mx, my, ux, uy, 0.5 * w, height, size, room, head, follow, out, half, chosen):
                continue
            out[count, 0], out[count, 1], out[count, 2], out[count, 3] = mx, my, np.arctan2(uy, ux), s
            chosen[count], half[count] = c, 0.5 * w
            slot = _slot(int(np.floor(mx / size)), int(np.floor(my / size)), room)
            follow[count] = head[slot]
            head[slot] = count
            count += 1
            break
    return chosen[:count].copy(), out[:count].copy()


@numba.njit(cache=True, nogil=True)
def _at(plan, along, first, stop, s):
    """Return the place so far along a line, and the last vertex before it."""
    low, high = first, stop - 1
    if s <= 0.0:
        return plan[first, 0], plan[first, 1], first
    if s >= along[high]:
        return plan[high, 0], plan[high, 1], high
    while high - low > 1:
        middle = (low + high) // 2
        if along[middle] <= s:
            low = middle
        else:
            high = middle
    share = (s - along[low]) / (along[high] - along[low])
    x = plan[low, 0] + share * (plan[high, 0] - plan[low, 0])
    return x, plan[low, 1] + share * (plan[high, 1] - plan[low, 1]), low


@numba.njit(cache=True, nogil=True, inline="always")
def _slot(x, y, room):
    hashed = np.uint64(x) * np.uint64(0x9E3779B97F4A7C15) ^ np.uint64(y) * np.uint64(0xC2B2AE3D27D4EB4F)
    return np.int64((hashed ^ (hashed >> np.uint64(31))) & np.uint64(room - 1))


@numba.njit(cache=True, nogil=True)
def _shunned(x, y, k, shunned, shun_line, shun):
    for i in range(shunned.shape[0]):
        if shun_line[i, k] and np.hypot(x - shunned[i, 0], y - shunned[i, 1]) < shun:
            return True
    return False


@numba.njit(cache=True, nogil=True)
def _over(x, y, ux, uy, half, height, size, room, head, follow, out, halves, chosen):
    """Return whether a label would lie over one that is there."""
    column, row = int(np.floor(x / size)), int(np.floor(y / size))
    for dx in range(-1, 2):
        for dy in range(-1, 2):
            j = head[_slot(column + dx, row + dy, room)]
            while j >= 0:
                vx, vy = np.cos(out[j, 2]), np.sin(out[j, 2])
                if boxes_meet(x, y, ux, uy, half, out[j, 0], out[j, 1], vx, vy, halves[j], 0.6 * height):
                    return True
                j = follow[j]
    return False


@numba.njit(cache=True, nogil=True)
def boxes_meet(ax, ay, ux, uy, a, bx, by, vx, vy, b, tall):
    """Return whether two boxes meet, by their middles, directions, half widths and common half height."""
    dx, dy = bx - ax, by - ay
    cos, sin = abs(ux * vx + uy * vy), abs(ux * vy - uy * vx)
    # Apart where a line along a side of either parts them.
    if abs(dx * ux + dy * uy) > a + b * cos + tall * sin:
        return False
    if abs(-dx * uy + dy * ux) > tall + b * sin + tall * cos:
        return False
    if abs(dx * vx + dy * vy) > b + a * cos + tall * sin:
        return False
    return abs(-dx * vy + dy * vx) <= tall + a * sin + tall * cos


@numba.njit(cache=True, nogil=True)
def without_stretches(plan, offsets, along, line, low, high):
    """Return lines without stretches of them, by how far along they begin and end, ordered by line and place.

    Returns
    -------
    out : (m, 2) float64
    starts : (l + 1,) int64
    source : (l,) int64
        The line that each piece is of.
    """
    number = line.shape[0]
    out = np.zeros((plan.shape[0] + 2 * number, 2))
    starts = np.zeros(offsets.shape[0] + number + 1, np.int64)
    source = np.zeros(offsets.shape[0] + number, np.int64)
    points = pieces = 0
    j = 0
    for k in range(offsets.shape[0] - 1):
        first, stop = offsets[k], offsets[k + 1]
        begin = 0.0
        whole = along[stop - 1] if stop > first else 0.0
        while True:
            cut = j < number and line[j] == k
            end = min(low[j], whole) if cut else whole
            start = points
            if end > begin or (begin == 0.0 and not cut):
                x, y, i = _at(plan, along, first, stop, begin)
                out[points, 0], out[points, 1] = x, y
                points += 1
                i += 1
                while i < stop and along[i] <= begin:
                    i += 1
                while i < stop and along[i] < end:
                    out[points] = plan[i]
                    points += 1
                    i += 1
                if end >= whole:
                    out[points] = plan[stop - 1]
                else:
                    x, y, i = _at(plan, along, first, stop, end)
                    out[points, 0], out[points, 1] = x, y
                points += 1
                if points - start >= 2:
                    source[pieces] = k
                    pieces += 1
                    starts[pieces] = points
                else:
                    points = start
            if not cut:
                break
            begin = max(begin, high[j])
            j += 1
            if begin >= whole:
                while j < number and line[j] == k:
                    j += 1
                break
    return out[:points].copy(), starts[: pieces + 1].copy(), source[:pieces].copy()
