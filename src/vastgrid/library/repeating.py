"""Recipes and jobs from a script."""

from __future__ import annotations

from collections.abc import Iterator, Mapping, Sequence
from dataclasses import dataclass
from pathlib import Path
from types import TracebackType
from typing import Any, Self

from vastgrid.base.errors import CallError, WriteError
from vastgrid.base.words import instead, shortly
from vastgrid.library.calls import Told, log, progress_of
from vastgrid.library.data import Origin, told
from vastgrid.library.files import Written, written
from vastgrid.library.kinds import wrapped
from vastgrid.library.spoken import in_script_words


@dataclass(frozen=True, slots=True)
class Ran:
    """What a recipe did.

    Attributes
    ----------
    written : tuple of Written
        Files that went out, each compared.
    tables : tuple of Path
        Tables that were written.
    sentences : tuple of str
        Every step.
    figures : tuple of mapping
        What each step counted, reached or answered.
    digests : mapping
        Digest of the arrays of everything that was made, by its name.
    """

    written: tuple[Written, ...]
    tables: tuple[Path, ...]
    sentences: tuple[str, ...]
    figures: tuple[Mapping[str, Any], ...]
    digests: Mapping[str, str]


@in_script_words()
def run(
    recipe: str | Path,
    files: Mapping[str, str | Path | Sequence[str | Path]],
    into: str | Path,
    *,
    replace: bool = False,
    progress: Told | None = None,
) -> Ran:
    """Run a recipe on files, by the names of its slots.

    Parameters
    ----------
    into : path
        Folder for what it writes; made if need be.
    replace : bool
        Whether files of earlier runs may be written over.

    Raises
    ------
    FormatError
        If the recipe or a file is not what it should be.
    CallError
        If a slot has no file.
    WriteError
        If a file that was written does not agree with what was sent.
    """
    from vastgrid.recipes.recipe import read_recipe
    from vastgrid.recipes.run import RunAccount, run_recipe, runs_of

    own = read_recipe(Path(recipe))
    given = [
        (slot, Path(each), k > 0)
        for slot, paths in files.items()
        for k, each in enumerate([paths] if isinstance(paths, str | Path) else paths)
    ]
    ((slots, folder),) = runs_of(own, given, Path(into))
    account = RunAccount({name: tuple(paths) for name, paths in slots.items()}, folder)
    run_recipe(own, slots, folder, progress_of(progress), account, replace=replace)
    for step in account.steps:
        log.info(step.sentence)
    bad = [each.sentence() for each in account.deliveries if not each.good]
    if bad:
        raise WriteError(" ".join(bad))
    return Ran(
        tuple(written(each, told(each.findings)) for each in account.deliveries),
        tuple(account.tables),
        tuple(step.sentence for step in account.steps),
        tuple(dict(step.figures) for step in account.steps),
        dict(account.digests),
    )


class Job(Mapping[str, Any]):
    """A job that was opened for reading: its cards by name. Use it in a ``with`` block, or close it."""

    def __init__(self, folder: Path) -> None:
        from vastgrid.jobs.openjob import OpenJob

        self._job = OpenJob(folder)

    @property
    def name(self) -> str:
        """What the job is called."""
        return self._job.name

    def __enter__(self) -> Self:
        return self

    def __exit__(self, kind: type[BaseException] | None, error: BaseException | None, at: TracebackType | None) -> None:
        self.close()

    def close(self) -> None:
        """Let go of the job."""
        self._job.close()

    def _cards(self) -> dict[str, str]:
        # What went out, and what has not been made, holds no data.
        return {own.name: card for card, own in self._job.graph.cards.items() if own.digest}

    def __contains__(self, name: object) -> bool:
        return name in self._cards()

    def __getitem__(self, name: str) -> Any:
        cards = self._cards()
        if name not in cards:
            raise CallError(f"the job has no card “{shortly(name)}”; {instead(name, list(cards))}")
        graph = self._job.graph
        outcome = graph.node(cards[name]).outcome
        dataset = self._job.executor.dataset(graph, cards[name])
        if outcome is None:
            return wrapped(dataset)
        return wrapped(dataset, Origin("", outcome.loss, told(outcome.findings), dict(outcome.figures)))

    def __iter__(self) -> Iterator[str]:
        return iter(self._cards())

    def __len__(self) -> int:
        return len(self._cards())


@in_script_words()
def open_job(folder: str | Path) -> Job:
    """Open a job's folder to read its cards.

    Raises
    ------
    CallError
        If there is no job in it.
    """
    from vastgrid.lineage.store import JOB_FILE

    own = Path(folder)
    if not (own / JOB_FILE).exists():
        raise CallError(f"there is no job in {own}")
    return Job(own)
