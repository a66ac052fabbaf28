"""Numbers to text and back at the speed of the disk: rows from a template, and delimited fields to columns."""

from __future__ import annotations

import re
from collections.abc import Iterator, Sequence

import numba
import numpy as np
from numpy.typing import NDArray

from vastgrid.base.errors import DataError
from vastgrid.kernels.text.decimals import parse_number

HEX = -1
_SLOT = re.compile(rb"\{\}")


class RowTemplate:
    """Text rows such as ``<P id="{}">{} {} {}</P>``, rendered from columns of numbers.

    Parameters
    ----------
    template : str or bytes
        Text with ``{}`` where a number goes; as bytes where it is not to be UTF-8.
    decimals : sequence of int
        For each slot, how many decimals its number gets: 0 for whole numbers, `HEX` for capital hexadecimal.
    """

    def __init__(self, template: str | bytes, decimals: Sequence[int]) -> None:
        parts = _SLOT.split(template.encode() if isinstance(template, str) else template)
        if len(parts) != len(decimals) + 1:
            raise ValueError("a template needs a number of decimals for each slot")
        self._text = np.frombuffer(b"".join(parts), np.uint8)
        self._ends = np.cumsum([len(part) for part in parts]).astype(np.int64)
        self._decimals = np.array(decimals, np.int64)
        self._width = len(self._text) + 22 * len(decimals)

    def blocks(self, columns: Sequence[NDArray[np.generic]], size: int = 20_000) -> Iterator[memoryview]:
        """Yield the rendered rows, `size` rows at a time.

        Raises
        ------
        DataError
            If a number is not finite or too large for its decimals.
        """
        count = len(columns[0])
        for start in range(0, count, size):
            stop = min(start + size, count)
            whole = np.zeros((stop - start, len(columns)), np.int64)
            for k, column in enumerate(columns):
                whole[:, k] = scaled(column[start:stop], max(int(self._decimals[k]), 0))
            out = np.zeros((stop - start) * self._width, np.uint8)
            ends = np.zeros(stop - start, np.int64)
            yield out[: _render(whole, self._decimals, self._text, self._ends, out, ends)].data

    def rows(self, columns: Sequence[NDArray[np.generic]]) -> tuple[memoryview, list[int]]:
        """Return all rows at once, and where each ends: for interleaving with others.

        Raises
        ------
        DataError
            As `blocks`.
        """
        count = len(columns[0])
        whole = np.zeros((count, len(columns)), np.int64)
        for k, column in enumerate(columns):
            whole[:, k] = scaled(column, max(int(self._decimals[k]), 0))
        out = np.zeros(count * self._width, np.uint8)
        ends = np.zeros(count, np.int64)
        size = _render(whole, self._decimals, self._text, self._ends, out, ends)
        return out[:size].data, ends.tolist()


def scaled(column: NDArray[np.generic], decimals: int) -> NDArray[np.int64]:
    """Return a column as whole numbers of its last decimal place.

    Raises
    ------
    DataError
        If a number is not finite, or is too large to be told from its neighbour at that many decimals.
    """
    if column.dtype.kind in "iu" and decimals == 0:
        return column.astype(np.int64)
    values = np.rint(column.astype(np.float64) * 10.0**decimals)
    if len(values) and not np.abs(values).max() < 2.0**53:
        bad = column[~(np.abs(values) < 2.0**53)][0]
        raise DataError(f"the number {bad} cannot be written with {decimals} decimals; choose fewer decimals")
    return values.astype(np.int64)


@numba.njit(cache=True, nogil=True)
def _render(whole, decimals, text, ends, out, row_ends):
    n = 0
    digits = np.zeros(24, np.uint8)
    for i in range(whole.shape[0]):
        place = 0
        for k in range(whole.shape[1]):
            while place < ends[k]:
                out[n] = text[place]
                n += 1
                place += 1
            value, point = whole[i, k], decimals[k]
            if value < 0:
                out[n] = 45
                n += 1
                value = -value
            size = 0
            if point == HEX:
                while True:
                    digit = value & 15
                    digits[size] = digit + 48 if digit < 10 else digit + 55
                    size += 1
                    value >>= 4
                    if value == 0:
                        break
            else:
                while True:
                    digits[size] = 48 + value % 10
                    size += 1
                    value //= 10
                    if size == point:
                        digits[size] = 46
                        size += 1
                        point = -2
                        if value == 0:
                            digits[size] = 48
                            size += 1
                    if value == 0 and (point <= 0):
                        break
            for d in range(size - 1, -1, -1):
                out[n] = digits[d]
                n += 1
        while place < text.shape[0]:
            out[n] = text[place]
            n += 1
            place += 1
        row_ends[i] = n
    return n


@numba.njit(cache=True, nogil=True)
def line_starts(data):
    """Return where each line begins, and one past the end; LF, CRLF and CR all end a line."""
    n = data.shape[0]
    count = 1
    for i in range(n):
        if data[i] == 10 or (data[i] == 13 and (i + 1 >= n or data[i + 1] != 10)):
            count += 1
    out = np.zeros(count + 1, np.int64)
    line = 1
    for i in range(n):
        if data[i] == 10 or (data[i] == 13 and (i + 1 >= n or data[i + 1] != 10)):
            out[line] = i + 1
            line += 1
    if out[count - 1] == n:
        out[count - 1] = n
        return out[:count].copy()
    out[count] = n
    return out


