"""Areas: polygons with holes and several parts, attributes of each, and heights at their vertices where there are any."""

from __future__ import annotations

import dataclasses
import struct
from collections.abc import Sequence
from dataclasses import dataclass, field
from typing import Any, ClassVar, Self

import numpy as np
from numpy.typing import NDArray

from vastgrid.base import late_shapely as shapely
from vastgrid.data.attributes import Attributes
from vastgrid.data.dataset import Dataset, Flags, Floats, Ints, frozen
from vastgrid.data.frame import Frame
from vastgrid.data.linework import Linework, line_lengths, ring_areas, rows_of, take_lines

# Stands for a height that is unknown where rings are made: no height on Earth.
_NO_NUMBER = -1.2345678e300
_MARK, _NAN = struct.pack("<d", _NO_NUMBER), struct.pack("<d", np.nan)


@dataclass(frozen=True, eq=False, kw_only=True)
class Areas(Dataset):
    """Areas of one or several parts, each a ring around it and the rings of its holes.

    Outer rings run counter-clockwise and holes clockwise (OGC 06-103r4, 6.1.11; RFC 7946, 3.1.6).

    Attributes
    ----------
    vertices : (n, 3) float64
        All rings' vertices one after another; elevation NaN where the source has none.
    offsets : (r + 1,) int64
        Ring i is ``vertices[offsets[i]:offsets[i + 1]]``; it repeats its first vertex.
    parts : (p + 1,) int64
        Part j has the rings ``parts[j]`` to ``parts[j + 1]``: the first is its rim, the others are holes.
    members : (k + 1,) int64
        Area k has the parts ``members[k]`` to ``members[k + 1]``.
    layer : (k,) int32
        Index into `layers`.
    layers : tuple of str
        Layer names.
    attributes : dict of (k,) array
        Whatever else the source said of each area, under the source's names.
    """

    kind: ClassVar[str] = "areas"
    title: ClassVar[str] = "areas"
    vertices: Floats
    offsets: NDArray[np.int64]
    parts: NDArray[np.int64]
    members: NDArray[np.int64]
    layer: Ints
    layers: tuple[str, ...] = ("",)
    attributes: dict[str, NDArray[Any]] = field(default_factory=dict)

    def __post_init__(self) -> None:
        object.__setattr__(self, "vertices", frozen(self.vertices, np.float64, (-1, 3), "vertices"))
        for name in ("offsets", "parts", "members"):
            object.__setattr__(self, name, frozen(getattr(self, name), np.int64, (-1,), name))
        object.__setattr__(self, "layer", frozen(self.layer, np.int32, (len(self.members) - 1,), "layer"))
        object.__setattr__(self, "layers", tuple(self.layers))
        object.__setattr__(self, "attributes", Attributes(self.attributes))
        if self.offsets[-1] != len(self.vertices) or self.parts[-1] != self.rings or self.members[-1] != self.pieces:
            raise ValueError("rings, parts and areas do not count what there is")
        for name, values in self.attributes.items():
            if len(values) != len(self):
                raise ValueError(f"attribute {name} has {len(values)} values for {len(self)} areas")

    def __len__(self) -> int:
        return len(self.members) - 1

    @property
    def rings(self) -> int:
        """How many rings there are."""
        return len(self.offsets) - 1

    @property
    def pieces(self) -> int:
        """How many parts all areas have."""
        return len(self.parts) - 1

    def count(self) -> dict[str, int]:
        """Return the numbers of areas, of rings and of vertices."""
        return {"areas": len(self), "rings": self.rings, "vertices": len(self.vertices)}

    def coordinates(self) -> Floats:
        """Return every vertex."""
        return self.vertices

    def with_coordinates(self, plan: float, height: float, frame: Frame) -> Self:
        """Return the areas scaled into another frame."""
        return dataclasses.replace(self, vertices=self.vertices * (plan, plan, height), frame=frame)

    def courses(self) -> tuple[Floats, NDArray[np.int64]]:
        """Return its rings."""
        return self.vertices, self.offsets

    def part_of_ring(self) -> NDArray[np.int64]:
        """Return the part that each ring belongs to, (r,)."""
        return np.repeat(np.arange(self.pieces), np.diff(self.parts))

    def area_of_ring(self) -> NDArray[np.int64]:
        """Return the area that each ring belongs to, (r,)."""
        return np.repeat(np.arange(len(self)), np.diff(self.members))[self.part_of_ring()]

    def holes(self) -> Flags:
        """Return which rings are holes, (r,) bool."""
        out = np.ones(self.rings, np.bool_)
        out[self.parts[:-1]] = False
        return out

    def sizes(self) -> Floats:
        """Return the size of each area in square units of plan, holes taken out, (k,)."""
        signed = ring_areas(self.vertices, self.offsets)
        size = np.where(self.holes(), -np.abs(signed), np.abs(signed))
        return np.asarray(np.bincount(self.area_of_ring(), size, minlength=len(self)), np.float64)

    def perimeters(self) -> Floats:
        """Return the length of all rings of each area, (k,)."""
        lengths = line_lengths(self.vertices, self.offsets)
        return np.asarray(np.bincount(self.area_of_ring(), lengths, minlength=len(self)), np.float64)

    def boxes(self) -> tuple[Floats, Floats]:
        """Return the smallest and largest easting and northing of each area, (k, 2) each."""
        first = self.offsets[self.parts[self.members[:-1]]]
        plan = self.vertices[:, :2]
        return np.minimum.reduceat(plan, first), np.maximum.reduceat(plan, first)

    def middles(self) -> Floats:
        """Return a place inside each area, (k, 2)."""
        return np.asarray(shapely.get_coordinates(shapely.point_on_surface(self.shapes())), np.float64)

    def without_heights(self) -> Flags:
        """Return which areas have no height at any vertex, (k,) bool."""
        known = np.concatenate(([0], np.cumsum(np.isfinite(self.vertices[:, 2]))))
        ends = self.offsets[self.parts[self.members]]
        return np.asarray(known[ends[1:]] == known[ends[:-1]], np.bool_)

    def as_lines(self) -> Linework:
        """Return the rings as closed lines, each with the layer and attributes of its area."""
        own = self.area_of_ring()
        return Linework(
            name=self.name,
            frame=self.frame,
            vertices=self.vertices,
            offsets=self.offsets,
            layer=self.layer[own],
            layers=self.layers,
            attributes={name: values[own] for name, values in self.attributes.items()},
        )

    def shapes(self, *, plan: bool = True) -> NDArray[Any]:
        """Return the areas as GEOS multipolygons, (k,); in plan, or with their heights."""
        if not plan:
            # Only the well-known binary leaves a ring closed that begins without a height.
            return np.asarray(shapely.from_wkb(self.binary(plan=False, single=False)), object)
        kind = shapely.GeometryType.MULTIPOLYGON
        order = (self.offsets, self.parts, self.members)
        return np.asarray(shapely.from_ragged_array(kind, self._places(plan), order), object)

    def binary(self, *, plan: bool, single: bool) -> NDArray[Any]:
        """Return the areas as well-known binary, (k,): as polygons where each has one part and that is asked for.

        Heights that are unknown are written as no number, which the maker of rings takes for an open end.
        """
        places = self._places(plan)
        unknown = not plan and bool(np.isnan(self.vertices[self.offsets[:-1], 2]).any())
        if unknown:
            places = np.nan_to_num(places, nan=_NO_NUMBER)
        kind = shapely.GeometryType.POLYGON if single else shapely.GeometryType.MULTIPOLYGON
        order = (self.offsets, self.parts) if single else (self.offsets, self.parts, self.members)
        made: NDArray[Any] = shapely.to_wkb(shapely.from_ragged_array(kind, places, order))
        if unknown:
            made[:] = [each.replace(_MARK, _NAN) for each in made.tolist()]
        return made

    def _places(self, plan: bool) -> Floats:
        return np.ascontiguousarray(self.vertices[:, :2]) if plan else self.vertices

    def without_repeated(self) -> tuple[Self, int]:
        """Return the areas without vertices that repeat the one before, and how many those were."""
        if len(self.vertices) < 2:
            return self, 0
        same = np.append(False, (np.diff(self.vertices[:, :2], axis=0) == 0.0).all(axis=1))
        same[self.offsets[:-1]] = False
        if not same.any():
            return self, 0
        # A ring ends as it began: where its last side has no length, what stands before its end goes.
        ends = self.offsets[1:] - 1
        last = ends[same[ends]]
        same[last] = False
        same[last - 1] = True
        before = np.concatenate(([0], np.cumsum(same)))
        made = dataclasses.replace(self, vertices=self.vertices[~same], offsets=self.offsets - before[self.offsets])
        return made, int(same.sum())

    def chosen(self, index: NDArray[np.int64]) -> Self:
        """Return some of the areas."""
        index = np.asarray(index, np.int64)
        part, members = rows_of(self.members, index)
        ring, parts = rows_of(self.parts, part)
        vertices, offsets = take_lines(self.vertices, self.offsets, ring)
        return dataclasses.replace(
            self,
            vertices=vertices,
            offsets=offsets,
            parts=parts,
            members=members,
            layer=self.layer[index],
            attributes={name: values[index] for name, values in self.attributes.items()},
        )

    def on_layers(self, keep: Flags) -> Self:
        """Return the areas of some layers; `keep` has a flag for each of `layers`."""
        return self.chosen(np.flatnonzero(keep[self.layer]))

    def with_places(self, vertices: Floats, frame: Frame | None = None) -> Self:
        """Return the areas with other coordinates for their vertices, turned again as they should be.

        A map that changes east and north, or mirrors, turns every ring around.
        """
        made = dataclasses.replace(self, vertices=vertices, frame=self.frame if frame is None else frame)
        signed = ring_areas(made.vertices, made.offsets)
        wrong = (signed > 0.0) == made.holes()
        wrong &= signed != 0.0
        if not wrong.any():
            return made
        return dataclasses.replace(made, vertices=_turned(made.vertices, made.offsets, wrong))


