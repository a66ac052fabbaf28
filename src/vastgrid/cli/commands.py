"""The commands: each takes what was asked, and returns the exit code."""

from __future__ import annotations

import argparse
import sys
import threading
from collections.abc import Callable, Iterator
from pathlib import Path
from typing import TYPE_CHECKING, Any

from vastgrid.base import interrupts
from vastgrid.base.errors import CallError, Cancelled, VastGridError
from vastgrid.base.files import refuse_clashes, write_text
from vastgrid.base.quantities import square_word, unit_word
from vastgrid.base.words import place_words, plain
from vastgrid.cli import large, sending
from vastgrid.cli.asked import asked_vias, reading, said, thresholds, words_of
from vastgrid.cli.telling import DONE, end_progress, tell, watched

if TYPE_CHECKING:
    from vastgrid.base.findings import Finding
    from vastgrid.data.dataset import Dataset
    from vastgrid.data.table import Table
    from vastgrid.execution.queries import Answer
    from vastgrid.execution.run_log import Account, Via
    from vastgrid.lineage.store import Store


def convert(options: argparse.Namespace, groups: list[tuple[str, list[str]]]) -> int:
    """Read files, convert, write one file, read it back and compare."""
    from vastgrid.execution.run_log import Account

    if options.set:
        return sending.convert_set(options, groups)
    if options.into or (options.replace and not large.wanted(options, options.paths[:-1])):
        raise CallError("--into and --replace belong to a set: --set NAME --into FOLDER")
    if large.wanted(options, options.paths[:-1]):
        return large.convert_tiled(options, groups)
    from vastgrid.execution.chains import run_convert
    from vastgrid.execution.table_files import goes_out_as_table

    if len(options.paths) < 2:
        raise CallError("convert needs at least one input and the output; see vastgrid convert --help")
    if any(name == "--check" for name, _ in groups) and not options.inspect:
        raise CallError("--check gives thresholds of what --inspect looks for; give --inspect as well")
    vias = asked_vias(groups)
    *inputs, target = options.paths
    account = Account(tell=lambda text: print(f"note: {text}", file=sys.stderr, flush=True))
    store = sending.store_for(options)
    if goes_out_as_table(vias, target):
        return _convert_to_table(options, groups, vias, account, store)
    try:
        run = run_convert(
            inputs,
            target,
            vias,
            read_words=reading(groups),
            write_words=words_of(groups, "--write"),
            from_units=said(options),
            only=options.only,
            override_units=options.override_units,
            units=(options.units, options.vertical_units),
            progress=watched(),
            account=account,
            looks=thresholds(groups) if options.inspect else None,
            store=store,
            report=options.report,
            left_out=options.left_out,
        )
    finally:
        end_progress()
        tell(account.findings())
    sending.keep(options, run)
    if options.left_out is not None:
        write_text(options.left_out, "".join(f"{line}\n" for line in account.left_out))
    return sending.told(options, account, run, words_of(groups, "--write"), run.dataset(run.sent[0]).name)


def _convert_to_table(
    options: argparse.Namespace,
    groups: list[tuple[str, list[str]]],
    vias: list[Via],
    account: Account,
    store: Store | None,
) -> int:
    """Write the answer of the last step as a file."""
    from vastgrid.execution.chains import run_answer
    from vastgrid.reports.account import as_json

    *inputs, target = options.paths
    if any(name == "--write" for name, _ in groups) or options.only or options.units or options.vertical_units:
        raise CallError("--write, --only and --units belong to files of terrain; a table goes out as it is")
    try:
        run, told = run_answer(
            inputs,
            target,
            vias,
            read_words=reading(groups),
            from_units=said(options),
            override_units=options.override_units,
            progress=watched(),
            account=account,
            store=store,
            report=options.report,
            left_out=options.left_out,
        )
    finally:
        end_progress()
        tell(account.findings())
    sending.keep(options, run)
    if options.json:
        print(as_json({"steps": [step.to_json() for step in account.steps], "files": told}))
        return DONE
    sending.print_account(account)
    print("\n".join(told))
    return DONE


def inspect(options: argparse.Namespace, groups: list[tuple[str, list[str]]]) -> int:
    """Look at files as an experienced person would."""
    from vastgrid.execution.chains import looked_at
    from vastgrid.execution.run import read_sources
    from vastgrid.execution.run_log import Account
    from vastgrid.reports.account import as_json

    units = said(options)
    looks = thresholds(groups)
    account = Account()
    progress = watched()
    sources = read_sources(
        options.paths,
        reading(groups),
        units,
        account,
        progress.part(0.0, 0.5),
        override=options.override_units,
    )
    datasets = [each for source in sources for each in source.datasets]
    step = looked_at(datasets, looks, progress.part(0.5, 1.0))
    end_progress()
    if options.json:
        print(as_json({"steps": [each.to_json() for each in (*account.steps, step)]}))
        return DONE
    tell(account.findings())
    print(step.sentence)
    for finding in step.findings:
        place = "" if finding.at is None else f" ({place_words(finding.at[0], finding.at[1])})"
        print(f"{finding.severity.value}: {finding.text}{place}")
    return DONE


