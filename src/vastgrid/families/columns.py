"""Columns of attributes on their way in and out: what a format cannot hold as it is goes out as text, or is said to be cut."""

from __future__ import annotations

from collections.abc import Sequence
from typing import Any

import numpy as np
from numpy.typing import NDArray

from vastgrid.base.words import plain

# Beyond it, not every whole number is a double.
EXACT = 2**53
# A column of texts takes as many bytes for each as the longest has.
_ROOM = 512 << 20
_ALWAYS = 250

Column = NDArray[Any]
AsHeld = tuple[Column, str]
"""What of a column goes into a file, and what that does to it, for a sentence; nothing where it stays as it is."""


def kept(_name: str, values: Column, _params: object) -> AsHeld:
    """Return a column as it is."""
    return values, ""


def longest_text(number: int) -> int:
    """Return how many bytes of each of so many texts there is room for."""
    return max(_ALWAYS, _ROOM // max(number, 1))


def text_column(texts: Sequence[object]) -> tuple[Column, int]:
    """Return texts as bytes of UTF-8, an empty one for None, and how many had to be cut for want of room."""
    coded = [b"" if each is None else plain(each).encode() for each in texts]
    most = longest_text(len(coded))
    cut = sum(len(each) > most for each in coded)
    if cut:
        coded = [shortened(each, most) for each in coded]
    return np.array(coded or [b""])[: len(coded)], cut


def shortened(text: bytes, most: int) -> bytes:
    """Return the beginning of a text of UTF-8 that has at most so many bytes and ends with a whole letter."""
    while most > 0 and len(text) > most and text[most] & 0xC0 == 0x80:
        most -= 1
    return text[:most]


def as_text(values: Column) -> Column:
    """Return a column of numbers as texts that hold all of their digits; nothing for what is not a number."""
    return text_column(["" if value != value else str(value) for value in values.tolist()])[0]


def whole_beyond(values: Column, limit: int) -> bool:
    """Say whether a column has whole numbers beyond a limit on either side."""
    if values.dtype.kind not in "iu" or len(values) == 0:
        return False
    return int(values.max()) > limit or int(values.min()) < -limit


def without_large_unsigned(_name: str, values: Column, _params: object) -> AsHeld:
    """Return a column with whole numbers of at most 63 bits; larger ones as text."""
    if values.ndim == 1 and values.dtype.kind == "u" and whole_beyond(values, 2**63 - 1):
        return as_text(values), "whole numbers beyond 2^63, written as text"
    return values, ""


def cut_texts(values: Column, most: int) -> tuple[Column, int]:
    """Return texts of at most so many bytes, and how many were cut, each behind a whole letter."""
    if values.dtype.kind != "S" or values.dtype.itemsize <= most:
        return values, 0
    texts = values.tolist()
    long = sum(len(each) > most for each in texts)
    return (np.array([shortened(each, most) for each in texts]), long) if long else (values, 0)
