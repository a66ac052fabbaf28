"""Surfaces in bands of height, each with a layer and a colour: a drawing cannot blend colours."""

from __future__ import annotations

from collections.abc import Sequence

import numpy as np

from vastgrid.base.errors import ParamError
from vastgrid.base.quantities import unit_word
from vastgrid.data.tin import Tin
from vastgrid.formats.dxf._pen import Version
from vastgrid.formats.dxf._scheme import nearest
from vastgrid.styling import ramps
from vastgrid.terrain.tin.overlaying import overlaid
from vastgrid.terrain.tin.parting import parted, parted_by

_MOST = 200


def of_bands(tin: Tin, step: float) -> list[Tin]:
    """Return a TIN parted at every so much height, a TIN for each band, the lowest first.

    Raises
    ------
    ParamError
        If there would be more bands than anybody can tell apart.
    """
    low, high = float(tin.vertices[tin.triangles, 2].min()), float(tin.vertices[tin.triangles, 2].max())
    first, last = int(np.floor(low / step)), int(np.ceil(high / step))
    if last - first > _MOST:
        raise ParamError("bands", f"that makes {last - first} bands; at most {_MOST} can be told apart")
    limits = np.arange(first + 1, last, dtype=np.float64) * step
    unit = unit_word(tin.frame.vertical)
    out = []
    for number, part in parted(tin, limits):
        name = f"BAND {step * (first + number):.10g} to {step * (first + number + 1):.10g}{unit}"
        out.append(part.renamed(name))
    return out


def of_change(before: Tin, after: Tin, step: float) -> list[Tin]:
    """Return the later of two surfaces parted by how far it lies below or above the earlier, deepest cut first.

    Raises
    ------
    ParamError
        If there would be more bands than anybody can tell apart.
    DataError
        If they have no ground in common.
    """
    both = overlaid(before, after)
    change = both.second - both.first
    first, last = int(np.floor(change.min() / step + 1e-9)), int(np.ceil(change.max() / step - 1e-9))
    if last - first > _MOST:
        raise ParamError("bands", f"that makes {last - first} bands; at most {_MOST} can be told apart")
    limits = np.arange(first + 1, max(last, first + 1), dtype=np.float64) * step
    corners = np.concatenate((both.plan, change[..., None], both.second[..., None]), axis=2)
    unit = unit_word(after.frame.vertical)
    out = []
    for number, part in parted_by(after, corners, limits):
        low, high = step * (first + number), step * (first + number + 1)
        word = "FILL" if low >= 0.0 else "CUT"
        ends = (low, high) if low >= 0.0 else (abs(high), -low)
        out.append(part.renamed(f"{word} {ends[0]:.10g} to {ends[1]:.10g}{unit}"))
    return out


def colours_of(names: Sequence[str]) -> list[tuple[int, int]]:
    """Return index colour and true colour of bands: the ramp of heights, or of change with its middle at none."""
    changes = [name for name in names if name.startswith(("CUT", "FILL"))]
    if not names:
        return []
    if changes:
        cuts = sum(name.startswith("CUT") for name in names)
        widest = max(cuts, len(names) - cuts)
        at = [0.5 + (k + 0.5 - cuts) / (2.0 * widest) for k in range(len(names))]
        ramp = ramps.difference()
    else:
        at = np.linspace(0.0, 1.0, len(names)).tolist() if len(names) > 1 else [0.5]
        ramp = ramps.elevation()
    rows = ramp[[round(share * (len(ramp) - 1)) for share in at]].astype(int).tolist()
    values = [red << 16 | green << 8 | blue for red, green, blue in rows]
    return [(nearest(value), value) for value in values]


def legend(
    document: object,
    names: list[str],
    colours: list[tuple[int, int]],
    layer: str,
    corner: tuple[float, float],
    tall: float,
    version: Version,
) -> None:
    """Put a block beside the upper right corner: a filled box and words for each band, the highest above.

    The oldest edition has no hatches; there the words themselves have the colour.
    """
    block = document.blocks.new(name="LEGEND")  # type: ignore[attr-defined]
    for k, (name, (index, rgb)) in enumerate(zip(reversed(names), reversed(colours), strict=True)):
        top = -1.6 * tall * k
        words = block.add_text(
            name.removeprefix("BAND "),
            height=0.7 * tall,
            dxfattribs={"layer": layer, "insert": (3.6 * tall, top - 0.85 * tall), "color": index},
        )
        shown = [words]
        if not version.old:
            # A hatch, not a solid: readers of terrain take solids for ground.
            box = block.add_hatch(color=index, dxfattribs={"layer": layer})
            box.paths.add_polyline_path(
                [(0, top), (3 * tall, top), (3 * tall, top - tall), (0, top - tall)], is_closed=True
            )
            shown = [box]
            words.dxf.color = 256
        if version.true_colours:
            for each in shown:
                each.rgb = (rgb >> 16 & 255, rgb >> 8 & 255, rgb & 255)
    place = (float(corner[0]) + 2.0 * tall, float(corner[1]))
    document.modelspace().add_blockref("LEGEND", place, dxfattribs={"layer": layer})  # type: ignore[attr-defined]
