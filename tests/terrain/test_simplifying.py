"""Fewer triangles: the tolerance is met everywhere, rims and breaklines stay, no-data stays open."""

import json
from pathlib import Path

import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st
from matplotlib.cbook import get_sample_data

from builders import METRES, ORIGIN, ground, sound
from vastgrid.base.errors import CallError
from vastgrid.base.progress import Silent
from vastgrid.base.quantities import Length
from vastgrid.conversions.surfaces import simplify
from vastgrid.conversions.surfaces import tin as building
from vastgrid.data.grid import Grid
from vastgrid.data.linework import from_lines
from vastgrid.data.pointset import PointSet
from vastgrid.data.tin import areas, rim
from vastgrid.measures.difference import difference
from vastgrid.measures.heights import heights
from vastgrid.terrain.tin.simplify import Wanted, within_grid, within_tin
from vastgrid.terrain.tin.surfaces import grid_tin


def jacksboro(rows=120, columns=120):
    """Elevations at Jacksboro fault, as matplotlib ships them (USGS, public domain)."""
    with np.load(get_sample_data("jacksboro_fault_dem.npz", asfileobj=False)) as data:
        z = data["elevation"][:rows, :columns].astype(np.float64)
    return Grid(name="Jacksboro", frame=METRES, heights=z, west=500_000.0, north=4_000_000.0, dx=30.0, dy=30.0)


@pytest.mark.parametrize("tolerance", [40.0, 10.0, 2.0])
def test_every_cell_lies_within_the_tolerance_and_no_data_stays_open(tolerance):
    grid = jacksboro()
    z = grid.heights.copy()
    z[30:50, 40:70] = np.nan
    z[80, :25] = np.nan
    z[90:, 100:] = np.nan
    grid = Grid(name="holes", frame=METRES, heights=z, west=grid.west, north=grid.north, dx=30.0, dy=30.0)
    tin, reached = within_grid(grid, Wanted(tolerance), Silent())
    sound(tin)
    cells = grid.coordinates()
    gap = heights(tin, cells[:, :2]) - cells[:, 2]
    assert np.isfinite(gap).all() and np.abs(gap).max() <= tolerance * (1 + 1e-12)
    assert reached.largest == pytest.approx(float(np.abs(gap).max()), abs=1e-9)
    whole = grid_tin(grid)
    assert float(areas(tin).sum()) == pytest.approx(float(areas(whole).sum()), rel=1e-12), "no ground where no data is"
    assert len(tin.triangles) < len(whole.triangles)


@pytest.mark.parametrize("tolerance", [40.0, 8.0])
def test_between_vertices_too(tolerance):
    """Against the difference of two TINs, exact at vertices and edge crossings, which is measured by other code."""
    whole = grid_tin(jacksboro(70, 80))
    tin, reached = within_tin(whole, Wanted(tolerance), Silent())
    assert sound(tin) == pytest.approx(sound(whole), rel=1e-12)
    loss = difference(whole, tin, Silent())
    assert loss.largest <= tolerance + 1e-9 and reached.largest == pytest.approx(loss.largest, abs=1e-6)
    known = {tuple(vertex) for vertex in whole.vertices.tolist()}
    assert all(tuple(vertex) in known for vertex in tin.vertices.tolist()), "vertices of the source, bit for bit"


def test_integer_heights_of_a_volcano():
    """Vega's volcano: whole metres, whole terraces, whole cells (BSD-3, see shared data's note)."""
    path = Path(__file__).parents[1] / "data" / "volcano.json"
    values = json.loads(path.read_text())
    z = np.array(values["values"], np.float64).reshape(values["height"], values["width"])
    grid = Grid(name="volcano", frame=METRES, heights=z, west=0.0, north=0.0, dx=10.0, dy=10.0)
    for tolerance in (0.5, 3.0):
        tin, reached = within_grid(grid, Wanted(tolerance), Silent())
        assert sound(tin) == pytest.approx((z.shape[0] - 1) * (z.shape[1] - 1) * 100.0)
        assert reached.largest <= tolerance


