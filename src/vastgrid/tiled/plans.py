"""What is to be done on tiles, settled from headers alone: sources, steps, how wide a tile is."""

from __future__ import annotations

import dataclasses
from collections.abc import Callable, Sequence
from dataclasses import dataclass
from pathlib import Path
from typing import Any

import numpy as np

from vastgrid import catalog
from vastgrid.base.errors import CallError
from vastgrid.base.findings import Finding, count
from vastgrid.base.progress import Progress, Silent
from vastgrid.base.quantities import Length, Unit, unit_word
from vastgrid.base.words import instead, shortly, spaced, step_near
from vastgrid.data.dataset import Dataset
from vastgrid.data.frame import Frame
from vastgrid.data.outline import CellOutline, Outline, PointOutline, SurfaceOutline
from vastgrid.data.pointset import PointSet
from vastgrid.declarations.conversion import Conversion, Input, Inputs, listed
from vastgrid.execution.input_options import Options, Said
from vastgrid.execution.run_log import Account, Step, Via
from vastgrid.execution.steps import declared_frame, read_file, with_known_units
from vastgrid.execution.steps import in_one_frame as in_frame_of_first
from vastgrid.params import declare
from vastgrid.tiling.sources import Files, SourceFile, files_in, in_one_frame, look, together
from vastgrid.tiling.work import Extra, Plan, PlannedStep

# A tile of so many points, or cells, takes some hundred megabytes to work on.
POINTS = 4_000_000
CELLS = 4_000_000
# A tile is at least so many times as wide as what is looked at around it.
WIDER = 2.5


# Seconds of one core as measured (docs/user/larger-than-memory.md): for a million points unpacked and worked on in one step,
# for a million cells of one step, for each tile, for a million cells of a result that is put together and read back; those
# that starting workers takes; and for looking at each file of points or of cells and opening it again.
EACH_POINTS, EACH_CELLS, EACH_TILE, EACH_WRITTEN, STARTING = 1.2, 0.17, 0.03, 0.3, 8.0
EACH_CLOUD, EACH_RASTER = 0.012, 0.005
# Of what the first step takes, each further one takes so much.
FURTHER = 0.65
# Bytes of scratch for a point and for a cell of the result.
POINT_BYTES, CELL_BYTES = 30.0, 3.0


@dataclass(frozen=True, slots=True)
class TilingOptions:
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
    asked: TilingOptions,
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

    def framed(path: Path, data: Dataset, noticed: list[Finding]) -> Frame:
        return declared_frame(data, from_units.of(path), noticed, override=override)

    looking = _Looking(read_words, from_units, framed, findings, progress)
    sources, extras = looking.at(paths, vias[0] if vias else None)
    sources = _with_units(sources, vias, findings)
    steps: list[PlannedStep] = []
    outlines: list[Outline] = [own.outline for _, own in sources]
    roles = [role for role, _ in sources]
    account.steps.append(Step(_source_sentence(sources, paths), tuple(findings), source=str(paths[0])))
    for via in vias:
        if steps and isinstance(outlines[0], SurfaceOutline) and isinstance(outlines[0].places, CellOutline):
            raise CallError(f"{steps[-1].operation} gives TINs in parts on tiles: it is the last step there")
        if isinstance(outlines[0], PointOutline) and outlines[0].rough:
            raise CallError(
                f"{steps[-1].operation} knows where its points lie only when they are there: on tiles it is the last step"
            )
        step = _planned_step(via, outlines, roles, () if steps else extras)
        steps.append(step)
        outlines, roles = [step.whole], [""]
    if outlines and isinstance(outlines[0], SurfaceOutline) and isinstance(outlines[0].places, PointOutline):
        raise CallError("a TIN of all of it would not fit: make a grid of it in the same call (--via grid cell=…)")
    plan = Plan(tuple(sources), tuple(steps), 1.0, extras=extras)
    return dataclasses.replace(plan, tile=_width(plan, asked, account))


