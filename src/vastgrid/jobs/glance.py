"""A job at a glance: what came in, what is out of date, what is open, what went out, and what is worth doing next."""

from __future__ import annotations

from collections.abc import Iterator, Mapping
from dataclasses import dataclass
from itertools import islice
from typing import Literal

from vastgrid import catalog
from vastgrid.base.findings import count
from vastgrid.data.kinds import kind_named
from vastgrid.declarations.conversion import listed
from vastgrid.jobs.session import Session
from vastgrid.lineage.graph import Card, Role, State

# So many things to do are proposed.
MOST = 3
# A job of ground usually has these made from it.
_USUAL = ("contours", "grid")


@dataclass(frozen=True)
class Suggestion:
    """Something that is worth doing next.

    Attributes
    ----------
    text : str
        What a button says.
    action : str
        What it is: “make” a conversion, or one of the job's own doings.
    operation : str
        The conversion, where one is to be made.
    cards : tuple of str
        What it is done with.
    """

    text: str
    action: Literal["import", "open", "manual", "read_again", "remake", "findings", "make", "deliver"]
    operation: str = ""
    cards: tuple[str, ...] = ()


@dataclass(frozen=True)
class Sent:
    """A delivery: its card, when it was written, and whether what was read back agreed."""

    card: Card
    when: str
    good: bool


@dataclass(frozen=True)
class Glance:
    """What there is to know of a job before anything is chosen."""

    came_in: tuple[Card, ...]
    made: tuple[Card, ...]
    stale: tuple[Card, ...]
    open_findings: int
    units: str
    sent: tuple[Sent, ...]
    suggestions: tuple[Suggestion, ...]


def glance(session: Session, files_changed: Mapping[str, str]) -> Glance:
    """Look at a job.

    Parameters
    ----------
    files_changed : mapping
        Cards of sources whose files are no longer what was read.
    """
    cards = tuple(session.graph.cards.values())
    stale = tuple(session.graph[card] for card in session.stale(session.graph))
    findings = sum(each.open for each in session.noticed())
    sent = []
    for card in cards:
        report = card.outcome.delivery if card.role is Role.DELIVERY and card.outcome else None
        if card.outcome is not None and report is not None:
            sent.append(Sent(card, card.outcome.when[:16].replace("T", " "), report.good))
    return Glance(
        tuple(card for card in cards if card.role is Role.SOURCE),
        tuple(card for card in cards if card.role not in (Role.SOURCE, Role.DELIVERY)),
        stale,
        findings,
        session.units_text(),
        tuple(sorted(sent, key=lambda each: each.when, reverse=True)),
        tuple(islice(_worth_doing(session, files_changed, stale, findings), MOST)),
    )


def _worth_doing(
    session: Session, files_changed: Mapping[str, str], stale: tuple[Card, ...], findings: int
) -> Iterator[Suggestion]:
    """Give what is worth doing, the most pressing first."""
    graph = session.graph
    if not graph.nodes:
        yield Suggestion("Import files …", "import")
        yield Suggestion("Open a job …", "open")
        yield Suggestion("Read how to begin", "manual")
        return
    for card in files_changed:
        if card in graph:
            yield Suggestion(f"Read {graph[card].name} again: its file has changed", "read_again", cards=(card,))
    if stale:
        names = stale[0].name if len(stale) == 1 else count(len(stale), "card")
        yield Suggestion(f"Make {names} again: out of date", "remake")
    yield from _ground(session)
    if findings:
        yield Suggestion(f"Read the {count(findings, 'open finding')}", "findings")
    yield from _from_ground(session)
    yield from _unsent(session)
    yield Suggestion("Import more files …", "import")


def _ground(session: Session) -> Iterator[Suggestion]:
    """Give the surface that the points and lines that came in have not been made into."""
    cards = list(session.graph.cards.values())
    if any(_is_ground(card) for card in cards):
        return
    used = {card for node in session.graph.nodes.values() for card in node.inputs}
    loose = [
        card for card in cards if card.role is Role.SOURCE and card.kind in ("points", "lines", "contours", "survey")
    ]
    able = [card for card in loose if card.id not in used and (own := session.dataset(card.id)) is not None]
    builder = catalog.builder()
    data = [own for card in able if (own := session.dataset(card.id)) is not None]
    if able and builder.assigned(data) is not None:
        names = listed([card.name for card in able[:3]]) if len(able) < 4 else count(len(able), "card")
        yield Suggestion(f"Make a TIN from {names}", "make", builder.id, tuple(card.id for card in able))


def _from_ground(session: Session) -> Iterator[Suggestion]:
    """Give what is usually made of ground, and has not been; then what two surfaces are compared for."""
    cards = list(session.graph.cards.values())
    ground = [card for card in cards if _is_ground(card) and session.graph.state(card.id) is State.MADE]
    if not ground:
        return
    done = {(node.operation, card) for node in session.graph.nodes.values() for card in node.inputs}
    first = ground[0]
    for operation in _USUAL:
        if (operation, first.id) not in done and not any(own == operation for own, _ in done):
            title = catalog.conversion_named(operation).title
            yield Suggestion(f"{title} from {first.name}", "make", operation, (first.id,))
    if len(ground) > 1 and not any(operation == "volumes" for operation, _ in done):
        pair = (ground[0], ground[1])
        text = f"Cut and fill from {pair[0].name} to {pair[1].name}"
        yield Suggestion(text, "make", "volumes", tuple(card.id for card in pair))


def _unsent(session: Session) -> Iterator[Suggestion]:
    """Give what was made last and never went out."""
    sent = {card for node in session.graph.nodes.values() if node.role is Role.DELIVERY for card in node.inputs}
    used = {card for node in session.graph.nodes.values() if node.role is Role.MADE for card in node.inputs}
    made = [
        card
        for card in session.graph.cards.values()
        if card.role is Role.MADE and card.kind != "table" and card.id not in sent and card.digest
    ]
    ends = [card for card in made if card.id not in used] or made
    if ends:
        yield Suggestion(f"Deliver {ends[-1].name}", "deliver", cards=(ends[-1].id,))


def _is_ground(card: Card) -> bool:
    kind = kind_named(card.kind)
    return (
        kind is not None
        and (kind.ground or card.kind == "grid")
        and card.role is not Role.DELIVERY
        and bool(card.digest)
    )
