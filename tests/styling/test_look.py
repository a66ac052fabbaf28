"""Looks and colours: what is coloured by what, what is hidden, and ramps that colour-blind eyes can read."""

import numpy as np
import pytest

from vastgrid import catalog
from vastgrid.base.errors import CallError
from vastgrid.base.progress import Silent
from vastgrid.base.quantities import Unit
from vastgrid.data.frame import Frame
from vastgrid.data.grid import Grid
from vastgrid.data.linework import Contours, from_lines
from vastgrid.data.pointset import PointSet
from vastgrid.data.tin import Tin
from vastgrid.measures.figures import figures_of
from vastgrid.styling import ramps
from vastgrid.styling.colouring import (
    StyledLayer,
    banded,
    face_slopes,
    plain,
    point_colours,
    point_scale,
    shown_points,
    strengths,
    surface_scale,
    surface_values,
)
from vastgrid.styling.look import (
    SurfaceColour,
    choices,
    hidden_at,
    hidden_classes_of,
    hidden_heights_of,
    look_of,
    ranges_text,
)

METRIC = Frame(None, Unit.METRE, Unit.METRE)

# Machado, Oliveira & Fernandes (2009), “A physiologically-based model for simulation of color vision deficiency”,
# severity 1.0; from memory.
DEFICIENCIES = {
    "protan": [(0.152286, 1.052583, -0.204868), (0.114503, 0.786281, 0.099216), (-0.003882, -0.048116, 1.051998)],
    "deutan": [(0.367322, 0.860646, -0.227968), (0.280085, 0.672501, 0.047413), (-0.011820, 0.042940, 0.968881)],
    "tritan": [(1.255528, -0.076749, -0.178779), (-0.078411, 0.930809, 0.147602), (0.004733, 0.691367, 0.303900)],
}


def linear(rgb):
    values = np.asarray(rgb, float) / 255.0
    return np.where(values <= 0.04045, values / 12.92, ((values + 0.055) / 1.055) ** 2.4)


def lab(linear_rgb):
    """CIE 1976 L*a*b* of linear sRGB (IEC 61966-2-1, D65)."""
    m = np.array([(0.4124, 0.3576, 0.1805), (0.2126, 0.7152, 0.0722), (0.0193, 0.1192, 0.9505)])
    xyz = np.clip(linear_rgb, 0, 1) @ m.T / (0.9505, 1.0, 1.089)
    f = np.where(xyz > (6 / 29) ** 3, np.cbrt(xyz), xyz / (3 * (6 / 29) ** 2) + 4 / 29)
    return np.column_stack((116 * f[:, 1] - 16, 500 * (f[:, 0] - f[:, 1]), 200 * (f[:, 1] - f[:, 2])))


def seen(ramp, by, count):
    own = linear(ramp[np.linspace(0, len(ramp) - 1, count).astype(int)])
    return lab(own if by == "all" else own @ np.array(DEFICIENCIES[by]).T)


@pytest.mark.parametrize("by", ["all", *DEFICIENCIES])
@pytest.mark.parametrize("ramp", [ramps.elevation, ramps.steepness, ramps.strength])
def test_steps_of_a_ramp_can_be_told_apart_and_lightness_only_goes_one_way(ramp, by):
    colours = seen(ramp(), by, 9)
    assert np.linalg.norm(np.diff(colours, axis=0), axis=1).min() > 4.0
    lightness = np.diff(colours[:, 0])
    assert (lightness > 0).all() or (lightness < 0).all()


@pytest.mark.parametrize("by", ["all", *DEFICIENCIES])
def test_above_and_below_differ_and_zero_is_the_palest(by):
    colours = seen(ramps.difference(), by, 9)
    assert colours[:, 0].argmax() in (3, 4, 5)
    for k in range(4):
        assert np.linalg.norm(colours[k] - colours[8 - k]) > 9.0
    assert np.abs(ramps.difference()[128].astype(int) - ramps.difference()[127]).max() < 12


def test_aspect_closes():
    ramp = ramps.bearing().astype(int)
    assert np.abs(ramp[0] - ramp[-1]).max() < 12


@pytest.mark.parametrize("by", ["all", "protan", "deutan"])
def test_neighbouring_categories_can_be_told_apart(by):
    colours = seen(np.array([ramps.category(k) for k in range(6)]), by, 6)
    gaps = [np.linalg.norm(colours[i] - colours[j]) for i in range(6) for j in range(i)]
    assert min(gaps) > 8.0


