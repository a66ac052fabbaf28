"""Pictures of datasets: what the plan view and the cards show, drawn by compiled code off the interface thread."""

from __future__ import annotations

import dataclasses
import math
from collections.abc import Iterator, Sequence
from dataclasses import dataclass
from functools import singledispatch
from typing import Any

import numpy as np
from numpy.typing import NDArray
from PyQt6.QtCore import QRectF
from PyQt6.QtGui import QImage, QPainter

from vastgrid.data.areas import Areas
from vastgrid.data.dataset import Dataset, fixed
from vastgrid.data.frame import ratio_of
from vastgrid.data.grid import Grid
from vastgrid.data.kinds import kind_of, of_kind
from vastgrid.data.linework import Contours, Linework, take_lines
from vastgrid.data.mesh import Mesh
from vastgrid.data.pointset import PointSet
from vastgrid.data.survey import Survey
from vastgrid.data.tin import Tin
from vastgrid.kernels.cells.raster import raster_faces, raster_heights
from vastgrid.kernels.drawing import fills, shade, strokes
from vastgrid.lineage import cloudindex
from vastgrid.lineage.cloudindex import WORTH, glimpse, glimpse_rows
from vastgrid.measures.heights import heights, lattice, surface_of
from vastgrid.qt.drawing.lettering import write_levels, write_names, write_points
from vastgrid.qt.drawing.view import View
from vastgrid.qt.widgets import theme
from vastgrid.styling import ramps
from vastgrid.styling.colouring import (
    StyledLayer,
    banded,
    by_height,
    line_colours,
    plain,
    point_colours,
    point_scale,
    shown_points,
    strengths,
    surface_scale,
    surface_values,
)
from vastgrid.styling.look import Faces, PointColour, SurfaceColour, hidden_at

Colours = NDArray[np.uint8]
Floats = NDArray[np.float64]
# Large clouds in order, by the digest of their points; the window adds them as they get ready.
_glimpses: dict[str, Floats] = {}
# From this width on, in pixels, a place between points has room for what is written beside them.
ROOM = 58.0


def height_range(datasets: Sequence[Dataset]) -> tuple[float, float]:
    """Return the heights that the ends of the ramp stand for: those of the surfaces, or else of whatever there is."""
    surfaces: list[Dataset] = [surface for each in datasets if (surface := surface_of(each)) is not None]
    pairs = [pair for each in surfaces or datasets if (pair := each.extent().elevation)]
    if not pairs:
        return 0.0, 1.0
    low, high = min(pair[0] for pair in pairs), max(pair[1] for pair in pairs)
    return (low, high) if high > low else (low - 0.5, high + 0.5)


@dataclass(frozen=True, eq=False)
class _Canvas:
    """What is drawn on, and how everything on it is drawn; widths are given in pixels of the view asked for.

    Attributes
    ----------
    view : View
        In the pixels of the image.
    ratio : float
        How many of them make one pixel of the view asked for, along each side.
    """

    image: Colours
    view: View
    ends: tuple[float, float]
    palette: theme.Palette
    small: bool
    wires: bool
    ground: bool
    ratio: float = 1.0

    @property
    def size(self) -> float:
        """World units per pixel of the view asked for."""
        return self.view.size * self.ratio

    def reach(self, pixels: int) -> int:
        """Return how far a dot goes around its middle in the image."""
        return max(math.ceil(((2 * pixels + 1) * self.ratio - 1.0) / 2.0 - 0.25), 0)

    @property
    def bare(self) -> bool:
        """Whether it is dark paper without ground: brown lines are for the pale ground and would not be seen."""
        return self.palette.name == "dark" and not self.ground


@singledispatch
def _drawn(data: Dataset, layer: StyledLayer, canvas: _Canvas) -> None:
    """Draw a dataset in its look; one that the views cannot show leaves no trace."""