def forms(options: argparse.Namespace, groups: list[tuple[str, list[str]]]) -> int:
    """Say what a surface costs in each form."""
    from vastgrid.execution.chains import run_forms
    from vastgrid.execution.forms import table
    from vastgrid.reports.account import as_json

    made, findings = run_forms(options.path, reading(groups), said(options), watched(), override=options.override_units)
    end_progress()
    unit = made[0].dataset.frame.vertical
    if options.json:
        print(as_json({"rows": [each.to_json() for each in made], "unit": unit.value if unit else None}))
        return DONE
    tell(findings)
    print_rows(table(made))
    return DONE


def serve(options: argparse.Namespace, _groups: list[tuple[str, list[str]]]) -> int:
    """Run the simulated elevation service until it is interrupted."""
    from vastgrid.services.elevation import serve

    server = serve(options.port)
    print(
        f"The simulated elevation service answers at http://127.0.0.1:{server.server_address[1]}/elevations (Ctrl+C ends it)"
    )
    with server:
        threading.Thread(target=server.serve_forever, daemon=True).start()
        while not interrupts.stop.wait(0.2):
            continue
        server.shutdown()
    raise Cancelled


def info(options: argparse.Namespace, groups: list[tuple[str, list[str]]]) -> int:
    """Say what a file holds."""
    from vastgrid.execution.describing import described
    from vastgrid.execution.run import read_sources
    from vastgrid.execution.run_log import Account, source_sentence
    from vastgrid.reports.account import as_json

    (source,) = read_sources(
        [options.path],
        reading(groups),
        said(options),
        Account(),
        watched(),
        override=options.override_units,
    )
    end_progress()
    findings = [finding.to_json() for finding in source.findings]
    told = [{**described(each), **_grid_factors(each)} for each in source.datasets]
    if options.json:
        print(as_json({"format": source.format.id, "datasets": [{**own, "findings": findings} for own in told]}))
        return DONE
    print(source_sentence(source))
    for each, own in zip(source.datasets, told, strict=True):
        extent = each.extent()
        print(f"{each.name} ({each.title})")
        for name in ("east", "north", "elevation"):
            pair = getattr(extent, name)
            print(f"  {name:10} {'unknown' if pair is None else f'{pair[0]:.3f} … {pair[1]:.3f}'}")
        if "area" in own:
            print(f"  area       {own['area']:.3f} {own['area_unit'] or ''}".rstrip())
        for name in _FACTORS:
            value = own.get(name)
            if value is not None:
                print(f"  {name.replace('_', ' '):16} {value:.8f} at the middle")
    tell(list(source.findings))
    return DONE


_FACTORS = ("scale_factor", "convergence", "combined_factor")


def _grid_factors(dataset: Dataset) -> dict[str, float | None]:
    """Return point scale factor, convergence in degrees and combined factor at the middle; none where it is not projected."""
    if dataset.frame.crs is None:
        return {}
    from vastgrid.measures.grid_ground import grid_factors

    own = grid_factors(dataset)
    if own is None:
        return {}
    return dict(zip(_FACTORS, (own.scale, own.convergence, own.combined), strict=True))


def compare(options: argparse.Namespace, groups: list[tuple[str, list[str]]]) -> int:
    """Say how far one surface lies above another."""
    answer, findings = _answer("compare", [("old", options.first), ("new", options.second)], {}, options, groups)
    loss = answer.step.loss
    assert loss is not None
    if options.json:
        return _printed({**loss.to_json()}, findings)
    unit = unit_word(loss.unit)
    print(f"{options.second.name} against {options.first.name}: {loss.sentence()}.")
    print(
        f"Mean {loss.mean:+.3f}{unit} (positive: the second is higher), over {loss.area:.1f}{square_word(loss.plan_unit)}."
    )
    tell(findings)
    return DONE


def _answer(
    operation: str,
    files: list[tuple[str, Path]],
    words: dict[str, str | None],
    options: argparse.Namespace,
    groups: list[tuple[str, list[str]]],
) -> tuple[Answer, list[Finding]]:
    """Let a conversion answer; what was noticed is told also where it cannot."""
    from vastgrid.execution.queries import ask

    given = {name: text for name, text in words.items() if text is not None}
    findings: list[Finding] = []
    try:
        override = options.override_units
        answer = ask(operation, files, given, reading(groups), said(options), watched(), findings, override=override)
    except VastGridError:
        end_progress()
        tell(findings)
        raise
    end_progress()
    return answer, findings


def _printed(values: dict[str, Any], findings: list[Finding]) -> int:
    from vastgrid.reports.account import as_json

    print(as_json({**values, "findings": [finding.to_json() for finding in findings]}))
    return DONE


