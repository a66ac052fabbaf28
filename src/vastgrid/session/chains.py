"""Files in, a chain of conversions, a file out: what the command line runs, without a job on disk."""

from __future__ import annotations

import dataclasses
from collections.abc import Callable, Iterable, Sequence
from dataclasses import dataclass, field
from pathlib import Path
from typing import Any, TypeVar

from vastgrid import catalog
from vastgrid.base.errors import CallError
from vastgrid.base.files import refuse_clashes
from vastgrid.base.findings import Finding, Severity, count, counted, note
from vastgrid.base.progress import Progress
from vastgrid.base.quantities import Unit
from vastgrid.base.words import spaced
from vastgrid.data.dataset import Dataset
from vastgrid.data.grid import Grid
from vastgrid.data.linework import Contours
from vastgrid.data.loss import Loss
from vastgrid.data.pointset import PointSet
from vastgrid.data.tin import Tin
from vastgrid.declarations.conversion import Conversion, listed
from vastgrid.declarations.fileformat import Format
from vastgrid.measures.difference import difference
from vastgrid.params import declare
from vastgrid.session.deliver import Delivery, deliver
from vastgrid.session.inspection import inspect
from vastgrid.session.steps import Source, convert, in_one_frame, read_file, turned_findings, with_known_units
from vastgrid.shaping.surfaces import contour_tin

Units = tuple[Unit | None, Unit | None]
T = TypeVar("T")


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
    """Everything a run did, in order: the report's content. `tell` is called with what is to be said at once."""

    steps: list[Step] = field(default_factory=list)
    left_out: list[str] = field(default_factory=list)
    tell: Callable[[str], None] = lambda text: None
    delivery: Delivery | None = None

    def findings(self) -> list[Finding]:
        """Return all findings in order."""
        found = [finding for step in self.steps for finding in step.findings]
        return found + list(self.delivery.findings if self.delivery else ())


@dataclass(frozen=True, slots=True)
class Options:
    """Reading options in words: of every input whose format has them, or of one file by its name."""

    every: dict[str, str] = field(default_factory=dict)
    of_file: dict[str, dict[str, str]] = field(default_factory=dict)

    def of(self, path: Path, kind: Format) -> dict[str, str]:
        """Return the options for a file of a format.

        Raises
        ------
        CallError
            If one was said of this file and its format has no such option.
        """
        names = {each.name for each in declare.fields(kind.read_params)}
        own = _named(self.of_file, path, {})
        for name in own:
            if name not in names:
                known = ", ".join(sorted(names)) or "none"
                raise CallError(f"{kind.title} ({path.name}) has no reading option “{name}”; there are {known}")
        return {**{key: word for key, word in self.every.items() if key in names}, **own}

    def check(self, paths: Sequence[Path]) -> None:
        """Refuse options said of a file that is not there.

        Raises
        ------
        CallError
            With the names that there are.
        """
        _check_names(self.of_file, paths, "reading options")


def _named(of_file: dict[str, T], path: Path, otherwise: T) -> T:
    """Return what was said of a file, by its path as it was written or by its name."""
    return of_file.get(str(path), of_file.get(path.name, otherwise))


def _check_names(named: Iterable[str], paths: Sequence[Path], what: str) -> None:
    names = {word for path in paths for word in (str(path), path.name)}
    for name in named:
        if name not in names:
            inputs = listed([path.name for path in paths])
            raise CallError(f"{what} are said of “{name}”, which is no input; inputs are {inputs}")


@dataclass(frozen=True, slots=True)
class Said:
    """Units that were said of inputs: of all that do not say theirs, or of one file by its name.

    Attributes
    ----------
    every : pair of Unit or None
        Plan and height unit.
    of_file : dict
        Pairs by file name, or by path as it was written.
    """

    every: Units = (None, None)
    of_file: dict[str, Units] = field(default_factory=dict)

    def of(self, path: Path) -> Units:
        """Return what was said of a file."""
        own = _named(self.of_file, path, (None, None))
        return own[0] or self.every[0], own[1] or self.every[1]

    def check(self, paths: Sequence[Path]) -> None:
        """Refuse units said of a file that is not there.

        Raises
        ------
        CallError
            With the names that there are.
        """
        _check_names(self.of_file, paths, "units")


@dataclass(frozen=True, slots=True)
class Via:
    """A conversion asked for, with its parameters as words."""

    conversion: Conversion
    words: dict[str, str]


def described(dataset: Dataset) -> dict[str, Any]:
    """Return a dataset's figures as plain values, None where unknown."""
    from vastgrid.data.frame import crs_name, epsg_code

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
        counts = ", ".join(counted(value, name) for name, value in each.count().items())
        parts.append(f"{each.title} ({counts}; {each.frame.describe()})")
    return f"{source.path.name} read as {source.format.title}: {listed(parts)}."