def _with_units(
    sources: list[tuple[str, Files]], vias: Sequence[Via], findings: list[Finding]
) -> list[tuple[str, Files]]:
    """Return sources in the units that lengths of the steps give to data that has none.

    Raises
    ------
    CallError
        If plan and height would differ without anyone having said so.
    """
    frame = before = sources[0][1].outline.frame
    for via in vias:
        frame, _ = _brought(via, frame, sources[0][1].outline.name, findings)
    if frame == before:
        return sources

    def framed(own: Files) -> Files:
        files = [
            dataclasses.replace(each, outline=dataclasses.replace(each.outline, frame=frame)) for each in own.files
        ]
        return Files(tuple(files), dataclasses.replace(own.outline, frame=frame))

    return [(role, framed(own)) for role, own in sources]


def _brought(via: Via, frame: Frame, name: str, findings: list[Finding]) -> tuple[Frame, Any]:
    """Return a frame with the units that a step's lengths give it, and the parameters in its units."""
    params = declare.build(via.conversion.params, via.params())
    (data,), params = with_known_units([PointSet(name=name, frame=frame, xyz=np.zeros((0, 3)))], params, findings)
    return data.frame, params


@dataclass(frozen=True, slots=True)
class _Looking:
    """Looks at the headers of files, and sees which play what in a step."""

    words: Options
    units: Said
    framed: Callable[[Path, Dataset, list[Finding]], Frame]
    findings: list[Finding]
    progress: Progress

    def at(self, paths: Sequence[Path], via: Via | None) -> tuple[list[tuple[str, Files]], tuple[Extra, ...]]:
        """Return the sources by their roles, and what else the first step is made from.

        Raises
        ------
        CallError
            If files do not fit together, or not into the roles.
        """
        first = via.conversion if via else None
        said = via.roles() if via else {}
        several = first is not None and not first.single and sum(each.least for each in first.inputs) > 1
        if first is not None and (several or said):
            return self._in_roles(first, said, paths)
        looked = self._looked(paths)
        if first is not None and first.many and all(isinstance(own.outline, CellOutline) for own in looked):
            looked = in_one_frame(looked, self.findings)
            return [(first.main.role, together([own], own.outline.name, self.findings)) for own in looked], ()
        name = looked[0].outline.name if len(looked) == 1 else Path(looked[0].path).parent.name or "All files"
        return [(first.main.role if first else "", together(looked, name, self.findings))], ()

    def _looked(self, paths: Sequence[Path]) -> list[SourceFile]:
        looked = look(files_in(paths, self.findings), self.words.of, self.framed, self.progress)
        self.findings.extend(looked.findings)
        return looked.files

    def _in_roles(
        self, conversion: Conversion, said: dict[str, list[str]], paths: Sequence[Path]
    ) -> tuple[list[tuple[str, Files]], tuple[Extra, ...]]:
        """Return the files and folders by the roles that were said, or one for each role in order.

        Raises
        ------
        CallError
            If a role stays without a file, or a file without a role.
        """
        if len(paths) == 1 and paths[0].is_dir():
            # One folder with all that plays a role.
            paths = files_in(paths, self.findings)
        by_name = {name: path for path in paths for name in (path.name, path.stem, str(path), str(path.resolve()))}
        by_name |= {f"#{k + 1}": path for k, path in enumerate(paths)}
        found: list[tuple[str, Path]] = []
        rest = list(paths)
        for role, names in said.items():
            for name in names:
                path = by_name.get(name)
                if path is None:
                    raise CallError(
                        f"{role}={shortly(name)}: there is no such file here; {instead(name, (p.name for p in paths))}"
                    )
                found.append((role, path))
                if path in rest:
                    rest.remove(path)
        taken = [role for role, _ in found]
        open_ = [each.role for each in conversion.inputs if each.least and each.role not in taken]
        if len(rest) != len(open_):
            raise CallError(
                f"{conversion.id} on tiles uses {conversion.wants()}, one file or folder each; say which plays what (role=FILE)"
            )
        found += zip(open_, rest, strict=True)
        found.sort(key=lambda pair: conversion.place_of(pair[0]))
        own: list[tuple[str, str, list[SourceFile]]] = []
        lines: list[tuple[str, Path]] = []
        for role, path in found:
            if not path.is_dir() and catalog.recognise(path).head is None and conversion.role(role).most != 1:
                lines.append((role, path))
                continue
            files = self._looked([path])
            kinds, stand_in = conversion.role(role).kinds, files[0].outline.dataset()
            if not isinstance(stand_in, kinds):
                able = listed([each.title for each in kinds])
                raise CallError(f"{role}={path.name} is {stand_in.title}, and {conversion.id} uses {able} there")
            own.append((role, path.name if path.is_dir() else files[0].outline.name, files))
        # Units and system are one for all of them.
        one = iter(in_one_frame([each for _, _, files in own for each in files], self.findings))
        sources = [(role, together([next(one) for _ in files], name, self.findings)) for role, name, files in own]
        return sources, tuple(self._extra(conversion.role(role), path, sources[0][1]) for role, path in lines)

    def _extra(self, role: Input, path: Path, main: Files) -> Extra:
        """Return what a file holds for a role, in the frame of the main source.

        Raises
        ------
        CallError
            If there is nothing.
        """
        kind = catalog.recognise(path)
        source = read_file(path, self.words.of(path, kind), Silent(), self.units.of(path))
        self.findings.extend(source.findings)
        able = [each for each in source.datasets if isinstance(each, role.kinds) and role.fits(each)]
        if not able:
            raise CallError(f"{path.name} holds nothing that can be {role.role} ({role.help})")
        if len(able) > 1:
            raise CallError(f"{path.name} holds {len(able)} sets of lines; on tiles give one")
        # Of the main source only its frame counts here; its stand-in has more cells than memory.
        stand_in = PointSet(name=main.outline.name, frame=main.outline.frame, xyz=np.zeros((1, 3)))
        _, made = in_frame_of_first([stand_in, able[0]], self.findings)
        state = path.stat()
        return Extra(role.role, made, str(path.resolve()), state.st_size, state.st_mtime_ns)


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
    by = "its header" if sum(len(own.files) for _, own in sources) == 1 else "their headers"
    return f"{named} looked at by {by}: {listed(parts)}."


