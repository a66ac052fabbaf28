"""The 3D view's pictures by their content: what is seen where, what hides what, and where a pixel is in the world."""

import dataclasses
import math

import numpy as np
import pytest

from vastgrid import catalog
from vastgrid.base.progress import Silent
from vastgrid.base.quantities import Unit
from vastgrid.data.frame import Frame
from vastgrid.data.grid import Grid
from vastgrid.data.linework import Contours, from_lines
from vastgrid.data.pointset import PointSet
from vastgrid.kernels.drawing import shade
from vastgrid.measures.heights import heights
from vastgrid.styling import ramps
from vastgrid.styling.camera import Camera
from vastgrid.styling.colouring import StyledLayer, plain
from vastgrid.styling.look import look_of
from vastgrid.styling.on_ground import laid, solids, standing
from vastgrid.styling.scene import Scene, fitted, model, shoot

METRIC = Frame(None, Unit.METRE, Unit.METRE)
E0, N0 = 512_000.0, 5_412_000.0
WIDE, HIGH = 240, 160


@pytest.fixture(scope="module")
def ground():
    rng = np.random.default_rng(9)
    xy = rng.uniform(0, 200, (2500, 2))
    z = 100 + 12 * np.sin(xy[:, 0] / 30.0) * np.cos(xy[:, 1] / 25.0)
    points = PointSet(name="p", frame=METRIC, xyz=np.column_stack((xy + (E0, N0), z)))
    made = catalog.conversion_named("tin")
    return dataclasses.replace(made.run([points], made.params(), Silent()).dataset, name="ground")


def styled(data, number=0, **words):
    return StyledLayer(data, look_of(data, words), number)


def scene(*items, **more):
    z = [own.dataset.extent().elevation for own in items]
    ends = (min(pair[0] for pair in z if pair), max(pair[1] for pair in z if pair))
    return Scene(tuple(items), ends, **more)


def shot(made, camera=None, *, coarse=False):
    return shoot(made, camera or fitted(made.items, Camera()), WIDE, HIGH, coarse=coarse)


def rgb(image, x, y):
    return image[int(y), int(x), 2::-1].astype(int)