def draw(
    shown: Sequence[Dataset | StyledLayer],
    view: View,
    palette: theme.Palette,
    *,
    labels: bool = True,
    small: bool = False,
    wires: bool = False,
    ends: tuple[float, float] | None = None,
    ratio: float = 1.0,
) -> QImage:
    """Draw datasets, first ones lowest; transparent where there is nothing.

    Parameters
    ----------
    shown : sequence of Dataset or Dressed
        Bare datasets are drawn in their usual look, surfaces below points below lines; dressed ones in the order given.
    small : bool
        As on a card: index contours only, and nothing written.
    wires : bool
        Whether triangles' edges show where there is room for them.
    ends : (float, float) or None
        The heights that the ends of the ramp stand for, where others are shown besides.
    ratio : float
        Pixels of the screen for one of the view along each side, as the desktop scales them; the picture knows it.
    """
    items = [each if isinstance(each, StyledLayer) else plain(each) for each in shown]
    if any(not isinstance(each, StyledLayer) for each in shown):
        items.sort(key=lambda own: kind_of(own.dataset).rank)
    fine = view.finer(ratio)
    image = np.zeros((fine.height, fine.width, 4), np.uint8)
    datasets = [item.dataset for item in items]
    ground = any(kind_of(each).covers for each in datasets)
    canvas = _Canvas(image, fine, ends or height_range(datasets), palette, small, wires, ground, ratio)
    for item in items:
        _drawn(item.dataset, item, canvas)
    picture = QImage(image.tobytes(), fine.width, fine.height, 4 * fine.width, QImage.Format.Format_ARGB32).copy()
    picture.setDevicePixelRatio(ratio)
    if labels and not small:
        taken: list[QRectF] = []
        painter = QPainter(picture)
        sets = [item for item in items if item.dataset.kind == Contours.kind and item.look.labels]
        write_levels(painter, sets, view, palette, taken)
        painter.end()
        for item in items:
            for areas in of_kind([item.dataset], Areas):
                if item.look.label:
                    write_names(picture, areas, item.look.label, view, palette, taken)
        for item in items:
            for points in of_kind([item.dataset], PointSet):
                if item.look.labels and len(points.xyz) and _spacing(points, view.size) >= ROOM:
                    write_points(picture, item, view, palette, taken)
    return picture


@_drawn.register
def _draw_contours(contours: Contours, layer: StyledLayer, canvas: _Canvas) -> None:
    image, view, ends, palette, small = canvas.image, canvas.view, canvas.ends, canvas.palette, canvas.small
    thin, thick = ("#B08D6A", "#E3CDB0") if canvas.bare else (palette.contour, palette.index)
    if layer.look.labels and not small:
        contours = contours.with_gaps()
    minor, index = strengths(contours, canvas.size)
    indexed = bool(contours.index.any())
    between = contours.supplementary
    weak = 0.55 * minor if layer.look.minor and not (small and indexed) else 0.0
    for mine, width, strength, usual in (
        (between, 1.0, 0.5 * weak, thin),
        (~contours.index & ~between, 1.0, weak, thin),
        (contours.index, 1.2 if small else 1.5, 0.9 if small else 0.9 * index, thick),
    ):
        if strength == 0.0 or not mine.any():
            continue
        xy, offsets = take_lines(contours.plan, contours.offsets, np.flatnonzero(mine))
        colours = line_colours(layer, contours.levels[mine], None, usual, ends)
        place = (view.west, view.top, view.size)
        strength *= layer.look.opacity / 100.0
        strokes.draw_coloured_lines(
            image, view.turned(xy), fixed(offsets), *place, colours, strength, width * canvas.ratio
        )


@_drawn.register
def _draw_linework(lines: Linework, layer: StyledLayer, canvas: _Canvas) -> None:
    _draw_lines(lines, layer, canvas, lines.layer, canvas.palette.breakline)


@_drawn.register
def _draw_areas(areas: Areas, own: StyledLayer, canvas: _Canvas) -> None:
    if len(areas) == 0:
        return
    image, view, look = canvas.image, canvas.view, own.look
    place = (view.west, view.top, view.size)
    colours = line_colours(own, np.zeros(len(areas)), areas.layer, canvas.palette.action, canvas.ends)
    turned = view.turned(areas.vertices)
    opacity = look.opacity / 100.0
    if look.fill:
        rings = areas.parts[areas.members]
        every = fixed(turned), areas.offsets, fixed(rings)
        fills.draw_areas(image, *every, *place, fixed(colours), opacity * look.fill / 100.0)
    if look.width:
        each = np.ascontiguousarray(colours[areas.area_of_ring()])
        wide = look.width * canvas.ratio
        strokes.draw_coloured_lines(image, fixed(turned), areas.offsets, *place, fixed(each), 0.95 * opacity, wide)


@_drawn.register
def _draw_survey(lines: Survey, layer: StyledLayer, canvas: _Canvas) -> None:
    _draw_lines(lines, layer, canvas, None, canvas.palette.action)


