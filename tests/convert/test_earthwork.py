"""How much earth: what the conversions say, by units, boundaries and depth; and what they refuse."""

import dataclasses

import numpy as np
import pytest

from builders import METRES, ORIGIN, ground, scattered
from earth import FLAT, TILTED, made, ring, rings, sheet
from vastgrid import catalog
from vastgrid.base.errors import CallError, DataError, ParamError
from vastgrid.base.progress import Silent
from vastgrid.base.quantities import Unit
from vastgrid.data.dataset import DIFFERENCE
from vastgrid.data.frame import Frame
from vastgrid.data.grid import Grid
from vastgrid.data.linework import from_lines
from vastgrid.data.tin import Tin
from vastgrid.execution.steps import convert
from vastgrid.params import declare


def volumes(base=FLAT, top=TILTED, *areas, **words):
    return made("volumes", [("base", base), ("top", top), *(("inside", each) for each in areas)], **words)


def test_three_methods_say_the_same_of_planes():
    own = volumes(cell="1m", sections="1m").figures["volumes"]
    assert own["cut"] == pytest.approx(12_500.0, rel=1e-9)
    assert own["net"] == pytest.approx(0.0, abs=1e-5)
    assert (own["unit"], own["method"], own["parts"]) == ("m", "exact", [])
    exact, cells, sections = own["methods"]
    assert exact["fill"] == own["fill"]
    assert cells["fill"] == pytest.approx(12_500.0, rel=1e-9)
    assert sections["fill"] == pytest.approx(12_500.0, rel=1e-3)


def test_cross_checks_are_as_fine_as_asked_or_refused():
    half = dataclasses.replace(TILTED, vertices=TILTED.vertices + (50.0, 0.0, 0.0))
    names = [each["name"] for each in volumes(FLAT, half, sections="5m", cell="2m").figures["volumes"]["methods"]]
    # The ground in common is 50 by 100 m: 20 steps of 5 m along its longer side.
    assert names == ["exact, prism by prism", "by cells of 2 m", "by sections every 5 m"]
    for words in ({"cell": "1mm"}, {"sections": "1mm"}):
        with pytest.raises(ParamError, match="that makes"):
            volumes(FLAT, TILTED, **words)
    with pytest.raises(ParamError, match="cells; choose a larger one"):
        made("difference", [("base", FLAT), ("top", TILTED)], **{"as": "grid", "cell": "1mm"})


def test_every_boundary_has_its_row_and_the_whole_counts_once():
    result = volumes(FLAT, TILTED, rings((0, 0, 50, 50), (25, 25, 75, 75), layers=["A", "B"]))
    own = result.figures["volumes"]
    assert [part["name"] for part in own["parts"]] == ["A", "B"]
    assert own["common_area"] == pytest.approx(2 * 2500.0 - 625.0, rel=1e-9)
    assert result.dataset.columns["inside"].tolist() == [b"A", b"B", b"in all"]
    assert any(finding.code == "areas-overlap" for finding in result.findings)
    one = volumes(FLAT, TILTED, rings((0, 0, 50, 50), (25, 25, 75, 75), layers=["A", "B"]), boundaries="b")
    assert [part["name"] for part in one.figures["volumes"]["parts"]] == ["B"]
    with pytest.raises(CallError, match="there are A, B"):
        volumes(FLAT, TILTED, rings((0, 0, 50, 50), (25, 25, 75, 75), layers=["A", "B"]), boundaries="C")


def test_a_void_is_taken_out_and_two_of_one_name_are_told_apart():
    lines = rings((0, 0, 60, 60), (10, 10, 20, 20), (70, 70, 80, 80), layers=["LIMIT", "HOLE", "LIMIT"])
    lines = dataclasses.replace(lines, attributes={"boundary": np.array([b"outer", b"void", b"outer"])})
    own = volumes(FLAT, TILTED, lines).figures["volumes"]
    assert [(part["name"], round(part["common_area"])) for part in own["parts"]] == [
        ("LIMIT", 3500),
        ("LIMIT (2)", 100),
    ]


