"""How much and how good, from the command line: on planes with known answers, on the demo, and on open data."""

import json

import numpy as np
import pytest

from builders import DATA
from earth import FLAT, rings, sheet
from vastgrid import catalog
from vastgrid.base.progress import Silent
from vastgrid.delivery.deliver import deliver

# Its places and heights have few decimals, so that a file holds them exactly.
TILTED = sheet(lambda x, y: x / 10.0 + 195.0, steps=10, name="after")


def written(path, *datasets):
    target = catalog.format_of_target(path)
    deliver(list(datasets), path, target, target.write_params(), Silent())
    return path


@pytest.fixture
def planes(tmp_path):
    return written(tmp_path / "before.xml", FLAT), written(tmp_path / "after.xml", TILTED)


def told(run_cli, *arguments):
    code, out, err = run_cli(*arguments, "--json")
    assert code == 0, err
    return json.loads(out)


def test_volumes(run_cli, planes, tmp_path):
    own = told(run_cli, "volumes", *planes)
    assert {"cut", "fill", "net", "cut_area", "fill_area", "common_area", "unit", "method", "parts"} <= set(own)
    assert own["cut"] == pytest.approx(12_500.0, rel=1e-9)
    assert own["net"] == pytest.approx(own["fill"] - own["cut"])
    assert (own["unit"], own["method"]) == ("m", "exact")
    areas = written(tmp_path / "areas.gpkg", rings((60, 0, 100, 100), (0, 0, 10, 10), layers=["EAST", "CORNER"]))
    own = told(run_cli, "volumes", *planes, "--inside", areas, "--swell", "1.2")
    assert [part["name"] for part in own["parts"]] == ["EAST", "CORNER"]
    # A prism over 40 × 100 m, from 1 to 5 m high: 3 m in the middle.
    assert own["parts"][0]["fill"] == pytest.approx(12_000.0, rel=1e-6)
    assert own["cut_loose"] == pytest.approx(1.2 * own["cut"])
    code, out, err = run_cli("volumes", *planes, "--inside", areas, "--boundaries", "EAST", "--depth", "1m")
    assert code == 0 and "Cut and fill from before to after" in out and "EAST" in out and "CORNER" not in out
    assert "by sections every" in out and "Cross-checks differ" in err
    # The other way round cut is fill.
    other = told(run_cli, "volumes", *reversed(planes))
    assert other["fill"] == pytest.approx(12_500.0, rel=1e-9)
    assert other["cut"] == pytest.approx(12_500.0, rel=1e-9)


def test_difference_and_no_change_as_steps(run_cli, planes, tmp_path):
    code, _, err = run_cli("convert", *planes, tmp_path / "d.tif", "--via", "difference", "as=grid", "cell=10m")
    assert code == 0, err
    values = told(run_cli, "info", tmp_path / "d.tif")["datasets"][0]
    low, high = values["extent"]["elevation"]
    assert (low, high) == pytest.approx((-4.5, 4.5), abs=1e-5), "the second minus the first"
    code, _, err = run_cli("convert", *planes, tmp_path / "d.xml", "--via", "difference")
    assert code == 0 and "cannot say that it holds height differences" in err
    code, _, err = run_cli("convert", *planes, tmp_path / "line.dxf", "--via", "no_change")
    assert code == 0, err
    east = told(run_cli, "info", tmp_path / "line.dxf")["datasets"][0]["extent"]["east"]
    assert east == pytest.approx([431_050.0, 431_050.0], abs=1e-3)


def test_accuracy(run_cli, planes, tmp_path):
    path = tmp_path / "checks.csv"
    rows = [
        f"C{k},{431005 + 3 * k},{887050 + k},{200.0 - 0.01 * (k % 5 - 2):.3f},{'a' if k % 2 else 'b'}"
        for k in range(30)
    ]
    path.write_text("Point,E [m],N [m],Z [m],Cover\n" + "\n".join([*rows, "C99,1,1,1,a"]) + "\n")
    own = told(run_cli, "accuracy", planes[0], path, "--by", "Cover")
    keys = {"count", "outside", "mean", "rmse", "std", "max", "at", "nssda_95", "residuals", "unit", "groups"}
    assert keys <= set(own)
    assert (own["count"], own["outside"]) == (30, 1)
    residuals = np.array([row["residual"] for row in own["residuals"]])
    np.testing.assert_allclose(residuals, [0.01 * (k % 5 - 2) for k in range(30)], atol=1e-6)
    assert own["std"] == pytest.approx(residuals.std(ddof=1))
    assert own["nssda_95"] == pytest.approx(1.96 * own["rmse"])
    assert own["residuals"][3]["point"] == "C3" and set(own["groups"]) == {"a", "b"}
    code, out, err = run_cli("accuracy", planes[0], path)
    assert code == 0 and "at 95 %, NSSDA" in out and "outside the surface" in err


