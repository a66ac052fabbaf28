"""A TIN at the precision of a file: triangles that rounding would leave without an area are mended before they go out."""

from __future__ import annotations

import dataclasses

import numpy as np

from vastgrid.base.findings import Finding, count, note
from vastgrid.data.dataset import Floats
from vastgrid.data.tin import Tin
from vastgrid.kernels.textrows import scaled
from vastgrid.kernels.topology import compact, mend_flat, plan_areas


def at_decimals(tin: Tin, decimals: int, findings: list[Finding]) -> Tin:
    """Return a TIN whose every triangle still has an area when its coordinates are rounded to some decimals.

    Vertices stay as they are. A triangle that would collapse is flipped with its neighbour where the heights agree to
    the rounding, and left out otherwise: it covers less ground than the rounding moves.
    """
    return mended(tin, written_as(tin.vertices, decimals), 10.0**-decimals, count(decimals, "decimal"), findings)


def mended(tin: Tin, rounded: Floats, slack: float, precision: str, findings: list[Finding]) -> Tin:
    """Return a TIN whose every triangle still has an area when its vertices are where a reader will see them.

    Parameters
    ----------
    rounded : (n, 3) float64
        Where that is.
    slack : float
        Heights that agree to this are taken for equal.
    precision : str
        What the file holds, as a sentence says it: “3 decimals”.
    """
    flat = plan_areas(rounded, tin.triangles) <= 0.0
    if not flat.any():
        return tin
    assert tin.constrained is not None
    triangles, across, flags = tin.triangles.copy(), tin.edges_across.copy(), tin.constrained.copy()
    keep, flipped = mend_flat(rounded, triangles, across, flags, slack)
    gone = int((~keep).sum())
    triangles, across, flags, used = compact(triangles, across, flags, keep, len(tin.vertices))
    parts = [f"{count(flipped, 'edge was', 'edges were')} flipped"] if flipped else []
    parts += [f"{count(gone, 'triangle was', 'triangles were')} left out"] if gone else []
    text = (
        f"{tin.name}: {count(int(flat.sum()), 'triangle')} would have no area at {precision}; "
        f"{' and '.join(parts)}, the ground otherwise unchanged."
    )
    findings.append(note("collapsing-triangles", text))
    return dataclasses.replace(
        tin, vertices=tin.vertices[used], triangles=triangles, neighbours=across, constrained=flags
    )


def written_as(coordinates: Floats, decimals: int) -> Floats:
    """Return coordinates as a reader of a file with so many decimals sees them."""
    columns = [scaled(coordinates[:, k], decimals) / 10.0**decimals for k in range(coordinates.shape[1])]
    return np.ascontiguousarray(np.column_stack(columns))
