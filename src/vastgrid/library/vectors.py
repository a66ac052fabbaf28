"""Points, lines and areas as a script has them."""

from __future__ import annotations

import dataclasses
from collections.abc import Iterator, Mapping, Sequence
from typing import TYPE_CHECKING, Any, Self

import numpy as np
from numpy.typing import NDArray

from vastgrid.base import findings as core
from vastgrid.base import late_shapely as shapely
from vastgrid.base.errors import DataError
from vastgrid.data.areas import Areas as AreasData
from vastgrid.data.areas import from_shapes
from vastgrid.data.linework import Contours as ContoursData
from vastgrid.data.linework import Linework as LineworkData
from vastgrid.data.linework import from_lines
from vastgrid.data.pointset import PointSet as PointsData
from vastgrid.library.data import Data, Origin, columns_from, frame_from, told

if TYPE_CHECKING:
    pass


class PointSet(Data):
    """Points: `xyz` and attributes."""

    __slots__ = ()
    _of = PointsData

    @classmethod
    def from_arrays(
        cls,
        xyz: Any,
        unit: str | None = None,
        vertical_unit: str | None = None,
        crs: Any = None,
        attributes: Mapping[str, Any] | None = None,
        name: str = "points",
    ) -> Self:
        """Return points from (n, 3) coordinates, or (n, 2) without heights; metres where nothing else is said.

        Raises
        ------
        CallError, DataError
            If units contradict the system, or shapes do not fit.
        """
        own = places_from(xyz)
        columns = columns_from(attributes, len(own), "points")
        frame = frame_from(crs, unit, vertical_unit)
        return cls(PointsData(name=name, frame=frame, xyz=own, attributes=columns))

    @classmethod
    def from_records(
        cls,
        records: Any,
        unit: str | None = None,
        vertical_unit: str | None = None,
        crs: Any = None,
        name: str = "points",
    ) -> Self:
        """Return points from a structured array: `east`, `north`, perhaps `elevation`, and further fields as attributes.

        Raises
        ------
        DataError
            If it has no `east` or `north`.
        """
        own = np.asarray(records)
        fields = own.dtype.names or ()
        if not {"east", "north"} <= set(fields):
            raise DataError("the records have no fields “east” and “north”")
        axes = [axis for axis in ("east", "north", "elevation") if axis in fields]
        rest = {field: own[field] for field in fields if field not in axes}
        return cls.from_arrays(
            np.column_stack([own[axis].astype(np.float64) for axis in axes]), unit, vertical_unit, crs, rest, name
        )

    @property
    def xyz(self) -> NDArray[np.float64]:
        """Easting, northing, elevation, (n, 3) float64; elevation NaN where there is none."""
        return self._dataset.coordinates()

    def to_records(self) -> NDArray[Any]:
        """Return the points as a structured array: `east`, `north`, `elevation` and every attribute of one value each."""
        rest = {name: values for name, values in self.attributes.items() if values.ndim == 1}
        columns = {**dict(zip(("east", "north", "elevation"), self.xyz.T, strict=True)), **rest}
        made = np.zeros(len(self.xyz), [(name, values.dtype) for name, values in columns.items()])
        for name, values in columns.items():
            made[name] = values
        return made

    @property
    def geometries(self) -> NDArray[Any]:
        """Shapely points, (n,) object; with heights where there are some."""
        return np.asarray(shapely.points(_known(self.xyz)), object)

    @property
    def __geo_interface__(self) -> dict[str, Any]:
        """The points as a collection of features."""
        return _features(self.geometries, self.attributes)

    def __len__(self) -> int:
        return len(self.xyz)


def _known(xyz: NDArray[np.float64]) -> NDArray[np.float64]:
    """Return places with their heights where there are some, otherwise in plan."""
    return xyz if np.isfinite(xyz[:, 2]).any() else xyz[:, :2]


def _features(shapes: NDArray[Any], attributes: Mapping[str, NDArray[Any]]) -> dict[str, Any]:
    """Return shapes as the Python protocol has them (`__geo_interface__`, after RFC 7946)."""
    columns = {name: values.tolist() for name, values in attributes.items()}
    rows = zip(*columns.values(), strict=True) if columns else ((),) * len(shapes)
    return {
        "type": "FeatureCollection",
        "features": [
            {
                "type": "Feature",
                "properties": dict(zip(columns, row, strict=True)),
                "geometry": shapely.geometry.mapping(shape),
            }
            for shape, row in zip(shapes.tolist(), rows, strict=True)
        ],
    }


def places_from(values: Any) -> NDArray[np.float64]:
    """Return coordinates as (n, 3) float64, without heights NaN.

    Raises
    ------
    DataError
        If they have another shape, or a place is not finite.
    """
    own = np.array(values, np.float64)
    if own.ndim != 2 or own.shape[1] not in (2, 3):
        raise DataError(f"coordinates have the shape {own.shape}, not (n, 3)")
    if own.shape[1] == 2:
        own = np.column_stack((own, np.full(len(own), np.nan)))
    if not np.isfinite(own[:, :2]).all():
        raise DataError("an easting or northing is not a finite number")
    return own


