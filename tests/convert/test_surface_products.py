"""Slope, aspect and light of grids: planes in closed form, a cone, and Horn's own weights worked by hand."""

import json

import numpy as np
import pytest

from builders import DATA, METRES, ORIGIN
from vastgrid import catalog
from vastgrid.base.errors import CallError
from vastgrid.base.progress import Silent
from vastgrid.base.quantities import Unit
from vastgrid.data.frame import Frame
from vastgrid.data.grid import Grid
from vastgrid.execution.steps import convert
from vastgrid.params import declare

E, N = ORIGIN


def grid_of(height, cells=40, size=2.0, frame=METRES):
    x, y = np.meshgrid((np.arange(cells) + 0.5) * size, (np.arange(cells, 0, -1) - 0.5) * size)
    return Grid(name="Hill", frame=frame, heights=height(x, y), west=E, north=N + cells * size, dx=size, dy=size)


def made(name, grid, **words):
    conversion = catalog.conversion_named(name)
    result, params = convert(conversion, [grid], declare.build(conversion.params, words), Silent())
    return result.dataset, declare.plain(conversion.sentence(params, [(conversion.inputs[0].role, grid.name)]))


def test_a_plane_has_one_slope_and_one_bearing_up_to_its_rim():
    plane = grid_of(lambda x, y: 0.3 * x + 0.4 * y)
    percent, said = made("slope", plane)
    assert (
        np.allclose(percent.heights, 50.0) and percent.holds() == "slope in %" and said == "Slope of Hill, as percent."
    )
    assert np.allclose(made("slope", plane, **{"as": "degrees"})[0].heights, np.degrees(np.arctan(0.5)))
    assert np.allclose(made("slope", plane, **{"as": "ratio"})[0].heights, 2.0)
    assert np.allclose(made("aspect", plane)[0].heights, np.degrees(np.arctan2(-0.3, -0.4)) % 360.0)
    light = made("hillshade", plane, azimuth="300", altitude="30")[0].heights
    normal = np.array([-0.3, -0.4, 1.0]) / np.sqrt(1.25)
    sun = np.array(
        [np.sin(np.radians(300)) * np.cos(np.radians(30)), np.cos(np.radians(300)) * np.cos(np.radians(30)), 0.5]
    )
    assert np.allclose(light, 255.0 * max(normal @ sun, 0.0))


def test_level_ground_is_flatter_than_a_thousand_and_has_no_bearing():
    level = grid_of(lambda x, y: 0 * x + 5.0)
    assert (made("slope", level, **{"as": "ratio"})[0].heights == 1000.0).all()
    assert np.isnan(made("aspect", level)[0].heights).all()
    assert np.allclose(made("hillshade", level)[0].heights, 255.0 * np.sin(np.radians(45.0)))
    assert np.allclose(made("hillshade", level, suns="4")[0].heights, 255.0 * np.sin(np.radians(45.0)))


def test_a_cone_falls_away_from_its_top():
    cone = grid_of(lambda x, y: 100.0 - 0.25 * np.hypot(x - 40.0, y - 40.0), cells=80, size=1.0)
    x, y = cone.eastings() - E - 40.0, cone.northings() - N - 40.0
    away = np.hypot(*np.meshgrid(x, y)) > 15.0
    assert np.abs(made("slope", cone)[0].heights[away] - 25.0).max() < 0.2
    bearing = np.degrees(np.arctan2(*np.meshgrid(x, y))) % 360.0
    off = (made("aspect", cone)[0].heights - bearing + 180.0) % 360.0 - 180.0
    assert np.abs(off[away]).max() < 0.5


def test_horns_weights_by_hand():
    """One cell and its eight neighbours, as in B. K. P. Horn, “Hill shading and the reflectance map”, 1981."""
    z = np.array([(50.0, 45.0, 50.0), (30.0, 30.0, 30.0), (8.0, 10.0, 10.0)])
    nine = Grid(name="Nine", frame=METRES, heights=z, west=0.0, north=15.0, dx=5.0, dy=5.0)
    east = ((50 + 2 * 30 + 10) - (50 + 2 * 30 + 8)) / (8 * 5.0)
    north = ((50 + 2 * 45 + 50) - (8 + 2 * 10 + 10)) / (8 * 5.0)
    slope = made("slope", nine, **{"as": "degrees"})[0].heights[1, 1]
    assert slope == pytest.approx(np.degrees(np.arctan(np.hypot(east, north))), abs=1e-9)
    assert slope == pytest.approx(75.26, abs=0.01)


def test_feet_in_height_over_metres_in_plan_are_slopes_all_the_same():
    feet = grid_of(lambda x, y: 0.1 * x / 0.3048, frame=Frame(None, Unit.METRE, Unit.FOOT))
    assert np.allclose(made("slope", feet)[0].heights, 10.0)
    degrees = grid_of(lambda x, y: x, frame=Frame("EPSG:4326", Unit.DEGREE, Unit.METRE))
    for name in ("slope", "aspect", "hillshade"):
        with pytest.raises(CallError, match="is in degrees"):
            made(name, degrees)


def test_on_the_command_line_from_a_real_crater(tmp_path, run_cli):
    said = json.loads((DATA / "volcano.json").read_text())
    heights = np.array(said["values"], float).reshape(said["height"], said["width"])
    grid = Grid(name="Crater", frame=METRES, heights=heights, west=0.0, north=heights.shape[0] * 10.0, dx=10.0, dy=10.0)
    path = tmp_path / "crater.tif"
    form = catalog.format_named("geotiff")
    form.write([grid], path, form.write_params(), Silent())
    target = tmp_path / "slope.tif"
    code, _, err = run_cli("convert", path, target, "--via", "slope", "as=ratio")
    assert code == 0, err
    back = form.read(target, form.read_params(), Silent()).datasets[0]
    assert back.quantity == "slope" and back.heights.shape == heights.shape and np.nanmax(back.heights) <= 1000.0
    code, _, err = run_cli("convert", target, tmp_path / "again.tif", "--via", "slope")
    assert code == 2 and "slope" in err, "a slope is not ground"
