"""What the checks find in a job's data, and which of it was accepted; looked for once for the same data and thresholds."""

from __future__ import annotations

import hashlib
import json
from collections.abc import Callable, Sequence
from dataclasses import dataclass
from typing import Any

from vastgrid import catalog
from vastgrid.base.errors import Cancelled, FormatError
from vastgrid.base.findings import Finding, Severity, note
from vastgrid.base.progress import Progress, Silent
from vastgrid.data.dataset import Dataset
from vastgrid.declarations.check import Check
from vastgrid.lineage.graph import Graph, Node, Role
from vastgrid.params import declare


@dataclass(frozen=True, slots=True)
class Noticed:
    """A finding with its card, and what was said when it was accepted.

    Attributes
    ----------
    node : str
        Card it belongs to.
    finding : Finding
        What was noticed.
    accepted : str or None
        The note with which somebody accepted it; None while it is open.
    """

    node: str
    finding: Finding
    accepted: str | None = None

    @property
    def open(self) -> bool:
        """Whether it is a warning that nobody has accepted."""
        return self.accepted is None and self.finding.severity is not Severity.NOTE


def inspect(
    datasets: Sequence[Dataset],
    progress: Progress,
    words: dict[str, dict[str, str]] | None = None,
) -> list[list[Finding]]:
    """Run every check on datasets that lie beside each other; return the findings of each, warnings first.

    Parameters
    ----------
    words : dict
        Thresholds in words, by check.
    """
    found: list[list[Finding]] = [[] for _ in datasets]
    for k, each in enumerate(datasets):
        for check in catalog.CHECKS:
            if isinstance(each, check.takes) and each.has_heights:
                params = declare.build(check.params, (words or {}).get(check.id, {}))
                others = [other for other in datasets if other is not each and other.has_heights]
                found[k] += _run(check, each, others if check.around else [], params, Silent())
        found[k].sort(key=lambda one: one.severity is Severity.NOTE)
        progress.report((k + 1) / len(datasets), f"looking at {each.name}")
    return found


def _run(check: Check, data: Dataset, others: Sequence[Dataset], params: Any, progress: Progress) -> list[Finding]:
    """Run a check; one that fails says so, and the others still look."""
    try:
        return check.run(data, others, params, progress)
    except Cancelled:
        raise
    except Exception:  # noqa: BLE001 - data may be strange in ways that no check foresaw
        return [note(check.id, f"“{check.title}” could not be looked for in {data.name}.")]


