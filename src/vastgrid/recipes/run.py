"""Running a recipe on files: one run, or many of which one may fail."""

from __future__ import annotations

import dataclasses
import time
from collections.abc import Callable, Mapping, Sequence
from dataclasses import dataclass, field
from pathlib import Path
from typing import Any

from vastgrid import catalog
from vastgrid.base.errors import CallError, DataError, VastGridError
from vastgrid.base.files import fingerprint, make_folder, refuse_clashes, refuse_present, write_text
from vastgrid.base.findings import Finding, note
from vastgrid.base.progress import Progress
from vastgrid.base.words import instead, shortly
from vastgrid.data.dataset import Dataset
from vastgrid.data.kinds import narrowed
from vastgrid.data.loss import Loss
from vastgrid.data.table import Table
from vastgrid.declarations.conversion import listed
from vastgrid.declarations.fileformat import Format
from vastgrid.execution.executor import Executor, Keeping, StepResult, units_of
from vastgrid.execution.nodes import new_card
from vastgrid.execution.run_log import Step, step_of
from vastgrid.execution.steps import roles_of
from vastgrid.lineage.delivered import Delivery
from vastgrid.lineage.graph import Graph, Use
from vastgrid.lineage.store import Memory
from vastgrid.recipes.recipe import Recipe, RecipeStep, Sent, Slot, slug

# What files are given for slots, by the slots' names.
Files = Mapping[str, Sequence[Path]]


@dataclass(slots=True)
class RunAccount:
    """What one run of a recipe did.

    Attributes
    ----------
    files : dict
        What was given for each slot.
    folder : Path
        Where its files went.
    steps : list of Step
    deliveries : list of Delivery
    tables : list of Path
        Tables that were written.
    digests : dict
        Digest of the arrays of everything that was made, by its name: the same on every machine.
    error : str
        Why it ended early; empty where it did not.
    seconds : float
    graph : Graph or None
        What was made; None where it ended early.
    """

    files: dict[str, tuple[Path, ...]]
    folder: Path
    steps: list[Step] = field(default_factory=list)
    deliveries: list[Delivery] = field(default_factory=list)
    tables: list[Path] = field(default_factory=list)
    digests: dict[str, str] = field(default_factory=dict)
    error: str = ""
    seconds: float = 0.0
    graph: Graph | None = None

    @property
    def good(self) -> bool:
        """Whether everything was made, and agreed when it was read back."""
        return not self.error and all(each.good for each in self.deliveries)

    def findings(self) -> list[Finding]:
        """Return all findings in order."""
        found = [finding for step in self.steps for finding in step.findings]
        return found + [finding for each in self.deliveries for finding in each.findings]

    def worst(self) -> Loss | None:
        """Return the largest loss of all its steps."""
        return max((step.loss for step in self.steps if step.loss), key=lambda loss: loss.largest, default=None)

    def to_json(self) -> dict[str, Any]:
        """Return plain values."""
        return {
            "files": {slot: [str(path) for path in paths] for slot, paths in self.files.items()},
            "folder": str(self.folder),
            "good": self.good,
            "error": self.error or None,
            "steps": [step.to_json() for step in self.steps],
            "deliveries": [each.to_json() for each in self.deliveries],
            "tables": [str(path) for path in self.tables],
            "digests": self.digests,
            "seconds": self.seconds,
        }


