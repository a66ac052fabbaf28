"""What comes in parts: each tile a file of its own, written, read back and compared, and an index of all."""

from __future__ import annotations

import csv
import dataclasses
import io
from collections.abc import Sequence
from pathlib import Path
from typing import Any

import numpy as np

from vastgrid.base.errors import CallError
from vastgrid.base.files import need_room, write_text
from vastgrid.base.findings import Finding, count
from vastgrid.base.progress import Progress
from vastgrid.base.quantities import unit_word
from vastgrid.data.dataset import Floats
from vastgrid.data.linework import Linework, from_lines
from vastgrid.data.outline import Box, CellOutline, SurfaceOutline, Window
from vastgrid.data.tin import Tin
from vastgrid.declarations.fileformat import Format
from vastgrid.delivery.deliver import deliver
from vastgrid.execution.executor import Units
from vastgrid.lineage.delivered import Compared, Delivery
from vastgrid.terrain.tin.seams import shared_window
from vastgrid.tiling.work import Plan, kept


def is_set(plan: Plan) -> bool:
    """Say whether the result of a plan comes in parts."""
    return isinstance(plan.whole, SurfaceOutline)


def part_paths(plan: Plan, target: Path) -> list[Path]:
    """Return the file of every tile: the name of the result, the row from the north and the column from the west."""
    windows = [each for each in plan.tiles() if isinstance(each, Window)]
    tops, lefts = sorted({each.top for each in windows}), sorted({each.left for each in windows})
    down, across = len(str(len(tops))), len(str(len(lefts)))
    row, column = ({start: k + 1 for k, start in enumerate(starts)} for starts in (tops, lefts))
    return [
        target.with_name(f"{target.stem}-r{row[each.top]:0{down}}-c{column[each.left]:0{across}}{target.suffix}")
        for each in windows
    ]


def index_paths(target: Path, kind: Format) -> list[Path]:
    """Return the files of the index: a table, and a drawing where the format of the set can hold one."""
    found = [target.with_name(f"{target.stem}-index.csv")]
    if issubclass(Linework, kind.carries.kinds):
        found.append(target.with_name(f"{target.stem}-index{target.suffix}"))
    return found


def refuse_parts(plan: Plan, target: Path, kind: Format) -> None:
    """Refuse to write over files that are not this run's own.

    Raises
    ------
    CallError
        With their names.
    """
    own = _written(plan)
    there = [
        each.name
        for each in (*part_paths(plan, target), *index_paths(target, kind))
        if each.exists() and each.name not in own
    ]
    if there:
        more = f" and {len(there) - 3} more" if len(there) > 3 else ""
        raise CallError(
            f"{', '.join(there[:3])}{more} would be written over: --replace allows that, or choose another name"
        )


def deliver_parts(
    plan: Plan,
    facts: Sequence[dict[str, Any]],
    target: Path,
    kind: Format,
    params: Any,
    units: Units,
    progress: Progress,
) -> Delivery:
    """Write every tile that holds something as a file of its own, and the index; all are one delivery.

    Raises
    ------
    VastGridError
        As `deliver` does; files that are whole stay.
    """
    own = [each for each in facts if not each["empty"]]
    need_room(target, sum(3.0 * each["bytes"] for each in own))
    paths = part_paths(plan, target)
    table, *drawing = index_paths(target, kind)
    _note_written(plan, [paths[each["tile"]].name for each in own] + [table.name, *(each.name for each in drawing)])
    made = []
    for k, each in enumerate(own):
        path = paths[each["tile"]]
        data = dataclasses.replace(_tin(plan, each["tile"]), name=path.stem)
        made.append(deliver([data], path, kind, params, progress.part(k / len(own), (k + 1) / len(own)), units))
        progress.report((k + 1) / len(own), f"writing {path.name}")
    write_text(table, _table(plan, own, paths))
    for path in drawing:
        written = deliver([_outlines(plan, own, paths)], path, kind, params, progress, units)
        # That outlines have no heights is no matter of the ground.
        made.append(dataclasses.replace(written, findings=()))
    return _as_one(made, table)