def _with_option(finding: Finding, path: Path) -> Finding:
    """Return a finding about one file that says by which option its remedy is taken."""
    if finding.remedy is None:
        return finding
    words = " ".join(f"{key}={value}" for key, value in finding.remedy.values.items())
    return dataclasses.replace(finding, text=f"{finding.text.removesuffix('.')} (--read {path.name} {words}).")


def read_sources(
    paths: Sequence[Path],
    options: Options,
    said: Said,
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
    said.check(paths)
    options.check(paths)
    for k, path in enumerate(paths):
        part = progress.part(k / len(paths), (k + 1) / len(paths))
        words = options.of(path, catalog.recognise(path))
        source = read_file(path, words, part, said.of(path), override=override)
        account.steps.append(Step(source_sentence(source), source.findings, result=source.datasets))
        account.left_out += [f"{path.name}\t{line}" for line in source.left_out]
        sources.append(source)
    if len(sources) > 1:
        first = len(account.steps) - len(sources)
        for k, source in enumerate(sources):
            others = [each for other in sources if other is not source for each in other.datasets]
            turned = turned_findings(source, options.of(source.path, source.format), others)
            step = account.steps[first + k]
            told = [_with_option(finding, source.path) for finding in turned]
            account.steps[first + k] = dataclasses.replace(step, findings=(*told, *step.findings))
    known = {f.name for source in sources for f in declare.fields(source.format.read_params)}
    for name in options.every:
        if name not in known:
            raise CallError(
                f"none of these files has a reading option “{name}”; there are {', '.join(sorted(known)) or 'none'}"
            )
    return sources


@dataclass(slots=True)
class Chain:
    """Conversions run one after another: what there is now, and what was used of what came in."""

    have: list[Dataset]
    account: Account
    unused: list[Dataset] = field(default_factory=list)

    def run(self, via: Via, progress: Progress) -> None:
        """Run a conversion on whatever it can use; where it can use nothing, the least that leads there is made first.

        What uses one dataset at a time is done to each. What it cannot use stays for what follows.

        Raises
        ------
        CallError
            If nothing leads there.
        """
        conversion = via.conversion
        params = declare.build(conversion.params, via.words)
        takes = conversion.takes_with(params)
        kinds = listed([kind.title for kind in takes])
        for step in catalog.chain(self.have, takes, f"{conversion.id}, which uses {kinds}"):
            self.run(Via(step, {}), progress)
        usable = [each for each in self.have if isinstance(each, takes) and conversion.can_use(each)]
        if not usable:
            titles = listed([each.title for each in self.have])
            raise CallError(f"{conversion.id} uses {kinds}; it cannot use this {titles}")
        rest = [each for each in (*self.have, *self.unused) if each not in usable]
        groups = [usable] if conversion.many else [[each] for each in usable]
        # What keeps the kind keeps the name, so that later sentences speak of the same thing.
        keeps = conversion.gives is Dataset
        made = []
        for k, group in enumerate(groups):
            self._foretell(conversion, group, params)
            result, settled = convert(conversion, group, params, progress.part(k / len(groups), (k + 1) / len(groups)))
            sentence = declare.plain(conversion.sentence(settled, [each.name for each in group]))
            self.account.steps.append(Step(sentence, result.findings, result.loss, (result.dataset,)))
            made.append(result.dataset.renamed(group[0].name) if keeps else result.dataset)
        if len(made) > 1 and not keeps:
            made = [each.renamed(f"{each.name} of {group[0].name}") for each, group in zip(made, groups, strict=True)]
        if keeps:
            self.have = made + [each for each in self.have if each not in usable]
        else:
            self.have, self.unused = made, rest

    def _foretell(self, conversion: Conversion, group: Sequence[Dataset], params: Any) -> None:
        """Say before work that will take minutes how much it is."""
        known, said = with_known_units(group, params, [])
        size = conversion.effort(known, said)
        if size > _MANY:
            minutes = max(round(size / _EACH_MINUTE), 1)
            self.account.tell(
                f"{conversion.title} of {listed([each.name for each in group])} will have about {spaced(size)} vertices; "
                f"making, writing and reading them back may take {count(minutes, 'minute')} (Ctrl+C stops it)"
            )


# From so many vertices on it is said beforehand; so many are made, written and read back in a minute (measured).
_MANY = 2_500_000
_EACH_MINUTE = 2_500_000


def _to_format(chain: Chain, target: Format, params: Any, progress: Progress) -> None:
    """Make what the target can hold of what it cannot, by the least that leads there; all else goes as it is."""
    carries = target.carries_with(params)
    wanted = carries.kinds
    for step in catalog.chain(chain.have, wanted, target.title):
        chain.run(Via(step, {}), progress)
    if not carries.several:
        chain.unused += [each for each in chain.have if not isinstance(each, wanted)]
        chain.have = [each for each in chain.have if isinstance(each, wanted)]
        return
    out: list[Dataset] = []
    for each in chain.have:
        if isinstance(each, wanted):
            out.append(each)
            continue
        try:
            steps = catalog.chain([each], wanted, target.title)
        except CallError:
            # The delivery says that it cannot hold it.
            out.append(each)
            continue
        alone = Chain([each], chain.account)
        for step in steps:
            alone.run(Via(step, {}), progress)
        out += [one.renamed(each.name) for one in alone.have]
    chain.have = out


def _refuse_unused(sources: Sequence[Source], chain: Chain, target: Format, params: Any) -> None:
    """Refuse a call that names a file of which nothing would be used; say what else is left out.

    Raises
    ------
    CallError
        With the file.
    """
    wanted = target.carries_with(params).kinds
    gone = [*chain.unused, *(each for each in chain.have if not isinstance(each, wanted))]
    for source in sources:
        own = [each for each in source.datasets if each in gone]
        if len(sources) > 1 and len(own) == len(source.datasets):
            kinds = listed(list(dict.fromkeys(each.title for each in own)))
            raise CallError(
                f"nothing of {source.path.name} ({kinds}) would be used: no step uses it and {target.title} would not "
                "hold it; leave it out of the call"
            )
    told = [
        Finding("not-used", f"{each.name} ({each.title}) is not used: no step asked for it.")
        for each in chain.unused
        if any(each in source.datasets for source in sources)
    ]
    if told:
        last = chain.account.steps[-1]
        chain.account.steps[-1] = dataclasses.replace(last, findings=(*last.findings, *told))


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
) -> Account:
    """Read, convert, write, read back and compare.

    Parameters
    ----------
    only : sequence of str
        Names of the datasets that are used of all that the files hold; all where there is none.
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
    refuse_clashes(paths, {"the result": target})
    params = declare.build(kind.write_params, write_words)
    for via in vias:
        declare.build(via.conversion.params, via.words)
    sources = read_sources(paths, read_words, from_units, account, progress.part(0.0, 0.3), override=override_units)
    datasets = _chosen([each for source in sources for each in source.datasets], only)
    chain = Chain(datasets, account)
    for k, via in enumerate(vias):
        chain.run(via, progress.part(0.3 + 0.3 * k / len(vias), 0.3 + 0.3 * (k + 1) / len(vias)))
    _to_format(chain, kind, params, progress.part(0.6, 0.8))
    if not only:
        _refuse_unused(sources, chain, kind, params)
    noticed: list[Finding] = []
    have = in_one_frame(chain.have, noticed)
    noticed += _as_points(have, vias) if Tin in kind.carries.kinds else []
    last = account.steps[-1]
    account.steps[-1] = dataclasses.replace(last, findings=(*last.findings, *noticed))
    if looks is not None:
        read = [each for each in datasets if each not in have]
        account.steps.append(looked_at([*read, *have], looks, progress.part(0.75, 0.8)))
    account.delivery = deliver(have, target, kind, params, progress.part(0.8, 1.0), units)
    return account


def _chosen(datasets: list[Dataset], only: Sequence[str]) -> list[Dataset]:
    names = [each.name for each in datasets]
    for name in only:
        if name not in names:
            raise CallError(f"--only {name}: there is no such dataset; there are {listed(names)}")
    return [each for each in datasets if not only or each.name in only]


def _as_points(have: Sequence[Dataset], vias: Sequence[Via]) -> list[Finding]:
    """Say that points went out as points where many would expect ground."""
    if vias or len(have) != 1 or not isinstance(have[0], PointSet):
        return []
    return [note("points-stay-points", f"{have[0].name} goes out as points; --via tin makes ground of it.")]


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
    options: Options,
    said: Said,
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
    words = options.of(path, catalog.recognise(path))
    source = read_file(path, words, progress, said.of(path), override=override)
    findings += source.findings
    surfaces = [each for each in source.datasets if isinstance(each, Tin | Grid) and each.has_heights]
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
    first: Path, second: Path, options: Options, said: Said, progress: Progress, *, override: bool = False
) -> tuple[Loss, list[Finding]]:
    """Compare two files as surfaces: how far the second lies above the first, in the first's units."""
    findings: list[Finding] = []
    said.check([first, second])
    options.check([first, second])
    one = surface_of(first, options, said, progress.part(0.0, 0.3), findings, override=override)
    two = surface_of(second, options, said, progress.part(0.3, 0.6), findings, override=override)
    a, b = in_one_frame([one, two], findings)
    assert isinstance(a, Tin | Grid)
    assert isinstance(b, Tin | Grid)
    return difference(a, b, progress.part(0.6, 1.0)), findings
