"""Fits onto control points: against SciPy's least squares, PROJ's plane Helmert operation and closed forms."""

import dataclasses
import json
import math

import numpy as np
import pyproj
import pytest
import shapely
from hypothesis import given, settings
from hypothesis import strategies as st
from scipy.optimize import least_squares
from scipy.spatial.transform import Rotation

from builders import METRES
from examples import examples
from vastgrid import catalog
from vastgrid.base.errors import CallError, DataError, FormatError, ParamError
from vastgrid.base.progress import Silent
from vastgrid.base.quantities import Unit
from vastgrid.data.frame import Frame
from vastgrid.data.grid import Grid
from vastgrid.data.linework import Linework
from vastgrid.data.pointset import PointSet
from vastgrid.data.table import Table
from vastgrid.declarations.conversion import Inputs
from vastgrid.execution.steps import convert
from vastgrid.measures.fitting import Heights, Model, fitted, outlying, residuals_of
from vastgrid.params import declare
from vastgrid.terrain.place.moving import Fitted

FIT = catalog.conversion_named("fit")
# A site of 200 by 160 m in local coordinates.
LOCAL = np.array([(0, 0, 10), (200, 10, 12), (190, 160, 11), (10, 150, 14), (95, 80, 13), (150, 40, 12)], float)


def grid_of(
    local=LOCAL, turn=12.5, scale=1.00025, shift=(431000.0, 887000.0, 220.0), tilt=(0.0, 0.0), noise=0.0, seed=1
):
    """Return local points where a similarity of the plane takes them, heights over a tilted plane."""
    c, s = scale * math.cos(math.radians(turn)), scale * math.sin(math.radians(turn))
    x, y, z = local.T
    up = z + shift[2] + tilt[0] * x + tilt[1] * y
    made = np.column_stack((shift[0] + c * x - s * y, shift[1] + s * x + c * y, up))
    return made + np.random.default_rng(seed).normal(0.0, noise, made.shape) if noise else made


def points(xyz, name="points", names=None, frame=METRES):
    names = names or [f"P{k + 1}" for k in range(len(xyz))]
    return PointSet(name=name, frame=frame, xyz=xyz, attributes={"point": np.array([own.encode() for own in names])})


def fit_of(data, local, known, **words):
    own = Inputs.of_pairs([("data", data), ("from", local), ("to", known)])
    params = declare.build(FIT.params, {name.rstrip("_"): str(word) for name, word in words.items()})
    return convert(FIT, own, params, Silent())[0]


def test_worked_example():
    """Ghilani, Adjustment Computations, example 18.1: the conformal transformation of three control points (from memory).

    The book gives a = −4.51249, b = −0.25371, Tx = 1 050 003.715, Ty = 50 542.131, a turn of 183°13′05.0″, a scale of
    4.51962, residuals to the millimetre and a standard error of 0.136. It fits measured coordinates, so that the residual is
    fitted minus given, as ours.
    """
    local = np.array([(121.622, -128.066, 0), (141.228, 187.718, 0), (175.802, 135.728, 0)])
    known = np.array([(1049422.40, 51089.20, 0), (1049413.95, 49659.30, 0), (1049244.95, 49884.95, 0)])
    result = fit_of(points(local), points(local), points(known), heights="none")
    own = result.figures
    assert own["heights"] == "none" and own["rmse_height"] is None
    assert own["scale"] == pytest.approx(4.51962, abs=5e-6)
    assert own["rotation_degrees"] % 360 == pytest.approx(183 + 13 / 60 + 5.0 / 3600, abs=0.05 / 3600)
    assert own["shift"][:2] == pytest.approx([1_050_003.715, 50_542.131], abs=6e-4)
    assert own["matrix"][0][0] == pytest.approx(-4.51249, abs=6e-6)
    assert abs(own["matrix"][0][1]) == pytest.approx(0.25371, abs=6e-6)
    residuals = [(row["east"], row["north"]) for row in own["residuals"]]
    assert np.round(residuals, 3).tolist() == [[0.004, -0.029], [0.101, -0.077], [-0.105, 0.106]]
    assert own["redundancy"] == 2


def test_heights_stay_where_that_is_said():
    """“none” is a choice here; nothing said leaves it to what the points have."""
    known = grid_of()
    data = points(LOCAL)
    assert fit_of(data, data, points(known), heights="none").dataset.xyz[:, 2].tolist() == LOCAL[:, 2].tolist()
    assert fit_of(data, data, points(known)).dataset.xyz[0, 2] == pytest.approx(230.0)


