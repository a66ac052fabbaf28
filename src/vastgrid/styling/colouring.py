"""From a dataset and its look to colours, for the plan and the 3D view alike, with the scale that a legend shows."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, field
from typing import Any

import numpy as np
from numpy.typing import NDArray

from vastgrid.base.quantities import Length
from vastgrid.base.words import step_above
from vastgrid.data.classes import class_counts, class_name
from vastgrid.data.dataset import Dataset, Floats, frozen
from vastgrid.data.frame import ratio_of
from vastgrid.data.grid import Grid
from vastgrid.data.kinds import narrowed
from vastgrid.data.linework import Contours
from vastgrid.data.mesh import Mesh
from vastgrid.data.pointset import PointSet
from vastgrid.data.tin import Tin
from vastgrid.measures.heights import heights
from vastgrid.styling import ramps
from vastgrid.styling.look import (
    LineColour,
    PointColour,
    PointLook,
    SurfaceColour,
    SurfaceLook,
    hidden_at,
    hidden_classes,
    look_of,
    true_colour,
)
from vastgrid.styling.ramps import Colours


@dataclass(frozen=True, eq=False)
class StyledLayer:
    """A dataset as it is to be drawn.

    Attributes
    ----------
    dataset : Dataset
        What is drawn.
    look : SurfaceLook, PointLook, LineLook, ContourLook or AreaLook
        How.
    number : int
        Its place among the cards: gives it a colour of its own where it is told apart by source.
    against : Tin, Grid or None
        What differences are taken to.
    sources : sequence of Dataset
        What it was made from, for colours by source.
    """

    dataset: Dataset
    look: Any
    number: int = 0
    against: Tin | Grid | None = None
    sources: Sequence[Dataset] = ()
    _kept: dict[str, Any] = field(default_factory=dict)

    def kept(self, name: str, make: Any) -> Any:
        """Return something that takes long to work out, worked out once."""
        if name not in self._kept:
            self._kept[name] = make()
        return self._kept[name]


# Lines closer than CROWDED pixels only darken what lies below; from ROOMY pixels on each is seen by itself.
CROWDED, ROOMY = 2.5, 6.0
FAINTEST = 0.35


def strengths(contours: Contours, pixel: float) -> tuple[float, float]:
    """Return how strongly minor and index contours are drawn, 0 … 1, where a pixel is so wide in the unit of plan.

    Minor contours fade where there is no room for them; index contours, or what stands for them, stay in sight.
    """
    every, index = (min(max((gap / pixel - CROWDED) / (ROOMY - CROWDED), 0.0), 1.0) for gap in contours.spacing())
    alone = not contours.index.any()
    return (max(every, FAINTEST) if alone else every), max(index, FAINTEST)


def plain(dataset: Dataset, colour: str = "") -> StyledLayer:
    """Return a dataset in its usual look, perhaps in a colour of its own."""
    words = {"colour": "one colour", "plain": colour} if colour else {}
    return StyledLayer(dataset, look_of(dataset, words))


@dataclass(frozen=True, eq=False)
class Scale:
    """What colours stand for.

    Attributes
    ----------
    title : str
        “Slope in degrees”.
    colours : (n, 3) uint8
        From the low end to the high end.
    low, high : float
        Values of both ends.
    entries : tuple of (text, (3,) uint8)
        Instead of a ramp: things and their colours.
    marks : tuple of (value, text)
        What is written beside the ramp, where it is not its numbers.
    """

    title: str
    colours: Colours
    low: float = 0.0
    high: float = 1.0
    entries: tuple[tuple[str, Any], ...] = ()
    marks: tuple[tuple[float, str], ...] = ()

    def __post_init__(self) -> None:
        # Read-only throughout: to compiled code that is a type of its own.
        object.__setattr__(self, "colours", frozen(self.colours, np.uint8, (-1, 3), "colours"))

    def of(self, values: NDArray[Any]) -> Colours:
        """Return the colour of each value, (n, 3) uint8; that of the low end where there is none."""
        last = len(self.colours) - 1
        ratio = last / (self.high - self.low) if self.high > self.low else 0.0
        with np.errstate(invalid="ignore"):
            number = np.nan_to_num((values - self.low) * ratio)
        return np.asarray(self.colours[np.clip(number, 0, last).astype(np.int32)])


def banded(values: Floats, bands: Length | None, unit: Any) -> Floats:
    """Return values brought to the middle of their band."""
    if bands is None:
        return values
    step = bands.in_unit(unit, "bands") if unit is not None else bands.value
    return np.asarray((np.floor(values / step) + 0.5) * step)


def elevation_scale(low: float, high: float, unit: Any = None) -> Scale:
    """Return the scale of heights."""
    return Scale(f"Elevation{f' in {unit.value}' if unit else ''}", ramps.elevation(), low, high)


_EIGHT = ((0.0, "N"), (90.0, "E"), (180.0, "S"), (270.0, "W"), (360.0, "N"))


def surface_scale(layer: StyledLayer, low: float, high: float) -> Scale:
    """Return what a surface's colours stand for; `low` and `high` are the heights that the views share."""
    look, unit = layer.look, layer.dataset.frame.vertical
    assert isinstance(look, SurfaceLook)
    if look.colour is SurfaceColour.SLOPE:
        return Scale("Slope in degrees", ramps.steepness(), 0.0, 60.0)
    if look.colour is SurfaceColour.ASPECT:
        return Scale("Aspect", ramps.bearing(), 0.0, 360.0, marks=_EIGHT)
    if look.colour is SurfaceColour.DIFFERENCE and layer.against is not None:
        most = layer.kept("most", lambda: _largest_difference(layer))
        name = f"Above {layer.against.name}{f' in {unit.value}' if unit else ''}"
        return Scale(name, ramps.difference(), -most, most)
    if look.colour is SurfaceColour.SOURCE and layer.sources:
        return source_scale([each.name for each in layer.sources])
    if look.colour is SurfaceColour.PLAIN:
        colour = own_colour(layer)
        return Scale(layer.dataset.name, np.array([colour, colour]), entries=((layer.dataset.name, colour),))
    if not layer.dataset.has_heights and layer.dataset.has_lengths:
        most = layer.kept("most", lambda: _largest_of(layer.dataset))
        return Scale(f"Height difference{f' in {unit.value}' if unit else ''}", ramps.difference(), -most, most)
    if not layer.dataset.has_heights:
        ends = layer.dataset.extent().elevation or (0.0, 1.0)
        title = narrowed(layer.dataset, Grid).holds()
        return Scale(title[0].upper() + title[1:], ramps.strength(), *ends)
    return elevation_scale(low, high, unit)


