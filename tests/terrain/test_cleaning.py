"""Points cleaned by hand: areas in plan, beside a section and as seen from somewhere, against plain arithmetic and GEOS."""

import numpy as np
import pytest
import shapely
from hypothesis import given, settings
from hypothesis import strategies as st

from builders import METRES, ORIGIN, scattered
from vastgrid.base.errors import CallError
from vastgrid.base.progress import Silent
from vastgrid.base.quantities import Length, Unit
from vastgrid.conversions.points import clean
from vastgrid.conversions.points import noise as telling
from vastgrid.data.classes import CLASSES
from vastgrid.data.frame import Frame
from vastgrid.data.pointset import PointSet
from vastgrid.measures.section import cut
from vastgrid.params import declare
from vastgrid.styling.camera import Camera
from vastgrid.terrain.editing.cleaning import Cleaning, CleaningLog, cleaned, read_cleaning
from vastgrid.terrain.editing.picking import ALSO, LESS, Pick, picked

E, N = ORIGIN
CLOUD = scattered(5000)
numbers = st.floats(0, 200).map(lambda value: round(value, 2))
corner = st.tuples(numbers.map(lambda e: E + e), numbers.map(lambda n: N + n))


def run(points, *lines):
    return cleaned(points, declare.parse_value(declare.field_named(clean.CleanParams, "log"), "\n".join(lines)))


@settings(deadline=None)
@given(st.lists(corner, min_size=3, max_size=7, unique=True))
def test_a_ring_in_plan_means_what_lies_in_its_polygon(ring):
    ours = picked(CLOUD, ((ALSO, Pick(tuple(ring))),))
    shape = shapely.Polygon(ring)
    if not shape.is_valid:
        return
    theirs = shapely.contains_xy(shape, CLOUD.xyz[:, 0], CLOUD.xyz[:, 1])
    unsure = shapely.dwithin(shapely.points(CLOUD.xyz[:, :2]), shape.exterior, 1e-6)
    assert (ours == theirs)[~unsure].all()


@settings(deadline=None)
@given(
    st.lists(st.tuples(st.booleans(), st.lists(corner, min_size=3, max_size=5, unique=True)), min_size=1, max_size=5)
)
def test_what_is_written_is_read_back(parts):
    picks = tuple(
        (
            ALSO if also or k == 0 else LESS,
            Pick(tuple(ring), above=Length(200.5, Unit.METRE) if also else None, of=(2, 6)),
        )
        for k, (also, ring) in enumerate(parts)
    )
    for own in (Cleaning("delete", picks), Cleaning("class", picks, 7)):
        again = read_cleaning(own.line())
        assert again.line() == own.line() and again.word == own.word and again.code == own.code


def test_a_section_means_the_points_that_its_picture_shows():
    line = ((E + 10.0, N + 20.0), (E + 120.0, N + 60.0), (E + 180.0, N + 30.0))
    shown = cut([CLOUD], np.array(line), 3.0)[0]
    box = ((40.0, 225.0), (110.0, 225.0), (110.0, 240.0), (40.0, 240.0))
    picks = read_cleaning(Cleaning("delete", ((ALSO, Pick(box, line, Length(3.0))),)).line()).picks
    found = picked(CLOUD, picks)
    within = (shown.along >= 40.0) & (shown.along <= 110.0) & (shown.z >= 225.0) & (shown.z <= 240.0)
    assert 0 < found.sum() == within.sum()
    assert np.array_equal(np.sort(CLOUD.xyz[found, 2]), np.sort(shown.z[within]))
    east, north = picks[0][1].at
    assert line[0][0] < east < line[2][0] and line[0][1] < north < line[1][1]


@pytest.mark.parametrize("stretch", [1.0, 5.0])
@pytest.mark.parametrize(("heading", "pitch"), [(0.0, 35.0), (210.0, 90.0), (75.0, -10.0)])
def test_in_3d_the_points_are_meant_that_are_seen_inside(heading, pitch, stretch):
    camera = Camera(
        east=E + 100.0, north=N + 75.0, height=230.0, distance=220.0, heading=heading, pitch=pitch, stretch=stretch
    )
    width, rows = 800, 500
    ring = [(250.0, 140.0), (560.0, 170.0), (600.0, 380.0), (300.0, 330.0)]
    through = tuple(tuple(camera.place(x, y, 1.0 / camera.distance, width, rows)) for x, y in ring)
    picks = ((ALSO, Pick(through, eye=tuple(camera.eye()))),)
    found = picked(CLOUD, read_cleaning(Cleaning("keep", picks).line()).picks)
    seen = [camera.pixel(place, width, rows) for place in CLOUD.xyz]
    shape = shapely.Polygon(ring)
    inside = np.array([at is not None and shape.contains(shapely.Point(at)) for at in seen])
    assert inside.sum() > 100
    assert (found != inside).sum() <= 1, "but for one on the very line"


