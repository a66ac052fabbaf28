"""Every kind of finding, on ground that is known: told where it is, and not told where it is not."""

import dataclasses

import numpy as np
import pytest
import shapely

from vastgrid import catalog
from vastgrid.base.findings import Severity
from vastgrid.base.progress import Silent
from vastgrid.base.quantities import Length, Unit
from vastgrid.data.frame import Frame
from vastgrid.data.grid import Grid
from vastgrid.data.linework import from_lines
from vastgrid.data.pointset import PointSet
from vastgrid.data.survey import Record, survey_of
from vastgrid.data.tin import Tin
from vastgrid.execution.inspection import inspect

METRIC = Frame(None, Unit.METRE, Unit.METRE)
E0, N0 = 500_000.0, 4_000_000.0


def gentle(xy):
    return 240.0 + 0.05 * (xy[:, 0] - E0) + 3.0 * np.sin((xy[:, 1] - N0) / 40.0)


def surveyed(count=1500, seed=3, size=300.0, where=None):
    rng = np.random.default_rng(seed)
    xy = rng.uniform(0, size, (count, 2)) + (E0, N0)
    if where is not None:
        xy = xy[where(xy - (E0, N0))]
    return np.column_stack((xy, gentle(xy)))


def points(xyz, frame=METRIC, name="survey", **attributes):
    return PointSet(name=name, frame=frame, xyz=xyz, attributes=attributes)


def tin_of(xyz, *more, **words):
    made = catalog.conversion_named("tin")
    from vastgrid.params import declare

    dataset = made.run([points(xyz), *more], declare.build(made.params, words), Silent()).dataset
    assert isinstance(dataset, Tin)
    return dataset


def look(check, data, others=(), **changes):
    own = catalog.check_named(check)
    assert isinstance(data, own.takes)
    return own.run(data, list(others), dataclasses.replace(own.params(), **changes), Silent())


def test_even_ground_has_no_findings():
    xyz = surveyed()
    for each in (points(xyz), tin_of(xyz)):
        assert inspect([each], Silent()) == [[]]


# -- long triangles


def bay(xy):
    return np.hypot(xy[:, 0] - 150.0, xy[:, 1]) > 60.0


def test_long_triangles_lie_across_the_bay_and_their_remedy_takes_them_away():
    xyz = surveyed(where=bay)
    (found,) = look("long-triangles", tin_of(xyz))
    assert "across a bay" in found.text
    assert np.hypot(found.at[0] - E0 - 150.0, found.at[1] - N0) < 60.0
    assert found.remedy.kind == "words"
    assert look("long-triangles", tin_of(xyz, **found.remedy.values)) == []


def test_a_gap_inside_is_told_as_one():
    (found,) = look("long-triangles", tin_of(surveyed(where=lambda xy: np.hypot(*(xy - 150.0).T) > 45.0)))
    assert "across a gap inside" in found.text


def test_dense_beside_sparse_is_no_long_triangle():
    rng = np.random.default_rng(8)
    dense = rng.uniform(0, 100, (6000, 2)) + (E0, N0)
    xyz = np.vstack((surveyed(1500), np.column_stack((dense, gentle(dense)))))
    assert look("long-triangles", tin_of(xyz)) == []


def test_thresholds_count_in_the_unit_of_the_data():
    feet = Frame(None, Unit.FOOT, Unit.FOOT)
    xyz = surveyed(where=bay) * (1 / 0.3048)
    tin = dataclasses.replace(tin_of(xyz), frame=feet)
    assert len(look("long-triangles", tin)) == 1, "20 m are 65.6 ft"
    assert look("long-triangles", tin, least=Length(400.0, Unit.FOOT)) == []


# -- spikes and pits


