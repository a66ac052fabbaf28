"""Pairs of lines, a group code and a value, as DXF files are made of."""

from __future__ import annotations

import numba
import numpy as np

from vastgrid.kernels.text.decimals import parse_number


@numba.njit(cache=True, nogil=True)
def scan_tags(data):
    """Return every tag of a text of group codes and values.

    Returns
    -------
    codes : (n,) int32
        Group codes.
    starts, stops : (n,) int64
        Where each value begins and ends, blanks cut off.
    words : (n,) uint64
        The value's first eight bytes, for telling names apart.
    fault : int
        Number of the first line that should be a group code and is not; 0 where all are.
    """
    size = data.shape[0]
    lines = 1
    for i in range(size):
        if data[i] == 10:
            lines += 1
    room = lines // 2 + 1
    codes = np.zeros(room, np.int32)
    starts = np.zeros(room, np.int64)
    stops = np.zeros(room, np.int64)
    words = np.zeros(room, np.uint64)
    n = 0
    i = 0
    line = 0
    while i < size:
        a = i
        while i < size and data[i] != 10:
            i += 1
        b = i
        i += 1
        line += 1
        while a < b and data[a] <= 32:
            a += 1
        while b > a and data[b - 1] <= 32:
            b -= 1
        if a == b and i >= size:
            break
        negative = a < b and data[a] == 45
        if negative:
            a += 1
        code = 0
        good = a < b and b - a < 6
        while a < b and good:
            good = 48 <= data[a] <= 57
            code = code * 10 + (data[a] - 48)
            a += 1
        if not good:
            return codes[:n], starts[:n], stops[:n], words[:n], line
        if i >= size:
            return codes[:n], starts[:n], stops[:n], words[:n], 0
        a = i
        while i < size and data[i] != 10:
            i += 1
        b = i
        i += 1
        line += 1
        while a < b and data[a] <= 32:
            a += 1
        while b > a and data[b - 1] <= 32:
            b -= 1
        codes[n] = -code if negative else code
        starts[n], stops[n] = a, b
        word = np.uint64(0)
        for k in range(8):
            word = word << np.uint64(8)
            if a + k < b:
                word |= np.uint64(data[a + k])
        words[n] = word
        n += 1
    return codes[:n], starts[:n], stops[:n], words[:n], 0


def word(text: str) -> np.uint64:
    """Return what `scan_tags` gives for a value that begins with this text."""
    return np.uint64(int.from_bytes(text.encode()[:8].ljust(8, b"\0"), "big"))


@numba.njit(cache=True, nogil=True)
def tag_numbers(data, codes, starts, stops):
    """Return the value of every tag whose group code says that it is a number; NaN for others and unreadable ones.

    By the DXF reference, 10–59 and 210–239 are reals, 60–79 and 90–99 whole numbers.
    """
    out = np.full(codes.shape[0], np.nan)
    for i in range(codes.shape[0]):
        c = codes[i]
        if 10 <= c <= 79 or 90 <= c <= 99 or 210 <= c <= 239:
            out[i] = parse_number(data, starts[i], stops[i], False)[0]
    return out


@numba.njit(cache=True, nogil=True)
def with_plain_exponents(data, codes, starts, stops):
    """Write E for the D of an exponent, in place, in every tag that is a real: other readers know no other letter.

    By the DXF reference, 10–59, 110–149, 210–239, 460–469 and 1010–1059 are reals.
    """
    for i in range(codes.shape[0]):
        c = codes[i]
        if 10 <= c <= 59 or 110 <= c <= 149 or 210 <= c <= 239 or 460 <= c <= 469 or 1010 <= c <= 1059:
            for k in range(starts[i], stops[i]):
                if (data[k] == 68 or data[k] == 100) and parse_number(data, starts[i], stops[i], False)[1]:
                    data[k] = 69


@numba.njit(cache=True, nogil=True)
def tag_hashes(data, starts, stops):
    """Return a 64-bit hash of each value (FNV-1a), for grouping equal ones."""
    out = np.zeros(starts.shape[0], np.uint64)
    for i in range(starts.shape[0]):
        state = np.uint64(14695981039346656037)
        for k in range(starts[i], stops[i]):
            state = (state ^ np.uint64(data[k])) * np.uint64(1099511628211)
        out[i] = state
    return out