def _asked(
    operation: str,
    files: list[tuple[str, Path]],
    words: dict[str, str | None],
    options: argparse.Namespace,
    groups: list[tuple[str, list[str]]],
    key: str,
    more: Callable[[Answer], dict[str, Any]] = lambda answer: {},
) -> int:
    """Let a conversion answer, and print its figures, with more where they are printed as JSON, or its tables."""
    from vastgrid.execution.papers import check_ending, report_of, write_report

    if options.report is not None:
        check_ending(options.report)
        refuse_clashes([path for _, path in files], {"--report": options.report})
    tiled: dict[str, Any] = {}
    if hasattr(options, "tiles") and large.wanted(options, [path for _, path in files]):
        given = {name: text for name, text in words.items() if text is not None}
        answer, findings, tiled = large.answered(operation, files, given, options, groups)
    else:
        answer, findings = _answer(operation, files, words, options, groups)
    if options.report is not None:
        report = report_of(answer.account, [], {}, answer.tables[0].name)
        steps = [step.to_json() for step in answer.account.steps]
        write_report(options.report, report, {"steps": steps}, watched())
    if options.json:
        own = {"tiled": tiled} if tiled else {}
        tables = {table.name: table.rows() for table in answer.tables}
        figures = answer.step.figures[key] if key else answer.step.figures
        return _printed({**figures, **more(answer), "tables": tables, **own}, findings)
    print(answer.step.sentence)
    for table in answer.tables:
        print(f"\n{table.name}")
        print_rows([list(_heads(table)), *table.texts()])
    print()
    if tiled:
        print(large.in_short(tiled))
    tell(findings)
    return DONE


def _heads(table: Table) -> Iterator[str]:
    units = table.units or ("",) * len(table.columns)
    for name, unit in zip(table.columns, units, strict=True):
        yield f"{name} [{unit}]" if unit else name


def print_rows(rows: list[list[str]]) -> None:
    """Print rows as columns: words to the left, numbers to the right."""
    if not rows:
        return
    widths = [max(len(row[k]) for row in rows) for k in range(len(rows[0]))]
    number = [all(_numeric(row[k]) for row in rows[1:]) for k in range(len(rows[0]))]
    for row in rows:
        cells = [
            text.rjust(width) if right else text.ljust(width)
            for text, width, right in zip(row, widths, number, strict=True)
        ]
        print("  ".join(cells).rstrip())


def _numeric(text: str) -> bool:
    return not text or text.lstrip("+-−")[:1].isdigit()


def _on_ground(options: argparse.Namespace) -> str | None:
    return "yes" if options.ground else None


def _inside(options: argparse.Namespace) -> list[tuple[str, Path]]:
    return [("inside", path) for path in options.inside or ()]


def volumes(options: argparse.Namespace, groups: list[tuple[str, list[str]]]) -> int:
    """Say how much earth lies between two surfaces."""
    files = [("base", options.base), ("top", options.top), *_inside(options)]
    words = {name: getattr(options, name) for name in ("boundaries", "depth", "swell", "shrink", "cell", "sections")}
    words["ground"] = _on_ground(options)
    return _asked("volumes", files, words, options, groups, "volumes")


def accuracy(options: argparse.Namespace, groups: list[tuple[str, list[str]]]) -> int:
    """Say how good a surface is by check points."""
    files = [("surface", options.surface), ("points", options.points)]
    words = {"by": options.by, "blunder": options.blunder, "survey": options.survey}
    return _asked("accuracy", files, words, options, groups, "accuracy", _residuals)


def _residuals(answer: Answer) -> dict[str, Any]:
    """Return every residual with its point and place."""
    from vastgrid.conversions.answers.accuracy import POINT, RESIDUAL
    from vastgrid.data.kinds import of_kind
    from vastgrid.data.pointset import PointSet

    (points,) = of_kind(answer.results, PointSet)
    names = (plain(value) for value in points.attributes[POINT].tolist())
    rows = zip(names, points.xyz.tolist(), points.attributes[RESIDUAL].tolist(), strict=True)
    return {
        "residuals": [
            {"point": name, "east": east, "north": north, "residual": residual}
            for name, (east, north, _), residual in rows
        ]
    }


def fit(options: argparse.Namespace, groups: list[tuple[str, list[str]]]) -> int:
    """Say how points in local coordinates fit onto the same points, known."""
    files = [("data", options.local), ("to", options.known)]
    words = {name: getattr(options, name) for name in ("model", "heights", "by", "blunder", "keep")}
    return _asked("fit", files, {**words, "drop": "yes" if options.drop else None}, options, groups, "")


def stages(options: argparse.Namespace, groups: list[tuple[str, list[str]]]) -> int:
    """Say what a basin holds, level by level."""
    if not options.inside:
        raise CallError("stages needs the line around the basin: --inside FILE")
    files = [("surface", options.surface), *_inside(options)]
    words = {name: getattr(options, name) for name in ("boundaries", "every", "levels")}
    return _asked("stages", files, {**words, "ground": _on_ground(options)}, options, groups, "stages")


def pile(options: argparse.Namespace, groups: list[tuple[str, list[str]]]) -> int:
    """Say what lies above and below a base made from the rim of an area."""
    if not options.inside:
        raise CallError("pile needs the line around it: --inside FILE")
    files = [("surface", options.surface), *_inside(options)]
    words = {"boundaries": options.boundaries, "base": options.base, "ground": _on_ground(options)}
    return _asked("pile", files, words, options, groups, "pile")
