"""Lines laid on a surface: against planes, against each triangle's own plane, and beyond the rim."""

import numpy as np
import pytest
import shapely

from builders import METRES, ORIGIN, ground
from vastgrid import catalog
from vastgrid.base.errors import DataError
from vastgrid.base.progress import Silent
from vastgrid.data.grid import Grid
from vastgrid.data.linework import from_lines
from vastgrid.data.tin import edges
from vastgrid.execution.steps import convert
from vastgrid.measures.heights import heights
from vastgrid.params import declare

E, N = ORIGIN


def lay(lines, surface):
    conversion = catalog.conversion_named("lay")
    return convert(conversion, [lines, surface], declare.build(conversion.params, {}), Silent())[0]


def work(*courses, layer="KERB"):
    own = [np.array(course, float) + (E, N, 0.0) for course in courses]
    return from_lines("lines", METRES, own, [layer] * len(own))


def test_every_edge_crossed_has_a_vertex_and_own_vertices_stay():
    tin = ground(800)
    lines = work([(20.13, 30.7, 5.0), (150.2, 90.4, np.nan), (60.0, 120.9, 7.0)])
    result = lay(lines, tin)
    made = result.dataset
    known = {tuple(place) for place in made.vertices[:, :2].tolist()}
    assert all(tuple(place) in known for place in lines.vertices[:, :2].tolist()), "bit for bit"
    course = shapely.LineString(lines.vertices[:, :2])
    pairs = tin.vertices[edges(tin)][:, :, :2]
    crossed = shapely.get_coordinates(shapely.intersection(shapely.linestrings(pairs), course))
    assert abs(len(made.vertices) - (len(crossed) + 3)) <= 1
    away = shapely.distance(shapely.points(crossed), shapely.multipoints(made.vertices[:, :2]))
    assert away.max() < 1e-6
    assert np.abs(made.vertices[:, 2] - heights(tin, np.ascontiguousarray(made.vertices[:, :2]))).max() < 1e-6
    middle = (made.vertices[1:] + made.vertices[:-1]) / 2.0
    assert np.abs(middle[:, 2] - heights(tin, np.ascontiguousarray(middle[:, :2]))).max() < 1e-6, "and between them"
    assert made.layers == ("KERB",) and result.figures["added"] == len(made.vertices) - 3
    assert any("Own heights changed by up to" in each.text for each in result.findings)


def test_what_lies_beyond_is_left_out_and_said():
    tin = ground(400)
    lines = work([(-50, 70, 0), (300, 70, 0)], [(500, 0, 0), (600, 0, 0)], [(-20, 40, 0), (90, 60, 0), (-20, 80, 0)])
    result = lay(lines, tin)
    text = " ".join(each.text for each in result.findings)
    assert "1 line as a whole" in text and "beyond Ground" in text
    rim = shapely.union_all(shapely.polygons(tin.corners()[:, :, :2]))
    for k in range(len(result.dataset)):
        assert rim.buffer(1e-6).covers(shapely.LineString(result.dataset.line(k)[:, :2]))
    left = sum(shapely.LineString(result.dataset.line(k)[:, :2]).length for k in range(len(result.dataset)))
    inside = sum(rim.intersection(shapely.LineString(lines.line(k)[:, :2])).length for k in range(3))
    assert left == pytest.approx(inside, abs=1e-5)
    with pytest.raises(DataError, match="no line of lines lies over"):
        lay(work([(900, 0, 0), (990, 0, 0)]), tin)


def test_on_a_grid_and_on_the_command_line(tmp_path, run_cli):
    x, y = np.meshgrid(np.arange(40) + 0.5, np.arange(40, 0, -1) - 0.5)
    grid = Grid(name="Plane", frame=METRES, heights=0.2 * x - 0.1 * y, west=E, north=N + 40.0, dx=1.0, dy=1.0)
    lines = work([(3.3, 4.4, 0), (31.2, 22.9, 0)])
    made = lay(lines, grid).dataset
    local = made.vertices[:, :2] - ORIGIN
    assert np.abs(made.vertices[:, 2] - (0.2 * local[:, 0] - 0.1 * local[:, 1])).max() < 1e-9
    tif, dxf, target = (tmp_path / name for name in ("plane.tif", "lines.dxf", "laid.dxf"))
    for form, data, path in (("geotiff", grid, tif), ("dxf", lines, dxf)):
        kind = catalog.format_named(form)
        kind.write([data], path, kind.write_params(), Silent())
    code, _, err = run_cli("convert", dxf, tif, target, "--via", "lay", "--units", "m")
    assert code == 0, err
    kind = catalog.format_named("dxf")
    back = kind.read(target, kind.read_params(), Silent()).datasets[0]
    assert back.count()["vertices"] == len(made.vertices)