def source_scale(names: Sequence[str]) -> Scale:
    """Return the scale of several things without an order."""
    colours = np.array([ramps.category(k) for k in range(max(len(names), 1))])
    entries = tuple((name, colours[k]) for k, name in enumerate(names))
    return Scale("Source", colours, 0.0, max(len(names) - 1.0, 1.0), entries)


def own_colour(layer: StyledLayer) -> Colours:
    """Return a card's colour: the one it was given, or one by its number."""
    given = getattr(layer.look, "plain", "")
    try:
        return ramps.rgb(given) if given and len(given) == 7 else ramps.category(layer.number)
    except ValueError:
        return ramps.category(layer.number)


def _largest_difference(layer: StyledLayer) -> float:
    """Return the 98 % quantile of the difference, rounded up to a readable number: a few outliers must not pale all."""
    assert layer.against is not None
    xyz = layer.dataset.coordinates()
    xyz = np.asarray(xyz[:: max(len(xyz) // 50_000, 1)])
    return _readable(xyz[:, 2] - heights(layer.against, np.ascontiguousarray(xyz[:, :2])))


def _largest_of(data: Dataset) -> float:
    """Return the end of a scale for differences that data holds itself."""
    xyz = data.coordinates()
    return _readable(np.asarray(xyz[:: max(len(xyz) // 50_000, 1), 2]))


# Ends of a scale: finer than those of a step, so that colours do not pale.
_ENDS = (1.0, 1.2, 1.5, 2.0, 2.5, 3.0, 4.0, 5.0, 6.0, 8.0)


def _readable(gap: Floats) -> float:
    gap = np.abs(gap[np.isfinite(gap)])
    if len(gap) == 0:
        return 1.0
    most = max(float(np.quantile(gap, 0.98)), 1e-3)
    return step_above(most, _ENDS)


def vertex_sources(layer: StyledLayer) -> NDArray[np.int32]:
    """Return which source each vertex of a TIN came from, (n,) int32: the one with the nearest place."""
    from scipy.spatial import cKDTree

    xyz = layer.dataset.coordinates()
    best = np.full(len(xyz), np.inf)
    out = np.zeros(len(xyz), np.int32)
    for k, source in enumerate(layer.sources):
        there = source.coordinates()
        there = there[np.isfinite(there[:, :2]).all(axis=1)]
        if len(there) == 0:
            continue
        # A tree of a whole scan would take more room than the scan.
        there = there[:: max(len(there) // 2_000_000, 1)]
        distance, _ = cKDTree(there[:, :2], balanced_tree=False, compact_nodes=False).query(xyz[:, :2], workers=2)
        # Where two sources share a place the later one counts, as a later survey would.
        nearer = distance <= best
        out[nearer], best[nearer] = k, distance[nearer]
    return out


# -- points


def point_scale(layer: StyledLayer, low: float, high: float) -> Scale:
    """Return what points' colours stand for."""
    look, points = layer.look, narrowed(layer.dataset, PointSet)
    assert isinstance(look, PointLook)
    if look.colour is PointColour.CLASS and "classification" in points.attributes:
        codes = layer.kept("codes", lambda: class_counts(points)[0].tolist())
        table = ramps.classes()
        entries = tuple((class_name(code), table[code]) for code in codes if not hidden_classes(look)[code])
        return Scale("Class", table, 0.0, 255.0, entries)
    if look.colour is PointColour.INTENSITY and "intensity" in points.attributes:
        ends = layer.kept("strength", lambda: _ends(points.attributes["intensity"]))
        return Scale("Intensity", ramps.strength(), *ends)
    if look.colour is PointColour.DIFFERENCE and layer.against is not None:
        most = layer.kept("most", lambda: _largest_difference(layer))
        unit = points.frame.vertical
        return Scale(
            f"Above {layer.against.name}{f' in {unit.value}' if unit else ''}", ramps.difference(), -most, most
        )
    if look.colour in (PointColour.PLAIN, PointColour.SOURCE):
        colour = own_colour(layer) if look.colour is PointColour.PLAIN else ramps.category(layer.number)
        return Scale("Source", np.array([colour, colour]), entries=((points.name, colour),))
    return elevation_scale(low, high, points.frame.vertical)


def _ends(values: NDArray[Any]) -> tuple[float, float]:
    some = values[:: max(len(values) // 100_000, 1)].astype(np.float64)
    low, high = np.quantile(some[np.isfinite(some)], (0.02, 0.98)) if len(some) else (0.0, 1.0)
    return float(low), float(high) if high > low else float(low) + 1.0


def point_colours(layer: StyledLayer, rows: Any, xyz: Floats, scale: Scale) -> Colours:
    """Return the colour of some points, (m, 3) uint8.

    Parameters
    ----------
    rows : slice or (m,) int
        Which of the dataset's points they are.
    xyz : (m, 3) float64
        Their coordinates.
    """
    look, points = layer.look, narrowed(layer.dataset, PointSet)
    if look.colour is PointColour.CLASS and "classification" in points.attributes:
        return np.asarray(scale.colours[points.attributes["classification"][rows].astype(np.uint8)])
    if look.colour is PointColour.INTENSITY and "intensity" in points.attributes:
        return scale.of(points.attributes["intensity"][rows].astype(np.float64))
    if look.colour is PointColour.TRUE and (names := true_colour(points)):
        parts = [points.attributes[name][rows] for name in names]
        if parts[0].dtype.kind == "f":
            parts = [np.clip(part * 255.0, 0, 255) for part in parts]
        elif parts[0].dtype.itemsize > 1:
            # Some writers put 8-bit colours into the 16 bits that the format has.
            wide = layer.kept("wide", lambda: max(int(points.attributes[name].max(initial=0)) for name in names) > 255)
            parts = [part >> 8 for part in parts] if wide else parts
        return np.column_stack(parts).astype(np.uint8)
    if look.colour is PointColour.DIFFERENCE and layer.against is not None:
        return scale.of(xyz[:, 2] - heights(layer.against, np.ascontiguousarray(xyz[:, :2])))
    if look.colour in (PointColour.PLAIN, PointColour.SOURCE):
        return np.tile(scale.colours[0], (len(xyz), 1))
    return scale.of(xyz[:, 2])


def by_height(layer: StyledLayer) -> bool:
    """Return whether points are coloured by their height alone, and none is hidden."""
    return layer.look.colour is PointColour.ELEVATION and not layer.look.hidden and not layer.look.heights


def shown_points(layer: StyledLayer, rows: Any, xyz: Floats) -> NDArray[np.bool_] | None:
    """Return which of some points are of no hidden class or height; None where all are."""
    look, points = layer.look, narrowed(layer.dataset, PointSet)
    keep: NDArray[np.bool_] | None = None
    if look.hidden and "classification" in points.attributes:
        keep = ~hidden_classes(look)[points.attributes["classification"][rows].astype(np.uint8)]
    gone = hidden_at(look, xyz[:, 2])
    if gone is not None:
        keep = ~gone if keep is None else keep & ~gone
    return keep


def line_colours(
    own: StyledLayer, heights_of: Floats, layer: NDArray[np.int32] | None, usual: str, ends: tuple[float, float]
) -> Colours:
    """Return the colour of each line, (k, 3) uint8."""
    look = own.look
    if look.colour is LineColour.ELEVATION:
        # Darker than the ground's own colours, or lines would vanish in it.
        return (elevation_scale(*ends).of(heights_of) * 0.62).astype(np.uint8)
    if look.colour is LineColour.LAYER and layer is not None:
        return np.array([ramps.category(k) for k in range(int(layer.max(initial=0)) + 1)])[layer]
    colour = own_colour(own) if look.plain else ramps.rgb(usual)
    return np.tile(colour, (len(heights_of), 1))


def surface_values(layer: StyledLayer) -> tuple[Floats, bool]:
    """Return a value for each vertex of a TIN or mesh, or for each face (then True), that its scale colours."""
    look, data = layer.look, layer.dataset
    assert isinstance(data, Tin | Mesh)
    z = data.vertices[:, 2]
    if look.colour in (SurfaceColour.SLOPE, SurfaceColour.ASPECT):
        slope, aspect = layer.kept("faces", lambda: face_slopes(data))
        return (slope if look.colour is SurfaceColour.SLOPE else aspect), True
    if look.colour is SurfaceColour.DIFFERENCE and layer.against is not None:
        against = layer.against
        return layer.kept("gap", lambda: z - heights(against, np.ascontiguousarray(data.vertices[:, :2]))), False
    if look.colour is SurfaceColour.SOURCE and layer.sources:
        number = layer.kept("sources", lambda: vertex_sources(layer))
        return layer.kept("face sources", lambda: number[data.triangles].max(axis=1).astype(np.float64)), True
    return z, False


def face_slopes(data: Tin | Mesh) -> tuple[Floats, Floats]:
    """Return each face's slope in degrees from level, and the bearing in degrees that it falls towards; flat: 0."""
    corner = data.vertices[data.triangles]
    normal = np.cross(corner[:, 1] - corner[:, 0], corner[:, 2] - corner[:, 0])
    normal = normal * np.where(normal[:, 2] < 0, -1.0, 1.0)[:, None]
    ratio = ratio_of(data.frame)
    across = np.hypot(normal[:, 0], normal[:, 1])
    slope = np.degrees(np.arctan2(across, normal[:, 2] * ratio))
    aspect = np.degrees(np.arctan2(normal[:, 0], normal[:, 1])) % 360.0
    return slope, aspect
