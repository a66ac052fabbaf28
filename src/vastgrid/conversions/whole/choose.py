"""Some of the areas: those at places, or those that an attribute names."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from enum import Enum
from typing import Annotated

import numpy as np

from vastgrid.base import late_shapely as shapely
from vastgrid.base.errors import CallError, DataError, ParamError
from vastgrid.base.findings import Finding, count, note
from vastgrid.base.progress import Progress
from vastgrid.base.words import instead, place_words, plain, shortly
from vastgrid.data.areas import Areas
from vastgrid.data.dataset import Flags
from vastgrid.data.places import Places
from vastgrid.declarations.conversion import Conversion, Input, Output, Result
from vastgrid.params.declare import Param


class Side(Enum):
    """What becomes of those that are named."""

    KEPT = "kept"
    OUT = "out"


@dataclass(frozen=True)
class ChooseParams:
    """Which areas."""

    at: Annotated[
        Places | None,
        Param(
            "At",
            "Places in the areas that are meant: east and north of each, with commas between them.",
            absent="no place",
            once=True,
        ),
    ] = None
    by: Annotated[str, Param("By", "Attribute that names them, or layer.", absent="no attribute", once=True)] = ""
    named: Annotated[
        str,
        Param("Named", "Its values for those that are meant, with commas between them.", absent="nothing", once=True),
    ] = ""
    side: Annotated[
        Side,
        Param(
            "They are",
            "kept: they stay alone; out: they are left out.",
            said=(("kept", "kept alone"), ("out", "left out")),
        ),
    ] = Side.KEPT


def run(inputs: Sequence[Areas], params: ChooseParams, progress: Progress) -> Result:
    """Choose; see `CONVERSION`.

    Raises
    ------
    CallError
        If nothing says which, or no area is there or of that name.
    DataError
        If none is left.
    """
    areas = inputs[0]
    if params.at is None and not params.by:
        raise CallError("say which areas: at=“E N, E N”, or by=ATTRIBUTE named=VALUE")
    meant = np.zeros(len(areas), np.bool_)
    if params.at is not None:
        meant |= _at(areas, params.at)
    if params.by:
        meant |= _named(areas, params.by, params.named)
    progress.report(0.5)
    keep = meant if params.side is Side.KEPT else ~meant
    if not keep.any():
        raise DataError(f"no area of {areas.name} would be left")
    found: list[Finding] = [note("areas-chosen", f"{count(int(keep.sum()), 'area')} of {len(areas)} stay.")]
    progress.report(1.0)
    return Result(areas.chosen(np.flatnonzero(keep)), tuple(found))


def _at(areas: Areas, at: Places) -> Flags:
    """Return which areas have one of some places in them, or on their rim."""
    places = at.places()
    tree = shapely.STRtree(areas.shapes())
    place, own = tree.query(shapely.points(places), predicate="intersects")
    lost = np.setdiff1d(np.arange(len(places)), place)
    if len(lost):
        raise CallError(f"there is no area of {areas.name} at {place_words(*places[lost[0]].tolist())}")
    meant = np.zeros(len(areas), np.bool_)
    meant[own] = True
    return meant


def _named(areas: Areas, by: str, named: str) -> Flags:
    if by.lower() == "layer" and "layer" not in areas.attributes:
        texts = [areas.layers[k] for k in areas.layer.tolist()]
    elif by in areas.attributes:
        texts = [plain(value) for value in areas.attributes[by].tolist()]
    else:
        raise ParamError(
            "by", f"{areas.name} has no attribute “{shortly(by)}”; {instead(by, ['layer', *areas.attributes])}"
        )
    own = np.array(texts, object)
    meant = np.zeros(len(areas), np.bool_)
    for word in (word.strip() for word in named.split(",")):
        found = own == word
        if not found.any():
            raise ParamError("named", f"no area has {by} “{shortly(word)}”; {instead(word, sorted(set(texts)))}")
        meant |= found
    return meant


def suggest(areas: Areas) -> dict[str, list[str]]:
    """Return the attributes that can name areas."""
    return {"by": ["layer", *areas.attributes]}


CONVERSION = Conversion(
    id="choose",
    version=1,
    title="Some of the areas",
    also=("select", "filter", "pick areas"),
    help="The areas at places, or those that an attribute names, kept alone or left out.",
    inputs=(Input("areas", (Areas,)),),
    outputs=(Output("areas", like="areas"),),
    params=ChooseParams,
    template="{areas}, those[ at {at}][ whose {by} is {named}] {side}.",
    run=run,
    suggest=suggest,
    name=lambda inputs, params: f"{inputs[0].name}, chosen",
    ask=True,
)
