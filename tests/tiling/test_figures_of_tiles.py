"""What adds up over tiles is what the whole gives: volumes of two grids, areas of bands."""

from __future__ import annotations

import json
import shutil

import numpy as np
import pytest
import rasterio
import shapely
from rasterio import Affine

from tiling.grounds import at_once, in_tiles, put, read, same_cells
from vastgrid import catalog
from vastgrid.base.errors import CallError
from vastgrid.base.progress import Silent
from vastgrid.cli.main import run as command
from vastgrid.declarations.conversion import Inputs
from vastgrid.params import declare

DOUBLE = {"precision": "float64"}


@pytest.fixture(scope="module")
def two(tmp_path_factory):
    """Two surveys on lattices that do not fit, with holes, on different ground; and boundaries across tiles."""
    folder = tmp_path_factory.mktemp("two")
    y, x = np.mgrid[0:180, 0:260]
    before = 100 + 8 * np.sin(x / 40) + 5 * np.cos(y / 31)
    before[40:47, 60:75] = -9999
    put(folder / "before.tif", before, Affine(1.5, 0, 500_000.2, 0, -1.5, 5_000_300.4), -9999, "EPSG:25832+7837")
    y, x = np.mgrid[0:120, 0:200]
    after = (
        101 + 8 * np.sin(x * 2.1 / 60) + 5 * np.cos(y * 2.1 / 47) + np.where((x - 90) ** 2 + (y - 60) ** 2 < 400, 6, 0)
    )
    after[:, 150:154] = -9999
    put(folder / "after.tif", after, Affine(2.1, 0, 500_020.7, 0, -2.1, 5_000_290.1), -9999, "EPSG:25832+7837")
    rings = {
        "pit": [[500_060, 5_000_060], [500_200, 5_000_080], [500_170, 5_000_230], [500_060, 5_000_060]],
        "tip": [[500_180, 5_000_100], [500_330, 5_000_100], [500_330, 5_000_200], [500_180, 5_000_200], [500_180, 5_000_100]],
    }  # fmt: skip
    features = [
        {"type": "Feature", "properties": {"name": name}, "geometry": {"type": "Polygon", "coordinates": [ring]}}
        for name, ring in rings.items()
    ]
    crs = {"type": "name", "properties": {"name": "urn:ogc:def:crs:EPSG::25832"}}
    (folder / "areas.geojson").write_text(json.dumps({"type": "FeatureCollection", "crs": crs, "features": features}))
    return folder


def answered(capsys, *words):
    assert command(["volumes", *map(str, words), "--json"]) == 0
    return json.loads(capsys.readouterr().out)


@pytest.mark.parametrize("inside", [False, True], ids=["all", "inside two lines"])
@pytest.mark.parametrize("tile", ["61m", "200m"])
def test_volumes_on_tiles_are_those_of_the_whole(two, tmp_path, monkeypatch, capsys, inside, tile):
    monkeypatch.chdir(tmp_path)
    words = [two / "before.tif", two / "after.tif", "--cell", "1", "--depth", "0.7", "--sections", "9"]
    words += ["--inside", two / "areas.geojson"] if inside else []
    want, got = answered(capsys, *words), answered(capsys, *words, "--tiles", tile, "--workers", "0")
    assert got["tiled"]["tiles"] > (30 if tile == "61m" else 1)
    scale = want["cut"] + want["fill"]
    for name in ("cut", "fill", "net", "cut_area", "fill_area", "common_area"):
        assert got[name] == pytest.approx(want[name], rel=1e-9, abs=1e-9 * scale)
    assert [each["name"] for each in got["parts"]] == (["pit", "tip"] if inside else ["in all"][:0] or [])
    for ours, theirs in zip(got["parts"] + got["methods"], want["parts"] + want["methods"], strict=True):
        assert ours["name"] == theirs["name"]
        for name in ("cut", "fill", "cut_area", "fill_area", "common_area"):
            # Where a cell's centre or a section's end lies on a rim, a rounding decides.
            most = 1e-9 if "by" not in ours["name"] else 2e-4
            assert ours[name] == pytest.approx(theirs[name], rel=most, abs=most * scale)
    assert not list(tmp_path.iterdir())


def test_classes_of_depth_add_up_over_tiles(two, tmp_path, monkeypatch, capsys):
    monkeypatch.chdir(tmp_path)
    words = ["volumes", str(two / "before.tif"), str(two / "after.tif"), "--depth", "0.5"]
    tables = []
    for more in ([], ["--tiles", "77m", "--workers", "0"]):
        assert command([*words, *more]) == 0
        text = capsys.readouterr().out
        tables.append(text[text.index("depth classes") :].split("\n\n")[0])
    assert tables[0] == tables[1]


