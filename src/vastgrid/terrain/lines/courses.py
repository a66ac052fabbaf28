"""Lines parted where they cross the edge of an area; with fewer vertices, or more."""

from __future__ import annotations

import dataclasses
from typing import Any

import numpy as np
from numpy.typing import NDArray

from vastgrid.base import late_shapely as shapely
from vastgrid.base.findings import Finding, count, note
from vastgrid.base.words import spaced
from vastgrid.data.dataset import Floats
from vastgrid.data.linework import Linework


def parted_by(
    vertices: Floats, offsets: NDArray[np.int64], area: Any, inside: bool
) -> tuple[Floats, NDArray[np.int64], NDArray[np.int64]]:
    """Return the pieces of lines inside or outside an area, heights on the straight way, and the line of each piece.

    Vertices stay as they are, bit for bit.

    Parameters
    ----------
    vertices, offsets
        Lines one after another, (n, 3) and (k + 1,).
    area : shapely Polygon or MultiPolygon
    """
    edge = shapely.boundary(area)
    shapely.prepare(area)
    pieces: list[Floats] = []
    source: list[int] = []
    for k in range(len(offsets) - 1):
        line = vertices[offsets[k] : offsets[k + 1]]
        if len(line) < 2:
            continue
        for piece in _pieces(line, edge, area, inside):
            pieces.append(piece)
            source.append(k)
    joined = np.concatenate(pieces) if pieces else np.zeros((0, 3))
    sizes = np.array([len(piece) for piece in pieces], np.int64)
    return joined, np.concatenate(([0], np.cumsum(sizes))).astype(np.int64), np.array(source, np.int64)


def _pieces(line: Floats, edge: Any, area: Any, inside: bool) -> list[Floats]:
    """Return the pieces of one line on one side."""
    bounds = shapely.bounds(area)
    low, high = line[:, :2].min(axis=0), line[:, :2].max(axis=0)
    if (low > bounds[2:]).any() or (high < bounds[:2]).any():
        return [] if inside else [line]
    whole = _with_crossings(line, edge)
    middle = (whole[:-1, :2] + whole[1:, :2]) / 2.0
    keep = np.asarray(shapely.intersects_xy(area, middle[:, 0], middle[:, 1])) == inside
    starts = np.flatnonzero(keep & ~np.append(False, keep[:-1]))
    stops = np.flatnonzero(keep & ~np.append(keep[1:], False)) + 1
    found = [whole[a : b + 1] for a, b in zip(starts, stops, strict=True)]
    closed = len(line) > 3 and (line[0, :2] == line[-1, :2]).all()
    if closed and len(found) > 1 and keep[0] and keep[-1]:
        # The line begins in the middle of a piece.
        found = [np.concatenate((found[-1], found[0][1:])), *found[1:-1]]
    return found


def _with_crossings(line: Floats, edge: Any) -> Floats:
    """Return a line with a vertex wherever it crosses an edge."""
    legs = shapely.linestrings(np.stack((line[:-1, :2], line[1:, :2]), axis=1))
    shapely.prepare(edge)
    crossing = np.flatnonzero(shapely.intersects(legs, edge))
    if len(crossing) == 0:
        return line
    at: list[Floats] = []
    order: list[float] = []
    for k in crossing.tolist():
        met = shapely.get_coordinates(shapely.intersection(legs[k], edge))
        a, b = line[k], line[k + 1]
        along = b[:2] - a[:2]
        length = float(along @ along)
        for xy in met:
            share = float((xy - a[:2]) @ along) / length if length else 0.0
            if 1e-12 < share < 1.0 - 1e-12:
                at.append(np.array([*xy, a[2] + share * (b[2] - a[2])]))
                order.append(k + share)
    if not at:
        return line
    rows = np.concatenate((line, np.array(at)))
    places = np.concatenate((np.arange(len(line), dtype=np.float64), np.array(order)))
    return np.asarray(rows[np.argsort(places, kind="stable")])


