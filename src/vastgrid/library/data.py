"""Data as a script has it: arrays that cannot be changed, and what is known of them."""

from __future__ import annotations

import dataclasses
from collections.abc import Callable, Iterator, Mapping, Sequence
from dataclasses import dataclass, field
from pathlib import Path
from types import MappingProxyType
from typing import TYPE_CHECKING, Any, ClassVar, Self

import numpy as np
from numpy.typing import NDArray

from vastgrid import catalog
from vastgrid.base import findings as core
from vastgrid.base import late_shapely as shapely
from vastgrid.base.errors import CallError, DataError
from vastgrid.base.findings import counted
from vastgrid.base.quantities import Unit, parse_unit
from vastgrid.data.areas import Areas as AreasData
from vastgrid.data.areas import from_shapes
from vastgrid.data.dataset import Dataset, Extent, fixed
from vastgrid.data.frame import Frame, frame_of_crs
from vastgrid.data.grid import Grid as GridData
from vastgrid.data.linework import Contours as ContoursData
from vastgrid.data.linework import Linework as LineworkData
from vastgrid.data.linework import from_lines
from vastgrid.data.loss import Loss
from vastgrid.data.mesh import Mesh as MeshData
from vastgrid.data.pointset import PointSet as PointsData
from vastgrid.data.survey import Survey as SurveyData
from vastgrid.data.table import Table as TableData
from vastgrid.data.tin import Tin as TinData
from vastgrid.library.spoken import said

if TYPE_CHECKING:
    from affine import Affine


@dataclass(frozen=True, slots=True)
class Finding:
    """One thing noticed.

    Attributes
    ----------
    code : str
        Stable short name; the manual's page of findings has a paragraph for each.
    text : str
        One sentence with its figures.
    severity : str
        “note”, “warning” or “error”.
    place : (float, float) or None
        Easting and northing, in the data's own unit.
    """

    code: str
    text: str
    severity: str
    place: tuple[float, float] | None


def told(found: Sequence[core.Finding]) -> tuple[Finding, ...]:
    """Return findings as a script has them."""
    return tuple(Finding(each.code, said(each.text), each.severity.value, each.at) for each in found)


@dataclass(frozen=True, slots=True)
class Origin:
    """Where data comes from: the sentence of the last step, what it cost and noticed, and the files behind it."""

    sentence: str = ""
    loss: Loss | None = None
    findings: tuple[Finding, ...] = ()
    figures: Mapping[str, Any] = field(default_factory=dict)
    more: Mapping[str, Data] = field(default_factory=dict)
    paths: tuple[Path, ...] = ()