# -- looks


def cloud(n=400):
    rng = np.random.default_rng(1)
    xyz = np.column_stack((rng.uniform(0, 100, (n, 2)), rng.uniform(0, 50, n)))
    return PointSet(
        name="cloud",
        frame=METRIC,
        xyz=xyz,
        attributes={
            "classification": (np.arange(n) % 3).astype(np.uint8),
            "intensity": np.arange(n).astype(np.uint16),
            "red": np.full(n, 256 * 200, np.uint16),
            "green": np.full(n, 256 * 100, np.uint16),
            "blue": np.full(n, 256 * 50, np.uint16),
        },
    )


def colours_by(points, word, **words):
    own = StyledLayer(points, look_of(points, {"colour": word, **words}))
    return point_colours(own, slice(None), points.xyz, point_scale(own, 0.0, 50.0))


def test_points_by_class_intensity_and_true_colour():
    points = cloud()
    by_class = colours_by(points, "class")
    assert len(np.unique(by_class, axis=0)) == 3
    assert (by_class[2] == ramps.classes()[2]).all()
    by_strength = colours_by(points, "intensity").astype(int)
    assert (np.diff(by_strength[20:-20, 0]) >= 0).all() and by_strength[-1, 0] > by_strength[0, 0] + 150
    assert colours_by(points, "true colour").tolist() == [[200, 100, 50]] * 400
    assert len(np.unique(colours_by(points, "one colour", plain="#102030"), axis=0)) == 1
    heights = colours_by(points, "elevation")
    low, high = points.xyz[:, 2].argmin(), points.xyz[:, 2].argmax()
    assert (heights[high].astype(int).sum()) > heights[low].astype(int).sum()


def test_eight_bit_colours_in_sixteen_bits_are_not_black():
    points = cloud()
    eight = {
        name: (np.full(400, 200, np.uint16) if name in ("red", "green", "blue") else own)
        for name, own in points.attributes.items()
    }
    points = PointSet(frame=METRIC, xyz=points.xyz, attributes=eight)
    assert colours_by(points, "true colour")[0].tolist() == [200, 200, 200]


def test_points_by_difference_to_a_surface():
    grid = Grid(name="g", frame=METRIC, heights=np.full((12, 12), 25.0), west=-10, north=110, dx=10, dy=10)
    points = cloud()
    own = StyledLayer(points, look_of(points, {"colour": "difference"}), against=grid)
    scale = point_scale(own, 0.0, 50.0)
    assert scale.low == -scale.high and "Above g" in scale.title
    colours = point_colours(own, slice(None), points.xyz, scale).astype(int)
    above = points.xyz[:, 2] > 35
    assert colours[above, 0].mean() > colours[points.xyz[:, 2] < 15, 0].mean() + 40, "brown above, blue below"


def test_hidden_classes_and_heights():
    points = cloud()
    own = StyledLayer(points, look_of(points, {"hidden": "0, 2", "heights": "0 … 10, 40.5 … 50"}))
    keep = shown_points(own, slice(None), points.xyz)
    z = points.xyz[:, 2]
    assert (keep == ((points.attributes["classification"] == 1) & (z > 10) & (z < 40.5))).all()
    assert shown_points(StyledLayer(points, look_of(points)), slice(None), points.xyz) is None
    assert hidden_classes_of("5; 300, x, 7").nonzero()[0].tolist() == [5, 7]
    assert hidden_heights_of("nonsense, 5 to 2, -3.5..-1") == [(2.0, 5.0), (-3.5, -1.0)]
    assert hidden_heights_of(ranges_text([(1, 2), (2, 3), (5, 6)])) == [(1.0, 3.0), (5.0, 6.0)]
    assert hidden_at(look_of(points), z) is None


def test_a_look_knows_what_makes_sense():
    points = cloud()
    assert choices(points)["colour"] == [
        "elevation", "class", "intensity", "true colour", "source", "difference", "one colour",
    ]  # fmt: skip
    bare = PointSet(frame=METRIC, xyz=points.xyz)
    assert choices(bare)["colour"] == ["elevation", "source", "difference", "one colour"]
    grid = Grid(frame=METRIC, heights=np.zeros((3, 3)), west=0, north=0, dx=1, dy=1)
    assert "source" not in choices(grid)["colour"]
    assert "layer" in choices(from_lines("", METRIC, [], []))["colour"]
    assert look_of(points, {"faces": "wire", "opacity": "40"}).opacity == 40.0, "other kinds' words are passed over"
    with pytest.raises(CallError):
        look_of(points, {"opacity": "140"})


