"""The budgets of areas and of fits onto control points."""

from __future__ import annotations

import numpy as np
import pyogrio
import shapely
from shared import FOLDER, best, row

from vastgrid import catalog
from vastgrid.base.progress import Silent
from vastgrid.base.quantities import Unit
from vastgrid.data.areas import from_shapes
from vastgrid.data.frame import Frame
from vastgrid.measures.fitting import Heights, Model, fitted


def bench_polygons() -> None:
    """A million plots read and written, beside the vector library reading and writing their well-known binary."""
    side = 1000
    x, y = (each.ravel() for each in np.meshgrid(np.arange(side) * 10.0, np.arange(side) * 10.0))
    shapes = shapely.box(431000 + x, 887000 + y, 431009 + x, 887009 + y)
    areas = from_shapes(shapes, name="plots", frame=Frame("EPSG:25832", Unit.METRE, Unit.METRE))
    path, other = FOLDER / "plots.fgb", FOLDER / "theirs.fgb"
    kind = catalog.format_named("flatgeobuf")
    assert kind.write is not None
    assert kind.read is not None
    write, read = kind.write, kind.read
    ours_out = best(lambda: write([areas], path, kind.write_params(), Silent()), 2)
    ours_in = best(lambda: read(path, kind.read_params(), Silent()), 2)
    binary = shapely.to_wkb(shapes)

    def theirs() -> None:
        pyogrio.raw.write(
            other, binary, [], [], driver="FlatGeobuf", geometry_type="Polygon", crs="EPSG:25832",
            layer_options={"SPATIAL_INDEX": "NO"},
        )  # fmt: skip

    theirs_out = best(theirs, 2)
    theirs_in = best(lambda: shapely.from_wkb(pyogrio.raw.read(other)[2]), 2)
    ratio = (ours_in + ours_out) / (theirs_in + theirs_out)
    row(
        "1 M polygons read and written (FlatGeobuf)",
        f"read {ours_in:.1f} s, write {ours_out:.1f} s: {ratio:.2f} × pyogrio ({theirs_in:.1f} s, {theirs_out:.1f} s)",
        "≤ 1.5 × pyogrio",
        good=ratio <= 1.5,
    )


def bench_fit() -> None:
    """Ten million points through a fit, beside a plain matrix product of them."""
    rng = np.random.default_rng(2)
    local = rng.random((8, 3)) * 500.0
    fit = fitted(local, local * 1.0002 + (431000.0, 887000.0, 220.0), Model.HELMERT, Heights.SHIFT)
    xyz = rng.random((10_000_000, 3)) * 1000.0
    matrix = np.array(fit.matrix)
    fit.places(xyz[:10])
    ours, plain = best(lambda: fit.places(xyz), 3), best(lambda: xyz @ matrix.T, 3)
    row(
        "fit applied to 10 M points",
        f"{ours:.2f} s, {ours / plain:.2f} × a matrix product",
        "≤ 1.2 × a matrix product",
        good=ours <= 1.2 * plain,
    )
