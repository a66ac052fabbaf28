"""What all data kinds share: a name, a frame, read-only arrays, and a digest of their content."""

from __future__ import annotations

import dataclasses
import hashlib
import json
from abc import ABC, abstractmethod
from collections.abc import Callable
from dataclasses import dataclass, field
from typing import Any, ClassVar, Self

import numpy as np
from numpy.typing import NDArray

from vastgrid.base.disk_arrays import large_array, pieces, release
from vastgrid.data.frame import UNKNOWN, Frame

Floats = NDArray[np.float64]
Ints = NDArray[np.int32]
Flags = NDArray[np.bool_]

# What the third coordinate of a surface can be by the words of every format: heights, or how far one lies above another.
HEIGHT = "height"
DIFFERENCE = "height difference"


def frozen(values: Any, dtype: Any, shape: tuple[int, ...], what: str) -> NDArray[Any]:
    """Return values as a read-only, contiguous array of a type and shape (-1 stands for any length).

    Raises
    ------
    ValueError
        If the shape differs.
    """
    array = np.ascontiguousarray(values, dtype=dtype)
    if array.ndim != len(shape) or any(want not in (-1, have) for want, have in zip(shape, array.shape, strict=True)):
        raise ValueError(f"{what} has shape {array.shape}, not {shape}")
    if array.flags.writeable:
        array = array.view()
        array.flags.writeable = False
    return array


def fixed(array: NDArray[Any]) -> NDArray[Any]:
    """Return a read-only view: to compiled code that is another type, and one type is compiled once."""
    if not array.flags.writeable:
        return array
    view = array.view()
    view.flags.writeable = False
    return view


def scaled(values: Floats, plan: float, height: float) -> Floats:
    """Return (n, 3) coordinates multiplied; a large array stays in a file, and is worked on piece by piece."""
    out = large_array(values.shape, np.float64)
    at = 0
    for piece in pieces(values):
        out[at : at + len(piece)] = piece * (plan, plan, height)
        at += len(piece)
        release(out)
    return out


@dataclass(frozen=True, slots=True)
class Extent:
    """Smallest and largest easting, northing and elevation, each pair None where there is nothing finite."""

    east: tuple[float, float] | None
    north: tuple[float, float] | None
    elevation: tuple[float, float] | None

    def to_json(self) -> dict[str, list[float] | None]:
        """Return plain lists."""
        return {
            name: None if pair is None else [pair[0], pair[1]]
            for name, pair in (("east", self.east), ("north", self.north), ("elevation", self.elevation))
        }

    @staticmethod
    def from_json(values: dict[str, list[float] | None]) -> Extent:
        """Return the extent that `to_json` gave."""
        pairs = [None if pair is None else (float(pair[0]), float(pair[1])) for pair in values.values()]
        return Extent(*pairs)


def span(values: Floats) -> tuple[float, float] | None:
    """Return the smallest and largest finite value, or None."""
    if values.size == 0:
        return None
    low, high = np.inf, -np.inf
    for piece in pieces(values):
        least, most = float(np.min(piece)), float(np.max(piece))
        if not (np.isfinite(least) and np.isfinite(most)):
            finite = piece[np.isfinite(piece)]
            if finite.size == 0:
                continue
            least, most = float(finite.min()), float(finite.max())
        low, high = min(low, least), max(high, most)
    return (low, high) if low <= high else None


