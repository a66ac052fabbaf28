"""Lines in plan or in space, on layers; and contours, which are lines with one level each."""

from __future__ import annotations

import dataclasses
import math
from collections.abc import Sequence
from dataclasses import dataclass, field
from typing import Any, ClassVar, Self

import numpy as np
from numpy.typing import NDArray

from vastgrid.data.attributes import Attributes
from vastgrid.data.dataset import Dataset, Flags, Floats, Ints, frozen
from vastgrid.data.frame import Frame
from vastgrid.kernels.lines.labels import without_stretches


@dataclass(frozen=True, eq=False, kw_only=True)
class Linework(Dataset):
    """Polylines.

    Attributes
    ----------
    vertices : (n, 3) float64
        All lines' vertices one after another; elevation NaN where the source has none.
    offsets : (k + 1,) int64
        Line i is ``vertices[offsets[i]:offsets[i + 1]]``; a closed line repeats its first vertex.
    layer : (k,) int32
        Index into `layers`.
    layers : tuple of str
        Layer names.
    attributes : dict of (k,) array
        Whatever else the source said of each line, under the source's names.
    """

    kind: ClassVar[str] = "lines"
    title: ClassVar[str] = "lines"
    vertices: Floats
    offsets: NDArray[np.int64]
    layer: Ints
    layers: tuple[str, ...] = ("",)
    attributes: dict[str, NDArray[Any]] = field(default_factory=dict)

    def __post_init__(self) -> None:
        object.__setattr__(self, "vertices", frozen(self.vertices, np.float64, (-1, 3), "vertices"))
        object.__setattr__(self, "offsets", frozen(self.offsets, np.int64, (-1,), "offsets"))
        object.__setattr__(self, "layer", frozen(self.layer, np.int32, (len(self.offsets) - 1,), "layer"))
        object.__setattr__(self, "layers", tuple(self.layers))
        object.__setattr__(self, "attributes", Attributes(self.attributes))
        for name, values in self.attributes.items():
            if len(values) != len(self):
                raise ValueError(f"attribute {name} has {len(values)} values for {len(self)} lines")

    def __len__(self) -> int:
        return len(self.offsets) - 1

    def count(self) -> dict[str, int]:
        """Return the numbers of lines and of vertices."""
        return {"lines": len(self), "vertices": len(self.vertices)}

    def coordinates(self) -> Floats:
        """Return every vertex."""
        return self.vertices

    def with_coordinates(self, plan: float, height: float, frame: Frame) -> Self:
        """Return the lines scaled into another frame."""
        return dataclasses.replace(self, vertices=self.vertices * (plan, plan, height), frame=frame)

    def courses(self) -> tuple[Floats, NDArray[np.int64]]:
        """Return its lines."""
        return self.vertices, self.offsets

    def line(self, index: int | np.integer) -> Floats:
        """Return one line's vertices, (m, 3)."""
        return self.vertices[self.offsets[index] : self.offsets[index + 1]]

    def closed(self) -> Flags:
        """Return which lines end where they began, (k,) bool."""
        return closed_lines(self.vertices[:, :2], self.offsets)

    def as_lines(self) -> Linework:
        """Return the lines themselves."""
        return self

    def without_heights(self) -> Flags:
        """Return which lines have no height at any vertex, (k,) bool."""
        known = np.concatenate(([0], np.cumsum(np.isfinite(self.vertices[:, 2]))))
        return np.asarray(known[self.offsets[1:]] == known[self.offsets[:-1]], np.bool_)

    def heights_filled(self) -> Self:
        """Return the lines with unknown heights between known ones put on the straight way between them.

        Before a line's first known height and after its last, that height stands. Lines without any stay as they are.
        """
        z = self.vertices[:, 2].copy()
        open_ = np.flatnonzero(np.isnan(z))
        owner = np.searchsorted(self.offsets, open_, side="right") - 1
        for k in np.unique(owner[~self.without_heights()[owner]]).tolist():
            line = self.line(k)
            along = np.concatenate(([0.0], np.cumsum(np.hypot(*np.diff(line[:, :2], axis=0).T))))
            known = np.isfinite(line[:, 2])
            z[self.offsets[k] : self.offsets[k + 1]] = np.interp(along, along[known], line[known, 2])
        return dataclasses.replace(self, vertices=np.column_stack((self.vertices[:, :2], z)))

    def on_layers(self, keep: Flags) -> Self:
        """Return the lines of some layers; `keep` has a flag for each of `layers`."""
        return self.chosen(np.flatnonzero(keep[self.layer]))

    def chosen(self, index: NDArray[np.int64]) -> Self:
        """Return some of the lines."""
        vertices, offsets = take_lines(self.vertices, self.offsets, index)
        attributes = {name: values[index] for name, values in self.attributes.items()}
        return dataclasses.replace(
            self, vertices=vertices, offsets=offsets, layer=self.layer[index], attributes=attributes
        )


