"""The engine from a script: the same as by command, immutable, from threads, and everything that is declared."""

import pickle
import subprocess
import sys
from concurrent.futures import ThreadPoolExecutor
from pathlib import Path

import numpy as np
import pytest
import rasterio
import shapely
import trimesh

import vastgrid as vg
from builders import METRES, ground
from examples import examples
from vastgrid import catalog
from vastgrid.base.progress import Silent
from vastgrid.declarations.conversion import Inputs
from vastgrid.execution.steps import convert, read_file
from vastgrid.library import stubs
from vastgrid.library.kinds import WRAPPERS, dataset_of, wrapped
from vastgrid.params import declare

ROOT = Path(__file__).parents[2]
RNG = np.random.default_rng(7)
XYZ = np.column_stack((RNG.random((400, 2)) * 100.0, RNG.random(400) * 5.0))


@pytest.fixture(scope="module")
def points():
    return vg.PointSet.from_arrays(
        XYZ, unit="m", vertical_unit="m", attributes={"code": ["GL"] * 400, "no": range(400)}
    )


def same_file(one, other):
    (a,), (b,) = (read_file(Path(path), {}, Silent()).datasets for path in (one, other))
    return a.content == b.content


def test_the_same_as_by_command(points, tmp_path, run_cli, monkeypatch):
    monkeypatch.chdir(tmp_path)
    points.write("a.csv")
    read = vg.read("a.csv")
    read.tin(max_edge="30 m").write("script.xml")
    read.contours(interval="0.5 m").write("script.dxf", version="R2010")
    tin, shifted = read.tin(max_edge="30 m"), read.tin(max_edge="30 m").move(by=(0, 0, 1.25))
    shifted.write("b.xml")
    answer = vg.volumes(base=tin, top=shifted)
    assert run_cli("convert", "a.csv", "command.xml", "--via", "tin", "max_edge=30m")[0] == 0
    assert (
        run_cli("convert", "a.csv", "command.dxf", "--via", "contours", "interval=0.5m", "--write", "version=R2010")[0]
        == 0
    )
    assert same_file("script.xml", "command.xml") and same_file("script.dxf", "command.dxf")
    assert Path("script.xml").read_bytes().count(b"<F") == Path("command.xml").read_bytes().count(b"<F")
    assert answer.figures["fill"] == pytest.approx(1.25 * answer.figures["common_area"], rel=1e-12)


@pytest.mark.parametrize("conversion", [each for each in catalog.CONVERSIONS if each.single], ids=lambda each: each.id)
def test_every_conversion_is_a_call_that_gives_what_it_gives(conversion):
    """On the examples of every kind, by its defaults: the digest is that of the step itself."""
    for name, data in examples().items():
        own = wrapped(data)
        able = conversion.can_use(data) and isinstance(data, conversion.takes_with(conversion.params()))
        if not able or conversion.main.least > 1 or conversion.ask:
            continue
        if name == "lines" and conversion.id == "tin":
            continue
        role = conversion.main.role
        given = Inputs.of_pairs([(role, data)])
        name = data.name if conversion.keeps else ""
        want = convert(conversion, given, conversion.params(), Silent(), name)[0]
        for made in (getattr(vg, conversion.id)(own), vg.convert(own, conversion.id)):
            assert dataset_of(made).digest == want.dataset.digest and made.kind == want.dataset.kind
            assert made.sentence.endswith(".") and [each.code for each in made.findings] == [
                each.code for each in want.findings
            ]
            assert set(made.more) == set(want.more)
        taken = type(own).__dict__.get(conversion.id) or getattr(type(own), conversion.id, None)
        assert conversion.id in dir(own) and (taken or getattr(own, conversion.id)().digest == made.digest)


def test_what_may_be_said_of_a_value(points):
    tin = points.tin(max_edge="30 m")
    for length in ("0.5", "0.5m", 0.5, np.float64(0.5), vg.Length("0.5 m"), vg.Length(0.5, "m"), vg.Length(0.5)):
        assert tin.contours(interval=length).interval == 0.5
    foot = tin.contours(interval=vg.Length(1, "ft"))
    assert foot.interval == pytest.approx(0.3048)
    assert tin.contours(interval=0.5, index=np.int64(4)).sentence.count("every 4th") == 1
    corners = [(10, 10), (60, 10), (60, 70), (10, 70)]
    assert tin.clip(area=corners).digest == tin.clip(area=np.array(corners)).digest
    assert tin.clip(area=corners).extent.east == (10.0, 60.0)
    for bad in (object(), {"a": 1}):
        with pytest.raises(vg.CallError, match="interval"):
            tin.contours(interval=bad)


