"""The stages of a run over tiles: unpacking, looking at all of it, making; each task is told as it is done."""

from __future__ import annotations

import dataclasses
import shutil
import time
from collections.abc import Callable, Sequence
from dataclasses import dataclass, field
from pathlib import Path
from typing import Any

from vastgrid.base.errors import DataError
from vastgrid.base.findings import Finding, count
from vastgrid.base.progress import Progress
from vastgrid.data.outline import Box
from vastgrid.declarations.tiles import seen_together
from vastgrid.execution.run_log import Account
from vastgrid.params import declare
from vastgrid.tiled.plans import TilingOptions
from vastgrid.tiling.engine import Control, started_workers
from vastgrid.tiling.work import Plan, PlannedStep, make_chunk, make_look, make_tile, plan_ref_of, write_index


@dataclass(frozen=True, slots=True)
class TileState:
    """How far a run is, for whoever watches it.

    Attributes
    ----------
    stage : str
        What is being done.
    done, of : int
        How many tasks of this stage are done, of how many.
    left : float or None
        Seconds that this stage will still take; None where that cannot be told yet.
    box : Box or None
        Ground of the tile that was just made.
    fault : str
        What was wrong with it.
    """

    stage: str
    done: int
    of: int
    left: float | None = None
    box: Box | None = None
    fault: str = ""


@dataclass(slots=True)
class TiledRun:
    """A run over tiles: what it will do, and what it did.

    Attributes
    ----------
    plan : Plan
        What workers are given.
    account : Account
        What was done, as any other run tells it.
    figures : dict
        Tiles, workers, seconds, most memory.
    """

    plan: Plan
    account: Account
    figures: dict[str, Any] = field(default_factory=dict)


def all_tiles(
    run: TiledRun,
    asked: TilingOptions,
    folder: Path,
    progress: Progress,
    control: Control,
    watch: Callable[[TileState], None],
) -> list[dict[str, Any]]:
    """Unpack all chunks, then make all tiles; return the facts of the tiles."""
    plan = run.plan
    spill = folder / "spill"
    with started_workers(asked.workers, asked.cluster, spill) as own:
        run.figures |= {"workers": own.workers, "dashboard": own.dashboard}
        if own.dashboard:
            run.account.tell(f"the work can be looked at: {own.dashboard}")
        peaks: dict[str, int] = {}

        def stage(
            task: Any, calls: list[tuple[Any, ...]], what: str, part: Progress, boxes: Callable[[int], Box] | None
        ) -> list[dict[str, Any]]:
            found: dict[int, dict[str, Any]] = {}
            began = time.perf_counter()

            def done(k: int, facts: dict[str, Any]) -> None:
                found[k] = facts
                number = str(facts.get("process", 0))
                peaks[number] = max(peaks.get(number, 0), facts.get("peak", 0))
                took = time.perf_counter() - began
                left = took / len(found) * (len(calls) - len(found))
                fault = facts.get("fault") or "; ".join(facts.get("faults", []))
                watch(TileState(what, len(found), len(calls), left, boxes(k) if boxes else None, fault))
                part.report(len(found) / len(calls), f"{what}: {len(found)} of {len(calls)}, {_time(left)} left")

            # What the progress says of stopping holds for the workers as well.
            own.run(task, calls, done, Control(control.paused, _stopping(part, control)))
            run.figures["stage_seconds"] = run.figures.get("stage_seconds", 0.0) + time.perf_counter() - began
            return [found[k] for k in range(len(calls))]

        plan_ref = plan_ref_of(plan)
        chunks = plan.chunks()
        if chunks:
            what = "unpacking points"
            facts = stage(make_chunk, [(plan_ref, *each) for each in chunks], what, progress.part(0.0, 0.4), None)
            _faults(run, facts)
            write_index(plan, facts)
            run.figures |= {"points": sum(each.get("points", 0) for each in facts)}
            run.figures |= {"unpacking_seconds": sum(each.get("seconds", 0.0) for each in facts)}
        number = len(plan.tiles())
        rest = progress.part(0.4 if chunks else 0.0, 1.0)
        looking = [k for k, step in enumerate(plan.steps) if _looks(step)]
        for turn, k in enumerate(looking):
            part = rest.part(0.4 * turn / len(looking), 0.4 * (turn + 1) / len(looking))
            calls = [(plan_ref, k, tile) for tile in range(number)]
            seen = stage(make_look, calls, "looking at all of it", part, None)
            steps = list(plan.steps)
            steps[k] = dataclasses.replace(steps[k], seen=seen_together([each["seen"] for each in seen]))
            plan = run.plan = dataclasses.replace(plan, steps=tuple(steps))
            plan_ref = plan_ref_of(plan)
        if looking:
            rest = rest.part(0.4, 1.0)
        tiles = stage(make_tile, [(plan_ref, k) for k in range(number)], "making tiles", rest, plan.source_box)
        run.figures |= {
            "tiles": number,
            "tiles_kept": sum(bool(each["kept"]) for each in tiles),
            "tile_seconds": sum(each["seconds"] for each in tiles),
            "peak_memory": {f"worker {k + 1}": value for k, value in enumerate(peaks.values())},
        }
    shutil.rmtree(spill, ignore_errors=True)
    faults = sorted({fault for each in tiles for fault in each["faults"]})
    for fault in faults:
        own_tiles = sum(fault in each["faults"] for each in tiles)
        text = f"Left out: {fault}. {count(own_tiles, 'tile')} of {number} are without it."
        run.account.add_findings(0, [Finding("file-left-out", text)])
    return tiles


def _looks(step: PlannedStep) -> bool:
    """Say whether a step has to look at all of its data first."""
    tiling = step.conversion.tiles
    return tiling is not None and tiling.looks(declare.build(step.conversion.params, step.words))


def _stopping(progress: Progress, control: Control) -> Callable[[], bool]:
    return lambda: control.cancelled() or _asks_to_stop(progress)


def _asks_to_stop(progress: Progress) -> bool:
    stopping: Callable[[], bool] | None = getattr(progress, "stopping", None)
    return bool(stopping and stopping())


def _time(seconds: float) -> str:
    minutes = seconds / 60.0
    if minutes < 1.5:
        return f"{seconds:.0f} s"
    return f"{minutes:.0f} min" if minutes < 90 else f"{minutes / 60.0:.1f} h"


def _faults(run: TiledRun, facts: Sequence[dict[str, Any]]) -> None:
    """Say which files could not be unpacked, and which tiles are without their points."""
    plan = run.plan
    bad = {each["file"]: each["fault"] for each in facts if "fault" in each}
    if len(bad) == len(plan.source.files):
        raise DataError(f"no file can be read: {next(iter(bad.values()))}")
    for number, why in bad.items():
        box = plan.source.files[number].outline.box()
        without = sum(plan.source_box(k).meets(box) for k in range(len(plan.tiles())))
        text = f"Left out: {why}. {count(without, 'tile')} of {len(plan.tiles())} may be without some of its points."
        middle = ((box.west + box.east) / 2.0, (box.south + box.north) / 2.0)
        run.account.add_findings(0, [Finding("file-left-out", text, at=middle)])
