"""What has to hold for every conversion and format in the catalog, whichever they are."""

import dataclasses
import importlib
import os
import pkgutil
import subprocess
import sys
from pathlib import Path

import numpy as np
import pytest
import shapely

import samples
import vastgrid.conversions
import vastgrid.formats
from builders import METRES, ground, scattered
from examples import asked_of, examples
from vastgrid import catalog
from vastgrid.base.errors import CallError, Cancelled, DataError, ParamError, WriteError
from vastgrid.base.progress import Silent
from vastgrid.base.quantities import Length, Unit
from vastgrid.conversions.grids import grid
from vastgrid.conversions.lines import contours
from vastgrid.data.areas import from_shapes
from vastgrid.data.frame import Frame, frame_of_crs
from vastgrid.data.linework import from_lines
from vastgrid.data.mesh import Mesh
from vastgrid.declarations.conversion import Conversion, Inputs
from vastgrid.declarations.fileformat import Format, losses
from vastgrid.delivery.deliver import deliver
from vastgrid.execution.describing import described
from vastgrid.execution.steps import convert, read_file
from vastgrid.params import declare

# A plan on paper is looked at, not read; it has tests of its own.
WRITERS = [each for each in catalog.FORMATS if each.write and each.verify is None]
READERS = [each for each in catalog.FORMATS if each.read]


def carried(dataset, target):
    """What a format is given: the dataset, in a reference system where the format needs one."""
    if not target.carries.geographic:
        return dataset
    # The examples lie in no real place; moved by a round figure they lie in a UTM zone.
    utm = Frame(frame_of_crs("EPSG:32632").crs, Unit.METRE, Unit.METRE)
    name = next(each for each in ("xyz", "vertices", "plan") if hasattr(dataset, each))
    places = getattr(dataset, name)
    moved = places + np.array((500_000.0, 4_400_000.0, 0.0))[: places.shape[1]]
    return dataclasses.replace(dataset, **{name: moved}, frame=utm)


@pytest.fixture(scope="module")
def kinds():
    return examples()


def test_every_module_is_listed_once():
    for package, listed in ((vastgrid.conversions, catalog.CONVERSIONS), (vastgrid.formats, catalog.FORMATS)):
        # A module has one declaration; one of formats may have others, of files that its reader reads too.
        declared = []
        for module in pkgutil.walk_packages(package.__path__, f"{package.__name__}."):
            own = vars(importlib.import_module(module.name)).values()
            declared += [each for each in own if isinstance(each, Conversion | Format)]
        assert {id(each) for each in declared} == {id(each) for each in listed}
        assert len(declared) == len(listed)
        assert tuple(each.id for each in listed) == listed.ids


@pytest.mark.parametrize("declared", [*catalog.CONVERSIONS, *catalog.FORMATS], ids=lambda each: each.id)
def test_parameters_round_trip_as_words(declared):
    for params in {
        getattr(declared, name) for name in ("params", "read_params", "write_params") if hasattr(declared, name)
    }:
        made = params()
        assert declare.build(params, declare.to_words(made)) == made
        for field in declare.fields(params):
            assert field.param.help.endswith(".") and field.param.label
            with pytest.raises(ParamError):
                declare.build(params, {field.name + "_": "1"})
            if field.kind in (int, float):
                with pytest.raises(ParamError):
                    declare.build(params, {field.name: "inf"})


@pytest.mark.parametrize("declared", [*catalog.CONVERSIONS, *catalog.FORMATS], ids=lambda each: each.id)
def test_no_choice_is_called_as_no_choice_is(declared):
    """Where a value may be open, “none” and “off” leave it open: no choice can have that name."""
    for name in ("params", "read_params", "write_params"):
        for field in declare.fields(getattr(declared, name)) if hasattr(declared, name) else ():
            if field.optional:
                assert not {"none", "off"} & set(field.choices), field.name