def test_words_of_the_language_take_an_underscore(points):
    known = vg.PointSet.from_arrays(XYZ + (1000, 2000, 30), unit="m", vertical_unit="m")
    made = vg.fit(data=points, from_=points, to=known, model="shift")
    np.testing.assert_allclose(made.xyz, known.xyz, atol=1e-9)
    assert made.figures["shift"] == pytest.approx([1000, 2000, 30])
    assert {"residuals", "arrows"} == set(made.more) and len(made.more["residuals"].rows) == 400


def test_several_inputs_and_several_results(points):
    other = vg.PointSet.from_arrays(XYZ + (100.5, 0, 0), unit="m", vertical_unit="m")
    both = vg.tin(points, other)
    assert both.count["vertices"] == 800
    one, two = vg.grid(points.tin(), other.tin(), cell=2.0)
    assert one.kind == two.kind == "grid" and one.extent.east[1] <= two.extent.east[0]
    merged = vg.merge(ground=points.tin(), over=other.tin(), keep="over")
    assert merged.count["triangles"] > points.tin().count["triangles"]


def test_errors_are_of_the_program():
    data = wrapped(ground(50))
    assert issubclass(vg.FormatError, vg.DataError) and issubclass(vg.DataError, vg.Error)
    assert issubclass(vg.CallError, vg.Error) and not issubclass(vg.Cancelled, vg.Error)
    for call, error, words in (
        (lambda: data.contours(intervall=1), vg.CallError, "did you mean interval"),
        (lambda: data.contours(interval="abc"), vg.CallError, "interval"),
        (lambda: vg.volumes(base=data, top=3), vg.CallError, "top is played by data"),
        (lambda: vg.volumes(base=data), vg.CallError, "volumes needs"),
        (lambda: vg.tin(XYZ), vg.CallError, "make it from arrays"),
        (lambda: vg.read("nowhere.csv"), vg.FormatError, "no such file"),
        (lambda: vg.read(), vg.CallError, "a file"),
        (lambda: data.write("a.unknown"), vg.CallError, "no format"),
        (lambda: vg.PointSet.from_arrays([[1, 2, 3]], unit="elle"), vg.CallError, "unit"),
        (lambda: vg.PointSet.from_arrays([[1, np.inf, 3]]), vg.DataError, "finite"),
        (lambda: vg.PointSet.from_arrays([[1, 2, 3]], unit="ft", crs="EPSG:32632"), vg.CallError, "metre"),
        (lambda: vg.Tin.from_arrays(XYZ, [[0, 1, 400]]), vg.DataError, "not there"),
        (lambda: vg.Areas.from_geometries([shapely.Point(1, 2)]), vg.DataError, "Point"),
        (lambda: vg.Grid.from_arrays(np.ones((2, 2)), (1, 0.5, 0, 0, -1, 0)), vg.DataError, "turned"),
        (lambda: vg.Length("abc"), vg.CallError, "length"),
        (lambda: vg.Length("3 m", "ft"), vg.CallError, "unit already"),
    ):
        with pytest.raises(error, match=words):
            call()
    with pytest.raises(AttributeError, match="no “contour”"):
        data.contour  # noqa: B018
    with pytest.raises(AttributeError, match="no “nothing”"):
        vg.nothing  # noqa: B018


def test_options_of_reading_and_units(tmp_path):
    (tmp_path / "a.csv").write_text("E,N,Z\n1,2,3\n4,5,6\n7,8,9\n")
    data = vg.read(tmp_path / "a.csv", unit="ft", vertical_unit="ft", columns="northing,easting,elevation")
    assert (data.unit, data.vertical_unit) == ("ft", "ft") and data.xyz[0].tolist() == [2.0, 1.0, 3.0]
    with pytest.raises(vg.CallError, match="columms"):
        vg.read(tmp_path / "a.csv", columms="x")
    with pytest.raises(vg.CallError, match=r"a\.csv"):
        data.write(tmp_path / "a.csv")


def test_data_cannot_be_changed(points):
    for name in ("name", "xyz", "_dataset"):
        with pytest.raises(AttributeError):
            setattr(points, name, None)
        with pytest.raises(AttributeError):
            delattr(points, name)
    for array in (points.xyz, points.attributes["no"], points.attributes["code"], points.tin().triangles):
        with pytest.raises(ValueError, match="read-only"):
            array[:1] = array[:1]
    for mapping in (points.attributes, points.figures, points.more):
        with pytest.raises(TypeError):
            mapping["x"] = 1
    assert points.named("others").name == "others" and points.name == "points"


