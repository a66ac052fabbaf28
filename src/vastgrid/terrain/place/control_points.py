"""Points that are known in two systems, paired by number or name."""

from __future__ import annotations

from dataclasses import dataclass

from vastgrid.base.errors import CallError
from vastgrid.base.findings import Finding, count, note
from vastgrid.base.words import instead, plain, shortly
from vastgrid.data.dataset import Flags, Floats
from vastgrid.data.pointset import PointSet


@dataclass(frozen=True, slots=True)
class Pairs:
    """Points known in two systems: names, and places (n, 3) in each."""

    names: list[str]
    local: Floats
    known: Floats

    def chosen(self, keep: Flags) -> Pairs:
        """Return some of them."""
        names = [name for name, own in zip(self.names, keep.tolist(), strict=True) if own]
        return Pairs(names, self.local[keep], self.known[keep])


# Attributes that name a point, by any case.
POINT_NAMES = ("point", "name", "number", "id", "no", "nr")


def point_names(points: PointSet, by: str) -> list[str] | None:
    """Return what an attribute calls each point; None where there is none of that name."""
    own = next((values for name, values in points.attributes.items() if name.lower() == by.lower()), None)
    if own is None or own.ndim != 1:
        return None
    return [f"{each:.10g}" if isinstance(each, float) else plain(each).strip() for each in own.tolist()]


def paired(local: PointSet, known: PointSet, by: str, findings: list[Finding]) -> Pairs:
    """Return the points in pairs.

    Raises
    ------
    CallError
        If the attribute is in neither set, a name stands twice, or nothing can be paired.
    """
    if not by:
        if len(local.xyz) != len(known.xyz):
            raise CallError(
                f"{local.name} has {count(len(local.xyz), 'point')} and {known.name} {len(known.xyz)}, and no attribute names them in both; "
                "say by which they are paired (by=point)"
            )
        text = "The points have no names in common and were paired in their order, the first with the first."
        findings.append(Finding("fit-by-order", text))
        return Pairs([str(k + 1) for k in range(len(local.xyz))], local.xyz, known.xyz)
    sides = []
    for points in (local, known):
        names = point_names(points, by)
        if names is None:
            able = [name for name, own in points.attributes.items() if own.ndim == 1]
            raise CallError(f"by={shortly(by)}: {points.name} has no attribute of that name; {instead(by, able)}")
        twice = next((name for k, name in enumerate(names) if name and name in names[:k]), None)
        if twice is not None:
            raise CallError(f"by={shortly(by)}: {points.name} has two points named {twice}; which one is meant?")
        sides.append({name: k for k, name in enumerate(names) if name})
    both = [name for name in sides[0] if name in sides[1]]
    if not both:
        some = [", ".join(list(side)[:4]) for side in sides]
        raise CallError(f"by={shortly(by)}: no point of {local.name} ({some[0]} …) is in {known.name} ({some[1]} …)")
    for points, side, other in ((local, sides[0], sides[1]), (known, sides[1], sides[0])):
        alone = [name for name in side if name not in other]
        if alone:
            text = f"{count(len(alone), 'point')} of {points.name} without a counterpart: {', '.join(alone[:8])}{' …' if len(alone) > 8 else ''}."
            findings.append(note("fit-unpaired", text))
    rows = [[side[name] for name in both] for side in sides]
    return Pairs(both, local.xyz[rows[0]], known.xyz[rows[1]])
