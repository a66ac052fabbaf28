"""What is larger than memory, from files to a file: headers, a plan, tiles, one result, read back and compared."""

from __future__ import annotations

import contextlib
import dataclasses
import glob
import json
import shutil
import time
from collections.abc import Callable, Iterator, Sequence
from pathlib import Path
from typing import Any

import numpy as np

from vastgrid import catalog
from vastgrid.base.errors import CallError, DataError
from vastgrid.base.files import beside, need_room, refuse_clashes
from vastgrid.base.findings import Finding, count, note
from vastgrid.base.progress import Progress
from vastgrid.base.quantities import unit_word
from vastgrid.base.words import spaced
from vastgrid.data.dataset import Dataset
from vastgrid.data.loss import Loss
from vastgrid.data.outline import CellOutline, EdgeOutline, Outline, PointOutline, Window
from vastgrid.data.pointset import PointSet
from vastgrid.declarations.conversion import Inputs, Result, listed
from vastgrid.declarations.fileformat import Format
from vastgrid.declarations.tiles import Sums, Tally, TilePart, added_up
from vastgrid.delivery.deliver import deliver, failed
from vastgrid.execution.executor import Units
from vastgrid.execution.input_options import Options, Said
from vastgrid.execution.run_log import Account, Step, Via
from vastgrid.lineage.delivered import Compared, Delivery
from vastgrid.params import declare
from vastgrid.tiled.plans import CELL_BYTES, TilingOptions, effort, planned, scratch_size, seconds_of
from vastgrid.tiled.sets import deliver_parts, is_set, refuse_parts
from vastgrid.tiled.stages import TiledRun, TileState, all_tiles
from vastgrid.tiling.engine import Control
from vastgrid.tiling.joins import whole_cloud, whole_edges, whole_grid, whole_lines
from vastgrid.tiling.work import (
    Plan,
    peak,
    tile_file,
)


def scratch_of(target: Path, digest: str) -> Path:
    """Return the hidden folder beside a result in which its tiles are kept until it is whole."""
    return target.parent / f".{target.name}.tiles-{digest[:12]}"


def run_tiled(
    paths: Sequence[Path],
    target: Path,
    vias: Sequence[Via],
    *,
    read_words: Options,
    write_words: dict[str, str],
    from_units: Said,
    override_units: bool = False,
    units: Units = (None, None),
    asked: TilingOptions,
    progress: Progress,
    account: Account,
    control: Control | None = None,
    watch: Callable[[TileState], None] = lambda state: None,
    replace: bool = False,
) -> TiledRun:
    """Convert on tiles; the result does not depend on how many there are, or on who makes them.

    Parameters
    ----------
    replace : bool
        Whether files of a set may be written over files of their names.

    Raises
    ------
    VastGridError
        Whatever went wrong, in words; tiles that were made are kept, and the same call goes on from them.
    """
    began = time.perf_counter()
    if any(via.conversion.answers for via in vias):
        raise CallError(f"{vias[-1].conversion.id} reports figures and writes no file; ask for it by its own command")
    kind = catalog.format_of_target(target)
    if kind.write is None:
        raise CallError(f"{kind.title} cannot be written")
    refuse_clashes(paths, {"the result": target})
    write_params = declare.build(kind.write_params, write_words)
    plan = planned(
        paths, vias, read_words, from_units, asked, account, progress.part(0.0, 0.02), override=override_units
    )
    _check_target(plan, kind, write_params)
    direct = kind.assemble is not None and isinstance(plan.whole, CellOutline) and units == (None, None)
    plan = dataclasses.replace(plan, precision=kind.precision_of(write_params) if direct else "float64")
    folder = scratch_of(target.resolve(), plan.digest())
    plan = dataclasses.replace(plan, folder=str(folder))
    if replace and not is_set(plan):
        raise CallError("--replace belongs to what is written as a set of files; this is one")
    if is_set(plan) and not replace:
        refuse_parts(plan, target, kind)
    _make_scratch(folder, plan, target)
    control = control or Control()
    run = TiledRun(plan, account, {"foretold_seconds": seconds_of(plan, asked.workers)})
    account.tell(effort(plan, asked.workers))
    with _left_clean(folder):
        facts = all_tiles(run, asked, folder, progress.part(0.02, 0.8), control, watch)
        plan = run.plan
        _tell(run, facts)
    watch(TileState("putting tiles together", 0, 1))
    end = progress.part(0.8, 1.0)
    if direct:
        account.deliveries.append(_assembled(plan, facts, target, kind, write_params, end))
    elif is_set(plan):
        account.deliveries.append(deliver_parts(plan, facts, target, kind, write_params, units, end))
    else:
        made = _joined(plan, facts, account, end.part(0.0, 0.3))
        account.deliveries.append(deliver([made], target, kind, write_params, end.part(0.3, 1.0), units))
    run.figures |= {"seconds": time.perf_counter() - began, "peak_here": peak(children=True)}
    if all(each.good for each in account.deliveries):
        _sweep(target)
    return run


