"""Decimal numbers to doubles, correctly rounded: what Python's `float` gives, at the speed of the disk.

Short numbers go the exact way of Clinger (How to read floating point numbers accurately, PLDI 1990), all others that of
Lemire (Number parsing at a gigabyte per second, Software: Practice and Experience 51, 2021) with the bound of Mushtak and
Lemire (Fast number parsing without fallback, 2023). Numbers of more than nineteen digits whose double depends on what comes
after them are decided by whole numbers of any length.
"""

from __future__ import annotations

import numba
import numpy as np
from numpy.typing import NDArray

# Powers of ten whose product with a digit string of nineteen digits can be neither zero nor infinite.
_LEAST, _MOST = -342, 308
# So many digits decide between two neighbouring doubles; of later ones only counts whether all are zeros.
_DIGITS = 800


def _powers_of_five() -> NDArray[np.uint64]:
    """Return the upper 128 bits of 5**q for every q that matters, rounded up where a product may be exact (q >= -27)."""
    rows = []
    for q in range(_LEAST, _MOST + 1):
        power = 5 ** abs(q)
        if q < 0:
            size = (power - 1).bit_length()
            power = (1 << (size + 127 if q >= -27 else 2 * size + 128)) // power + 1
        size = power.bit_length()
        power = power >> (size - 128) if size > 128 else power << (128 - size)
        rows.append((power >> 64, power & (2**64 - 1)))
    return np.array(rows, np.uint64)


_FIVES = _powers_of_five()
_TENS = np.array([10.0**k for k in range(23)])
_WHOLE_TENS = np.array([10**k for k in range(20)], np.uint64)
_HALF = np.uint64(0xFFFFFFFF)
_U0, _U1, _U3, _U32 = np.uint64(0), np.uint64(1), np.uint64(3), np.uint64(32)
_HIDDEN = np.uint64(1 << 52)


@numba.njit(cache=True, nogil=True, inline="always")
def _product(a, b):
    """Return the upper and the lower 64 bits of a product of two uint64."""
    a0, a1, b0, b1 = a & _HALF, a >> _U32, b & _HALF, b >> _U32
    low, one, two = a0 * b0, a1 * b0, a0 * b1
    middle = (low >> _U32) + (one & _HALF) + (two & _HALF)
    return a1 * b1 + (one >> _U32) + (two >> _U32) + (middle >> _U32), (middle << _U32) | (low & _HALF)


@numba.njit(cache=True, nogil=True)
def _nearest(w, q):
    """Return mantissa and biased exponent of the double nearest to w · 10**q, w a uint64, as IEEE 754 stores them."""
    if w == _U0 or q < _LEAST:
        return _U0, np.int64(0)
    if q > _MOST:
        return _U0, np.int64(2047)
    zeros = 0
    while w >> np.uint64(63) == _U0:
        step = 32 if w >> _U32 == _U0 else (8 if w >> np.uint64(56) == _U0 else 1)
        w <<= np.uint64(step)
        zeros += step
    high, low = _product(w, _FIVES[q - _LEAST, 0])
    if high & np.uint64(0x1FF) == np.uint64(0x1FF):
        more, _ = _product(w, _FIVES[q - _LEAST, 1])
        low += more
        if more > low:
            high += _U1
    upper = np.int64(high >> np.uint64(63))
    shift = np.uint64(upper + 9)
    mantissa = high >> shift
    # 217706 / 2**16 stands for the binary logarithm of ten.
    power = ((np.int64(217706) * np.int64(q)) >> 16) + 63 + upper - zeros + 1023
    if power <= 0:
        if power <= -63:
            return _U0, np.int64(0)
        mantissa >>= np.uint64(1 - power)
        mantissa = (mantissa + (mantissa & _U1)) >> _U1
        return mantissa & ~_HIDDEN, np.int64(0 if mantissa < _HIDDEN else 1)
    # Exactly half-way: to even.
    if low <= _U1 and -4 <= q <= 23 and mantissa & _U3 == _U1 and mantissa << shift == high:
        mantissa &= ~_U1
    mantissa = (mantissa + (mantissa & _U1)) >> _U1
    if mantissa >= _HIDDEN << _U1:
        mantissa = _HIDDEN
        power += 1
    if power >= 2047:
        return _U0, np.int64(2047)
    return mantissa & ~_HIDDEN, power