@pytest.mark.parametrize("kind", ["points", "tin"])
@pytest.mark.parametrize(("height", "word"), [(6.0, "spike"), (-6.0, "pit")])
def test_a_height_beyond_its_neighbours_is_told_with_its_place(kind, height, word):
    xyz = surveyed()
    k = int(np.hypot(xyz[:, 0] - E0 - 150, xyz[:, 1] - N0 - 150).argmin())
    xyz[k, 2] += height
    data = tin_of(xyz) if kind == "tin" else points(xyz, point=np.array([f"P{i}" for i in range(len(xyz))]))
    (found,) = look("spikes", data)
    assert found.at == (xyz[k, 0], xyz[k, 1])
    assert found.text.startswith(f"A {word}")
    if kind == "points":
        assert f"(point P{k})" in found.text
    assert look("spikes", data, height=Length(7.0)) == []


def test_a_spike_in_a_grid_and_none_beside_its_gaps():
    x, y = np.meshgrid(np.arange(40.0), np.arange(30.0))
    heights = 100.0 + 0.2 * x + np.sin(y / 5.0)
    heights[12:15, 20:24] = np.nan
    heights[3, 3] = np.nan
    assert look("spikes", Grid(frame=METRIC, heights=heights, west=E0, north=N0, dx=1, dy=1)) == []
    heights[20, 10] -= 4.0
    (found,) = look("spikes", Grid(frame=METRIC, heights=heights, west=E0, north=N0, dx=1, dy=1))
    assert found.text.startswith("A pit") and found.at == (E0 + 10.5, N0 - 20.5)


def test_a_scan_has_several_heights_at_one_place_by_nature():
    xyz = surveyed(300)
    again = np.vstack((xyz, xyz[:40] + (0, 0, 9.0)))
    (found,) = look("two-heights-here", points(again, intensity=np.zeros(340, np.uint16)))
    assert found.severity is Severity.NOTE and "40 places of 300 places" in found.text


def test_steep_faces_and_piles_are_no_spikes():
    rng = np.random.default_rng(5)
    xy = rng.uniform(0, 200, (5000, 2)) + (E0, N0)
    face = np.clip((xy[:, 0] - E0 - 100.0) * 3.7, 0.0, 12.0)
    pile = np.maximum(9.0 - np.hypot(xy[:, 0] - E0 - 50, xy[:, 1] - N0 - 60) * 0.7, 0.0)
    assert look("spikes", tin_of(np.column_stack((xy, 200.0 + face + pile)))) == []


def test_bushes_are_no_spikes_in_a_classified_cloud():
    xyz = surveyed()
    classes = np.full(len(xyz), 2, np.uint8)
    xyz[::50, 2] += 5.0
    classes[::50] = 5
    assert look("spikes", points(xyz, classification=classes)) == []
    assert look("spikes", points(xyz)) != []


# -- two heights


def test_a_point_given_twice_names_both_points():
    xyz = surveyed()
    again = xyz[[700]] + (0.0, 0.0, 0.3)
    names = np.array([f"{1000 + i}" for i in range(len(xyz))] + ["9000"])
    (found,) = look("two-heights-here", points(np.vstack((xyz, again)), point=names))
    assert "points 1700, 9000" in found.text
    assert "0.300 m apart" in found.text
    assert found.at == (xyz[700, 0], xyz[700, 1])


def test_many_contradictions_are_cut_short_and_counted():
    xyz = surveyed(400)
    found = look("two-heights-here", points(np.vstack((xyz, xyz + (0, 0, 1.0)))))
    assert len(found) == 21
    assert "380 places" in found[-1].text


# -- crossing lines


def crossing(gap):
    one = np.array([(0.0, 0.0, 10.0), (10.0, 10.0, 20.0)]) + (E0, N0, 0)
    other = np.array([(0.0, 10.0, 15.0 + gap), (10.0, 0.0, 15.0 + gap)]) + (E0, N0, 0)
    return from_lines("edges", METRIC, [one, other], ["CREST", "KERB"])


def test_lines_crossing_at_different_heights():
    (found,) = look("crossing-lines", crossing(0.75))
    assert found.at == pytest.approx((E0 + 5.0, N0 + 5.0))
    assert "CREST and KERB" in found.text
    assert "0.750 m apart" in found.text
    assert look("crossing-lines", crossing(0.0)) == []


