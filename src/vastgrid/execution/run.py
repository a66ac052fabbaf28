"""A run without a job: the same graph and the same executor, its results in memory."""

from __future__ import annotations

import time
from collections.abc import Sequence
from pathlib import Path
from typing import Any

from vastgrid import catalog
from vastgrid.base.errors import CallError, DataError
from vastgrid.base.files import fingerprint
from vastgrid.base.findings import Finding, count
from vastgrid.base.progress import Progress
from vastgrid.base.words import instead, shortly, spaced
from vastgrid.data.dataset import Dataset
from vastgrid.data.outline import box_of
from vastgrid.data.tin import Tin
from vastgrid.declarations.conversion import Conversion, listed
from vastgrid.declarations.fileformat import Format
from vastgrid.execution.executor import Executor, StepResult, Units, words_of
from vastgrid.execution.input_options import Options, Said
from vastgrid.execution.nodes import new_card
from vastgrid.execution.run_log import Account, Step, Via, source_sentence, step_of, with_option
from vastgrid.execution.steps import Source, read_file, roles_of, turned_findings, with_known_units
from vastgrid.lineage.graph import Graph, Use
from vastgrid.lineage.store import Memory, Store
from vastgrid.params import declare

# Cards, each with the role that it plays.
_Roles = list[tuple[str, str]]


