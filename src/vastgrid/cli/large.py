"""The command that works on what is larger than memory: many files as one, on tiles, by several workers."""

from __future__ import annotations

import argparse
import sys
from collections.abc import Sequence
from pathlib import Path
from typing import TYPE_CHECKING, Any

from vastgrid.base.errors import CallError, VastGridError
from vastgrid.base.findings import count, note
from vastgrid.base.quantities import parse_length
from vastgrid.cli.asked import asked_vias, reading, said, words_of
from vastgrid.cli.sending import ending, print_account
from vastgrid.cli.telling import end_progress, tell, watched

if TYPE_CHECKING:
    from vastgrid.base.findings import Finding
    from vastgrid.execution.queries import Answer
    from vastgrid.tiled.plans import TilingOptions

AUTO = "auto"


def wanted(options: argparse.Namespace, inputs: Sequence[Path]) -> bool:
    """Say whether a call is to be worked on in tiles: it says so, or names a folder."""
    asked = options.tiles is not None or options.workers is not None or bool(options.cluster)
    return asked or any(path.is_dir() for path in inputs)


def _asked(options: argparse.Namespace) -> TilingOptions:
    """Return how wide tiles are to be, and who makes them.

    Raises
    ------
    CallError
        If that cannot be.
    """
    from vastgrid.tiled.plans import TilingOptions
    from vastgrid.tiling.engine import cores

    if options.cluster and options.workers is not None:
        raise CallError("--cluster brings its own workers; leave --workers out")
    if options.workers is not None and options.workers < 0:
        raise CallError("--workers: 0 (this process alone) or more")
    tile = None if options.tiles in (None, AUTO) else parse_length(options.tiles)
    if tile is not None and not tile.value > 0:
        raise CallError("--tiles: a tile needs a width above 0, such as 1000m")
    workers = 0 if options.cluster else cores() if options.workers is None else min(options.workers, cores())
    if options.workers is not None and options.workers > cores():
        text = f"{count(workers, 'worker')}, one for each processor there is, instead of {options.workers}."
        tell([note("workers-fewer", text)])
    return TilingOptions(tile, workers, options.cluster)


def answered(
    operation: str,
    files: Sequence[tuple[str, Path]],
    words: dict[str, str],
    options: argparse.Namespace,
    groups: list[tuple[str, list[str]]],
) -> tuple[Answer, list[Finding], dict[str, Any]]:
    """Let a conversion answer from what adds up over tiles; return the answer, what was noticed, and figures of the tiles."""
    from vastgrid import catalog
    from vastgrid.execution.queries import Answer
    from vastgrid.execution.run_log import Account, Via
    from vastgrid.tiled.run import ask_tiled

    asked = _asked(options)
    roles: dict[str, str] = {}
    for k, (role, _) in enumerate(files):
        # By number: names of files may have commas.
        roles[role] = ",".join(filter(None, (roles.get(role, ""), f"#{k + 1}")))
    account = Account(tell=lambda text: print(f"note: {text}", file=sys.stderr, flush=True))
    try:
        run, result = ask_tiled(
            [path for _, path in files],
            Via(catalog.conversion_named(operation), {**words, **roles}),
            Path(f"vastgrid-{operation}"),
            read_words=reading(groups),
            from_units=said(options),
            override_units=options.override_units,
            asked=asked,
            progress=watched(),
            account=account,
        )
    except VastGridError:
        end_progress()
        tell(account.findings())
        raise
    end_progress()
    answer = Answer(account, account.steps[-1], (result.dataset, *result.more.values()))
    return answer, account.findings(), run.figures


def convert_tiled(options: argparse.Namespace, groups: list[tuple[str, list[str]]]) -> int:
    """Convert on tiles, write one file, read it back and compare."""
    from vastgrid.execution.papers import check_ending, report_of, write_report
    from vastgrid.execution.run_log import Account
    from vastgrid.reports.account import as_json
    from vastgrid.tiled.run import run_tiled

    for name, given in (
        ("--only", options.only),
        ("--inspect", options.inspect),
        ("--left-out", options.left_out),
        ("--job", options.job),
        ("--set", options.set),
    ):
        if given:
            raise CallError(f"{name} does not go with --tiles: not all of the data is ever held at once")
    asked = _asked(options)
    if len(options.paths) < 2:
        raise CallError("convert needs at least one input and the output; see vastgrid convert --help")
    if options.report is not None:
        check_ending(options.report)
    *inputs, target = options.paths
    account = Account(tell=lambda text: print(f"note: {text}", file=sys.stderr, flush=True))
    try:
        run = run_tiled(
            inputs,
            target,
            asked_vias(groups),
            read_words=reading(groups),
            write_words=words_of(groups, "--write"),
            from_units=said(options),
            override_units=options.override_units,
            units=(options.units, options.vertical_units),
            asked=asked,
            progress=watched(),
            account=account,
            replace=options.replace,
        )
    finally:
        end_progress()
        tell(account.findings())
    values = {
        "steps": [step.to_json() for step in account.steps],
        "delivery": account.deliveries[0].to_json(),
        "deliveries": [each.to_json() for each in account.deliveries],
        "tiled": run.figures,
    }
    if options.report is not None:
        report = report_of(account, [], words_of(groups, "--write"), target.stem)
        write_report(options.report, report, values, watched())
    if options.json:
        print(as_json(values))
    else:
        print_account(account)
        print(in_short(run.figures))
    return ending(account)


def in_short(own: dict[str, Any]) -> str:
    """Return what a run over tiles took, in a line."""
    most = max(own["peak_memory"].values(), default=0) / 1e9
    kept = f", {own['tiles_kept']} of them kept from before" if own["tiles_kept"] else ""
    return f"{count(own['tiles'], 'tile')}{kept}, {own['workers']} at work, {own['seconds']:.1f} s, at most {most:.2f} GB each."