@pytest.mark.parametrize("conversion", catalog.CONVERSIONS, ids=lambda each: each.id)
def test_every_conversion_runs_and_speaks(conversion, kinds):
    for kind in conversion.takes_with(conversion.params()):
        if (kind.kind == "lines" and conversion.id == "tin") or conversion.id in ("reproject", "system"):
            continue
        if not conversion.single:
            continue
        source = kinds[kind.kind]
        if not conversion.can_use(source):
            source = scattered(121, height=lambda x, y: x)
            steps = np.stack(np.meshgrid(np.arange(11.0), np.arange(11.0)), axis=-1).reshape(-1, 2)
            source = dataclasses.replace(source, xyz=np.column_stack((steps, source.xyz[:, 2])))
        assert conversion.can_use(source)
        group = [source] * max(conversion.main.least, 1)
        result, params = convert(conversion, group, asked_of(conversion), Silent())
        assert isinstance(result.dataset, conversion.gives([kind]))
        said = declare.plain(conversion.sentence(params, [each.name for each in group]))
        assert source.name in said and said.endswith(".") and "{" not in said
        assert "None" not in said
        assert isinstance(conversion.estimate(group, params), str)
        assert conversion.own_frame or result.dataset.frame == source.frame


@pytest.mark.parametrize("conversion", catalog.CONVERSIONS, ids=lambda each: each.id)
def test_what_is_settled_beside_degrees_can_be_said(conversion, kinds):
    """Sentence, recipe and job hold settled values as words: what a conversion settles has to be read again."""
    for kind in conversion.takes_with(conversion.params()):
        if not conversion.single or not conversion.can_use(kinds[kind.kind]):
            continue
        source = kinds[kind.kind].with_coordinates(1e-5, 1.0, Frame("EPSG:4326", Unit.DEGREE, Unit.METRE))
        group = [source] * max(conversion.main.least, 1)
        try:
            params = conversion.settle(
                Inputs.of_pairs([(conversion.main.role, each) for each in group]), conversion.params()
            )
        except CallError:
            continue
        assert declare.build(conversion.params, declare.to_words(params)) == params


@pytest.mark.parametrize("target", WRITERS, ids=lambda each: each.id)
def test_what_a_format_claims_survives(target, kinds, tmp_path):
    for kind in target.carries.kinds:
        dataset = carried(kinds[kind.kind], target)
        path = tmp_path / f"{kind.kind}{target.suffixes[0]}"
        delivery = deliver([dataset], path, target, target.write_params(), Silent())
        assert delivery.good, delivery.checks
        assert delivery.vertical < 1e-4 and delivery.plan < 1e-4
        assert catalog.recognise(path) is target, "recognised by its content"
        assert all(isinstance(finding.text, str) for finding in losses(dataset, target.carries))
    names = {f"{kind.kind}{target.suffixes[0]}" for kind in target.carries.kinds}
    parts = {f"{kind.kind}{ending}" for kind in target.carries.kinds for ending in target.parts}
    assert names <= {path.name for path in tmp_path.iterdir()} <= names | parts, "nothing but the files is left"


def larger():
    """One of each kind that is long enough for its header not to matter."""
    tin, points = ground(3000), scattered(3000)
    rows = np.split(points.xyz, 150)
    return {
        **examples(),
        "tin": tin,
        "mesh": Mesh(name="box", frame=METRES, vertices=tin.vertices, triangles=tin.triangles),
        "points": points,
        "grid": grid.run([tin], grid.GridParams(Length(1)), Silent()).dataset,
        "contours": contours.run([tin], contours.ContourParams(Length(0.5)), Silent()).dataset,
        "lines": from_lines("edges", METRES, rows, ["KERB"] * len(rows)),
        "areas": from_shapes(shapely.buffer(shapely.points(points.xyz[::3, :2]), 0.5), name="plots", frame=METRES),
    }


@pytest.mark.parametrize("target", WRITERS, ids=lambda each: each.id)
def test_sizes_are_foretold(target, tmp_path):
    for kind in target.carries.kinds:
        if kind.kind == "survey":
            continue
        dataset = carried(larger()[kind.kind], target)
        delivery = deliver([dataset], tmp_path / f"a{target.suffixes[0]}", target, target.write_params(), Silent())
        ratio = (1500.0 + target.weigh(dataset)) / delivery.size
        assert 0.5 < ratio < 2.0, f"{kind.kind}: foretold {ratio:.2f} times what it is"