@numba.njit(cache=True, nogil=True)
def split_fields(data, starts, first, delimiter, quote, comment, wanted, numeric, comma, merge):
    """Split lines into fields and read some of them.

    Parameters
    ----------
    data : (n,) uint8
        The text.
    starts : (lines + 1,) int64
        From `line_starts`.
    first : int
        First line to read.
    delimiter, quote, comment : int
        Byte that parts fields (any white space where it is 32), byte that encloses them, byte that begins a comment.
    wanted : (k,) int64
        Field number of each column to return, from 0.
    numeric : (k,) bool
        Which of them are numbers.
    comma : bool
        Whether numbers have a decimal comma.
    merge : bool
        Whether the last column takes the rest of the line.

    Returns
    -------
    numbers : (lines, k) float64
        NaN where a field is text or not a number.
    places : (lines, k, 2) int64
        Where each field begins and ends.
    status : (lines,) int8
        0 good, 1 blank or comment, 2 too few fields, 3 + column where there is no finite number.
    """
    lines = starts.shape[0] - 1
    rows = max(lines - first, 0)
    k = wanted.shape[0]
    numbers = np.full((rows, k), np.nan)
    places = np.zeros((rows, k, 2), np.int64)
    status = np.zeros(rows, np.int8)
    top = 0
    for j in range(k):
        top = max(top, wanted[j])
    for row in range(rows):
        begin, end = starts[first + row], starts[first + row + 1]
        while end > begin and (data[end - 1] == 10 or data[end - 1] == 13):
            end -= 1
        i = begin
        while i < end and (data[i] == 32 or data[i] == 9) and data[i] != delimiter:
            i += 1
        if delimiter == 32:
            while i < end and (data[i] == 32 or data[i] == 9):
                i += 1
        if i >= end or data[i] == comment:
            status[row] = 1
            continue
        field = 0
        found = 0
        while True:
            if delimiter == 32:
                while i < end and (data[i] == 32 or data[i] == 9):
                    i += 1
                if i >= end:
                    break
            a = i
            b = i
            s = i
            while s < end and data[s] == 32 and delimiter != 32:
                s += 1
            quoted = s < end and data[s] == quote
            if quoted:
                a = s + 1
                i = s + 1
                # A doubled quote stands for one inside the field.
                while i < end and (data[i] != quote or (i + 1 < end and data[i + 1] == quote)):
                    i += 2 if data[i] == quote else 1
                b = min(i, end)
                i = b
                while i < end and data[i] != delimiter:
                    i += 1
            else:
                while i < end and data[i] != delimiter and not (delimiter == 32 and data[i] == 9):
                    i += 1
                b = i
            for j in range(k):
                if wanted[j] == field:
                    places[row, j, 0] = a
                    if merge and field == top and not quoted:
                        # The rest of the line, without empty fields at its end.
                        b = end
                        while b > a and (data[b - 1] == delimiter or data[b - 1] <= 32):
                            b -= 1
                    places[row, j, 1] = b
                    found += 1
                    if numeric[j]:
                        value, _ = parse_number(data, a, b, comma)
                        numbers[row, j] = value
                        if status[row] == 0 and not np.isfinite(value):
                            status[row] = 3 + j
            field += 1
            if i >= end or field > top:
                break
            if delimiter != 32:
                i += 1
        if found < k:
            missing = False
            for j in range(k):
                if wanted[j] >= field and numeric[j]:
                    missing = True
            if missing:
                status[row] = 2
    return numbers, places, status


@numba.njit(cache=True, nogil=True)
def gather_text(data, places, width):
    """Copy fields into a (rows, width) uint8 table, blanks at both ends cut off."""
    out = np.zeros((places.shape[0], width), np.uint8)
    for row in range(places.shape[0]):
        a, b = places[row, 0], places[row, 1]
        while a < b and data[a] <= 32:
            a += 1
        while b > a and data[b - 1] <= 32:
            b -= 1
        for i in range(min(b - a, width)):
            out[row, i] = data[a + i]
    return out


@numba.njit(cache=True, nogil=True)
def _lines_with(data, starts, mark, least, out):
    found = 0
    for i in range(starts.shape[0] - 1):
        marks, quoted = 0, False
        for k in range(starts[i], starts[i + 1]):
            if data[k] == mark and not quoted:
                marks += 1
            elif data[k] == 34:
                quoted = not quoted
        if marks >= least and found < out.shape[0]:
            out[found] = i
            found += 1
    return found


def lines_with(data: NDArray[np.uint8], starts: NDArray[np.int64], mark: int, least: int) -> NDArray[np.int64]:
    """Return the lines in which a mark stands at least so often outside quotes.

    Parameters
    ----------
    data : (N,) array of uint8
        The text.
    starts : (L + 1,) array of int64
        Where each line begins, and where the last one ends.
    mark, least : int
        The byte, and how often it has to stand.
    """
    out = np.zeros(max(len(starts) - 1, 0), np.int64)
    return out[: _lines_with(data, starts, mark, least, out)].copy()
