"""Curves and spirals of alignments against exact integrals and geometry."""

import json
import math

import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st
from scipy.special import fresnel

from builders import METRES
from vastgrid.base.quantities import Unit
from vastgrid.data.survey import Record, Survey, survey_of
from vastgrid.terrain.lines.alignment import drawn, profile_heights, with_profile
from vastgrid.terrain.place.units import in_units


def clothoid_end(radius, length):
    """By Fresnel's integrals: x = a C(s/a), y = a S(s/a) with a = sqrt(π R L)."""
    a = math.sqrt(math.pi * radius * length)
    s, c = fresnel(length / a)
    return a * c, a * s


@settings(max_examples=40, deadline=None)
@given(st.floats(40, 2000), st.floats(10, 300), st.sampled_from(["cw", "ccw"]), st.floats(0, 6.28))
def test_clothoids(radius, length, rot, heading):
    if length > 1.5 * radius:
        return
    x, y = clothoid_end(radius, length)
    y = -y if rot == "cw" else y
    turn = np.array([[math.cos(heading), -math.sin(heading)], [math.sin(heading), math.cos(heading)]])
    start = np.array((431_000.0, 887_000.0))
    spiral = {
        "kind": "spiral",
        "spiral": "clothoid",
        "rot": rot,
        "length": length,
        "radius_start": 0.0,
        "radius_end": radius,
        "start": start.tolist(),
        "pi": (start + turn @ (length / 2, 0)).tolist(),
        "end": (start + turn @ (x, y)).tolist(),
    }
    findings = []
    line = drawn([spiral], 0.005, "s", findings)
    assert findings == [], "the integral ends where Fresnel's does"
    assert line[0, :2].tolist() == start.tolist()
    middle = start + turn @ np.array(clothoid_at(radius, length, 0.5, rot))
    assert np.hypot(*(line[:, :2] - middle).T).min() < length / len(line) + 0.01
    along = np.hypot(*np.diff(line[:, :2], axis=0).T).sum()
    assert along == pytest.approx(length, rel=1e-4)


def clothoid_at(radius, length, share, rot):
    a = math.sqrt(math.pi * radius * length)
    s, c = fresnel(share * length / a)
    return a * c, -a * s if rot == "cw" else a * s


def test_a_spiral_whose_end_is_wrong_is_told():
    spiral = {
        "kind": "spiral", "spiral": "clothoid", "rot": "ccw", "length": 60.0, "radius_start": 0.0, "radius_end": 200.0,
        "start": [0.0, 0.0], "pi": [40.0, 0.0], "end": [59.0, 9.0],
    }  # fmt: skip
    findings = []
    line = drawn([spiral], 0.01, "ramp", findings)
    assert "A spiral of ramp ends" in findings[0].text and line[-1, :2].tolist() == [59.0, 9.0]


@pytest.mark.parametrize("kind", ["bloss", "sinusoid", "cosine", "biquadratic", "cubic"])
def test_other_spirals_turn_by_the_same_angle(kind):
    """Whatever the growth, curvature's mean is half its end where growth is even about the middle."""
    spiral = {
        "kind": "spiral", "spiral": kind, "rot": "ccw", "length": 60.0, "radius_start": 0.0, "radius_end": 200.0,
        "start": [0.0, 0.0], "pi": [40.0, 0.0], "end": [59.87, 2.6],
    }  # fmt: skip
    line = drawn([spiral], 0.001, "s", [])
    last = np.diff(line[-2:, :2], axis=0)[0]
    assert math.atan2(last[1], last[0]) == pytest.approx(60.0 / 400.0, abs=0.02)


@settings(max_examples=60, deadline=None)
@given(st.floats(1, 5000), st.floats(0.01, 6.2), st.sampled_from(["cw", "ccw"]), st.floats(0.001, 0.5))
def test_arcs_keep_to_their_chord(radius, turn, rot, chord):
    centre = np.array((1000.0, 2000.0))
    first = 0.7
    last = first - turn if rot == "cw" else first + turn
    start, end = (centre + radius * np.array((math.cos(angle), math.sin(angle))) for angle in (first, last))
    curve = {"kind": "curve", "rot": rot, "start": start.tolist(), "end": end.tolist(), "centre": centre.tolist()}
    line = drawn([curve], chord, "c", [])
    away = np.hypot(*(line[:, :2] - centre).T)
    np.testing.assert_allclose(away, radius, rtol=1e-9)
    middles = np.hypot(*((line[1:, :2] + line[:-1, :2]) / 2 - centre).T)
    assert radius - middles.min() <= chord * (1 + 1e-6)
    length = np.hypot(*np.diff(line[:, :2], axis=0).T).sum()
    assert length <= radius * turn + 1e-9
    np.testing.assert_allclose(line[[0, -1], :2], [start, end])


