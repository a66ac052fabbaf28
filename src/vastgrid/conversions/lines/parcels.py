"""Parcels of a survey to areas, each with its name and what the file says of it."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np

from vastgrid.base import late_shapely as shapely
from vastgrid.base.errors import DataError
from vastgrid.base.findings import Finding, count, left_out, note
from vastgrid.base.progress import Progress
from vastgrid.base.quantities import unit_word
from vastgrid.base.words import place_words
from vastgrid.data.areas import Areas, from_shapes
from vastgrid.data.survey import Record, Survey
from vastgrid.declarations.conversion import Conversion, Input, Output, Result
from vastgrid.terrain.areas.mending import sound

# A stated area has so many figures at least; a difference below this part of it is their rounding.
_ROUNDED = 1e-4


@dataclass(frozen=True)
class ParcelParams:
    """Nothing to choose: every parcel becomes an area."""


def run(inputs: Sequence[Survey], params: ParcelParams, progress: Progress) -> Result:
    """Take the parcels; see `CONVERSION`.

    Raises
    ------
    DataError
        If no parcel is closed, or nobody can say what one encloses.
    """
    survey = inputs[0]
    parcels = [record for record in survey.records() if record.role == "parcel"]
    closed = [record for record in parcels if _closed(record)]
    findings: list[Finding] = []
    if not closed:
        raise DataError(f"no parcel of {survey.name} is closed, so there is no area")
    if len(closed) < len(parcels):
        first = next(record for record in parcels if not _closed(record))
        text = f"{count(len(parcels) - len(closed), 'parcel')} without a closed line left out (first {first.name or 'one without a name'})."
        findings.append(left_out("open-boundary", text))
    progress.report(0.2, "parcels")
    rings = [record.line if np.isfinite(record.line[:, 2]).all() else record.line[:, :2] for record in closed]
    shapes = np.array([shapely.Polygon(ring) for ring in rings], object)
    whole, kept = sound(shapes, lambda k: closed[k].name or f"parcel {k + 1}", findings)
    own = [closed[k] for k in kept.tolist()]
    made, _ = from_shapes(
        whole,
        name=f"Parcels of {survey.name}",
        frame=survey.frame,
        layer=np.zeros(len(own), np.int32),
        layers=("PARCEL",),
        attributes=_attributes(own),
    ).without_repeated()
    findings += _stated(made, own)
    progress.report(1.0)
    return Result(made, tuple(findings))


def _closed(record: Record) -> bool:
    return len(record.line) > 3 and bool((record.line[0, :2] == record.line[-1, :2]).all())


def _attributes(parcels: list[Record]) -> dict[str, np.ndarray]:
    """Return names, what the file says in words, and the stated area, NaN where it states none."""
    words = {"name": [record.name for record in parcels]}
    for key in dict.fromkeys(key for record in parcels for key in record.exact.get("about", {})):
        words[key] = [str(record.exact.get("about", {}).get(key, "")) for record in parcels]
    found: dict[str, np.ndarray] = {
        key: np.array([text.encode() for text in texts]) for key, texts in words.items() if any(texts)
    }
    stated = np.array([record.exact.get("area", np.nan) for record in parcels], np.float64)
    return found if np.isnan(stated).all() else {**found, "stated_area": stated}


def _stated(areas: Areas, parcels: list[Record]) -> list[Finding]:
    """Compare the stated areas with those of the drawn lines."""
    stated = np.array([record.exact.get("area", np.nan) for record in parcels], np.float64)
    known = np.isfinite(stated)
    if not known.any():
        return []
    found = areas.sizes()
    off = np.where(known, np.abs(found - stated), 0.0)
    worst = int(np.argmax(off))
    unit = unit_word(areas.frame.horizontal)
    square = f"{unit}²" if unit else ""
    code, many = "stated-area", int(known.sum())
    if off[worst] <= _ROUNDED * abs(stated[worst]):
        text = f"{count(many, 'parcel')} with a stated area agree with it to {off[worst]:.3g}{square}."
        return [note(code, text)]
    at = tuple(areas.chosen(np.array([worst])).middles()[0].tolist())
    text = (
        f"{parcels[worst].name or 'A parcel'} has {found[worst]:.3f}{square} but states {stated[worst]:.3f}{square}, the largest difference of "
        f"{count(many, 'parcel')} with a stated area (at {place_words(*at)})."
    )
    return [Finding(code, text, at=at)]


CONVERSION = Conversion(
    id="parcels",
    version=1,
    title="Areas from parcels",
    also=("plots", "lots", "cadastre", "polygons"),
    help="The parcels of a survey as areas, each with its name, what the file says of it, and its stated area.",
    inputs=(Input("records", (Survey,)),),
    outputs=(Output("areas", Areas),),
    params=ParcelParams,
    template="Areas of the parcels of {records}, curves as chords.",
    run=run,
    name=lambda inputs, params: f"Parcels of {inputs[0].name}",
    fits=lambda survey: "parcel" in survey.roles,
    automatic=6,
    automatic_for=lambda survey: set(survey.roles) == {"parcel"},
)
