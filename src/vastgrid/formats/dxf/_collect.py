"""Collecting what a drawing holds: what is common by whole arrays, the rest by the library."""

from __future__ import annotations

from collections.abc import Callable
from pathlib import Path

import numpy as np
from numpy.typing import NDArray

from vastgrid.base.findings import Finding, Severity, count, left_out
from vastgrid.base.progress import Progress
from vastgrid.formats.dxf._drawing import BYLAYER, Drawing
from vastgrid.formats.dxf._geometry import faces_of, lightweight, meshes, polylines
from vastgrid.formats.dxf._library import SLOW, by_library
from vastgrid.formats.dxf._tags import Entities, Tags, decoded, texts_of
from vastgrid.kernels.text.tags import word

FAST = ("3DFACE", "LINE", "LWPOLYLINE", "POLYLINE", "POINT", "MESH")
PARTS = ("VERTEX", "SEQEND")


def collected(
    path: Path,
    entities: Entities,
    whole: Tags,
    in_model: NDArray[np.bool_],
    chord: float,
    findings: list[Finding],
    progress: Progress,
    *,
    hidden: bool,
) -> Drawing:
    """Return what a drawing holds; entities of no use here are counted in a finding.

    Parameters
    ----------
    in_model : (k,) bool
        Entities of model space.
    hidden : bool
        Whether entities that a drawing hides (on layers that are off or frozen) are taken.
    """
    drawing = Drawing()
    dark = hidden_layers(whole, entities.encoding)
    shown = in_model & ~entities.bad
    shown &= _told_hidden(entities, shown, dark, findings, taken=hidden) | hidden
    look = _looks(entities, whole, drawing)
    triangles, owner = faces_of(entities, entities.of("3DFACE", shown))
    good = np.isfinite(triangles).all(axis=(1, 2))
    if good.any():
        which, number = np.unique(owner[good], return_inverse=True)
        drawing.corners.append(triangles[good])
        drawing.owners.append(number.ravel())
        drawing.looks["faces"].append(look(which, "3DFACE"))
    at = entities.of("LINE", shown)
    if len(at):
        ends = [[entities.values(at, code + k, 0.0) for code in (10, 20, 30)] for k in (0, 1)]
        drawing.lines += list(np.moveaxis(np.array(ends), 2, 0))
        drawing.looks["lines"].append(look(at, "LINE"))
    for kind, found in (
        ("LWPOLYLINE", [(own, e, False) for own, e in lightweight(entities, entities.of("LWPOLYLINE", shown), chord)]),
        ("POLYLINE", list(polylines(entities, shown, chord))),
    ):
        courses = [(own, entity) for own, entity, is_face in found if not is_face]
        drawing.lines += [own for own, _ in courses]
        drawing.looks["lines"].append(look(np.array([entity for _, entity in courses], np.int64), kind))
        bodies = [(own, entity, "POLYFACE") for own, entity, is_face in found if is_face]
    bodies += [(own, entity, "MESH") for own, entity in meshes(entities, shown)]
    for own, entity, kind in bodies:
        drawing.owners.append(np.full(len(own), drawing.count("faces"), np.int64))
        drawing.corners.append(own)
        drawing.looks["faces"].append(look(np.array([entity]), kind))
    at = entities.of("POINT", shown)
    drawing.places.append(np.column_stack([entities.values(at, code, 0.0) for code in (10, 20, 30)]))
    drawing.looks["points"].append(look(at, "POINT"))
    by_library(path, entities, whole, shown, chord, drawing, findings, progress, set() if hidden else dark)
    _left_out(entities, in_model, findings)
    return drawing


def _told_hidden(
    entities: Entities, shown: NDArray[np.bool_], dark: set[str], findings: list[Finding], *, taken: bool
) -> NDArray[np.bool_]:
    """Return which entities the drawing shows, and say how many it hides."""
    on_dark = np.array([name.lower() in dark for name in entities.layers], np.bool_)
    every = np.arange(len(entities.first))
    off = on_dark[entities.layer] | (entities.values(every, 60, 0.0) == 1.0)
    parts = np.isin(entities.kind, [word(name) for name in PARTS])
    number = int((off & shown & ~parts).sum())
    if number:
        names = sorted({entities.layers[k] for k in np.unique(entities.layer[off & shown]).tolist()})
        what = f"{count(number, 'entity', 'entities')} that the drawing hides (layers off or frozen: {', '.join(names[:8])})"
        if taken:
            findings.append(Finding("hidden-taken", f"{what} came in as well; hidden=leave leaves them out."))
        else:
            findings.append(left_out("hidden-left-out", f"{what} were left out, as asked.", Severity.NOTE))
    return np.asarray(~off, np.bool_)