def ask_tiled(
    paths: Sequence[Path],
    via: Via,
    scratch: Path,
    *,
    read_words: Options,
    from_units: Said,
    override_units: bool = False,
    asked: TilingOptions,
    progress: Progress,
    account: Account,
) -> tuple[TiledRun, Result]:
    """Answer a question about what is larger than memory by what adds up over tiles.

    Parameters
    ----------
    scratch : Path
        A file name, beside which tiles are kept until the answer is there.

    Raises
    ------
    VastGridError
        As `run_tiled`.
    """
    began = time.perf_counter()
    plan = planned(
        paths, [via], read_words, from_units, asked, account, progress.part(0.0, 0.02), override=override_units
    )
    folder = scratch_of(scratch.resolve(), plan.digest())
    plan = dataclasses.replace(plan, folder=str(folder))
    _make_scratch(folder, plan, scratch)
    run = TiledRun(plan, account, {"foretold_seconds": seconds_of(plan, asked.workers)})
    account.tell(effort(plan, asked.workers))
    with _left_clean(folder):
        facts = all_tiles(run, asked, folder, progress.part(0.02, 0.98), Control(), lambda state: None)
    step = run.plan.steps[-1]
    tiling = step.conversion.tiles
    assert tiling is not None
    assert tiling.answer is not None
    params = declare.build(step.conversion.params, step.words)
    pairs: list[tuple[str, Dataset]] = [(role, own.outline.dataset()) for role, own in plan.sources]
    pairs += [(each.role, each.dataset) for each in plan.extras]
    result: Result = tiling.answer(Inputs.of_pairs(pairs), _sums(facts), params, _all_of(run.plan, -1))
    sentence = declare.plain(step.conversion.sentence(params, [(role, each.name) for role, each in pairs]))
    told = (*result.findings, _in_tiles(run.plan, facts))
    account.steps.append(Step(sentence, told, figures=dict(result.figures)))
    run.figures |= {"seconds": time.perf_counter() - began, "peak_here": peak(children=True)}
    _sweep(scratch)
    return run, result


def _sweep(target: Path) -> None:
    """Remove the tiles of a result that is whole."""
    for each in target.resolve().parent.glob(f".{glob.escape(target.name)}.tiles-*"):
        shutil.rmtree(each, ignore_errors=True)


def _sums(facts: Sequence[dict[str, Any]]) -> Sums:
    return added_up([{name: np.asarray(values) for name, values in each["sums"].items()} for each in facts])


def _all_of(plan: Plan, step: int) -> TilePart:
    """Return the whole of a step as one piece."""
    own = plan.steps[step]
    number = step % len(plan.steps)
    inputs = tuple(each.outline for _, each in plan.sources) if number == 0 else (plan.steps[number - 1].whole,)
    return TilePart(own.whole.box(), inputs, own.whole, own.seen)


def _in_tiles(plan: Plan, facts: Sequence[dict[str, Any]]) -> Finding:
    empty = sum(bool(each["empty"]) for each in facts)
    width = f"{plan.tile:g}{unit_word(plan.ground.frame.horizontal)}"
    text = f"Made in {count(len(facts), 'tile')} of {width}" + (f", {empty} of them without data." if empty else ".")
    return note("in-tiles", text)


