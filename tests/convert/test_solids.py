"""Solids for printing and structures: closed, of the right volume and size, by trimesh; STL and OBJ out and back."""

import numpy as np
import pytest
import trimesh

from builders import METRES, ground, scattered
from vastgrid import catalog
from vastgrid.base.errors import CallError, DataError, ParamError
from vastgrid.base.progress import Silent
from vastgrid.base.quantities import Unit
from vastgrid.conversions.solids import solid, structures
from vastgrid.data.frame import UNKNOWN, Frame
from vastgrid.data.grid import Grid
from vastgrid.data.mesh import Mesh
from vastgrid.declarations.conversion import Inputs
from vastgrid.delivery.deliver import deliver
from vastgrid.measures.heights import heights
from vastgrid.params import declare

FEET = Frame(None, Unit.FOOT, Unit.FOOT)


def made(surface, **words):
    params = declare.build(solid.SolidParams, {name: str(word) for name, word in words.items()})
    return solid.run([surface], solid.settle([surface], params), Silent())


def body(mesh, part=None):
    faces = mesh.triangles if part is None else mesh.triangles[mesh.part == part]
    return trimesh.Trimesh(mesh.vertices, faces, process=True)


def flat(frame=METRES, size=101, height=12.0):
    return Grid(
        name="Flat", frame=frame, heights=np.full((size, size), height), west=0.0, north=float(size), dx=1.0, dy=1.0
    )


def test_a_level_slab_by_hand():
    """100 m square at 1:1000 on a base of 3 mm: 100 × 100 × 3 mm, 30 000 mm³."""
    own = body(made(flat(), scale=1000, base=3, spacing=2).dataset)
    assert own.is_watertight and own.is_winding_consistent
    assert own.extents == pytest.approx([100, 100, 3])
    assert own.volume == pytest.approx(30_000.0)


def test_a_wedge_with_exaggeration_by_hand():
    """A ramp of 10 m over 100 m, heights × 2, at 1:500: 200 mm square, 40 mm rise; volume 200² (2 + 40 / 2)."""
    east = np.tile(np.linspace(0.0, 10.0, 101), (101, 1))
    ramp = Grid(name="Ramp", frame=METRES, heights=east, west=0.0, north=101.0, dx=1.0, dy=1.0)
    own = body(made(ramp, scale=500, base=2, exaggeration=2, spacing=2).dataset)
    assert own.is_watertight
    assert own.volume == pytest.approx(200.0**2 * 22.0, rel=1e-9)
    assert own.extents[2] == pytest.approx(42.0)


def test_feet_are_feet():
    own = made(flat(FEET), scale=1000, base=3, spacing=2).dataset
    assert np.ptp(own.vertices[:, 0]) == pytest.approx(100 * 0.3048)
    assert own.frame.horizontal is Unit.MILLIMETRE
    with pytest.raises(CallError, match="not known"):
        made(flat(UNKNOWN), scale=1000)


def test_ragged_ground_with_holes_is_closed():
    rng = np.random.default_rng(4)
    z = rng.random((60, 80)) * 5.0
    z[rng.random((60, 80)) < 0.25] = np.nan
    z[20:30, 30:50] = np.nan
    ragged = Grid(name="Ragged", frame=METRES, heights=z, west=0.0, north=60.0, dx=1.0, dy=1.0)
    own = body(made(ragged, scale=1000, spacing=1).dataset)
    assert own.is_watertight and own.is_winding_consistent and own.volume > 0
    tin = ground(900)
    assert body(made(tin, scale=2000, spacing=0.7).dataset).is_watertight


def test_what_does_not_fit_says_what_would():
    with pytest.raises(DataError, match=r"500\.0 × 500\.0 × 3\.0 mm and does not fit .* 1:500 would fit"):
        made(flat(), scale=200, bed="200x250", spacing=5)
    turned = Grid(name="Long", frame=METRES, heights=np.zeros((101, 41)), west=0.0, north=101.0, dx=1.0, dy=1.0)
    assert made(turned, scale=500, bed="200x80", spacing=5).dataset, "it fits turned by a quarter"
    with pytest.raises(ParamError, match="not a bed"):
        made(flat(), bed="large")


def test_tiles_fit_close_and_add_up():
    tin = ground(900)
    whole = body(made(tin, scale=500, bed="1000x1000", spacing=2).dataset)
    result = made(tin, scale=500, bed="180x160", tiles="yes", spacing=2)
    pieces = result.dataset.pieces()
    assert len(pieces) > 1 and any(finding.code == "tiles" for finding in result.findings)
    bodies = [trimesh.Trimesh(piece.vertices, piece.triangles, process=True) for piece in pieces]
    assert all(each.is_watertight for each in bodies)
    for each in bodies:
        wide, tall = sorted(each.extents[:2])
        assert wide <= 160.001 and tall <= 180.001
        assert each.bounds[0][:2] == pytest.approx([0, 0])
    assert sum(each.volume for each in bodies) == pytest.approx(whole.volume, rel=1e-3)


