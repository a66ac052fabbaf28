"""Every place of a dataset taken elsewhere, whatever kind it is, where places alone decide."""

from __future__ import annotations

import dataclasses
import json
from collections.abc import Callable
from functools import singledispatch
from typing import Any

from vastgrid.base.errors import CallError
from vastgrid.base.findings import Finding
from vastgrid.data.areas import Areas
from vastgrid.data.dataset import Dataset, Floats
from vastgrid.data.linework import Linework
from vastgrid.data.mesh import Mesh
from vastgrid.data.pointset import PointSet
from vastgrid.data.survey import Survey
from vastgrid.data.tin import Tin

Places = Callable[[Floats], Floats]


@singledispatch
def mapped(data: Dataset, places: Places, findings: list[Finding]) -> Dataset:
    """Return a dataset with every vertex elsewhere; `places` takes (n, 3) and gives as many.

    Raises
    ------
    CallError
        If more than places decides what becomes of this kind: a grid, contours, a table.
    """
    raise CallError(f"{data.title} cannot be moved")


@mapped.register
def _points(points: PointSet, places: Places, findings: list[Finding]) -> Dataset:
    return dataclasses.replace(points, xyz=places(points.xyz))


@mapped.register(Linework)
@mapped.register(Mesh)
def _vertices(data: Linework | Mesh, places: Places, findings: list[Finding]) -> Dataset:
    return dataclasses.replace(data, vertices=places(data.vertices))


@mapped.register
def _areas(areas: Areas, places: Places, findings: list[Finding]) -> Dataset:
    return areas.with_places(places(areas.vertices))


@mapped.register
def _tin(tin: Tin, places: Places, findings: list[Finding]) -> Dataset:
    names = ("vertices", "source_points", "break_vertices", "limit", "spare_vertices")
    changed: dict[str, Any] = {name: places(getattr(tin, name)) for name in names}
    return dataclasses.replace(tin, **changed)


@mapped.register
def _survey(survey: Survey, places: Places, findings: list[Finding]) -> Dataset:
    text = "Curves and profiles of survey records are true in their own system only; their drawn course was kept."
    findings.append(Finding("records-flattened", text))
    exact = tuple(json.dumps({"moved": True}) for _ in survey.exact)
    return dataclasses.replace(survey, vertices=places(survey.vertices), exact=exact)