# -- surfaces


def tilted(slope_percent, bearing, frame=METRIC):
    """A plane that falls towards a bearing."""
    b = np.radians(bearing)
    x, y = np.meshgrid(np.arange(0.0, 50.0, 10.0), np.arange(0.0, 50.0, 10.0))
    fall = slope_percent / 100.0
    z = 100.0 - fall * (x * np.sin(b) + y * np.cos(b))
    points = PointSet(frame=frame, xyz=np.column_stack((x.ravel(), y.ravel(), z.ravel())))
    made = catalog.conversion_named("tin")
    return made.run([points], made.params(), Silent()).dataset


@pytest.mark.parametrize("bearing", [0.0, 45.0, 123.0, 270.0])
def test_slope_and_aspect_of_a_plane(bearing):
    slope, aspect = face_slopes(tilted(100.0, bearing))
    assert slope == pytest.approx(45.0)
    assert aspect == pytest.approx(bearing, abs=1e-6)


def test_slope_minds_units():
    feet = Frame(None, Unit.METRE, Unit.FOOT)
    slope, _ = face_slopes(tilted(100.0 / 0.3048, 90.0, feet))
    assert slope == pytest.approx(45.0)


def test_surface_scales_and_values():
    tin = tilted(20.0, 90.0)
    grid = Grid(name="flat", frame=METRIC, heights=np.full((12, 12), 95.0), west=-5, north=105, dx=10, dy=10)
    for word, title in (("slope", "Slope in degrees"), ("aspect", "Aspect"), ("elevation", "Elevation in m")):
        assert surface_scale(StyledLayer(tin, look_of(tin, {"colour": word})), 90, 110).title == title
    own = StyledLayer(tin, look_of(tin, {"colour": "difference"}), against=grid)
    values, per_face = surface_values(own)
    assert not per_face and values == pytest.approx(tin.vertices[:, 2] - 95.0)
    assert surface_scale(own, 90, 110).high == pytest.approx(5.0)
    assert banded(np.array([0.2, 0.9, 1.1]), look_of(tin, {"bands": "1m"}).bands, Unit.METRE).tolist() == [
        0.5,
        0.5,
        1.5,
    ]
    assert look_of(tin, {"colour": "source"}).colour is SurfaceColour.SOURCE


def test_a_surface_by_source_knows_where_its_vertices_came_from():
    west = PointSet(name="west", frame=METRIC, xyz=np.random.default_rng(1).random((200, 3)) * (50, 100, 1))
    east = PointSet(
        name="east", frame=METRIC, xyz=np.random.default_rng(2).random((200, 3)) * (50, 100, 1) + (50, 0, 0)
    )
    made = catalog.conversion_named("tin")
    tin = made.run([west, east], made.params(), Silent()).dataset
    own = StyledLayer(tin, look_of(tin, {"colour": "source"}), sources=(west, east))
    values, per_face = surface_values(own)
    assert per_face
    middle = tin.vertices[tin.triangles].mean(axis=1)[:, 0]
    # Slivers along the hull reach far.
    assert (values[middle < 35] == 0).mean() > 0.95 and (values[middle > 65] == 1).mean() > 0.95
    assert [text for text, _ in surface_scale(own, 0, 1).entries] == ["west", "east"]


def test_one_colour_is_the_one_given():
    tin = tilted(5.0, 0.0)
    assert (surface_scale(plain(tin, "#123456"), 0, 1).colours[0] == (0x12, 0x34, 0x56)).all()


# -- figures


def test_areas_of_a_tilted_plane():
    rows = dict(figures_of(tilted(75.0, 90.0)).rows)
    # A 3-4-5 slope: a plan area of 40 × 40 is 5/4 as large along the slope.
    assert rows["Plan area"] == "1\u202f600.0 m²" and rows["Surface area"] == "2\u202f000.0 m²"


def test_slope_area_minds_units():
    feet = Frame(None, Unit.METRE, Unit.FOOT)
    rows = dict(figures_of(tilted(75.0 / 0.3048, 90.0, feet)).rows)
    assert rows["Surface area"] == "2\u202f000.0 m²"


