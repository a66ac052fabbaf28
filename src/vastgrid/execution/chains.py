"""Files in, a chain of conversions, a file out: what the command line runs."""

from __future__ import annotations

import dataclasses
from collections.abc import Sequence
from pathlib import Path

from vastgrid import catalog
from vastgrid.base.errors import CallError
from vastgrid.base.files import refuse_clashes
from vastgrid.base.findings import Finding, Severity, count, note
from vastgrid.base.progress import Progress
from vastgrid.base.words import instead, shortly
from vastgrid.data.dataset import Dataset
from vastgrid.data.grid import Grid
from vastgrid.data.tin import Tin
from vastgrid.declarations.conversion import listed
from vastgrid.declarations.fileformat import Format
from vastgrid.execution.executor import Units
from vastgrid.execution.forms import Form, forms
from vastgrid.execution.input_options import Options, Said
from vastgrid.execution.inspection import inspect
from vastgrid.execution.papers import check_ending
from vastgrid.execution.queries import playing
from vastgrid.execution.run import Run
from vastgrid.execution.run_log import Account, Step, Via
from vastgrid.execution.steps import in_one_frame
from vastgrid.execution.table_files import write_tables
from vastgrid.lineage.store import Store
from vastgrid.params import declare


def run_convert(
    paths: Sequence[Path],
    target: Path,
    vias: Sequence[Via],
    *,
    read_words: Options,
    write_words: dict[str, str],
    from_units: Said,
    override_units: bool = False,
    units: Units,
    progress: Progress,
    account: Account,
    looks: dict[str, dict[str, str]] | None = None,
    only: Sequence[str] = (),
    store: Store | None = None,
    report: Path | None = None,
    left_out: Path | None = None,
) -> Run:
    """Read, convert, write, read back and compare; return the run.

    Parameters
    ----------
    only : sequence of str
        Names of the datasets that are used of all that the files hold; all where there is none.
    store : Store or None
        Where results are kept, if the run is to become a job.
    looks : dict or None
        Thresholds in words, by check, with which all data is looked at before it is written; None for not at all.
    report, left_out : Path or None
        What else will be written: neither may fall on an input.

    Raises
    ------
    VastGridError
        Whatever went wrong, in words; nothing is left half-written.
    """
    kind = catalog.format_of_target(target)
    if kind.write is None:
        raise CallError(f"{kind.title} cannot be written")
    _refuse_outputs(paths, target, report, left_out)
    params = declare.build(kind.write_params, write_words)
    for via in vias:
        declare.build(via.conversion.params, via.params())
    run = Run(account, store)
    run.read(paths, read_words, from_units, progress.part(0.0, 0.3), override=override_units)
    read = [each for source, _ in run.sources for each in source.datasets]
    run.have = _chosen(run, only)
    vias = [*vias[:-1], _formed(vias[-1], kind.carries_with(params).kinds)] if vias else vias
    for k, via in enumerate(vias):
        run.via(via, progress.part(0.3 + 0.3 * k / len(vias), 0.3 + 0.3 * (k + 1) / len(vias)))
    run.to_format(kind, params, progress.part(0.6, 0.8))
    if not only:
        run.refuse_unused(kind, params)
    have = run.datasets(run.have)
    account.add_findings(-1, _as_points(have, vias, kind))
    if looks is not None:
        used = {each.content for each in have}
        others = [each for each in read if each.content not in used]
        account.steps.append(looked_at([*others, *have], looks, progress.part(0.75, 0.8)))
    run.deliver(kind, target, write_words, units, progress.part(0.8, 1.0))
    return run


