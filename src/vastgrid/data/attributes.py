"""Attributes by name: every name keeps its spelling, and is found in any case."""

from __future__ import annotations

from typing import Any

import numpy as np
from numpy.typing import NDArray

_SIGNS = np.frombuffer(b"0123456789+-.eE\0", np.uint8)


class Attributes(dict[str, NDArray[Any]]):
    """Columns under the names that their source gives them; asked for in another case, the first such one is meant."""

    def spelled(self, name: str) -> str | None:
        """Return a name as it is spelled here; None where there is none of it."""
        if super().__contains__(name):
            return name
        small = name.lower()
        return next((own for own in self if own.lower() == small), None)

    def __contains__(self, name: object) -> bool:
        return isinstance(name, str) and self.spelled(name) is not None

    def __missing__(self, name: str) -> NDArray[Any]:
        spelled = self.spelled(name)
        if spelled is None:
            raise KeyError(name)
        return self[spelled]

    def get(self, name: str, default: Any = None) -> Any:
        """Return a column, or something else where there is none of that name."""
        spelled = self.spelled(name)
        return default if spelled is None else self[spelled]


def numbers_of_texts(values: NDArray[Any]) -> NDArray[Any] | None:
    """Return texts as the numbers that all of them are, whole ones as int64, others as float64; None where one is not.

    What begins with a zero that says nothing (007) is a name, and so is a whole number that int64 cannot hold.
    """
    if values.ndim != 1 or values.dtype.kind not in "SU" or not len(values):
        return None
    try:
        texts = np.ascontiguousarray(values.astype("S"))
    except UnicodeEncodeError:
        return None
    signs = texts.view(np.uint8).reshape(len(texts), -1)
    if not np.isin(signs, _SIGNS).all() or not signs[:, 0].all():
        return None
    at = np.isin(signs[:, 0], np.frombuffer(b"+-", np.uint8)).astype(np.intp)
    wide = np.pad(signs, ((0, 0), (0, 2)))
    row = np.arange(len(signs))
    digit = (wide[row, at + 1] >= ord("0")) & (wide[row, at + 1] <= ord("9"))
    if ((wide[row, at] == ord("0")) & digit).any():
        return None
    whole = not np.isin(signs, np.frombuffer(b".eE", np.uint8)).any()
    try:
        numbers = texts.astype(np.int64 if whole else np.float64)
    except (ValueError, OverflowError):
        return None
    return numbers if np.isfinite(numbers).all() else None