@numba.njit(cache=True, nogil=True)
def _times(limbs, size, factor, carry):
    """Multiply a whole number of 32-bit limbs in place, add a carry, and return how many limbs it has now."""
    for k in range(size):
        value = limbs[k] * factor + carry
        limbs[k] = value & _HALF
        carry = value >> _U32
    if carry:
        limbs[size] = carry
        size += 1
    return size


@numba.njit(cache=True, nogil=True)
def _shifted(limbs, size, bits):
    """Shift a whole number of 32-bit limbs to the left in place, and return how many limbs it has now."""
    whole = bits // 32
    size = _times(limbs, size, _U1 << np.uint64(bits % 32), _U0)
    for k in range(size - 1, -1, -1):
        limbs[k + whole] = limbs[k]
    limbs[:whole] = _U0
    return size + whole


@numba.njit(cache=True, nogil=True)
def _above_middle(data, start, stop, mark, scale, mantissa, power):
    """Return whether digits · 10**scale lie above (1), on (0) or below (-1) the middle of a double and the next one.

    Parameters
    ----------
    data, start, stop : bytes and where the digits stand in them
    mark : int
        The decimal point's byte, passed over.
    scale : int
        Power of ten of the digit after the last one that counts, were all of them whole.
    mantissa, power : as `_nearest` gives them
    """
    left, right = np.zeros(1200, np.uint64), np.zeros(1200, np.uint64)
    size, used, rest = 0, 0, False
    dropped = 0
    for i in range(start, stop):
        c = data[i]
        if c == mark or (used == 0 and c == 48):
            continue
        if used < _DIGITS:
            size = _times(left, size, np.uint64(10), np.uint64(c - 48))
            used += 1
        else:
            dropped += 1
            rest = rest or c != 48
    scale += dropped
    if rest:
        size = _times(left, size, np.uint64(10), _U1)
        scale -= 1
    whole = (mantissa << _U1) + _U1 if power == 0 else ((mantissa | _HIDDEN) << _U1) + _U1
    right[0], right[1] = whole & _HALF, whole >> _U32
    length = 2
    twos = (max(power, 1) - 1076) - scale
    # Both sides without their power of ten: 10**scale = 5**scale · 2**scale.
    for _ in range(abs(scale)):
        if scale > 0:
            size = _times(left, size, np.uint64(5), _U0)
        else:
            length = _times(right, length, np.uint64(5), _U0)
    if twos > 0:
        length = _shifted(right, length, twos)
    elif twos < 0:
        size = _shifted(left, size, -twos)
    for k in range(max(size, length) - 1, -1, -1):
        if left[k] != right[k]:
            return 1 if left[k] > right[k] else -1
    return 0