@dataclass(frozen=True, eq=False, kw_only=True)
class Dataset(ABC):
    """Base of the data kinds. Immutable; compared by identity, told apart by `digest`."""

    kind: ClassVar[str] = ""
    title: ClassVar[str] = ""
    name: str = ""
    frame: Frame = UNKNOWN
    # Made anew by every `dataclasses.replace`, so that no copy with other arrays can keep an old digest.
    _digest: list[str] = field(default_factory=list, repr=False, init=False)
    # Digest of the arrays alone: copies under another name or frame share it, and no large array is read twice for it.
    _content: list[str] = field(default_factory=list, repr=False, init=False)
    _extent: list[Extent] = field(default_factory=list, repr=False, init=False)
    # What takes long to work out from the arrays: an index of triangles. Copies under another name share it too.
    _worked_out: dict[str, Any] = field(default_factory=dict, repr=False, init=False)

    @property
    def has_heights(self) -> bool:
        """Whether its third coordinate is a height; a grid may hold another quantity."""
        return True

    @property
    def has_lengths(self) -> bool:
        """Whether its third coordinate is in the frame's unit of heights: heights, or differences of heights."""
        return self.has_heights

    @property
    def located(self) -> bool:
        """Whether it lies somewhere; a table does not."""
        return True

    @abstractmethod
    def count(self) -> dict[str, int]:
        """Return how many of what there are, by the names the command line uses."""

    @abstractmethod
    def coordinates(self) -> Floats:
        """Return every coordinate triple, (n, 3) float64."""

    def as_lines(self) -> Any:
        """Return it as 3D lines on layers, where it is lines of some kind; None otherwise."""
        return None

    def courses(self) -> tuple[Floats, NDArray[np.int64]] | None:
        """Return it as courses, where it has some: places (n, ≥ 2), and where each course begins, (k + 1,)."""
        return None

    def extent(self) -> Extent:
        """Return the extent of the coordinates, computed once."""
        if not self._extent:
            xyz = self.coordinates()
            self._extent.append(Extent(span(xyz[:, 0]), span(xyz[:, 1]), span(xyz[:, 2])))
        return self._extent[0]

    @abstractmethod
    def with_coordinates(self, plan: float, height: float, frame: Frame) -> Self:
        """Return the dataset with plan coordinates and heights multiplied, in another frame."""

    def renamed(self, name: str) -> Self:
        """Return the same data under another name."""
        return self._alike(dataclasses.replace(self, name=name))

    def in_frame(self, frame: Frame) -> Self:
        """Return the same numbers declared to be in another frame."""
        return self._alike(dataclasses.replace(self, frame=frame))

    def _alike(self, other: Self) -> Self:
        object.__setattr__(other, "_content", self._content)
        object.__setattr__(other, "_extent", self._extent)
        object.__setattr__(other, "_worked_out", self._worked_out)
        return other

    def arrays(self) -> dict[str, NDArray[Any]]:
        """Return every array by its path: ``triangles``, ``attributes/intensity``."""
        found: dict[str, NDArray[Any]] = {}
        for each in dataclasses.fields(self):
            value = getattr(self, each.name)
            if each.name.startswith("_"):
                continue
            if isinstance(value, np.ndarray):
                found[each.name] = value
            elif isinstance(value, dict):
                found |= {f"{each.name}/{key}": array for key, array in value.items()}
        return found

    def scalars(self) -> dict[str, Any]:
        """Return what is neither array nor frame, as plain values."""
        return {
            each.name: getattr(self, each.name)
            for each in dataclasses.fields(self)
            if not isinstance(getattr(self, each.name), np.ndarray | dict | Frame) and each.init
        }

    @property
    def content(self) -> str:
        """Digest of the arrays alone, computed once."""
        if not self._content:
            state = hashlib.blake2b(self.kind.encode(), digest_size=16)
            for name, array in sorted(self.arrays().items()):
                state.update(f"{name}{array.dtype.str}{array.shape}".encode())
                for piece in pieces(array) if array.size else ():
                    state.update(np.ascontiguousarray(piece).view(np.uint8).data)
            self._content.append(state.hexdigest())
        return self._content[0]

    def known_content(self, digest: str) -> None:
        """Take over the digest of the arrays from where they were kept."""
        if not self._content:
            self._content.append(digest)

    def known_extent(self, extent: Extent) -> None:
        """Take over the extent from where it was kept."""
        if not self._extent:
            self._extent.append(extent)

    def worked_out(self, name: str, make: Callable[[], Any]) -> Any:
        """Return something that takes long to work out from the arrays, worked out once."""
        if name not in self._worked_out:
            self._worked_out[name] = make()
        return self._worked_out[name]

    def is_worked_out(self, name: str) -> bool:
        """Return whether that is there already."""
        return name in self._worked_out

    @property
    def digest(self) -> str:
        """Digest of everything, computed once."""
        if not self._digest:
            state = hashlib.blake2b(self.content.encode(), digest_size=16)
            state.update(json.dumps(self.scalars(), sort_keys=True, default=str).encode())
            state.update(repr(self.frame).encode())
            self._digest.append(state.hexdigest())
        return self._digest[0]
