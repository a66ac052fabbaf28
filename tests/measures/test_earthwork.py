"""Volumes between surfaces against closed forms, and against themselves."""

import dataclasses
import math

import numpy as np
import pytest
import shapely
from hypothesis import given, settings
from hypothesis import strategies as st
from scipy.spatial import cKDTree

from builders import METRES, ORIGIN, ground, sound
from vastgrid.base.progress import Silent
from vastgrid.data.tin import Tin, areas
from vastgrid.kernels.triangles.triangulate import triangulate
from vastgrid.measures.earthwork import below_levels, between, by_cells, by_sections, region_of
from vastgrid.terrain.tin.overlaying import difference_tin

NONE = np.zeros(0)


def tin_of(xy, z, name="t"):
    """A TIN through places, at the heights of a function of plan (relative to the origin)."""
    made = triangulate(np.asarray(xy, float) + ORIGIN, np.zeros((0, 2), np.int64), Silent())
    local = made.xy - ORIGIN
    return Tin(
        name=name,
        frame=METRES,
        vertices=np.column_stack((made.xy, z(local[:, 0], local[:, 1]))),
        triangles=made.triangles,
    )


def sheet(z, size=100.0, steps=7, shift=0.0):
    at = np.linspace(0.0, size, steps + 1)
    x, y = np.meshgrid(at, at)
    inner = (x > 0) & (x < size) & (y > 0) & (y < size)
    return tin_of(np.column_stack(((x + shift * inner).ravel(), (y - 0.7 * shift * inner).ravel())), z)


def exact(base, top, areas_=None):
    made, _ = between(base, top, None if areas_ is None else region_of(areas_), NONE, Silent())
    return made


def box(west, south, east, north):
    return shapely.box(west + ORIGIN[0], south + ORIGIN[1], east + ORIGIN[0], north + ORIGIN[1])


def test_two_tilted_planes():
    """Planes z = 200 and z = 195 + x/10 over 100 m: each wedge holds 50 · 5/2 · 100 (prism with a triangle's section)."""
    (made,) = exact(sheet(lambda x, y: 200.0 + 0 * x), sheet(lambda x, y: 195.0 + x / 10.0, steps=12, shift=1.3))
    assert made.cut == pytest.approx(12_500.0, rel=1e-9)
    assert made.fill == pytest.approx(12_500.0, rel=1e-9)
    assert made.cut_area == pytest.approx(5_000.0, rel=1e-9)
    assert made.area == pytest.approx(10_000.0, rel=1e-12)
    assert made.net == pytest.approx(0.0, abs=1e-6)


def regular(radius, number, z):
    angle = 2.0 * math.pi * np.arange(number) / number
    return np.column_stack((50.0 + radius * np.cos(angle), 50.0 + radius * np.sin(angle))), np.full(number, z)


def test_a_frustum_on_a_plane():
    """V = h/3 (A1 + A2 + √(A1 A2)), the frustum of a pyramid (Euclid XII); areas of regular 24-gons."""
    lower, low_z = regular(30.0, 24, 0.0)
    upper, high_z = regular(18.0, 24, 4.0)
    xy = np.concatenate((lower, upper))
    z = np.concatenate((low_z, high_z))
    pile = tin_of(xy, lambda x, y: z[cKDTree(xy).query(np.column_stack((x, y)))[1]])
    base = sheet(lambda x, y: 0.0 * x)
    (made,) = exact(base, pile)
    one, two = (0.5 * 24 * r * r * math.sin(2 * math.pi / 24) for r in (30.0, 18.0))
    assert made.fill == pytest.approx(4.0 / 3.0 * (one + two + math.sqrt(one * two)), rel=1e-9)
    assert made.cut == 0.0
    # The prismoidal formula, V = h/6 (A1 + 4 Am + A2), says the same of it.
    middle = 0.5 * 24 * 24.0**2 * math.sin(2 * math.pi / 24)
    assert made.fill == pytest.approx(4.0 / 6.0 * (one + 4.0 * middle + two), rel=1e-9)