def test_what_a_kept_fit_says_is_not_said_otherwise(tmp_path):
    data, kept = points(LOCAL), str(tmp_path / "kept.json")
    fit_of(data, data, points(grid_of()), model="affine", keep=kept)
    own = Inputs.of_pairs([("data", data)])
    _, params = convert(FIT, own, declare.build(FIT.params, {"using": kept}), Silent())
    assert params.model is Model.AFFINE and declare.to_words(params)["heights"] == "shift"
    for words in ({"model": "shift"}, {"heights": "none"}, {"by": "point"}, {"drop": "yes"}, {"keep": kept}):
        with pytest.raises(CallError, match=next(iter(words))):
            convert(FIT, own, declare.build(FIT.params, {"using": kept, **words}), Silent())


# ------------------------------------------------------------------------------------------- what least squares gives


def by_scipy(model, local, known):
    """Return residuals of a general least squares solver, (n, 2)."""

    def made(p):
        x, y = (local[:, :2] - local[:, :2].mean(axis=0)).T
        if model is Model.SHIFT:
            own = np.column_stack((x, y))
        elif model is Model.HELMERT_FIXED:
            own = np.column_stack((x * np.cos(p[2]) - y * np.sin(p[2]), x * np.sin(p[2]) + y * np.cos(p[2])))
        elif model is Model.HELMERT:
            own = np.column_stack((p[2] * x - p[3] * y, p[3] * x + p[2] * y))
        else:
            own = np.column_stack((p[2] * x + p[3] * y, p[4] * x + p[5] * y))
        return own + p[:2] + known[:, :2].mean(axis=0) - known[:, :2]

    start = {Model.SHIFT: [0, 0], Model.HELMERT_FIXED: [0, 0, 0.2], Model.HELMERT: [0, 0, 1, 0.2]}
    begin = np.array(start.get(model, [0, 0, 1, 0, 0, 1]), float)
    found = least_squares(lambda p: made(p).ravel(), begin, xtol=1e-15, ftol=1e-15, gtol=1e-15)
    return made(found.x)


@settings(deadline=None, max_examples=40)
@given(st.sampled_from([each for each in Model if not each.solid]), st.integers(0, 1000), st.floats(-170, 170))
def test_residuals_are_those_of_a_general_solver(model, seed, turn):
    turn = turn / 12.0 if model in (Model.SHIFT, Model.HELMERT_FIXED) else turn
    known = grid_of(turn=turn, noise=0.02, seed=seed)
    own = residuals_of(fitted(LOCAL, known, model, Heights.NONE), LOCAL, known)
    other = by_scipy(model, LOCAL, known)
    assert (own.values[:, :2] ** 2).sum() <= (other**2).sum() * (1 + 1e-8) + 1e-10
    if model is not Model.SHIFT:
        assert own.values[:, :2] == pytest.approx(other, abs=2e-6)
    assert own.rmse_plan == pytest.approx(math.sqrt((other**2).sum(axis=1).mean()), rel=1e-5, abs=1e-6)
    assert own.redundancy == 12 - model.parameters


def test_a_plane_similarity_is_that_of_proj():
    """PROJ's helmert operation in two dimensions: shift, scale and a turn in seconds of arc."""
    way = pyproj.Transformer.from_pipeline("+proj=helmert +x=431000 +y=887000 +s=1.00025 +theta=45000")
    e, n = way.transform(LOCAL[:, 0], LOCAL[:, 1])
    known = np.column_stack((e, n, LOCAL[:, 2]))
    fit = fitted(LOCAL, known, Model.HELMERT, Heights.NONE)
    assert fit.scale == pytest.approx(1.00025, abs=1e-12) and abs(fit.rotation) == pytest.approx(12.5, abs=1e-9)
    assert fit.shift()[:2] == pytest.approx((431000.0, 887000.0), abs=1e-6)
    rng = np.random.default_rng(3)
    many = np.column_stack((rng.random((500, 2)) * 3000.0, np.zeros(500)))
    assert fit.places(many)[:, :2] == pytest.approx(np.column_stack(way.transform(many[:, 0], many[:, 1])), abs=1e-6)