def test_pickled_and_from_threads(points):
    answer = vg.volumes(base=points.tin(), top=points.tin().move(by=(0, 0, 1)))
    for data in (points, points.tin().grid(cell=2.0), answer):
        again = pickle.loads(pickle.dumps(data))
        assert (
            again.digest == data.digest
            and again.sentence == data.sentence
            and dict(again.figures) == dict(data.figures)
        )
    tin = points.tin()
    with ThreadPoolExecutor(4) as pool:
        found = list(pool.map(lambda step: tin.contours(interval=step).digest, [0.25, 0.5, 0.25, 0.5] * 4))
    assert found == [tin.contours(interval=step).digest for step in (0.25, 0.5)] * 8


def test_progress_is_called_and_cancels(points):
    seen = []
    points.tin(progress=lambda share, text: seen.append(share))
    assert seen and all(0.0 <= share <= 1.0 for share in seen)

    def stop(share, text):
        raise vg.Cancelled

    with pytest.raises(vg.Cancelled):
        points.tin(progress=stop)


def test_steps_are_logged_and_nothing_is_printed(points, caplog, capsys):
    with caplog.at_level("INFO", "vastgrid"):
        tin = points.tin()
    assert tin.sentence in caplog.messages
    assert capsys.readouterr() == ("", "")


def test_out_to_other_libraries_and_back(points, tmp_path):
    records = points.to_records()
    assert records.dtype.names == ("east", "north", "elevation", "code", "no") and records["code"][0] == "GL"
    assert vg.PointSet.from_records(records, unit="m", vertical_unit="m").digest == points.digest
    grid = points.tin().grid(cell=2.0)
    with rasterio.open(tmp_path / "r.tif", "w", **grid.profile) as file:
        file.write(grid.heights, 1)
    with rasterio.open(tmp_path / "r.tif") as file:
        back = vg.Grid.from_arrays(file.read(1, masked=True), file.transform, unit="m", vertical_unit="m")
        assert file.xy(3, 4) == (grid.x[4], grid.y[3])
    np.testing.assert_array_equal(back.heights, grid.heights)
    rising = grid.transform.f - 2.0 * len(grid.heights)
    turned = vg.Grid.from_arrays(grid.heights[::-1], (2, 0, grid.transform.c, 0, 2, rising))
    np.testing.assert_array_equal(turned.heights, grid.heights)
    assert turned.transform == grid.transform
    mesh = points.tin().to_trimesh()
    assert isinstance(mesh, trimesh.Trimesh) and vg.Tin.from_trimesh(mesh, unit="m").count == points.tin().count
    areas = vg.Areas.from_geometries([shapely.box(0, 0, 9, 9), shapely.box(20, 0, 25, 9)], attributes={"no": [1, 2]})
    assert [each.geom_type for each in areas.geometries] == ["Polygon", "Polygon"]
    assert shapely.area(areas.geometries).tolist() == areas.plan_sizes.tolist() == [81.0, 45.0]
    shape = shapely.geometry.shape(areas.__geo_interface__["features"][1]["geometry"])
    assert shape.equals(shapely.box(20, 0, 25, 9)) and areas.__geo_interface__["features"][1]["properties"] == {"no": 2}
    lines = vg.Linework.from_arrays([XYZ[:3], XYZ[5:9]], layers=["A", "B"], attributes={"n": ["x", "y"]})
    assert [len(line) for line in lines] == [3, 4] and lines.layers == ("A", "B")
    assert lines.geometries[1].length == pytest.approx(np.hypot(*np.diff(XYZ[5:9, :2], axis=0).T).sum())
    assert lines.__geo_interface__["features"][0]["properties"] == {"n": "x"}


def test_a_figure_of_each_kind(points):
    """Plane ground: cut and fill of a lifted plane is its area times the lift, to the last digits (closed form)."""
    east, north = (axis.ravel() for axis in np.meshgrid(np.arange(0.0, 101, 10), np.arange(0.0, 51, 10)))
    plane = vg.PointSet.from_arrays(np.column_stack((east, north, 3 + 0.1 * east)), unit="m", vertical_unit="m").tin()
    top = vg.heights(plane, add="0.5 m")
    answer = vg.volumes(base=plane, top=top)
    assert answer.figures["fill"] == pytest.approx(100 * 50 * 0.5, rel=1e-12) and answer.figures["cut"] == 0
    assert answer.tables[0].columns["fill"][-1] == answer.figures["fill"] and len(answer.tables) == 3
    apart = vg.compare(plane, top)
    assert apart.loss.largest == apart.figures["largest"] == pytest.approx(0.5)
    shots = vg.PointSet.from_arrays([[10, 10, 4.1], [90, 40, 11.9]], unit="m", vertical_unit="m")
    figures = vg.accuracy(surface=plane, points=shots).figures
    assert figures["rmse"] == pytest.approx(0.1) and figures["count"] == 2


