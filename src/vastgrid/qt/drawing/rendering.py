"""Pictures of datasets: what the plan view and the cards show, drawn by compiled code off the interface thread."""

from __future__ import annotations

import dataclasses
from collections.abc import Iterator, Sequence
from typing import Any

import numpy as np
from numpy.typing import NDArray
from PyQt6.QtCore import QRectF
from PyQt6.QtGui import QImage, QPainter

from vastgrid.data.dataset import Dataset, fixed
from vastgrid.data.frame import ratio_of
from vastgrid.data.grid import Grid
from vastgrid.data.linework import Contours, Linework, take_lines
from vastgrid.data.mesh import Mesh
from vastgrid.data.pointset import PointSet
from vastgrid.data.survey import Survey
from vastgrid.data.tin import Tin
from vastgrid.job import cloudindex
from vastgrid.job.cloudindex import WORTH, glimpse, glimpse_rows
from vastgrid.kernels import shade
from vastgrid.kernels.raster import raster_faces, raster_heights
from vastgrid.looks import ramps
from vastgrid.looks.colouring import (
    Dressed,
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
from vastgrid.looks.look import Faces, PointColour, SurfaceColour, hidden_at
from vastgrid.measures.heights import heights, lattice
from vastgrid.qt.drawing.lettering import write_levels, write_points
from vastgrid.qt.drawing.view import View
from vastgrid.qt.widgets import theme

Colours = NDArray[np.uint8]
Floats = NDArray[np.float64]
# Large clouds in order, by the digest of their points; the window adds them as they get ready.
_glimpses: dict[str, Floats] = {}
# From this width on, in pixels, a place between points has room for what is written beside them.
ROOM = 58.0


def height_range(datasets: Sequence[Dataset]) -> tuple[float, float]:
    """Return the heights that the ends of the ramp stand for: those of the surfaces, or else of whatever there is."""
    surfaces: list[Dataset] = [each for each in datasets if isinstance(each, Tin | Grid) and each.has_heights]
    pairs = [pair for each in surfaces or datasets if (pair := each.extent().elevation)]
    if not pairs:
        return 0.0, 1.0
    low, high = min(pair[0] for pair in pairs), max(pair[1] for pair in pairs)
    return (low, high) if high > low else (low - 0.5, high + 0.5)


def rank(dataset: Dataset) -> int:
    """Return what lies below what, as long as nobody ordered it otherwise: grids, surfaces, points, lines."""
    if isinstance(dataset, Grid):
        return 0
    return 1 if isinstance(dataset, Tin | Mesh) else 2 if isinstance(dataset, PointSet) else 3


def draw(
    shown: Sequence[Dataset | Dressed],
    view: View,
    palette: theme.Palette,
    *,
    labels: bool = True,
    small: bool = False,
    wires: bool = False,
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
    """
    items = [each if isinstance(each, Dressed) else plain(each) for each in shown]
    if any(not isinstance(each, Dressed) for each in shown):
        items.sort(key=lambda own: rank(own.dataset))
    image = np.zeros((view.height, view.width, 4), np.uint8)
    datasets = [own.dataset for own in items]
    ends = height_range(datasets)
    ground = any(isinstance(each, Tin | Grid | Mesh) for each in datasets)
    # Brown lines are for the pale ground; on bare dark paper they would not be seen.
    bare = palette.name == "dark" and not ground
    for own in items:
        data = own.dataset
        if isinstance(data, Tin | Grid | Mesh):
            _draw_surface(image, own, view, ends, palette, wires=wires)
        elif isinstance(data, PointSet):
            _draw_points(image, own, view, ends, 105 if ground or small else 0 if bare else 60, small=small)
        elif isinstance(data, Contours):
            _draw_contours(image, own, view, ends, palette, small=small, bare=bare)
        elif isinstance(data, Linework | Survey):
            _draw_lines(image, own, view, ends, palette)
    picture = QImage(image.tobytes(), view.width, view.height, 4 * view.width, QImage.Format.Format_ARGB32).copy()
    if labels and not small:
        taken: list[QRectF] = []
        painter = QPainter(picture)
        sets = [own for own in items if isinstance(own.dataset, Contours) and own.look.labels]
        write_levels(painter, sets, view, palette, taken)
        painter.end()
        for own in items:
            data = own.dataset
            if isinstance(data, PointSet) and own.look.labels and len(data.xyz) and _spacing(data, view.size) >= ROOM:
                write_points(picture, own, view, palette, taken)
    return picture


def _draw_contours(
    image: Colours,
    own: Dressed,
    view: View,
    ends: tuple[float, float],
    palette: theme.Palette,
    *,
    small: bool,
    bare: bool,
) -> None:
    contours = own.dataset
    assert isinstance(contours, Contours)
    thin, thick = ("#B08D6A", "#E3CDB0") if bare else (palette.contour, palette.index)
    minor, index = strengths(contours, view.size)
    indexed = bool(contours.index.any())
    for mine, width, strength, usual in (
        (~contours.index, 1.0, 0.55 * minor if own.look.minor and not (small and indexed) else 0.0, thin),
        (contours.index, 1.2 if small else 1.5, 0.9 if small else 0.9 * index, thick),
    ):
        if strength == 0.0 or not mine.any():
            continue
        xy, offsets = take_lines(contours.plan, contours.offsets, np.flatnonzero(mine))
        colours = line_colours(own, contours.levels[mine], None, usual, ends)
        place = (view.west, view.top, view.size)
        strength *= own.look.opacity / 100.0
        shade.draw_coloured_lines(image, view.turned(xy), fixed(offsets), *place, colours, strength, width)


def _draw_lines(image: Colours, own: Dressed, view: View, ends: tuple[float, float], palette: theme.Palette) -> None:
    lines = own.dataset
    assert isinstance(lines, Linework | Survey)
    usual = palette.action if isinstance(lines, Survey) else palette.breakline
    place = (view.west, view.top, view.size)
    z = (
        lines.vertices[np.minimum(lines.offsets[:-1], max(len(lines.vertices) - 1, 0)), 2]
        if len(lines)
        else np.zeros(0)
    )
    colours = line_colours(own, z, lines.layer if isinstance(lines, Linework) else None, usual, ends)
    strength = 0.95 * own.look.opacity / 100.0
    turned = view.turned(lines.vertices)
    shade.draw_coloured_lines(image, turned, lines.offsets, *place, colours, strength, own.look.width)
    # Photo positions and parcels' centres are single places, which no line shows.
    alone = np.flatnonzero(np.diff(lines.offsets) == 1)
    if len(alone):
        shade.draw_dots(image, fixed(turned[lines.offsets[alone]]), *place, colours[alone], strength, 2)


def _draw_surface(
    image: Colours,
    own: Dressed,
    view: View,
    ends: tuple[float, float],
    palette: theme.Palette,
    *,
    wires: bool,
) -> None:
    surface, look = own.dataset, own.look
    assert isinstance(surface, Tin | Grid | Mesh)
    place = ((view.west, view.top), (view.size, view.size), (view.height, view.width))
    triangulated = not isinstance(surface, Grid)
    vertices = view.turned(surface.vertices) if not isinstance(surface, Grid) else np.zeros((0, 3))
    faces = surface.triangles if not isinstance(surface, Grid) else fixed(np.zeros((0, 3), np.int32))
    if isinstance(surface, Mesh):
        # From above the faces that lie highest are seen: they are drawn last.
        faces = fixed(faces[np.argsort(surface.vertices[faces, 2].max(axis=1))])
    filled = look.faces is not Faces.WIRE or not triangulated
    if filled:
        heights_here = _sampled(surface, view) if isinstance(surface, Grid) else raster_heights(vertices, faces, *place)
        cell = view.size * ratio_of(surface.frame)
        if look.shade:
            light = shade.hillshade(heights_here, cell, cell, 315.0, 45.0)
        else:
            light = np.where(np.isnan(heights_here), np.nan, 0.7071)
        gone = hidden_at(look, heights_here)
        if gone is not None:
            light = np.where(gone, np.nan, light)
        scale = surface_scale(own, *ends)
        values = _values(own, heights_here, vertices, view, cell)
        shade.tint(values, light, scale.colours, scale.low, scale.high, image, look.opacity / 100.0)
    if isinstance(surface, Tin | Mesh) and look.faces is not Faces.FILLED and (wires or not filled):
        _draw_wires(image, own, surface, vertices, view, palette, filled=filled)


def _draw_wires(
    image: Colours,
    own: Dressed,
    surface: Tin | Mesh,
    vertices: Floats,
    view: View,
    palette: theme.Palette,
    *,
    filled: bool,
) -> None:
    place = (view.west, view.top, view.size)
    colour = ramps.rgb(palette.ink if palette.name == "light" or not filled else palette.band)
    opacity = own.look.opacity / 100.0
    every = fixed(np.zeros((0, 3), np.bool_))
    strength = (0.3 if filled else 0.75) * opacity
    faces = surface.triangles
    shade.draw_edges(image, vertices, faces, every, *place, colour, strength, 1.0, 6.0)
    if isinstance(surface, Mesh):
        return
    assert surface.constrained is not None
    if surface.constrained.any():
        ink = ramps.rgb(palette.breakline)
        shade.draw_edges(image, vertices, faces, surface.constrained, *place, ink, 0.5 * opacity, 1.2, 3.0)
    rim = fixed(surface.edges_across < 0)
    shade.draw_edges(image, vertices, faces, rim, *place, colour, 0.55 * opacity, 1.4, 0.0)


def _places(view: View) -> Floats:
    """Return the place of every pixel's middle, (rows × columns, 2)."""
    x, y = np.meshgrid(np.arange(view.width) + 0.5, np.arange(view.height) + 0.5)
    east, north = view.world(x.ravel(), y.ravel())
    return np.column_stack((east, north))


def _sampled(surface: Tin | Grid, view: View) -> Floats:
    """Return a surface's height under every pixel, (rows, columns)."""
    if view.turn == 0.0:
        return lattice(surface, (view.west, view.top), (view.size, view.size), (view.height, view.width))
    if isinstance(surface, Tin):
        turned = view.turned(surface.vertices)
        return raster_heights(
            turned, surface.triangles, (view.west, view.top), (view.size,) * 2, (view.height, view.width)
        )
    return np.asarray(heights(surface, _places(view)).reshape(view.height, view.width))


def _values(own: Dressed, heights_here: Floats, vertices: Floats, view: View, cell: float) -> Floats:
    """Return what the colour of each pixel stands for."""
    look, surface = own.look, own.dataset
    if look.colour in (SurfaceColour.SLOPE, SurfaceColour.ASPECT):
        slope, aspect = shade.slope_aspect(heights_here, cell, cell)
        return np.asarray(slope if look.colour is SurfaceColour.SLOPE else (aspect + view.turn) % 360.0)
    if look.colour is SurfaceColour.DIFFERENCE and own.against is not None:
        return heights_here - _sampled(own.against, view)
    if look.colour is SurfaceColour.SOURCE and own.sources and isinstance(surface, Tin):
        values, _ = surface_values(own)
        place = ((view.west, view.top), (view.size, view.size), (view.height, view.width))
        return raster_faces(vertices, surface.triangles, *place, values)
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


def _draw_points(
    image: Colours, own: Dressed, view: View, ends: tuple[float, float], darker: int, *, small: bool
) -> None:
    points = own.dataset
    assert isinstance(points, PointSet)
    if points.extent().east is None:
        return
    spacing = _spacing(points, view.size)
    reach = own.look.size // 2 if own.look.size else 2 if spacing > 40 else 1 if spacing > 4 else 0
    if small:
        # A card's picture is shown at half its size: single pixels of a sparse survey would vanish.
        reach = max(reach, min(round(spacing / 4.0), 6))
    strength = 0.9 * own.look.opacity / 100.0
    scale = point_scale(own, *ends)
    if own.look.colour is PointColour.ELEVATION:
        # Over a surface of the same colours points have to stand out.
        scale = dataclasses.replace(
            scale, colours=np.clip(scale.colours.astype(np.int16) - darker, 0, 255).astype(np.uint8)
        )
    place = (view.west, view.top, view.size)
    for xyz, rows in _visible(points, view, reach, needs_rows=not by_height(own)):
        turned = view.turned(xyz)
        if by_height(own):
            shade.draw_points(image, turned, *place, scale.colours, scale.low, scale.high, strength, reach)
            continue
        colours = point_colours(own, rows, xyz, scale)
        keep = shown_points(own, rows, xyz)
        if keep is not None:
            turned, colours = fixed(turned[keep]), colours[keep]
        shade.draw_dots(image, turned, *place, colours, strength, reach)


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