@settings(deadline=None, max_examples=30)
@given(st.integers(0, 1000))
def test_a_similarity_in_space_comes_back(seed):
    rng = np.random.default_rng(seed)
    turn = Rotation.from_euler("xyz", rng.normal(0.0, (0.02, 0.02, 1.0)))
    known = 1.0003 * turn.apply(LOCAL) + (431000.0, 887000.0, 220.0)
    fit = fitted(LOCAL, known, Model.HELMERT_3D, Heights.NONE)
    assert np.abs(fit.places(LOCAL) - known).max() < 1e-8 and fit.scale == pytest.approx(1.0003, abs=1e-12)
    noisy = known + rng.normal(0.0, 0.01, known.shape)
    own = residuals_of(fitted(LOCAL, noisy, Model.HELMERT_3D, Heights.NONE), LOCAL, noisy).values
    there, away = noisy - noisy.mean(axis=0), LOCAL - LOCAL.mean(axis=0)
    best, _ = Rotation.align_vectors(there, away)
    fixed = best.apply(away)
    scale = (fixed * there).sum() / (away**2).sum()
    assert own == pytest.approx(scale * fixed - there, abs=1e-7), "scipy's align_vectors, and the scale after it"
    assert np.abs(fit.inverse().places(fit.places(LOCAL)) - LOCAL).max() < 1e-7


def test_heights_by_a_plane_and_by_a_shift():
    known = grid_of(tilt=(0.002, -0.001))
    plane = fitted(LOCAL, known, Model.HELMERT, Heights.PLANE)
    assert np.abs(plane.places(LOCAL) - known).max() < 1e-9 and plane.matrix[2][:2] == pytest.approx(
        (0.002, -0.001), abs=1e-12
    )
    shift = residuals_of(fitted(LOCAL, known, Model.HELMERT, Heights.SHIFT), LOCAL, known)
    assert shift.values[:, 2].mean() == pytest.approx(0.0, abs=1e-12) and shift.redundancy_height == 5
    none = fitted(LOCAL, known, Model.HELMERT, Heights.NONE)
    assert none.places(LOCAL)[:, 2].tolist() == LOCAL[:, 2].tolist()
    assert residuals_of(none, LOCAL, known).rmse_height is None


# ------------------------------------------------------------------------------------------------------- points at fault


@settings(deadline=None, max_examples=40)
@given(st.integers(0, 2000), st.integers(0, 5), st.sampled_from([(0.4, 0.0), (0.0, -0.5)]))
def test_a_blunder_is_named_and_nothing_else(seed, which, off):
    known = grid_of(noise=0.004, seed=seed)
    known[which, :2] += off
    bad = outlying(LOCAL, known, Model.HELMERT, Heights.SHIFT, 3.0)
    assert bad[which] and bad.sum() <= 2


def test_without_blunders_hardly_any_is_named():
    wrong = sum(
        outlying(LOCAL, grid_of(noise=0.01, seed=k), Model.HELMERT, Heights.SHIFT, 3.0).sum() for k in range(200)
    )
    assert wrong <= 12, "some of 1 200, as seldom as three deviations are"


def test_a_blunder_counts_unless_it_is_left_out():
    known = grid_of(noise=0.003)
    known[3, 0] += 0.5
    own = fit_of(points(LOCAL, "site"), points(LOCAL, "local"), points(known, "grid"))
    assert "Point P4 is off by" in " ".join(f.text for f in own.findings if f.code == "fit-residual")
    assert own.figures["rmse_plan"] > 0.1 and [row["blunder"] for row in own.figures["residuals"]].count(True) == 1
    left = fit_of(points(LOCAL, "site"), points(LOCAL, "local"), points(known, "grid"), drop="yes")
    assert left.figures["rmse_plan"] < 0.01 and left.figures["redundancy"] == 6
    assert left.figures["residuals"][3]["east"] == pytest.approx(-0.5, abs=0.03), "fitted minus given"
    assert any(f.code == "fit-dropped" and f.drops for f in left.findings)


# ----------------------------------------------------------------------------------------------------- what is recognised


def codes(result):
    return {finding.code for finding in result.findings}


def test_two_points_are_checked_by_nothing():
    own = fit_of(points(LOCAL[:2]), points(LOCAL[:2]), points(grid_of()[:2]))
    assert "fit-unchecked" in codes(own) and own.figures["redundancy"] == 0
    with pytest.raises(DataError, match="needs at least 3 points in pairs, and there are 2"):
        fit_of(points(LOCAL[:2]), points(LOCAL[:2]), points(grid_of()[:2]), model="affine")