@numba.njit(cache=True, nogil=True)
def parse_number(data, start, stop, comma):
    """Read a decimal number from bytes: digits, one point, an exponent after E or D; blanks around it.

    Returns
    -------
    value : float
        The nearest double, ties to even; infinite where it is too large for one; NaN where there is no number.
    good : bool
        Whether all of it is a number.
    """
    while start < stop and (data[start] == 32 or data[start] == 9):
        start += 1
    while stop > start and (data[stop - 1] == 32 or data[stop - 1] == 9 or data[stop - 1] == 13):
        stop -= 1
    negative = False
    if start < stop and (data[start] == 45 or data[start] == 43):
        negative = data[start] == 45
        start += 1
    mark = 44 if comma else 46
    mantissa, digits, scale, more = _U0, 0, 0, False
    point, seen = False, False
    i = start
    while i < stop:
        c = data[i]
        if 48 <= c <= 57:
            seen = True
            if digits < 19:
                mantissa = mantissa * np.uint64(10) + np.uint64(c - 48)
                if mantissa != _U0:
                    digits += 1
                scale -= point
            else:
                more = more or c != 48
                scale += not point
        elif c == mark and not point:
            point = True
        elif c == 101 or c == 69 or c == 68 or c == 100:
            break
        else:
            return np.nan, False
        i += 1
    if not seen:
        return np.nan, False
    end = i
    if i < stop:
        i += 1
        minus = i < stop and data[i] == 45
        if i < stop and (data[i] == 45 or data[i] == 43):
            i += 1
        if i >= stop:
            return np.nan, False
        power = 0
        while i < stop:
            if not 48 <= data[i] <= 57:
                return np.nan, False
            # Beyond any double, however many digits stand before it.
            power = min(power * 10 + (data[i] - 48), 1_000_000_000_000)
            i += 1
        scale += -power if minus else power
    if not more and mantissa <= np.uint64(1 << 53) and -22 <= scale <= 22:
        value = np.float64(np.int64(mantissa))
        value = value / _TENS[-scale] if scale < 0 else value * _TENS[scale]
        return (-value if negative else value), True
    bits, power = _nearest(mantissa, scale)
    if more:
        # The digits that were passed over make it larger, by less than one of the last digit read.
        upper, above = _nearest(mantissa + _U1, scale)
        if (upper != bits or above != power) and power != 2047:
            side = _above_middle(data, start, end, mark, _last(data, start, end, mark, scale), bits, power)
            if side > 0 or (side == 0 and bits & _U1 == _U1):
                bits, power = upper, above
    value = _double(bits, power)
    return (-value if negative else value), True


@numba.njit(cache=True, nogil=True)
def _last(data, start, stop, mark, scale):
    """Return the power of ten of the last digit, from that of the nineteenth that counts."""
    used = 0
    for i in range(start, stop):
        if data[i] != mark and (used or data[i] != 48):
            used += 1
    return scale - (used - 19)


@numba.njit(cache=True, nogil=True)
def _double(bits, power):
    """Return the double of these stored bits and this biased exponent."""
    return np.uint64((np.uint64(power) << np.uint64(52)) | bits).view(np.float64)


@numba.njit(cache=True, nogil=True, inline="always")
def _blank(c):
    return c == 32 or 9 <= c <= 13


@numba.njit(cache=True, nogil=True)
def _words(data):
    """Return how many words there are, parted by blanks and ends of lines."""
    number = 0
    inside = False
    for c in data:
        blank = _blank(c)
        number += not blank and not inside
        inside = not blank
    return number


@numba.njit(cache=True, nogil=True)
def _read_words(data, out, void):
    k = 0
    i = 0
    while i < data.shape[0]:
        if _blank(data[i]):
            i += 1
            continue
        a = i
        while i < data.shape[0] and not _blank(data[i]):
            i += 1
        value, good = parse_number(data, a, i, False)
        if not good and void:
            b = a + 1 if data[a] == 45 or data[a] == 43 else a
            good = i - b == 3 and data[b] | 32 == 110 and data[b + 1] | 32 == 97 and data[b + 2] | 32 == 110
        elif not np.isfinite(value):
            good = False
        if not good:
            return a
        out[k] = value
        k += 1
    return -1


def read_words(text: bytes | memoryview, *, void: bool = False) -> tuple[NDArray[np.float64], int]:
    """Return the numbers of a text, parted by blanks and ends of lines.

    Parameters
    ----------
    void : bool
        Whether ``nan`` stands for no value; otherwise it is no number.

    Returns
    -------
    values : (n,) float64
        A number for each word.
    at : int
        Where the first word begins that is no finite number; -1 where all are.
    """
    data = np.frombuffer(text, np.uint8)
    out = np.full(_words(data), np.nan)
    return out, int(_read_words(data, out, void))


def number_of(word: str) -> float:
    """Return the number that a word is.

    Raises
    ------
    ValueError
        If it is no finite one.
    """
    data = np.frombuffer(word.encode(), np.uint8)
    value, good = parse_number(data, 0, len(data), False)
    if not good or not np.isfinite(value):
        raise ValueError(f"not a number: {word[:40]}")
    return float(value)
