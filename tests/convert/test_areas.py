"""Areas made from lines, outlines and bands, and what keeps to them: against GEOS, SciPy's Delaunay and closed forms."""

import dataclasses

import numpy as np
import pyproj
import pytest
import shapely
from hypothesis import given, settings
from hypothesis import strategies as st
from scipy.spatial import Delaunay

from builders import METRES, ORIGIN, ground, scattered
from vastgrid import catalog
from vastgrid.base.errors import CallError, DataError
from vastgrid.base.progress import Silent
from vastgrid.base.quantities import Unit
from vastgrid.data.areas import Areas, from_shapes
from vastgrid.data.frame import frame_of_crs
from vastgrid.data.grid import Grid
from vastgrid.data.linework import from_lines
from vastgrid.data.pointset import PointSet
from vastgrid.data.tin import Tin, areas
from vastgrid.declarations.conversion import Inputs
from vastgrid.execution.steps import convert, roles_of
from vastgrid.kernels.drawing.fills import draw_areas
from vastgrid.params import declare
from vastgrid.terrain.areas.outlines import outline_of


def made(operation, *sources, **words):
    conversion = catalog.conversion_named(operation)
    own = Inputs.of_pairs(zip(roles_of(conversion, sources), sources, strict=True))
    params = declare.build(conversion.params, {name.rstrip("_"): str(word) for name, word in words.items()})
    return convert(conversion, own, params, Silent())[0]


def ring(west, south, east, north, z=0.0):
    return np.array([(west, south, z), (east, south, z), (east, north, z), (west, north, z), (west, south, z)], float)


def plateau(size=100):
    """Level ground at 10 with cells of 1, its corner at 0."""
    return Grid(
        name="Pad", frame=METRES, heights=np.full((size, size), 10.0), west=0.0, north=float(size), dx=1.0, dy=1.0
    )


ZONES = from_shapes(
    [shapely.box(10, 10, 50, 50).difference(shapely.box(20, 20, 30, 40)), shapely.box(60, 60, 80, 90)],
    name="zones", frame=METRES, attributes={"name": np.array([b"North", b"South"])},
)  # fmt: skip


# ------------------------------------------------------------------------------------------------ from lines, and back


def test_nesting_gives_holes_and_areas_in_holes_again():
    rings = [ring(0, 0, 100, 100), ring(10, 10, 90, 90), ring(20, 20, 40, 40), ring(200, 0, 210, 10)]
    lines = from_lines("plots", METRES, [rings[k] for k in (2, 0, 3, 1)], ["P"] * 4)
    lines = dataclasses.replace(lines, attributes={"no": np.array([2, 0, 3, 1])})
    result = made("areas", lines)
    own = result.dataset
    assert own.count() == {"areas": 3, "rings": 4, "vertices": 20}
    assert dict(zip(own.attributes["no"].tolist(), own.sizes().tolist(), strict=True)) == {
        0: 3600.0,
        2: 400.0,
        3: 100.0,
    }
    assert "1 line inside another" in " ".join(finding.text for finding in result.findings)


def test_lines_of_another_layer_are_no_holes():
    lines = from_lines("plots", METRES, [ring(0, 0, 100, 100), ring(10, 10, 20, 20)], ["PLOT", "HOUSE"])
    assert made("areas", lines).dataset.sizes().tolist() == [10_000.0, 100.0]


def test_lines_that_nearly_close_and_lines_given_twice():
    near = ring(0, 0, 10, 10)[:-1]
    near = np.concatenate((near, near[:1] + (0.04, 0.0, 0.0)))
    lines = from_lines(
        "plots", METRES, [near, ring(20, 0, 30, 10), ring(20, 0, 30, 10)[::-1], ring(40, 0, 50, 9)[:-1]], ["P"] * 4
    )
    strict = made("areas", lines)
    assert len(strict.dataset) == 1 and "close=0.04m would take" in " ".join(f.text for f in strict.findings)
    result = made("areas", lines, close="0.05m")
    assert sorted(result.dataset.sizes()) == pytest.approx([100.0, 100.0])
    codes = {finding.code: finding.text for finding in result.findings}
    assert codes["ring-closed"].startswith("1 line that nearly closes (by 0.04 m")
    assert codes["given-twice"].startswith("1 closed line") and codes["open-boundary"].startswith("1 line is open")
    with pytest.raises(DataError, match="the nearest to it is open by 9 m"):
        made("areas", from_lines("one", METRES, [ring(40, 0, 50, 9)[:-1]], ["P"]))


