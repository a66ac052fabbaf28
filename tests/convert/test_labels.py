"""Labels: on their contour, upright, apart from each other, as asked; the same in the file as in the plan."""

import ezdxf
import numpy as np
import pytest
import shapely
from hypothesis import given, settings
from hypothesis import strategies as st

from builders import METRES, ground
from vastgrid.base.errors import CallError
from vastgrid.base.progress import Silent
from vastgrid.base.quantities import Unit
from vastgrid.conversions.lines import contours, labels, ticks
from vastgrid.data.frame import UNKNOWN
from vastgrid.data.grid import Grid
from vastgrid.data.linework import Contours
from vastgrid.delivery.deliver import deliver
from vastgrid.formats import dxf
from vastgrid.params import declare


def lines(surface=None, **words):
    params = declare.build(contours.ContourParams, {"interval": "0.5m", **words})
    surface = surface or ground(1500)
    return contours.run([surface], contours.settle([surface], params), Silent()).dataset


def labelled(source, **words):
    params = declare.build(labels.LabelParams, words)
    return labels.run([source], labels.settle([source], params), Silent())


def boxes(own):
    """Return each label's box as it is printed, as GEOS polygons."""
    found = []
    for (x, y), angle, wide in zip(own.labels["place"], own.labels["angle"], own.labels["wide"], strict=True):
        u, v = np.array((np.cos(angle), np.sin(angle))), np.array((-np.sin(angle), np.cos(angle)))
        u, v = u * wide / 2, v * own.label_height / 2
        found.append(shapely.Polygon([(x, y) - u - v, (x, y) + u - v, (x, y) + u + v, (x, y) - u + v]))
    return found


def course(own, k):
    return shapely.LineString(own.plan[own.offsets[k] : own.offsets[k + 1]])


@pytest.mark.parametrize(
    "words", [{}, {"only": "all"}, {"placed": "above", "only": "all"}, {"facing": "uphill"}, {"ends": "yes"}]
)
def test_no_two_overlap_and_each_is_on_its_contour(words):
    own = labelled(lines(), scale="500", **words).dataset
    drawn = boxes(own)
    assert len(drawn) > 5
    assert all(len(shapely.STRtree(drawn).query(each, predicate="intersects")) == 1 for each in drawn)
    for k, place in zip(own.labels["line"], own.labels["place"], strict=True):
        away = shapely.distance(course(own, k), shapely.Point(place))
        assert away < (1e-6 if words.get("placed") != "above" else 1.2 * own.label_height)
    assert (own.labels["level"] == own.levels[own.labels["line"]]).all()
    assert words.get("only") == "all" or own.index[own.labels["line"]].all()


@settings(deadline=None, max_examples=25)
@given(st.integers(0, 9999), st.sampled_from(["gap", "on", "above"]), st.floats(0.3, 6.0), st.booleans())
def test_whatever_the_ground_labels_keep_apart(seed, placed, height, ends):
    own = labelled(
        lines(ground(150, seed=seed)),
        height=str(height),
        scale="500",
        placed=placed,
        only="all",
        ends="yes" if ends else "no",
    ).dataset
    drawn = boxes(own)
    assert all(len(shapely.STRtree(drawn).query(each, predicate="intersects")) == 1 for each in drawn)


def test_upright_for_the_reader_or_facing_uphill():
    source = lines()
    reader = labelled(source, scale="500").dataset.labels
    assert (np.cos(reader["angle"]) > -1e-9).all()
    uphill = labelled(source, scale="500", facing="uphill").dataset
    tin = ground(1500)
    from vastgrid.measures.heights import heights

    angle, place = uphill.labels["angle"], uphill.labels["place"]
    up = np.column_stack((-np.sin(angle), np.cos(angle)))
    rise = heights(tin, np.ascontiguousarray(place + 0.3 * up)) - heights(tin, np.ascontiguousarray(place - 0.3 * up))
    assert (rise[np.isfinite(rise)] > 0).all() and np.isfinite(rise).mean() > 0.8


def test_height_is_what_paper_or_ground_says():
    assert labelled(lines(), height="2.5", scale="500").dataset.label_height == pytest.approx(1.25)
    assert labelled(lines(), ground="0.8m").dataset.label_height == pytest.approx(0.8)
    with pytest.raises(CallError, match="not both"):
        labelled(lines(), ground="1m", scale="500")
    unknown = lines(ground(300, frame=UNKNOWN), interval="0.5")
    assert labelled(unknown).dataset.label_height > 0
    with pytest.raises(CallError, match="unknown"):
        labelled(unknown, height="2", scale="500")