def _planned_step(via: Via, outlines: Sequence[Outline], roles: Sequence[str], extras: Sequence[Extra]) -> PlannedStep:
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
    _, params = _brought(via, standing[0].frame, standing[0].name, [])
    kinds = conversion.takes_with(params)
    main = [data for role, data in pairs if role == conversion.main.role]
    if not all(isinstance(data, kinds) and (data.has_heights or conversion.any_quantity) for data in main):
        titles = listed([data.title for data in main])
        advice = f"; {tiling.local}" if tiling.local else ""
        raise CallError(f"{conversion.id} uses {listed([kind.title for kind in kinds])}, not {titles}{advice}")
    inputs = Inputs.of_pairs([*pairs, *((each.role, each.dataset) for each in extras)])
    settled = conversion.settle(inputs, params)
    # What was said is refused before what was settled from it.
    why = tiling.refuses(params) or tiling.refuses(settled)
    if why:
        raise CallError(f"{conversion.id} on tiles: {why}; or work on a part without --tiles")
    params = settled
    halo = (tiling.halo or conversion.halo)(inputs, params)
    if halo is None:
        raise CallError(
            f"{conversion.id} looks at all of its data with these values, so it cannot run on tiles"
            + (f"; {tiling.local}" if tiling.local else "")
        )
    return PlannedStep(conversion.id, declare.to_words(params), tiling.whole(list(outlines), params), halo)