class Data:
    """Data of some kind, which cannot be changed: what it is, where it comes from, and every conversion as a method.

    A conversion is called as on the command line: parameters by name, with units where they have some, other inputs by the
    name of their role.
    """

    _of: ClassVar[type[Dataset]]
    _dataset: Dataset
    _origin: Origin

    __slots__ = ("_dataset", "_origin")

    def __init__(self, dataset: Dataset, origin: Origin | None = None) -> None:
        object.__setattr__(self, "_dataset", dataset)
        object.__setattr__(self, "_origin", origin or Origin())

    def __setattr__(self, name: str, value: object) -> None:
        raise AttributeError(f"{type(self).__name__} cannot be changed; make another one")

    def __delattr__(self, name: str) -> None:
        raise AttributeError(f"{type(self).__name__} cannot be changed")

    def __getstate__(self) -> tuple[Dataset, Origin]:
        return self._dataset, dataclasses.replace(self._origin, figures=dict(self.figures), more=dict(self.more))

    def __setstate__(self, state: tuple[Dataset, Origin]) -> None:
        object.__setattr__(self, "_dataset", state[0])
        object.__setattr__(self, "_origin", state[1])

    def __repr__(self) -> str:
        counts = ", ".join(counted(value, name) for name, value in self._dataset.count().items())
        frame = f"; {self._dataset.frame.describe()}" if self._dataset.located else ""
        return f"<{type(self).__name__} “{self.name}”: {counts}{frame}>"

    def __getattr__(self, name: str) -> Callable[..., Any]:
        if not name.startswith("_") and name.removesuffix("_") in catalog.CONVERSIONS.ids:
            from vastgrid.library.calls import method

            return method(self, name)
        raise AttributeError(f"{type(self).__name__} has no “{name}”")

    def __dir__(self) -> list[str]:
        from vastgrid.library.calls import able

        return sorted({*super().__dir__(), *able(self)})

    # -- what it is

    @property
    def kind(self) -> str:
        """What it is: “points”, “lines”, “contours”, “areas”, “tin”, “grid”, “mesh”, “survey” or “table”."""
        return self._dataset.kind

    @property
    def name(self) -> str:
        """What it is called."""
        return self._dataset.name

    def named(self, name: str) -> Self:
        """Return the same data under another name."""
        return type(self)(self._dataset.renamed(name), self._origin)

    @property
    def frame(self) -> Frame:
        """System and units together."""
        return self._dataset.frame

    @property
    def crs(self) -> str | None:
        """Coordinate reference system as WKT; None where it is unknown or a local grid."""
        return self._dataset.frame.crs

    @property
    def unit(self) -> str | None:
        """Unit of eastings and northings: “m”, “mm”, “in”, “ft”, “us-ft” or “deg”; None where unknown."""
        return self._dataset.frame.horizontal.value if self._dataset.frame.horizontal else None

    @property
    def vertical_unit(self) -> str | None:
        """Unit of elevations; None where unknown."""
        return self._dataset.frame.vertical.value if self._dataset.frame.vertical else None

    @property
    def extent(self) -> Extent:
        """Smallest and largest of `east`, `north` and `elevation`, each a pair, or None where there is nothing."""
        return self._dataset.extent()

    @property
    def count(self) -> dict[str, int]:
        """How many there are of what."""
        return self._dataset.count()

    @property
    def attributes(self) -> Mapping[str, NDArray[Any]]:
        """Columns by name, one value for each point, line or area; texts are text."""
        own = getattr(self._dataset, "attributes", {})
        return MappingProxyType({name: _as_text(values) for name, values in own.items()})

    @property
    def digest(self) -> str:
        """Digest of all of it: the same where every array is the same to the last bit."""
        return self._dataset.digest

    # -- where it comes from

    @property
    def sentence(self) -> str:
        """What the step that made it did."""
        return self._origin.sentence

    @property
    def loss(self) -> Loss | None:
        """What that step cost vertically: `largest`, `rmse`, `mean`, `p95`; None where it changed no surface."""
        return self._origin.loss

    @property
    def findings(self) -> tuple[Finding, ...]:
        """What was noticed."""
        return self._origin.findings

    @property
    def figures(self) -> Mapping[str, Any]:
        """What the step counted, reached or answered, by name."""
        return MappingProxyType(dict(self._origin.figures))

    @property
    def more(self) -> Mapping[str, Data]:
        """What else the step gave, by name: residuals beside the data that was fitted, say."""
        return MappingProxyType(dict(self._origin.more))

    @property
    def tables(self) -> tuple[Table, ...]:
        """All tables that the step gave."""
        return tuple(each for each in (self, *self._origin.more.values()) if isinstance(each, Table))

    def write(self, path: str | Path, **options: Any) -> Any:
        """Write it, read it back and compare; see `vastgrid.write`."""
        from vastgrid.library.files import write

        return write(path, self, **options)

    def check(self, **thresholds: Any) -> tuple[Finding, ...]:
        """Look at it with every check; see `vastgrid.check`."""
        from vastgrid.library.calls import check

        return check(self, **thresholds)


def _as_text(values: NDArray[Any]) -> NDArray[Any]:
    if values.dtype.kind != "S":
        return fixed(values)
    made = np.array([each.decode("utf-8", "replace") for each in values.tolist()] or [""])[: len(values)]
    made.flags.writeable = False
    return made


