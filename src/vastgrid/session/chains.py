"""Files in, a chain of conversions, a file out: what the command line runs, on the same graph as a job, in memory."""

from __future__ import annotations

import dataclasses
import secrets
import time
from collections.abc import Callable, Sequence
from dataclasses import dataclass, field
from pathlib import Path
from typing import Any

from vastgrid import catalog
from vastgrid.base.errors import CallError
from vastgrid.base.files import refuse_clashes
from vastgrid.base.findings import Finding, Severity, count, counted, note
from vastgrid.base.progress import Progress
from vastgrid.base.words import spaced
from vastgrid.data.dataset import Dataset
from vastgrid.data.loss import Loss
from vastgrid.declarations.conversion import Conversion, listed
from vastgrid.declarations.fileformat import Format
from vastgrid.job.lineage import Graph, Node, Output, Role, Use
from vastgrid.job.store import Memory
from vastgrid.params import declare
from vastgrid.session.deliver import Delivery
from vastgrid.session.executor import Executor, Made, Units, words_of
from vastgrid.session.inspection import inspect
from vastgrid.session.saying import Options, Said
from vastgrid.session.steps import Source, check_usable, in_one_frame, read_file, turned_findings, with_known_units


@dataclass(frozen=True, slots=True)
class Step:
    """One step that was done: its sentence, what was noticed, what it cost, and the figures of what it gave."""

    sentence: str
    findings: tuple[Finding, ...] = ()
    loss: Loss | None = None
    result: tuple[dict[str, Any], ...] = ()
    against: str = ""

    def to_json(self) -> dict[str, Any]:
        """Return plain values."""
        return {
            "sentence": self.sentence,
            "findings": [finding.to_json() for finding in self.findings],
            "loss": self.loss.to_json() if self.loss else None,
            "result": list(self.result),
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

    def add_findings(self, step: int, findings: Sequence[Finding], *, first: bool = False) -> None:
        """Add findings to a step."""
        own = self.steps[step]
        told = (*findings, *own.findings) if first else (*own.findings, *findings)
        self.steps[step] = dataclasses.replace(own, findings=told)


@dataclass(frozen=True, slots=True)
class Via:
    """A conversion asked for, with its parameters as words; a word named like a role says which inputs play it."""

    conversion: Conversion
    words: dict[str, str]

    def params(self) -> dict[str, str]:
        """Return the words that are parameters."""
        roles = {each.role for each in self.conversion.inputs}
        names = {each.name for each in declare.fields(self.conversion.params)}
        return {name: text for name, text in self.words.items() if name in names or name not in roles}

    def roles(self) -> dict[str, list[str]]:
        """Return the names of the inputs that were said to play a role."""
        params = self.params()
        said = {name: text for name, text in self.words.items() if name not in params}
        return {name: [word.strip() for word in text.split(",") if word.strip()] for name, text in said.items()}


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


class Run:
    """A run without a job: a graph that grows step by step, its results in memory, and the account of it.

    Attributes
    ----------
    have : list of str
        Cards that the next step can use.
    unused : list of str
        Cards that no step has used.
    files : dict
        The file that a card came from.
    """

    def __init__(self, account: Account) -> None:
        self.account = account
        self.executor = Executor(Memory())
        self.graph = Graph()
        self.have: list[str] = []
        self.unused: list[str] = []
        self.sources: list[tuple[Source, list[str]]] = []

    def dataset(self, card: str) -> Dataset:
        """Return a card's data."""
        return self.executor.dataset(self.graph, card)

    def datasets(self, cards: Sequence[str]) -> list[Dataset]:
        """Return the data of cards."""
        return [self.dataset(card) for card in cards]

    # -- reading

    def read(
        self, paths: Sequence[Path], options: Options, said: Said, progress: Progress, *, override: bool = False
    ) -> None:
        """Read files; options go to those whose format has them.

        Raises
        ------
        CallError
            If no file's format has an option.
        """
        said.check(paths)
        options.check(paths)
        for k, path in enumerate(paths):
            part = progress.part(k / len(paths), (k + 1) / len(paths))
            self.read_one(path, options.of(path, catalog.recognise(path)), said.of(path), part, override=override)
        if len(self.sources) > 1:
            for k, (source, _) in enumerate(self.sources):
                others = [each for other, _ in self.sources if other is not source for each in other.datasets]
                turned = turned_findings(source, options.of(source.path, source.format), others)
                self.account.add_findings(k, [_with_option(finding, source.path) for finding in turned], first=True)
        known = {f.name for source, _ in self.sources for f in declare.fields(source.format.read_params)}
        for name in options.every:
            if name not in known:
                raise CallError(
                    f"none of these files has a reading option “{name}”; there are {', '.join(sorted(known)) or 'none'}"
                )

    def read_one(self, path: Path, words: dict[str, str], units: Units, progress: Progress, *, override: bool) -> None:
        """Read one file with options that its format has."""
        began = time.perf_counter()
        source = read_file(path, words, progress, units, override=override)
        outputs = tuple(Output(secrets.token_hex(4), str(k), dataset.name) for k, dataset in enumerate(source.datasets))
        node = Node(
            id=secrets.token_hex(4),
            role=Role.SOURCE,
            operation=source.format.id,
            words=words,
            outputs=outputs,
            path=str(path),
            units=words_of(units),
            override=override,
        )
        made = {str(k): dataset for k, dataset in enumerate(source.datasets)}
        if outputs:
            self.graph = self.executor.kept(self.graph, node, Made(made, source.findings), began)
        cards = [output.card for output in outputs]
        figures = tuple(self.graph[card].figures for card in cards)
        self.account.steps.append(Step(source_sentence(source), source.findings, result=figures))
        self.account.left_out += [f"{path.name}\t{line}" for line in source.left_out]
        self.sources.append((source, cards))
        self.have += cards

    # -- making

    def via(self, via: Via, progress: Progress) -> None:
        """Run a conversion on whatever it can use; where it can use nothing, the least that leads there is made first.

        What uses one dataset at a time is done to each. What it cannot use stays for what follows.

        Raises
        ------
        CallError
            If nothing leads there.
        """
        conversion = via.conversion
        params = declare.build(conversion.params, via.params())
        takes = conversion.takes_with(params)
        kinds = listed([kind.title for kind in takes])
        if len(conversion.inputs) == 1:
            for step in catalog.chain(self.datasets(self.have), takes, f"{conversion.id}, which uses {kinds}"):
                self.via(Via(step, {}), progress)
        groups = self._groups(via, takes, kinds)
        used = [card for group in groups for card in group]
        rest = [each for each in (*self.have, *self.unused) if each not in used]
        # What keeps the kind keeps the name, so that later sentences speak of the same thing.
        made: list[str] = []
        for k, group in enumerate(groups):
            part = progress.part(k / len(groups), (k + 1) / len(groups))
            names = [name for name, _ in group.items()]
            made += self._made(conversion, names, [group[name] for name in names], via.params(), part)
        if len(groups) > 1 and not conversion.keeps:
            for card, group in zip(made, groups, strict=False):
                first = self.graph[next(iter(group))].name
                self.graph = self.graph.changed(card, name=f"{self.graph[card].name} of {first}")
        if conversion.keeps:
            self.have = made + [each for each in self.have if each not in used]
        else:
            self.have, self.unused = made, rest

    def _groups(self, via: Via, takes: tuple[type[Dataset], ...], kinds: str) -> list[dict[str, str]]:
        """Return what the conversion is run on: for each run, the roles of its inputs by card.

        Raises
        ------
        CallError
            If there is nothing that it can use.
        """
        conversion = via.conversion
        said = self._said_roles(via)
        if len(conversion.inputs) > 1 or said:
            usable = [
                c for c in self.have if any(conversion.can_use(self.dataset(c), r.role) for r in conversion.inputs)
            ]
            cards = [*said, *(card for card in usable if card not in said)]
            if all(each.most is not None for each in conversion.inputs):
                cards = cards[: max(sum(each.most or 0 for each in conversion.inputs), len(said))]
            roles = [said.get(card, "") for card in cards]
            given = check_usable(conversion, self.datasets(cards), roles)
            assert given is not None
            found = conversion.assigned(self.datasets(cards), roles) or []
            return [dict(zip(cards, found, strict=True))]
        usable = [
            card
            for card in self.have
            if isinstance(self.dataset(card), takes) and conversion.can_use(self.dataset(card))
        ]
        if not usable:
            titles = listed([each.title for each in self.datasets(self.have)])
            raise CallError(f"{conversion.id} uses {kinds}; it cannot use this {titles}")
        role = conversion.main.role
        return [dict.fromkeys(usable, role)] if conversion.many else [{card: role} for card in usable]

    def _said_roles(self, via: Via) -> dict[str, str]:
        """Return the roles that were said, by card; an input is named by its file or by its own name."""
        found: dict[str, str] = {}
        for role, names in via.roles().items():
            for name in names:
                own = [card for card in self.have if self.graph[card].name == name]
                own = own or [
                    c for source, cards in self.sources if name in (source.path.name, str(source.path)) for c in cards
                ]
                if not own:
                    known = listed([self.graph[card].name for card in self.have])
                    raise CallError(f"{role}={name}: there is nothing of that name here; there are {known}")
                found |= dict.fromkeys(own, role)
        return found

    def _made(
        self,
        conversion: Conversion,
        cards: Sequence[str],
        roles: Sequence[str],
        words: dict[str, str],
        progress: Progress,
    ) -> list[str]:
        self._foretell(conversion, cards, words)
        outputs = tuple(
            Output(secrets.token_hex(4), each.name, self.graph[cards[0]].name if each.like else "")
            for each in conversion.outputs
        )
        node = Node(
            id=secrets.token_hex(4),
            role=Role.MADE,
            operation=conversion.id,
            version=conversion.version,
            words=words,
            uses=tuple(Use(card, role) for card, role in zip(cards, roles, strict=True)),
            outputs=outputs,
        )
        self.graph = self.executor.make(self.graph.with_node(node), node.id, progress)
        own = self.graph.nodes[node.id]
        assert own.outcome is not None
        for k, output in enumerate(own.outputs):
            if not output.name:
                called = self.executor.store.get(own.outcome.results[output.which].digest).name
                title = conversion.outputs[k].title or conversion.outputs[k].name
                first = self.graph[outputs[0].card].name
                self.graph = self.graph.changed(output.card, name=called if k == 0 else f"{first}, {title}")
        self.account.steps.append(self._step(self.graph.nodes[node.id]))
        return [output.card for output in own.outputs]

    def _step(self, node: Node) -> Step:
        """Return what a step did, from the graph."""
        conversion = catalog.conversion_named(node.operation)
        assert node.outcome is not None
        params = declare.build(conversion.params, self.executor.store.payloads.full(node.outcome.settled))
        names = [(use.role, self.graph[use.card].name) for use in node.uses]
        role = conversion.loss_against or conversion.main.role
        return Step(
            declare.plain(conversion.sentence(params, names)),
            tuple(Finding.from_json(values) for values in node.outcome.findings),
            Loss.from_json(node.outcome.loss) if node.outcome.loss else None,
            tuple({**card.figures, "name": card.name} for card in self.graph.nodes[node.id].cards()),
            listed([name for own, name in names if own == role]),
        )

    def _foretell(self, conversion: Conversion, cards: Sequence[str], words: dict[str, str]) -> None:
        """Say before work that will take minutes how much it is."""
        group = self.datasets(cards)
        known, said = with_known_units(group, declare.build(conversion.params, words), [])
        size = conversion.effort(known, said)
        if size > _MANY:
            minutes = max(round(size / _EACH_MINUTE), 1)
            self.account.tell(
                f"{conversion.title} of {listed([each.name for each in group])} will have about {spaced(size)} vertices; "
                f"making, writing and reading them back may take {count(minutes, 'minute')} (Ctrl+C stops it)"
            )

    # -- delivering

    def to_format(self, target: Format, params: Any, progress: Progress) -> None:
        """Make what the target can hold of what it cannot, by the least that leads there; all else goes as it is."""
        carries = target.carries_with(params)
        wanted = carries.kinds
        for step in catalog.chain(self.datasets(self.have), wanted, target.title):
            self.via(Via(step, {}), progress)
        if not carries.several:
            self.unused += [card for card in self.have if not isinstance(self.dataset(card), wanted)]
            self.have = [card for card in self.have if isinstance(self.dataset(card), wanted)]
            return
        whole, out = self.have, []
        for card in whole:
            if isinstance(self.dataset(card), wanted):
                out.append(card)
                continue
            try:
                steps = catalog.chain([self.dataset(card)], wanted, target.title)
            except CallError:
                # The delivery says that it cannot hold it.
                out.append(card)
                continue
            self.have, unused = [card], self.unused
            name = self.graph[card].name
            for step in steps:
                self.via(Via(step, {}), progress)
            self.unused = unused
            for made in self.have:
                self.graph = self.graph.changed(made, name=name)
            out += self.have
        self.have = out

    def refuse_unused(self, target: Format, params: Any) -> None:
        """Refuse a call that names a file of which nothing would be used; say what else is left out.

        Raises
        ------
        CallError
            With the file.
        """
        wanted = target.carries_with(params).kinds
        gone = [*self.unused, *(card for card in self.have if not isinstance(self.dataset(card), wanted))]
        for source, cards in self.sources:
            if len(self.sources) > 1 and all(card in gone for card in cards):
                kinds = listed(list(dict.fromkeys(each.title for each in source.datasets)))
                raise CallError(
                    f"nothing of {source.path.name} ({kinds}) would be used: no step uses it and {target.title} would not "
                    "hold it; leave it out of the call"
                )
        came_in = {card for _, cards in self.sources for card in cards}
        told = [
            Finding("not-used", f"{each.name} ({each.title}) is not used: no step asked for it.")
            for each in self.datasets([card for card in self.unused if card in came_in])
        ]
        if told:
            self.account.add_findings(-1, told)

    def deliver(self, kind: Format, target: Path, words: dict[str, str], units: Units, progress: Progress) -> None:
        """Write what there is, read it back and compare."""
        node = Node(
            id=secrets.token_hex(4),
            role=Role.DELIVERY,
            operation=kind.id,
            words=words,
            uses=tuple(Use(card) for card in self.have),
            path=str(target),
            into=words_of(units),
        )
        self.graph = self.executor.make(self.graph.with_node(node), node.id, progress)
        outcome = self.graph.nodes[node.id].outcome
        assert outcome is not None
        assert outcome.delivery is not None
        self.account.delivery = Delivery.from_json(outcome.delivery)


# From so many vertices on it is said beforehand; so many are made, written and read back in a minute (measured).
_MANY = 2_500_000
_EACH_MINUTE = 2_500_000


def read_sources(
    paths: Sequence[Path],
    options: Options,
    said: Said,
    account: Account,
    progress: Progress,
    *,
    override: bool = False,
) -> list[Source]:
    """Read files; see `Run.read`."""
    run = Run(account)
    run.read(paths, options, said, progress, override=override)
    return [source for source, _ in run.sources]


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
        declare.build(via.conversion.params, via.params())
    run = Run(account)
    run.read(paths, read_words, from_units, progress.part(0.0, 0.3), override=override_units)
    read = [each for source, _ in run.sources for each in source.datasets]
    run.have = _chosen(run, only)
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
    return account


def _chosen(run: Run, only: Sequence[str]) -> list[str]:
    names = [run.graph[card].name for card in run.have]
    for name in only:
        if name not in names:
            raise CallError(f"--only {name}: there is no such dataset; there are {listed(names)}")
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


def run_compare(
    first: Path, second: Path, options: Options, said: Said, progress: Progress, *, override: bool = False
) -> tuple[Loss, list[Finding]]:
    """Compare two files as surfaces: how far the second lies above the first, in the first's units.

    Raises
    ------
    CallError
        If nothing in a file can become a surface.
    """
    said.check([first, second])
    options.check([first, second])
    run = Run(Account())
    surfaces: list[str] = []
    findings: list[Finding] = []
    for k, path in enumerate((first, second)):
        run.have = []
        words = options.of(path, catalog.recognise(path))
        run.read_one(path, words, said.of(path), progress.part(0.3 * k, 0.3 * k + 0.2), override=override)
        surfaces.append(_surface(run, path, progress.part(0.3 * k + 0.2, 0.3 * k + 0.3), findings))
    run.have = surfaces
    run.via(Via(catalog.conversion_named("compare"), {}), progress.part(0.6, 1.0))
    last = run.account.steps[-1]
    assert last.loss is not None
    return last.loss, [*findings, *last.findings]


def _surface(run: Run, path: Path, progress: Progress, findings: list[Finding]) -> str:
    """Return the card of a file's one surface: its own, or the one that its points and lines give."""
    compare = catalog.conversion_named("compare")
    findings += run.account.steps[-1].findings
    surfaces = [card for card in run.have if compare.can_use(run.dataset(card))]
    if len(surfaces) > 1:
        name = run.graph[surfaces[0]].name
        text = f"{path.name} holds {len(surfaces)} surfaces; {name} was compared."
        findings.append(Finding("several-surfaces", text))
    if not surfaces:
        run.via(Via(catalog.builder(), {}), progress)
        made = run.account.steps[-1]
        findings.append(Finding("made-a-surface", f"{path.name} holds no surface; compared was: {made.sentence}"))
        findings += made.findings
        surfaces = run.have
        run.graph = run.graph.changed(surfaces[0], name=path.stem)
    return surfaces[0]
