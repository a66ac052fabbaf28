"""Sections against matplotlib's interpolation in the same triangles, and on ground that is known."""

import io
import math

import numpy as np
import pytest
from matplotlib.tri import LinearTriInterpolator, Triangulation

from vastgrid import catalog
from vastgrid.base.progress import Silent
from vastgrid.base.quantities import Unit
from vastgrid.data.frame import Frame
from vastgrid.data.grid import Grid
from vastgrid.data.linework import Contours, from_lines
from vastgrid.data.mesh import Mesh
from vastgrid.data.pointset import PointSet
from vastgrid.measures.section import Profile, as_csv, cut, lengths_along, stepped

METRIC = Frame(None, Unit.METRE, Unit.METRE)
E0, N0 = 500_000.0, 4_000_000.0


@pytest.fixture(scope="module")
def tin():
    rng = np.random.default_rng(2)
    xy = rng.uniform(0, 300, (3000, 2))
    xy = xy[np.hypot(*(xy - 150.0).T) > 30.0]
    z = 100 + 10 * np.sin(xy[:, 0] / 40.0) + 0.05 * xy[:, 1]
    points = PointSet(name="p", frame=METRIC, xyz=np.column_stack((xy + (E0, N0), z)))
    made = catalog.conversion_named("tin")
    from vastgrid.params import declare

    return made.run([points], declare.build(made.params, {"max_edge": "20m"}), Silent()).dataset


def line(*places):
    return np.array(places, float) + (E0, N0)


def test_a_section_is_the_surface_everywhere_along_it(tin):
    own = line((10, 20), (290, 250), (200, 20))
    (profile,) = cut([tin], own, 1.0)
    total = lengths_along(own)
    local = tin.vertices - (E0, N0, 0.0)
    reference = LinearTriInterpolator(Triangulation(local[:, 0], local[:, 1], tin.triangles), local[:, 2])
    for distance in np.linspace(0.0, total[-1], 800):
        place = [np.interp(distance, total, own[:, k]) - (E0, N0)[k] for k in (0, 1)]
        expected = reference(*place)
        mine = profile.at(distance)
        if np.ma.is_masked(expected):
            assert math.isnan(mine) or abs(distance - total[1]) < 1e-6
        elif not math.isnan(mine):
            assert mine == pytest.approx(float(expected), abs=1e-6)


def test_a_hole_parts_the_profile(tin):
    own = line((0, 150), (300, 150))
    (profile,) = cut([tin], own, 1.0)
    assert math.isnan(profile.at(150.0)) and math.isfinite(profile.at(60.0)) and math.isfinite(profile.at(250.0))
    gap = profile.along[np.isnan(profile.z)]
    assert len(gap) >= 1 and 110 < gap.min() < 190


def test_a_plane_is_cut_exactly_by_a_grid():
    x, y = np.meshgrid(np.arange(30) + 0.5, 20.5 - np.arange(21))
    grid = Grid(frame=METRIC, heights=2.0 * x + 3.0 * y, west=E0, north=N0 + 21.0, dx=1.0, dy=1.0, name="g")
    own = line((1.2, 2.3), (27.7, 17.9))
    (profile,) = cut([grid], own, 1.0)
    total = lengths_along(own)[-1]
    for share in np.linspace(0.01, 0.99, 50):
        x, y = 1.2 + share * 26.5, 2.3 + share * 15.6
        assert profile.at(share * total) == pytest.approx(2.0 * x + 3.0 * y, abs=1e-6)


def test_points_in_the_band_lines_that_cross_and_contours():
    points = PointSet(
        name="p", frame=METRIC, xyz=np.array([(E0 + 5, N0 + 0.4, 7.0), (E0 + 6, N0 + 0.6, 8.0), (E0 - 1, N0, 9.0)])
    )
    kerb = from_lines("kerb", METRIC, [np.array([(E0 + 3, N0 - 2, 1.0), (E0 + 3, N0 + 2, 3.0)])], ["K"])
    contours = Contours(name="c", frame=METRIC, plan=line((8, -1), (8, 1)), offsets=[0, 2], levels=[4.0], index=[True])
    found = {each.name: each for each in cut([points, kerb, contours], line((0, 0), (10, 0)), 0.5)}
    assert found["p"].along.tolist() == [5.0] and found["p"].z.tolist() == [7.0]
    assert found["kerb"].along.tolist() == [3.0] and found["kerb"].z.tolist() == [2.0]
    assert found["c"].along.tolist() == [8.0] and found["c"].z.tolist() == [4.0]


def test_an_upright_mesh_is_cut_wherever_it_stands():
    wall = np.array([(4, -5, 0), (4, 5, 0), (4, 5, 10), (0, -5, 3), (10, -5, 3), (5, 5, 3)], float) + (E0, N0, 0)
    mesh = Mesh(name="m", frame=METRIC, vertices=wall, triangles=np.array([(0, 1, 2), (3, 4, 5)], np.int32))
    (profile,) = cut([mesh], line((0, 0), (10, 0)), 1.0)
    z = profile.z[np.isfinite(profile.z)]
    along = profile.along[np.isfinite(profile.z)]
    assert {round(v, 6) for v in along[z != 3.0]} == {4.0}
    assert sorted(along[z == 3.0].tolist()) == pytest.approx([2.5, 7.5])


def test_stepping_sideways_goes_to_the_right_and_mitres():
    own = np.array([(0.0, 0.0), (10.0, 0.0), (10.0, -10.0)])
    moved = stepped(own, 2.0)
    assert moved.tolist() == pytest.approx(np.array([(0, -2), (8, -2), (8, -10)]))
    assert stepped(moved, -2.0) == pytest.approx(own)
    straight = np.array([(0.0, 0.0), (3.0, 4.0)])
    assert np.hypot(*(stepped(straight, 5.0)[0])) == pytest.approx(5.0)


def test_as_a_table():
    one = Profile("A", "line", np.array([0.0, 5.0, 10.0]), np.array([1.0, 2.0, 3.0]), 0)
    other = Profile("B, later", "line", np.array([0.0, 10.0]), np.array([1.5, np.nan]), 1)
    marks = Profile("kerb", "marks", np.array([4.0]), np.array([1.8]), 2)
    text = as_csv([one, other, marks], line((0, 0), (10, 0)))
    import csv

    rows = list(csv.DictReader(io.StringIO(text)))
    assert rows[1]["Distance"] == "5.0000" and rows[1]["Easting"] == f"{E0 + 5:.4f}" and rows[1]["A"] == "2.0000"
    assert rows[1]["B, later"] == ""
    assert rows[-1]["Mark"] == "kerb" and rows[-1]["Mark elevation"] == "1.8000"


def test_nothing_along_the_line_is_nothing():
    points = PointSet(name="p", frame=METRIC, xyz=np.zeros((0, 3)))
    assert cut([points], line((0, 0), (1, 0)), 1.0) == []