def test_adding_subtracting_limits_and_classes():
    points = PointSet(
        name="P",
        frame=METRES,
        xyz=np.array([(E + x, N, 10.0 * x) for x in range(10)]),
        attributes={CLASSES: np.array([2, 2, 5, 5, 2, 2, 5, 5, 2, 2], np.uint8), "id": np.arange(10)},
    )
    wide = f"inside {E - 1},{N - 1} {E + 7.5},{N - 1} {E + 7.5},{N + 1} {E - 1},{N + 1}"
    narrow = f"inside {E + 2.5},{N - 1} {E + 4.5},{N - 1} {E + 4.5},{N + 1} {E + 2.5},{N + 1}"
    left = run(points, f"delete {wide} less {narrow} also everywhere above 90m").points
    assert left.attributes["id"].tolist() == [3, 4, 8]
    left = run(points, f"keep {wide} above 20m below 60m of 2").points
    assert left.attributes["id"].tolist() == [4, 5]
    done = run(points, "class 7 everywhere below 10", "class 6 everywhere of 7", "off delete everywhere of 2")
    assert done.points.attributes[CLASSES][:3].tolist() == [6, 6, 5]
    assert (done.made, done.missed, done.dropped, done.classed) == (2, 0, 0, 4)
    assert np.array_equal(points.attributes[CLASSES][:2], [2, 2]), "the source stays as it was"


def test_entries_that_find_nothing_are_told_and_the_others_apply():
    done = run(
        CLOUD,
        "delete everywhere above 900",
        "delete everywhere",
        "class 18 everywhere above 240",
        "keep everywhere below 3ft",
    )
    assert (done.made, done.missed) == (1, 3) and len(done.points.xyz) == len(CLOUD.xyz)
    texts = [each.text for each in done.findings]
    assert "Edit 1 (points deleted everywhere, above 900.00) does not apply: there are no points." in texts[0]
    assert "nothing would be left" in texts[1]
    unknown = PointSet(name="P", frame=Frame(None, None, None), xyz=CLOUD.xyz)
    assert "unit" in run(unknown, "delete everywhere below 3ft").findings[0].text


def test_a_log_in_parts_gives_the_same_as_whole():
    log = CleaningLog(("class 7 everywhere below 226.0", "delete everywhere of 7", "keep everywhere below 238.0"))
    whole = cleaned(CLOUD, log)
    part = cleaned(cleaned(CLOUD, CleaningLog(log.entries[:1])).points, log.rest(1))
    assert part.points.content == whole.points.content


@pytest.mark.parametrize(
    "line",
    ["cut 1,2 3,4", "delete", "delete inside 1,2 3,4", "delete inside a,b c,d e,f", "class 300 everywhere", "class everywhere",
     "keep along 1,2 band 3 inside 1,2 3,4 5,6", "delete along 1,2 3,4 band 0 inside 1,2 3,4 5,6",
     "delete seen from 0,0,0 through 1,0,0 -1,0,0 0,1,0", "delete seen from 0,0,0 through 0,0,0 -1,0,0 0,1,0",
     "delete everywhere above", "delete everywhere above x", "delete everywhere beside 3", "delete inside nan,1 2,3 4,5", ""],
)  # fmt: skip
def test_what_is_no_entry_is_refused_in_words(line):
    with pytest.raises(CallError):
        read_cleaning(line)


def test_strays_are_noise_low_and_high_and_nothing_else():
    rng = np.random.default_rng(4)
    cloud = scattered(20_000, seed=4)
    # Denser towards one side by far, as scans are; and doubled places.
    xyz = np.vstack(
        (cloud.xyz[cloud.xyz[:, 0] < E + 60][::1], cloud.xyz[cloud.xyz[:, 0] >= E + 60][::7], cloud.xyz[:300])
    )
    stray = np.column_stack((rng.uniform(5, 195, 40) + E, rng.uniform(5, 145, 40) + N, np.repeat((180.0, 300.0), 20)))
    points = PointSet(name="Scan", frame=METRES, xyz=np.vstack((xyz, stray)))
    result = telling.run([points], telling.NoiseParams(), Silent())
    classes = result.dataset.attributes[CLASSES]
    assert (classes[-40:-20] == 7).all() and (classes[-20:] == 18).all()
    assert np.isin(classes[:-40], (7, 18)).mean() < 0.002
    again = telling.run([result.dataset], telling.NoiseParams(), Silent())
    assert (again.dataset.attributes[CLASSES][-40:] == classes[-40:]).all(), "what is noise stays noise"
    degrees = PointSet(name="P", frame=Frame("EPSG:4326", Unit.DEGREE, Unit.METRE), xyz=points.xyz / 1e5)
    with pytest.raises(CallError, match="degrees"):
        telling.run([degrees], telling.NoiseParams(), Silent())