def _check_target(plan: Plan, kind: Format, params: Any) -> None:
    """Refuse a file that cannot hold the result, before hours of work.

    Raises
    ------
    CallError
        With what it holds.
    """
    own = type(plan.whole.dataset())
    kinds = kind.carries_with(params).kinds
    if not issubclass(own, kinds):
        raise CallError(
            f"{kind.title} holds {listed([each.title for each in kinds])}, and the steps give a {own.title}; add a step (--via) or choose another ending"
        )


def _make_scratch(folder: Path, plan: Plan, target: Path) -> None:
    for name in ("tiles", "points"):
        (folder / name).mkdir(parents=True, exist_ok=True)
    need_room(folder / "x", scratch_size(plan))
    # Whoever finds the folder may know what it is.
    (folder / "README").write_text(
        f"Tiles of {target.name}, which Vast Grid is making or was stopped at; the same call goes on from here.\n"
        "It removes this folder when the result is whole. Removing it by hand costs only time.\n"
    )


@contextlib.contextmanager
def _left_clean(folder: Path) -> Iterator[None]:
    """Leave no scratch of a run that is refused; what a stopped run made stays, for the same call to go on from."""
    try:
        yield
    except DataError:
        # The same data would be refused again.
        shutil.rmtree(folder, ignore_errors=True)
        raise
    except CallError:
        kept = [json.loads(each.read_text()) for each in folder.glob("tiles/*.json")]
        if all(each.get("empty") for each in kept):
            shutil.rmtree(folder, ignore_errors=True)
        raise


def _tell(run: TiledRun, facts: Sequence[dict[str, Any]]) -> None:
    """Put the steps into the account, with what each cost over all tiles.

    Raises
    ------
    DataError
        If nothing came of it.
    """
    plan = run.plan
    if all(each["empty"] for each in facts):
        raise DataError("nothing came of it: no tile has a value; look at the steps on a part of the data first")
    names = [(role, own.outline.name) for role, own in plan.sources]
    for k, step in enumerate(plan.steps):
        conversion = step.conversion
        params = declare.build(conversion.params, step.words)
        pairs = [(role or conversion.main.role, name) for role, name in names]
        tally = Tally()
        for each in facts:
            if str(k) in each["tallies"]:
                tally.join(each["tallies"][str(k)])
        loss = _loss(plan, k, tally)
        result = _figures(step.whole, facts if k == len(plan.steps) - 1 else ())
        told = _points_counted(plan, k, tally)
        if conversion.tiles is not None:
            told += conversion.tiles.known(plan.outlines(k), step.whole, params)
        if k == len(plan.steps) - 1:
            if conversion.tiles is not None and conversion.tiles.told is not None:
                told += conversion.tiles.told(_sums(facts), params, _all_of(plan, k))
            told.append(_in_tiles(plan, facts))
        sentence = declare.plain(conversion.sentence(params, pairs))
        run.account.steps.append(Step(sentence, tuple(told), loss, (result,), listed([n for _, n in pairs])))
        names = [("", _name(step.whole))]


def _points_counted(plan: Plan, k: int, tally: Tally) -> list[Finding]:
    """Say how many points lie in the cells of a step.

    Raises
    ------
    DataError
        If all that came in have to, and do not.
    """
    read = plan.source.outline
    if not tally.counted or not isinstance(read, PointOutline):
        return []
    text = f"{spaced(tally.counted)} of {count(read.count, 'point')} lie in the cells"
    if k == 0 and tally.whole and tally.counted != read.count:
        raise DataError(f"{text}, and all have to: the headers of the sources and their points do not agree")
    return [note("points-counted", f"{text}.")]


def _name(whole: Outline) -> str:
    return whole.dataset().name


def _loss(plan: Plan, k: int, tally: Tally) -> Loss | None:
    frame = plan.source.outline.frame
    box = plan.steps[k].whole.box()
    return tally.loss((box.east - box.west) * (box.north - box.south), frame.vertical, frame.horizontal)


