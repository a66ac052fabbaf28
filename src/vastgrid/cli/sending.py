"""The commands that send: a set of files, a scene for a browser, and the tree of what a file holds."""

from __future__ import annotations

import argparse
import dataclasses
import sys
from typing import TYPE_CHECKING

from vastgrid.base.errors import CallError
from vastgrid.cli.asked import asked_vias, reading, said
from vastgrid.cli.telling import DATA_AT_FAULT, DONE, end_progress, tell, watched

if TYPE_CHECKING:
    from vastgrid.execution.run import Run
    from vastgrid.execution.run_log import Account
    from vastgrid.lineage.store import Store
    from vastgrid.recipes.run import RunAccount


def tree(options: argparse.Namespace, groups: list[tuple[str, list[str]]]) -> int:
    """Show what is in a file, as a tree."""
    from vastgrid.execution.outline import outline
    from vastgrid.execution.run import read_sources
    from vastgrid.execution.run_log import Account
    from vastgrid.reports.account import as_json

    (source,) = read_sources(
        [options.path], reading(groups), said(options), Account(), watched(), override=options.override_units
    )
    end_progress()
    items = outline(source.datasets)
    if options.json:
        print(as_json({"format": source.format.id, "items": [item.to_json() for item in items]}))
        return DONE
    print(f"{options.path.name}: {source.format.title}")
    for item in items:
        for line in item.lines(1):
            print(line)
    tell(list(source.findings))
    return DONE


def convert_set(options: argparse.Namespace, groups: list[tuple[str, list[str]]]) -> int:
    """Read files, convert, and write every file of a set into a folder."""
    from vastgrid.delivery.sets import set_named
    from vastgrid.execution.run_log import Account
    from vastgrid.execution.sending import run_set

    if options.into is None:
        raise CallError("a set needs a folder: --set NAME --into FOLDER")
    if any(name == "--write" for name, _ in groups):
        raise CallError("--write does not go with --set: each file of a set has its own options (vastgrid sets)")
    for name, given in (("--only", options.only), ("--inspect", options.inspect), ("--left-out", options.left_out)):
        if given:
            raise CallError(f"{name} does not go with --set")
    if options.report is not None:
        from vastgrid.execution.papers import check_ending

        check_ending(options.report)
    chosen = set_named(options.set)
    account = Account(tell=lambda text: print(f"note: {text}", file=sys.stderr, flush=True))
    store = store_for(options)
    try:
        run = run_set(
            options.paths,
            chosen,
            options.into,
            asked_vias(groups),
            read_words=reading(groups),
            from_units=said(options),
            override_units=options.override_units,
            units=(options.units, options.vertical_units),
            replace=options.replace,
            progress=watched(),
            account=account,
            store=store,
        )
    finally:
        end_progress()
        tell(account.findings())
    keep(options, run)
    name = run.dataset(run.sent[0]).name
    title = f"{name}, {chosen.title[:1].lower()}{chosen.title[1:].split(':')[0]}"
    return told(options, account, run, {}, title)


def store_for(options: argparse.Namespace) -> Store | None:
    """Return the store of the job that a run is kept as; nothing where it is not."""
    from vastgrid.jobs.save_as_job import NewJob

    return None if options.job is None else NewJob(options.job)


def keep(options: argparse.Namespace, run: Run) -> None:
    """Keep a run as a job, where that was asked for."""
    from vastgrid.jobs.save_as_job import keep_job

    if options.job is not None:
        keep_job(options.job, options.job.name, run.graph, "convert")


def told(options: argparse.Namespace, account: Account, run: Run, words: dict[str, str], title: str) -> int:
    """Say what a run did, write its report if one was asked for, and return the exit code."""
    from vastgrid.reports.account import as_json

    assert account.delivery is not None
    values = {
        "steps": [step.to_json() for step in account.steps],
        "delivery": account.delivery.to_json(),
        "deliveries": [each.to_json() for each in account.deliveries],
    }
    if options.report is not None:
        from vastgrid.execution.papers import picture_of, report_of, write_report

        sent = run.datasets(run.sent)
        report = report_of(account, sent, words, title)
        if options.report.suffix.lower() in (".html", ".htm", ".pdf"):
            report = dataclasses.replace(report, picture=picture_of(sent, watched()))
        write_report(options.report, report, values, watched())
        end_progress()
    if options.json:
        print(as_json(values))
    else:
        print_account(account)
    return ending(account)


def print_account(account: Account | RunAccount) -> None:
    """Print what a run did: its sentences, what they cost, and what was written."""
    for step in account.steps:
        print(step.sentence)
        if step.loss is not None:
            print(f"  differs by {step.loss.sentence()}")
    for each in account.deliveries:
        print(each.sentence())


def ending(account: Account) -> int:
    """Return the exit code of a run: whether everything that was written read back as it was sent."""
    return DONE if all(each.good for each in account.deliveries) else DATA_AT_FAULT


def sets(options: argparse.Namespace, _groups: list[tuple[str, list[str]]]) -> int:
    """List the sets there are, with the files of each."""
    from vastgrid import catalog
    from vastgrid.delivery.sets import known_sets

    for each in known_sets():
        print(f"{each.name}: {each.title}")
        for enclosure in each.enclosures:
            kind = catalog.format_named(enclosure.format)
            words = " ".join(f"{key}={value}" for key, value in enclosure.words.items())
            print(f"  {enclosure.file_name('NAME')}  {kind.title}{f'  {words}' if words else ''}")
    return DONE


def web(options: argparse.Namespace, groups: list[tuple[str, list[str]]]) -> int:
    """Write a scene that opens in a browser."""
    from vastgrid.cli.commands import convert

    target = options.paths[-1]
    if target.suffix.lower() not in (".html", ".htm"):
        raise CallError(f"web writes a page, and “{target.name}” does not end in .html")
    return convert(options, groups)
