"""Pictures of datasets: what the plan view and the cards show, drawn by compiled code off the interface thread."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from functools import lru_cache

import numpy as np
from numpy.typing import NDArray
from PyQt6.QtCore import QPointF, QRectF
from PyQt6.QtGui import QColor, QImage, QPainter

from vastgrid.kernels import shade
from vastgrid.kernels.raster import raster_heights
from vastgrid.qt import theme
from vastgrid.terrain.cloudindex import WORTH, CloudIndex, glimpse
from vastgrid.terrain.compare import lattice
from vastgrid.terrain.dataset import Dataset
from vastgrid.terrain.grid import Grid
from vastgrid.terrain.linework import Contours, Linework
from vastgrid.terrain.mesh import Mesh
from vastgrid.terrain.pointset import PointSet
from vastgrid.terrain.survey import Survey
from vastgrid.terrain.tin import Tin

Colours = NDArray[np.uint8]
# Large clouds in order, by the digest of their points; the window adds them as they get ready.
indexes: dict[str, CloudIndex] = {}
_glimpses: dict[str, NDArray[np.float64]] = {}


@dataclass(frozen=True)
class View:
    """What part of the world a picture shows: its middle, world units per pixel, and size in pixels."""

    east: float
    north: float
    size: float
    width: int
    height: int

    @property
    def west(self) -> float:
        """Easting of the left rim."""
        return self.east - self.width * self.size / 2.0

    @property
    def top(self) -> float:
        """Northing of the upper rim."""
        return self.north + self.height * self.size / 2.0

    def world(self, x: float, y: float) -> tuple[float, float]:
        """Return the place under a pixel."""
        return self.west + x * self.size, self.top - y * self.size

    def pixel(self, east: float, north: float) -> tuple[float, float]:
        """Return where a place is drawn."""
        return (east - self.west) / self.size, (self.top - north) / self.size

    def grown(self, share: float) -> View:
        """Return a view of the same middle and scale with a margin all around."""
        return View(self.east, self.north, self.size, int(self.width * share), int(self.height * share))


@lru_cache(maxsize=2)
def ramp(count: int = 256) -> Colours:
    """Return the elevation colours, (n, 3): low red to high pale, even in lightness and safe for colour-blind eyes."""
    from cmap import Colormap

    # The dark end would swallow contours and shadow, so it is left out and the rest is lightened towards paper.
    rgba = Colormap("crameri:lajolla")(np.linspace(0.22, 1.0, count))
    rgb = np.asarray(rgba)[:, :3]
    return np.ascontiguousarray((255 * (0.62 * rgb + 0.38)).astype(np.uint8))


def height_range(datasets: Sequence[Dataset]) -> tuple[float, float]:
    """Return the heights that the ends of the ramp stand for: those of the surfaces, or else of whatever there is."""
    surfaces: list[Dataset] = [each for each in datasets if isinstance(each, Tin | Grid)]
    pairs = [pair for each in surfaces or datasets if (pair := each.extent().elevation)]
    if not pairs:
        return 0.0, 1.0
    low, high = min(pair[0] for pair in pairs), max(pair[1] for pair in pairs)
    return (low, high) if high > low else (low - 0.5, high + 0.5)


def bounds(datasets: Sequence[Dataset]) -> tuple[float, float, float, float] | None:
    """Return west, south, east, north of all datasets together."""
    extents = [each.extent() for each in datasets]
    east = [e.east for e in extents if e.east]
    north = [e.north for e in extents if e.north]
    if not east or not north:
        return None
    return min(e[0] for e in east), min(n[0] for n in north), max(e[1] for e in east), max(n[1] for n in north)


def fitted(box: tuple[float, float, float, float], width: int, height: int, margin: float = 0.06) -> View:
    """Return the view that shows a box whole."""
    west, south, east, north = box
    across, up = max(east - west, 1e-3), max(north - south, 1e-3)
    size = max(across / max(width, 1), up / max(height, 1)) * (1.0 + 2.0 * margin)
    return View((west + east) / 2.0, (south + north) / 2.0, size, width, height)


def _rgb(colour: str) -> Colours:
    made = QColor(colour)
    return np.array([made.red(), made.green(), made.blue()], np.uint8)


def draw(
    datasets: Sequence[Dataset],
    view: View,
    palette: theme.Palette,
    *,
    labels: bool = True,
    small: bool = False,
    wires: bool = False,
    colours: dict[int, str] | None = None,
) -> QImage:
    """Draw datasets, first ones lowest, surfaces below points below lines; transparent where there is nothing.

    A small picture, as on a card, shows index contours only and no labels. `colours` gives single datasets (by their
    identity) a colour of their own.
    """
    own = colours or {}
    image = np.zeros((view.height, view.width, 4), np.uint8)
    low, high = height_range(datasets)
    ground = any(isinstance(each, Tin | Grid | Mesh) for each in datasets)
    # Brown lines are for the pale ground; on bare dark paper they would not be seen.
    bare = palette.name == "dark" and not ground
    thin, thick = ("#B08D6A", "#E3CDB0") if bare else (palette.contour, palette.index)
    for each in datasets:
        if isinstance(each, Tin | Grid | Mesh):
            _draw_surface(image, each, view, low, high, palette, wires=wires)
    for each in datasets:
        if isinstance(each, PointSet):
            shades = _shades(own.get(id(each)), 105 if ground else 0 if bare else 60)
            _draw_points(image, each, view, low, high, shades)
    for each in datasets:
        if isinstance(each, Contours):
            for mine, width, strength, colour in (
                (~each.index, 1.0, 0.0 if small else 0.55, thin),
                (each.index, 1.2 if small else 1.5, 0.9, thick),
            ):
                if strength == 0.0:
                    continue
                xy, offsets = _chosen(each, mine)
                shade.draw_lines(image, xy, offsets, view.west, view.top, view.size, _rgb(colour), strength, width)
        elif isinstance(each, Linework | Survey):
            usual = palette.breakline if isinstance(each, Linework) else palette.action
            ink = _rgb(own.get(id(each), usual))
            place = (view.west, view.top, view.size)
            shade.draw_lines(image, each.vertices, each.offsets, *place, ink, 0.95, 1.5)
            if isinstance(each, Survey):
                # Photo positions and parcels' centres are single places, which no line shows.
                alone = each.vertices[each.offsets[:-1][np.diff(each.offsets) == 1]]
                shade.draw_points(image, alone, *place, np.tile(ink, (2, 1)), 0.0, 1.0, 0.95, 2)
    picture = QImage(image.tobytes(), view.width, view.height, 4 * view.width, QImage.Format.Format_ARGB32).copy()
    if labels and not small:
        _label(picture, [each for each in datasets if isinstance(each, Contours)], view, palette)
    return picture


def _chosen(contours: Contours, mine: NDArray[np.bool_]) -> tuple[NDArray[np.float64], NDArray[np.int64]]:
    from vastgrid.terrain.linework import take_lines

    return take_lines(contours.plan, contours.offsets, np.flatnonzero(mine))


def _draw_surface(
    image: Colours,
    surface: Tin | Grid | Mesh,
    view: View,
    low: float,
    high: float,
    palette: theme.Palette,
    *,
    wires: bool,
) -> None:
    place = ((view.west, view.top), (view.size, view.size), (view.height, view.width))
    if isinstance(surface, Mesh):
        # From above the faces that lie highest are seen: they are drawn last.
        order = np.argsort(surface.vertices[surface.triangles, 2].max(axis=1))
        heights = raster_heights(surface.vertices, surface.triangles[order], *place)
    else:
        heights = lattice(surface, *place)
    frame = surface.frame
    # Slopes want plan and height in one unit.
    ratio = 1.0
    if (
        frame.horizontal
        and frame.vertical
        and frame.horizontal is not frame.vertical
        and frame.horizontal.value != "deg"
    ):
        ratio = float(frame.horizontal.metres / frame.vertical.metres)
    cell = view.size * ratio
    light = shade.hillshade(heights, cell, cell, 315.0, 45.0)
    shade.tint(heights, light, ramp(), low, high, image)
    if wires and isinstance(surface, Tin) and _spacing(surface) / view.size > 7.0:
        colour = _rgb(palette.ink if palette.name == "light" else palette.band)
        strength = min(0.35, 0.02 * _spacing(surface) / view.size)
        shade.draw_edges(image, surface.vertices, surface.triangles, view.west, view.top, view.size, colour, strength)


def _spacing(tin: Tin) -> float:
    extent = tin.extent()
    if extent.east is None or extent.north is None:
        return 0.0
    area = (extent.east[1] - extent.east[0]) * (extent.north[1] - extent.north[0])
    return float(np.sqrt(area / max(len(tin.vertices), 1)))


def _shades(colour: str | None, darker: int) -> Colours:
    """Return what points are coloured with: one colour, or by height; over a surface they have to stand out."""
    if colour:
        return np.tile(_rgb(colour), (2, 1))
    return np.clip(ramp().astype(np.int16) - darker, 0, 255).astype(np.uint8)


def _draw_points(image: Colours, points: PointSet, view: View, low: float, high: float, colours: Colours) -> None:
    east, north = points.extent().east, points.extent().north
    if east is None or north is None:
        return
    spacing = np.sqrt(max((east[1] - east[0]) * (north[1] - north[0]), 1e-9) / len(points.xyz)) / view.size
    reach = 2 if spacing > 40 else (1 if spacing > 4 else 0)
    if len(points.xyz) < WORTH:
        shade.draw_points(image, points.xyz, view.west, view.top, view.size, colours, low, high, 0.9, reach)
        return
    index = indexes.get(points.content)
    if index is None:
        # Until the cloud is in order, some of it stands for all.
        if points.content not in _glimpses:
            _glimpses.clear()
            _glimpses[points.content] = glimpse(points.xyz)
        shade.draw_points(image, _glimpses[points.content], view.west, view.top, view.size, colours, low, high, 0.9, 0)
        return
    box = (view.west, view.top - view.height * view.size, view.west + view.width * view.size, view.top)
    west, top = view.west - index.west, view.top - index.south
    for part in index.visible(box, view.size * (reach + 1)):
        shade.draw_points(image, part, west, top, view.size, colours, low - index.low, high - index.low, 0.9, reach)


def _label(picture: QImage, sets: list[Contours], view: View, palette: theme.Palette) -> None:
    """Write levels along index contours where there is room, upright, the first come first."""
    painter = QPainter(picture)
    painter.setRenderHint(QPainter.RenderHint.TextAntialiasing)
    painter.setFont(theme.font(7.5, bold=True))
    taken: list[QRectF] = []
    for contours in sets:
        decimals = max(0, -int(np.floor(np.log10(contours.interval) + 1e-9))) if contours.interval > 0 else 2
        for k in np.flatnonzero(contours.index).tolist():
            line = contours.plan[contours.offsets[k] : contours.offsets[k + 1]]
            for place in _label_places(line, view):
                _write_level(painter, f"{contours.levels[k]:.{decimals}f}", place, palette, taken)
    painter.end()


def _label_places(line: NDArray[np.float64], view: View) -> list[tuple[float, float, float]]:
    """Return where labels go on one line, as pixel place and angle: every 420 pixels, where it is fairly straight."""
    x = (line[:, 0] - view.west) / view.size
    y = (view.top - line[:, 1]) / view.size
    length = np.concatenate(([0.0], np.cumsum(np.hypot(np.diff(x), np.diff(y)))))
    if length[-1] < 90.0:
        return []
    places = []
    for at in np.arange(min(length[-1] / 2.0, 120.0), length[-1], 420.0)[:40]:
        a, b = np.interp((at - 14.0, at + 14.0), length, x), np.interp((at - 14.0, at + 14.0), length, y)
        if not (0 <= a[0] < view.width and 0 <= b[0] < view.height) or np.hypot(a[1] - a[0], b[1] - b[0]) < 24.0:
            continue
        angle = float(np.degrees(np.arctan2(b[1] - b[0], a[1] - a[0])))
        places.append(
            (float(a.mean()), float(b.mean()), angle - 180.0 * np.sign(angle) if abs(angle) > 90.0 else angle)
        )
    return places


def _write_level(
    painter: QPainter, text: str, place: tuple[float, float, float], palette: theme.Palette, taken: list[QRectF]
) -> None:
    x, y, angle = place
    width = 6.2 * len(text) + 4.0
    reach = QRectF(x - width, y - width, 2.0 * width, 2.0 * width)
    if any(reach.intersects(other) for other in taken):
        return
    taken.append(reach)
    painter.save()
    painter.translate(QPointF(x, y))
    painter.rotate(angle)
    box = QRectF(-width / 2.0, -6.5, width, 13.0)
    halo = QColor("#F3EFE4")
    halo.setAlpha(205)
    painter.fillRect(box, halo)
    painter.setPen(QColor(palette.index))
    painter.drawText(box, 0x84, text)
    painter.restore()