def test_histograms_count_everything():
    points = cloud()
    made = figures_of(points)
    heights, classes = made.histograms
    assert heights.counts.sum() == 400 and classes.counts.tolist() == [134, 133, 133]
    assert classes.names[2] == "2 ground"
    assert made.density.sum() * (max(np.ptp(points.xyz[:, 0]), np.ptp(points.xyz[:, 1])) / 64) ** 2 == pytest.approx(
        400
    )
    edges = figures_of(tilted(5.0, 0.0)).histograms[1]
    assert edges.title == "Edge lengths in plan" and edges.counts.sum() == 56
    assert "2 ground\t133" in made.text()


def test_figures_of_nothing():
    none = PointSet(frame=METRIC, xyz=np.zeros((0, 3)))
    assert figures_of(none).rows == () and figures_of(none).histograms == ()
    empty = Tin(frame=METRIC, vertices=np.zeros((0, 3)), triangles=np.zeros((0, 3), np.int32))
    assert figures_of(empty).histograms[0].counts.sum() == 0
    assert figures_of(Grid(frame=METRIC, heights=np.full((3, 3), np.nan), west=0, north=0, dx=1, dy=1)).rows
    assert figures_of(from_lines("", METRIC, [], [])).rows == ()


def test_a_surface_that_came_in_has_no_sources_to_tell_apart():
    tin = tilted(5.0, 0.0)
    assert "source" not in choices(tin, made=False)["colour"] and "colour" not in choices(tin)


# -- contours fade where there is no room for them


def parallels(count=101, gap=4.0, length=1000.0, every=5):
    """Straight contours a known distance apart; each fifth is an index contour."""
    lines = [np.array([(0.0, k * gap), (length / 2, k * gap), (length, k * gap)]) for k in range(count)]
    return Contours(
        frame=Frame(None, Unit.METRE, Unit.METRE),
        plan=np.concatenate(lines) + (431_000.0, 887_000.0),
        offsets=np.arange(count + 1) * 3,
        levels=200.0 + np.arange(count),
        index=np.arange(count) % every == 0 if every else np.zeros(count, np.bool_),
        interval=1.0,
    )


def test_the_distance_from_contour_to_contour():
    every, index = parallels().spacing()
    # 100 gaps lie between 101 lines.
    assert every == pytest.approx(4.0 * 100 / 101) and index == pytest.approx(20.0 * 20 / 21)
    assert parallels(every=0).spacing()[1] == np.inf
    lone = parallels(count=1)
    assert lone.spacing() == pytest.approx((100.0, 100.0)), "a single straight line is not crowded"


@pytest.mark.parametrize(
    ("pixel", "minor", "index"),
    [(0.1, 1.0, 1.0), (0.5, 1.0, 1.0), (1.0, 0.42, 1.0), (2.0, 0.0, 1.0), (5.0, 0.0, 0.375), (100.0, 0.0, 0.35)],
)
def test_minor_contours_give_way_before_index_contours(pixel, minor, index):
    assert strengths(parallels(), pixel) == pytest.approx((minor, index), abs=0.02)


def test_contours_without_index_contours_stay_in_sight():
    assert strengths(parallels(every=0), 100.0)[0] == 0.35


def test_a_small_plan_of_many_contours_is_no_blot():
    from PyQt6.QtGui import QImage

    from vastgrid.qt.drawing import rendering
    from vastgrid.qt.drawing.view import View
    from vastgrid.qt.widgets import theme

    contours = parallels()
    shares = []
    for size in (0.4, 3.0):
        view = View(431_500.0, 887_200.0, size, round(1000 / size), round(400 / size))
        image = rendering.draw([contours], view, theme.LIGHT, labels=False).convertToFormat(QImage.Format.Format_ARGB32)
        data = np.frombuffer(image.constBits().asarray(image.sizeInBytes()), np.uint8)
        shares.append(data.reshape(image.height(), image.width(), 4)[:, :, 3].mean() / 255.0)
    # Drawn at full strength, 101 lines on 133 rows would cover about half of them.
    assert 0.1 < shares[1] < 0.25
    small = rendering.draw([parallels(every=0)], View(431_500.0, 887_200.0, 20.0, 60, 40), theme.LIGHT, small=True)
    assert max(small.pixelColor(30, y).alpha() for y in range(40)) > 40, "a card shows contours of any kind"