def runs_of(recipe: Recipe, given: Sequence[tuple[str, Path, bool]], into: Path) -> list[tuple[Files, Path]]:
    """Return the runs that files are meant for, each with its folder.

    A slot that several files are given for is run once for each; the others' file goes into every run. Where several slots
    have several, they have to be equally many, and the first goes with the first.

    Parameters
    ----------
    given : sequence of (slot, path, further)
        A further file joins the one before it in the same run.

    Raises
    ------
    CallError
        If a slot is not known or has no file, or the numbers do not fit.
    """
    groups: dict[str, list[list[Path]]] = {}
    for name, path, further in given:
        if recipe.slot(name) is None:
            raise CallError(
                f"the recipe has no slot “{shortly(name)}”; {instead(name, (slot.name for slot in recipe.slots))}"
            )
        own = groups.setdefault(name, [])
        if further:
            if not own:
                raise CallError(f"{name}+={path}: a further file needs one before it: {name}=FILE")
            own[-1].append(path)
        else:
            own.append([path])
    missing = [each for each in recipe.slots if each.name not in groups]
    if missing:
        wanted = "; ".join(f"{each.name}=FILE ({_may_be(each)})" for each in missing)
        raise CallError(f"the recipe needs a file for {wanted}")
    number = max(len(group) for group in groups.values())
    odd = {name: len(own) for name, own in groups.items() if len(own) not in (1, number)}
    if odd:
        told = listed([f"{name} has {have}" for name, have in odd.items()])
        raise CallError(
            f"{told} files, another slot has {number}: each run needs one of each (+= adds a file to a run)"
        )
    files = [{name: tuple(own[k if len(own) > 1 else 0]) for name, own in groups.items()} for k in range(number)]
    return list(zip(files, run_folders(files, into), strict=True))


def run_folders(runs: Sequence[Files], into: Path) -> list[Path]:
    """Return the folder of each run: one of its own where there are several, named after the first file that differs."""
    if len(runs) == 1:
        return [into]
    slots = [slot for slot in runs[0] if len({str(files[slot][0]) for files in runs}) > 1] or list(runs[0])
    firsts = [files[slots[0]][0] for files in runs]
    stems = [path.stem for path in firsts]
    # One file name in several folders: these tell them apart.
    alike = [stems.count(stem) > 1 for stem in stems]
    folders = [path.resolve().parent.name for path in firsts]
    names = [
        (folder if all(alike) else f"{folder} {stem}") if twice else stem
        for stem, folder, twice in zip(stems, folders, alike, strict=True)
    ]
    taken: list[str] = []
    for name in names:
        taken.append(slug(name, taken))
    return [into / name for name in taken]


def _slots(recipe: Recipe) -> str:
    return ", ".join(f"{each.name} ({_may_be(each)})" for each in recipe.slots)


def _may_be(slot: Slot) -> str:
    kinds = listed(list(dict.fromkeys(kind for _, kind in slot.cards)))
    return f"{kinds}, such as {catalog.format_named(slot.format).title}"


def run_many(
    recipe: Recipe,
    runs: Sequence[tuple[Files, Path]],
    progress: Progress,
    *,
    replace: bool = False,
    store: Keeping | None = None,
    done: Callable[[int, RunAccount], None] = lambda k, account: None,
) -> list[RunAccount]:
    """Run a recipe on one set of files after another; one that fails does not stop the others.

    Parameters
    ----------
    store : Keeping or None
        Where results are kept; None for memory that each run has for itself.
    """
    accounts = []
    for k, (files, folder) in enumerate(runs):
        part = progress.part(k / len(runs), (k + 1) / len(runs))
        account = RunAccount({name: tuple(paths) for name, paths in files.items()}, folder)
        try:
            account.graph = run_recipe(recipe, files, folder, part, account, store=store, replace=replace)
        except VastGridError as error:
            account.error = str(error)
        accounts.append(account)
        done(k, account)
    return accounts


