"""Long triangles across a bay or a gap: ground that nobody surveyed."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from typing import Annotated

import numpy as np
from numpy.typing import NDArray

from vastgrid.base.findings import Finding, Remedy, count
from vastgrid.base.progress import Progress
from vastgrid.base.quantities import Length, Quantity, length_in
from vastgrid.data.dataset import Dataset, Flags, Floats
from vastgrid.data.tin import Tin, areas, edge_lengths
from vastgrid.declarations.check import Check, cut_short, plan_area, with_unit
from vastgrid.kernels.triangles.vertexwise import around, groups
from vastgrid.params.declare import Param


@dataclass(frozen=True)
class Params:
    """When a triangle is long."""

    times: Annotated[
        float,
        Param(
            "Longer than this many times the spacing",
            "How much longer than the spacing of the points at its corners an edge has to be.",
            Quantity.RATIO,
            above=1,
        ),
    ] = 6.0
    least: Annotated[
        Length,
        Param("Edges at least this long", "Shorter edges are ignored.", Quantity.XY_LENGTH, least=0),
    ] = Length(20.0)


def run(tin: Tin, others: Sequence[Dataset], params: Params, progress: Progress) -> list[Finding]:
    """Return groups of triangles whose edges are long for the points around them, the largest first."""
    if len(tin.triangles) == 0:
        return []
    length = edge_lengths(tin)
    progress.report(0.3)
    spacing = around(tin.vertices, tin.triangles)[:, 3]
    spacing[~np.isfinite(spacing)] = 0.0
    progress.report(0.6)
    # The middle one of three corners: neither a lone point at the rim nor a dense neighbour says what is usual.
    usual = np.median(spacing[tin.triangles], axis=1)
    longest = length.max(axis=1)
    least = length_in(params.least, tin.frame.horizontal)
    chosen = (longest > params.times * usual) & (longest >= least)
    group = _patches(tin, chosen)
    progress.report(0.8)
    area = np.abs(areas(tin))
    wide = np.bincount(group[chosen], weights=area[chosen])
    at_rim = np.zeros(len(tin.vertices), np.bool_)
    outer = tin.edges_across < 0
    at_rim[tin.triangles[outer]] = True
    at_rim[np.roll(tin.triangles, -1, axis=1)[outer]] = True
    found = [
        _told(tin, group == k, length, float(wide[k]), at_rim)
        for k in np.argsort(-wide).tolist()
        if wide[k] > least * least / 2.0 and _deep(group == k, longest, usual, float(wide[k]))
    ]
    return cut_short(found, CHECK.id, ("group of long triangles", "groups of long triangles"))


def _deep(mine: Flags, longest: Floats, usual: Floats, area: float) -> bool:
    """Tell a bay from slivers along the hull, which are long too and hold no ground to speak of."""
    return bool(area / float(longest[mine].max()) > 3.0 * float(np.median(usual[mine])))


def _patches(tin: Tin, chosen: Flags) -> NDArray[np.int32]:
    """Return the number of each chosen triangle's patch: what shares an edge or a vertex belongs together."""
    from scipy.sparse import coo_array
    from scipy.sparse.csgraph import connected_components

    group = groups(tin.edges_across, chosen)
    number = int(group.max()) + 1
    if number < 2:
        return np.asarray(group)
    index = np.flatnonzero(chosen)
    one, other = np.repeat(group[index], 3), tin.triangles[index].ravel()
    order = np.argsort(other, kind="stable")
    one, other = one[order], other[order]
    same = other[1:] == other[:-1]
    links = coo_array((np.ones(int(same.sum())), (one[:-1][same], one[1:][same])), shape=(number, number))
    _, joined = connected_components(links, directed=False)
    group[index] = joined[group[index]]
    return np.asarray(group)


def _told(tin: Tin, mine: Flags, length: Floats, area: float, at_rim: Flags) -> Finding:
    unit = tin.frame.horizontal
    longest = length.max(axis=1)
    rim = bool(at_rim[tin.triangles[mine]].any())
    where = "at the edge, as across a bay" if rim else "across a gap inside"
    index = np.flatnonzero(mine)
    worst = index[longest[index].argmax()]
    corner = tin.vertices[tin.triangles[worst]]
    # The middle of the longest edge lies in the bay itself.
    k = int(length[worst].argmax())
    place = (corner[k, :2] + corner[(k + 1) % 3, :2]) / 2.0
    text = (
        f"{count(int(mine.sum()), 'long triangle')} {where}: edges up to {with_unit(float(longest[mine].max()), unit, 1)} "
        f"over {plan_area(area, unit)} that no point supports."
    )
    limit = float(np.floor(longest[mine].min() * 10.0) / 10.0)
    remedy = Remedy(
        "words",
        f"Leave out edges longer than {with_unit(limit, unit, 1)}",
        {"max_edge": f"{limit:g}{unit.value if unit else ''}"},
    )
    return Finding(CHECK.id, text, at=(float(place[0]), float(place[1])), remedy=remedy)


CHECK = Check(
    id="long-triangles",
    version=1,
    title="Long triangles",
    help="Triangles much longer than the spacing of the points bridge ground that nobody surveyed.",
    takes=(Tin,),
    params=Params,
    run=run,
)