def _columns(attributes: Mapping[str, Any] | None, number: int, of: str) -> dict[str, NDArray[Any]]:
    """Return columns as they are kept: numbers, and texts as UTF-8."""
    found = {}
    for name, values in (attributes or {}).items():
        own = np.asarray(values)
        if own.dtype.kind in "UO":
            own = np.array([str(each).encode() for each in own.tolist()] or [b""])[: len(own)]
        if len(own) != number:
            raise DataError(f"attribute {name} has {len(own)} values for {number} {of}")
        found[str(name)] = own
    return found


def frame_from(crs: Any, unit: str | None, vertical_unit: str | None) -> Frame:
    """Return a frame from what a script says; nothing said is metres, or what the system says.

    Raises
    ------
    CallError
        If a unit is unknown, or contradicts the system.
    """
    try:
        own = frame_of_crs(str(crs.to_wkt() if hasattr(crs, "to_wkt") else crs)) if crs is not None else Frame()
    except ValueError as error:
        raise CallError(f"crs: {error}") from error
    plan, height = (_unit(word) if word is not None else None for word in (unit, vertical_unit))
    for what, asked, known in (("unit", plan, own.horizontal), ("vertical_unit", height, own.vertical)):
        if asked is not None and known is not None and asked is not known:
            raise CallError(f"{what}: {asked.title} was said, the reference system has {known.title}")
    plan = plan or own.horizontal or Unit.METRE
    if height is None and own.vertical is None and plan not in (Unit.METRE, Unit.DEGREE) and unit is None:
        raise CallError(f"vertical_unit: the reference system has {plan.title} in plan and says nothing of heights")
    return Frame(own.crs, plan, height or own.vertical or Unit.METRE)


def _unit(word: str) -> Unit:
    return Unit.DEGREE if word in ("deg", "degree") else parse_unit(word)


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
        own = _places(xyz)
        columns = _columns(attributes, len(own), "points")
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


def _places(values: Any) -> NDArray[np.float64]:
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
        own = [_places(line) for line in lines]
        on = [layers] * len(own) if isinstance(layers, str) else list(layers)
        if len(on) != len(own):
            raise DataError(f"there are {len(on)} layers for {len(own)} lines")
        made = from_lines(name, frame_from(crs, unit, vertical_unit), own, on)
        return cls(dataclasses.replace(made, attributes=_columns(attributes, len(own), "lines")))


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
        columns = _columns(attributes, len(own), "areas")
        noticed: list[core.Finding] = []
        shapes, kept = sound(own, lambda k: f"area {k + 1}", noticed)
        frame = frame_from(crs, unit, vertical_unit)
        chosen = {key: values[kept] for key, values in columns.items()}
        made, _ = from_shapes(shapes, name=name, frame=frame, attributes=chosen).without_repeated()
        return cls(made, Origin(findings=told(noticed)))

    @property
    def geometries(self) -> NDArray[Any]:
        """Shapely multipolygons, (k,) object; with heights where there are some."""
        own = self._own()
        return own.shapes(plan=not np.isfinite(own.vertices[:, 2]).any())

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