def _draw_lines(lines: Linework | Survey, own: StyledLayer, canvas: _Canvas, layer: Any, usual: str) -> None:
    image, view = canvas.image, canvas.view
    place = (view.west, view.top, view.size)
    z = (
        lines.vertices[np.minimum(lines.offsets[:-1], max(len(lines.vertices) - 1, 0)), 2]
        if len(lines)
        else np.zeros(0)
    )
    colours = line_colours(own, z, layer, usual, canvas.ends)
    strength = 0.95 * own.look.opacity / 100.0
    turned = view.turned(lines.vertices)
    strokes.draw_coloured_lines(image, turned, lines.offsets, *place, colours, strength, own.look.width * canvas.ratio)
    # Photo positions and parcels' centres are single places, which no line shows.
    alone = np.flatnonzero(np.diff(lines.offsets) == 1)
    if len(alone):
        strokes.draw_dots(image, fixed(turned[lines.offsets[alone]]), *place, colours[alone], strength, canvas.reach(2))


@_drawn.register
def _draw_tin(tin: Tin, layer: StyledLayer, canvas: _Canvas) -> None:
    _draw_triangles(tin, layer, canvas, tin.triangles)


@_drawn.register
def _draw_mesh(mesh: Mesh, layer: StyledLayer, canvas: _Canvas) -> None:
    # From above the faces that lie highest are seen: they are drawn last.
    faces = fixed(mesh.triangles[np.argsort(mesh.vertices[mesh.triangles, 2].max(axis=1))])
    _draw_triangles(mesh, layer, canvas, faces)


def _draw_triangles(surface: Tin | Mesh, layer: StyledLayer, canvas: _Canvas, faces: NDArray[np.int32]) -> None:
    view, look = canvas.view, layer.look
    vertices = view.turned(surface.vertices)
    filled = look.faces is not Faces.WIRE
    if filled:
        place = ((view.west, view.top), (view.size, view.size), (view.height, view.width))
        _tint(layer, canvas, raster_heights(vertices, faces, *place), vertices, faces)
    if look.faces is not Faces.FILLED and (canvas.wires or not filled):
        rims = getattr(surface, "edges_across", None)
        _draw_wires(canvas, layer, surface, vertices, rims, filled=filled)


@_drawn.register
def _draw_grid(grid: Grid, layer: StyledLayer, canvas: _Canvas) -> None:
    none = np.zeros((0, 3))
    _tint(layer, canvas, _sampled(grid, canvas.view), none, fixed(none.astype(np.int32)))


def _tint(
    layer: StyledLayer, canvas: _Canvas, heights_here: Floats, vertices: Floats, faces: NDArray[np.int32]
) -> None:
    """Colour every pixel by what it stands for, lit from the north-west."""
    look, view = layer.look, canvas.view
    cell = view.size * ratio_of(layer.dataset.frame)
    if look.shade:
        light = shade.hillshade(heights_here, cell, cell, 315.0, 45.0)
    else:
        light = np.where(np.isnan(heights_here), np.nan, 0.7071)
    gone = hidden_at(look, heights_here)
    if gone is not None:
        light = np.where(gone, np.nan, light)
    scale = surface_scale(layer, *canvas.ends)
    values = _values(layer, heights_here, vertices, faces, view, cell)
    shade.tint(values, light, scale.colours, scale.low, scale.high, canvas.image, look.opacity / 100.0)


def _draw_wires(
    canvas: _Canvas,
    layer: StyledLayer,
    surface: Tin | Mesh,
    vertices: Floats,
    across: NDArray[np.int32] | None,
    *,
    filled: bool,
) -> None:
    image, view, palette = canvas.image, canvas.view, canvas.palette
    place = (view.west, view.top, view.size)
    colour = ramps.rgb(palette.ink if palette.name == "light" or not filled else palette.band)
    opacity = layer.look.opacity / 100.0
    every = fixed(np.zeros((0, 3), np.bool_))
    strength = (0.3 if filled else 0.75) * opacity
    faces = surface.triangles
    wide = canvas.ratio
    strokes.draw_edges(image, vertices, faces, every, *place, colour, strength, wide, 6.0 * wide)
    if across is None:
        return
    constrained = getattr(surface, "constrained", None)
    if constrained is not None and constrained.any():
        ink = ramps.rgb(palette.breakline)
        strokes.draw_edges(image, vertices, faces, constrained, *place, ink, 0.5 * opacity, 1.2 * wide, 3.0 * wide)
    rim = fixed(across < 0)
    strokes.draw_edges(image, vertices, faces, rim, *place, colour, 0.55 * opacity, 1.4 * wide, 0.0)


def _places(view: View) -> Floats:
    """Return the place of every pixel's middle, (rows × columns, 2)."""
    x, y = np.meshgrid(np.arange(view.width) + 0.5, np.arange(view.height) + 0.5)
    east, north = view.world(x.ravel(), y.ravel())
    return np.column_stack((east, north))