def test_a_pixel_is_a_place_on_the_ground(ground):
    made = shot(scene(styled(ground)))
    seen = np.argwhere(made.depth > 0)
    assert len(seen) > 0.2 * WIDE * HIGH
    for y, x in seen[:: len(seen) // 60].tolist():
        place = made.place(x + 0.5, y + 0.5)
        z = heights(ground, place[None, :2])[0]
        assert math.isnan(z) or z == pytest.approx(place[2], abs=0.05)
        back = made.camera.pixel(place, WIDE, HIGH)
        assert back == pytest.approx((x + 0.5, y + 0.5), abs=0.02)


@pytest.mark.parametrize(
    "camera", [{"heading": 0.0, "pitch": 90.0}, {"heading": 77.0, "pitch": 12.0}, {"pitch": -15.0}]
)
def test_eye_and_target_are_where_the_camera_says(camera):
    own = Camera(east=E0, north=N0, height=50.0, distance=80.0, stretch=2.0, **camera)
    assert own.pixel(own.target, WIDE, HIGH) == pytest.approx((WIDE / 2, HIGH / 2))
    off = (own.eye() - own.target) * (1, 1, 2.0)
    assert np.linalg.norm(off) == pytest.approx(80.0)
    moved = own.at_eye(own.eye() + (3.0, 4.0, 5.0))
    assert moved.target - own.target == pytest.approx((3.0, 4.0, 5.0), abs=1e-6)
    right, up, away = own.axes()
    assert np.linalg.det(np.array((right, up, -away))) == pytest.approx(1.0), "right-handed"


def test_from_straight_above_the_picture_is_the_plans(ground):
    camera = dataclasses.replace(fitted((styled(ground),), Camera()), pitch=90.0, heading=0.0)
    made = shot(scene(styled(ground)), camera)
    for x, y in ((60, 60), (120, 80), (170, 110)):
        place = made.place(x, y)
        assert place is not None
        # North is up: a pixel above lies farther north.
        assert made.place(x, y - 20)[1] > place[1] and made.place(x + 20, y)[0] > place[0]


def test_colours_stand_for_heights(ground):
    flat = styled(ground, faces="filled", shade="no")
    made = shot(scene(flat))
    low, high = ground.extent().elevation
    for y, x in np.argwhere(made.depth > 0)[::997].tolist():
        place = made.place(x + 0.5, y + 0.5)
        expected = ramps.elevation()[int(np.clip((place[2] - low) / (high - low), 0, 1) * 255)].astype(int)
        assert np.abs(rgb(made.image, x, y) - expected).max() <= 6


def test_what_lies_before_hides_what_lies_behind():
    wall = Grid(name="near", frame=METRIC, heights=np.full((20, 20), 10.0), west=E0, north=N0 + 20, dx=1, dy=1)
    floor = Grid(name="far", frame=METRIC, heights=np.full((20, 20), 0.0), west=E0, north=N0 + 20, dx=1, dy=1)
    items = (plain(floor, "#FF0000"), plain(wall, "#0000FF"))
    camera = dataclasses.replace(fitted(items, Camera()), pitch=80.0)
    for order in (items, items[::-1]):
        made = shot(scene(*order), camera)
        colour = rgb(made.image, *camera.pixel((E0 + 10, N0 + 10, 10.0), WIDE, HIGH))
        assert colour[2] > colour[0] + 80


def test_a_see_through_surface_shows_what_is_below():
    roof = Grid(name="roof", frame=METRIC, heights=np.full((20, 20), 5.0), west=E0, north=N0 + 20, dx=1, dy=1)
    floor = Grid(name="floor", frame=METRIC, heights=np.full((20, 20), 0.0), west=E0, north=N0 + 20, dx=1, dy=1)
    items = (plain(floor, "#FF0000"), styled(roof, colour="one colour", plain="#0000FF", opacity="40"))
    camera = dataclasses.replace(fitted(items, Camera()), pitch=80.0)
    colour = rgb(shot(scene(*items), camera).image, WIDE / 2, HIGH / 2)
    assert colour[0] > 90 and colour[2] > 60


def test_heights_are_exaggerated(ground):
    items = (styled(ground),)
    once = dataclasses.replace(fitted(items, Camera()), pitch=5.0)
    twice = dataclasses.replace(once, stretch=2.0)
    top = ground.vertices[ground.vertices[:, 2].argmax()]
    low = ground.vertices[ground.vertices[:, 2].argmin()]
    gap = [c.pixel(low, WIDE, HIGH)[1] - c.pixel(top, WIDE, HIGH)[1] for c in (once, twice)]
    assert gap[1] != pytest.approx(gap[0])
    made = shot(scene(*items), twice)
    y, x = np.argwhere(made.depth > 0)[500]
    place = made.place(x + 0.5, y + 0.5)
    z = heights(ground, place[None, :2])[0]
    assert math.isnan(z) or z == pytest.approx(place[2], abs=0.1), "picking undoes the exaggeration"


def test_heights_in_feet_stand_as_high_as_in_metres(ground):
    feet = ground.with_coordinates(1.0, 1 / 0.3048, Frame(None, Unit.METRE, Unit.FOOT))
    one, other = (fitted((styled(each),), Camera()) for each in (ground, feet))
    place = ground.vertices[77]
    assert one.pixel(place, WIDE, HIGH) == pytest.approx(other.pixel(place * (1, 1, 1 / 0.3048), WIDE, HIGH), abs=1e-6)


def test_the_sun_lights_the_side_it_stands_on():
    x, _ = np.meshgrid(np.arange(40.0), np.arange(40.0))
    ridge = Grid(name="r", frame=METRIC, heights=20.0 - np.abs(x - 20.0), west=E0, north=N0 + 40, dx=1, dy=1)
    item = styled(ridge, colour="one colour", plain="#808080")
    camera = dataclasses.replace(fitted((item,), Camera()), pitch=85.0, heading=0.0)
    for azimuth, brighter in ((270.0, 0), (90.0, 1)):
        made = shot(scene(item, sun=(azimuth, 35.0)), camera)
        sides = [rgb(made.image, *camera.pixel((E0 + east, N0 + 20, 10.0), WIDE, HIGH)).sum() for east in (10.0, 30.0)]
        assert sides[brighter] > sides[1 - brighter] + 60


def test_moving_is_coarse_and_still_is_whole(ground):
    many = StyledLayer(ground, look_of(ground))
    few = model(many, less=True)
    assert few is many, "what is light is drawn whole"
    rng = np.random.default_rng(1)
    grid = Grid(name="g", frame=METRIC, heights=rng.random((900, 900)), west=E0, north=N0, dx=1, dy=1)
    own = styled(grid)
    assert len(model(own, less=True).dataset.triangles) < 150_000 < len(model(own, less=False).dataset.triangles)
    assert model(own, less=True) is model(own, less=True), "made once"
    big = StyledLayer(grid, look_of(grid))
    coarse, fine = (shot(scene(big), coarse=c) for c in (True, False))
    assert coarse.coarse and not fine.coarse
    both = (coarse.depth > 0) == (fine.depth > 0)
    assert both.mean() > 0.985


def test_points_are_drawn_over_the_surface_they_lie_on_and_hidden_behind_it(ground):
    on = ground.vertices[::40]
    over = styled(PointSet(name="on", frame=METRIC, xyz=on), 1, colour="one colour", plain="#0000FF", size="3")
    below = styled(
        PointSet(name="b", frame=METRIC, xyz=on - (0, 0, 8.0)), 1, colour="one colour", plain="#00FF00", size="3"
    )
    camera = dataclasses.replace(fitted((styled(ground),), Camera()), pitch=70.0)
    made = shot(scene(styled(ground), over, below), camera).image.astype(int)
    blue = (made[:, :, 0] > 200) & (made[:, :, 2] < 60)
    green = (made[:, :, 1] > 200) & (made[:, :, 2] < 60)
    assert blue.sum() > 0.6 * len(on) * 4 and green.sum() < 0.1 * blue.sum()


def test_lines_without_heights_lie_on_the_ground(ground):
    flat = np.array([(E0 + 20, N0 + 20, 0.0), (E0 + 180, N0 + 170, 0.0)])
    none = np.array([(E0 + 20, N0 + 100, np.nan), (E0 + 180, N0 + 100, np.nan)])
    solid = np.array([(E0 + 20, N0 + 60, 130.0), (E0 + 180, N0 + 60, 130.0)])
    work = styled(from_lines("l", METRIC, [flat, none, solid], ["A", "B", "C"]))
    xyz, offsets = laid(work.dataset, work, [styled(ground)])
    for k in (0, 1):
        own = xyz[offsets[k] : offsets[k + 1]]
        assert len(own) > 50
        np.testing.assert_allclose(own[:, 2], heights(ground, own[:, :2].copy()), atol=1e-9)
    assert xyz[offsets[2] :].tolist() == solid.tolist()
    made = shot(scene(styled(ground), styled(work.dataset, colour="one colour", plain="#0000FF", width="3"))).image
    assert ((made[:, :, 0] > 180) & (made[:, :, 2] < 90)).sum() > 150


def test_contours_and_hidden_heights(ground):
    made = catalog.conversion_named("contours")
    from vastgrid.params import declare

    params = made.settle([ground], declare.build(made.params, {"interval": "2m"}))
    contours = made.run([ground], params, Silent()).dataset
    assert isinstance(contours, Contours)
    bare = shot(scene(styled(ground, faces="filled")))
    drawn = shot(scene(styled(ground, faces="filled"), styled(contours)))
    index_only = shot(scene(styled(ground, faces="filled"), styled(contours, minor="no")))
    changed = [(each.image != bare.image).any(axis=2).sum() for each in (drawn, index_only)]
    assert changed[0] > changed[1] > 30
    half = shot(scene(styled(ground, faces="filled", heights="0 … 100")))
    assert 0.3 < (half.depth > 0).sum() / (bare.depth > 0).sum() < 0.8


def test_solids_stand_on_the_ground(ground):
    foot = np.array([(E0 + 60, N0 + 60, 0.0), (E0 + 120, N0 + 100, 0.0)])
    trees = PointSet(name="t", frame=METRIC, xyz=foot, attributes={"height": np.array([9.0, 15.0])})
    stood = standing(foot, [styled(ground)])
    np.testing.assert_allclose(stood[:, 2], heights(ground, foot[:, :2].copy()))
    vertices, triangles = solids(stood, trees.attributes["height"], 4.0)
    assert vertices.shape == (16, 3) and triangles.shape == (24, 3)
    assert vertices[:, 2].max() == pytest.approx((stood[:, 2] + (9.0, 15.0)).max())
    # Closed: every edge is met once in each direction (a solid's definition).
    pairs = np.concatenate([triangles[:, [k, (k + 1) % 3]] for k in range(3)])
    assert {tuple(p) for p in pairs.tolist()} == {tuple(p[::-1]) for p in pairs.tolist()}
    item = styled(trees, stand="height", width="4m", colour="one colour", plain="#0000FF")
    image = shot(scene(styled(ground), item)).image.astype(int)
    assert (image[:, :, 0] > image[:, :, 2] + 60).sum() > 60


def test_the_section_cuts_away_its_left_side(ground):
    whole = shot(scene(styled(ground)))
    cut = ((E0, N0 + 100.0), (E0 + 200.0, N0 + 100.0))
    made = shot(scene(styled(ground), cut=cut), whole.camera)
    places = [made.place(x + 0.5, y + 0.5) for y, x in np.argwhere(made.depth > 0)[::37].tolist()]
    # Left of a line to the east is the north.
    assert np.mean([place[1] < N0 + 106.0 for place in places]) > 0.9
    assert (made.depth > 0).sum() < 0.8 * (whole.depth > 0).sum()


def test_a_smooth_picture_is_the_mean_of_four(ground):
    own = scene(styled(ground), styled(from_lines("l", METRIC, [ground.vertices[:40]], ["A"])))
    camera = fitted(own.items, Camera())
    smooth = shoot(own, camera, WIDE, HIGH, coarse=False, smooth=True)
    large = shoot(own, camera, 2 * WIDE, 2 * HIGH, coarse=False)
    assert smooth.image.shape == (HIGH, WIDE, 4) and smooth.grain == 1
    inside = (large.image[..., 3] > 0).reshape(HIGH, 2, WIDE, 2).all(axis=(1, 3))
    mean = large.image[..., :3].reshape(HIGH, 2, WIDE, 2, 3).mean(axis=(1, 3))
    assert np.median(np.abs(smooth.image[..., :3][inside] - mean[inside])) <= 1.0
    y, x = np.argwhere(inside)[900]
    place = smooth.place(x + 0.5, y + 0.5)
    assert heights(ground, place[None, :2])[0] == pytest.approx(place[2], abs=0.6)


def test_an_eye_within_the_ground_and_nothing_to_see_do_no_harm(ground):
    low = Camera(east=E0 + 100, north=N0 + 100, height=100.0, distance=3.0, pitch=2.0)
    made = shot(scene(styled(ground)), low)
    assert (made.depth > 0).any()
    assert made.place(-1, 5) is None and made.place(5, HIGH + 3) is None
    empty = shoot(Scene((), (0.0, 1.0)), Camera(), 40, 30, coarse=False)
    assert not empty.image.any()
    assert fitted((), Camera()) == Camera()


# -- slopes and light by the published formula


def test_slope_and_aspect_by_horn_agree_with_sobel():
    from scipy import ndimage

    rng = np.random.default_rng(3)
    z = ndimage.gaussian_filter(rng.random((60, 80)) * 40.0, 2.0)
    slope, aspect = shade.slope_aspect(z, 2.0, 2.0)
    # Horn's weights (1981) are those of the Sobel operator: 1 2 1 across, divided by 8 cells.
    east = ndimage.sobel(z, axis=1) / (8 * 2.0)
    south = ndimage.sobel(z, axis=0) / (8 * 2.0)
    inner = (slice(1, -1), slice(1, -1))
    np.testing.assert_allclose(slope[inner], np.degrees(np.arctan(np.hypot(east, south)))[inner], atol=1e-9)
    falls = np.degrees(np.arctan2(-east, south)) % 360.0
    gap = np.abs((aspect - falls + 180.0) % 360.0 - 180.0)
    assert gap[inner].max() < 1e-6
    light = shade.hillshade(z, 2.0, 2.0, 315.0, 45.0)
    # Lambert's cosine of the angle between the light and the normal.
    normal = np.dstack((-east, south, np.ones_like(z)))
    normal /= np.linalg.norm(normal, axis=2)[:, :, None]
    sun = np.array((np.sin(np.radians(315)), np.cos(np.radians(315)), 1.0)) * (
        np.cos(np.pi / 4),
        np.cos(np.pi / 4),
        np.sin(np.pi / 4),
    )
    np.testing.assert_allclose(light[inner], np.maximum(normal @ sun, 0.0)[inner], atol=1e-9)


def test_level_ground_has_no_aspect_and_a_gap_no_slope():
    z = np.full((4, 4), 3.0)
    z[0, 0] = np.nan
    slope, aspect = shade.slope_aspect(z, 1.0, 1.0)
    assert np.isnan(slope[0, 0]) and np.isnan(aspect[2, 2]) and slope[2, 2] == 0.0
