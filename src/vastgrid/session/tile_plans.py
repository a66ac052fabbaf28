"""What is to be done on tiles, settled from headers alone: sources, steps, how wide a tile is."""

from __future__ import annotations

import dataclasses
from collections.abc import Callable, Sequence
from dataclasses import dataclass
from pathlib import Path
from typing import Any

from vastgrid import catalog
from vastgrid.base.errors import CallError
from vastgrid.base.findings import Finding, count
from vastgrid.base.progress import Progress
from vastgrid.base.quantities import Length, unit_word
from vastgrid.base.words import spaced, step_near
from vastgrid.data.dataset import Dataset
from vastgrid.data.frame import Frame
from vastgrid.data.outline import CellOutline, Outline, PointOutline, SurfaceOutline
from vastgrid.declarations.conversion import Conversion, Inputs, listed
from vastgrid.params import declare
from vastgrid.session.accounts import Account, Step, Via
from vastgrid.session.saying import Options, Said
from vastgrid.session.steps import declared_frame
from vastgrid.tiling.sources import Files, files_in, look, together
from vastgrid.tiling.work import Plan, PlannedStep

# A tile of so many points, or cells, takes some hundred megabytes to work on.
POINTS = 4_000_000
CELLS = 4_000_000
# A tile is at least so many times as wide as what is looked at around it.
WIDER = 2.5


@dataclass(frozen=True, slots=True)
class Asked:
    """What is asked of a run.

    Attributes
    ----------
    tile : Length or None
        Width of a tile; None for one that fits.
    workers : int
        Processes on this machine; 0 for this one alone.
    cluster : str
        Address of a scheduler; empty for none.
    """

    tile: Length | None = None
    workers: int = 0
    cluster: str = ""


def planned(
    paths: Sequence[Path],
    vias: Sequence[Via],
    read_words: Options,
    from_units: Said,
    asked: Asked,
    account: Account,
    progress: Progress,
    *,
    override: bool = False,
) -> Plan:
    """Look at headers and settle every step; nothing else is read.

    Raises
    ------
    CallError
        If a step cannot run on tiles, or files do not fit together.
    """
    findings: list[Finding] = []
    files = files_in(paths, findings)

    def framed(path: Path, data: Dataset, noticed: list[Finding]) -> Frame:
        return declared_frame(data, from_units.of(path), noticed, override=override)

    sources = _sources(files, vias, read_words, framed, findings, progress)
    steps: list[PlannedStep] = []
    outlines: list[Outline] = [own.outline for _, own in sources]
    roles = [role for role, _ in sources]
    account.steps.append(Step(_source_sentence(sources, paths), tuple(findings), source=str(paths[0])))
    for via in vias:
        if steps and isinstance(outlines[0], SurfaceOutline) and isinstance(outlines[0].places, CellOutline):
            raise CallError(f"{steps[-1].operation} gives TINs in parts on tiles: it is the last step there")
        step = _planned_step(via, outlines, roles)
        steps.append(step)
        outlines, roles = [step.whole], [""]
    if outlines and isinstance(outlines[0], SurfaceOutline) and isinstance(outlines[0].places, PointOutline):
        raise CallError("a TIN of all of it would not fit: make a grid of it in the same call (--via grid cell=…)")
    plan = Plan(tuple(sources), tuple(steps), 1.0)
    return dataclasses.replace(plan, tile=_width(plan, asked, account))


def _sources(
    files: Sequence[Path],
    vias: Sequence[Via],
    words: Options,
    framed: Callable[[Path, Dataset, list[Finding]], Frame],
    findings: list[Finding],
    progress: Progress,
) -> list[tuple[str, Files]]:
    looked = look(files, words.of, framed, progress)
    findings += looked.findings
    first = vias[0].conversion if vias else None
    said = vias[0].roles() if vias else {}
    if first is not None and (len(first.inputs) > 1 or said):
        return _in_roles(first, said, looked.files, findings)
    if first is not None and first.many and all(isinstance(own.outline, CellOutline) for own in looked.files):
        return [(first.main.role, together([own], own.outline.name, findings)) for own in looked.files]
    name = looked.files[0].outline.name if len(looked.files) == 1 else files[0].parent.name or "All files"
    return [(first.main.role if first else "", together(looked.files, name, findings))]