def run_recipe(
    recipe: Recipe,
    files: Files,
    folder: Path | None,
    progress: Progress,
    account: RunAccount,
    *,
    store: Keeping | None = None,
    replace: bool = False,
) -> Graph:
    """Run a recipe; return the graph of what it made.

    Parameters
    ----------
    files : mapping
        At least one file for each slot.
    folder : Path or None
        Where files go; None where nothing is to be written.
    account : RunAccount
        What is done is added to it.
    store : Keeping or None
        Where results are kept; None for memory.

    Raises
    ------
    CallError
        If a file of such a name is there already, before anything is read; or a step is not known here.
    VastGridError
        Whatever went wrong.
    """
    began = time.perf_counter()
    run = _Run(recipe, Executor(store or Memory()), account)
    known = {each.file: _target(each.file, each.format) for each in recipe.sent}
    tables = _tables(recipe)
    if folder is not None:
        targets = {name: folder / name for name in (*known, *tables.values())}
        refuse_clashes([path for paths in files.values() for path in paths], targets)
        if not replace:
            refuse_present(targets.values(), folder)
    try:
        whole = len(recipe.slots) + 3 * len(recipe.steps) + 2 * len(recipe.sent)
        at = 0
        for slot in recipe.slots:
            run.read(slot, files[slot.name], progress.part(at / whole, (at + 1) / whole))
            at += 1
        for made in recipe.steps:
            run.make(made, progress.part(at / whole, (at + 3) / whole))
            at += 3
        if folder is not None:
            make_folder(folder)
            for sent in recipe.sent:
                run.send(sent, known[sent.file], folder / sent.file, progress.part(at / whole, (at + 2) / whole))
                at += 2
            run.write_tables({reference: folder / name for reference, name in tables.items()})
    finally:
        account.seconds = time.perf_counter() - began
    return run.graph


def _target(file: str, name: str) -> Format:
    kind = catalog.format_named(name)
    if kind.write is None:
        raise CallError(f"{file}: {kind.title} cannot be written")
    return kind


def _tables(recipe: Recipe) -> dict[str, str]:
    """Return the files that tables go to, by reference: what answers goes out without being told.

    Raises
    ------
    CallError
        If a step is not known here.
    """
    found: dict[str, str] = {}
    taken = [Path(each.file).stem for each in recipe.sent]
    for step in recipe.steps:
        for output in catalog.conversion_named(step.operation).outputs:
            if output.kind is Table:
                name = slug(step.cards.get(output.name) or f"{step.name} {output.name}", taken)
                taken.append(name)
                found[f"{step.name}/{output.name}"] = f"{name}.csv"
    return found


