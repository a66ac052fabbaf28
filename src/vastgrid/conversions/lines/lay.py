"""Lines laid on a surface."""

from __future__ import annotations

import dataclasses
from dataclasses import dataclass

import numpy as np

from vastgrid.base.errors import DataError
from vastgrid.base.findings import Finding, count, note
from vastgrid.base.progress import Progress
from vastgrid.base.quantities import unit_word
from vastgrid.base.words import place_words
from vastgrid.data.dataset import Dataset, Floats
from vastgrid.data.grid import Grid
from vastgrid.data.linework import Linework, line_lengths
from vastgrid.data.tin import Tin
from vastgrid.declarations.conversion import Conversion, Input, Inputs, Output, Result
from vastgrid.measures.heights import heights
from vastgrid.terrain.lines.laying import laid_on


@dataclass(frozen=True)
class LayParams:
    """Nothing to choose: the ground says it."""


def run(inputs: Inputs, params: LayParams, progress: Progress) -> Result:
    """Lay lines on a surface; see `CONVERSION`.

    Raises
    ------
    DataError
        If no line lies over it.
    """
    (lines,) = inputs.of("lines")
    (surface,) = inputs.of("surface")
    assert isinstance(lines, Linework)
    assert isinstance(surface, Tin | Grid)
    vertices, offsets, source = laid_on(lines.vertices, lines.offsets, surface, progress.part(0.0, 0.9))
    if len(source) == 0:
        raise DataError(f"no line of {lines.name} lies over {surface.name}")
    findings = _told(lines, surface, vertices, offsets, source)
    attributes = {name: values[source] for name, values in lines.attributes.items()}
    made = dataclasses.replace(
        lines, vertices=vertices, offsets=offsets, layer=lines.layer[source], attributes=attributes
    )
    progress.report(1.0)
    return Result(made, tuple(findings), figures={"added": len(vertices) - len(lines.vertices)})


def _told(
    lines: Linework, surface: Dataset, vertices: Floats, offsets: np.ndarray, source: np.ndarray
) -> list[Finding]:
    plan, unit = unit_word(lines.frame.horizontal), unit_word(lines.frame.vertical)
    whole, left = (float(line_lengths(*each).sum()) for each in ((lines.vertices, lines.offsets), (vertices, offsets)))
    parts = f"{count(len(source), 'line')} of {count(len(np.unique(source)), 'line')}"
    text = f"{parts} lie on {surface.name} with {count(len(vertices), 'vertex', 'vertices')}, {left:.2f}{plan} of {whole:.2f}{plan}."
    findings = [note("laid", text)]
    lost = len(lines) - len(np.unique(source))
    if whole - left > 1e-6 * max(whole, 1.0):
        beside = f", {count(lost, 'line')} as a whole" if lost else ""
        findings.append(
            Finding("beyond-surface", f"{whole - left:.2f}{plan} lie beyond {surface.name} and are left out{beside}.")
        )
    assert isinstance(surface, Tin | Grid)
    own = lines.vertices[np.isfinite(lines.vertices[:, 2])]
    gap = heights(surface, np.ascontiguousarray(own[:, :2])) - own[:, 2] if len(own) else np.zeros(0)
    known = np.isfinite(gap)
    if known.any():
        worst = int(np.where(known, np.abs(gap), -1.0).argmax())
        at = (float(own[worst, 0]), float(own[worst, 1]))
        findings.append(
            note(
                "heights-replaced",
                f"Own heights changed by up to {gap[worst]:+.3f}{unit} ({place_words(at[0], at[1])}).",
                at,
            )
        )
    return findings


CONVERSION = Conversion(
    id="lay",
    version=1,
    title="Drape lines on a surface",
    also=("drape", "3D lines", "set elevations"),
    help="Lines with the heights of a surface: a vertex wherever it bends below them, their own vertices kept in plan.",
    inputs=(
        Input("lines", (Linework,), help="the lines to drape"),
        Input("surface", (Tin, Grid), help="the surface they are draped on", fits=lambda dataset: dataset.has_heights),
    ),
    outputs=(Output("lines", like="lines"),),
    params=LayParams,
    template="{lines} draped on {surface}.",
    run=run,
    name=lambda inputs, params: f"{inputs[0].name} on the ground",
)
