"""Building a TIN from loose faces, as files give them."""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray

from vastgrid.base.findings import Finding, count, either, left_out, note
from vastgrid.base.words import place_words, spaced
from vastgrid.data.dataset import Floats
from vastgrid.data.frame import Frame
from vastgrid.data.mesh import Mesh
from vastgrid.data.tin import Tin, areas
from vastgrid.kernels.triangles.locate import buckets, covering
from vastgrid.kernels.triangles.topology import wind


def welded(corners: Floats) -> tuple[Floats, NDArray[np.int32]]:
    """Return triangles given by their corners' coordinates, (m, 3, 3), as vertices and indices; equal corners are one."""
    flat = np.ascontiguousarray(corners.reshape(-1, 3))
    # Sorted as three columns: `np.unique` of records takes more than twice as long.
    sorted_rows = np.lexsort((flat[:, 2], flat[:, 1], flat[:, 0]))
    begins = np.ones(len(flat), np.bool_)
    begins[1:] = (flat[sorted_rows[1:]] != flat[sorted_rows[:-1]]).any(axis=1)
    first = sorted_rows[begins]
    number = np.zeros(len(flat), np.int64)
    number[sorted_rows] = np.cumsum(begins) - 1
    # Vertices keep the order in which the file first names them.
    order = np.argsort(first, kind="stable")
    rank = np.zeros(len(order), np.int32)
    rank[order] = np.arange(len(order), dtype=np.int32)
    return flat[first[order]] + 0.0, rank[number].reshape(-1, 3)


def tin_from_faces(name: str, frame: Frame, corners: Floats) -> tuple[Tin, list[Finding]]:
    """Return a TIN of triangles given by their corners' coordinates, (m, 3, 3); equal corners become one vertex."""
    return oriented_tin(name, frame, *welded(corners))


def oriented_tin(name: str, frame: Frame, vertices: Floats, triangles: NDArray[np.int32]) -> tuple[Tin, list[Finding]]:
    """Return a TIN with every triangle counter-clockwise in plan; vertical and empty ones are left out and counted."""
    findings: list[Finding] = []
    faces = np.array(triangles, np.int32, order="C").reshape(-1, 3)
    flat, turned = wind(np.ascontiguousarray(vertices, np.float64), faces)
    number = len(faces)
    if flat.any():
        at = vertices[faces[int(np.flatnonzero(flat)[0]), 0]]
        text = f"{count(int(flat.sum()), 'face')} of {spaced(number)} {either(int(flat.sum()), 'has', 'have')} no area in plan (vertical or empty); left out."
        findings.append(left_out("vertical-faces", text, at=(float(at[0]), float(at[1]))))
        faces = faces[~flat]
    if 0 < turned < len(faces):
        text = f"{count(turned, 'face')} of {spaced(len(faces))} wound the other way: turned."
        findings.append(note("faces-turned", text))
    return Tin(name=name, frame=frame, vertices=vertices, triangles=faces), findings