def test_decimals_follow_the_interval():
    for interval, text in (("0.5m", 1), ("1m", 0), ("0.25m", 2)):
        own = labelled(lines(interval=interval), only="all", scale="200").dataset
        assert {len(each.partition(".")[2]) for each in own.texts()} == {text}
    half = lines(supplementary="20%")
    assert half.supplementary.any()
    assert labelled(half, scale="500").dataset.label_decimals == 1, "index contours need no more"
    assert labelled(half, scale="500", only="all").dataset.label_decimals == 2
    assert {len(each.partition(".")[2]) for each in labelled(lines(), decimals="3", scale="500").dataset.texts()} == {3}


def test_spacing_first_and_shortest():
    source = lines()
    own = labelled(source, scale="200", only="all", spacing="20m", first="5m").dataset
    along = {k: np.sort(own.labels["along"][own.labels["line"] == k]) for k in np.unique(own.labels["line"])}
    for k, at in along.items():
        if len(at) > 2:
            assert np.abs(np.median(np.diff(at)) - 20.0) <= 8.0, k
    few = labelled(source, scale="200", only="all", shortest="100m").dataset
    assert all(course(few, k).length >= 100.0 for k in np.unique(few.labels["line"]))


def test_along_a_drawn_line():
    source = lines()
    own = labelled(source, scale="200", only="all", along="431020 887075, 431190 887070").dataset
    drawn = shapely.LineString([(431020, 887075), (431190, 887070)])
    assert len(own.labels["line"]) > 5
    for place in own.labels["place"]:
        assert shapely.distance(drawn, shapely.Point(place)) < 3.0
    with pytest.raises(CallError, match="say nothing"):
        labelled(source, along="431020 887075, 431190 887070", spacing="10m")


def test_a_moved_label_stays_when_contours_are_made_again():
    source = lines()
    first = labelled(source, scale="500").dataset
    level, was = float(first.labels["level"][0]), first.labels["place"][0]
    line = course(first, first.labels["line"][0])
    goal = shapely.get_coordinates(line.interpolate(line.project(shapely.Point(was)) + 9.0))[0]
    moved = f"{level}: {was[0]} {was[1]} -> {goal[0]} {goal[1]}"
    for again in (source, lines(ground(1500), smooth="light"), lines(interval="1m") if level == int(level) else source):
        own = labelled(again, scale="500", moved=moved).dataset
        mine = own.labels["place"][own.labels["level"] == level]
        assert np.hypot(*(mine - goal).T).min() < 0.6
        assert np.hypot(*(mine - was).T).min() > 5.0
    gone = labelled(lines(interval="7m"), scale="500", moved=moved)
    assert any(finding.code == "moved-label-gone" for finding in gone.findings)


def test_gaps_are_where_the_labels_are():
    own = labelled(lines(), scale="500").dataset
    cut = own.with_gaps()
    assert len(cut) > len(own) - 1
    left, whole = (sum(course(each, k).length for k in range(len(each))) for each in (cut, own))
    assert left == pytest.approx(whole - own.labels["gap"].sum(), rel=1e-9)
    stays = 0.0
    for level, box in zip(own.labels["level"], boxes(own), strict=True):
        stays += sum(shapely.intersection(course(cut, k), box).length for k in np.flatnonzero(cut.levels == level))
    assert stays < 0.01 * own.labels["gap"].sum(), "nothing of its own contour runs through a label"
    on = labelled(lines(), scale="500", placed="on").dataset
    assert on.with_gaps() is on