def test_a_hole_along_the_rim_is_taken_off():
    lines = from_lines("plots", METRES, [ring(0, 0, 10, 10), ring(0, 2, 5, 8)], ["P"] * 2)
    own = made("areas", lines).dataset
    assert own.sizes() == pytest.approx([70.0]) and shapely.is_valid(own.shapes()).all()


@settings(deadline=None, max_examples=60)
@given(st.integers(0, 10_000))
def test_areas_to_lines_and_back_are_the_same_ground(seed):
    rng = np.random.default_rng(seed)
    blobs = shapely.union_all(
        shapely.buffer(shapely.points(rng.random((12, 2)) * 60), 3 + 6 * rng.random(12), quad_segs=3)
    )
    blobs = blobs.difference(
        shapely.union_all(shapely.buffer(shapely.points(rng.random((12, 2)) * 60), 2.0, quad_segs=3))
    )
    start = from_shapes([blobs], name="ground", frame=METRES)
    back = made("areas", made("lines", start).dataset).dataset
    assert back.sizes().sum() == pytest.approx(blobs.area, rel=1e-9)
    assert shapely.union_all(back.shapes()).symmetric_difference(blobs).area < 1e-9 * blobs.area


# ------------------------------------------------------------------------------------------------------------ outlines


@settings(deadline=None, max_examples=40)
@given(st.integers(0, 10_000), st.floats(0.05, 0.7))
def test_the_outline_of_a_grid_follows_its_cells(seed, share):
    rng = np.random.default_rng(seed)
    z = rng.random((9, 12))
    z[rng.random(z.shape) < share] = np.nan
    z[4, 4] = 1.0
    grid = Grid(name="DEM", frame=METRES, heights=z, west=431000.0, north=887000.0, dx=2.0, dy=0.5)
    own = outline_of(grid, None)
    row, column = np.nonzero(np.isfinite(z))
    cells = shapely.box(431000 + 2 * column, 887000 - 0.5 * row, 431002 + 2 * column, 886999.5 - 0.5 * row)
    whole = shapely.union_all(cells)
    (shape,) = own.shapes()
    assert shape.is_valid and shape.equals(whole) and own.sizes() == pytest.approx([whole.area], rel=1e-12)
    assert own.rings == sum(1 + len(p.interiors) for p in shapely.get_parts(whole)), "no rim is parted needlessly"


@settings(deadline=None, max_examples=40)
@given(st.integers(0, 10_000), st.floats(0.1, 0.9))
def test_the_outline_of_a_tin_is_the_union_of_its_triangles(seed, share):
    rng = np.random.default_rng(seed)
    tin = ground(60, seed=seed)
    kept = tin.triangles[rng.random(len(tin.triangles)) < share]
    kept = kept if len(kept) else tin.triangles[:1]
    part = Tin(name="Part", frame=METRES, vertices=tin.vertices, triangles=kept)
    own = outline_of(part, None)
    (shape,) = own.shapes()
    assert shape.is_valid and own.sizes()[0] == pytest.approx(np.abs(areas(part)).sum(), rel=1e-12)
    whole = shapely.union_all(shapely.polygons(tin.vertices[kept][:, :, :2]))
    assert shape.symmetric_difference(whole).area < 1e-9 * whole.area
    places = {tuple(each) for each in tin.vertices.tolist()}
    assert {tuple(each) for each in own.vertices.tolist()} <= places, "corners of the rim, with their heights"


def test_the_hull_of_points_and_a_closer_one():
    points = scattered(800, seed=5)
    hull = made("outline", points).dataset
    assert hull.shapes()[0].equals(shapely.convex_hull(shapely.multipoints(points.xyz[:, :2])))
    close = made("outline", points, length="9m").dataset
    corner = points.xyz[Delaunay(points.xyz[:, :2] - points.xyz[:, :2].mean(axis=0)).simplices][:, :, :2]
    side = np.hypot(*(np.roll(corner, -1, axis=1) - corner).transpose(2, 0, 1)).max(axis=1)
    whole = shapely.union_all(shapely.polygons(corner[side <= 9.0]))
    assert close.shapes()[0].symmetric_difference(whole).area < 1e-6 and close.rings > 1
    with pytest.raises(CallError, match="rim of its own"):
        made("outline", ground(50), length="9m")
    with pytest.raises(DataError, match="one line"):
        made("outline", PointSet(name="row", xyz=np.column_stack((np.arange(5.0), np.arange(5.0), np.zeros(5)))))