def test_a_folder_is_one_of_two_surfaces(two, tmp_path, monkeypatch, capsys):
    monkeypatch.chdir(tmp_path)
    with rasterio.open(two / "after.tif") as file:
        z, place = file.read(1), file.transform
    (tmp_path / "after, second").mkdir()
    for k, (left, right) in enumerate(((0, 77), (77, 200))):
        put(
            tmp_path / "after, second" / f"{k}.tif",
            z[:, left:right],
            place @ Affine.translation(left, 0),
            -9999,
            "EPSG:25832+7837",
        )
    want = answered(capsys, two / "before.tif", two / "after.tif")
    got = answered(capsys, two / "before.tif", tmp_path / "after, second", "--workers", "0")
    assert got["cut"] == pytest.approx(want["cut"], rel=1e-9)
    assert got["fill"] == pytest.approx(want["fill"], rel=1e-9)


def test_a_folder_can_hold_all_that_plays_a_role(dem, tmp_path):
    put_both = [("difference", {"as": "grid", "base": "jacksboro.tif", "top": "other.tif"})]
    in_tiles([dem], put_both, tmp_path / "one.tif", 4000.0, write=DOUBLE)
    in_tiles([dem / "jacksboro.tif", dem / "other.tif"], put_both, tmp_path / "two.tif", 4000.0, write=DOUBLE)
    assert same_cells(*read([tmp_path / "one.tif", tmp_path / "two.tif"]))


def test_boundaries_beside_a_raster_larger_than_memory_take_no_room(two, tmp_path, monkeypatch):
    """What stands for it has as many cells, and nothing may copy them."""
    import tracemalloc

    from vastgrid.base.progress import Silent as Quiet
    from vastgrid.execution.input_options import Options, Said
    from vastgrid.execution.run_log import Account, Via
    from vastgrid.tiled.plans import TilingOptions, planned

    with rasterio.open(
        tmp_path / "huge.tif", "w", driver="GTiff", width=60_000, height=60_000, count=1, dtype="float32",
        crs="EPSG:25832+7837", transform=Affine(0.01, 0, 500_000, 0, -0.01, 5_000_300), nodata=-9999, tiled=True,
        sparse_ok=True, blockxsize=512, blockysize=512,
    ):  # fmt: skip
        pass
    tracemalloc.start()
    roles = {"base": str(two / "before.tif"), "top": str(tmp_path / "huge.tif"), "inside": str(two / "areas.geojson")}
    for base, top in (("base", "top"), ("top", "base")):
        words = {"base": roles[base], "top": roles[top], "inside": roles["inside"]}
        via = Via(catalog.conversion_named("volumes"), words)
        paths = [two / "before.tif", tmp_path / "huge.tif", two / "areas.geojson"]
        plan = planned(paths, [via], Options(), Said(), TilingOptions(), Account(), Quiet())
        assert len(plan.extras) == 1
    _, most = tracemalloc.get_traced_memory()
    tracemalloc.stop()
    assert most < 200_000_000


def test_volumes_on_tiles_say_what_they_cannot_use(two, tmp_path, monkeypatch, capsys):
    monkeypatch.chdir(tmp_path)
    y, x = np.mgrid[0:50, 0:50]
    put(tmp_path / "far.tif", x + y + 0.0, Affine(1, 0, 900_000, 0, -1, 5_000_300), -9999, "EPSG:25832+7837")
    put(tmp_path / "other.tif", x + y + 0.0, Affine(1, 0, 500_000, 0, -1, 5_000_300), -9999, "EPSG:25833+7837")
    shutil.copy(two / "areas.geojson", tmp_path / "open.geojson")
    text = (tmp_path / "open.geojson").read_text().replace("Polygon", "LineString").replace("[[[", "[[")
    (tmp_path / "open.geojson").write_text(text.replace("]]]", "]]"))
    for words, why in (
        ([tmp_path / "far.tif"], "no ground in common"),
        ([tmp_path / "other.tif"], "bring them into one system"),
        ([two / "areas.geojson"], "cannot be read in parts"),
        ([two / "after.tif", "--inside", two / "after.tif"], "inside"),
        ([two / "after.tif", "--cell", "0.001"], "cells in a tile"),
    ):
        assert command(["volumes", str(two / "before.tif"), *map(str, words), "--tiles", "100m", "--workers", "0"]) != 0
        assert why in capsys.readouterr().err
    assert (
        command(
            ["convert", str(two / "before.tif"), str(two / "after.tif"), "x.tif", "--via", "volumes", "--tiles", "90"]
        )
        != 0
    )
    assert "its own command" in capsys.readouterr().err


@pytest.mark.parametrize("words", [{"interval": "3"}, {"limits": "95, 99.5, 104"}])
def test_bands_as_a_grid_do_not_depend_on_the_tiles(two, tmp_path, words):
    steps = [("bands", {**words, "as": "grid"})]
    (grid,) = read([two / "before.tif"])
    want = at_once(grid, steps)
    conversion = catalog.conversion_named("bands")
    params = declare.build(conversion.params, dict(steps[0][1]))
    told = conversion.run(Inputs.of_pairs([("surface", grid)]), params, Silent()).findings[0].text
    for tile in (50.0, 140.0):
        run = in_tiles([two / "before.tif"], steps, tmp_path / "bands.tif", tile, write=DOUBLE)
        (got,) = read([tmp_path / "bands.tif"])
        assert same_cells(want, got)
        assert got.quantity == "height band"
        assert told in [finding.text for finding in run.account.findings()]