def test_exchanged_axes_are_recognised():
    swapped = LOCAL[:, [1, 0, 2]]
    for model in ("helmert", "helmert_fixed", "affine"):
        assert "fit-mirrored" in codes(fit_of(points(swapped), points(swapped), points(grid_of()), model=model))
    assert "fit-mirrored" not in codes(fit_of(points(LOCAL), points(LOCAL), points(grid_of(noise=0.01))))


@pytest.mark.parametrize(
    ("times", "words"),
    [(0.3048, "feet were taken for metres"), (1 / 0.3048, "metres were taken for feet"), (1.02, "far from 1.")],
)
def test_a_scale_far_from_one_is_said(times, words):
    known = grid_of(scale=times)
    for model in ("helmert", "helmert_fixed"):
        own = fit_of(points(LOCAL), points(LOCAL), points(known), model=model)
        assert words in next(f.text for f in own.findings if f.code == "fit-scale")
    assert "fit-scale" not in codes(fit_of(points(LOCAL), points(LOCAL), points(grid_of(scale=0.9996))))


def test_points_on_one_line():
    line = np.column_stack((np.arange(5) * 50.0, np.arange(5) * 20.0, np.arange(5.0)))
    known = grid_of(line, noise=0.01)
    assert "fit-on-line" in codes(fit_of(points(line), points(line), points(known)))
    with pytest.raises(DataError, match="lie on one line"):
        fit_of(points(line), points(line), points(known), model="affine")
    with pytest.raises(DataError, match=r"no plane can be told \(heights=shift\)"):
        fit_of(points(line), points(line), points(known), heights="plane")
    with pytest.raises(DataError, match="all at one place"):
        fit_of(points(line), points(np.tile(line[:1], (5, 1))), points(known))


# ----------------------------------------------------------------------------------------------------------- how they pair


def test_points_are_paired_by_name_and_the_rest_is_said():
    order = [3, 0, 5, 1, 4, 2]
    known = points(grid_of()[order], "grid", [f"P{k + 1}" for k in order])
    local = points(np.concatenate((LOCAL, [(1, 1, 1)])), "local", [*(f"P{k + 1}" for k in range(6)), "NAIL"])
    own = fit_of(points(LOCAL), local, known)
    assert own.figures["rmse_plan"] < 1e-9 and "NAIL" in next(f.text for f in own.findings if f.code == "fit-unpaired")
    twice = points(LOCAL, "local", ["P1", "P1", "P3", "P4", "P5", "P6"])
    with pytest.raises(CallError, match="two points named P1"):
        fit_of(points(LOCAL), twice, known)
    with pytest.raises(CallError, match="no attribute of that name"):
        fit_of(points(LOCAL), local, known, by="code")
    with pytest.raises(CallError, match="no point of local"):
        fit_of(points(LOCAL), points(LOCAL, "local", list("abcdef")), known)


def test_without_names_they_are_paired_in_their_order():
    bare = [PointSet(name=name, frame=METRES, xyz=xyz) for name, xyz in (("local", LOCAL), ("grid", grid_of()))]
    own = fit_of(points(LOCAL), *bare)
    assert "fit-by-order" in codes(own) and own.figures["rmse_plan"] < 1e-9
    with pytest.raises(CallError, match="say by which they are paired"):
        fit_of(points(LOCAL), dataclasses.replace(bare[0], xyz=LOCAL[:4]), bare[1])


# --------------------------------------------------------------------------------------------------------- on all kinds


@pytest.mark.parametrize("kind", ["points", "lines", "contours", "areas", "tin", "mesh", "survey"])
@pytest.mark.parametrize("model", ["shift", "helmert", "affine"])
def test_every_vertex_goes_where_the_fit_says(kind, model):
    data = examples()[kind].in_frame(METRES)
    known = grid_of(noise=0.02)
    heights = "shift"
    made = fit_of(data, points(LOCAL), points(known), model=model, heights=heights).dataset
    fit = fitted(LOCAL, known, Model(model), Heights(heights))
    want = fit.places(data.coordinates())
    got = made.coordinates()
    if kind == "areas":
        want, got = want[np.lexsort(want[:, :2].T)], got[np.lexsort(got[:, :2].T)]
    assert got == pytest.approx(want, abs=1e-8, nan_ok=True)
    assert made.kind == data.kind and made.frame == METRES


def test_contours_keep_their_levels_or_are_refused():
    with pytest.raises(CallError, match="a contour has one height"):
        fit_of(examples()["contours"], points(LOCAL), points(grid_of(tilt=(0.01, 0.0))), heights="plane")