def test_breaklines_voids_and_rim_stay_where_they_are():
    points = ground(1500).vertices
    ring = np.array([(60, 60, 0), (90, 60, 0), (90, 90, 0), (60, 90, 0), (60, 60, 0)], float) + (*ORIGIN, 230.0)
    edge = np.array([(20.0, 20.0, 231.0), (60.0, 35.0, 236.0), (110.0, 30.0, 229.0)]) + (*ORIGIN, 0.0)
    from vastgrid.data.pointset import PointSet

    inputs = [
        PointSet(name="p", frame=METRES, xyz=points),
        from_lines("l", METRES, [ring, edge], ["VOID", "EDGE"]),
    ]
    params = building.settle(inputs, building.TinParams(voids="VOID", breaklines="EDGE"))
    whole = building.run(inputs, params, Silent()).dataset
    tin, _ = within_tin(whole, Wanted(1.0), Silent())
    assert sound(tin) == pytest.approx(sound(whole), rel=1e-12)
    assert len(tin.triangles) < 0.7 * len(whole.triangles)
    assert np.isnan(heights(tin, np.array([[75.0, 75.0]]) + ORIGIN)).all(), "the void is one"
    along = np.linspace(edge[0], edge[1], 50)[:, :2]
    assert np.abs(heights(tin, along) - heights(whole, along)).max() <= 1.0
    assert tin.constrained.any() and len(rim(tin)) <= len(rim(whole))


@settings(max_examples=25, deadline=None)
@given(st.integers(3, 40), st.integers(3, 40), st.integers(0, 10_000), st.floats(0.05, 3.0))
def test_any_lattice_with_any_gaps(rows, columns, seed, tolerance):
    rng = np.random.default_rng(seed)
    z = np.round(rng.normal(0, 1, (rows, columns)).cumsum(axis=0), rng.integers(0, 3))
    z[rng.random(z.shape) < rng.choice([0.0, 0.05, 0.3])] = np.nan
    grid = Grid(name="g", frame=METRES, heights=z, west=431000.0, north=887000.0, dx=0.5, dy=0.25)
    whole = grid_tin(grid)
    if len(whole.triangles) == 0:
        return
    tin, reached = within_grid(grid, Wanted(tolerance), Silent())
    assert reached.largest <= tolerance * (1 + 1e-12)
    assert sound(tin) == pytest.approx(float(areas(whole).sum()), rel=1e-9)
    other, found = within_tin(whole, Wanted(tolerance), Silent())
    assert found.largest <= tolerance * (1 + 1e-12) and sound(other) == pytest.approx(
        float(areas(whole).sum()), rel=1e-9
    )


def test_a_number_of_triangles_instead():
    grid = jacksboro(60, 60)
    for most in (50, 500):
        result = simplify.run([grid], simplify.SimplifyParams(triangles=most), Silent())
        assert most - 2 <= len(result.dataset.triangles) <= most
        assert result.figures["reached"] == result.loss.largest > 0.0
    with pytest.raises(CallError, match="not both"):
        simplify.settle([grid], simplify.SimplifyParams(tolerance=Length(1.0), triangles=5))
    assert simplify.settle([grid], simplify.SimplifyParams()).tolerance.value > 0.0


def test_what_overlaps_itself_is_refused():
    from vastgrid.base.errors import DataError
    from vastgrid.data.tin import Tin

    corners = np.array([(0, 0, 1), (9, 0, 1), (0, 9, 1), (1, 1, 5), (10, 1, 5), (1, 10, 5)], float)
    tin = Tin(name="twice", frame=METRES, vertices=corners, triangles=np.array([(0, 1, 2), (3, 4, 5)]))
    with pytest.raises(DataError, match="overlaps itself"):
        within_tin(tin, Wanted(0.1), Silent())


@pytest.mark.parametrize("seed", [1, 2, 3])
def test_a_straight_rim_with_rough_heights_is_kept_within_the_tolerance(seed):
    """Vertices on a straight rim cannot be put in later; those that are needed stay from the beginning."""
    rng = np.random.default_rng(seed)
    side = np.linspace(0.0, 100.0, 60)
    inner = rng.random((1500, 2)) * 99.0 + 0.5
    # A trimmed rim: on the straight way but for rounding.
    rim = np.concatenate([np.column_stack((side, np.full(60, y) + rng.normal(0, 1e-9, 60))) for y in (0.0, 100.0)])
    xy = np.concatenate(
        (inner, rim, np.column_stack((np.zeros(58), side[1:-1])), np.column_stack((np.full(58, 100.0), side[1:-1])))
    )
    z = 5.0 * np.sin(xy[:, 0] / 9.0) + rng.normal(0.0, 0.2, len(xy))
    points = PointSet(name="P", frame=METRES, xyz=np.column_stack((xy + ORIGIN, z)))
    tin = building.run([points], building.TinParams(), Silent()).dataset
    for tolerance in (0.1, 0.5, 1.5):
        made, reached = within_tin(tin, Wanted(tolerance), Silent())
        assert reached.largest <= tolerance * (1.0 + 1e-9)
        assert difference(tin, made, Silent()).largest <= tolerance * (1.0 + 1e-6)
