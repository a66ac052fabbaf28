"""What speaks for and against units: contradictions that are really met, and suggestions that are never applied."""

import numpy as np
import pyproj
import pytest

from builders import DATA, METRES, ground, scattered
from vastgrid.base.progress import Silent
from vastgrid.base.quantities import Unit
from vastgrid.data.frame import Frame, frame_of_crs
from vastgrid.data.grid import Grid
from vastgrid.data.pointset import PointSet
from vastgrid.execution.steps import read_file
from vastgrid.measures.evidence import contradictions, suggestions


def in_zone(scale=1.0, crs="EPSG:25832"):
    xyz = np.array([(431_000.0, 5_262_000.0, 400.0), (431_500.0, 5_262_300.0, 410.0)]) * (scale, scale, 1.0)
    return PointSet(name="pegs", frame=Frame(frame_of_crs(crs).crs, Unit.METRE, Unit.METRE), xyz=xyz)


def test_coordinates_in_feet_under_a_crs_in_metres():
    assert contradictions(in_zone()) == []
    (finding,) = contradictions(in_zone(1 / 0.3048))
    assert "read in international foot instead of metre it would lie inside" in finding.text
    (finding,) = contradictions(in_zone(1000.0))
    assert "read in millimetre instead of metre" in finding.text


def test_a_survey_foot_of_one_metre():
    """NIST Handbook 44 has 1200/3937 m; a factor of 1 belongs to the metre."""
    wkt = pyproj.CRS.from_epsg(2269).to_wkt("WKT1_GDAL")
    broken = wkt.replace('UNIT["foot",0.3048', 'UNIT["US survey foot",1.0')
    assert broken != wkt
    frame = frame_of_crs(broken)
    assert frame.horizontal is None, "a contradiction is not an answer, so the unit is asked for"
    cloud = PointSet(name="c", frame=frame, xyz=np.array([(7.6e6, 7e5, 100.0), (7.61e6, 7.1e5, 100.0)]))
    assert any("gives it the factor 1" in finding.text for finding in contradictions(cloud))


def test_open_data_in_feet_is_no_contradiction():
    source = read_file(DATA / "autzen_trim.laz", {}, Silent())
    assert not [finding for finding in source.findings if finding.code == "unit-contradiction"]


@pytest.mark.parametrize(("unit", "scale"), [(Unit.METRE, 1.0), (Unit.FOOT, 1 / 0.3048)])
def test_units_by_the_data_beside(unit, scale):
    tin = ground(2000)
    own = scattered(500, seed=5)
    unsaid = PointSet(name="new", xyz=own.xyz * scale)
    found = {hint.which: hint for hint in suggestions(unsaid, [tin])}
    assert found["plan"].unit is unit and found["height"].unit in (unit, Unit.US_FOOT)
    assert "Ground" in found["plan"].why


def test_plan_in_feet_and_heights_in_metres():
    own = scattered(500, seed=5)
    mixed = PointSet(name="new", frame=Frame(None, Unit.FOOT, None), xyz=own.xyz / (0.3048, 0.3048, 1.0))
    (hint,) = suggestions(mixed, [ground(2000)])
    assert (hint.which, hint.unit) == ("height", Unit.METRE)


def test_spacing_of_a_grid():
    grid = Grid(name="g", heights=np.ones((4, 4)), west=0.0, north=0.0, dx=32.808398950131235, dy=32.808398950131235)
    (hint,) = suggestions(grid, [])
    assert (hint.which, hint.unit) == ("plan", Unit.FOOT) and "are 10 m" in hint.why
    assert suggestions(Grid(name="g", heights=np.ones((4, 4)), west=0.0, north=0.0, dx=5.0, dy=5.0), []) == []


def test_nothing_speaks_for_a_unit_far_away():
    far = PointSet(name="far", xyz=np.random.default_rng(1).random((50, 3)) * 100.0)
    assert suggestions(far, [ground(300)]) == []
    assert suggestions(far.in_frame(METRES), [ground(300)]) == []


def test_a_contradiction_can_be_overridden(run_cli, tmp_path):
    """The CRS says metres, the numbers are feet: said so, they are brought to metres, and lie where they should."""
    import rasterio

    place = rasterio.Affine(32.0, 0.0, 431_000.0 / 0.3048, 0.0, -32.0, 5_262_300.0 / 0.3048)
    shape = {"width": 8, "height": 8, "count": 1, "dtype": "float32", "transform": place, "crs": "EPSG:25832"}
    with rasterio.open(tmp_path / "a.tif", "w", driver="GTiff", **shape) as file:
        file.write(np.full((8, 8), 400.0, np.float32), 1)
    code, _, err = run_cli("info", tmp_path / "a.tif")
    assert code == 0 and "read in international foot instead of metre" in err
    code, _, err = run_cli("info", tmp_path / "a.tif", "--from-units", "ft")
    assert code == 2 and "--override-units makes international foot count" in err
    options = ("--from-units", "ft", "--from-vertical-units", "m", "--override-units", "--units", "m")
    code, _, err = run_cli("convert", tmp_path / "a.tif", tmp_path / "b.tif", *options)
    assert code == 0, err
    (grid,) = read_file(tmp_path / "b.tif", {}, Silent()).datasets
    assert grid.west == pytest.approx(431_000.0, abs=1e-6) and grid.frame.horizontal is Unit.METRE
    assert contradictions(grid) == []
