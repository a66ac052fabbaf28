"""Two TINs laid over each other: the triangles in which both are planes, and how far one lies above the other as a TIN."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from vastgrid.base.errors import DataError
from vastgrid.base.progress import Progress, Silent
from vastgrid.data.dataset import DIFFERENCE, Floats, Ints
from vastgrid.data.tin import Tin
from vastgrid.kernels.triangles.topology import group_places, plan_areas
from vastgrid.measures.earthwork import common_pieces

# Places closer than this share of the extent are one: cutting finds each from several sides.
WELD = 1e-9


@dataclass(frozen=True, slots=True)
class Overlay:
    """Ground in common of two TINs.

    Attributes
    ----------
    plan : (m, 3, 2) float64
        Corners of the triangles in which both are planes.
    first, second : (m, 3) float64
        Height of either at each corner, in the plane of its own triangle there: a wall has two heights at one place.
    """

    plan: Floats
    first: Floats
    second: Floats


def overlaid(first: Tin, second: Tin, progress: Progress | None = None) -> Overlay:
    """Return the ground in common of two TINs, in triangles that no edge of either crosses.

    Raises
    ------
    DataError
        If they have none.
    """
    found, origin = common_pieces(first, second, lambda plan, heights: (plan, heights), progress or Silent())
    plan = np.concatenate([own[0] for own in found]) + origin
    if len(plan) == 0:
        raise no_common_ground(first, second)
    heights = np.concatenate([own[1] for own in found])
    return Overlay(plan, heights[..., 0], heights[..., 1])


def no_common_ground(first: Tin, second: Tin) -> DataError:
    """Return the error that says so."""
    return DataError(f"{first.name} and {second.name} have no ground in common")


def difference_tin(base: Tin, top: Tin, name: str, progress: Progress) -> Tin:
    """Return how far one TIN lies above another as a TIN of its own: exact, with an edge wherever either has one.

    Raises
    ------
    DataError
        If they have no ground in common.
    """
    span = float(np.ptp(np.concatenate((base.vertices[:, :2], top.vertices[:, :2])), axis=0).max())
    weld = max(WELD * span, 1e-12)

    def joined(plan: Floats, heights: Floats) -> tuple[Floats, Floats, Ints]:
        corners = plan.reshape(-1, 2)
        group, first = group_places(corners[:, 0].copy(), corners[:, 1].copy(), weld)
        gap = heights[..., 1] - heights[..., 0]
        return corners[first], gap.ravel()[first], group.reshape(-1, 3)

    found, origin = common_pieces(base, top, joined, progress.part(0.0, 0.6))
    sizes = np.array([0, *(len(own[0]) for own in found)])
    if sizes.sum() == 0:
        raise no_common_ground(base, top)
    places, gap = (np.concatenate([own[k] for own in found]) for k in (0, 1))
    triangles = np.concatenate([own[2] + start for own, start in zip(found, np.cumsum(sizes).tolist(), strict=False)])
    del found
    # Places on the border of two parts are in both.
    group, first = group_places(places[:, 0].copy(), places[:, 1].copy(), weld)
    triangles, places, gap = group[triangles], places[first], gap[first]
    progress.report(0.8, "joining the pieces")
    triangles = triangles[plan_areas(places, triangles) > 0.0]
    used = np.zeros(len(places), np.bool_)
    used[triangles.ravel()] = True
    number = np.cumsum(used, dtype=np.int32) - 1
    vertices = np.column_stack((places[used] + origin, gap[used]))
    made = Tin(name=name, frame=top.frame, vertices=vertices, triangles=number[triangles], quantity=DIFFERENCE)
    progress.report(1.0, "joining the pieces")
    return made
