"""Where heights meet: ends on lines, lines along lines, points on lines; and what counts as one place."""

import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from builders import METRES
from vastgrid.base.progress import Silent
from vastgrid.conversions.surfaces.tin import Meeting, TinParams, run, settle
from vastgrid.data.linework import from_lines
from vastgrid.data.pointset import PointSet
from vastgrid.kernels.triangles.crossings import on_segments
from vastgrid.kernels.triangles.topology import group_places
from vastgrid.measures.heights import heights

CORNERS = [(0, 0, 0), (100, 0, 0), (100, 100, 0), (0, 100, 0)]
A = np.array([(10, 50, 5), (90, 50, 5.0)])


def built(rule, lines, points=(), **options):
    cloud = PointSet(name="p", frame=METRES, xyz=np.array([*CORNERS, *points], float))
    work = from_lines("b", METRES, [np.array(line, float) for line in lines], [f"L{k}" for k in range(len(lines))])
    params = settle([cloud, work], TinParams(heights=rule, **options))
    return run([cloud, work], params, Silent())


def z_at(result, *places):
    return heights(result.dataset, np.array(places, float)).round(6).tolist()


@pytest.mark.parametrize(
    ("rule", "height"),
    [(Meeting.LOWEST, 5), (Meeting.HIGHEST, 8), (Meeting.MEAN, 6.5), (Meeting.FIRST, 5), (Meeting.LAST, 8)],
)
def test_a_line_that_ends_on_another(rule, height):
    result = built(rule, [A, [(50, 50, 8), (50, 90, 9)]])
    assert z_at(result, (50, 50)) == [height]
    (told,) = [finding for finding in result.findings if finding.code == "touching-breaklines"]
    assert "at most 3.000 m apart (E 50.000, N 50.000)" in told.text and f"the {rule.value} counts" in told.text
    assert told.severity.value == ("warning" if rule is Meeting.MEAN else "note"), "said outright, it is decided"
    assert result.loss.largest == pytest.approx(max(abs(height - 5), abs(height - 8)))


@pytest.mark.parametrize(
    ("rule", "along"), [(Meeting.LOWEST, [5, 5, 5]), (Meeting.HIGHEST, [9, 9, 9]), (Meeting.MEAN, [7, 7, 7])]
)
def test_lines_that_run_along_each_other(rule, along):
    result = built(rule, [[(10, 50, 5), (70, 50, 5)], [(30, 50, 9), (90, 50, 9)]])
    assert z_at(result, (30, 50), (50, 50), (70, 50)) == along
    assert result.loss.largest >= 2.0


@pytest.mark.parametrize(
    ("rule", "height"),
    [(Meeting.LOWEST, 5), (Meeting.HIGHEST, 30), (Meeting.MEAN, 17.5), (Meeting.FIRST, 30), (Meeting.LAST, 5)],
)
def test_a_point_on_a_line(rule, height):
    result = built(rule, [A], [(50, 50, 30)])
    assert z_at(result, (50, 50)) == [height]
    assert built(rule, [A], [(50, 50.0008, 30)]).findings, "as near as one place, it lies on the line"
    assert not [f for f in built(rule, [A], [(50, 50.3, 30)]).findings if f.code == "touching-breaklines"]


def test_equal_heights_are_only_noted():
    result = built(Meeting.LOWEST, [A, [(50, 50, 5), (50, 90, 9)]])
    assert [f.severity.value for f in result.findings if f.code == "touching-breaklines"] == ["note"]


@pytest.mark.parametrize(
    ("rule", "height"), [(Meeting.FIRST, 5), (Meeting.LAST, 15), (Meeting.HIGHEST, 15), (Meeting.LOWEST, 5)]
)
def test_first_and_last_follow_the_order_of_the_input(rule, height):
    crossing = [(50, 90, 15), (50, 10, 15)]
    assert z_at(built(rule, [A, crossing]), (50, 50)) == [height]
    turned = {Meeting.FIRST: 15, Meeting.LAST: 5}.get(rule, height)
    assert z_at(built(rule, [crossing, A]), (50, 50)) == [turned]


