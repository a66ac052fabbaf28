"""What the 3D view draws, and drawing it: a camera, the visible datasets as faces, lines and points, and a picture."""

from __future__ import annotations

import dataclasses
import math
from collections.abc import Callable, Sequence
from concurrent.futures import ThreadPoolExecutor
from dataclasses import dataclass
from functools import singledispatch
from typing import Any

import numpy as np
from numpy.typing import NDArray

from vastgrid.data.areas import Areas
from vastgrid.data.dataset import Dataset, Floats, fixed
from vastgrid.data.frame import ratio_of
from vastgrid.data.grid import Grid
from vastgrid.data.kinds import kind_of, narrowed, of_kind
from vastgrid.data.linework import Contours, Linework, take_lines
from vastgrid.data.mesh import Mesh
from vastgrid.data.pointset import PointSet
from vastgrid.data.survey import Survey
from vastgrid.data.tin import Tin
from vastgrid.kernels.cells.raster import lattice_triangles
from vastgrid.kernels.drawing import space
from vastgrid.measures.heights import lattice, surface_of
from vastgrid.styling import ramps
from vastgrid.styling.camera import Camera
from vastgrid.styling.colouring import (
    StyledLayer,
    banded,
    line_colours,
    point_colours,
    point_scale,
    shown_points,
    strengths,
    surface_scale,
    surface_values,
)
from vastgrid.styling.look import Faces, SurfaceColour, SurfaceLook, hidden_at
from vastgrid.styling.on_ground import laid, solids, standing
from vastgrid.styling.ramps import Colours

# A scene of no more than this is drawn whole even while it moves.
LIGHT_FACES, LIGHT_POINTS = 250_000, 400_000
COARSE_SIDE, FINE_SIDE = 270, 1100
COARSE_POINTS, FINE_POINTS = 300_000, 2_500_000


@dataclass(frozen=True, eq=False)
class Scene:
    """All that belongs to a picture besides the camera.

    Attributes
    ----------
    items : tuple of Dressed
        What is shown.
    ends : (low, high)
        Heights at the ends of the elevation colours.
    sun : (azimuth, altitude)
        Where the light comes from, in degrees.
    cut : tuple or None
        Two places (east, north each) of a vertical plane; what lies on its left is left out.
    clouds : callable
        Gives pieces of a large cloud, with their rows, thinned to a spacing: (dataset, spacing) → pieces; None where
        the cloud has no order yet.
    breakline, line, wire : str
        Colours of lines, records and wires.
    """

    items: tuple[StyledLayer, ...]
    ends: tuple[float, float]
    sun: tuple[float, float] = (315.0, 45.0)
    cut: tuple[tuple[float, float], tuple[float, float]] | None = None
    clouds: Callable[[PointSet, float], Any] = lambda points, spacing: None
    breakline: str = "#B5541C"
    line: str = "#0B6E75"
    wire: str = "#1F2D36"
    contour: str = "#4A2A10"


def weight(items: Sequence[StyledLayer]) -> tuple[int, int]:
    """Return how many faces and points a scene has."""
    faces = points = 0
    for item in items:
        counts = item.dataset.count()
        faces += counts.get("triangles", 0) + 2 * counts.get("rows", 0) * counts.get("columns", 0)
        points += counts.get("points", 0)
    return faces, points


def fitted(items: Sequence[StyledLayer], camera: Camera) -> Camera:
    """Return the camera moved so that everything is seen, looking the same way."""
    extents = [item.dataset.extent() for item in items]
    east = [e.east for e in extents if e.east]
    north = [e.north for e in extents if e.north]
    if not east or not north:
        return camera
    high = [e.elevation for own, e in zip(items, extents, strict=True) if e.elevation and _is_ground(own.dataset)]
    high = high or [e.elevation for e in extents if e.elevation]
    low, top = (min(e[0] for e in high), max(e[1] for e in high)) if high else (0.0, 0.0)
    west, right = min(e[0] for e in east), max(e[1] for e in east)
    south, up = min(n[0] for n in north), max(n[1] for n in north)
    ratio = ratio_of(items[0].dataset.frame)
    across = math.hypot(right - west, up - south, (top - low) / ratio * camera.stretch)
    return dataclasses.replace(
        camera,
        east=(west + right) / 2.0,
        north=(south + up) / 2.0,
        height=(low + top) / 2.0,
        distance=max(across * 0.85, 1e-3),
        ratio=ratio,
    )