def test_a_line_inside_another_of_the_same_name_is_a_hole_as_in_polygons_of_maps():
    lines = rings((0, 0, 60, 60), (10, 10, 50, 50), (20, 20, 30, 30), (25, 25, 90, 90), layers=["A", "A", "A", "B"])
    result = volumes(FLAT, TILTED, lines)
    own = result.figures["volumes"]
    assert [(part["name"], round(part["common_area"])) for part in own["parts"]] == [
        ("A", 2000),
        ("A (2)", 100),
        ("B", 4225),
    ]
    assert any(finding.code == "holes" and "is a hole in it" in finding.text for finding in result.findings)


def test_missing_ground_is_said_and_no_common_ground_refused():
    result = volumes(FLAT, TILTED, rings((50, 50, 150, 100)))
    told = next(finding for finding in result.findings if finding.code == "ground-missing")
    assert "50.0%" in told.text and "5000.00 m²" in told.text
    away = dataclasses.replace(TILTED, vertices=TILTED.vertices + (500.0, 0.0, 0.0))
    with pytest.raises(DataError, match="before and after have no ground in common"):
        volumes(FLAT, away)
    with pytest.raises(DataError, match="no ground in common inside LIMIT"):
        volumes(FLAT, TILTED, rings((200, 200, 210, 210)))
    open_line = from_lines("open", METRES, [ring(0, 0, 10, 10)[:-1]], ["L"])
    with pytest.raises(CallError):
        volumes(FLAT, TILTED, open_line)


def test_units_are_brought_together_and_volumes_are_of_one_unit():
    """Heights in feet over a plan in metres: volumes in m³ (1 ft = 0.3048 m)."""
    mixed = Frame(None, Unit.METRE, Unit.FOOT)
    base = sheet(lambda x, y: 0.0 * x + 100.0, frame=mixed)
    top = sheet(lambda x, y: 0.0 * x + 110.0, frame=mixed)
    own = volumes(base, top).figures["volumes"]
    assert own["fill"] == pytest.approx(100.0 * 100.0 * 3.048, rel=1e-9)
    assert own["unit"] == "m"
    # A surface whose heights are in metres is brought into the first one's feet.
    metric = sheet(lambda x, y: 0.0 * x + 110.0 * 0.3048)
    result = volumes(base, metric)
    assert result.figures["volumes"]["fill"] == pytest.approx(30_480.0, rel=1e-9)
    feet = Frame(None, Unit.US_FOOT, Unit.US_FOOT)
    own = volumes(FLAT.in_frame(feet), TILTED.in_frame(feet)).figures["volumes"]
    assert (own["unit"], round(own["fill"])) == ("us-ft", 12_500)
    half = Frame(None, Unit.METRE, None)
    with pytest.raises(CallError, match="height unit of before is unknown"):
        volumes(FLAT.in_frame(half), TILTED.in_frame(half))
    degrees = Frame("EPSG:4326", Unit.DEGREE, Unit.METRE)
    with pytest.raises(CallError, match="in degrees"):
        volumes(FLAT.in_frame(degrees), TILTED.in_frame(degrees))


def test_swell_shrink_and_classes_of_depth():
    result = volumes(FLAT, TILTED, swell="1.25", shrink="0.9", depth="2.5m")
    own = result.figures["volumes"]
    assert own["cut_loose"] == pytest.approx(15_625.0)
    assert own["cut_for_fill"] == pytest.approx(12_500.0 / 0.9)
    assert own["surplus"] == pytest.approx(12_500.0 - 12_500.0 / 0.9)
    assert "too little is cut" in result.findings[0].text
    table = result.more["classes"]
    np.testing.assert_allclose(table.columns["area"], [2500.0] * 4)
    np.testing.assert_allclose(table.columns["volume"], [-9375.0, -3125.0, 3125.0, 9375.0])
    assert table.units == ("m", "m", "m²", "%", "m³")
    with pytest.raises(ParamError, match="classes"):
        volumes(FLAT, TILTED, depth="1mm")


