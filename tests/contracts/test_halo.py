"""A conversion that says how far around a place its result depends on its input keeps its word on pieces of the demo's ground."""

import dataclasses
import functools

import numpy as np
import pytest

from examples import asked_of
from vastgrid import catalog
from vastgrid.base.progress import Silent
from vastgrid.data.grid import Grid
from vastgrid.data.pointset import PointSet
from vastgrid.data.tin import Tin
from vastgrid.demo import ground
from vastgrid.execution.steps import convert


@functools.cache
def quarry(kind):
    rng = np.random.default_rng(8)
    xy = np.column_stack((rng.uniform(60, 560, 2500), rng.uniform(40, 400, 2500)))
    points = PointSet(name="Pit", xyz=np.column_stack((xy, ground.height(xy[:, 0], xy[:, 1]))))
    tin, _ = convert(
        catalog.conversion_named("tin"), [points], catalog.conversion_named("tin").params(max_edge=None), Silent()
    )
    if kind is Tin:
        return tin.dataset
    conversion = catalog.conversion_named("grid")
    return convert(conversion, [tin.dataset], conversion.params(), Silent())[0].dataset


def claims():
    """Every conversion of a surface that says how far it looks, with the kind of surface."""
    for conversion in catalog.CONVERSIONS:
        for kind in conversion.takes:
            if conversion.single and kind in (Tin, Grid) and conversion.can_use(quarry(kind)):
                data = [quarry(kind)]
                if conversion.halo(data, conversion.settle(data, conversion.params())) is not None:
                    yield conversion, kind


CLAIMS = list(claims())


def piece(data, box):
    """What of a surface touches a box: whole triangles, whole cells."""
    west, south, east, north = box
    if isinstance(data, Tin):
        corner = data.corners()[:, :, :2]
        low, high = corner.min(axis=1), corner.max(axis=1)
        keep = (high[:, 0] >= west) & (low[:, 0] <= east) & (high[:, 1] >= south) & (low[:, 1] <= north)
        used, number = np.unique(data.triangles[keep], return_inverse=True)
        return Tin(frame=data.frame, vertices=data.vertices[used], triangles=number.reshape(-1, 3).astype(np.int32))
    columns = np.flatnonzero((data.eastings() >= west) & (data.eastings() <= east))
    rows = np.flatnonzero((data.northings() >= south) & (data.northings() <= north))
    return dataclasses.replace(
        data,
        heights=data.heights[np.ix_(rows, columns)],
        west=data.west + columns[0] * data.dx,
        north=data.north - rows[0] * data.dy,
    )


def inside(result, box):
    """Every place of a result in a box, sorted, so that pieces can be held against the whole."""
    west, south, east, north = box
    xyz = result.coordinates()
    xyz = xyz[np.isfinite(xyz).all(axis=1)]
    own = xyz[(xyz[:, 0] > west) & (xyz[:, 0] < east) & (xyz[:, 1] > south) & (xyz[:, 1] < north)]
    return np.unique(np.round(own, 6), axis=0)


@pytest.mark.parametrize(
    ("conversion", "kind"), CLAIMS, ids=lambda each: getattr(each, "id", getattr(each, "kind", ""))
)
def test_pieces_with_their_reach_give_what_the_whole_gives(conversion, kind):
    data = quarry(kind)
    halo = conversion.halo([data], conversion.settle([data], asked_of(conversion)))
    whole, params = convert(conversion, [data], asked_of(conversion), Silent())
    rng = np.random.default_rng(2)
    for _ in range(4):
        corner = rng.uniform((150, 120), (380, 240))
        box = (*corner, *(corner + rng.uniform(25, 70, 2)))
        grown = (box[0] - halo - 1e-6, box[1] - halo - 1e-6, box[2] + halo + 1e-6, box[3] + halo + 1e-6)
        part, _ = convert(conversion, [piece(data, grown)], params, Silent())
        own, other = inside(whole.dataset, box), inside(part.dataset, box)
        assert len(own) > 5 and own.shape == other.shape
        assert np.allclose(own, other, rtol=0, atol=2e-6)


def test_most_conversions_of_surfaces_can_be_done_in_pieces():
    claimed = {conversion.id for conversion, _ in CLAIMS}
    assert claimed >= {"contours", "grid", "facets", "points"}