def test_stages_and_piles(run_cli, planes, tmp_path):
    ring = written(tmp_path / "ring.gpkg", rings((0, 0, 100, 100)))
    own = told(run_cli, "stages", planes[1], "--inside", ring, "--every", "2.5m")
    assert own["unit"] == "m"
    rows = {row["level"]: (row["area"], row["volume"]) for row in own["rows"]}
    # Below 200 m half of the tilted plane lies, a wedge 5 m deep.
    assert rows[200.0] == pytest.approx((5_000.0, 12_500.0), rel=1e-9)
    code, out, _ = run_cli("pile", planes[1], "--inside", ring, "--base", "plane")
    assert code == 0 and "above its base" not in out and "above the base" in out
    for arguments, said in (
        (("stages", planes[1]), "--inside FILE"),
        (("pile", planes[1]), "--inside FILE"),
        (("stages", planes[1], "--inside", planes[0]), "no closed line"),
        (("accuracy", planes[0], ring), "holds no points"),
        (("volumes", planes[0], tmp_path / "gone.xml"), "no such file"),
        (("volumes", *planes, "--via", "tin"), "--via does not belong to volumes"),
        (("volumes", *planes, "--depth", "much"), "depth"),
    ):
        code, _, err = run_cli(*arguments)
        assert code in (1, 2) and said in err, err


def test_on_the_demo(run_cli, demo):
    received = demo / "received"
    # An old plan's contours become ground on the way; where the quarry was dug nothing is filled against it.
    own = told(
        run_cli, "volumes", received / "old-plan-contours.gpkg", received / "design-finished.xml", "--inside",
        received / "edges.dxf", "--boundaries", "SITE_LIMIT", "--read", "old-plan-contours.gpkg", "elevation=HEIGHT_M",
        "--from-units", "m", "--from-vertical-units", "m",
    )  # fmt: skip
    assert own["fill"] == 0.0 and own["cut"] > 1e6
    methods = {each["name"].split()[1]: each["cut"] for each in own["methods"]}
    assert methods["cells"] == pytest.approx(own["cut"], rel=1e-4)
    assert methods["sections"] == pytest.approx(own["cut"], rel=1e-4)
    assert any(finding["code"] == "ground-missing" for finding in own["findings"])
    own = told(
        run_cli,
        "accuracy",
        demo / "delivered" / "existing-ground.xml",
        received / "day2-check-shots.csv",
        "--by",
        "Cover",
    )
    assert own["count"] > 45 and own["blunders"] >= 1 and own["groups"]["open"]["count"] > 25


def test_open_data_exact_against_cells_and_sections(run_cli, tmp_path):
    """The volcano of R's datasets (87 × 61 heights at 10 m) against itself raised where it is steep."""
    import rasterio

    values = json.loads((DATA / "volcano.json").read_text())
    heights = np.array(values["values"], float).reshape(values["height"], values["width"])
    lifted = heights + np.linspace(-4.0, 6.0, heights.shape[1])
    for name, values in (("one", heights), ("two", lifted)):
        with rasterio.open(
            tmp_path / f"{name}.tif", "w", driver="GTiff", height=values.shape[0], width=values.shape[1], count=1,
            dtype="float64", transform=rasterio.Affine(10.0, 0.0, 1000.0, 0.0, -10.0, 2000.0),
        ) as file:  # fmt: skip
            file.write(values, 1)
    own = told(
        run_cli,
        "volumes",
        tmp_path / "one.tif",
        tmp_path / "two.tif",
        "--from-units",
        "m",
        "--from-vertical-units",
        "m",
    )
    span = np.array(heights.shape) - 1
    # A plane between them, 1 m in the mean, but for cells that the two part along other diagonals.
    assert own["net"] == pytest.approx(float(span.prod()) * 100.0, rel=1e-3)
    for each in own["methods"][1:]:
        assert each["net"] == pytest.approx(own["net"], rel=2e-3)