def _is_ground(data: Dataset) -> bool:
    return kind_of(data).covers and data.has_heights


@dataclass(frozen=True, eq=False)
class Shot:
    """A picture in perspective.

    Attributes
    ----------
    image : (rows, columns, 4) uint8
        B, G, R, A; transparent where there is nothing.
    depth : (rows, columns) float32
        Inverse distance of what is seen; 0 where there is nothing.
    camera : Camera
        What it was drawn with.
    coarse : bool
        Whether it was drawn with less detail, to keep up with a moving eye.
    grain : int
        Pixels drawn for each pixel of the picture, along each side: widths of lines and points are so much larger.
    """

    image: NDArray[np.uint8]
    depth: NDArray[np.float32]
    camera: Camera
    coarse: bool
    grain: int = 1

    def place(self, x: float, y: float) -> Floats | None:
        """Return the world coordinates of what is seen at a pixel; None where there is nothing."""
        rows, columns = self.depth.shape
        if not (0 <= x < columns and 0 <= y < rows):
            return None
        inverse = float(self.depth[int(y), int(x)])
        return self.camera.place(x, y, inverse, columns, rows) if inverse > 0 else None


_pool = ThreadPoolExecutor(2, thread_name_prefix="vastgrid-space")


def shoot(scene: Scene, camera: Camera, width: int, height: int, *, coarse: bool, smooth: bool = False) -> Shot:
    """Draw a scene.

    Parameters
    ----------
    coarse : bool
        Draw large surfaces and clouds with less detail.
    smooth : bool
        Draw four pixels for one and take their mean, which makes edges and lines smooth.
    """
    grain = 2 if smooth else 1
    image = np.zeros((grain * height, grain * width, 4), np.uint8)
    depth = np.zeros((grain * height, grain * width), np.float32)
    shot = Shot(image, depth, camera, coarse, grain)
    faces, points = weight(scene.items)
    less = coarse and (faces > LIGHT_FACES or points > LIGHT_POINTS)
    see_through = [item for item in scene.items if item.look.opacity < 100.0 and _is_ground(item.dataset)]
    for own in scene.items:
        if _is_ground(own.dataset) and own not in see_through:
            _draw_surface(shot, scene, own, less=less)
    for own in scene.items:
        if own.dataset.kind == PointSet.kind:
            _draw_points(shot, scene, own, less=less)
    for own in scene.items:
        if kind_of(own.dataset).lines:
            _draw_lines(shot, scene, own)
    for own in see_through:
        _draw_surface(shot, scene, own, less=less)
    if scene.cut is not None:
        _draw_cut(shot, scene)
    return _reduced(shot) if smooth else shot


def _reduced(shot: Shot) -> Shot:
    """Return a picture of half the size: of four pixels the mean colour, by how much each covers, and the nearest depth."""
    rows, columns = shot.depth.shape[0] // 2, shot.depth.shape[1] // 2
    four = shot.image.reshape(rows, 2, columns, 2, 4).astype(np.uint16)
    cover = (four[..., 3] > 0).astype(np.uint16)
    number = cover.sum(axis=(1, 3))
    total = four.sum(axis=(1, 3))
    out = np.zeros((rows, columns, 4), np.uint8)
    # What is not covered is black, and so adds nothing.
    out[..., :3] = total[..., :3] // np.maximum(number, 1)[..., None]
    out[..., 3] = np.minimum(number * 64, 255)
    depth = shot.depth.reshape(rows, 2, columns, 2).max(axis=(1, 3))
    return Shot(out, depth, shot.camera, shot.coarse)


def _projected(shot: Shot, xyz: Floats) -> NDArray[np.float32]:
    out = np.zeros((len(xyz), 3), np.float32)
    camera = shot.camera
    space.project(fixed(np.ascontiguousarray(xyz, np.float64)), camera.target, camera.matrix(), camera.factor(), out)
    return out


def _near(camera: Camera) -> float:
    return max(camera.distance * 1e-4, 1e-3)


# -- surfaces