def _figures(whole: Outline, facts: Sequence[dict[str, Any]]) -> dict[str, Any]:
    """Return the figures of a result, as those of any other step."""
    data = whole.dataset()
    counts = dict(data.count())
    if isinstance(whole, EdgeOutline):
        # Edges of tiles are not yet the lines of the whole.
        counts = {}
    elif not isinstance(whole, CellOutline) and facts:
        names = {name for each in facts for name in each.get("counts", {})}
        counts = {name: sum(each.get("counts", {}).get(name, 0) for each in facts) for name in sorted(names)}
    heights = [each["extent"]["elevation"] for each in facts if each.get("extent", {}).get("elevation")]
    box = whole.box()
    extent = {"east": [box.west, box.east], "north": [box.south, box.north], "elevation": None}
    if heights:
        extent["elevation"] = [min(pair[0] for pair in heights), max(pair[1] for pair in heights)]
    frame = data.frame
    return {
        "name": data.name,
        "kind": data.kind,
        "count": counts,
        "extent": extent,
        "horizontal_unit": frame.horizontal.value if frame.horizontal else None,
        "vertical_unit": frame.vertical.value if frame.vertical else None,
    }


def _joined(plan: Plan, facts: Sequence[dict[str, Any]], account: Account, progress: Progress) -> Dataset:
    """Return the whole result as data, in arrays that live on disk where they are large."""
    whole = plan.whole
    if isinstance(whole, CellOutline):
        return whole_grid(plan, [each["tile"] for each in facts if not each["empty"]], progress)
    if isinstance(whole, PointOutline):
        cloud = whole_cloud(plan, facts, progress)
        account.tell(_every_point(plan, cloud))
        return cloud
    lines = (whole_edges if isinstance(whole, EdgeOutline) else whole_lines)(plan, facts, progress)
    step = plan.steps[-1]
    finish = step.conversion.tiles.finish if step.conversion.tiles else None
    if finish is None:
        return lines
    made, findings = finish(
        lines, _all_of(plan, len(plan.steps) - 1), declare.build(step.conversion.params, step.words)
    )
    account.add_findings(-1, findings)
    return made


def _every_point(plan: Plan, made: PointSet) -> str:
    """Compare the points that come out with those that went in.

    Raises
    ------
    DataError
        If no step chose among them and their numbers differ.
    """
    read = plan.source.outline
    came = read.count if isinstance(read, PointOutline) else 0
    if not plan.steps and len(made.xyz) != came:
        raise DataError(
            f"{count(came, 'point')} by the headers of the sources and {spaced(len(made.xyz))} on the tiles, so the points are"
            " not those that the headers tell of; read the files one by one to see which"
        )
    return f"{count(came, 'point')} went in, {spaced(len(made.xyz))} came out."


def _assembled(
    plan: Plan, facts: Sequence[dict[str, Any]], target: Path, kind: Format, params: Any, progress: Progress
) -> Delivery:
    """Write tiles as one raster, read it back and compare it with them."""
    began = time.perf_counter()
    whole = plan.whole
    assert isinstance(whole, CellOutline)
    assert kind.assemble is not None
    heights = [each["extent"]["elevation"] for each in facts if each.get("extent", {}).get("elevation")]
    if heights:
        ends = (min(pair[0] for pair in heights), max(pair[1] for pair in heights))
        whole = dataclasses.replace(whole, elevation=ends)
    tiles: list[tuple[Window, Path]] = []
    for each in facts:
        tile = plan.tiles()[each["tile"]]
        if not each["empty"] and isinstance(tile, Window):
            tiles.append((tile, tile_file(plan.path_of(each["tile"])).resolve()))
    need_room(target, whole.rows * whole.columns * CELL_BYTES)
    with beside(target) as (temporary, place):
        checks = [Compared(*each) for each in kind.assemble(whole, tiles, temporary, params, progress)]
        good = all(check.good for check in checks)
        end = target if good else failed(target)
        size = temporary.stat().st_size
        place(end)
    frame = whole.frame
    return Delivery(
        path=end,
        format=kind.id,
        size=size,
        checks=tuple(checks),
        vertical=max((each.get("rounded", 0.0) for each in facts), default=0.0),
        plan=0.0,
        unit=frame.vertical.value if frame.vertical and whole.dataset().has_lengths else "",
        findings=(),
        seconds=time.perf_counter() - began,
        plan_unit=frame.horizontal.value if frame.horizontal else "",
    )
