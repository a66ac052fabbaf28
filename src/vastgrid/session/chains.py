"""Files in, a chain of conversions, a file out: what the command line runs, without a job on disk."""

from __future__ import annotations

import dataclasses
from collections.abc import Sequence
from dataclasses import dataclass, field
from pathlib import Path
from typing import Any

from vastgrid import catalog
from vastgrid.base.errors import CallError
from vastgrid.base.findings import Finding, Severity, count
from vastgrid.base.progress import Progress
from vastgrid.base.quantities import Unit
from vastgrid.params import declare
from vastgrid.session.deliver import Delivery, deliver
from vastgrid.session.inspection import inspect
from vastgrid.session.steps import Source, convert, in_one_frame, read_file
from vastgrid.terrain.compare import Loss, contour_tin, difference
from vastgrid.terrain.conversion import Conversion, listed
from vastgrid.terrain.dataset import Dataset
from vastgrid.terrain.grid import Grid
from vastgrid.terrain.linework import Contours
from vastgrid.terrain.tin import Tin

Units = tuple[Unit | None, Unit | None]


@dataclass(frozen=True, slots=True)
class Step:
    """One step that was done: its sentence, what was noticed, what it cost."""

    sentence: str
    findings: tuple[Finding, ...] = ()
    loss: Loss | None = None
    result: tuple[Dataset, ...] = ()

    def to_json(self) -> dict[str, Any]:
        """Return plain values."""
        return {
            "sentence": self.sentence,
            "findings": [finding.to_json() for finding in self.findings],
            "loss": self.loss.to_json() if self.loss else None,
            "result": [described(each) for each in self.result],
        }


@dataclass(slots=True)
class Account:
    """Everything a run did, in order: the report's content."""

    steps: list[Step] = field(default_factory=list)
    left_out: list[str] = field(default_factory=list)
    delivery: Delivery | None = None

    def findings(self) -> list[Finding]:
        """Return all findings in order."""
        found = [finding for step in self.steps for finding in step.findings]
        return found + list(self.delivery.findings if self.delivery else ())


@dataclass(frozen=True, slots=True)
class Via:
    """A conversion asked for, with its parameters as words."""

    conversion: Conversion
    words: dict[str, str]


def described(dataset: Dataset) -> dict[str, Any]:
    """Return a dataset's figures as plain values, None where unknown."""
    from vastgrid.terrain.frame import crs_name, epsg_code

    frame = dataset.frame
    code = epsg_code(frame.crs) if frame.crs else None
    return {
        "name": dataset.name,
        "kind": dataset.kind,
        "count": dataset.count(),
        "extent": dataset.extent().to_json(),
        "crs": f"EPSG:{code}" if code else crs_name(frame.crs),
        "horizontal_unit": frame.horizontal.value if frame.horizontal else None,
        "vertical_unit": frame.vertical.value if frame.vertical else None,
    }


def source_sentence(source: Source) -> str:
    """Return what was read, in one sentence."""
    parts = []
    for each in source.datasets:
        counts = ", ".join(f"{value} {name}" for name, value in each.count().items())
        parts.append(f"{each.title} ({counts}; {each.frame.describe()})")
    return f"{source.path.name} read as {source.format.title}: {listed(parts)}."


def read_sources(
    paths: Sequence[Path],
    words: dict[str, str],
    units: Units,
    account: Account,
    progress: Progress,
    *,
    override: bool = False,
) -> list[Source]:
    """Read files; options go to those whose format has them.

    Raises
    ------
    CallError
        If no file's format has an option.
    """
    sources = []
    for k, path in enumerate(paths):
        part = progress.part(k / len(paths), (k + 1) / len(paths))
        source = read_file(path, words, part, units, only_known=True, override=override)
        account.steps.append(Step(source_sentence(source), source.findings, result=source.datasets))
        account.left_out += [f"{path.name}\t{line}" for line in source.left_out]
        sources.append(source)
    known = {f.name for source in sources for f in declare.fields(source.format.read_params)}
    for name in words:
        if name not in known:
            raise CallError(
                f"none of these files has a reading option “{name}”; there are {', '.join(sorted(known)) or 'none'}"
            )
    return sources


def run_chain(datasets: Sequence[Dataset], steps: Sequence[Via], account: Account, progress: Progress) -> list[Dataset]:
    """Run conversions one after another; each uses what the one before made, the first whatever it can use.

    Raises
    ------
    CallError
        If a conversion can use none of what there is.
    """
    have = list(datasets)
    for k, via in enumerate(steps):
        usable = [each for each in have if isinstance(each, via.conversion.takes)]
        if not usable:
            kinds = listed([kind.title for kind in via.conversion.takes])
            raise CallError(f"{via.conversion.id} uses {kinds}; there is only {listed([each.title for each in have])}")
        left = [each for each in have if each not in usable]
        findings = [
            Finding("not-used", f"{each.name} ({each.title}) is not used by {via.conversion.id}.") for each in left
        ]
        params = declare.build(via.conversion.params, via.words)
        part = progress.part(k / len(steps), (k + 1) / len(steps))
        if via.conversion.gives is Dataset:
            # What keeps the kind is done to everything, one after another.
            have = [_one(via.conversion, each, params, account, part) for each in usable] + left
            continue
        if not via.conversion.many and len(usable) > 1:
            findings += [
                Finding("not-used", f"{each.name} is not used: {via.conversion.id} uses one.") for each in usable[1:]
            ]
            usable = usable[:1]
        result, params = convert(via.conversion, usable, params, part)
        names = [each.name for each in usable]
        sentence = declare.plain(via.conversion.sentence(params, names))
        account.steps.append(Step(sentence, (*findings, *result.findings), result.loss, (result.dataset,)))
        have = [result.dataset]
    return have