def model(layer: StyledLayer, *, less: bool) -> StyledLayer:
    """Return a surface as triangles, whole or with less detail, in the same look."""
    data = surface_of(layer.dataset)
    few = layer.dataset.count().get("triangles")
    if data is None or (few is not None and not (less and few > LIGHT_FACES)):
        return layer
    side = COARSE_SIDE if less else FINE_SIDE
    made: StyledLayer = layer.kept(
        f"model {side}",
        lambda: StyledLayer(_lattice_tin(data, side), layer.look, layer.number, layer.against, layer.sources),
    )
    return made


def _lattice_tin(data: Tin | Grid, side: int) -> Tin:
    """Return a surface sampled on a lattice of at most `side` places along its longer side."""
    extent = data.extent()
    assert extent.east is not None
    assert extent.north is not None
    width, height = extent.east[1] - extent.east[0], extent.north[1] - extent.north[0]
    whole = [grid for grid in of_kind([data], Grid) if max(grid.rows, grid.columns) <= side]
    if whole:
        z, east, north = np.asarray(whole[0].heights), whole[0].eastings(), whole[0].northings()
    else:
        size = max(width, height) / side
        shape = (max(int(height / size), 2), max(int(width / size), 2))
        cell = (width / shape[1], height / shape[0])
        z = lattice(data, (extent.east[0], extent.north[1]), cell, shape)
        east = np.asarray(extent.east[0] + (np.arange(shape[1]) + 0.5) * cell[0], np.float64)
        north = np.asarray(extent.north[1] - (np.arange(shape[0]) + 0.5) * cell[1], np.float64)
    triangles = lattice_triangles(fixed(np.ascontiguousarray(z)))
    x, y = np.meshgrid(east, north)
    vertices = np.column_stack((x.ravel(), y.ravel(), z.ravel()))
    none = np.full((len(triangles), 3), -1, np.int32)
    return Tin(name=data.name, frame=data.frame, vertices=vertices, triangles=triangles, neighbours=none)


def _draw_surface(shot: Shot, scene: Scene, whole: StyledLayer, *, less: bool) -> None:
    own = model(whole, less=less)
    data: Tin | Mesh = own.dataset  # type: ignore[assignment]  # `model` gives triangles
    look = own.look
    assert isinstance(look, SurfaceLook)
    if len(data.triangles) == 0:
        return
    camera = shot.camera
    eye = _projected(shot, data.vertices)
    near, focus = _near(camera), camera.focus(shot.depth.shape[0])
    gone = hidden_at(look, data.vertices[:, 2][data.triangles].mean(axis=1)) if look.heights else None
    triangles = data.triangles if gone is None else fixed(data.triangles[~gone])
    # The scale is the whole surface's, whatever the detail.
    scale = surface_scale(whole, *scene.ends)
    cells = "rows" in whole.dataset.count()
    if look.faces is not Faces.WIRE or cells:
        values, per_face = surface_values(own)
        if look.colour is SurfaceColour.ELEVATION:
            values = banded(values, look.bands, data.frame.vertical)
        if per_face and gone is not None:
            values = values[~gone]
        args = (
            eye, data.vertices, triangles, np.ascontiguousarray(values), per_face, scale.colours, scale.low,
            scale.high, _sun(scene, shaded=look.shade), camera.factor(), near, focus, look.opacity / 100.0,
            _cut_plane(scene), shot.image,
        )  # fmt: skip
        own_depth = np.zeros_like(shot.depth)
        _in_halves(shot.depth.shape[0], lambda rows: space.draw_faces(*args, own_depth, shot.depth, rows))
        np.copyto(shot.depth, own_depth, where=own_depth > 0)
    wires = look.faces is Faces.WIRE or (look.faces is Faces.BOTH and not less and not cells)
    if wires and scene.cut is None:
        r, g, b = (float(v) for v in ramps.rgb(scene.wire))
        strength = 0.8 if look.faces is Faces.WIRE else 0.28
        room = (2.5 if look.faces is Faces.WIRE else 8.0) * shot.grain
        space.draw_wires(eye, triangles, near, focus, room, r, g, b, strength, shot.image, shot.depth)


def _in_halves(rows: int, draw: Callable[[NDArray[np.int64]], None]) -> None:
    """Let two threads share a picture: what is far, and small, lies in its upper part."""
    middle = int(rows * 0.45)
    list(_pool.map(draw, (np.array((0, middle)), np.array((middle, rows)))))


def _sun(scene: Scene, *, shaded: bool) -> Floats:
    azimuth, altitude = (math.radians(v) for v in scene.sun)
    flat = math.cos(altitude)
    share = 0.68 if shaded else 0.0
    return np.array((math.sin(azimuth) * flat, math.cos(azimuth) * flat, math.sin(altitude), share))


