"""A TIN that leaves the program stays one at the precision of its file: open contours with collinear vertices, and made slivers."""

import json

import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from builders import DATA, METRES
from formats.second_landxml_reader import surfaces
from vastgrid import catalog
from vastgrid.base.progress import Silent
from vastgrid.data.tin import Tin, areas
from vastgrid.delivery.deliver import deliver
from vastgrid.kernels.triangles.topology import neighbours_of, plan_areas
from vastgrid.measures.heights import heights
from vastgrid.terrain.tin.precision import at_decimals, written_as


@pytest.mark.parametrize("ending", ["xml", "dxf"])
def test_traced_contours_go_out_as_ground_and_come_back(run_cli, tmp_path, ending):
    """Contours traced by another program at 10 m: 411 lines whose vertices are collinear and nearly equal."""
    target = tmp_path / f"o.{ending}"
    code, out, err = run_cli("convert", DATA / "olinda_c10.shp", target, "--via", "tin", "--json")
    assert code == 0, err
    values = json.loads(out)
    checks = {check["what"]: check for check in values["delivery"]["checks"]}
    assert checks["triangles"]["good"] and int(checks["triangles"]["sent"]) > 17_000
    assert "left out" not in err, "no reader of ours drops what our writer wrote"
    if ending == "xml":
        (found,) = surfaces(target)
        assert len(found[2]) == int(checks["triangles"]["sent"])


def strip(offsets, step, z):
    """A row of points nearly on one line, between two rows of others: its triangles are slivers."""
    x = np.arange(len(offsets)) * 10.0
    middle = np.column_stack((x, 50.0 + np.array(offsets) * step, np.array(z)))
    low = np.column_stack((x, np.zeros(len(x)), np.zeros(len(x))))
    high = np.column_stack((x, np.full(len(x), 100.0), np.full(len(x), 3.0)))
    return np.concatenate((low, middle, high)) + (431_000.0, 5_887_000.0, 0.0)


@given(
    st.lists(st.floats(-0.4, 0.4), min_size=4, max_size=12),
    st.integers(0, 4),
    st.booleans(),
    st.integers(0, 9999),
)
@settings(max_examples=150, deadline=None)
def test_every_triangle_has_an_area_as_the_file_says_it(offsets, decimals, level, seed):
    """Offsets far below the rounding: whole rows of triangles would collapse."""
    from vastgrid.kernels.triangles.triangulate import triangulate

    rng = np.random.default_rng(seed)
    step = 10.0**-decimals
    z = np.full(len(offsets), 7.0) if level else rng.random(len(offsets)) * 9
    xyz = strip(offsets, step, z)
    made = triangulate(np.ascontiguousarray(xyz[:, :2]), np.zeros((0, 2), np.int64), Silent())
    tin = Tin(frame=METRES, vertices=xyz, triangles=made.triangles, neighbours=made.neighbours)
    findings = []
    mended = at_decimals(tin, decimals, findings)
    rounded = written_as(mended.vertices, decimals)
    assert (plan_areas(rounded, mended.triangles) > 0).all()
    assert (neighbours_of(mended.triangles) == mended.neighbours).all()
    collapsed = bool((plan_areas(written_as(tin.vertices, decimals), tin.triangles) <= 0).any())
    assert bool(findings) == collapsed
    # What is gone covers less ground than the rounding moves.
    assert areas(mended).sum() == pytest.approx(areas(tin).sum(), abs=2 * step * 10.0 * len(offsets))
    if level:
        inside = xyz[0, :2] + rng.random((200, 2)) * (10.0 * (len(offsets) - 1), 100.0)
        before, after = heights(tin, inside), heights(mended, inside)
        both = np.isfinite(before) & np.isfinite(after)
        assert np.abs(before - after)[both].max(initial=0.0) <= 2 * step
        assert both.mean() > 0.99


@pytest.mark.parametrize(("own", "ending"), [("landxml", "xml"), ("dxf", "dxf")])
@pytest.mark.parametrize("decimals", [0, 2, 4])
def test_what_is_read_back_has_as_many_triangles(tmp_path, own, ending, decimals):
    from vastgrid.kernels.triangles.triangulate import triangulate

    rng = np.random.default_rng(decimals)
    # Without the row above, the middle one is the rim: slivers lie along it.
    xyz = strip(rng.uniform(-0.4, 0.4, 40), 10.0**-decimals, np.full(40, 7.0))[:80]
    made = triangulate(np.ascontiguousarray(xyz[:, :2]), np.zeros((0, 2), np.int64), Silent())
    tin = Tin(name="G", frame=METRES, vertices=xyz, triangles=made.triangles, neighbours=made.neighbours)
    kind = catalog.format_named(own)
    done = deliver([tin], tmp_path / f"a.{ending}", kind, kind.write_params(decimals=decimals), Silent())
    assert done.good, done.checks
    assert any(finding.code == "collapsing-triangles" for finding in done.findings)
    assert done.plan <= 0.501 * 10.0**-decimals


def test_breaklines_that_are_flipped_stay_edges():
    """A collinear corner on a constrained edge: the breakline then runs through it."""
    xyz = np.array([(0, 0, 1), (10, 0, 1), (5, 0.00001, 1), (5, 8, 1), (5, -8, 1.0)])
    triangles = np.array([(0, 1, 2), (0, 2, 3), (2, 1, 3), (1, 0, 4)], np.int32)
    flags = np.zeros((4, 3), bool)
    flags[0, 0] = flags[3, 0] = True
    tin = Tin(frame=METRES, vertices=xyz, triangles=triangles, constrained=flags)
    mended = at_decimals(tin, 3, [])
    assert len(mended.triangles) == 4
    following = np.roll(mended.triangles, -1, axis=1)
    edges = {
        tuple(sorted(pair))
        for pair in zip(mended.triangles[mended.constrained], following[mended.constrained], strict=True)
    }
    assert edges == {(0, 2), (1, 2)}