def test_a_cone_on_a_tilted_plane():
    """A cone of n faces keeps its volume A h / 3 on a plane that tilts with it (Cavalieri)."""
    ring, _ = regular(25.0, 60, 0.0)
    tilt = lambda x, y: 0.03 * x - 0.05 * y + 210.0  # noqa: E731
    xy = np.concatenate((ring, [[50.0, 50.0]]))
    cone = tin_of(xy, lambda x, y: tilt(x, y) + np.where(np.hypot(x - 50.0, y - 50.0) < 1e-6, 9.0, 0.0))
    (made,) = exact(sheet(tilt, steps=9, shift=0.4), cone)
    assert made.fill == pytest.approx(0.5 * 60 * 625.0 * math.sin(2 * math.pi / 60) * 9.0 / 3.0, rel=1e-9)
    assert made.cut_area == 0.0


def rough(seed, size=100.0, count=160):
    rng = np.random.default_rng(seed)
    xy = np.concatenate((rng.random((count, 2)) * size, [[0, 0], [size, 0], [size, size], [0, size]]))
    height = rng.normal(0.0, 2.0, len(xy))
    return tin_of(xy, lambda x, y: height[cKDTree(xy).query(np.column_stack((x, y)))[1]])


@settings(max_examples=25, deadline=None)
@given(seed=st.integers(0, 10_000))
def test_cut_and_fill_swap_add_up_and_do_not_move(seed):
    base, top = rough(seed), rough(seed + 1)
    (one,), (other,) = exact(base, top), exact(top, base)
    assert one.cut == pytest.approx(other.fill, rel=1e-9)
    assert one.fill == pytest.approx(other.cut, rel=1e-9)
    assert one.area == pytest.approx(10_000.0, rel=1e-9)
    at = 17.0 + seed % 61
    parts = exact(base, top, [box(-1, -1, at, 101), box(at, -1, 101, 101)])
    assert sum(each.cut for each in parts) == pytest.approx(one.cut, rel=1e-9)
    assert sum(each.fill_area for each in parts) == pytest.approx(one.fill_area, rel=1e-9)
    shift = np.array([1234.5, -876.25, 64.0])
    (moved,) = exact(*(dataclasses.replace(each, vertices=each.vertices + shift) for each in (base, top)))
    assert moved.fill == pytest.approx(one.fill, rel=1e-9)


def test_a_hole_counts_for_nothing_and_each_boundary_for_itself():
    base, top = sheet(lambda x, y: 0.0 * x), sheet(lambda x, y: 0.0 * x + 2.0, steps=5)
    ring = shapely.difference(box(10, 10, 60, 60), box(20, 20, 30, 40))
    made = exact(base, top, [ring, box(0, 0, 10, 10), box(5, 5, 15, 15)])
    assert [each.fill for each in made] == pytest.approx([2.0 * (2500 - 200), 200.0, 200.0], rel=1e-9)
    assert exact(base, top, [box(200, 200, 210, 210)])[0].area == 0.0


def test_what_is_the_same_is_neither_cut_nor_filled():
    tin = ground(3000)
    (made,) = exact(tin, tin)
    assert (made.cut, made.fill, made.cut_area, made.fill_area) == (0.0, 0.0, 0.0, 0.0)
    assert made.area == pytest.approx(float(areas(tin).sum()), rel=1e-9)
    changed = tin.vertices.copy()
    changed[1500, 2] += 3.0
    (made,) = exact(tin, dataclasses.replace(tin, vertices=changed))
    own = (tin.triangles == 1500).any(axis=1)
    # Each triangle at a raised vertex gains a pyramid: its area times a third of the step.
    assert made.fill == pytest.approx(float(areas(tin)[own].sum()), rel=1e-9)
    assert made.fill_area == pytest.approx(float(areas(tin)[own].sum()), rel=1e-9)