def _cut_plane(scene: Scene) -> Floats:
    if scene.cut is None:
        return np.zeros(4)
    (ax, ay), (bx, by) = scene.cut
    length = math.hypot(bx - ax, by - ay) or 1.0
    # The normal points to the right of the line.
    nx, ny = (by - ay) / length, -(bx - ax) / length
    return np.array((nx, ny, nx * ax + ny * ay, 1.0))


# -- points


def _draw_points(shot: Shot, scene: Scene, layer: StyledLayer, *, less: bool) -> None:
    points = narrowed(layer.dataset, PointSet)
    if len(points.xyz) == 0:
        return
    if layer.look.stand:
        _draw_solids(shot, scene, layer)
    scale = point_scale(layer, *scene.ends)
    size = layer.look.size or (3 if len(points.xyz) < 20_000 else 2 if len(points.xyz) < 2_000_000 else 1)
    size *= shot.grain
    budget = COARSE_POINTS if less else FINE_POINTS
    camera = shot.camera
    plane = _cut_plane(scene)
    for xyz, rows in _thinned(points, scene, budget):
        colours = point_colours(layer, rows, xyz, scale)
        keep = shown_points(layer, rows, xyz)
        if plane[3]:
            beyond = xyz[:, 0] * plane[0] + xyz[:, 1] * plane[1] >= plane[2]
            keep = beyond if keep is None else keep & beyond
        if keep is not None:
            xyz, colours = xyz[keep], colours[keep]
        eye = _projected(shot, xyz)
        focus = camera.focus(shot.depth.shape[0])
        strength = layer.look.opacity / 100.0
        space.draw_points(
            eye, np.ascontiguousarray(colours), _near(camera), focus, size, strength, shot.image, shot.depth
        )


def _thinned(points: PointSet, scene: Scene, budget: int) -> list[tuple[Floats, Any]]:
    """Return at most about so many points, from all over the cloud."""
    count = len(points.xyz)
    if count <= budget:
        return [(points.xyz, slice(None))]
    extent = points.extent()
    if extent.east and extent.north:
        area = (extent.east[1] - extent.east[0]) * (extent.north[1] - extent.north[0])
        pieces = scene.clouds(points, math.sqrt(max(area, 1e-9) / budget))
        if pieces is not None:
            return list(pieces)
    step = count // budget + 1
    return [(np.asarray(points.xyz[::step]), slice(None, None, step))]


def _draw_solids(shot: Shot, scene: Scene, layer: StyledLayer) -> None:
    """Draw points as boxes as tall as an attribute says, standing on the ground that is shown, or on their own height."""
    points, look = narrowed(layer.dataset, PointSet), layer.look
    if look.stand not in points.attributes or len(points.xyz) > 100_000:
        return
    tall = points.attributes[look.stand].astype(np.float64)
    good = np.isfinite(points.xyz).all(axis=1) & np.isfinite(tall) & (tall != 0)
    xyz, tall = points.xyz[good], tall[good]
    if len(xyz) == 0:
        return
    width = look.width.in_unit(points.frame.horizontal, "width") if points.frame.horizontal else look.width.value
    vertices, triangles = solids(standing(xyz, scene.items), tall, width)
    eye = _projected(shot, fixed(vertices))
    colour = point_colours(layer, np.flatnonzero(good), xyz, point_scale(layer, *scene.ends))
    camera = shot.camera
    values = np.repeat(np.arange(len(xyz), dtype=np.float64), 12)
    space.draw_faces(
        eye, fixed(vertices), fixed(triangles), values, True, fixed(np.ascontiguousarray(colour)), 0.0, max(len(xyz) - 1.0, 1.0),
        _sun(scene, shaded=True), camera.factor(), _near(camera), camera.focus(shot.depth.shape[0]), 1.0,
        _cut_plane(scene), shot.image, shot.depth, np.zeros_like(shot.depth), np.array((0, shot.depth.shape[0])),
    )  # fmt: skip


# -- lines


def _draw_lines(shot: Shot, scene: Scene, layer: StyledLayer) -> None:
    _lines_of(layer.dataset, layer, shot, scene)


@singledispatch
def _lines_of(data: Dataset, layer: StyledLayer, shot: Shot, scene: Scene) -> None:
    """Draw what is lines; anything else leaves no trace."""


