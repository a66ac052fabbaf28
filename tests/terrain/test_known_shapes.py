"""Shapes whose triangulation or volume is known: the letter A, constrained Delaunay by GEOS, frustums of the handbooks."""

import numpy as np
import pytest
import shapely
from hypothesis import given, settings
from hypothesis import strategies as st

from builders import METRES, ORIGIN, sound
from vastgrid.base.progress import Silent
from vastgrid.conversions.surfaces.tin import TinParams, run
from vastgrid.data.linework import from_lines
from vastgrid.data.pointset import PointSet
from vastgrid.kernels.triangles.triangulate import triangulate
from vastgrid.params import declare
from vastgrid.terrain.editing.edits import EditLog, replayed

E, N = ORIGIN
# The letter A of J. R. Shewchuk, “Triangle: engineering a 2D quality mesh generator and Delaunay triangulator”, 1996;
# coordinates from memory. The last three but one are the hole.
LETTER = np.array(
    [
        (0.2, -0.7764), (0.22, -0.7732), (0.2456, -0.7564), (0.2776, -0.702), (0.4888, -0.2076), (0.5048, -0.2076),
        (0.7408, -0.7396), (0.756, -0.7612), (0.7744, -0.7724), (0.8, -0.7764), (0.8, -0.7924), (0.5792, -0.7924),
        (0.5792, -0.7764), (0.6216, -0.7716), (0.6336, -0.7628), (0.6392, -0.7444), (0.6208, -0.6844), (0.5872, -0.6044),
        (0.3608, -0.6044), (0.3192, -0.7068), (0.312, -0.7396), (0.3184, -0.7612), (0.3344, -0.7716), (0.3712, -0.7764),
        (0.3712, -0.7924), (0.2, -0.7924),
    ]
)  # fmt: skip
HOLE = np.array([(0.3744, -0.57), (0.5744, -0.57), (0.4736, -0.3308)])
SCALE = 100.0


def corners(xy, triangles):
    return {tuple(sorted(map(tuple, np.round(xy[t, :2], 6).tolist()))) for t in triangles}


def by_geos(polygon):
    made = shapely.constrained_delaunay_triangles(polygon).geoms
    return {tuple(sorted(map(tuple, np.round(np.array(each.exterior.coords[:3])[:, :2], 6).tolist()))) for each in made}


def words(ring, z=None):
    return " ".join(f"{east!r},{north!r}" + ("" if z is None else f",{z!r}") for east, north in ring.tolist())


def test_the_letter_a_made_by_hand():
    outline, hole = LETTER * SCALE + ORIGIN, HOLE * SCALE + ORIGIN
    every = np.vstack((outline, hole))
    points = PointSet(name="A", frame=METRES, xyz=np.column_stack((every, 100.0 + every[:, 0] - E)))
    ground = run([points], TinParams(), Silent()).dataset
    closed = [np.vstack((ring, ring[:1])) for ring in (outline, hole)]
    drawn = replayed(ground, EditLog(tuple(f"line {words(ring)}" for ring in closed)))
    assert drawn.made == 2, drawn.findings
    assert len(drawn.tin.vertices) == 29
    # Whatever lies in the hole, and beside the letter inside its hull, is taken out.
    letter = shapely.Polygon(outline, [hole])
    middle = drawn.tin.vertices[drawn.tin.triangles].mean(axis=1)
    beside = middle[~shapely.contains_xy(letter, middle[:, 0], middle[:, 1])]
    done = replayed(
        drawn.tin, EditLog((*(f"cut {words(each[None, :2])}" for each in beside), f"cut inside {words(hole)}"))
    )
    sound(done.tin)
    # Euler: 29 vertices, one hole.
    assert len(done.tin.triangles) == 29 and len(done.tin.vertices) == 29
    assert corners(done.tin.vertices, done.tin.triangles) == by_geos(letter)
    assert np.array_equal(np.unique(done.tin.vertices, axis=0), np.unique(points.xyz, axis=0)), "bit for bit"
    again = replayed(done.tin, EditLog((f"restore inside {words(hole)}",))).tin
    assert len(again.triangles) == 30