def test_the_usual_format_holds_everything_that_goes_out():
    def usual(*kinds):
        return catalog.usual_format([type(examples()[kind]) for kind in kinds]).id

    assert usual("tin") == usual("tin", "points") == usual("survey") == "landxml"
    assert usual("grid") == "geotiff"
    assert catalog.usual_format([]).write is not None


@pytest.mark.parametrize("target", WRITERS, ids=lambda each: each.id)
def test_cancel_and_faults_leave_what_was_there(target, kinds, tmp_path, monkeypatch):
    dataset = carried(kinds[target.carries.kinds[0].kind], target)
    path = tmp_path / f"a{target.suffixes[0]}"
    path.write_text("what was there")
    for allowed in (0, 1, 2):
        calls = iter(range(100))
        with pytest.raises(Cancelled):
            deliver(
                [dataset], path, target, target.write_params(), Silent(lambda calls=calls, n=allowed: next(calls) >= n)
            )
        assert path.read_text() == "what was there" and len(list(tmp_path.iterdir())) == 1

    def full(*_args, **_options):
        raise OSError(28, "No space left on device")

    monkeypatch.setattr(os, "fsync", full)
    with pytest.raises(WriteError, match="the disk is full"):
        deliver([dataset], path, target, target.write_params(), Silent())
    monkeypatch.undo()
    assert path.read_text() == "what was there" and len(list(tmp_path.iterdir())) == 1


@pytest.mark.parametrize("target", WRITERS, ids=lambda each: each.id)
def test_disk_that_fills_while_writing(target, kinds, tmp_path):
    """A limit on file size stands for a full disk: the system refuses in the middle of a write."""
    import resource
    import signal

    most = max((kinds[kind.kind] for kind in target.carries.kinds), key=lambda each: sum(each.count().values()))
    dataset = carried(most, target)
    before = resource.getrlimit(resource.RLIMIT_FSIZE)
    handler = signal.signal(signal.SIGXFSZ, signal.SIG_IGN)
    resource.setrlimit(resource.RLIMIT_FSIZE, (1500, before[1]))
    try:
        with pytest.raises((WriteError, DataError)):
            deliver([dataset], tmp_path / f"a{target.suffixes[0]}", target, target.write_params(), Silent())
    finally:
        resource.setrlimit(resource.RLIMIT_FSIZE, before)
        signal.signal(signal.SIGXFSZ, handler)
    assert not list(tmp_path.iterdir())


def test_no_permission(kinds, tmp_path):
    if os.geteuid() == 0:
        # Root may write anywhere, so a folder that is none stands for one that may not be written.
        target = Path("/proc/nowhere.xml")
    else:
        tmp_path.chmod(0o500)
        target = tmp_path / "a.xml"
    landxml = catalog.format_named("landxml")
    with pytest.raises(WriteError, match="was not written"):
        deliver([kinds["tin"]], target, landxml, landxml.write_params(), Silent())


@pytest.mark.qt_no_exception_capture
@pytest.mark.parametrize("reader", READERS, ids=lambda each: each.id)
def test_garbage_gives_our_error(reader, tmp_path):
    rng = np.random.default_rng(7)
    for size in (1, 20, 3000):
        for head in (
            b"",
            b"LASF",
            b"<?xml version='1.0'?><LandXML>",
            b"  0\nSECTION\n",
            b"II*\0",
            b"ncols 5\nnrows 5\n",
        ):
            path = tmp_path / f"a{reader.suffixes[0]}"
            path.write_bytes(head + rng.bytes(size))
            with pytest.raises(DataError):
                reader.read(path, reader.read_params(), Silent())


