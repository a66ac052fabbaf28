"""Columns of attributes on their way in and out: what a format cannot hold as it is goes out as text, or is said to be cut."""

from __future__ import annotations

from collections.abc import Callable, Collection, Mapping, Sequence
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


def as_numbers(values: Column) -> AsHeld:
    """Return yes and no as 1 and 0, for a format of numbers that knows nothing else; other columns as they are."""
    if values.dtype.kind == "b":
        return values.astype(np.uint8), "yes and no are written as 1 and 0"
    return values, ""


def cut_texts(values: Column, most: int) -> tuple[Column, int]:
    """Return texts of at most so many bytes, and how many were cut, each behind a whole letter."""
    if values.dtype.kind != "S" or values.dtype.itemsize <= most:
        return values, 0
    texts = values.tolist()
    long = sum(len(each) > most for each in texts)
    return (np.array([shortened(each, most) for each in texts]), long) if long else (values, 0)


def short_names(names: Sequence[str], longest: int) -> dict[str, str]:
    """Return names that are no longer than a format allows, and differ without regard to case: NAME, NAME_2.

    Parameters
    ----------
    longest : int
        Most bytes of UTF-8.
    """
    return different({name: in_bytes(name, longest) for name in names}, longest, in_bytes)


def in_bytes(name: str, room: int) -> str:
    """Return the beginning of a name that has at most so many bytes."""
    return shortened(name.encode(), room).decode()


def different_names(names: Sequence[str]) -> dict[str, str]:
    """Return names that differ without regard to case."""
    return different({name: name for name in names})


def different(
    called: Mapping[str, str],
    longest: int = 0,
    cut: Callable[[str, int], str] = lambda name, room: name[:room],
    taken: Collection[str] = (),
) -> dict[str, str]:
    """Return what each name is called, with an ending where two would be called alike but for the case: NAME, NAME_2.

    Parameters
    ----------
    longest : int
        Most letters, or whatever `cut` counts; 0 for any.
    cut : callable
        Name and how long it may be → its beginning.
    taken : collection of str
        What none may be called, in small letters.
    """
    found: dict[str, str] = {}
    used = {name.lower() for name in taken}
    # A name that is called as it is keeps its spelling, whichever comes before it.
    for name in sorted(called, key=lambda each: called[each] != each):
        short, number = called[name], 2
        while short.lower() in used:
            ending = f"_{number}"
            short, number = cut(called[name], (longest or 1 << 16) - len(ending)) + ending, number + 1
        used.add(short.lower())
        found[name] = short
    return {name: found[name] for name in called}