class Inspection:
    """The findings of a job.

    Parameters
    ----------
    settings : callable
        Gives the job's settings, where thresholds, findings and acceptances are kept.
    """

    def __init__(self, settings: Callable[[], dict[str, Any]]) -> None:
        self._settings = settings
        self._keys: dict[tuple[Any, ...], str] = {}
        self._beside_in: Graph | None = None
        self._beside_of: dict[str, tuple[tuple[str, str], ...]] = {}

    # -- thresholds

    def words(self, check: Check) -> dict[str, str]:
        """Return a check's thresholds in words."""
        own: dict[str, str] = self._settings().get("thresholds", {}).get(check.id, {})
        return {**declare.to_words(check.params()), **own}

    def set_words(self, check: Check, words: dict[str, str]) -> None:
        """Change a check's thresholds.

        Raises
        ------
        ParamError
            If a value cannot be.
        """
        made = declare.to_words(declare.build(check.params, words))
        self._settings().setdefault("thresholds", {})[check.id] = made

    # -- looking

    def due(self, graph: Graph) -> list[tuple[str, Check]]:
        """Return what has not been looked for yet, as cards and checks."""
        known = self._settings().get("noticed", {})
        found = []
        for node in _looked_at(graph):
            for check in _checks_for(graph, node):
                if self._key(graph, node, check) not in known:
                    found.append((node, check))
        return found

    def look(
        self, graph: Graph, get: Callable[[str], Dataset | None], progress: Progress
    ) -> dict[str, list[dict[str, Any]]]:
        """Look for what is due; return findings by key for `take_in`. Slow: for a worker thread."""
        made: dict[str, list[dict[str, Any]]] = {}
        due = self.due(graph)
        loaded: dict[str, Dataset | None] = {}

        def dataset(node: str) -> Dataset | None:
            if node not in loaded:
                try:
                    loaded[node] = get(node)
                except FormatError:
                    loaded[node] = None
            return loaded[node]

        for k, (node, check) in enumerate(due):
            own = dataset(node)
            part = progress.part(k / len(due), (k + 1) / len(due))
            part.report(0.0, f"looking at {graph[node].name}")
            if own is None:
                continue
            others = [dataset(other) for other in _beside(graph, node)] if check.around else []
            params = declare.build(check.params, self.words(check))
            findings = _run(check, own, [other for other in others if other is not None], params, part)
            made[self._key(graph, node, check)] = [finding.to_json() for finding in findings]
        progress.report(1.0)
        return made

    def take_in(self, graph: Graph, made: dict[str, list[dict[str, Any]]]) -> None:
        """Keep findings; what belongs to no card any more is forgotten."""
        settings = self._settings()
        wanted = {self._key(graph, node, check) for node in _looked_at(graph) for check in _checks_for(graph, node)}
        known = {**settings.get("noticed", {}), **made}
        settings["noticed"] = {key: values for key, values in known.items() if key in wanted}

    def _key(self, graph: Graph, node: str, check: Check) -> str:
        words = self._settings().get("thresholds", {}).get(check.id, {})
        what: tuple[Any, ...] = (
            check.id,
            check.version,
            tuple(sorted(words.items())),
            graph[node].digest,
            graph[node].name,
        )
        if check.around:
            what = (*what, self._neighbours(graph, node))
        if what not in self._keys:
            if len(self._keys) > 20_000:
                self._keys.clear()
            text = json.dumps([*what[:2], self.words(check), *what[3:]])
            self._keys[what] = hashlib.blake2b(text.encode(), digest_size=12).hexdigest()
        return self._keys[what]

    def _neighbours(self, graph: Graph, node: str) -> tuple[tuple[str, str], ...]:
        """Return names and digests of what lies beside a card; asked for many times between two changes."""
        if self._beside_in is not graph:
            self._beside_in, self._beside_of = graph, {}
        if node not in self._beside_of:
            self._beside_of[node] = tuple(
                sorted((graph[other].name, _digest(graph, other)) for other in _beside(graph, node))
            )
        return self._beside_of[node]

    # -- findings

    def findings(self, graph: Graph, node: str) -> list[Finding]:
        """Return what the checks found on a card; nothing where they have not looked yet."""
        known = self._settings().get("noticed", {})
        found: list[Finding] = []
        if node in _looked_at(graph):
            for check in _checks_for(graph, node):
                found += [Finding.from_json(values) for values in known.get(self._key(graph, node, check), [])]
        return sorted(found, key=lambda finding: finding.severity is Severity.NOTE)

    def accepted(self, node: str, finding: Finding) -> str | None:
        """Return the note with which a finding was accepted, or None."""
        note: str | None = self._settings().get("accepted", {}).get(_name(node, finding))
        return note

    def accept(self, node: str, finding: Finding, note: str) -> None:
        """Accept a finding; the note goes into reports."""
        self._settings().setdefault("accepted", {})[_name(node, finding)] = " ".join(note.split())

    def reopen(self, node: str, finding: Finding) -> None:
        """Take an acceptance back."""
        self._settings().get("accepted", {}).pop(_name(node, finding), None)


def _name(node: str, finding: Finding) -> str:
    """Tell a finding apart from all others, also after the data changed elsewhere."""
    place = "" if finding.at is None else f"{finding.at[0]:.2f} {finding.at[1]:.2f}"
    text = finding.text if finding.at is None else ""
    return hashlib.blake2b(f"{node}|{finding.code}|{place}|{text}".encode(), digest_size=10).hexdigest()


def _looked_at(graph: Graph) -> list[str]:
    """Return the cards that have data; of one that is edited by hand the edited one speaks."""
    edited = {node.inputs[0] for node in graph.nodes.values() if by_hand(node) and graph[node.outputs[0].card].digest}
    return [card.id for card in graph.cards.values() if card.digest and card.id not in edited]


def by_hand(node: Node) -> bool:
    """Return whether a step is a log of what was done by hand to its input."""
    return node.role is Role.MADE and bool(catalog.grows(node.operation))


def _digest(graph: Graph, node: str) -> str:
    return graph[node].digest


def _checks_for(graph: Graph, node: str) -> list[Check]:
    kind = graph[node].kind
    return [check for check in catalog.CHECKS if kind in {taken.kind for taken in check.takes}]


def _beside(graph: Graph, node: str) -> list[str]:
    """Return the cards whose data speaks for or against a card's: not those it is made from, nor those made from it."""
    kin = {*graph.after(node), *graph.before(node)}
    return [other for other in _looked_at(graph) if other not in kin]