def _one(conversion: Conversion, dataset: Dataset, params: Any, account: Account, progress: Progress) -> Dataset:
    result, settled = convert(conversion, [dataset], params, progress)
    sentence = declare.plain(conversion.sentence(settled, [dataset.name]))
    account.steps.append(Step(sentence, result.findings, result.loss, (result.dataset,)))
    # The name stays, so that later sentences speak of the same thing.
    return result.dataset.renamed(dataset.name)


def run_convert(
    paths: Sequence[Path],
    target: Path,
    vias: Sequence[Via],
    *,
    read_words: dict[str, str],
    write_words: dict[str, str],
    from_units: Units,
    override_units: bool = False,
    units: Units,
    progress: Progress,
    account: Account,
    looks: dict[str, dict[str, str]] | None = None,
) -> Account:
    """Read, convert, write, read back and compare.

    Parameters
    ----------
    looks : dict or None
        Thresholds in words, by check, with which all data is looked at before it is written; None for not at all.

    Raises
    ------
    VastGridError
        Whatever went wrong, in words; nothing is left half-written.
    """
    kind = catalog.format_of_target(target)
    if kind.write is None:
        raise CallError(f"{kind.title} cannot be written")
    for path in paths:
        if path.exists() and target.exists() and path.samefile(target):
            raise CallError(f"{target} is also an input; choose another name for the result")
    params = declare.build(kind.write_params, write_words)
    for via in vias:
        declare.build(via.conversion.params, via.words)
    sources = read_sources(paths, read_words, from_units, account, progress.part(0.0, 0.3), override=override_units)
    datasets = [each for source in sources for each in source.datasets]
    have = run_chain(datasets, vias, account, progress.part(0.3, 0.6)) if vias else datasets
    single = sources[0].format if len(sources) == 1 and not vias else None
    rest = catalog.chain([type(each) for each in have], kind, single)
    have = run_chain(have, [Via(each, {}) for each in rest], account, progress.part(0.6, 0.8)) if rest else have
    if not rest:
        noticed: list[Finding] = []
        have = in_one_frame(have, noticed)
        account.steps[-1] = Step(
            account.steps[-1].sentence,
            (*account.steps[-1].findings, *noticed),
            account.steps[-1].loss,
            account.steps[-1].result,
        )
    if looks is not None:
        read = [each for each in datasets if each not in have]
        account.steps.append(looked_at([*read, *have], looks, progress.part(0.75, 0.8)))
    account.delivery = deliver(have, target, kind, params, progress.part(0.8, 1.0), units)
    return account


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


def surface_of(
    path: Path,
    words: dict[str, str],
    units: Units,
    progress: Progress,
    findings: list[Finding],
    *,
    override: bool = False,
) -> Tin | Grid:
    """Read a file as one surface: its TIN or grid, or the TIN that its points, lines or contours give.

    Raises
    ------
    CallError
        If nothing in it can become a surface.
    """
    source = read_file(path, words, progress, units, only_known=True, override=override)
    findings += source.findings
    surfaces = [each for each in source.datasets if isinstance(each, Tin | Grid)]
    if surfaces:
        if len(surfaces) > 1:
            findings.append(
                Finding(
                    "several-surfaces", f"{path.name} holds {len(surfaces)} surfaces; {surfaces[0].name} was compared."
                )
            )
        return surfaces[0]
    contours = [each for each in source.datasets if isinstance(each, Contours)]
    if contours:
        return contour_tin(contours[0], progress)
    tin = catalog.conversion_named("tin")
    result, params = convert(tin, list(source.datasets), tin.params(), progress)
    sentence = declare.plain(tin.sentence(params, [each.name for each in source.datasets]))
    findings.append(Finding("made-a-surface", f"{path.name} holds no surface; compared was: {sentence}"))
    findings += result.findings
    made = result.dataset
    assert isinstance(made, Tin)
    return made.renamed(path.stem)


def run_compare(
    first: Path, second: Path, words: dict[str, str], units: Units, progress: Progress, *, override: bool = False
) -> tuple[Loss, list[Finding]]:
    """Compare two files as surfaces: how far the second lies above the first, in the first's units."""
    findings: list[Finding] = []
    one = surface_of(first, words, units, progress.part(0.0, 0.3), findings, override=override)
    two = surface_of(second, words, units, progress.part(0.3, 0.6), findings, override=override)
    a, b = in_one_frame([one, two], findings)
    assert isinstance(a, Tin | Grid)
    assert isinstance(b, Tin | Grid)
    return difference(a, b, progress.part(0.6, 1.0)), findings