@dataclass(frozen=True, eq=False, kw_only=True)
class Contours(Dataset):
    """Contours: higher ground is always on the left of a line's direction.

    Attributes
    ----------
    plan : (n, 2) float64
        All lines' vertices one after another.
    offsets : (k + 1,) int64
        Line i is ``plan[offsets[i]:offsets[i + 1]]``; a closed contour repeats its first vertex.
    levels : (k,) float64
        Elevation of each line.
    index : (k,) bool
        Which lines are index contours.
    interval : float
        Vertical distance of neighbouring levels; 0 where unknown.
    supplementary : (k,) bool
        Which lines lie between two levels, where the ground is flat; none if not given.
    labels : dict of (l, …) array
        What is written along the lines: “level”, “line” that it is of, “place” of its middle (l, 2), “angle” in radians
        counter-clockwise from east, “along” its line, “wide” itself, “gap” for it in the line, 0 where the line goes on, and
        whether it stands in “brackets”; empty for no labels.
    label_height : float
        How tall they are, in the unit of plan.
    label_decimals : int
        Decimals of the levels.
    """

    kind: ClassVar[str] = "contours"
    title: ClassVar[str] = "contours"
    plan: Floats
    offsets: NDArray[np.int64]
    levels: Floats
    index: Flags
    interval: float = 0.0
    supplementary: Flags = field(default_factory=lambda: np.zeros(0, np.bool_))
    labels: dict[str, NDArray[Any]] = field(default_factory=dict)
    label_height: float = 0.0
    label_decimals: int = 2

    def __post_init__(self) -> None:
        object.__setattr__(self, "plan", frozen(self.plan, np.float64, (-1, 2), "plan"))
        object.__setattr__(self, "offsets", frozen(self.offsets, np.int64, (-1,), "offsets"))
        object.__setattr__(self, "levels", frozen(self.levels, np.float64, (len(self.offsets) - 1,), "levels"))
        object.__setattr__(self, "index", frozen(self.index, np.bool_, (len(self.offsets) - 1,), "index"))
        between = self.supplementary if len(self.supplementary) else np.zeros(len(self), np.bool_)
        object.__setattr__(self, "supplementary", frozen(between, np.bool_, (len(self),), "supplementary"))

    def __len__(self) -> int:
        return len(self.offsets) - 1

    def count(self) -> dict[str, int]:
        """Return the numbers of lines and of vertices."""
        return {"lines": len(self), "vertices": len(self.plan)}

    def coordinates(self) -> Floats:
        """Return every vertex with its level."""
        return np.column_stack((self.plan, np.repeat(self.levels, np.diff(self.offsets))))

    def with_coordinates(self, plan: float, height: float, frame: Frame) -> Self:
        """Return the contours scaled into another frame."""
        times = {"place": plan, "along": plan, "wide": plan, "gap": plan, "level": height}
        labels = {name: values * times[name] if name in times else values for name, values in self.labels.items()}
        return dataclasses.replace(
            self,
            plan=self.plan * plan,
            levels=self.levels * height,
            interval=self.interval * height,
            labels=labels,
            label_height=self.label_height * plan,
            frame=frame,
        )

    def closed(self) -> Flags:
        """Return which contours are closed, (k,) bool."""
        return closed_lines(self.plan, self.offsets)

    def groups(self) -> tuple[tuple[str, Flags], ...]:
        """Return the names of the groups that there are, and which lines belong to each."""
        plain = ~self.index & ~self.supplementary
        every = (("Contours", plain), ("Index contours", self.index), ("Supplementary contours", self.supplementary))
        return tuple((name, mine) for name, mine in every if mine.any() or name == "Contours")

    def depressions(self) -> Flags:
        """Return which lines are closed and have the lower ground inside, (k,) bool."""
        # Higher ground is on the left, so these run clockwise.
        return np.asarray(self.closed() & (ring_areas(self.plan, self.offsets) < 0.0), np.bool_)

    def texts(self) -> list[str]:
        """Return what each label says."""
        if not self.labels:
            return []
        said = [f"{level:.{self.label_decimals}f}" for level in self.labels["level"].tolist()]
        return [f"({text})" if low else text for text, low in zip(said, self.labels["brackets"].tolist(), strict=True)]

    def along(self) -> Floats:
        """Return how far along its line each vertex lies, (n,)."""
        return along_lines(self.plan, self.offsets)

    def lengths(self) -> Floats:
        """Return each line's length, (k,)."""
        return line_lengths(self.plan, self.offsets)

    def with_gaps(self) -> Self:
        """Return the contours as they are drawn: parted where a label stands in a gap of its line."""
        return self.worked_out("gaps", self._with_gaps)  # type: ignore[no-any-return]

    def _with_gaps(self) -> Self:
        if not self.labels or not (self.labels["gap"] > 0.0).any():
            return self
        line, along, half = self.labels["line"], self.labels["along"], self.labels["gap"] / 2.0
        order = np.lexsort((along, line))
        order = order[half[order] > 0.0]
        low, high = (along - half)[order], (along + half)[order]
        plan, offsets, source = without_stretches(
            self.plan, self.offsets, self.along(), line[order].astype(np.int64), low, high
        )
        made = self.parts(plan, offsets, source)
        # A label goes with the first piece of its line; the gap is there already.
        first = np.minimum(np.searchsorted(source, line), max(len(source) - 1, 0))
        labels = {**self.labels, "line": first, "gap": np.zeros(len(line))}
        return dataclasses.replace(made, labels=labels)

    def parts(self, vertices: Floats, offsets: NDArray[np.int64], source: NDArray[np.int64]) -> Self:
        """Return contours of other vertices, each a part of one of these; `source` says of which, (l,)."""
        return dataclasses.replace(
            self,
            plan=vertices[:, :2],
            offsets=offsets,
            levels=self.levels[source],
            index=self.index[source],
            supplementary=self.supplementary[source],
            labels={},
        )

    def spacing(self) -> tuple[float, float]:
        """Return the mean distance in plan from line to line, of all contours and of the index contours alone.

        It is the area of their extent over their length, as in stereology; infinite where there are none.
        """
        return self.worked_out("spacing", self._spacing)  # type: ignore[no-any-return]

    def _spacing(self) -> tuple[float, float]:
        if len(self.plan) < 2:
            return math.inf, math.inf
        length = self.lengths()
        sides = np.ptp(self.plan, axis=0)
        # Few lines may have hardly any extent across.
        area = float(np.prod(np.maximum(sides, 0.1 * sides.max())))
        every, index = float(length.sum()), float(length[self.index].sum())
        return (area / every if every else math.inf, area / index if index else math.inf)

    def courses(self) -> tuple[Floats, NDArray[np.int64]]:
        """Return its lines."""
        return self.plan, self.offsets

    def as_lines(self) -> Linework:
        """Return the contours as 3D lines, each group on a layer of its own."""
        layer = np.zeros(len(self), np.int32)
        for k, (_, mine) in enumerate(self.groups()):
            layer[mine] = k
        names = tuple(name for name, _ in self.groups())
        vertices = self.coordinates()
        return Linework(
            name=self.name, frame=self.frame, vertices=vertices, offsets=self.offsets, layer=layer, layers=names
        )


