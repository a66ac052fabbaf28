"""The geometry of entities, read from tags for many at once."""

from __future__ import annotations

import math
from collections.abc import Iterator

import numpy as np
from numpy.typing import NDArray

from vastgrid.data.dataset import Floats
from vastgrid.formats.dxf._tags import Entities
from vastgrid.kernels.text.tags import word


def faces_of(entities: Entities, at: NDArray[np.int64]) -> tuple[Floats, NDArray[np.int64]]:
    """Return the triangles of 3DFACEs, (m, 3, 3), and the entity of each."""
    place = np.full(len(entities.first), -1, np.int64)
    place[at] = np.arange(len(at))
    corners = np.full((len(at), 4, 3), np.nan)
    codes = entities.tags.codes
    mine = (place[entities.owner] >= 0) & (codes >= 10) & (codes < 40) & (codes % 10 < 4)
    tag = np.flatnonzero(mine)
    corners[place[entities.owner[tag]], codes[tag] % 10, codes[tag] // 10 - 1] = entities.tags.numbers[tag]
    # The reference lets a triangle leave out its fourth corner, and heights default to zero.
    missing = np.isnan(corners[:, 3, :2]).any(axis=1)
    corners[missing, 3] = corners[missing, 2]
    corners[..., 2] = np.where(np.isnan(corners[..., 2]), 0.0, corners[..., 2])
    quad = (corners[:, 3] != corners[:, 2]).any(axis=1) & (corners[:, 3] != corners[:, 0]).any(axis=1)
    # A quadrilateral becomes two triangles, in its own place.
    number = np.repeat(np.arange(len(at)), 1 + quad)
    second = np.zeros(len(number), np.bool_)
    second[1:] = number[1:] == number[:-1]
    triangles = np.where(second[:, None, None], corners[number][:, [0, 2, 3]], corners[number][:, :3])
    return triangles, at[number]


def _arbitrary_axis(extrusion: Floats) -> Floats | None:
    """Return the matrix from an object's own plane to the world, None where they agree (DXF's arbitrary axis)."""
    length = float(np.linalg.norm(extrusion))
    if length == 0 or np.allclose(extrusion / length, (0, 0, 1), atol=1e-12):
        return None
    z = extrusion / length
    pole = np.array((0.0, 1.0, 0.0) if abs(z[0]) < 1 / 64 and abs(z[1]) < 1 / 64 else (0.0, 0.0, 1.0))
    x = np.cross(pole, z)
    x /= np.linalg.norm(x)
    return np.column_stack((x, np.cross(z, x), z))


def with_bulges(xyz: Floats, bulges: Floats, closed: bool, chord: float) -> Floats:
    """Return a polyline with its arcs as chords (a bulge is the tangent of a quarter of the arc's angle)."""
    if closed and len(xyz) > 1 and (xyz[0] != xyz[-1]).any():
        xyz, bulges = np.concatenate((xyz, xyz[:1])), np.append(bulges, 0.0)
    if not bulges.any():
        return xyz
    out: list[Floats] = []
    for k in range(len(xyz) - 1):
        a, b, bulge = xyz[k], xyz[k + 1], float(bulges[k])
        out.append(a[None])
        span = float(np.hypot(*(b - a)[:2]))
        if bulge == 0.0 or span == 0.0:
            continue
        angle = 4.0 * math.atan(bulge)
        radius = span / 2.0 / abs(math.sin(angle / 2.0))
        # Both forms keep their digits where a bulge is no more than rounding, and the radius beyond all measure.
        step = 4.0 * math.asin(math.sqrt(min(chord / radius / 2.0, 0.75)))
        pieces = min(max(math.ceil(abs(angle) / step), 2), 1000)
        share = np.arange(1, pieces) / pieces
        reach = np.sin(share * angle / 2.0) / math.sin(angle / 2.0)
        turn = (share - 1.0) * angle / 2.0
        (dx, dy), cos, sin = (b - a)[:2], np.cos(turn) * reach, np.sin(turn) * reach
        x, y = a[0] + dx * cos - dy * sin, a[1] + dx * sin + dy * cos
        out.append(np.column_stack((x, y, a[2] + share * (b[2] - a[2]))))
    out.append(xyz[-1:])
    return np.concatenate(out)


def lightweight(entities: Entities, at: NDArray[np.int64], chord: float) -> Iterator[tuple[Floats, int]]:
    """Yield LWPOLYLINEs as vertices and entity."""
    elevation = entities.values(at, 38, 0.0)
    flags = entities.values(at, 70, 0.0).astype(np.int64)
    extrusion = np.column_stack([entities.values(at, code, 1.0 * (code == 230)) for code in (210, 220, 230)])
    stops = np.append(entities.first, len(entities.tags.codes))
    codes, numbers = entities.tags.codes, entities.tags.numbers
    for k, entity in enumerate(at.tolist()):
        cut = slice(int(stops[entity]), int(stops[entity + 1]))
        code, number = codes[cut], numbers[cut]
        x, y = number[code == 10], number[code == 20]
        size = min(len(x), len(y))
        if size < 2:
            continue
        xyz = np.column_stack((x[:size], y[:size], np.full(size, elevation[k])))
        bulges = np.zeros(size)
        if (code == 42).any():
            vertex = np.cumsum(code == 10) - 1
            bulges[np.minimum(vertex[code == 42], size - 1)] = number[code == 42]
        line = with_bulges(xyz, bulges, bool(flags[k] & 1), chord)
        axis = _arbitrary_axis(extrusion[k])
        yield line if axis is None else line @ axis.T, entity


def polylines(entities: Entities, shown: NDArray[np.bool_], chord: float) -> Iterator[tuple[Floats, int, bool]]:
    """Yield POLYLINEs as vertices, or as triangles (m, 3, 3) where they are meshes, with their entity."""
    at = entities.of("POLYLINE", shown)
    if len(at) == 0:
        return
    flags = entities.values(at, 70, 0.0).astype(np.int64)
    elevation = entities.values(at, 30, 0.0)
    extrusion = np.column_stack([entities.values(at, code, 1.0 * (code == 230)) for code in (210, 220, 230)])
    sizes = np.column_stack([entities.values(at, code, 0.0) for code in (71, 72)]).astype(np.int64)
    vertex = np.flatnonzero(entities.kind == word("VERTEX"))
    xyz = np.column_stack([entities.values(vertex, code, 0.0) for code in (10, 20, 30)])
    marks = entities.values(vertex, 70, 0.0).astype(np.int64)
    bulges = entities.values(vertex, 42, 0.0)
    corners = np.column_stack([entities.values(vertex, code, 0.0) for code in (71, 72, 73, 74)]).astype(np.int64)
    # A polyline's vertices follow it, up to whatever is no vertex.
    follows = np.searchsorted(vertex, at)
    others = np.flatnonzero(entities.kind != word("VERTEX"))
    after = np.append(others, len(entities.first))[np.searchsorted(others, at, side="right")]
    ends = np.searchsorted(vertex, after)
    for k, entity in enumerate(at.tolist()):
        cut = slice(int(follows[k]), int(ends[k]))
        if flags[k] & 64:
            own = (marks[cut] & 64) > 0
            faces = _polyface(xyz[cut][own], np.abs(corners[cut][~own]))
            if len(faces):
                yield faces, entity, True
        elif flags[k] & 16:
            faces = _mesh(xyz[cut][(marks[cut] & 16) == 0], *sizes[k].tolist())
            if len(faces):
                yield faces, entity, True
        else:
            # Control points of a fitted curve are not on the line.
            real = (marks[cut] & 16) == 0
            line, bulge = xyz[cut][real], bulges[cut][real]
            if len(line) < 2:
                continue
            if not flags[k] & 8:
                line = np.column_stack((line[:, :2], np.full(len(line), elevation[k])))
            line = with_bulges(line, bulge, bool(flags[k] & 1), chord)
            axis = None if flags[k] & 8 else _arbitrary_axis(extrusion[k])
            yield line if axis is None else line @ axis.T, entity, False


def meshes(entities: Entities, shown: NDArray[np.bool_]) -> Iterator[tuple[Floats, int]]:
    """Yield MESHes as triangles, (m, 3, 3), with their entity; polygons become fans."""
    codes, numbers = entities.tags.codes, entities.tags.numbers
    ends = np.append(entities.first[1:], len(codes))
    for entity in entities.of("MESH", shown).tolist():
        cut = slice(int(entities.first[entity]), int(ends[entity]))
        own, values = codes[cut], numbers[cut]
        faces = np.flatnonzero(own == 93)
        after = np.flatnonzero(own == 94)
        if not len(faces):
            continue
        stop = int(after[0]) if len(after) else len(own)
        columns = [values[: faces[0]][own[: faces[0]] == code] for code in (10, 20, 30)]
        least = min(map(len, columns))
        vertices = np.column_stack([column[:least] for column in columns])
        listed = values[faces[0] : stop][own[faces[0] : stop] == 90].astype(np.int64)
        triangles = _fans(listed)
        triangles = triangles[((triangles >= 0) & (triangles < len(vertices))).all(axis=1)]
        corner = vertices[triangles]
        corner = corner[np.isfinite(corner).all(axis=(1, 2))]
        if len(corner):
            yield corner, entity


def _fans(listed: NDArray[np.int64]) -> NDArray[np.int64]:
    """Return triangles of faces that stand one after another, each its size and its corners."""
    width = int(listed[0]) + 1 if len(listed) else 0
    if width >= 4 and len(listed) % width == 0 and (listed[::width] == width - 1).all():
        faces = listed.reshape(-1, width)[:, 1:]
        return np.concatenate([faces[:, [0, k, k + 1]] for k in range(1, width - 2)])
    out, at = [], 0
    while at < len(listed):
        size = int(listed[at])
        if size < 0 or at + size >= len(listed) + 1:
            break
        values = listed[at + 1 : at + 1 + size].tolist()
        out += [(values[0], values[k], values[k + 1]) for k in range(1, len(values) - 1)]
        at += size + 1
    return np.array(out, np.int64).reshape(-1, 3)


def _polyface(vertices: Floats, corners: NDArray[np.int64]) -> Floats:
    corners = corners[((corners > 0) & (corners <= len(vertices)))[:, :3].all(axis=1)]
    first = corners[:, :3]
    quad = (corners[:, 3] > 0) & (corners[:, 3] <= len(vertices))
    both = np.concatenate((first, corners[quad][:, [0, 2, 3]]))
    return vertices[both - 1] if len(both) else np.zeros((0, 3, 3))


def _mesh(vertices: Floats, rows: int, columns: int) -> Floats:
    if rows < 2 or columns < 2 or rows * columns > len(vertices):
        return np.zeros((0, 3, 3))
    lattice = vertices[: rows * columns].reshape(rows, columns, 3)
    a, b, c, d = lattice[:-1, :-1], lattice[:-1, 1:], lattice[1:, 1:], lattice[1:, :-1]
    both = np.stack((np.stack((a, b, c), axis=2), np.stack((a, c, d), axis=2)), axis=2)
    return np.ascontiguousarray(both.reshape(-1, 3, 3))
