"""The line along which two surfaces meet."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from vastgrid.base import late_shapely as shapely
from vastgrid.base.errors import DataError
from vastgrid.base.findings import count, note
from vastgrid.base.progress import Progress
from vastgrid.base.quantities import unit_word
from vastgrid.data.dataset import Dataset
from vastgrid.data.grid import Grid
from vastgrid.data.linework import Linework, from_lines
from vastgrid.data.tin import Tin
from vastgrid.declarations.conversion import Conversion, Input, Inputs, Output, Result
from vastgrid.kernels.triangles.overlay import level_with
from vastgrid.measures.heights import bucket_index, heights
from vastgrid.terrain.tin.surfaces import grid_tin


@dataclass(frozen=True)
class NoChangeParams:
    """Nothing to choose."""


def _as_tin(surface: Dataset) -> Tin:
    if isinstance(surface, Grid):
        return grid_tin(surface)
    assert isinstance(surface, Tin)
    return surface


def run(inputs: Inputs, params: NoChangeParams, progress: Progress) -> Result:
    """Find where both are equally high; see `CONVERSION`.

    Raises
    ------
    DataError
        If they have no ground in common, or nowhere meet.
    """
    (first,), (second,) = inputs.of("first"), inputs.of("second")
    one, two = _as_tin(first), _as_tin(second)
    low = np.maximum(one.vertices[:, :2].min(axis=0), two.vertices[:, :2].min(axis=0))
    high = np.minimum(one.vertices[:, :2].max(axis=0), two.vertices[:, :2].max(axis=0))
    if (high <= low).any():
        raise DataError(f"{first.name} and {second.name} have no ground in common")
    pieces = level_with(one.vertices, one.triangles, two.vertices, two.triangles, bucket_index(two), low, high)
    progress.report(0.7, "looking where they meet")
    if len(pieces) == 0:
        raise DataError(f"{first.name} and {second.name} are nowhere equally high")
    # Neighbouring pieces end at one place but for rounding.
    fine = float((high - low).max()) * 1e-10
    joined = shapely.line_merge(shapely.union_all(shapely.linestrings(pieces), grid_size=fine))
    lines = [shapely.get_coordinates(each) for each in shapely.get_parts(joined) if each.length > 10.0 * fine]
    with_heights = [np.column_stack((line, heights(one, np.ascontiguousarray(line)))) for line in lines]
    made = from_lines("No change", first.frame, with_heights, ["No change"] * len(with_heights)).heights_filled()
    length = sum(float(np.hypot(*np.diff(line[:, :2], axis=0).T).sum()) for line in with_heights)
    text = f"{count(len(made), 'line')} of {length:.2f}{unit_word(first.frame.horizontal)} in all."
    return Result(made, (note("no-change", text),))


CONVERSION = Conversion(
    id="no_change",
    version=1,
    title="Line of zero cut and fill",
    also=("zero line", "intersection of surfaces"),
    help="The line along which two surfaces have the same height.",
    inputs=(
        Input("first", (Tin, Grid), fits=lambda data: data.has_heights),
        Input("second", (Tin, Grid), fits=lambda data: data.has_heights),
    ),
    outputs=(Output("lines", Linework),),
    params=NoChangeParams,
    template="Line where {first} and {second} have the same height.",
    run=run,
    name=lambda inputs, params: "No change",
)