def _as_one(made: Sequence[Delivery], table: Path) -> Delivery:
    """Return what was written as one delivery: what differs in any of its files is told with the file's name."""
    checks: dict[str, list[str]] = {}
    for each in made:
        for check in each.checks:
            bad = checks.setdefault(check.what, [])
            if not check.good:
                bad.append(f"{each.path.name}: {check.read} instead of {check.sent}")
    number = count(len(made), "file")
    compared = [
        Compared(what, f"as sent, in {number}", "; ".join(bad[:5]) if bad else "the same", not bad)
        for what, bad in checks.items()
    ]
    # A hundred parts have the same to say: the first says it for all.
    told: dict[str, Finding] = {}
    for each in made:
        for finding in each.findings:
            told.setdefault(finding.code, finding)
    vertical, plan = ([getattr(each, name) for each in made] for name in ("vertical", "plan"))
    return dataclasses.replace(
        made[0],
        size=sum(each.size for each in made) + table.stat().st_size,
        checks=tuple(compared),
        vertical=None if None in vertical else max(vertical),
        plan=None if None in plan else max(plan),
        findings=tuple(told.values()),
        seconds=sum(each.seconds for each in made),
        files=(*(each.path.name for each in made), table.name),
    )


def _tin(plan: Plan, k: int) -> Tin:
    arrays = kept(plan.path_of(k))
    return Tin(name="", frame=plan.whole.frame, **arrays)


def _record(plan: Plan) -> Path:
    return Path(plan.folder) / "written"


def _written(plan: Plan) -> set[str]:
    path = _record(plan)
    return set(path.read_text(encoding="utf-8").split("\n")) if path.is_file() else set()


def _note_written(plan: Plan, names: Sequence[str]) -> None:
    write_text(_record(plan), "\n".join(names))


def _box(plan: Plan, k: int) -> Box:
    """Return the ground of a part: between centres of cells."""
    whole, own = plan.ground, plan.tiles()[k]
    assert isinstance(whole, CellOutline)
    assert isinstance(own, Window)
    box = whole.box(shared_window(whole, own))
    return Box(box.west + whole.dx / 2, box.south + whole.dy / 2, box.east - whole.dx / 2, box.north - whole.dy / 2)


def _table(plan: Plan, own: Sequence[dict[str, Any]], paths: Sequence[Path]) -> str:
    plan_unit, height = unit_word(plan.whole.frame.horizontal), unit_word(plan.whole.frame.vertical)
    places = [f"{name} ({plan_unit.strip()})" if plan_unit else name for name in ("west", "south", "east", "north")]
    tall = [
        f"{name} ({height.strip()})" if height else name
        for name in ("lowest", "highest", "largest error", "RMSE of cells")
    ]
    text = io.StringIO()
    out = csv.writer(text, lineterminator="\n")
    out.writerow(["file", *places, "vertices", "triangles", *tall])
    last = str(len(plan.steps) - 1)
    for each in own:
        box, (low, high) = _box(plan, each["tile"]), each["extent"]["elevation"]
        tally = each["tallies"][last]
        rmse = (tally["squares"] / max(tally["number"], 1)) ** 0.5
        sides = [f"{value:.10g}" for value in (box.west, box.south, box.east, box.north)]
        counts = [each["counts"]["vertices"], each["counts"]["triangles"]]
        heights = [f"{value:.6g}" for value in (low, high, tally["largest"], rmse)]
        out.writerow([paths[each["tile"]].name, *sides, *counts, *heights])
    return text.getvalue()


def _outlines(plan: Plan, own: Sequence[dict[str, Any]], paths: Sequence[Path]) -> Linework:
    """Return the outline of every part, on a layer of its name."""
    rings: list[Floats] = []
    for each in own:
        box = _box(plan, each["tile"])
        x = np.array([box.west, box.east, box.east, box.west, box.west])
        y = np.array([box.south, box.south, box.north, box.north, box.south])
        rings.append(np.column_stack((x, y, np.full(5, np.nan))))
    return from_lines("Index", plan.whole.frame, rings, [paths[each["tile"]].stem for each in own])