@_lines_of.register
def _draw_contours(data: Contours, layer: StyledLayer, shot: Shot, scene: Scene) -> None:
    minor, index = strengths(data, shot.camera.pixel_size(shot.depth.shape[0] // shot.grain))
    for mine, strength in ((~data.index, 0.32 * minor if layer.look.minor else 0.0), (data.index, 0.8 * index)):
        if strength and mine.any():
            xyz, offsets = take_lines(layer.kept("vertices", data.coordinates), data.offsets, np.flatnonzero(mine))
            colours = line_colours(layer, data.levels[mine], None, scene.contour, scene.ends)
            _draw_course(shot, scene, layer, xyz, offsets, colours, 1, strength)


@_lines_of.register
def _draw_linework(data: Linework, layer: StyledLayer, shot: Shot, scene: Scene) -> None:
    _draw_laid(data, layer, shot, scene, data.layer, scene.breakline)


@_lines_of.register
def _draw_areas(data: Areas, layer: StyledLayer, shot: Shot, scene: Scene) -> None:
    rims = layer.kept("rims", data.as_lines)
    if layer.look.width:
        _draw_laid(rims, layer, shot, scene, rims.layer, scene.line)


@_lines_of.register
def _draw_survey(data: Survey, layer: StyledLayer, shot: Shot, scene: Scene) -> None:
    _draw_laid(data, layer, shot, scene, None, scene.line)


def _draw_laid(
    data: Linework | Survey, own: StyledLayer, shot: Shot, scene: Scene, layer: NDArray[np.int32] | None, usual: str
) -> None:
    xyz, offsets = laid(data, own, scene.items)
    first = (
        data.vertices[np.minimum(data.offsets[:-1], max(len(data.vertices) - 1, 0)), 2] if len(data) else np.zeros(0)
    )
    colours = line_colours(own, first, layer, usual, scene.ends)
    _draw_course(shot, scene, own, xyz, offsets, colours, max(round(own.look.width), 1), 1.0)


def _draw_course(
    shot: Shot,
    scene: Scene,
    layer: StyledLayer,
    xyz: Floats,
    offsets: NDArray[np.int64],
    colours: Colours,
    width: int,
    strength: float,
) -> None:
    if len(xyz) < 2:
        return
    plane = _cut_plane(scene)
    if plane[3]:
        xyz = np.where((xyz[:, 0] * plane[0] + xyz[:, 1] * plane[1] >= plane[2])[:, None], xyz, np.nan)
    camera = shot.camera
    focus, near = camera.focus(shot.depth.shape[0]), _near(camera)
    strength *= layer.look.opacity / 100.0
    space.draw_lines(
        _projected(shot, xyz),
        fixed(offsets),
        colours,
        near,
        focus,
        width * shot.grain,
        strength,
        shot.image,
        shot.depth,
    )


def _draw_cut(shot: Shot, scene: Scene) -> None:
    """Draw the section's plane as a veil from below the lowest to above the highest height."""
    assert scene.cut is not None
    (ax, ay), (bx, by) = scene.cut
    low, high = scene.ends
    rise = (high - low) * 0.04
    vertices: Floats = np.array(
        [(ax, ay, low - rise), (bx, by, low - rise), (bx, by, high + rise), (ax, ay, high + rise)]
    )
    triangles = np.array([(0, 1, 2), (0, 2, 3)], np.int32)
    camera = shot.camera
    colour = np.tile(ramps.rgb("#A3263A"), (2, 1))
    space.draw_faces(
        _projected(shot, vertices), fixed(vertices), fixed(triangles), np.zeros(2), True, fixed(colour), 0.0, 1.0, np.array((0.0, 0.0, 1.0, 0.0)),
        camera.factor(), _near(camera), camera.focus(shot.depth.shape[0]), 0.16, np.zeros(4), shot.image, shot.depth,
        np.zeros_like(shot.depth), np.array((0, shot.depth.shape[0])),
    )  # fmt: skip
    edge = np.vstack((vertices, vertices[:1]))
    space.draw_lines(
        _projected(shot, edge), fixed(np.array((0, 5))), colour[:1], _near(camera), camera.focus(shot.depth.shape[0]), 2 * shot.grain, 0.9,
        shot.image, shot.depth,
    )  # fmt: skip