def test_a_grid_counts_as_the_triangles_between_its_centres():
    x, _ = np.meshgrid(np.arange(0.5, 100.0), np.arange(99.5, 0.0, -1.0))
    grid = Grid(
        name="g", frame=METRES, heights=x / 10.0 + 195.0, west=ORIGIN[0], north=ORIGIN[1] + 100.0, dx=1.0, dy=1.0
    )
    own = volumes(FLAT, grid).figures["volumes"]
    assert own["common_area"] == pytest.approx(99.0 * 99.0, rel=1e-9)
    assert own["fill"] == pytest.approx(0.5 * 49.5 * 4.95 * 99.0, rel=1e-9)


def test_differences_are_surfaces_that_say_what_they_hold():
    tin = made("difference", [("base", FLAT), ("top", TILTED)]).dataset
    assert (tin.kind, tin.quantity, tin.has_heights) == ("tin", DIFFERENCE, False)
    x = tin.vertices[:, 0] - ORIGIN[0]
    np.testing.assert_allclose(tin.vertices[:, 2], x / 10.0 - 5.0, atol=1e-9)
    grid = made("difference", [("base", FLAT), ("top", TILTED)], **{"as": "grid", "cell": "5m"}).dataset
    assert (grid.kind, grid.dx, grid.holds()) == ("grid", 5.0, "height difference")
    assert np.nanmax(grid.heights) == pytest.approx(4.75)
    other = made("difference", [("base", grid_of(FLAT, 2.0)), ("top", TILTED)]).dataset
    assert (other.kind, other.dx) == ("grid", 2.0)
    # Nothing takes it for ground, and bands part it.
    assert not any(each.can_use(tin) for each in map(catalog.conversion_named, ("contours", "grid", "volumes")))
    bands = made("bands", [("surface", tin)], interval="2.5m")
    assert "m" in bands.dataset.layers[0]
    feet = tin.with_coordinates(1.0, 1.0 / 0.3048, Frame(None, Unit.METRE, Unit.FOOT))
    assert feet.vertices[:, 2].max() == pytest.approx(5.0 / 0.3048)
    with pytest.raises(DataError, match="no ground in common"):
        made("difference", [("base", FLAT), ("top", dataclasses.replace(FLAT, vertices=FLAT.vertices + 900.0))])


def grid_of(tin, cell):
    conversion = catalog.conversion_named("grid")
    return convert(conversion, [tin], declare.build(conversion.params, {"cell": f"{cell}m"}), Silent())[0].dataset


def cone(height=6.0, radius=20.0, number=48):
    """A cone on a plane that tilts: its volume over the base is that of the cone (Cavalieri)."""
    angle = 2.0 * np.pi * np.arange(number) / number
    toe = np.column_stack((50.0 + radius * np.cos(angle), 50.0 + radius * np.sin(angle)))
    places = np.concatenate((toe, [[50.0, 50.0]], ring(0, 0, 100, 100)[:4, :2] - ORIGIN))
    z = 200.0 + 0.05 * places[:, 0]
    z[number] += height
    points = dataclasses.replace(scattered(3), xyz=np.column_stack((places + ORIGIN, z)))
    lines = from_lines(
        "toe", METRES, [np.column_stack((np.vstack((toe, toe[:1])) + ORIGIN, np.append(z[:number], z[0])))], ["TOE"]
    )
    conversion = catalog.conversion_named("tin")
    surface = convert(conversion, [points, lines], conversion.params(), Silent())[0].dataset
    return surface, lines, 0.5 * number * radius**2 * np.sin(2 * np.pi / number) * height / 3.0