def test_files_of_tiles_by_command(tmp_path, run_cli):
    path = tmp_path / "dem.asc"
    rows = "\n".join(" ".join(f"{10 + 0.1 * (r + c):.2f}" for c in range(60)) for r in range(60))
    path.write_text(f"ncols 60\nnrows 60\nxllcorner 431000\nyllcorner 887000\ncellsize 1\n{rows}\n")
    said = [
        "--from-units",
        "m",
        "--from-vertical-units",
        "m",
        "--via",
        "solid",
        "scale=200",
        "spacing=5",
        "bed=200x200",
    ]
    code, _, err = run_cli("convert", path, tmp_path / "site.stl", *said)
    assert code == 1 and "would fit" in err
    assert run_cli("convert", path, tmp_path / "site.stl", *said, "tiles=yes")[0] == 0
    names = sorted(each.name for each in tmp_path.glob("*.stl"))
    assert names == ["site-1.stl", "site-2.stl", "site-3.stl", "site-4.stl"]
    for name in names:
        assert trimesh.load(tmp_path / name).is_watertight
    assert run_cli("convert", path, tmp_path / "one.obj", *said[:-1], "bed=400x400")[0] == 0
    assert trimesh.load(tmp_path / "one.obj").is_watertight


@pytest.mark.parametrize("name", ["stl", "obj"])
def test_surfaces_and_solids_come_back_as_they_went(name, tmp_path):
    target = catalog.format_named(name)
    for each in (ground(500), made(ground(300), scale=2000, spacing=2).dataset):
        delivery = deliver([each], tmp_path / f"a.{name}", target, target.write_params(), Silent())
        assert delivery.good, delivery.checks
        assert delivery.vertical < 1e-4 and delivery.plan < 1e-4


def test_single_precision_gets_an_origin_that_the_file_tells(tmp_path):
    stl = catalog.format_named("stl")
    tin = ground(200)
    deliver([tin], tmp_path / "a.stl", stl, stl.write_params(), Silent())
    head = (tmp_path / "a.stl").read_bytes()[:80]
    assert head.startswith(b"Vast Grid; origin 43100") and b"unit m" in head
    assert np.abs(trimesh.load(tmp_path / "a.stl").vertices[:, :2]).max() < 1000.0
    assert stl.read(tmp_path / "a.stl", stl.read_params(), Silent()).datasets[0].extent().east == pytest.approx(
        tin.extent().east, abs=1e-3
    )


def stand(points, *surface, **words):
    params = declare.build(structures.StructureParams, {name: str(word) for name, word in words.items()})
    pairs = [("points", points), *(("surface", each) for each in surface)]
    return structures.run(Inputs.of_pairs(pairs), params, Silent())


@pytest.mark.parametrize(("shape", "area"), [("box", 4.0), ("cylinder", 12 * np.sin(np.pi / 12))])
def test_structures_are_closed_and_as_large_as_said(shape, area):
    """A box of width 2 has 4 in plan; a cylinder of 24 sides and radius 1 has 24 / 2 · sin(2 π / 24)."""
    points = scattered(20)
    own = body(stand(points, height="3m", shape=shape, size="2m").dataset)
    assert own.is_watertight and own.volume == pytest.approx(20 * 3 * area, rel=1e-6)


def test_structures_stand_on_the_ground_by_their_attribute():
    import dataclasses

    tin = ground()
    inside = scattered(30, seed=8, size=(150.0, 100.0))
    tall = np.where(np.arange(30) == 4, np.nan, 2.0 + np.arange(30) / 10.0)
    moved = inside.xyz + (20.0, 20.0, 0.0)
    points = dataclasses.replace(inside, xyz=moved, attributes={"tall": tall, "code": np.array([b"POLE"] * 30)})
    result = stand(points, tin, height="tall", size="1m")
    assert result.figures["solids"] == 29 and any(finding.code == "no-structure" for finding in result.findings)
    bodies = result.dataset.vertices.reshape(29, -1, 3)
    good = np.isfinite(tall)
    foot = heights(tin, np.ascontiguousarray(moved[good, :2]))
    assert bodies[:, :, 2].max(axis=1) == pytest.approx(foot + tall[good])
    assert (bodies[:, :, 2].min(axis=1) <= foot + 1e-9).all(), "no gap below the lower side"
    up = stand(points, tin, height="tall", size="1m", above="0.5m").dataset.vertices.reshape(29, -1, 3)
    assert up[:, :, 2].min(axis=1) == pytest.approx(foot + 0.5)
    with pytest.raises(ParamError, match="did you mean tall"):
        stand(points, tin, height="tallness")
    with pytest.raises(DataError, match="no point"):
        stand(points, tin, height="code")


def test_a_mesh_in_pieces_is_kept_whole_in_a_job():
    own = Mesh(name="M", frame=METRES, vertices=np.eye(3), triangles=np.array([(0, 1, 2)]), part=np.array([0]))
    assert own.pieces()[0].name == "M-1" and "part" in own.arrays()
    with pytest.raises(ValueError, match="piece"):
        Mesh(name="M", frame=METRES, vertices=np.eye(3), triangles=np.array([(0, 1, 2)]), part=np.array([0, 1]))