class Tin(Data):
    """A TIN: vertices, and triangles of three of them."""

    __slots__ = ()
    _of = TinData

    @classmethod
    def from_arrays(
        cls,
        vertices: Any,
        triangles: Any,
        unit: str | None = None,
        vertical_unit: str | None = None,
        crs: Any = None,
        name: str = "TIN",
    ) -> Self:
        """Return a TIN from (n, 3) vertices and (m, 3) indices; triangles are turned counter-clockwise.

        Raises
        ------
        CallError, DataError
            If units contradict the system, or triangles name vertices that are not there.
        """
        from vastgrid.terrain.tin.assemble import oriented_tin

        xyz, corners = _faces(vertices, triangles)
        made, noticed = oriented_tin(name, frame_from(crs, unit, vertical_unit), xyz, corners)
        return cls(made, Origin(findings=told(noticed)))

    @property
    def vertices(self) -> NDArray[np.float64]:
        """Vertices, (n, 3) float64."""
        return self._dataset.coordinates()

    @property
    def triangles(self) -> NDArray[np.int32]:
        """Indices of vertices, counter-clockwise in plan, (m, 3) int32."""
        assert isinstance(self._dataset, TinData)
        return self._dataset.triangles

    def to_trimesh(self) -> Any:
        """Return a mesh of the trimesh package, in the same coordinates."""
        return _as_trimesh(self.vertices, self.triangles)

    @classmethod
    def from_trimesh(
        cls, mesh: Any, unit: str | None = None, vertical_unit: str | None = None, crs: Any = None, name: str = "mesh"
    ) -> Self:
        """Return what a mesh of the trimesh package holds."""
        return cls.from_arrays(mesh.vertices, mesh.faces, unit, vertical_unit, crs, name)


class Mesh(Data):
    """A mesh in space: vertices, and triangles of three of them."""

    __slots__ = ()
    _of = MeshData

    @classmethod
    def from_arrays(
        cls,
        vertices: Any,
        triangles: Any,
        unit: str | None = None,
        vertical_unit: str | None = None,
        crs: Any = None,
        name: str = "mesh",
    ) -> Self:
        """Return a mesh from (n, 3) vertices and (m, 3) indices.

        Raises
        ------
        CallError, DataError
            If units contradict the system, or triangles name vertices that are not there.
        """
        xyz, corners = _faces(vertices, triangles)
        return cls(MeshData(name=name, frame=frame_from(crs, unit, vertical_unit), vertices=xyz, triangles=corners))

    @property
    def vertices(self) -> NDArray[np.float64]:
        """Vertices, (n, 3) float64."""
        return self._dataset.coordinates()

    @property
    def triangles(self) -> NDArray[np.int32]:
        """Indices of vertices, (m, 3) int32."""
        assert isinstance(self._dataset, MeshData)
        return self._dataset.triangles

    def to_trimesh(self) -> Any:
        """Return a mesh of the trimesh package, in the same coordinates."""
        return _as_trimesh(self.vertices, self.triangles)

    @classmethod
    def from_trimesh(
        cls, mesh: Any, unit: str | None = None, vertical_unit: str | None = None, crs: Any = None, name: str = "mesh"
    ) -> Self:
        """Return what a mesh of the trimesh package holds."""
        return cls.from_arrays(mesh.vertices, mesh.faces, unit, vertical_unit, crs, name)


def _as_trimesh(vertices: NDArray[np.float64], triangles: NDArray[np.int32]) -> Any:
    import trimesh

    # As it is: nothing merged, nothing turned.
    return trimesh.Trimesh(vertices=vertices, faces=triangles, process=False)


def _faces(vertices: Any, triangles: Any) -> tuple[NDArray[np.float64], NDArray[np.int32]]:
    xyz, corners = _places(vertices), np.asarray(triangles)
    if not np.isfinite(xyz).all():
        raise DataError("a vertex has no height")
    if corners.ndim != 2 or corners.shape[1] != 3 or corners.dtype.kind not in "iu":
        raise DataError(f"triangles have the shape {corners.shape} of {corners.dtype}, not (m, 3) of whole numbers")
    if len(corners) and (corners.min() < 0 or corners.max() >= len(xyz)):
        raise DataError("a triangle names a vertex that is not there")
    return xyz, corners.astype(np.int32)