def weeded(lines: Linework, tolerance: float) -> Linework:
    """Return lines without vertices that lie no farther than a tolerance from the line without them, in plan.

    After Douglas and Peucker, “Algorithms for the reduction of the number of points required to represent a digitized line
    or its caricature”, Cartographica 10 (1973). What stays is as it was, bit for bit.
    """
    keep = np.zeros(len(lines.vertices), np.bool_)
    for k in range(len(lines)):
        first, last = int(lines.offsets[k]), int(lines.offsets[k + 1])
        keep[first:last] = _needed(lines.vertices[first:last, :2], tolerance)
    counts = np.add.reduceat(keep, lines.offsets[:-1]) if len(lines) else np.zeros(0, np.int64)
    offsets = np.concatenate(([0], np.cumsum(counts))).astype(np.int64)
    return dataclasses.replace(lines, vertices=lines.vertices[keep], offsets=offsets)


def _needed(xy: Floats, tolerance: float) -> NDArray[np.bool_]:
    keep = np.zeros(len(xy), np.bool_)
    keep[[0, -1]] = True
    closed = len(xy) > 3 and (xy[0] == xy[-1]).all()
    stack = [(0, len(xy) - 1)]
    if closed:
        # A ring has no straight way from its end to its beginning: it is parted at its farthest vertex.
        far = int(((xy - xy[0]) ** 2).sum(axis=1).argmax())
        keep[far] = True
        stack = [(0, far), (far, len(xy) - 1)]
    while stack:
        a, b = stack.pop()
        if b - a < 2:
            continue
        part, along = xy[a + 1 : b] - xy[a], xy[b] - xy[a]
        length = float(along @ along)
        share = np.clip(part @ along / length, 0.0, 1.0) if length else np.zeros(len(part))
        away = ((part - share[:, None] * along) ** 2).sum(axis=1)
        k = int(away.argmax())
        if away[k] > tolerance * tolerance:
            keep[a + 1 + k] = True
            stack += [(a, a + 1 + k), (a + 1 + k, b)]
    return keep


def densified(lines: Linework, spacing: float) -> Linework:
    """Return lines with vertices put in on the straight way, so that none is farther than a spacing from the next."""
    pieces: list[Floats] = []
    counts = []
    for k in range(len(lines)):
        line = lines.line(k)
        step = np.hypot(*np.diff(line[:, :2], axis=0).T)
        parts = np.maximum(np.ceil(step / spacing * (1.0 - 1e-12)), 1).astype(np.int64)
        leg = np.repeat(np.arange(len(parts)), parts)
        share = (np.arange(len(leg)) - np.repeat(np.cumsum(parts) - parts, parts)) / np.repeat(parts, parts)
        own = line[leg] + share[:, None] * (line[leg + 1] - line[leg])
        own[share == 0.0] = line[leg[share == 0.0]]
        pieces.append(np.concatenate((own, line[-1:])))
        counts.append(len(own) + 1)
    vertices = np.concatenate(pieces) if pieces else lines.vertices
    offsets = np.concatenate(([0], np.cumsum(counts))).astype(np.int64)
    return dataclasses.replace(lines, vertices=vertices, offsets=offsets)


def prepared(lines: Linework, weed: float | None, spacing: float | None, findings: list[Finding]) -> Linework:
    """Return contours with fewer or more vertices, as is asked, and say how many."""
    before = len(lines.vertices)
    if weed is not None:
        lines = weeded(lines, weed)
        findings.append(
            note(
                "contours-weeded",
                f"{count(before - len(lines.vertices), 'vertex', 'vertices')} of {spaced(before)} on contours of {lines.name} were weeded.",
            )
        )
    if spacing is not None:
        before = len(lines.vertices)
        lines = densified(lines, spacing)
        findings.append(
            note(
                "contours-supplemented",
                f"{count(len(lines.vertices) - before, 'vertex', 'vertices')} were put on contours of {lines.name}.",
            )
        )
    return lines
