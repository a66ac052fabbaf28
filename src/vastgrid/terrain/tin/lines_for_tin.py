"""Which lines are what when a TIN is built: limits, breaklines of the standard's kinds, contours."""

from __future__ import annotations

import fnmatch
from collections.abc import Mapping, Sequence
from dataclasses import dataclass, field

import numpy as np

from vastgrid.base.errors import CallError
from vastgrid.base.findings import Finding, count, left_out
from vastgrid.base.quantities import unit_word
from vastgrid.base.words import instead, place_words, shortly
from vastgrid.data.dataset import Dataset, Floats
from vastgrid.data.line_roles import CONTOUR, STANDARD
from vastgrid.data.linework import Linework


@dataclass(slots=True)
class Limits:
    """Closed lines that limit a TIN, each with its role, and whether triangles stay whole at it."""

    rings: list[Floats] = field(default_factory=list)
    roles: list[str] = field(default_factory=list)
    whole: list[bool] = field(default_factory=list)

    def take(self, ring: Floats, role: str, *, whole: bool = False) -> None:
        """Take a closed line in a role."""
        self.rings.append(ring)
        self.roles.append(role)
        self.whole.append(whole)

    def of(self, role: str, *, whole: bool | None = None) -> list[Floats]:
        """Return the rings of a role; those at which triangles stay whole, or not, where that is said."""
        own = zip(self.rings, self.roles, self.whole, strict=True)
        return [ring for ring, is_role, is_whole in own if is_role == role and whole in (None, is_whole)]

    def vertices(self) -> Floats:
        """Return all rings' vertices, one ring after another."""
        return np.concatenate([np.zeros((0, 3)), *self.rings])

    def offsets(self) -> np.ndarray:
        """Return where each ring begins."""
        return np.concatenate(([0], np.cumsum([len(ring) for ring in self.rings], dtype=np.int64)))


@dataclass(slots=True)
class SortedLines:
    """Lines by what they are for a TIN.

    Attributes
    ----------
    limits : Limits
        Boundaries, voids and islands.
    kinds : dict
        Lines by their kind: one of the standard's breakline kinds, or contours.
    """

    limits: Limits = field(default_factory=Limits)
    kinds: dict[str, list[Linework]] = field(default_factory=dict)

    def of(self, kind: str) -> list[Linework]:
        """Return the lines of a kind."""
        return self.kinds.get(kind, [])


def matches(name: str, patterns: str) -> bool:
    """Return whether a layer is among names or patterns (EDGE*) separated by commas."""
    words = [word.strip().lower() for word in patterns.split(",")]
    return any(fnmatch.fnmatchcase(name.lower(), word) for word in words if word not in ("", "none"))


def layers_of(inputs: Sequence[Dataset], attribute: str, word: str) -> str:
    """Return the layers all of whose lines say one word in an attribute, separated by commas."""
    found: dict[str, None] = {}
    for each in inputs:
        if not isinstance(each, Linework) or attribute not in each.attributes:
            continue
        is_word = each.attributes[attribute] == word.encode()
        for k, name in enumerate(each.layers):
            on_layer = each.layer == k
            if on_layer.any() and is_word[on_layer].all():
                found[name] = None
    return ",".join(found)


@dataclass(frozen=True, slots=True)
class LineChoices:
    """Layers by what their lines are, as patterns.

    Attributes
    ----------
    limits : mapping
        By role of boundary: parameter's name and patterns.
    whole : str
        Layers of boundaries at which triangles stay whole.
    kinds : mapping
        By kind of line: parameter's name and patterns; what is not one of them and matches `breaklines` is standard.
    breaklines : str
        Layers whose lines become edges.
    """

    limits: Mapping[str, tuple[str, str]]
    whole: str
    kinds: Mapping[str, tuple[str, str]]
    breaklines: str