def test_classes_of_depth():
    base, top = sheet(lambda x, y: 0.0 * x), sheet(lambda x, y: x / 10.0 - 5.0, steps=11)
    _, classes = between(base, top, None, np.array([-4.0, -1.0, 0.0, 2.5]), Silent())
    assert classes[0, :, 0] == pytest.approx([1000.0, 3000.0, 1000.0, 2500.0, 2500.0], rel=1e-9)
    assert classes[0, :, 1] == pytest.approx([-4500.0, -7500.0, -500.0, 3125.0, 9375.0], rel=1e-9)


def test_by_cells_and_by_sections_come_near():
    base = ground(4000)
    top = ground(4000, seed=5, height=lambda x, y: 231.0 + 0.02 * (x - 90.0))
    (one,) = exact(base, top)
    cells = by_cells(base, top, None, 0.2, Silent())
    sections, spacing = by_sections(base, top, None, 200, Silent())
    assert spacing == pytest.approx(1.0, abs=0.01)
    for other in (cells, sections):
        assert other.fill == pytest.approx(one.fill, rel=0.01)
        assert other.area == pytest.approx(one.area, rel=0.01)
    # Sections of planes are exact but for the ends: half a step of a wedge.
    flat, tilted = sheet(lambda x, y: 0.0 * x), sheet(lambda x, y: x / 10.0 - 5.0, steps=11)
    ring = box(0, 20, 100, 70)
    made, _ = by_sections(flat, tilted, ring, 100, Silent())
    assert made.cut == pytest.approx(6250.0, rel=1e-3)
    assert by_cells(flat, tilted, ring, 0.5, Silent()).fill == pytest.approx(6250.0, rel=1e-9)


def test_what_a_level_holds():
    """An upturned pyramid of 100 × 100 m, 10 m deep: below level h a side is 10 h, so V = (10 h)² h / 3."""
    xy = [[0, 0], [100, 0], [100, 100], [0, 100], [50, 50]]
    pit = tin_of(xy, lambda x, y: np.where((x == 50) & (y == 50), 200.0, 210.0))
    levels = np.array([201.0, 205.0, 210.0, 211.0])
    made = below_levels(pit, region_of([box(0, 0, 100, 100)]), levels, Silent())
    assert made[:, 0] == pytest.approx([100.0, 2500.0, 10_000.0, 10_000.0], rel=1e-9)
    assert made[:, 1] == pytest.approx([100 / 3, 2500 * 5 / 3, 100_000 / 3, 100_000 / 3 + 10_000], rel=1e-9)
    assert below_levels(pit, region_of([box(0, 0, 10, 10)]), np.zeros(0), Silent()).shape == (0, 2)


@pytest.mark.parametrize("pair", ["other", "same lattice", "edited", "finer"])
def test_the_difference_is_a_sound_surface_of_its_own(pair):
    base = ground(900) if pair in ("other", "edited") else sheet(lambda x, y: 200.0 + x * y / 500.0, steps=10)
    if pair == "other":
        top = ground(900, seed=7)
    elif pair == "same lattice":
        top = sheet(lambda x, y: 201.0 + 0 * x, steps=10)
    elif pair == "finer":
        top = sheet(lambda x, y: 201.0 + x / 30.0, steps=20)
    else:
        raised = base.vertices.copy()
        raised[::7, 2] += 1.0
        top = dataclasses.replace(base, vertices=raised)
    made = difference_tin(base, top, "d", Silent())
    (volumes,) = exact(base, top)
    assert sound(made) == pytest.approx(volumes.area, rel=1e-7)
    plan = areas(made)
    assert float((plan * made.corners()[:, :, 2].mean(axis=1)).sum()) == pytest.approx(volumes.net, rel=1e-6)
    assert not made.has_heights
    assert made.has_lengths