def test_crossings_are_those_of_a_reference_library():
    rng = np.random.default_rng(11)
    lines = [np.column_stack((rng.uniform(0, 100, (6, 2)), np.full(6, 1.0 + k))) for k in range(12)]
    work = from_lines("mess", METRIC, lines, ["A"] * len(lines))
    shapes = [shapely.LineString(line[:, :2]) for line in lines]
    expected = sum(
        shapely.get_num_geometries(met) * (not met.is_empty)
        for i in range(12)
        for j in range(i)
        if (met := shapely.intersection(shapes[i], shapes[j])) is not None
    )
    found = look("crossing-lines", work)
    told = len(found[:20]) + (int(found[-1].text.split()[2]) if len(found) > 20 else 0)
    assert told == expected, "level lines at different heights: every crossing is a contradiction (shapely)"


# -- flat triangles


def test_contours_make_level_triangles():
    x = np.arange(0.0, 200.0, 4.0)
    lines = []
    for level in range(10):
        # A ridge: each contour bends back along it, and its own vertices are joined across.
        y = 100.0 - 8.0 * level - np.abs(x - 100.0) * 0.2
        lines.append(np.column_stack((x + E0, y + N0, np.full(len(x), 200.0 + 2.0 * level))))
        closed = np.array([(95, 130), (105, 130), (105, 140), (95, 140), (95, 130)], float)
        lines.append(
            np.column_stack((closed[:, 0] + E0 + level * 14 - 70, closed[:, 1] + N0, np.full(5, 200.0 + 2.0 * level)))
        )
    tin = catalog.conversion_named("tin")
    made = tin.run([from_lines("contours", METRIC, lines, ["C"] * len(lines))], tin.params(), Silent()).dataset
    (found,) = look("flat-triangles", made)
    assert found.severity is Severity.WARNING
    assert look("flat-triangles", tin_of(surveyed())) == []


# -- zero heights


def test_zeros_among_heights():
    xyz = surveyed()
    xyz[[3, 9], 2] = 0.0
    (found,) = look("zero-heights", points(xyz))
    assert "2 points" in found.text
    assert found.at == (xyz[3, 0], xyz[3, 1])
    by_the_sea = surveyed()
    by_the_sea[:, 2] -= 240.0
    by_the_sea[5, 2] = 0.0
    assert look("zero-heights", points(by_the_sea)) == []


def test_an_outline_at_zero_is_a_note_and_a_zero_vertex_a_warning():
    edge = np.column_stack((np.arange(8.0) + E0, np.full(8, N0), np.full(8, 200.0)))
    outline = np.array([(0, 0, 0), (50, 0, 0), (50, 50, 0), (0, 0, 0)], float) + (E0, N0, 0)
    broken = edge.copy()
    broken[4, 2] = 0.0
    many = [edge + (0, k, 0) for k in range(20)]
    found = look("zero-heights", from_lines("e", METRIC, [*many, outline, broken], ["EDGE"] * 20 + ["LIMIT", "KERB"]))
    assert [each.severity for each in found] == [Severity.WARNING, Severity.NOTE]
    assert "KERB" in found[0].text and "LIMIT" in found[1].text


# -- units


def test_feet_among_metres_are_told_with_a_remedy_and_metres_among_feet():
    ground = points(surveyed(), name="ground")
    xyz = surveyed(200, seed=4)
    xyz[:, 2] /= 0.3048
    bust = points(xyz, name="bust")
    (found,) = look("wrong-unit", bust, [ground])
    assert "3.281 times those of ground" in found.text
    assert found.remedy.values == {"height": "ft"}
    assert look("wrong-unit", ground, [bust]) == [], "the larger of the two is believed"
    feet = Frame(None, Unit.METRE, Unit.FOOT)
    declared = points(surveyed(200, seed=4), frame=feet, name="really metres")
    in_feet = surveyed()
    in_feet[:, 2] /= 0.3048
    (found,) = look("wrong-unit", declared, [points(in_feet, frame=feet, name="ground")])
    assert found.remedy.values == {"height": "m"}