def test_what_crossing_lines_cost_is_told():
    result = built(Meeting.LOWEST, [A, [(50, 10, 15), (50, 90, 15)]])
    assert result.loss.largest == pytest.approx(10.0) and result.loss.at == pytest.approx((50.0, 50.0))


def test_places_closer_than_said_are_one():
    for gap, vertices in ((0.0006, 5), (0.00099, 5), (0.0011, 6)):
        result = built(Meeting.FIRST, [], [(5, 5, 1), (5 + gap, 5, 9)])
        assert len(result.dataset.vertices) == vertices


@given(st.integers(0, 100_000), st.sampled_from([0.0, 0.01, 0.3, 2.0]))
@settings(max_examples=60, deadline=None)
def test_places_against_every_pair(seed, tolerance):
    """The rule by hand: a point joins the nearest place that began closer than the tolerance, or begins one."""
    rng = np.random.default_rng(seed)
    xy = np.round(rng.uniform(-5, 5, (80, 2)), int(rng.integers(0, 4)))
    group, first = group_places(xy[:, 0].copy(), xy[:, 1].copy(), tolerance)
    began = []
    for k, place in enumerate(xy):
        away = [np.hypot(*(place - xy[j])) for j in began]
        near = [n for n, gap in enumerate(away) if gap < tolerance - 1e-9 or gap == 0.0]
        # As far away as the tolerance but for rounding: it may be one or not.
        perhaps = [n for n, gap in enumerate(away) if tolerance and abs(gap - tolerance) <= 1e-9]
        if near:
            assert group[k] in near and away[group[k]] <= min(away[n] for n in near) + 1e-12
        elif group[k] not in perhaps:
            assert group[k] == len(began)
            began.append(k)
    assert first.tolist() == began


@given(st.integers(0, 100_000))
@settings(max_examples=60, deadline=None)
def test_places_on_segments_against_every_pair(seed):
    rng = np.random.default_rng(seed)
    ends = rng.integers(0, 12, (14, 2, 2)).astype(float)
    xy = np.concatenate((rng.integers(0, 12, (40, 2)), ends.mean(axis=1)[:5])).astype(float)
    pairs, shares = on_segments(xy, ends[:, 0], ends[:, 1], 1e-6)
    expected = set()
    for s, (a, b) in enumerate(ends):
        for p, place in enumerate(xy):
            along = b - a
            if not along.any():
                continue
            t = (place - a) @ along / (along @ along)
            if (
                0 < t < 1
                and np.hypot(*(a + t * along - place)) <= 1e-6
                and min(np.hypot(*(place - a)), np.hypot(*(place - b))) > 1e-6
            ):
                expected.add((p, s))
    assert set(map(tuple, pairs.tolist())) == expected
    where = ends[pairs[:, 1], 0] + shares[:, None] * (ends[pairs[:, 1], 1] - ends[pairs[:, 1], 0])
    assert np.abs(where - xy[pairs[:, 0]]).max(initial=0.0) < 1e-6


def test_inspect_sees_what_the_tin_would_have_to_decide(run_cli, tmp_path):
    import ezdxf

    document = ezdxf.new("R2018")
    document.header["$INSUNITS"] = 6
    for layer, line in (("A", A), ("B", [(50, 50, 8), (50, 90, 9)]), ("C", [(30, 50, 9), (100, 50, 9)])):
        document.modelspace().add_polyline3d(line, dxfattribs={"layer": layer})
    document.saveas(tmp_path / "l.dxf")
    (tmp_path / "p.csv").write_text("E [m],N [m],Z [m]\n20,50,30\n0,0,0\n1,1,1\n")
    _, out, _ = run_cli("inspect", tmp_path / "l.dxf", tmp_path / "p.csv")
    for words in (
        "A point of p lies on A",
        "A vertex of C lies on A",
        "A and B cross",
        "25.000 m apart",
        "3.000 m apart",
    ):
        assert words in out, words