def _width(plan: Plan, asked: TilingOptions, account: Account) -> float:
    """Return how wide a tile is."""
    whole = plan.source.outline
    # Tiles are parts of the result; what lies around them is looked at in the source.
    frame, ratio = plan.ground.frame, plan.scale()
    halo = plan.halo() * ratio
    if asked.tile is not None:
        # A length is no number of degrees: it is one of the source, as wide as it becomes.
        own = frame.horizontal is Unit.DEGREE is not whole.frame.horizontal and asked.tile.unit is not None
        size = asked.tile.in_unit(whole.frame.horizontal if own else frame.horizontal, "tiles") * (ratio if own else 1)
        of = ((whole, ratio), (plan.ground, 1.0))
        cell = max((max(each.dx, each.dy) * by for each, by in of if isinstance(each, CellOutline)), default=0.0)
        if size < cell:
            word = unit_word(frame.horizontal)
            raise CallError(f"tiles: {asked.tile} is less than a cell of {cell:.6g}{word}; give a width of many cells")
        if halo > size:
            text = f"Tiles of {asked.tile} overlap by {halo:.4g}{unit_word(frame.horizontal)}; wider tiles would be quicker."
            account.add_findings(-1, [Finding("tiles-narrow", text)])
        return size
    box = whole.box()
    area = max((box.east - box.west) * (box.north - box.south), 1e-9)
    sizes = []
    if isinstance(whole, PointOutline):
        sizes.append((area * POINTS / whole.count) ** 0.5 * ratio)
    for each, by in ((whole, ratio), (plan.ground, 1.0)):
        if isinstance(each, CellOutline):
            sizes.append((CELLS * each.dx * each.dy) ** 0.5 * by)
    return step_near(max(min(sizes), WIDER * halo))


def scratch_size(plan: Plan) -> float:
    """Return about how many bytes of scratch a plan takes."""
    size = 0.0
    own = plan.source.outline
    if isinstance(own, PointOutline):
        size += own.count * (POINT_BYTES + 4.0 * len(plan.columns()))
    last = plan.ground
    if isinstance(last, CellOutline):
        size += last.rows * last.columns * CELL_BYTES * (2.0 if plan.precision == "float64" else 1.0)
    elif isinstance(last, PointOutline):
        size *= 2.0
    return size


def seconds_of(plan: Plan, workers: int) -> float:
    """Return about how long a plan takes."""
    whole, last = plan.source.outline, plan.whole
    cells = isinstance(whole, CellOutline)
    number = sum(_places(own.outline) for _, own in plan.sources)
    again = _again(plan)
    each = (EACH_CELLS if cells else EACH_POINTS) * (1.0 + FURTHER * max(len(plan.steps) - 1, 0))
    files = sum(len(own.files) for _, own in plan.sources)
    shared = (
        number / 1e6 * each * again + EACH_TILE * len(plan.tiles()) + files * (EACH_RASTER if cells else EACH_CLOUD)
    )
    alone = EACH_WRITTEN * last.rows * last.columns / 1e6 if isinstance(last, CellOutline) else 0.0
    return shared / max(workers, 1) + alone + (STARTING if workers else 0.0)


def _again(plan: Plan) -> float:
    """Return how many times data are worked on: what lies around a tile is, again for each of its neighbours."""
    whole, halo = plan.source.outline.box(), plan.halo()
    wide = [plan.source_box(k).grown(halo) for k in range(len(plan.tiles()))]
    east = np.array([min(box.east, whole.east) - max(box.west, whole.west) for box in wide])
    north = np.array([min(box.north, whole.north) - max(box.south, whole.south) for box in wide])
    area = max((whole.east - whole.west) * (whole.north - whole.south), 1e-9)
    return max(float((np.maximum(east, 0.0) * np.maximum(north, 0.0)).sum()) / area, 1.0)


def _places(outline: CellOutline | PointOutline) -> int:
    return outline.rows * outline.columns if isinstance(outline, CellOutline) else outline.count


def effort(plan: Plan, workers: int) -> str:
    """Return in words how many tiles a plan has, how long it takes, and its room on the disk."""
    seconds = seconds_of(plan, workers)
    long = f"{seconds / 60.0:.0f} min" if seconds > 90 else f"{max(seconds, 1.0):.0f} s"
    room = spaced(max(scratch_size(plan) / 1e6, 1.0))
    return f"{count(len(plan.tiles()), 'tile')}, about {long}, {room} MB of scratch"
