"""Small pieces of terrain for tests."""

from __future__ import annotations

from pathlib import Path

import numpy as np

from vastgrid.base.progress import Silent
from vastgrid.base.quantities import Unit
from vastgrid.conversions.surfaces import tin as tin_conversion
from vastgrid.data.frame import Frame
from vastgrid.data.pointset import PointSet
from vastgrid.data.tin import Tin, areas
from vastgrid.kernels.triangles.topology import neighbours_of

DATA = Path(__file__).parent / "data"
HANDMADE = Path(__file__).parent / "handmade"
METRES = Frame(None, Unit.METRE, Unit.METRE)
ORIGIN = (431_000.0, 887_000.0)


def scattered(count=2000, seed=1, size=(200.0, 150.0), height=None, frame=METRES, name="Points") -> PointSet:
    rng = np.random.default_rng(seed)
    xy = rng.random((count, 2)) * size
    z = (
        230.0 + 8.0 * np.sin(xy[:, 0] / 31.0) + 5.0 * np.cos(xy[:, 1] / 23.0)
        if height is None
        else height(xy[:, 0], xy[:, 1])
    )
    return PointSet(name=name, frame=frame, xyz=np.column_stack((xy + ORIGIN, z)))


def ground(count=2000, **options) -> Tin:
    points = scattered(count, **options)
    return tin_conversion.run([points], tin_conversion.TinParams(), Silent()).dataset.renamed("Ground")


def sound(tin: Tin) -> float:
    """Check that a TIN is one: counter-clockwise, edge to edge, nothing unused, Euler's formula; return its plan area."""
    plan = areas(tin)
    assert (plan > 0.0).all(), "no triangle is turned or empty"
    assert np.array_equal(neighbours_of(tin.triangles), tin.edges_across), "neighbours are those across the edges"
    assert len(np.unique(tin.triangles)) == len(tin.vertices), "every vertex is used"
    following = np.roll(tin.triangles, -1, axis=1)
    directed = tin.triangles.astype(np.int64).ravel() * len(tin.vertices) + following.ravel()
    assert len(np.unique(directed)) == len(directed), "no two triangles lie on one side of an edge"
    return float(plan.sum())