@settings(max_examples=60, deadline=None)
@given(st.integers(5, 30), st.integers(0, 10_000))
def test_constrained_delaunay_is_that_of_geos(number, seed):
    """A star-shaped polygon in general position has one constrained Delaunay triangulation."""
    rng = np.random.default_rng(seed)
    turn = np.sort(rng.random(number)) * 2 * np.pi
    if np.diff(turn, append=turn[0] + 2 * np.pi).max() > 3.0 or np.diff(turn).min() < 0.01:
        return
    ring = np.column_stack((np.cos(turn), np.sin(turn))) * rng.uniform(20, 100, number)[:, None] + ORIGIN
    polygon = shapely.Polygon(ring)
    if not polygon.is_valid:
        return
    edges = np.column_stack((np.arange(number), np.roll(np.arange(number), -1)))
    made = triangulate(ring, np.sort(edges, axis=1), Silent())
    middle = made.xy[made.triangles].mean(axis=1)
    inside = shapely.contains_xy(polygon, middle[:, 0], middle[:, 1])
    assert corners(made.xy, made.triangles[inside]) == by_geos(polygon)


def volume(tin, base):
    corner = tin.vertices[tin.triangles]
    u, v = corner[:, 1] - corner[:, 0], corner[:, 2] - corner[:, 0]
    area = (u[:, 0] * v[:, 1] - u[:, 1] * v[:, 0]) / 2.0
    return float((area * (corner[:, :, 2].mean(axis=1) - base)).sum())


def polygon(sides, radius):
    turn = np.arange(sides) / sides * 2 * np.pi + 0.3
    return np.column_stack((np.cos(turn), np.sin(turn))) * radius + ORIGIN


@pytest.mark.parametrize(
    ("sides", "low", "high", "height"), [(4, 20.0, 8.0, 6.0), (6, 15.0, 14.0, 3.5), (96, 30.0, 12.0, 9.0)]
)
def test_a_frustum_has_the_volume_of_the_handbook(sides, low, high, height):
    """V = h / 3 · (A₁ + A₂ + √(A₁ A₂)): the frustum of a pyramid in any handbook of geometry, common knowledge."""
    rings = []
    for radius, z in ((low, 100.0), (high, 100.0 + height)):
        ring = polygon(sides, radius)
        closed = np.vstack((ring, ring[:1]))
        rings.append(np.column_stack((closed, np.full(len(closed), z))))
    lines = from_lines("Heap", METRES, rings, ["FOOT", "TOP"])
    tin = run([lines], declare.build(TinParams, {"flats": "no"}), Silent()).dataset
    areas = [shapely.Polygon(ring[:, :2]).area for ring in rings]
    wanted = height / 3.0 * (areas[0] + areas[1] + np.sqrt(areas[0] * areas[1]))
    assert volume(tin, 100.0) == pytest.approx(wanted, rel=1e-9)


def test_a_wall_keeps_the_volume_of_a_box():
    """A pad with upright sides: length · width · height, but for the millimetres that a wall leans."""
    foot = np.array([(10.0, 10.0), (40.0, 10.0), (40.0, 30.0), (10.0, 30.0), (10.0, 10.0)]) + ORIGIN
    field = np.array([(0.0, 0.0), (50.0, 0.0), (50.0, 40.0), (0.0, 40.0)]) + ORIGIN
    points = PointSet(name="Field", frame=METRES, xyz=np.column_stack((field, np.full(4, 100.0))))
    lines = from_lines(
        "Pad",
        METRES,
        [np.column_stack((foot, np.full(5, 100.0))), np.column_stack((foot, np.full(5, 103.0)))],
        ["FOOT", "TOP"],
    )
    params = declare.build(TinParams, {"walls": "FOOT, TOP", "flats": "no"})
    tin = run([points, lines], params, Silent()).dataset
    assert volume(tin, 100.0) == pytest.approx(30.0 * 20.0 * 3.0, rel=2e-3)