def _in_roles(
    conversion: Conversion, said: dict[str, list[str]], files: Sequence[Any], findings: list[Finding]
) -> list[tuple[str, Files]]:
    """Return the files by the roles that were said, or one for each role in order.

    Raises
    ------
    CallError
        If a role stays without a file, or a file without a role.
    """
    by_name = {each.name: each for each in files} | {each.path: each for each in files}
    found: list[tuple[str, Files]] = []
    rest = list(files)
    for role, names in said.items():
        for name in names:
            own = by_name.get(name) or by_name.get(str(Path(name).resolve()))
            if own is None:
                raise CallError(
                    f"{role}={name}: there is no such file here; there are {listed([f.name for f in files])}"
                )
            found.append((role, together([own], own.outline.name, findings)))
            rest = [each for each in rest if each is not own]
    taken = [role for role, _ in found]
    open_ = [each.role for each in conversion.inputs if each.least and each.role not in taken]
    if len(rest) != len(open_):
        raise CallError(
            f"{conversion.id} on tiles uses {conversion.wants()}, one file each; say which plays what (role=FILE)"
        )
    found += [(role, together([own], own.outline.name, findings)) for role, own in zip(open_, rest, strict=True)]
    return sorted(found, key=lambda pair: conversion.place_of(pair[0]))


def _source_sentence(sources: Sequence[tuple[str, Files]], paths: Sequence[Path]) -> str:
    parts = []
    for _, own in sources:
        whole = own.outline
        counts = (
            f"{spaced(whole.count)} points"
            if isinstance(whole, PointOutline)
            else f"{spaced(whole.rows)} rows, {spaced(whole.columns)} columns"
        )
        what = "cloud" if isinstance(whole, PointOutline) else "grid"
        parts.append(
            f"{count(len(own.files), 'file')} ({spaced(sum(f.size for f in own.files) / 1e6)} MB) as one {what} "
            f"({counts}; {whole.frame.describe()})"
        )
    named = listed([path.name for path in paths[:3]]) + (f" and {len(paths) - 3} more" if len(paths) > 3 else "")
    return f"{named} looked at by their headers: {listed(parts)}."


def _planned_step(via: Via, outlines: Sequence[Outline], roles: Sequence[str]) -> PlannedStep:
    """Settle a step for outlines of what it is made from.

    Raises
    ------
    CallError
        If it cannot run on tiles, or with these parameters, or not on this kind of data.
    """
    conversion = via.conversion
    tiling = conversion.tiles
    if tiling is None:
        able = ", ".join(each.id for each in catalog.CONVERSIONS if each.tiles is not None)
        raise CallError(f"{conversion.id} cannot run on tiles; {able} can")
    standing = [each.dataset() for each in outlines]
    pairs = [(role or conversion.main.role, data) for role, data in zip(roles, standing, strict=True)]
    params = declare.build(conversion.params, via.params())
    kinds = conversion.takes_with(params)
    main = [data for role, data in pairs if role == conversion.main.role]
    if not all(isinstance(data, kinds) and (data.has_heights or conversion.any_quantity) for data in main):
        titles = listed([data.title for data in main])
        raise CallError(f"{conversion.id} uses {listed([kind.title for kind in kinds])}; it cannot use this {titles}")
    inputs = Inputs.of_pairs(pairs)
    settled = conversion.settle(inputs, params)
    # What was said is refused before what was settled from it.
    why = tiling.refuses(params) or tiling.refuses(settled)
    if why:
        raise CallError(f"{conversion.id} on tiles: {why}; or work on a part without --tiles")
    params = settled
    reach = conversion.reach(inputs, params)
    if reach is None:
        raise CallError(f"{conversion.id} looks at all of its data with these values, so it cannot run on tiles")
    return PlannedStep(conversion.id, declare.to_words(params), tiling.whole(list(outlines), params), reach)


def _width(plan: Plan, asked: Asked, account: Account) -> float:
    """Return how wide a tile is."""
    whole = plan.source.outline
    frame = whole.frame
    halo = plan.halo()
    if asked.tile is not None:
        size = asked.tile.in_unit(frame.horizontal, "tiles")
        if halo > size:
            text = f"A tile of {asked.tile} looks {halo:.4g}{unit_word(frame.horizontal)} around itself; wider tiles would be quicker."
            account.add_findings(-1, [Finding("tiles-narrow", text)])
        return size
    box = whole.box()
    area = max((box.east - box.west) * (box.north - box.south), 1e-9)
    sizes = []
    if isinstance(whole, PointOutline):
        sizes.append((area * POINTS / whole.count) ** 0.5)
    last = plan.ground
    for each in (whole, last):
        if isinstance(each, CellOutline):
            sizes.append((CELLS * each.dx * each.dy) ** 0.5)
    return step_near(max(min(sizes), WIDER * halo))
