"""The command that works on what is larger than memory: many files as one, on tiles, by several workers."""

from __future__ import annotations

import argparse
import sys

from vastgrid.base.errors import CallError
from vastgrid.base.quantities import parse_length
from vastgrid.cli.asked import asked_vias, reading, said, words_of
from vastgrid.cli.sending import ending, print_account
from vastgrid.cli.telling import end_progress, tell, watched

AUTO = "auto"


def wanted(options: argparse.Namespace) -> bool:
    """Say whether a call is to be worked on in tiles: it says so, or names a folder."""
    asked = options.tiles is not None or options.workers is not None or bool(options.cluster)
    return asked or any(path.is_dir() for path in options.paths[:-1])


def convert_tiled(options: argparse.Namespace, groups: list[tuple[str, list[str]]]) -> int:
    """Convert on tiles, write one file, read it back and compare."""
    from vastgrid.reports.account import as_json
    from vastgrid.session.accounts import Account
    from vastgrid.session.papers import check_ending, report_of, write_report
    from vastgrid.session.tile_plans import Asked
    from vastgrid.session.tiled import run_tiled
    from vastgrid.tiling.engine import cores

    for name, given in (
        ("--only", options.only),
        ("--inspect", options.inspect),
        ("--left-out", options.left_out),
        ("--job", options.job),
        ("--set", options.set),
    ):
        if given:
            raise CallError(f"{name} does not go with --tiles: not all of the data is ever held at once")
    if options.cluster and options.workers is not None:
        raise CallError("--cluster brings its own workers; leave --workers out")
    if options.workers is not None and options.workers < 0:
        raise CallError("--workers: 0 (this process alone) or more")
    if len(options.paths) < 2:
        raise CallError("convert needs at least one input and the output; see vastgrid convert --help")
    if options.report is not None:
        check_ending(options.report)
    tile = None if options.tiles in (None, AUTO) else parse_length(options.tiles)
    if tile is not None and not tile.value > 0:
        raise CallError("--tiles: a tile needs a width above 0, such as 1000m")
    workers = 0 if options.cluster else cores() if options.workers is None else options.workers
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
            asked=Asked(tile, workers, options.cluster),
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
        own = run.figures
        most = max(own["peak_memory"].values(), default=0) / 1e9
        kept = f", {own['tiles_kept']} of them kept from before" if own["tiles_kept"] else ""
        print(
            f"{own['tiles']} tiles{kept}, {own['workers']} at work, {own['seconds']:.1f} s, at most {most:.2f} GB each."
        )
    return ending(account)