@pytest.mark.parametrize("reader", READERS, ids=lambda each: each.id)
def test_a_sample_is_recognised_by_content_whatever_its_name(reader, tmp_path):
    path = samples.sample(reader.id, tmp_path)
    assert catalog.recognise(path) is reader
    blanks = path.with_name(f"ein Name, 地形{path.suffix}")
    for each in list(tmp_path.iterdir()):
        each.rename(each.with_name(each.name.replace(path.stem, blanks.stem, 1)))
    source = read_file(blanks, {}, Silent())
    assert source.format is reader and source.datasets
    for dataset in source.datasets:
        assert dataset.extent().east is not None and dataset.name
        assert described(dataset)["count"]


@pytest.mark.parametrize("reader", READERS, ids=lambda each: each.id)
def test_reading_can_be_cancelled(reader, tmp_path):
    path = samples.sample(reader.id, tmp_path)
    with pytest.raises(Cancelled):
        reader.read(path, reader.read_params(), Silent(lambda: True))


def test_names_in_any_script_and_blanks(kinds, tmp_path):
    folder = tmp_path / "grün ground, 地形"
    folder.mkdir()
    for target in WRITERS:
        dataset = carried(kinds[target.carries.kinds[0].kind], target).renamed("Böschung 地形 ‘x’ & <y>")
        path = folder / f"Böschung 地形 {target.id}{target.suffixes[0]}"
        assert deliver([dataset], path, target, target.write_params(), Silent()).good
        assert read_file(path, {}, Silent()).datasets


def test_nothing_but_qt_needs_qt():
    """Imports everything outside vastgrid.qt with Qt blocked, wrappers and dynamic imports included."""
    code = """
import importlib, pkgutil, sys
class Block:
    def find_spec(self, name, path=None, target=None):
        if name.split('.')[0] in ('PyQt6', 'PySide6', 'qtpy', 'matplotlib'):
            raise ImportError('blocked: ' + name)
sys.meta_path.insert(0, Block())
import vastgrid
for module in pkgutil.walk_packages(vastgrid.__path__, 'vastgrid.'):
    if not module.name.startswith('vastgrid.qt') and not module.name.endswith('__main__'):
        importlib.import_module(module.name)
print('all imported')
"""
    done = subprocess.run([sys.executable, "-c", code], capture_output=True, text=True, check=False)
    assert "all imported" in done.stdout, done.stderr


def test_import_contracts_catch_a_planted_fault(tmp_path):
    """A contract that names the wrong module is green for ever, so one fault is planted for each."""
    import shutil

    root = Path(__file__).parents[2]
    shutil.copytree(root / "src" / "vastgrid", tmp_path / "vastgrid")
    shutil.copy(root / "pyproject.toml", tmp_path)
    faults = {
        "kernels/triangles/locate.py": "import vastgrid.catalog\n",
        "formats/obj.py": "import vastgrid.formats.text\n",
        "conversions/grids/grid.py": "import vastgrid.conversions.surfaces.tin\n",
        "checks/gaps.py": "import vastgrid.checks.spikes\n",
        "lineage/store.py": "import PyQt6.QtCore\n",
        "qt/desk/making.py": "import vastgrid.qt.panel.panel\n",
        "execution/steps.py": "import vastgrid.execution.executor\n",
        "delivery/pairing.py": "import vastgrid.delivery.deliver\n",
        "jobs/openjob.py": "import vastgrid.jobs.session\n",
        "tiled/plans.py": "import vastgrid.tiled.run\n",
    }
    for name, line in faults.items():
        with (tmp_path / "vastgrid" / name).open("a") as file:
            file.write(line)
    tool = Path(sys.executable).with_name("lint-imports")
    done = subprocess.run(
        [tool, "--no-cache"],
        cwd=tmp_path,
        capture_output=True,
        text=True,
        check=False,
        env={**os.environ, "PYTHONPATH": str(tmp_path)},
    )
    assert done.returncode == 1
    assert "10 broken" in done.stdout, done.stdout[-2000:]


def test_modules_are_importable_alone():
    for name in ("vastgrid.jobs.session", "vastgrid.cli.main", "vastgrid.formats.landxml"):
        importlib.import_module(name)