def hidden_layers(whole: Tags, encoding: str) -> set[str]:
    """Return the names of layers that are off or frozen, in small letters."""
    return {name for name, (_, _, dark) in _layer_table(whole, encoding).items() if dark}


def _looks(entities: Entities, whole: Tags, drawing: Drawing) -> Callable[[NDArray[np.int64], str], NDArray[np.int64]]:
    """Return a function: entities → numbers of their type, layer, colour and line type, by layer resolved."""
    every = np.arange(len(entities.first))
    colour = entities.values(every, 62, BYLAYER).astype(np.int64)
    kind, kinds = texts_of(entities.tags, entities.owner, len(every), 6, entities.encoding, "BYLAYER")
    table = _layer_table(whole, entities.encoding)
    by_layer = [table.get(name.lower(), (7, "CONTINUOUS", False)) for name in entities.layers]
    layer_colour = np.array([own for own, _, _ in by_layer], np.int64)
    used = np.unique(entities.layer[np.isin(entities.kind, [word(name) for name in FAST])])
    layer_number = np.zeros(len(entities.layers), np.int64)
    for k in used.tolist():
        layer_number[k] = drawing.layers.number(entities.layers[k])
    layer_line = np.array([drawing.line_types.number(line) for _, line, _ in by_layer], np.int64)
    own_line = np.array([-1 if k.upper() == "BYLAYER" else drawing.line_types.number(k) for k in kinds], np.int64)

    def look(which: NDArray[np.int64], name: str) -> NDArray[np.int64]:
        layer = entities.layer[which]
        lines = own_line[kind[which]]
        return np.column_stack(
            (
                np.full(len(which), drawing.types.number(name) if len(which) else 0),
                layer_number[layer],
                np.where(colour[which] == BYLAYER, layer_colour[layer], colour[which]),
                np.where(lines < 0, layer_line[layer], lines),
            )
        ).astype(np.int64)

    return look


def _layer_table(whole: Tags, encoding: str) -> dict[str, tuple[int, str, bool]]:
    """Return colour and line type of each layer, by its name in small letters, and whether it is off or frozen."""
    begin = np.flatnonzero((whole.codes == 0) & (whole.words == word("LAYER")))
    found: dict[str, tuple[int, str, bool]] = {}
    for start in begin.tolist():
        name, colour, line, dark = "", 7, "CONTINUOUS", False
        for k in range(start + 1, min(start + 40, len(whole.codes))):
            code, number = int(whole.codes[k]), whole.numbers[k]
            if code == 0:
                break
            if code == 2:
                name = decoded(whole.text(k), encoding)
            elif code == 6:
                line = decoded(whole.text(k), encoding)
            elif code == 62 and np.isfinite(number):
                # By the DXF reference a negative colour is a layer that is off.
                colour, dark = abs(int(number)), dark or number < 0
            elif code == 70 and np.isfinite(number):
                # 1 of its flags: frozen.
                dark |= bool(int(number) & 1)
        known = found.get(name.lower())
        found[name.lower()] = (colour, line, bool(dark or (known and known[2])))
    return found


def _left_out(entities: Entities, shown: NDArray[np.bool_], findings: list[Finding]) -> None:
    """Say which kinds of entity hold no terrain, and what is not in model space."""
    kinds, first, number = np.unique(entities.kind[shown], return_index=True, return_counts=True)
    used = {int(word(name)) for name in (*FAST, *PARTS, *SLOW)}
    other = []
    for kind, k, times in zip(kinds.tolist(), first.tolist(), number.tolist(), strict=True):
        if kind not in used:
            tag = int(entities.first[np.flatnonzero(shown)[k]])
            other.append(f"{times} {entities.tags.text(tag).decode('latin-1')}")
    if other:
        findings.append(
            left_out("entities-left-out", f"Entities that hold no terrain here, left out: {', '.join(other)}.")
        )
    if not shown.all():
        findings.append(
            left_out("paper-space", f"{count(int((~shown).sum()), 'entity', 'entities')} in paper space: left out.")
        )