def test_an_outline_within_a_drawn_area():
    own = made("outline", plateau(), area="10 10, 40 10, 40 200, 10 200").dataset
    assert own.sizes() == pytest.approx([30 * 90.0])
    with pytest.raises(DataError, match="lies beside"):
        made("outline", plateau(), area="500 500, 600 500, 600 600")


# ------------------------------------------------------------------------------------------------- what keeps to areas


def near(count, **words):
    """Points on the first hundred metres."""
    points = scattered(count, size=(100.0, 100.0), **words)
    return dataclasses.replace(points, xyz=points.xyz - (*ORIGIN, 0.0))


def inside(xy):
    return shapely.intersects_xy(shapely.union_all(ZONES.shapes()), *np.asarray(xy).T)


def test_a_tin_keeps_to_areas_with_their_holes():
    points = near(900, seed=2)
    whole = outline_of(made("tin", points).dataset, None).shapes()[0]
    result = made("tin", points, ZONES)
    wanted = whole.intersection(shapely.union_all(ZONES.shapes())).area
    assert np.abs(areas(result.dataset)).sum() == pytest.approx(wanted, rel=1e-9)
    one = ZONES.chosen(np.array([0]))
    limited = made("tin", points, one).dataset
    again = made("tin", limited).dataset
    assert np.abs(areas(again)).sum() == pytest.approx(np.abs(areas(limited)).sum(), rel=1e-9), "it knows its limit"


def test_a_grid_keeps_to_areas_with_their_holes():
    own = made("grid", plateau(), ZONES, cell="1m").dataset
    row, column = np.nonzero(np.isfinite(own.heights))
    assert len(row) == 40 * 40 - 10 * 20 + 20 * 30
    assert inside(np.column_stack((own.eastings()[column], own.northings()[row]))).all()


def test_contours_keep_to_areas_with_their_holes():
    z = np.tile(np.arange(100.0), (100, 1))
    ramp = Grid(name="Ramp", frame=METRES, heights=z, west=0.0, north=100.0, dx=1.0, dy=1.0)
    own = made("contours", ramp, ZONES, interval="5m").dataset
    free = made("contours", ramp, interval="5m").dataset
    lines = [shapely.LineString(free.plan[a:b]) for a, b in zip(free.offsets[:-1], free.offsets[1:], strict=True)]
    wanted = sum(line.intersection(shapely.union_all(ZONES.shapes())).length for line in lines)
    assert own.lengths().sum() == pytest.approx(wanted, rel=1e-9)


def test_what_is_shown_beforehand_keeps_to_areas_too():
    for operation, words in (("grid", {"cell": "1m"}), ("contours", {"interval": "5m"})):
        conversion = catalog.conversion_named(operation)
        surface = dataclasses.replace(plateau(), heights=np.tile(np.arange(100.0), (100, 1)))
        own = Inputs.of_pairs([("surface", surface), ("limit", ZONES)])
        params = conversion.settle(own, declare.build(conversion.params, words))
        shown = conversion.preview(own, params, Silent())
        assert shown is not None and shown.extent() == convert(conversion, own, params, Silent())[0].dataset.extent()


def test_volumes_by_area_leave_holes_out_and_are_named():
    base, top = plateau(), dataclasses.replace(plateau(), heights=np.full((100, 100), 12.5))
    conversion = catalog.conversion_named("volumes")
    own = Inputs.of_pairs([("base", base), ("top", top), ("inside", ZONES)])
    result = convert(conversion, own, conversion.params(), Silent())[0]
    parts = {each["name"]: each["fill"] for each in result.figures["volumes"]["parts"]}
    assert parts == pytest.approx({"North": 1400 * 2.5, "South": 600 * 2.5}, rel=1e-9)


def test_overlapping_areas_count_once_as_a_limit():
    both = from_shapes([shapely.box(10, 10, 40, 40), shapely.box(20, 20, 30, 30)], name="two", frame=METRES)
    kept = made("clip", plateau(), both).dataset
    assert np.isfinite(kept.heights).sum() == 900, "one area in another is no hole: that is what holes are for"
    lines = made("lines", both).dataset
    assert np.isfinite(made("clip", plateau(), lines).dataset.heights).sum() == 800, "of closed lines it is one"


