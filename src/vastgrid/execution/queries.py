"""A question about files: each plays a role, one conversion answers."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from pathlib import Path

from vastgrid import catalog
from vastgrid.base.errors import CallError
from vastgrid.base.findings import Finding
from vastgrid.base.progress import Progress
from vastgrid.data.dataset import Dataset
from vastgrid.data.kinds import of_kind
from vastgrid.data.linework import Linework
from vastgrid.data.pointset import PointSet
from vastgrid.data.table import Table
from vastgrid.declarations.conversion import Conversion, Input, listed
from vastgrid.execution.input_options import Options, Said
from vastgrid.execution.run import Run
from vastgrid.execution.run_log import Account, Step, Via


@dataclass(frozen=True, slots=True)
class Answer:
    """What a question gave: everything that was done, its step, and what that gave in order."""

    account: Account
    step: Step
    results: tuple[Dataset, ...]

    @property
    def tables(self) -> list[Table]:
        """Its tables."""
        return of_kind(self.results, Table)


def ask(
    operation: str,
    files: Sequence[tuple[str, Path]],
    words: dict[str, str],
    options: Options,
    said: Said,
    progress: Progress,
    findings: list[Finding],
    *,
    override: bool = False,
) -> Answer:
    """Read files, each for a role, and run one conversion on them, in the first one's units.

    A file that holds no surface gives the one that its points and lines make; closed lines are taken from whatever has some.

    Parameters
    ----------
    findings : list of Finding
        What is noticed is added to it, also where an error ends the work.

    Raises
    ------
    CallError
        If a file holds nothing that can play its role.
    """
    conversion = catalog.conversion_named(operation)
    paths = [path for _, path in files]
    said.check(paths)
    options.check(paths)
    run = Run(Account())
    pairs: list[tuple[str, str]] = []
    for k, (name, path) in enumerate(files):
        part = progress.part(0.6 * k / len(files), 0.6 * (k + 1) / len(files))
        run.have = []
        run.read_one(path, options, said, part.part(0.0, 0.7), override=override)
        findings += run.account.steps[-1].findings
        pairs += [
            (card, name)
            for card in playing(run, conversion, conversion.role(name), path, part.part(0.7, 1.0), findings)
        ]
    made = run.make(conversion, pairs, words, progress.part(0.6, 1.0))
    step = run.account.steps[-1]
    findings += step.findings
    return Answer(run.account, step, tuple(run.datasets(made)))


def playing(
    run: Run, conversion: Conversion, role: Input, path: Path, progress: Progress, findings: list[Finding]
) -> list[str]:
    """Return the cards of a file that play a role; where it holds no surface, the one that its points and lines give.

    Raises
    ------
    CallError
        If it holds nothing that can play it.
    """
    able = [card for card in run.have if conversion.can_use(run.dataset(card), role.role)]
    if role.most is None and able:
        return able
    if able:
        if len(able) > 1:
            name = run.graph[able[0]].name
            text = f"{path.name} holds {len(able)} of what is wanted here; {name} was taken."
            findings.append(Finding("several-surfaces", text))
        return able[:1]
    titles = listed([each.title for each in run.datasets(run.have)])
    if Linework in role.kinds:
        raise CallError(f"{path.name} holds no closed line ({titles})")
    if PointSet in role.kinds:
        raise CallError(f"{path.name} holds no points ({titles})")
    run.via(Via(catalog.builder(), {}), progress)
    made = run.account.steps[-1]
    findings.append(Finding("made-a-surface", f"{path.name} holds no surface; one was made: {made.sentence}"))
    findings += made.findings
    run.graph = run.graph.changed(run.have[0], name=path.stem)
    return run.have[:1]