def _sampled(surface: Tin | Grid, view: View) -> Floats:
    """Return a surface's height under every pixel, (rows, columns)."""
    if view.turn == 0.0:
        return lattice(surface, (view.west, view.top), (view.size, view.size), (view.height, view.width))
    for tin in of_kind([surface], Tin):
        turned = view.turned(tin.vertices)
        return raster_heights(turned, tin.triangles, (view.west, view.top), (view.size,) * 2, (view.height, view.width))
    return np.asarray(heights(surface, _places(view)).reshape(view.height, view.width))


def _values(
    layer: StyledLayer, heights_here: Floats, vertices: Floats, faces: NDArray[np.int32], view: View, cell: float
) -> Floats:
    """Return what the colour of each pixel stands for."""
    look, surface = layer.look, layer.dataset
    if look.colour in (SurfaceColour.SLOPE, SurfaceColour.ASPECT):
        slope, aspect = shade.slope_aspect(heights_here, cell, cell)
        return np.asarray(slope if look.colour is SurfaceColour.SLOPE else (aspect + view.turn) % 360.0)
    if look.colour is SurfaceColour.DIFFERENCE and layer.against is not None:
        return heights_here - _sampled(layer.against, view)
    if look.colour is SurfaceColour.SOURCE and layer.sources and surface.kind == Tin.kind:
        values, _ = surface_values(layer)
        place = ((view.west, view.top), (view.size, view.size), (view.height, view.width))
        return raster_faces(vertices, faces, *place, values)
    if look.colour is SurfaceColour.ELEVATION:
        return banded(heights_here, look.bands, surface.frame.vertical)
    return heights_here


def _spacing(points: PointSet, size: float) -> float:
    """Return the mean distance of points in pixels."""
    east, north = points.extent().east, points.extent().north
    if east is None or north is None:
        return 0.0
    area = max((east[1] - east[0]) * (north[1] - north[0]), 1e-9)
    return float(np.sqrt(area / len(points.xyz)) / size)


@_drawn.register
def _draw_points(points: PointSet, layer: StyledLayer, canvas: _Canvas) -> None:
    image, view, small = canvas.image, canvas.view, canvas.small
    darker = 105 if canvas.ground or small else 0 if canvas.bare else 60
    if points.extent().east is None:
        return
    spacing = _spacing(points, canvas.size)
    reach = layer.look.size // 2 if layer.look.size else 2 if spacing > 40 else 1 if spacing > 4 else 0
    if small:
        # A card's picture is shown at half its size: single pixels of a sparse survey would vanish.
        reach = max(reach, min(round(spacing / 4.0), 6))
    reach = canvas.reach(reach)
    strength = 0.9 * layer.look.opacity / 100.0
    scale = point_scale(layer, *canvas.ends)
    if layer.look.colour is PointColour.ELEVATION:
        # Over a surface of the same colours points have to stand out.
        scale = dataclasses.replace(
            scale, colours=np.clip(scale.colours.astype(np.int16) - darker, 0, 255).astype(np.uint8)
        )
    place = (view.west, view.top, view.size)
    for xyz, rows in _visible(points, view, reach, needs_rows=not by_height(layer)):
        turned = view.turned(xyz)
        if by_height(layer):
            strokes.draw_points(image, turned, *place, scale.colours, scale.low, scale.high, strength, reach)
            continue
        colours = point_colours(layer, rows, xyz, scale)
        keep = shown_points(layer, rows, xyz)
        if keep is not None:
            turned, colours = fixed(turned[keep]), colours[keep]
        strokes.draw_dots(image, turned, *place, colours, strength, reach)


def _visible(points: PointSet, view: View, reach: int, *, needs_rows: bool) -> Iterator[tuple[Floats, Any]]:
    """Yield the points worth drawing, in world coordinates, with their rows in the dataset."""
    if len(points.xyz) < WORTH:
        yield points.xyz, slice(None)
        return
    index = cloudindex.ready.get(points.content)
    if index is None:
        # Until the cloud is in order, some of it stands for all.
        if points.content not in _glimpses:
            _glimpses.clear()
            _glimpses[points.content] = glimpse(points.xyz)
        if needs_rows:
            rows = glimpse_rows(len(points.xyz))
            yield np.asarray(points.xyz[rows]), rows
        else:
            yield _glimpses[points.content], slice(None)
        return
    origin = np.array((index.west, index.south, index.low))
    for part, source in index.visible(view.box(), view.size * (reach + 1)):
        yield part + origin, source