def test_agreeing_neighbours_outvote_one_bust():
    ground, tin = points(surveyed(), name="ground"), tin_of(surveyed(600, seed=9))
    xyz = surveyed(3000, seed=4)
    xyz[:, 2] /= 0.3048
    bust = points(xyz, name="bust")
    assert len(look("wrong-unit", bust, [ground, tin])) == 1
    assert look("wrong-unit", ground, [bust, tin]) == []


def test_higher_than_any_mountain():
    xyz = surveyed()
    xyz[:, 2] = xyz[:, 2] * 1000.0
    (found,) = look("wrong-unit", points(xyz))
    assert "no ground on Earth" in found.text


# -- gaps


def hole(xy):
    return (np.abs(xy[:, 0] - 140.0) > 35.0) | (np.abs(xy[:, 1] - 160.0) > 35.0)


@pytest.mark.parametrize("kind", ["points", "grid", "tin"])
def test_a_hole_inside_is_a_gap(kind):
    if kind == "grid":
        heights = np.full((100, 100), 200.0)
        heights[40:70, 30:60] = np.nan
        heights[:10] = np.nan
        data = Grid(frame=METRIC, heights=heights, west=E0, north=N0 + 300.0, dx=3.0, dy=3.0)
        middle = (135.0, 135.0)
    else:
        xyz = surveyed(6000, where=hole)
        data = points(xyz) if kind == "points" else tin_of(xyz, max_edge="25m")
        middle = (140.0, 160.0)
    (found,) = look("gaps", data)
    assert np.hypot(found.at[0] - E0 - middle[0], found.at[1] - N0 - middle[1]) < 25.0


def test_a_bay_at_the_rim_is_no_gap():
    assert look("gaps", points(surveyed(6000, where=bay))) == []


# -- given twice, names


def test_a_boundary_given_twice_is_told_whatever_its_start_and_direction():
    ring = np.array([(0, 0), (50, 0), (60, 40), (5, 55), (0, 0)], float) + (E0, N0)
    other = np.vstack((ring[2:4], ring[0:3]))[::-1]
    shapes = [np.column_stack((line, np.zeros(len(line)))) for line in (ring, other, ring + 1.0)]
    work = from_lines("limits", METRIC, shapes, ["LIMIT", "LIMIT_2", "LIMIT"])
    (found,) = look("given-twice", work)
    assert "LIMIT_2 is given also on LIMIT" in found.text
    assert found.severity is Severity.WARNING
    (elsewhere,) = look("given-twice", work.chosen(np.array([0])), [work.chosen(np.array([1])).renamed("old limits")])
    assert "also in old limits" in elsewhere.text


def test_names_used_twice():
    xyz = surveyed(50)
    names = np.array([f"{k}".encode() for k in range(50)])
    names[7] = b"3"
    (found,) = look("name-twice", points(xyz, point=names))
    assert found.text.startswith("Point 3 is there 2 times")
    line = np.array([(E0, N0, 1.0), (E0 + 9, N0, 2.0)])
    records = [Record("alignment", "Road", line, {}), Record("alignment", "Road", line + 1, {})]
    (found,) = look("name-twice", survey_of("s", METRIC, records))
    assert "alignment Road is there twice" in found.text
    (found,) = look("name-twice", points(xyz, name="day1 (2)"), [points(xyz, name="day1")])
    assert found.severity is Severity.NOTE


@pytest.mark.parametrize("check", catalog.CHECKS, ids=lambda check: check.id)
def test_every_check_bears_empty_and_broken_data(check):
    none = np.zeros((0, 3))
    broken = np.array([(np.nan, 1.0, 2.0), (E0, N0, np.nan), (E0, N0, 5.0)])
    able = [
        PointSet(frame=METRIC, xyz=none),
        PointSet(frame=METRIC, xyz=broken),
        from_lines("", METRIC, [], []),
        from_lines("", METRIC, [broken], ["A"]),
        Tin(frame=METRIC, vertices=none, triangles=np.zeros((0, 3), np.int32)),
        Grid(frame=METRIC, heights=np.full((3, 3), np.nan), west=0, north=0, dx=1, dy=1),
    ]
    for data in able:
        if isinstance(data, check.takes):
            assert isinstance(check.run(data, [], check.params(), Silent()), list)