def along_lines(plan: Floats, offsets: NDArray[np.int64]) -> Floats:
    """Return how far along its line each vertex lies in plan, (n,)."""
    if len(plan) == 0:
        return np.zeros(0)
    step = np.hypot(*np.diff(plan[:, :2], axis=0, prepend=plan[:1, :2]).T)
    # From the end of a line to the start of the next there is no line.
    step[offsets[:-1][offsets[:-1] < len(plan)]] = 0.0
    total = np.cumsum(step)
    return np.asarray(total - np.repeat(total[np.minimum(offsets[:-1], len(plan) - 1)], np.diff(offsets)), np.float64)


def line_lengths(plan: Floats, offsets: NDArray[np.int64]) -> Floats:
    """Return each line's length in plan, (k,)."""
    return np.asarray(
        along_lines(plan, offsets)[offsets[1:] - 1] if len(plan) else np.zeros(len(offsets) - 1), np.float64
    )


def closed_lines(plan: Floats, offsets: NDArray[np.int64]) -> Flags:
    """Return which lines of at least four vertices repeat their first vertex at the end, (k,) bool."""
    first, last = offsets[:-1], offsets[1:] - 1
    long_enough = last - first >= 3
    same = np.zeros(len(first), np.bool_)
    same[long_enough] = (plan[first[long_enough]] == plan[last[long_enough]]).all(axis=1)
    return same