def surface_from_faces(
    name: str, frame: Frame, vertices: Floats, triangles: NDArray[np.int32]
) -> tuple[Tin | Mesh, list[Finding]]:
    """Return faces as a TIN where they are a height field, and otherwise as a mesh with where it overhangs.

    Parameters
    ----------
    vertices : (n, 3) float64
        Corners; faces that touch share them.
    triangles : (m, 3) int32
        Corner indices, wound either way.
    """
    tin, findings = oriented_tin(name, frame, vertices, triangles)
    corner = vertices[triangles]
    u, v = corner[:, 1] - corner[:, 0], corner[:, 2] - corner[:, 0]
    flat = u[:, 0] * v[:, 1] == u[:, 1] * v[:, 0]
    # A face without any area is no face of a mesh either; one that only stands upright is.
    walls = int((flat & (np.cross(u, v) != 0.0).any(axis=1)).sum())
    mesh = Mesh(name=name, frame=frame, vertices=vertices, triangles=triangles)
    if len(tin.triangles) == 0:
        text = "No face has an area in plan: the mesh is vertical and is not ground."
        return mesh, [Finding("upright", text)]
    gap = 1e-6 * (float(np.ptp(vertices[:, 2])) + 1.0)
    over = overlaps(tin, gap)
    if not over.any() and not walls:
        return tin, findings
    if not over.any():
        east, north = corner[int(np.flatnonzero(flat)[0])].mean(axis=0)[:2].tolist()
        text = (
            f"{count(walls, 'face')} of {spaced(len(triangles))} of {name} {either(walls, 'stands', 'stand')} upright "
            f"(the first at {place_words(east, north)}), so it stays a mesh; its upper side can become a TIN."
        )
        return mesh, [Finding("upright-faces", text, at=(east, north))]
    worst = int(np.flatnonzero(over)[0])
    east, north = tin.vertices[tin.triangles[worst], :2].mean(axis=0).tolist()
    upright = f", and {count(walls, 'face')} {either(walls, 'stands', 'stand')} upright" if walls else ""
    hidden = int((over > 0).sum())
    text = (
        f"{name} is not a height field: {count(hidden, 'face')} of {spaced(len(triangles))} {either(hidden, 'has', 'have')} "
        f"another above or below {either(hidden, 'it', 'them')}{upright}, the first at {place_words(east, north)}. "
        "It stays a mesh; its upper side can become a TIN."
    )
    return mesh, [Finding("overhang", text, at=(east, north))]


def overlaps(tin: Tin, gap: float) -> NDArray[np.int8]:
    """Return which faces have others above (1) or below (2) them, as `covering` does.

    Slivers far thinner than the others say nothing: rounding in a file may lay them over their neighbours.
    """
    corner = tin.corners()[:, :, :2]
    longest = np.sqrt(((corner - np.roll(corner, -1, axis=1)) ** 2).sum(axis=2).max(axis=1))
    area = areas(tin)
    thin = 2.0 * area / np.maximum(longest, 1e-300) < 1e-3 * np.sqrt(2.0 * np.median(area))
    solid = tin.triangles[~thin]
    over = np.zeros(len(tin.triangles), np.int8)
    over[~thin] = covering(tin.vertices, solid, buckets(tin.vertices, solid), gap)
    return over


def merged(vertices: Floats, triangles: NDArray[np.int32]) -> tuple[Floats, NDArray[np.int32]]:
    """Return faces with equal corners made one, and unused corners dropped; corners keep their first order."""
    used, back = np.unique(triangles, return_inverse=True)
    corners = np.ascontiguousarray(vertices[used])
    keys = corners.view([("x", "f8"), ("y", "f8"), ("z", "f8")]).ravel()
    _, first, number = np.unique(keys, return_index=True, return_inverse=True)
    order = np.argsort(first, kind="stable")
    rank = np.zeros(len(order), np.int32)
    rank[order] = np.arange(len(order), dtype=np.int32)
    return corners[first[order]], rank[number.ravel()][back.reshape(-1, 3)]


def fans(corners: NDArray[np.int64], sizes: NDArray[np.int64]) -> NDArray[np.int32]:
    """Return polygons cut into triangles from their first corner.

    Parameters
    ----------
    corners : (n,) int64
        Corner numbers of all polygons one after another.
    sizes : (k,) int64
        How many corners each has; those with fewer than three give nothing.
    """
    starts = np.concatenate(([0], np.cumsum(sizes)[:-1])) if len(sizes) else np.zeros(0, np.int64)
    pieces = np.maximum(sizes - 2, 0)
    owner = np.repeat(np.arange(len(sizes)), pieces)
    step = np.arange(len(owner)) - np.repeat(np.cumsum(pieces) - pieces, pieces)
    first = starts[owner]
    return np.column_stack((corners[first], corners[first + step + 1], corners[first + step + 2])).astype(np.int32)