class Run:
    """A run without a window: a graph that grows step by step, and the account of it.

    Parameters
    ----------
    store : Store or None
        Where results are kept, if the run is to become a job; None for memory.

    Attributes
    ----------
    have : list of str
        Cards that the next step can use.
    unused : list of str
        Cards that no step has used.
    sent : list of str
        Cards that have gone out.
    """

    def __init__(self, account: Account, store: Store | None = None) -> None:
        self.account = account
        self.executor = Executor(store or Memory())
        self._kept = store is not None
        self.graph = Graph()
        self.have: list[str] = []
        self.unused: list[str] = []
        self.sources: list[tuple[Source, list[str]]] = []
        self.sent: list[str] = []

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
            self.read_one(path, options, said, part, override=override)
        if len(self.sources) > 1:
            for k, (source, _) in enumerate(self.sources):
                others = [each for other, _ in self.sources if other is not source for each in other.datasets]
                turned = turned_findings(source, options.of(source.path, source.format), others)
                self.account.add_findings(k, [with_option(finding, source.path) for finding in turned], first=True)
        known = {f.name for source, _ in self.sources for f in declare.fields(source.format.read_params)}
        for name in options.every:
            if name not in known:
                raise CallError(
                    f"none of these files has a reading option “{shortly(name)}”; {instead(name, sorted(known))}"
                )

    def read_one(self, path: Path, options: Options, said: Said, progress: Progress, *, override: bool) -> None:
        """Read one file with those options that its format has."""
        began = time.perf_counter()
        kind, units = catalog.recognise(path), said.of(path)
        words = options.of(path, kind)
        source = read_file(path, words, progress, units, override=override, kind=kind)
        outputs = [new_card(str(k), dataset.name) for k, dataset in enumerate(source.datasets)]
        node = self.executor.nodes.source(
            source.format,
            path,
            words,
            outputs,
            fingerprint=fingerprint(path) if self._kept else "",
            units=words_of(units),
            override=override,
        )
        made = {str(k): dataset for k, dataset in enumerate(source.datasets)}
        if outputs:
            self.graph = self.executor.kept(self.graph, node, StepResult(made, source.findings), began)
        cards = [output.card for output in outputs]
        figures = tuple(self.graph[card].figures for card in cards)
        self.account.steps.append(Step(source_sentence(source), source.findings, result=figures, source=str(path)))
        self.account.left_out += [f"{path.name}\t{line}" for line in source.left_out]
        self.sources.append((source, cards))
        self.have += cards

    # -- making

    def via(self, via: Via, progress: Progress, *, asked: bool = True) -> None:
        """Run a conversion on whatever it can use; where it can use nothing, the least that leads there is made first.

        What uses one dataset at a time is done to each. What it cannot use stays for what follows. A step that nobody asked
        for is limited by nothing.

        Raises
        ------
        CallError
            If nothing leads there.
        """
        conversion = via.conversion
        params = declare.build(conversion.params, via.params())
        takes = conversion.takes_with(params)
        kinds = listed([kind.title for kind in takes])
        limits = self._limits(via) if asked else []
        self.have = [card for card in self.have if card not in [own for own, _ in limits]]
        if conversion.single:
            for step in catalog.chain(self.datasets(self.have), takes, f"{conversion.id}, which uses {kinds}"):
                self.via(Via(step, {}), progress, asked=False)
        groups = [[*group, *limits] for group in self._groups(via, takes, kinds)]
        used = [card for group in groups for card, _ in group]
        rest = [each for each in (*self.have, *self.unused) if each not in used]
        # What keeps the kind keeps the name, so that later sentences speak of the same thing.
        made: list[str] = []
        for k, group in enumerate(groups):
            part = progress.part(k / len(groups), (k + 1) / len(groups))
            own = self.make(conversion, group, via.params(), part)
            beside = {output.name for output in conversion.outputs if output.aside}
            made += [card for card in own if self.graph[card].output.which not in beside]
        if len(groups) > 1 and not conversion.keeps:
            for card, group in zip(made[:: len(conversion.outputs)], groups, strict=True):
                first = self.graph[group[0][0]].name
                self.graph = self.graph.changed(card, name=f"{self.graph[card].name} of {first}")
        if conversion.keeps:
            self.have = made + [each for each in self.have if each not in used]
        else:
            self.have, self.unused = made, rest

    def make(
        self, conversion: Conversion, pairs: Sequence[tuple[str, str]], words: dict[str, str], progress: Progress
    ) -> list[str]:
        """Run a conversion on cards, each in its role; return the cards of what it gave."""
        return self._made(conversion, [card for card, _ in pairs], [role for _, role in pairs], words, progress)

    def _groups(self, via: Via, takes: tuple[type[Dataset], ...], kinds: str) -> list[_Roles]:
        """Return what the conversion is run on: for each run, its inputs, each with its role.

        Raises
        ------
        CallError
            If there is nothing that it can use.
        """
        conversion = via.conversion
        limiting = [each.role for each in conversion.inputs if each.limits]
        said = [pair for pair in self._said_roles(via) if pair[1] not in limiting]
        if not conversion.single or said:
            usable = [
                c for c in self.have if any(conversion.can_use(self.dataset(c), r.role) for r in conversion.inputs)
            ]
            named = [card for card, _ in said]
            cards = [*named, *(card for card in usable if card not in named)]
            if all(each.most is not None for each in conversion.inputs):
                cards = cards[: max(sum(each.most or 0 for each in conversion.inputs), len(said))]
            roles = [*(role for _, role in said), *[""] * (len(cards) - len(said))]
            if conversion.assigned(self.datasets(cards), roles) is None:
                each = self._one_by_one(conversion, cards, said)
                if each:
                    return each
            return [list(zip(cards, roles_of(conversion, self.datasets(cards), roles), strict=True))]
        usable = [
            card
            for card in self.have
            if isinstance(self.dataset(card), takes) and conversion.can_use(self.dataset(card))
        ]
        if not usable:
            titles = listed([each.title for each in self.datasets(self.have)])
            raise CallError(f"{conversion.id} uses {kinds}, not {titles}")
        if conversion.builds and not all(isinstance(each, Tin) for each in self.datasets(usable)):
            # What is there to be built comes before surfaces that are built already.
            usable = [card for card in usable if not isinstance(self.dataset(card), Tin)]
        role = conversion.main.role
        return [[(card, role) for card in usable]] if conversion.many else [[(card, role)] for card in usable]

    def _limits(self, via: Via) -> _Roles:
        """Return what limits a conversion: what was said to, and otherwise what can do nothing else in it.

        What was not said to, and lies beside everything else, limits nothing.
        """
        conversion = via.conversion
        roles = [each for each in conversion.inputs if each.limits]
        if not roles:
            return []
        found = [(card, role) for card, role in self._said_roles(via) if conversion.role(role).limits]
        makers = [each.role for each in conversion.inputs if not each.limits]
        rest = [card for card in self.have if card not in [own for own, _ in found]]
        limits = [card for card in rest if not any(conversion.can_use(self.dataset(card), role) for role in makers)]
        boxes = [box for card in rest if card not in limits and (box := box_of(self.dataset(card))) is not None]
        for card in limits:
            own = self.dataset(card)
            able = [each.role for each in roles if conversion.can_use(own, each.role)]
            box = box_of(own)
            if able and box is not None and any(box.meets(other) for other in boxes):
                found.append((card, able[0]))
        return found

    def _one_by_one(self, conversion: Conversion, cards: list[str], said: _Roles) -> list[_Roles]:
        """Return a run for each dataset that can play only the main role, with all others in theirs; none if it has room for more."""
        if conversion.main.most != 1:
            return []
        roles_said = dict(said)
        others = [
            card
            for card in cards
            if roles_said.get(card, conversion.main.role) != conversion.main.role
            or any(conversion.can_use(self.dataset(card), each.role) for each in conversion.inputs[1:])
        ]
        mains = [card for card in cards if card not in others]
        groups = []
        for card in mains:
            own = [card, *others]
            roles = conversion.assigned(
                self.datasets(own), [conversion.main.role, *(roles_said.get(each, "") for each in others)]
            )
            if roles is None:
                return []
            groups.append(list(zip(own, roles, strict=True)))
        return groups

    def _said_roles(self, via: Via) -> _Roles:
        """Return the roles that were said, a card perhaps in several; an input is named by its file or by its own name."""
        found: _Roles = []
        for role, names in via.roles().items():
            for name in names:
                own = [card for card in self.have if self.graph[card].name == name]
                own = own or [
                    c for source, cards in self.sources if name in (source.path.name, str(source.path)) for c in cards
                ]
                if not own:
                    known = [self.graph[card].name for card in self.have]
                    raise CallError(
                        f"{role}={shortly(name)}: there is nothing of that name here; {instead(name, known)}"
                    )
                found += [(card, role) for card in own]
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
        outputs = [
            new_card(each.name, self.graph[cards[roles.index(each.like)]].name if each.like else "")
            for each in conversion.outputs
        ]
        uses = [Use(card, role) for card, role in zip(cards, roles, strict=True)]
        node = self.executor.nodes.conversion(conversion, uses, words, outputs)
        self.graph = self.executor.make(self.graph.with_node(node), node.id, progress)
        own = self.graph.nodes[node.id]
        assert own.outcome is not None
        for k, output in enumerate(own.outputs):
            if not output.name:
                called = self.executor.store.get(own.outcome.results[output.which].digest).name
                title = conversion.outputs[k].title or conversion.outputs[k].name
                first = self.graph[outputs[0].card].name
                self.graph = self.graph.changed(output.card, name=called if k == 0 else f"{first}, {title}")
        self.account.steps.append(step_of(self.executor, self.graph, node.id))
        return [output.card for output in own.outputs]

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
        names = listed([self.graph[card].name for card in self.have])
        for step in catalog.chain(self.datasets(self.have), wanted, target.title):
            try:
                self.via(Via(step, {}), progress, asked=False)
            except DataError as error:
                # Nobody asked for that step: what was asked is the file.
                kinds = listed([kind.title for kind in wanted])
                raise DataError(f"{target.title} holds {kinds}, and {names} cannot become that: {error}") from error
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
                self.via(Via(step, {}), progress, asked=False)
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
        node = self.executor.planned_delivery(self.graph, kind.id, self.have, words, target, units)
        self.graph = self.executor.make(self.graph.with_node(node), node.id, progress)
        outcome = self.graph.nodes[node.id].outcome
        assert outcome is not None
        assert outcome.delivery is not None
        self.sent += [card for card in self.have if card not in self.sent]
        self.account.deliveries.append(outcome.delivery)


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