def test_jobs_and_recipes(demo, tmp_path, run_cli):
    job = demo / "Tollgarth restoration"
    with vg.open_job(job) as own:
        ground = own["Existing ground"]
        assert ground.kind == "tin" and len(own) > 10 and "Existing ground" in own and "Nowhere" not in own
        assert all(each.kind for each in own.values())
        with pytest.raises(vg.CallError, match="no card"):
            own["Nowhere"]
    with pytest.raises(vg.CallError, match="no job"):
        vg.open_job(tmp_path)
    recipe = tmp_path / "r.toml"
    (tmp_path / "a.csv").write_text("E [m],N [m],Z [m]\n0,0,1\n10,0,2\n10,10,3\n0,10,2\n5,5,2\n")
    assert run_cli("convert", tmp_path / "a.csv", tmp_path / "a.xml", "--via", "tin", "--job", tmp_path / "job")[0] == 0
    assert run_cli("recipe", tmp_path / "job", recipe)[0] == 0
    made = vg.run(recipe, {"a": tmp_path / "a.csv"}, tmp_path / "out")
    assert made.written[0].size > 0 and made.sentences
    with pytest.raises(vg.CallError, match="needs a file"):
        vg.run(recipe, {}, tmp_path / "out2")


def test_importing_loads_nothing_heavy():
    code = "import sys, vastgrid as vg; assert vg.__version__; print([m for m in ('numpy','numba','PyQt6','scipy') if m in sys.modules])"
    made = subprocess.run([sys.executable, "-c", code], capture_output=True, text=True)
    assert made.stdout.strip() == "[]", made.stderr
    code = "import sys, vastgrid as vg; vg.PointSet.from_arrays([[0,0,1],[9,0,1],[9,9,1]]).tin(); print('PyQt6' in sys.modules)"
    made = subprocess.run([sys.executable, "-c", code], capture_output=True, text=True)
    assert made.stdout.strip() == "False", made.stderr


def test_stubs_are_those_of_the_declarations(tmp_path):
    """python -m vastgrid.library.stubs > src/vastgrid/__init__.pyi, then ruff check --fix and ruff format."""
    own = tmp_path / "__init__.pyi"
    own.write_text(stubs.text(), encoding="utf-8")
    there = ROOT / "src" / "vastgrid" / "__init__.pyi"
    config = ["--config", str(ROOT / "pyproject.toml")]
    for words in (["check", "-q", "--fix", "--ignore", "D,N801", *config], ["format", "-q", *config]):
        subprocess.run([sys.executable, "-m", "ruff", *words, str(own)], check=True)
    assert own.read_text(encoding="utf-8") == there.read_text(encoding="utf-8")
    assert all(f"class {each.__name__}(" in own.read_text(encoding="utf-8") for each in WRAPPERS.values())


def test_parameters_are_the_declared_ones():
    for conversion in catalog.CONVERSIONS:
        told = getattr(vg, conversion.id).__doc__
        assert conversion.help in told and all(each.name in told for each in declare.fields(conversion.params))
    assert METRES.horizontal.value == vg.PointSet.from_arrays(XYZ).unit


def test_errors_speak_of_parameters(tmp_path):
    """What the command line calls an option is a parameter of a script."""
    (tmp_path / "a.csv").write_text("E,N,Z\n1,2,3\n4,5,6\n7,1,9\n")
    data = vg.read(tmp_path / "a.csv")
    with pytest.raises(vg.CallError) as caught:
        data.tin(max_edge="60 m").contours(interval="1 ft").write(tmp_path / "a.xml")
    assert "--" not in str(caught.value)
    (tmp_path / "b.csv").write_text("E [m],N [m],Z [m]\n1,2,3\n4,5,6\n7,1,9\n")
    with pytest.raises(vg.CallError, match="override_units=True makes") as caught:
        vg.read(tmp_path / "b.csv", unit="ft", vertical_unit="ft")
    assert "--" not in str(caught.value)