class Lines(Data):
    """What lines and contours have in common: vertices one after another, and where each line begins."""

    __slots__ = ()

    @property
    def vertices(self) -> NDArray[np.float64]:
        """All vertices, (n, 3) float64; elevation NaN where there is none."""
        return self._lines().vertices

    @property
    def offsets(self) -> NDArray[np.int64]:
        """Line i is ``vertices[offsets[i]:offsets[i + 1]]``, (k + 1,)."""
        return self._lines().offsets

    @property
    def layers(self) -> tuple[str, ...]:
        """The layer of each line."""
        own = self._lines()
        return tuple(own.layers[k] for k in own.layer.tolist())

    def _lines(self) -> LineworkData:
        lines = self._dataset.as_lines()
        assert isinstance(lines, LineworkData)
        return lines

    def __len__(self) -> int:
        return len(self.offsets) - 1

    @property
    def geometries(self) -> NDArray[Any]:
        """Shapely lines, (k,) object; with heights where there are some."""
        places = _known(self.vertices)
        return np.asarray(shapely.from_ragged_array(shapely.GeometryType.LINESTRING, places, (self.offsets,)), object)

    @property
    def __geo_interface__(self) -> dict[str, Any]:
        """The lines as a collection of features."""
        return _features(self.geometries, self.attributes)

    def __iter__(self) -> Iterator[NDArray[np.float64]]:
        for k in range(len(self)):
            yield self.vertices[self.offsets[k] : self.offsets[k + 1]]


class Linework(Lines):
    """Lines on layers, perhaps with attributes."""

    __slots__ = ()
    _of = LineworkData

    @classmethod
    def from_arrays(
        cls,
        lines: Sequence[Any],
        unit: str | None = None,
        vertical_unit: str | None = None,
        crs: Any = None,
        attributes: Mapping[str, Any] | None = None,
        layers: Sequence[str] | str = "",
        name: str = "lines",
    ) -> Self:
        """Return lines from one (m, 3) array each; a layer for all, or one for each.

        Raises
        ------
        CallError, DataError
            If units contradict the system, or shapes do not fit.
        """
        own = [places_from(line) for line in lines]
        on = [layers] * len(own) if isinstance(layers, str) else list(layers)
        if len(on) != len(own):
            raise DataError(f"there are {len(on)} layers for {len(own)} lines")
        made = from_lines(name, frame_from(crs, unit, vertical_unit), own, on)
        return cls(dataclasses.replace(made, attributes=columns_from(attributes, len(own), "lines")))


class Contours(Lines):
    """Contours: lines, each of one level."""

    __slots__ = ()
    _of = ContoursData

    @property
    def levels(self) -> NDArray[np.float64]:
        """The level of each, (k,)."""
        assert isinstance(self._dataset, ContoursData)
        return self._dataset.levels

    @property
    def label_levels(self) -> NDArray[np.float64]:
        """The level that each label says, (l,); empty where there are none."""
        assert isinstance(self._dataset, ContoursData)
        return np.asarray(self._dataset.labels.get("level", np.zeros(0)), np.float64)

    @property
    def interval(self) -> float:
        """Their interval; 0 where it is unknown."""
        assert isinstance(self._dataset, ContoursData)
        return self._dataset.interval


class Areas(Data):
    """Areas: polygons with holes and parts."""

    __slots__ = ()
    _of = AreasData

    @classmethod
    def from_geometries(
        cls,
        geometries: Any,
        attributes: Mapping[str, Any] | None = None,
        unit: str | None = None,
        vertical_unit: str | None = None,
        crs: Any = None,
        name: str = "areas",
    ) -> Self:
        """Return areas from shapely polygons and multipolygons; slips are mended as those of a file.

        Raises
        ------
        CallError, DataError
            If units contradict the system, or nobody can say which ground one means.
        """
        from vastgrid.terrain.areas.mending import sound

        own = np.asarray(list(geometries), object)
        wrong = [each.geom_type for each in own.tolist() if each.geom_type not in ("Polygon", "MultiPolygon")]
        if wrong:
            raise DataError(f"{wrong[0]} is no area")
        columns = columns_from(attributes, len(own), "areas")
        noticed: list[core.Finding] = []
        shapes, kept = sound(own, lambda k: f"area {k + 1}", noticed)
        frame = frame_from(crs, unit, vertical_unit)
        chosen = {key: values[kept] for key, values in columns.items()}
        made, _ = from_shapes(shapes, name=name, frame=frame, attributes=chosen).without_repeated()
        return cls(made, Origin(findings=told(noticed)))

    @property
    def geometries(self) -> NDArray[Any]:
        """Shapely polygons, multipolygons where an area has several parts, (k,) object; with heights where there are some."""
        own = self._own()
        shapes = own.shapes(plan=not np.isfinite(own.vertices[:, 2]).any())
        single = np.diff(own.members) == 1
        shapes[single] = shapely.get_geometry(shapes[single], 0)
        return shapes

    @property
    def plan_sizes(self) -> NDArray[np.float64]:
        """Plan area of each, in square plan units, holes taken out, (k,)."""
        return self._own().sizes()

    @property
    def layers(self) -> tuple[str, ...]:
        """The layer of each area."""
        own = self._own()
        return tuple(own.layers[k] for k in own.layer.tolist())

    @property
    def __geo_interface__(self) -> dict[str, Any]:
        """The areas as a collection of features."""
        return _features(self.geometries, self.attributes)

    def _own(self) -> AreasData:
        assert isinstance(self._dataset, AreasData)
        return self._dataset

    def __len__(self) -> int:
        return len(self._own())
