"""Areas to parcels of a survey, for receivers that know no areas but these."""

from __future__ import annotations

import itertools
from collections.abc import Sequence
from dataclasses import dataclass
from typing import Any

import numpy as np

from vastgrid.base.errors import DataError
from vastgrid.base.findings import Finding, count, left_out
from vastgrid.base.progress import Progress
from vastgrid.base.words import plain
from vastgrid.data.areas import Areas
from vastgrid.data.linework import ring_areas
from vastgrid.data.survey import Record, Survey, survey_of
from vastgrid.declarations.conversion import Conversion, Input, Output, Result


@dataclass(frozen=True)
class RecordParams:
    """Nothing to choose: every part of an area becomes a parcel."""


def run(inputs: Sequence[Areas], params: RecordParams, progress: Progress) -> Result:
    """Make parcels; see `CONVERSION`.

    Raises
    ------
    DataError
        If there are no areas.
    """
    areas = inputs[0]
    if not len(areas):
        raise DataError(f"{areas.name} holds no area")
    sizes = ring_areas(areas.vertices, areas.offsets)
    called = areas.attributes.get("name")
    told = areas.attributes.get("desc")
    records = []
    for k in range(len(areas)):
        own = plain(called[k]) if called is not None else ""
        first, last = int(areas.members[k]), int(areas.members[k + 1])
        for part in range(first, last):
            name = own or f"{areas.layers[areas.layer[k]] or areas.name} {k + 1}"
            name += f" ({part - first + 1})" if last - first > 1 else ""
            ring, end = int(areas.parts[part]), int(areas.parts[part + 1])
            about = {"desc": plain(told[k])} if told is not None and plain(told[k]) else {}
            net = abs(sizes[ring]) - np.abs(sizes[ring + 1 : end]).sum()
            records.append(_record("parcel", name, areas, ring, {"area": float(net), "about": about}))
            for number, hole in enumerate(range(ring + 1, end), 1):
                records.append(_record("plan feature", f"{name}, hole {number}", areas, hole, {}))
        progress.report((k + 1) / len(areas))
    findings: list[Finding] = []
    holes = int(areas.holes().sum())
    if holes:
        text = f"{count(holes, 'hole')} of areas became plan features of their own: a parcel has one line around it."
        findings.append(Finding("parcel-holes", text))
    gone = [name for name in areas.attributes if name.lower() not in ("name", "desc")]
    if gone:
        text = f"Parcels have a name and a description; other attributes are left out: {', '.join(gone)}."
        findings.append(left_out("parcel-attributes", text))
    return Result(survey_of(areas.name, areas.frame, records), tuple(findings))


def _record(role: str, name: str, areas: Areas, ring: int, more: dict[str, Any]) -> Record:
    """Return a ring as a record of straight sides."""
    line = areas.vertices[areas.offsets[ring] : areas.offsets[ring + 1]]
    places = [[value for value in place if value == value] for place in line.tolist()]
    sides = [{"kind": "line", "start": a, "end": b} for a, b in itertools.pairwise(places)]
    return Record(role, name, np.asarray(line), {"geometry": sides, **more})


CONVERSION = Conversion(
    id="records",
    version=1,
    title="Parcels from areas",
    also=("plots", "lots", "cadastre"),
    help="Each part of an area as a parcel, with its name and its area, its holes as plan features, for LandXML.",
    inputs=(Input("areas", (Areas,)),),
    outputs=(Output("records", Survey),),
    params=RecordParams,
    template="{areas} as parcels.",
    run=run,
    name=lambda inputs, params: inputs[0].name,
    automatic=6,
)