@pytest.mark.parametrize("side", ["inside", "outside"])
def test_areas_are_clipped_exactly(side):
    limit = from_shapes([shapely.box(0, 0, 25, 30)], name="limit", frame=METRES)
    conversion = catalog.conversion_named("clip")
    own = Inputs.of_pairs([("data", ZONES), ("limit", limit)])
    made_ = convert(conversion, own, declare.build(conversion.params, {"side": side}), Silent())[0].dataset
    cut = [
        each.intersection(limit.shapes()[0]) if side == "inside" else each.difference(limit.shapes()[0])
        for each in ZONES.shapes()
    ]
    assert made_.sizes() == pytest.approx([each.area for each in cut if each.area], rel=1e-12)
    assert made_.attributes["name"].tolist() == ([b"North"] if side == "inside" else [b"North", b"South"])


def test_a_ring_that_begins_without_a_height_stays_closed():
    xyz = np.array([(0, 0, np.nan), (10, 0, 5), (10, 10, 6), (0, 10, 7), (0, 0, np.nan)], float)
    start = np.array([0, 1])
    own = Areas(
        name="one",
        frame=METRES,
        vertices=xyz,
        offsets=np.array([0, 5]),
        parts=start,
        members=start,
        layer=np.zeros(1, int),
    )
    assert shapely.get_num_coordinates(own.shapes(plan=False)).tolist() == [5]
    limit = from_shapes([shapely.box(-1, -1, 5, 20)], name="limit", frame=METRES)
    conversion = catalog.conversion_named("clip")
    inputs = Inputs.of_pairs([("data", own), ("limit", limit)])
    cut = convert(conversion, inputs, conversion.params(), Silent())[0].dataset
    assert cut.sizes() == pytest.approx([50.0]) and cut.count()["vertices"] == 5
    assert {7.0, 6.5} <= set(np.round(cut.vertices[:, 2][np.isfinite(cut.vertices[:, 2])], 6).tolist())


def test_accuracy_within_areas():
    checks = near(300, seed=8, height=lambda x, y: 0.0 * x + 9.9)
    conversion = catalog.conversion_named("accuracy")
    own = Inputs.of_pairs([("surface", plateau()), ("points", checks), ("limit", ZONES)])
    figures = convert(conversion, own, conversion.params(), Silent())[0].figures["accuracy"]
    assert figures["count"] == int(inside(checks.xyz[:, :2]).sum()) and figures["rmse"] == pytest.approx(0.1)


# ---------------------------------------------------------------------------------------------------- moved, and drawn


@pytest.mark.parametrize("words", [{"turn": "30"}, {"scale": "1.5"}, {"by": "10,20"}])
def test_moved_areas_keep_their_holes(words):
    own = made("move", ZONES, **words).dataset
    times = float(words.get("scale", 1.0)) ** 2
    assert own.sizes() == pytest.approx(ZONES.sizes() * times, rel=1e-12)
    assert shapely.is_valid(own.shapes()).all() and own.attributes["name"].tolist() == [b"North", b"South"]


def test_mirrored_rings_are_turned_again():
    own = ZONES.with_places(ZONES.vertices[:, [1, 0, 2]])
    outer = [
        shapely.LinearRing(own.vertices[a:b, :2]).is_ccw for a, b in zip(own.offsets[:-1], own.offsets[1:], strict=True)
    ]
    assert (np.array(outer) == ~own.holes()).all() and own.sizes() == pytest.approx(ZONES.sizes())


@settings(deadline=None, max_examples=40)
@given(st.integers(0, 10_000))
def test_pixels_inside_are_filled(seed):
    rng = np.random.default_rng(seed)
    shape = shapely.union_all(shapely.buffer(shapely.points(rng.random((9, 2)) * 80), 5 + 9 * rng.random(9)))
    shape = shape.difference(shapely.union_all(shapely.buffer(shapely.points(rng.random((9, 2)) * 80), 4)))
    own: Areas = from_shapes([shape])
    image = np.zeros((90, 110, 4), np.uint8)
    colour = np.full((1, 3), 200, np.uint8)
    draw_areas(image, own.vertices, own.offsets, own.parts[own.members], -10.0, 80.0, 1.0, colour, 1.0)
    x, y = np.meshgrid(-10.0 + np.arange(110) + 0.5, 80.0 - np.arange(90) - 0.5)
    assert ((image[..., 3] > 0) == shapely.contains_xy(shape, x, y)).all()