def sort_lines(
    inputs: Sequence[Dataset], asked: LineChoices, points: Floats, tolerance: float, findings: list[Finding]
) -> SortedLines:
    """Return lines by what they are.

    Parameters
    ----------
    points : (n, 3) float64
        What heights are known from beside the lines: it tells lines drawn at 0.
    tolerance : float
        A ring that misses its beginning by no more than this is closed.

    Raises
    ------
    CallError
        If a layer that was named is not there, or a boundary holds no closed line.
    """
    out = SortedLines()
    layers: list[str] = []
    for each in inputs:
        work = each.as_lines()
        if work is None:
            continue
        layers += work.layers
        is_contours = not isinstance(each, Linework)
        chosen = np.array([matches(name, asked.breaklines) for name in work.layers])
        for role, (_, patterns) in asked.limits.items():
            on_role = np.array([bool(patterns) and matches(name, patterns) for name in work.layers])
            _take_rings(work.on_layers(on_role), role, asked.whole, tolerance, out.limits, findings)
            chosen &= ~on_role
        for kind, (_, patterns) in asked.kinds.items():
            own = np.array([bool(patterns) and matches(name, patterns) for name in work.layers]) & chosen
            if is_contours and kind == CONTOUR:
                own = chosen
            _take(out, kind, work.on_layers(own), points, findings)
            chosen = chosen & ~own
        _take(out, STANDARD, work.on_layers(chosen), points, findings)
    _refuse_unknown(asked, layers, out)
    return out


def _take(out: SortedLines, kind: str, lines: Linework, points: Floats, findings: list[Finding]) -> None:
    kept = _with_heights(lines, points, findings)
    if len(kept):
        out.kinds.setdefault(kind, []).append(kept)


def _refuse_unknown(asked: LineChoices, layers: list[str], out: SortedLines) -> None:
    for role, (name, patterns) in asked.limits.items():
        if patterns and not out.limits.of(role):
            raise CallError(
                f"{name}: there is no closed line on a layer “{shortly(patterns)}”; {_layers_instead(patterns, layers)}"
            )
    named = [("breaklines", asked.breaklines), ("whole", asked.whole), *asked.kinds.values()]
    for name, patterns in named:
        for word in (word.strip() for word in patterns.split(",")):
            if layers and word not in ("", "*", "none") and not any(matches(layer, word) for layer in layers):
                raise CallError(f"{name}: there is no layer “{shortly(word)}”; {_layers_instead(word, layers)}")


def _layers_instead(word: str, layers: list[str]) -> str:
    said = instead(word, layers)
    return said if said.startswith("did") else f"of layers {said}"


def _take_rings(
    lines: Linework, role: str, whole: str, tolerance: float, limits: Limits, findings: list[Finding]
) -> None:
    """Take closed lines as limits; one that misses its beginning by less than a place is closed."""
    for k in range(len(lines)):
        ring = lines.line(k)
        layer = lines.layers[lines.layer[k]]
        ends = ring[[0, -1]]
        gap = float(np.hypot(*(ends[1] - ends[0])[:2])) if len(ring) > 2 else np.inf
        at = (float(ends[1, 0]), float(ends[1, 1]))
        if gap > tolerance:
            text = f"A line on {layer} is open (it ends at {place_words(at[0], at[1])}) and limits nothing; left out."
            findings.append(left_out("open-boundary", text, at=at))
            continue
        if gap > 0.0:
            text = f"The line on {layer} ends {gap:.4g}{unit_word(lines.frame.horizontal)} beside its beginning ({place_words(at[0], at[1])}) and was closed."
            findings.append(Finding("ring-closed", text, at=at))
            ring = np.concatenate((ring[:-1], ring[:1]))
        limits.take(ring, role, whole=matches(layer, whole))


def _with_heights(lines: Linework, points: Floats, findings: list[Finding]) -> Linework:
    """Drop lines that have no heights: unknown, or exactly zero throughout while the ground is far from zero."""
    if len(lines) == 0:
        return lines
    missing = np.logical_or.reduceat(~np.isfinite(lines.vertices).all(axis=1), lines.offsets[:-1])
    if len(points) and (points[:, 2].min() > 1.0 or points[:, 2].max() < -1.0):
        missing |= ~np.logical_or.reduceat(lines.vertices[:, 2] != 0.0, lines.offsets[:-1])
    if missing.any():
        where = lines.line(int(np.flatnonzero(missing)[0]))[0]
        text = (
            f"{count(int(missing.sum()), 'line')} of {lines.name} without heights (none, or 0 throughout while the "
            "ground is far from 0): not used as breaklines."
        )
        findings.append(Finding("lines-without-height", text, at=(float(where[0]), float(where[1]))))
        lines = lines.chosen(np.flatnonzero(~missing))
    return lines