def legs(offsets: NDArray[np.int64], number: int) -> NDArray[np.int64]:
    """Return which vertices have another one after them on their line: where each leg of the lines begins, (l,).

    Parameters
    ----------
    number : int
        How many vertices there are.
    """
    follows = np.ones(number, np.bool_)
    follows[offsets[1:][np.diff(offsets) > 0] - 1] = False
    # What belongs to no line has no leg.
    follows[: offsets[0]] = False
    follows[offsets[-1] :] = False
    return np.flatnonzero(follows)


def take_lines(
    vertices: Floats, offsets: NDArray[np.int64], index: NDArray[np.int64]
) -> tuple[Floats, NDArray[np.int64]]:
    """Return the vertices and offsets of some lines."""
    rows, starts = rows_of(offsets, index)
    return vertices[rows], starts


def rows_of(offsets: NDArray[np.int64], index: NDArray[np.int64]) -> tuple[NDArray[np.int64], NDArray[np.int64]]:
    """Return the numbers of all that some stretches hold, and where each of them begins among these."""
    lengths = np.diff(offsets)[index]
    starts = np.concatenate(([0], np.cumsum(lengths))).astype(np.int64)
    rows = np.arange(starts[-1]) - np.repeat(starts[:-1], lengths) + np.repeat(offsets[:-1][index], lengths)
    return rows, starts


def ring_areas(vertices: Floats, offsets: NDArray[np.int64]) -> Floats:
    """Return the signed area of each ring, (r,): positive where it runs counter-clockwise.

    Closed form, from each ring's first vertex, so that large coordinates cost no digits.
    """
    if len(vertices) == 0:
        return np.zeros(len(offsets) - 1)
    local = vertices[:, :2] - np.repeat(vertices[offsets[:-1], :2], np.diff(offsets), axis=0)
    twice = np.zeros(len(local))
    twice[:-1] = local[:-1, 0] * local[1:, 1] - local[1:, 0] * local[:-1, 1]
    # From the end of a ring to the start of the next there is no side.
    twice[offsets[1:] - 1] = 0.0
    return np.asarray(np.add.reduceat(twice, offsets[:-1]) / 2.0, np.float64)


def from_lines(name: str, frame: Frame, lines: Sequence[Floats], layers: Sequence[str]) -> Linework:
    """Build linework from separate (m, 3) arrays and a layer name for each."""
    names = tuple(dict.fromkeys(layers)) or ("",)
    place = {layer: k for k, layer in enumerate(names)}
    offsets = np.concatenate(([0], np.cumsum([len(line) for line in lines], dtype=np.int64)))
    vertices = np.concatenate([np.asarray(line, float) for line in lines]) if len(lines) else np.zeros((0, 3))
    layer = np.array([place[each] for each in layers], np.int32)
    return Linework(name=name, frame=frame, vertices=vertices, offsets=offsets, layer=layer, layers=names)