def test_bands_of_slope_on_tiles(two, tmp_path):
    steps = [("slope", {}), ("bands", {"interval": "5", "as": "grid"})]
    (grid,) = read([two / "before.tif"])
    in_tiles([two / "before.tif"], steps, tmp_path / "bands.tif", 70.0, write=DOUBLE)
    assert same_cells(at_once(grid, steps), read([tmp_path / "bands.tif"])[0])
    for more, target, why in (
        ({"as": "grid"}, "no.tif", "say where bands end"),
        ({"interval": "5"}, "no.tif", "areas"),
    ):
        with pytest.raises(CallError, match=why):
            in_tiles([two / "before.tif"], [("bands", more)], tmp_path / target, 70.0)


def outlines(made):
    """Return every outline with what it knows, its places from the least on, in one direction."""
    found = []
    for k, shape in enumerate(made.shapes()):
        ring = shapely.normalize(shape)
        known = tuple(made.attributes[name][k] for name in ("band", "from", "to"))
        found.append((str(known), round(float(made.attributes["area"][k]), 6), ring))
    return sorted(found, key=lambda each: (each[0], each[1], shapely.get_coordinates(each[2]).tolist()))


@pytest.mark.parametrize("name", ["before.tif", "jacksboro.tif", "level.tif"])
@pytest.mark.parametrize("words", [{"interval": "20"}, {"limits": "102, 300, 400, 455"}])
def test_outlines_of_bands_join_over_seams(two, dem, tmp_path, name, words):
    """Also where whole numbers lie on limits: flat ground, ridges and rims on a level, on seams and off them."""
    path = (dem if name == "jacksboro.tif" else two) / name
    if name == "level.tif":
        rng = np.random.default_rng(4)
        z = rng.choice([280.0, 300.0, 320.0, 340.0], (60, 90), p=[0.2, 0.4, 0.3, 0.1])
        z[rng.random(z.shape) < 0.02] = -9999
        put(path, z, Affine(1.1, 0, 500_000.3, 0, -1.1, 5_000_000.7), -9999)
    (grid,) = read([path])
    if name == "jacksboro.tif":
        # A quarter of it has as many kinds of seams.
        path = tmp_path / name
        place = Affine(grid.dx, 0, grid.west, 0, -grid.dy, grid.north)
        put(path, np.nan_to_num(grid.heights[:172, :200], nan=-32768), place, -32768)
        (grid,) = read([path])
    steps = [("bands", words)]
    want = outlines(at_once(grid, steps))
    side = grid.dx * max(grid.heights.shape)
    for tile in (0.23 * side, 0.6 * side):
        run = in_tiles([path], steps, tmp_path / "bands.gpkg", tile)
        (got,) = read([tmp_path / "bands.gpkg"])
        got = outlines(got)
        assert len(got) == len(want)
        for ours, theirs in zip(got, want, strict=True):
            assert ours[:2] == theirs[:2]
            assert shapely.equals_exact(ours[2], theirs[2], tolerance=1e-6)
        assert "bands" in [finding.code for finding in run.account.findings()]


def test_a_length_says_the_unit_of_data_that_has_none_on_tiles_too(tmp_path):
    y, x = np.mgrid[0:60, 0:80]
    put(tmp_path / "g.tif", 50 + x * 0.3 + np.sin(y / 4), Affine(2, 0, 500_000, 0, -2, 5_000_000), -9999)
    steps = [("contours", {"interval": "2m"})]
    run = in_tiles([tmp_path / "g.tif"], steps, tmp_path / "c.gpkg", 50.0)
    assert any("was taken to be that" in finding.text for finding in run.account.findings())
    assert read([tmp_path / "c.gpkg"])[0].frame.vertical.value == "m"


def test_large_grids_in_memory_are_added_up_piece_by_piece(two, tmp_path, monkeypatch, capsys):
    """No more than a piece is held as triangles, whatever a job has open."""
    from vastgrid.conversions.answers import volumes
    from vastgrid.terrain.cells import adding

    words = [two / "before.tif", two / "after.tif", "--cell", "1", "--depth", "0.7", "--inside", two / "areas.geojson"]
    want = answered(capsys, *words)
    monkeypatch.setattr(adding, "PIECE", 3000)
    monkeypatch.setattr(volumes, "PIECE", 3000)
    held = []
    whole = volumes.for_volumes
    monkeypatch.setattr(
        volumes, "for_volumes", lambda data, *other: held.append(data.heights.size) or whole(data, *other)
    )
    got = answered(capsys, *words)
    assert max(held) < 8000
    assert len(held) > 30
    for ours, theirs in zip([got, *got["parts"]], [want, *want["parts"]], strict=True):
        for name in ("cut", "fill", "cut_area", "fill_area", "common_area"):
            assert ours[name] == pytest.approx(theirs[name], rel=1e-9)