class Grid(Data):
    """A grid of cells: heights, and where they lie."""

    __slots__ = ()
    _of = GridData

    @classmethod
    def from_arrays(
        cls,
        heights: Any,
        transform: Any,
        unit: str | None = None,
        vertical_unit: str | None = None,
        crs: Any = None,
        name: str = "grid",
    ) -> Self:
        """Return a grid from (rows, columns) heights, masked or NaN where there are none, and the affine transform of its outer corner.

        Raises
        ------
        CallError, DataError
            If units contradict the system, or the grid is turned.
        """
        own = np.ma.filled(np.ma.asarray(heights).astype(np.float64), np.nan)
        a, b, west, d, e, north = tuple(transform)[:6]
        if own.ndim != 2:
            raise DataError(f"heights have the shape {own.shape}, not (rows, columns)")
        if b or d or a <= 0 or e == 0:
            raise DataError("the grid is turned or mirrored east-west; its rows have to run east")
        if e > 0:
            own, north, e = own[::-1], north + e * own.shape[0], -e
        frame = frame_from(crs, unit, vertical_unit)
        return cls(GridData(name=name, frame=frame, heights=own, west=west, north=north, dx=a, dy=-e))

    @property
    def heights(self) -> NDArray[np.float64]:
        """Values, (rows, columns) float64, the northernmost row first; NaN where there is none."""
        return self._own().heights

    @property
    def transform(self) -> Affine:
        """Affine transform from column and row to east and north; its origin is the outer corner of the north-western cell."""
        from affine import Affine

        own = self._own()
        return Affine(own.dx, 0.0, own.west, 0.0, -own.dy, own.north)

    @property
    def profile(self) -> dict[str, Any]:
        """What a raster library has to know to write `heights`, by the names of rasterio."""
        rows, columns = self.heights.shape
        own = {"driver": "GTiff", "dtype": "float64", "count": 1, "nodata": np.nan, "crs": self.crs}
        return {**own, "height": rows, "width": columns, "transform": self.transform}

    @property
    def quantity(self) -> str:
        """What it holds: “height”, “height difference”, “slope” …."""
        return self._own().quantity

    @property
    def x(self) -> NDArray[np.float64]:
        """Eastings of the middles of columns, (columns,)."""
        return self._own().eastings()

    @property
    def y(self) -> NDArray[np.float64]:
        """Northings of the middles of rows, (rows,)."""
        return self._own().northings()

    def _own(self) -> GridData:
        assert isinstance(self._dataset, GridData)
        return self._dataset


class Survey(Data):
    """Survey records: alignments, parcels, plan features, trajectories, photo positions."""

    __slots__ = ()
    _of = SurveyData

    @property
    def records(self) -> tuple[Any, ...]:
        """Each with `role`, `name`, `line` (its drawn course, (m, 3)) and `exact`, what the file says."""
        assert isinstance(self._dataset, SurveyData)
        return tuple(self._dataset.records())


class Table(Data):
    """A table: columns of one length."""

    __slots__ = ()
    _of = TableData

    @property
    def columns(self) -> Mapping[str, NDArray[Any]]:
        """Values by heading; texts are text."""
        return MappingProxyType({name: _as_text(values) for name, values in self._own().columns.items()})

    @property
    def units(self) -> Mapping[str, str]:
        """Unit of each column, empty where it has none."""
        own = self._own()
        return MappingProxyType(dict(zip(own.columns, own.units or ("",) * len(own.columns), strict=True)))

    @property
    def rows(self) -> tuple[dict[str, Any], ...]:
        """Each row, by heading."""
        values = [column.tolist() for column in self.columns.values()]
        return tuple(dict(zip(self.columns, row, strict=True)) for row in zip(*values, strict=True))

    def _own(self) -> TableData:
        assert isinstance(self._dataset, TableData)
        return self._dataset


WRAPPERS: dict[str, type[Data]] = {
    each._of.kind: each for each in (PointSet, Linework, Contours, Areas, Tin, Mesh, Grid, Survey, Table)
}


def wrapped(dataset: Dataset, origin: Origin | None = None) -> Data:
    """Return a dataset as a script has it."""
    return WRAPPERS[dataset.kind](dataset, origin)


def dataset_of(data: Data) -> Dataset:
    """Return what the engine works on."""
    return data._dataset


def origin_of(data: Data) -> Origin:
    """Return where data comes from."""
    return data._origin
