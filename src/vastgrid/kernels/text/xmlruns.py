"""Long runs of small XML elements (``<P id="7">1 2 3</P>``, ``<F>1 2 3</F>``), read without an XML parser.

Only the plainest form is taken: at the first thing that differs the kernel stops before that element, and the caller
hands the rest to a real parser.
"""

from __future__ import annotations

import numba
import numpy as np

from vastgrid.kernels.text.decimals import parse_number


@numba.njit(cache=True, nogil=True)
def read_run(data, at, tag, wanted, numbers, ids, flags):
    """Read elements named by one letter, each holding three numbers.

    Parameters
    ----------
    data : (n,) uint8
        The file.
    at : int
        Where to begin.
    tag : int
        Byte of the element's name.
    wanted : int
        How many numbers each holds.
    numbers : (room, wanted) float64
        Filled with what is read.
    ids : (room,) int64
        Filled with the attribute ``id``, 0 where there is none.
    flags : (room,) bool
        Filled with whether the attribute ``i`` is 1.

    Returns
    -------
    count : int
        How many elements were read.
    at : int
        Where the first unread byte is.
    """
    size = data.shape[0]
    count = 0
    while count < numbers.shape[0]:
        i = at
        while i < size and data[i] <= 32:
            i += 1
        if i + 8 > size or data[i] != 60 or data[i + 1] != tag or (data[i + 2] != 62 and data[i + 2] > 32):
            break
        i += 2
        own_id = np.int64(0)
        flag = False
        good = True
        while good and i < size and data[i] != 62:
            if data[i] <= 32:
                i += 1
                continue
            a = i
            while i < size and data[i] != 61 and data[i] > 32 and data[i] != 62:
                i += 1
            b = i
            if i + 1 >= size or data[i] != 61 or (data[i + 1] != 34 and data[i + 1] != 39):
                good = False
                break
            quote = data[i + 1]
            i += 2
            c = i
            while i < size and data[i] != quote and data[i] != 60 and data[i] != 38:
                i += 1
            if i >= size or data[i] != quote:
                good = False
                break
            if b - a == 2 and data[a] == 105 and data[a + 1] == 100:
                if i == c or i - c > 18:
                    good = False
                    break
                for k in range(c, i):
                    if not 48 <= data[k] <= 57:
                        good = False
                    own_id = own_id * 10 + (data[k] - 48)
            elif b - a == 1 and data[a] == 105:
                flag = i - c == 1 and data[c] == 49
            i += 1
        if not good or i >= size:
            break
        i += 1
        for k in range(wanted):
            while i < size and data[i] <= 32:
                i += 1
            a = i
            while i < size and data[i] > 32 and data[i] != 60:
                i += 1
            value, _ = parse_number(data, a, i, False)
            if not np.isfinite(value):
                good = False
                break
            numbers[count, k] = value
        if not good:
            break
        while i < size and data[i] <= 32:
            i += 1
        if i + 4 > size or data[i] != 60 or data[i + 1] != 47 or data[i + 2] != tag or data[i + 3] != 62:
            break
        ids[count] = own_id
        flags[count] = flag
        count += 1
        at = i + 4
    return count, at
