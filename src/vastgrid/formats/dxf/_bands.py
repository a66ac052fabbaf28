"""Surfaces in bands of height, each with a layer and a colour: a drawing cannot blend colours."""

from __future__ import annotations

import numpy as np

from vastgrid.base.errors import ParamError
from vastgrid.base.quantities import unit_word
from vastgrid.data.tin import Tin
from vastgrid.formats.dxf._pen import Version
from vastgrid.formats.dxf._scheme import nearest
from vastgrid.shaping.parting import parted

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


def colour_codes(number: int, *, true: bool) -> list[tuple[int, int]]:
    """Return index colour and true colour of each of several bands, the lowest first: the ramp of heights."""
    from cmap import Colormap

    if number == 0:
        return []
    at = np.linspace(0.0, 1.0, number) if number > 1 else np.array([0.5])
    made = (255 * (0.62 * np.asarray(Colormap("crameri:lajolla")(0.22 + 0.78 * at))[:, :3] + 0.38)).astype(int)
    values = [int(red) << 16 | int(green) << 8 | int(blue) for red, green, blue in made.tolist()]
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
