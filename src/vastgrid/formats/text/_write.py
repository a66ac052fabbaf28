"""Writing points as comma-separated text."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from pathlib import Path
from typing import Annotated, Any

from vastgrid.base.progress import Progress
from vastgrid.base.quantities import Unit
from vastgrid.base.words import plain
from vastgrid.data.dataset import Dataset
from vastgrid.data.frame import is_geographic
from vastgrid.data.kinds import narrowed
from vastgrid.data.pointset import PointSet
from vastgrid.format_support.prj import write_beside
from vastgrid.kernels.text.textrows import RowTemplate
from vastgrid.params.declare import Param

# As heads say them: “ft” alone would leave open which foot.
HEAD_WORDS = {**{unit: unit.value for unit in Unit}, Unit.FOOT: "ift"}


# Lists of places of this ending have their reference system in a .prj beside them; other text has no place for it.
PLACED = ".xyz"


@dataclass(frozen=True)
class TextWriteParams:
    """How points are written."""

    decimals: Annotated[int, Param("Decimals", "Decimals of every coordinate.", least=0, most=9)] = 4


def write(datasets: Sequence[Dataset], path: Path, params: TextWriteParams, progress: Progress) -> None:
    """Write points as comma-separated text with a head that names units; see `FORMAT`."""
    points = narrowed(datasets[0], PointSet)
    names = [name for name, values in points.attributes.items() if values.dtype.kind in "SUiufb" and values.ndim == 1]
    plan, height = (
        f" [{HEAD_WORDS[unit]}]" if unit else "" for unit in (points.frame.horizontal, points.frame.vertical)
    )
    heads = ["easting" + plan, "northing" + plan, "elevation" + height, *map(_cell, names)]
    places = params.decimals
    if is_geographic(points.frame):
        # A millimetre is about 1e-8 of a degree.
        heads[:2], places = ["longitude", "latitude"], max(params.decimals, 9)
    template = RowTemplate("{},{},{}\n", (places, places, params.decimals))
    with path.open("wb") as file:
        file.write((",".join(heads) + "\n").encode())
        done = 0
        for block in template.blocks([points.xyz[:, k] for k in range(3)]):
            text = bytes(block)
            if names:
                rows = text.decode().splitlines()
                part = [points.attributes[name][done : done + len(rows)] for name in names]
                cells = zip(rows, *(map(_cell, column.tolist()) for column in part), strict=True)
                text = "".join(",".join(row) + "\n" for row in cells).encode()
                done += len(rows)
            file.write(text)
            progress.report(done / max(len(points.xyz), 1), f"writing {path.name}")
    if path.suffix.lower() == PLACED and points.frame.crs:
        write_beside(path, points.frame)


def _cell(value: Any) -> str:
    text = plain(value)
    text = " ".join(text.splitlines()) if "\n" in text or "\r" in text else text
    return '"' + text.replace('"', '""') + '"' if "," in text or '"' in text else text