# ------------------------------------------------------------------------------------------------------------- answers


def test_a_table_of_areas_and_what_they_are_on_the_ground():
    result = made("sizes", ZONES)
    assert result.dataset.columns["area"].tolist() == [1400.0, 600.0] and result.figures["area"] == 2000.0
    assert result.dataset.columns["perimeter"].tolist() == [160.0 + 60.0, 100.0]
    assert result.dataset.rows()[0]["name"] == "North" and result.dataset.columns["holes"].tolist() == [1.0, 0.0]
    with pytest.raises(CallError, match="no projected reference system"):
        made("sizes", ZONES, ground="yes")


def test_volumes_on_the_ground_are_those_on_the_grid_by_the_square_of_the_combined_factor():
    """Closed form: k · R / (R + h) by PROJ's scale factor, the radius and the mean height."""
    frame = frame_of_crs("EPSG:25832")
    frame = dataclasses.replace(frame, vertical=Unit.METRE)
    place = {"west": 460_000.0, "north": 5_250_000.0, "frame": frame}
    base = dataclasses.replace(plateau(), heights=np.full((100, 100), 850.0), **place)
    top = dataclasses.replace(plateau(), heights=np.full((100, 100), 852.0), **place)
    conversion = catalog.conversion_named("volumes")
    own = Inputs.of_pairs([("base", base), ("top", top)])
    grid, ground = (
        convert(conversion, own, declare.build(conversion.params, words), Silent())[0].figures["volumes"]
        for words in ({}, {"ground": "yes"})
    )
    lon, lat = pyproj.Transformer.from_crs(25832, 4258, always_xy=True).transform(460_050.0, 5_249_950.0)
    k = pyproj.Proj(25832).get_factors(lon, lat).meridional_scale
    e2 = 0.00669438002290
    radius = 6378137.0 * np.sqrt(1 - e2) / (1 - e2 * np.sin(np.radians(lat)) ** 2)
    times = (k * radius / (radius + 850.0)) ** -2
    assert ground["fill"] == pytest.approx(grid["fill"] * times, rel=1e-9)
    assert ground["common_area"] == pytest.approx(grid["common_area"] * times, rel=1e-9) and times > 1.0002


def test_some_of_the_areas():
    """By places and by an attribute; what is not there is told."""
    areas = from_shapes(
        [shapely.box(0, 0, 10, 10), shapely.box(20, 0, 25, 10), shapely.box(30, 0, 35, 10)],
        name="plots",
        frame=METRES,
        layer=np.array([0, 1, 1], np.int32),
        layers=("PLOTS", "PONDS"),
        attributes={"no": np.array([1, 2, 3]), "name": np.array([b"One", b"Two", b"Two"])},
    )
    choose = catalog.conversion_named("choose")

    def chosen(**words):
        return convert(choose, [areas], declare.build(choose.params, words), Silent())[0].dataset

    assert chosen(at="22 5").attributes["no"].tolist() == [2]
    assert chosen(at="22 5, 0 0").attributes["no"].tolist() == [1, 2], "a rim belongs to its area"
    assert chosen(at="22 5", side="out").attributes["no"].tolist() == [1, 3]
    assert chosen(by="name", named="Two").attributes["no"].tolist() == [2, 3]
    assert chosen(by="layer", named="PLOTS").attributes["no"].tolist() == [1]
    assert chosen(by="no", named="1, 3").attributes["no"].tolist() == [1, 3]
    assert chosen(at="5 5", by="no", named="3").attributes["no"].tolist() == [1, 3]
    for words, told in (
        ({}, "say which areas"),
        ({"at": "100 100"}, "no area of plots at"),
        ({"at": "x"}, "at: "),
        ({"by": "nme", "named": "Two"}, "did you mean name"),
        ({"by": "name", "named": "Tow"}, "did you mean Two"),
        ({"by": "layer", "named": "PLOTS,PONDS", "side": "out"}, "would be left"),
    ):
        with pytest.raises((CallError, DataError), match=told):
            chosen(**words)