class _Run:
    """A graph that grows by a recipe."""

    def __init__(self, recipe: Recipe, executor: Executor, account: RunAccount) -> None:
        self.recipe = recipe
        self.executor = executor
        self.account = account
        self.graph = Graph()
        # Cards by reference: one for each file of a slot.
        self.cards: dict[str, list[str]] = {}

    def read(self, slot: Slot, paths: Sequence[Path], progress: Progress) -> None:
        """Read the files of a slot."""
        for k, path in enumerate(paths):
            self._read(slot, path, progress.part(k / len(paths), (k + 1) / len(paths)), alone=len(paths) == 1)

    def _read(self, slot: Slot, path: Path, progress: Progress, *, alone: bool) -> None:
        began = time.perf_counter()
        kind = catalog.recognise(path)
        same = kind.id == slot.format
        findings: list[Finding] = []
        if not same:
            text = f"{path.name} is {kind.title}, where {catalog.format_named(slot.format).title} was read before"
            options = ", ".join(f"{name}={word}" for name, word in slot.words.items())
            text += f"; the reading options of that ({options}) do not fit it." if options else "."
            findings.append(Finding("other-format", text) if options else note("other-format", text))
        node = self.executor.nodes.source(
            kind,
            path,
            dict(slot.words) if same else {},
            fingerprint=fingerprint(path),
            units=slot.units,
            into=slot.into,
            override=slot.override,
        )
        made = self.executor.read(node, progress)
        outputs, datasets = [], {}
        for (name, _), which in zip(slot.cards, self._matched(slot, made, path), strict=True):
            called = name if alone else made.datasets[which].name or path.stem
            output = new_card(which, self.graph.free_name(called))
            outputs.append(output)
            datasets[which] = made.datasets[which].renamed(output.name)
            reference = slot.name if len(outputs) == 1 else f"{slot.name}/{name}"
            self.cards.setdefault(reference, []).append(output.card)
            # The first can be called by its own name too.
            if len(outputs) == 1:
                self.cards.setdefault(f"{slot.name}/{name}", []).append(output.card)
        node = dataclasses.replace(node, id=outputs[0].card, outputs=tuple(outputs))
        told = (*findings, *made.findings)
        self.graph = self.executor.kept(
            self.graph, node, dataclasses.replace(made, datasets=datasets, findings=told), began
        )
        figures = tuple({**card.figures, "name": card.name} for card in self.graph.nodes[node.id].cards())
        self.account.steps.append(
            Step(f"{slot.name}: {path.name} read as {kind.title}.", told, result=figures, source=str(path))
        )
        self.account.digests |= {each.name: each.content for each in datasets.values()}

    def _matched(self, slot: Slot, made: StepResult, path: Path) -> list[str]:
        """Return which datasets of a file stand for those of the slot: by name and kind, otherwise by kind in order.

        Raises
        ------
        DataError
            If one is not there.
        """
        left = dict(made.datasets)
        found: list[str] = []
        for name, kind in slot.cards:
            fits = [key for key, own in left.items() if own.kind == kind]
            named = [key for key in fits if left[key].name == name]
            if not fits:
                held = listed([f"{dataset.name} ({dataset.title})" for dataset in made.datasets.values()])
                raise DataError(f"{path.name} holds no {kind} for the slot {slot.name}; it holds {held}")
            key = (named or fits)[0]
            found.append(key)
            left.pop(key)
        return found

    def make(self, step: RecipeStep, progress: Progress) -> None:
        """Run one step."""
        conversion = catalog.conversion_named(step.operation)
        uses = [Use(card, role) for role, reference in step.uses for card in self.cards[reference]]
        datasets: list[Dataset] = [self.executor.dataset(self.graph, use.card) for use in uses]
        try:
            roles_of(conversion, datasets, [use.role for use in uses])
        except CallError as error:
            raise CallError(f"step {step.name}: {error}") from error
        outputs = [
            new_card(each.name, self.graph.free_name(step.cards.get(each.name) or step.name))
            for each in conversion.outputs
        ]
        node = self.executor.nodes.conversion(conversion, uses, dict(step.words), outputs)
        self.graph = self.executor.make(self.graph.with_node(node), node.id, progress)
        node = self.graph.nodes[node.id]
        for k, output in enumerate(node.outputs):
            self.cards[f"{step.name}/{output.which}"] = [output.card]
            if k == 0:
                self.cards[step.name] = [output.card]
            self.account.digests[output.name] = self.executor.dataset(self.graph, output.card).content
        done = step_of(self.executor, self.graph, node.id)
        if step.version != conversion.version:
            text = f"{conversion.title} is now done in its version {conversion.version}; the recipe was made with {step.version}."
            done = dataclasses.replace(done, findings=(*done.findings, note("other-version", text)))
        self.account.steps.append(done)

    def send(self, sent: Sent, kind: Format, target: Path, progress: Progress) -> None:
        """Write one file."""
        cards = [card for reference in sent.uses for card in self.cards[reference]]
        units = units_of(sent.units)
        node = self.executor.planned_delivery(self.graph, kind.id, cards, dict(sent.words), target, units)
        self.graph = self.executor.make(self.graph.with_node(node), node.id, progress)
        outcome = self.graph.nodes[node.id].outcome
        assert outcome is not None
        assert outcome.delivery is not None
        self.account.deliveries.append(outcome.delivery)

    def write_tables(self, targets: Mapping[str, Path]) -> None:
        """Write the tables that were made as comma-separated text."""
        for reference, target in targets.items():
            (card,) = self.cards[reference]
            write_text(target, narrowed(self.executor.dataset(self.graph, card), Table).as_csv())
            self.account.tables.append(target)