def _turned(vertices: Floats, offsets: NDArray[np.int64], which: Flags) -> Floats:
    """Return vertices with those of some rings in the other order."""
    number = np.arange(len(vertices))
    ring = np.repeat(np.arange(len(which)), np.diff(offsets))
    back = offsets[ring] + offsets[ring + 1] - 1 - number
    return np.asarray(vertices[np.where(which[ring], back, number)], np.float64)


def from_shapes(
    shapes: Sequence[Any] | NDArray[Any],
    *,
    name: str = "",
    frame: Frame | None = None,
    layer: Ints | None = None,
    layers: tuple[str, ...] = ("",),
    attributes: dict[str, NDArray[Any]] | None = None,
) -> Areas:
    """Return areas from GEOS polygons and multipolygons, none empty; rings are turned as they should be.

    Parameters
    ----------
    shapes : (k,) of shapely Polygon or MultiPolygon
        With heights or without.
    """
    own = np.asarray(shapes, object)
    empty = np.zeros(1, np.int64)
    vertices, offsets, parts, members = np.zeros((0, 3)), empty, empty, empty
    if len(own):
        kind, vertices, rest = shapely.to_ragged_array(own, include_z=True)
        offsets, parts = rest[:2]
        members = rest[2] if kind == shapely.GeometryType.MULTIPOLYGON else np.arange(len(own) + 1)
    made = Areas(
        name=name,
        frame=Frame() if frame is None else frame,
        vertices=vertices,
        offsets=offsets,
        parts=parts,
        members=members,
        layer=np.zeros(len(own), np.int32) if layer is None else layer,
        layers=layers,
        attributes=attributes or {},
    )
    return made.with_places(made.vertices)