@pytest.mark.parametrize("model", ["shift", "helmert", "helmert_3d"])
def test_a_grid_is_sampled_where_it_must_be(model):
    x, y = np.meshgrid(np.arange(60) * 3.0 + 1.5, 180 - np.arange(60) * 3.0 - 1.5)
    dem = Grid(name="DEM", frame=METRES, heights=10.0 + 0.05 * x - 0.02 * y, west=0.0, north=180.0, dx=3.0, dy=3.0)
    known = LOCAL + (431000.0, 887000.0, 220.0) if model == "shift" else grid_of(turn=30.0)
    if model == "helmert_3d":
        known = Rotation.from_euler("xyz", (0.01, -0.015, 0.4)).apply(LOCAL) + (431000.0, 887000.0, 220.0)
    result = fit_of(dem, points(LOCAL), points(known), model=model)
    made = result.dataset
    fit = fitted(LOCAL, known, Model(model), Heights.NONE if model == "helmert_3d" else Heights.SHIFT)
    if model == "shift":
        assert (
            made.heights == pytest.approx(dem.heights + 220.0, abs=1e-12)
            and made.west == 431000.0
            and result.loss is None
        )
        return
    # A plane stays a plane: every cell lies on the one through three moved places.
    corner = fit.places(np.array([(0.0, 0.0, 10.0), (100.0, 0.0, 15.0), (0.0, 100.0, 8.0)]))
    plane = np.linalg.solve(np.column_stack((corner[:, :2] - corner[0, :2], np.ones(3))), corner[:, 2])
    row, column = np.nonzero(np.isfinite(made.heights))
    there = np.column_stack((made.eastings()[column], made.northings()[row])) - corner[0, :2]
    assert len(row) > 2500
    off = np.abs(made.heights[row, column] - (there @ plane[:2] + plane[2]))
    # Within half a cell of the rim the outer cells' heights stand.
    assert np.quantile(off, 0.99) < 1e-6 and off.max() < 0.05
    assert result.loss is not None and result.loss.p95 < 1e-6


def test_feet_and_metres_meet():
    feet = Frame(None, Unit.FOOT, Unit.FOOT)
    local = points(LOCAL / 0.3048, "local", frame=feet)
    own = fit_of(points(LOCAL / 0.3048, "site", frame=feet), local, points(grid_of(), "grid"))
    assert own.figures["scale_ppm"] == pytest.approx(250.0, abs=1e-6) and "fit-scale" not in codes(own)
    assert own.dataset.frame.horizontal is Unit.METRE and own.dataset.xyz == pytest.approx(grid_of(), abs=1e-6)


def test_tables_and_arrows_say_the_same():
    own = fit_of(points(LOCAL), points(LOCAL), points(grid_of(noise=0.02)))
    table, arrows = own.more["residuals"], own.more["arrows"]
    assert isinstance(table, Table) and isinstance(arrows, Linework) and len(arrows) == 6
    way = np.array([arrows.line(k)[1, :2] - arrows.line(k)[0, :2] for k in range(6)])
    both = np.column_stack((table.columns["east"], table.columns["north"]))
    times = way[0, 0] / both[0, 0]
    assert way == pytest.approx(both * times, rel=1e-6) and f"{times:.3g} times" in arrows.name


# -------------------------------------------------------------------------------------------------------- kept and used


def using(data, path, **words):
    params = declare.build(FIT.params, {"using": str(path), **words})
    return convert(FIT, Inputs.of_pairs([("data", data)]), params, Silent())[0]


def test_a_fit_is_kept_used_and_turned_back(tmp_path):
    path = tmp_path / "site.fit"
    frame = Frame("EPSG:25832", Unit.METRE, Unit.METRE)
    first = fit_of(points(LOCAL), points(LOCAL), points(grid_of(noise=0.01), frame=frame), heights="plane", keep=path)
    assert "fit-kept" in codes(first)
    other = examples()["tin"].in_frame(METRES)
    there = using(other, path)
    assert there.dataset.frame.crs is not None and set(there.more) == {"residuals", "arrows"}
    back = using(there.dataset, path, inverse="yes").dataset
    assert back.vertices == pytest.approx(other.vertices, abs=1e-6) and back.frame.crs is None
    for text, error in (("{}", FormatError), ("[1]", FormatError), (path.read_text()[:300], FormatError)):
        (tmp_path / "bad.fit").write_text(text)
        with pytest.raises(error, match="no fit that was kept"):
            using(other, tmp_path / "bad.fit")
    with pytest.raises(ParamError, match="cannot be read"):
        using(other, tmp_path / "none.fit")
    with pytest.raises(CallError, match="leave out from and to"):
        fit_of(points(LOCAL), points(LOCAL), points(grid_of()), using=path)