def run_answer(
    paths: Sequence[Path],
    target: Path,
    vias: Sequence[Via],
    *,
    read_words: Options,
    from_units: Said,
    override_units: bool = False,
    progress: Progress,
    account: Account,
    store: Store | None = None,
    report: Path | None = None,
    left_out: Path | None = None,
) -> tuple[Run, list[str]]:
    """Read, convert, and write the tables that the last step gives; return the run and what is to be said of the files.

    Parameters
    ----------
    report, left_out : Path or None
        As for `run_convert`.

    Raises
    ------
    VastGridError
        Whatever went wrong, in words; nothing is left half-written.
    """
    _refuse_outputs(paths, target, report, left_out)
    for via in vias:
        declare.build(via.conversion.params, via.params())
    run = Run(account, store)
    run.read(paths, read_words, from_units, progress.part(0.0, 0.4), override=override_units)
    for k, via in enumerate(vias):
        run.via(via, progress.part(0.4 + 0.5 * k / len(vias), 0.4 + 0.5 * (k + 1) / len(vias)))
    return run, write_tables(run, paths, target, account, progress.part(0.9, 1.0))


def _refuse_outputs(paths: Sequence[Path], target: Path, report: Path | None, left_out: Path | None) -> None:
    """Refuse what would write over an input or over another output, or a report of no known kind.

    Raises
    ------
    CallError
        With both names.
    """
    beside = {"--report": report, "--left-out": left_out}
    refuse_clashes(paths, {"the result": target, **{name: path for name, path in beside.items() if path is not None}})
    if report is not None:
        check_ending(report)


def _formed(via: Via, wanted: tuple[type[Dataset], ...]) -> Via:
    """Return the last step in a form that the target holds, where nobody said in which form."""
    conversion = via.conversion
    usual = conversion.outputs[0].kind
    if usual is None or issubclass(usual, wanted):
        return via
    for kind, words in conversion.forms:
        if issubclass(kind, wanted) and not set(words) & set(via.words):
            return Via(conversion, {**via.words, **words})
    return via


def _chosen(run: Run, only: Sequence[str]) -> list[str]:
    names = [run.graph[card].name for card in run.have]
    for name in only:
        if name not in names:
            raise CallError(f"--only {shortly(name)}: there is no such dataset; {instead(name, names)}")
    return [card for card in run.have if not only or run.graph[card].name in only]


def _as_points(have: Sequence[Dataset], vias: Sequence[Via], target: Format) -> list[Finding]:
    """Say that points went out as points where many would expect ground."""
    builder = catalog.builder()
    surface = builder.gives(builder.takes)
    if vias or len(have) != 1 or surface not in target.carries.kinds or have[0].count().keys() != {"points"}:
        return []
    return [note("points-stay-points", f"{have[0].name} goes out as points; --via {builder.id} makes ground of it.")]


def looked_at(datasets: Sequence[Dataset], words: dict[str, dict[str, str]], progress: Progress) -> Step:
    """Run every check on datasets; return it as a step, each finding with the name of what it is about.

    Raises
    ------
    CallError
        If a check or threshold is unknown.
    """
    for name in words:
        catalog.check_named(name)
    found = inspect(in_one_frame(datasets, []), progress, words)
    told = [
        dataclasses.replace(finding, text=f"{each.name}: {finding.text}")
        for each, own in zip(datasets, found, strict=True)
        for finding in own
    ]
    told.sort(key=lambda finding: finding.severity is Severity.NOTE)
    number = sum(finding.severity is not Severity.NOTE for finding in told)
    names = listed([each.name for each in datasets])
    sentence = f"{names} looked at by {len(catalog.CHECKS)} checks: {count(number, 'warning')}, {count(len(told) - number, 'note')}."
    return Step(sentence, tuple(told))


def run_forms(
    path: Path, options: Options, said: Said, progress: Progress, *, override: bool = False
) -> tuple[list[Form], list[Finding]]:
    """Return a file's surface in every form in which it can be sent.

    Raises
    ------
    CallError
        If nothing in the file can become a surface.
    """
    said.check([path])
    options.check([path])
    run = Run(Account())
    findings: list[Finding] = []
    run.read_one(path, options, said, progress.part(0.0, 0.1), override=override)
    findings += run.account.steps[-1].findings
    compare = catalog.conversion_named("compare")
    (card,) = playing(run, compare, compare.inputs[0], path, progress.part(0.1, 0.2), findings)
    surface = run.dataset(card)
    assert isinstance(surface, Tin | Grid)
    return forms(surface, progress.part(0.2, 1.0)), findings
