"""What of points counts, and what of a built surface stays: long edges, the rim, boundaries, voids and islands."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from typing import Any

import numpy as np

from vastgrid.base import late_shapely as shapely
from vastgrid.base.errors import CallError, DataError
from vastgrid.base.findings import Finding, count, either, note
from vastgrid.base.quantities import unit_word
from vastgrid.base.words import spaced
from vastgrid.data.classes import CLASSES
from vastgrid.data.dataset import Dataset, Floats
from vastgrid.data.frame import Frame
from vastgrid.data.line_roles import ISLAND, OUTER, VOID
from vastgrid.data.pointset import PointSet
from vastgrid.data.tin import Tin, edge_lengths
from vastgrid.kernels.triangles.ties import circle_radii
from vastgrid.terrain.tin.building import left_of
from vastgrid.terrain.tin.limits import cut_to, limits_area, ring_area
from vastgrid.terrain.tin.lines_for_tin import Limits
from vastgrid.terrain.tin.rims import followed_density, look_changed, without_long_edges

FOLLOWS = "follows"


def used_points(inputs: Sequence[Dataset], classes: str, wanted: Sequence[int], findings: list[Finding]) -> Floats:
    """Return the points that are used, those of wanted classes where any are said; `classes` is how they were said.

    Raises
    ------
    CallError
        If classes are asked for and no source has any, or none of these.
    """
    found = []
    known = False
    for each in inputs:
        if not isinstance(each, PointSet):
            continue
        own = each.attributes.get(CLASSES)
        if wanted and own is not None:
            keep = np.isin(own, wanted)
            known = True
            text = f"{count(int(keep.sum()), 'point')} of {spaced(len(keep))} of {each.name} {either(int(keep.sum()), 'is', 'are')} of class {classes}."
            findings.append(note("classes-used", text))
            found.append(each.xyz[keep])
        else:
            found.append(each.xyz)
    if wanted and not known:
        raise CallError("classes: no source has classified points")
    if wanted and not any(map(len, found)):
        there = sorted(
            {
                int(code)
                for each in inputs
                if isinstance(each, PointSet) and CLASSES in each.attributes
                for code in np.unique(each.attributes[CLASSES])
            }
        )
        raise CallError(f"classes: no point is of class {classes}; there are {', '.join(map(str, there))}")
    points = np.concatenate([np.zeros((0, 3)), *found])
    good = np.isfinite(points).all(axis=1)
    if not good.all():
        findings.append(
            Finding("no-height", f"{count(int((~good).sum()), 'point')} without a finite height: left out.")
        )
        points = points[good]
    return points


@dataclass(frozen=True, slots=True)
class RimLimits:
    """What a rim may be like.

    Attributes
    ----------
    longest : float or None
        The longest edge of a triangle.
    length : float, “follows” or None
        How long edges at the rim may be: everywhere alike, or by the density of places.
    angle : float
        The smallest angle of a triangle at the rim, in degrees.
    circle : float or None
        Radius of the widest circle through the corners of a triangle.
    """

    longest: float | None = None
    length: float | str | None = None
    angle: float = 0.0
    circle: float | None = None


def trimmed(tin: Tin, rim: RimLimits, frame: Frame, findings: list[Finding]) -> Tin:
    """Return a TIN without triangles whose edges are too long, or that the rim should not have.

    Raises
    ------
    DataError
        If nothing would be left.
    """
    keep = np.ones(len(tin.triangles), np.bool_)
    plan = unit_word(frame.horizontal)
    told: list[tuple[str, str, int]] = []
    if rim.longest is not None:
        longest = rim.longest
        keep = without_long_edges(tin, longest)
        if not keep.any():
            shortest = float(edge_lengths(tin).max(axis=1).min())
            raise DataError(
                f"every triangle has an edge longer than {longest:g}{plan}, so nothing is left; the shortest longest edge is "
                f"{shortest:.3g}{plan}"
            )
        told.append(("long-edges", f"with an edge longer than {longest:g}{plan}", int((~keep).sum())))
    if rim.circle is not None:
        narrow = circle_radii(np.ascontiguousarray(tin.vertices[:, :2]), tin.triangles) <= rim.circle
        narrow |= tin.constrained.all(axis=1) if tin.constrained is not None else False
        told.append(("wide-circles", f"whose circle is wider than {rim.circle:g}{plan}", int((keep & ~narrow).sum())))
        keep &= narrow
        if not keep.any():
            raise DataError(f"no triangle has a circle as narrow as {rim.circle:g}{plan}; the points lie farther apart")
    if rim.length is not None or rim.angle:
        rest = left_of(tin, keep)
        most = None
        if rim.length is not None:
            own = followed_density(rest) if isinstance(rim.length, str) else rim.length
            most = np.broadcast_to(np.asarray(own, np.float64), (len(rest.triangles),)).copy()
        stays = look_changed(rest, most, rim.angle)
        told.append(("worn-rim", "at the rim", int((~stays).sum())))
        keep[np.flatnonzero(keep)[~stays]] = False
    if keep.all():
        return tin
    made = left_of(tin, keep)
    for code, which, number in told:
        if not number:
            continue
        text = f"{count(number, 'triangle')} {which} {either(number, 'was', 'were')} left out"
        lost = len(tin.vertices) - len(made.vertices)
        text += f", and {count(lost, 'place')} that no other triangle uses." if lost and code == told[-1][0] else "."
        findings.append(note(code, text))
    return made


def inside_limits(
    tin: Tin, limits: Limits, area: Floats | None, ground: Any, places: Floats, frame: Frame, findings: list[Finding]
) -> Tin:
    """Return a TIN inside its limits, inside a drawn ring and inside areas: exactly at their edge, or its whole triangles.

    Parameters
    ----------
    ground : GEOS polygons or None
        What areas leave of it.

    Raises
    ------
    DataError
        If nothing would be left.
    """

    def area_of(*, whole: bool) -> Any:
        outer, voids, islands = (limits.of(role, whole=whole) for role in (OUTER, VOID, ISLAND))
        return limits_area(outer, voids, islands, tin.vertices, findings, frame.horizontal)

    exact, rough = area_of(whole=False), area_of(whole=True)
    if area is not None:
        drawn = ring_area(area, "area", findings, frame.horizontal)
        exact = drawn if exact is None else shapely.intersection(exact, drawn)
    if ground is not None:
        exact = ground if exact is None else shapely.intersection(exact, ground)
    if exact is None and rough is None:
        return tin
    if rough is not None:
        middle = tin.corners()[:, :, :2].mean(axis=1)
        shapely.prepare(rough)
        keep = shapely.contains_xy(rough, middle[:, 0], middle[:, 1])
        if not keep.any():
            raise DataError("no triangle has its middle inside the boundary")
        tin = left_of(tin, keep)
    if exact is not None:
        tin = cut_to(tin, exact)
    lost = int((~np.isin(places[:, 0] + 1j * places[:, 1], tin.vertices[:, 0] + 1j * tin.vertices[:, 1])).sum())
    if lost > 0:
        text = f"{count(lost, 'place')} of {spaced(len(places))} {either(lost, 'lies', 'lie')} outside the limits."
        findings.append(note("outside-limits", text))
    return tin