@settings(deadline=None, max_examples=30)
@given(st.integers(0, 500))
def test_areas_stay_whole_under_any_fit(seed):
    rng = np.random.default_rng(seed)
    data = examples()["areas"].in_frame(METRES)
    known = LOCAL @ np.array([(1.0, 0.2, 0), (rng.normal(), rng.normal() - 1.5, 0), (0, 0, 1)]) + (1000, 2000, 0)
    made = fit_of(data, points(LOCAL), points(known), model="affine").dataset
    assert shapely.is_valid(made.shapes()).all() and (made.sizes() > 0.0).all()


def test_by_command(run_cli, tmp_path):
    for name, xyz in (("local", LOCAL), ("grid", grid_of(noise=0.004))):
        rows = "".join(f"P{k + 1},{e:.4f},{n:.4f},{z:.4f}\n" for k, (e, n, z) in enumerate(xyz))
        (tmp_path / f"{name}.csv").write_text("point,east,north,height\n" + rows)
    units = ("--from-units", "m", "--from-vertical-units", "m")
    code, out, err = run_cli(
        "fit", tmp_path / "local.csv", tmp_path / "grid.csv", *units, "--heights", "plane", "--json"
    )
    assert code == 0, err
    told = json.loads(out)
    assert told["model"] == "helmert" and told["redundancy"] == 8 and told["redundancy_height"] == 3
    assert told["scale_ppm"] == pytest.approx(250, abs=60) and told["rotation_degrees"] == pytest.approx(12.5, abs=0.01)
    assert set(told["residuals"][0]) >= {"name", "east", "north", "height"} and len(told["residuals"]) == 6
    words = ("--via", "fit", "data=local.csv", "from=local.csv", "to=grid.csv", "model=affine", "by=point")
    code, out, err = run_cli(
        "convert", tmp_path / "local.csv", tmp_path / "grid.csv", tmp_path / "out.csv", *units, *words
    )
    assert code == 0 and "local fitted from local onto grid by an affine transformation" in out, err
    rows = np.loadtxt(tmp_path / "out.csv", delimiter=",", skiprows=1, usecols=(0, 1))
    assert rows == pytest.approx(grid_of()[:, :2], abs=0.03)


def test_fitted_is_a_motion_that_leads_back():
    fit = fitted(LOCAL, grid_of(), Model.AFFINE, Heights.SHIFT)
    motion = Fitted.by(fit)
    assert motion.back(motion.plan(LOCAL[:, :2])) == pytest.approx(LOCAL[:, :2], abs=1e-7)
    assert motion.level and motion.quarters is None


def test_arrows_and_table_stand_aside_and_the_fit_runs_from_a_recipe(run_cli, tmp_path):
    for name, xyz in (("local", LOCAL), ("grid", grid_of())):
        rows = "".join(f"P{k + 1},{e:.4f},{n:.4f},{z:.4f}\n" for k, (e, n, z) in enumerate(xyz))
        (tmp_path / f"{name}.csv").write_text("point,east,north,height\n" + rows)
    (tmp_path / "site.csv").write_text("point,east,north,height\nA,10,20,11\nB,30,5,12\n")
    paths = [tmp_path / f"{name}.csv" for name in ("site", "local", "grid")]
    units = ("--from-units", "m", "--from-vertical-units", "m")
    words = ("--via", "fit", "data=site.csv", "from=local.csv", "to=grid.csv")
    code, _, err = run_cli("convert", *paths, tmp_path / "out.dxf", *units, *words, "--job", tmp_path / "kept")
    assert code == 0, err
    code, _, err = run_cli("info", tmp_path / "out.dxf", "--json")
    assert code == 0, err
    code, out, err = run_cli("recipe", tmp_path / "kept", tmp_path / "monthly.recipe")
    assert code == 0 and "1 steps from 3 sources, 1 files" in out, out + err
    (tmp_path / "made").mkdir()
    given = [f"{path.stem}={path}" for path in paths]
    code, out, err = run_cli("run", tmp_path / "monthly.recipe", *given, "--into", tmp_path / "made")
    assert code == 0, err
    assert list((tmp_path / "made").rglob("out.dxf"))