def test_elements_join_without_doubled_vertices():
    parts = [
        {"kind": "line", "start": [0.0, 0.0, 1.0], "end": [10.0, 0.0, 2.0]},
        {"kind": "course", "points": [[10.0, 0.0], [12.0, 1.0], [15.0, 1.0]]},
    ]
    line = drawn(parts, 0.01, "p", [])
    assert line[:, :2].tolist() == [[0, 0], [10, 0], [12, 1], [15, 1]] and line[1, 2] == 2.0


def test_a_profile_adds_what_its_curves_need():
    line = np.array([(0.0, 0.0, np.nan), (400.0, 0.0, np.nan)])
    pvis = [
        {"station": 100.0, "elevation": 50.0},
        {"station": 300.0, "elevation": 58.0, "kind": "parabola", "length": 120.0},
        {"station": 500.0, "elevation": 52.0},
    ]
    made = with_profile(line, 100.0, pvis, 0.005)
    assert made[0, 2] == 50.0 and made[-1, 2] == 52.0 and len(made) > 10
    s = np.linspace(100.0, 500.0, 4001)
    exact = profile_heights(s, pvis)
    chords = np.interp(s - 100.0, made[:, 0], made[:, 2])
    assert np.abs(chords - exact).max() <= 0.005 + 1e-9


def test_two_parabolas_meet_at_the_intersection():
    pvis = [
        {"station": 0.0, "elevation": 10.0},
        {"station": 100.0, "elevation": 14.0, "kind": "two parabolas", "length_in": 30.0, "length_out": 50.0},
        {"station": 200.0, "elevation": 11.0},
    ]
    g1, g2 = 0.04, -0.03
    offset = (g2 - g1) * 30.0 * 50.0 / (2 * 80.0)
    z = profile_heights(np.array([70.0, 100.0, 150.0, 100.0 - 1e-6, 100.0 + 1e-6]), pvis)
    np.testing.assert_allclose(z[:3], [12.8, 14.0 + offset, 12.5], atol=1e-9)
    np.testing.assert_allclose(z[3:], 14.0 + offset, atol=1e-6)


def test_profiles_that_say_little():
    assert np.isnan(profile_heights(np.array([1.0]), [])).all()
    one = profile_heights(np.array([0.0, 5.0, 9.0]), [{"station": 5.0, "elevation": 3.0}])
    assert np.isnan(one[[0, 2]]).all() and one[1] == 3.0


def test_records_follow_units_throughout():
    exact = {
        "geometry": [
            {"kind": "curve", "radius": 100.0, "start": [1.0, 2.0, 3.0], "points": [[1.0, 2.0], [4.0, 5.0, 6.0]]}
        ],
        "station": 1000.0,
        "area": 200.0,
        "profile": [{"station": 10.0, "elevation": 7.0}],
        "about": {"desc": "kept"},
        "flag": True,
    }
    survey = survey_of("s", METRES, [Record("parcel", "p", np.array([(1.0, 2.0, 3.0)]), exact)])
    feet = in_units(survey, Unit.FOOT, Unit.METRE)
    got = json.loads(feet.exact[0])
    ratio = 1 / 0.3048
    element = got["geometry"][0]
    assert element["radius"] == pytest.approx(100 * ratio)
    assert element["start"] == pytest.approx([ratio, 2 * ratio, 3.0])
    assert element["points"][1] == pytest.approx([4 * ratio, 5 * ratio, 6.0])
    assert got["station"] == pytest.approx(1000 * ratio) and got["area"] == pytest.approx(200 * ratio**2)
    assert got["profile"][0] == pytest.approx({"station": 10 * ratio, "elevation": 7.0})
    assert got["about"] == {"desc": "kept"} and got["flag"] is True
    back = in_units(feet, Unit.METRE, Unit.METRE)
    assert json.loads(back.exact[0])["area"] == pytest.approx(200.0)


def test_records_need_one_of_each():
    with pytest.raises(ValueError, match="another length"):
        Survey(
            name="s", vertices=np.zeros((1, 3)), offsets=np.array([0, 1]), roles=("parcel",), names=(), exact=("{}",)
        )