@pytest.mark.parametrize("base", ["rim", "plane"])
def test_a_pile_over_its_rim(base):
    surface, toe, volume = cone()
    result = made("pile", [("surface", surface), ("inside", toe)], base=base)
    (own,) = result.figures["pile"]["parts"]
    assert own["above"] == pytest.approx(volume, rel=1e-6)
    assert own["below"] == pytest.approx(0.0, abs=1e-3)
    assert result.more["base"].kind == "tin"
    level = made("pile", [("surface", surface), ("inside", toe)], base="lowest").figures["pile"]["parts"][0]
    # Over a level base at the lowest place of the rim the wedge below the tilted plane counts too.
    assert level["above"] > volume
    with pytest.raises(DataError, match="leaves the ground"):
        made("pile", [("surface", surface), ("inside", rings((-50, 10, 40, 40)))])


def test_what_a_pond_holds_and_where_it_spills():
    corners = np.array([[0, 0], [100, 0], [100, 100], [0, 100], [50, 50]], float) + ORIGIN
    triangles = np.array([[k, (k + 1) % 4, 4] for k in range(4)], np.int32)
    z = np.array([210.0, 210.0, 210.0, 210.0, 200.0])
    pit = Tin(name="pit", frame=METRES, vertices=np.column_stack((corners, z)), triangles=triangles)
    result = made("stages", [("surface", pit), ("inside", rings((10, 10, 90, 90)))], every="1m")
    rows = result.figures["stages"]["rows"]
    assert rows[-1]["level"] == 208.0
    # Below 208 m: the square of 80 m, a pyramid 8 m deep (V = A h / 3).
    assert rows[-1]["volume"] == pytest.approx(6400.0 * 8.0 / 3.0, rel=1e-9)
    assert rows[-1]["area"] == pytest.approx(6400.0, rel=1e-9)
    assert any("208.000" in finding.text for finding in result.findings if finding.code == "spills-at")
    both = made("stages", [("surface", pit), ("inside", rings((10, 10, 90, 90)))], levels="205, 207")
    assert [row["level"] for row in both.figures["stages"]["rows"]] == [205.0, 207.0]
    with pytest.raises(CallError, match="not by both"):
        made("stages", [("surface", pit), ("inside", rings((10, 10, 90, 90)))], levels="205", every="1m")
    with pytest.raises(CallError, match="no closed line"):
        made("stages", [("surface", pit)], every="1m")


def test_any_number_of_stages_against_each_other():
    stages = [sheet(lambda x, y, k=k: 0.0 * x + 200.0 + k, name=f"stage {k}") for k in (0, 3, 1)]
    result = made("between", [("stages", each) for each in stages])
    table = result.dataset
    assert table.columns["from"].tolist() == [b"stage 0", b"stage 0", b"stage 3"]
    np.testing.assert_allclose(table.columns["net"], [30_000.0, 10_000.0, -20_000.0])
    assert "20\u202f000.0 m³ were cut and 30\u202f000.0 m³ filled" in result.findings[0].text


def test_the_ground_against_itself_moves_nothing():
    tin = ground(800)
    own = volumes(tin, tin).figures["volumes"]
    assert (own["cut"], own["fill"], own["cut_area"], own["fill_area"]) == (0.0, 0.0, 0.0, 0.0)


def test_a_pile_with_heights_in_feet_gives_its_base_in_feet():
    surface, toe, volume = cone()
    feet = Frame(None, Unit.METRE, Unit.FOOT)
    own = surface.with_coordinates(1.0, 1.0 / 0.3048, feet)
    result = made("pile", [("surface", own), ("inside", toe)])
    (part,) = result.figures["pile"]["parts"]
    assert part["above"] == pytest.approx(volume, rel=1e-6), "in cubic metres all the same"
    base = result.more["base"]
    assert base.frame.vertical is Unit.FOOT
    assert base.vertices[:, 2].min() == pytest.approx((200.0 + 0.05 * 30.0) / 0.3048, rel=1e-6)


def test_a_grid_too_large_to_be_triangles_is_refused(monkeypatch):
    monkeypatch.setattr("vastgrid.terrain.areas.boundaries.MOST_CELLS", 1000)
    with pytest.raises(CallError, match=r"2.500 cells; as triangles at most"):
        volumes(FLAT, grid_of(TILTED, 2.0))