def test_the_drawing_carries_what_the_plan_shows(tmp_path):
    source = labelled(lines(supplementary="12%"), scale="500", only="all").dataset
    for version in ("R12", "R2018"):
        path = tmp_path / f"{version}.dxf"
        params = declare.build(dxf.DxfWriteParams, {"version": version})
        delivery = deliver([source], path, dxf.FORMAT, params, Silent())
        assert delivery.good, delivery.checks
        document = ezdxf.readfile(path)
        assert not document.audit().errors
        texts = document.modelspace().query("TEXT")
        assert [each.dxf.text for each in texts] == source.texts()
        for text, place, angle in zip(texts, source.labels["place"], source.labels["angle"], strict=True):
            assert tuple(text.dxf.align_point)[:2] == pytest.approx(tuple(place), abs=1e-3)
            assert text.dxf.height == pytest.approx(source.label_height, abs=1e-3)
            assert (text.dxf.rotation - np.degrees(angle) + 180) % 360 == pytest.approx(180, abs=1e-3)
            assert text.dxf.layer == "CONTOUR_LABEL"
        layers = {each.dxf.layer for each in document.modelspace()}
        assert {"CONTOUR", "CONTOUR_INDEX", "CONTOUR_SUPPLEMENTARY", "CONTOUR_LABEL"} <= layers


def test_units_carry_labels_along():
    own = labelled(lines(), scale="500").dataset
    feet = own.with_coordinates(1 / 0.3048, 1 / 0.3048, METRES)
    assert feet.label_height == pytest.approx(own.label_height / 0.3048)
    assert float(feet.texts()[0]) == pytest.approx(float(own.texts()[0]) / 0.3048, abs=0.06)
    assert feet.frame.horizontal is Unit.METRE


def test_depressions_get_ticks_and_brackets():
    east, north = np.meshgrid(np.arange(120.0), np.arange(60.0))
    z = 10.0 * np.exp(-((east - 30) ** 2 + (north - 30) ** 2) / 150) - 10.0 * np.exp(-((east - 90) ** 2 + (north - 30) ** 2) / 150)  # fmt: skip
    both = lines(Grid(name="Both", frame=METRES, heights=z, west=0.0, north=60.0, dx=1.0, dy=1.0), interval="2m")
    made = ticks.run([both], ticks.TickParams(), Silent()).dataset
    pits = [course(both, k) for k in range(len(both)) if both.levels[k] < 0]
    assert len(made) > 5
    for k in range(len(made)):
        a, b = made.line(k)[:, :2]
        assert any(shapely.Polygon(pit).buffer(1e-9).contains(shapely.LineString([a, b])) for pit in pits)
    texts = labelled(both, only="all", depressions="yes", ground="0.8m").dataset
    assert all(
        (text[0] == "(") == (level < 0) for text, level in zip(texts.texts(), texts.labels["level"], strict=True)
    )


def test_each_of_many_contours_gets_one_label():
    turn = np.linspace(0, 2 * np.pi, 41)
    ring = np.column_stack((np.cos(turn), np.sin(turn))) * 3.0
    ring[-1] = ring[0]
    number = 20_000
    middle = np.stack(np.meshgrid(np.arange(200) * 8.0, np.arange(100) * 8.0), axis=-1).reshape(-1, 1, 2)
    many = Contours(
        name="Many", frame=METRES, plan=(ring[None] + middle).reshape(-1, 2), offsets=np.arange(number + 1) * 41,
        levels=np.arange(number) % 50 + 0.0, index=np.ones(number, bool), interval=1.0,
    )  # fmt: skip
    own = labelled(many, ground="0.5m").dataset
    assert sorted(own.labels["line"]) == list(range(number))


def test_contours_that_came_in_as_lines_are_labelled_too(tmp_path, run_cli):
    """Contours that GDAL traced, their height in an attribute; labels ask for contours, which the chain makes."""
    from builders import DATA

    code, out, err = run_cli(
        "convert", DATA / "olinda_c10.shp", tmp_path / "o.dxf", "--via", "labels", "height=2", "scale=5000", "only=all",
    )  # fmt: skip
    assert code == 0, err
    assert "as contours every" in out
    texts = ezdxf.readfile(tmp_path / "o.dxf").modelspace().query("TEXT")
    assert len(texts) > 10 and all(float(text.dxf.text) % 1 == 0 for text in texts)


def test_labels_do_not_stay_behind_where_contours_go():
    from vastgrid import catalog
    from vastgrid.execution.steps import convert

    own = labelled(lines(), scale="500").dataset
    clip = catalog.conversion_named("clip")
    params = declare.build(clip.params, {"area": "431040,887030,431150,887120"})
    result, _ = convert(clip, [own], params, Silent())
    assert not result.dataset.labels and any(finding.code == "labels-left" for finding in result.findings)
