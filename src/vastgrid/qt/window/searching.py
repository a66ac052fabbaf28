"""What the finder finds: sentences, actions, conversions, formats, checks, cards, jobs and pages of the manual, by any of their words."""

from __future__ import annotations

import re
from collections.abc import Callable, Iterable, Sequence
from dataclasses import dataclass
from functools import partial

from PyQt6.QtGui import QAction

from vastgrid import catalog
from vastgrid.base.errors import CallError
from vastgrid.base.ranking import found
from vastgrid.base.words import place_words
from vastgrid.declarations.conversion import Conversion, listed
from vastgrid.jobs.plain_words import understood
from vastgrid.manual.pages import SUBJECTS, TASKS, page
from vastgrid.params import declare
from vastgrid.qt.desk.desk import Desk
from vastgrid.qt.dialogs.go_dialog import place_of
from vastgrid.qt.window.finder import Hit
from vastgrid.qt.window.parts import Parts


@dataclass(frozen=True)
class _Entry:
    """Something that can be found: what is shown, the words it goes by, what choosing it does; `rank` puts what does more first."""

    text: str
    names: tuple[str, ...]
    run: Callable[[], object]
    rank: int


# So many fields are offered to go on with.
MOST_FIELDS = 6


class Searching:
    """Searches for the finder of a window.

    Parameters
    ----------
    desk : Desk
        Whose job it is.
    parts : Parts
        What does the work.
    actions : dict
        The window's actions.
    go_to : callable
        Chooses a card, by its id.
    """

    def __init__(self, desk: Desk, parts: Parts, actions: dict[str, QAction], go_to: Callable[[str], None]) -> None:
        self.desk, self.parts, self.actions, self.go_to = desk, parts, actions, go_to
        # What can be found for a selection, worked out once: every letter that is typed asks for it.
        self._chosen: tuple[str, ...] = ()
        self._graph: object = None
        self._kept: list[_Entry] = []

    def hits(self, text: str) -> list[Hit]:
        """Return what is found for what was typed, the best first."""
        chosen, graph = tuple(self.desk.selection), self.desk.session.graph
        if self._chosen != chosen or self._graph is not graph:
            self._chosen, self._graph, self._kept = chosen, graph, list(self._entries())
        # What can be done at this moment changes without the job.
        entries = [*self._doable(), *self._kept]
        good = found(text, entries, lambda each: each.names, lambda each: each.rank)
        return [
            *self._sentence(text),
            *self._place(text),
            *(Hit(each.text, partial(self.desk.guarded, each.run)) for each in good),
        ]

    def _sentence(self, text: str) -> list[Hit]:
        wish = understood(text, self.desk.session, self.desk.selection)
        if wish is None:
            return []
        conversion = catalog.conversion_named(wish.conversion)
        data = [each for card in wish.inputs if (each := self.desk.session.dataset(card)) is not None]
        if self._missing(conversion, data):
            return []
        names = ", ".join(self.desk.session.graph[node].name for node in wish.inputs)
        said = "".join(f" {name} {value}" for name, value in wish.words.items())
        make = partial(self.parts.making.make, wish.conversion, list(wish.inputs), wish.words)
        hits = [Hit(f"Make: {conversion.title}{said} from {names}", partial(self.desk.guarded, make))]
        if re.search(r"\s(from|of)\s", text):
            return hits
        # What may follow, as long as nobody said from what: the fields that stand in its sentence first.
        fields = [each for each in declare.fields(conversion.params) if each.name not in wish.words]
        fields.sort(key=lambda each: f"{{{each.name}" not in conversion.template)
        for field in fields[:MOST_FIELDS]:
            words = f"{text.strip()} {field.name} "
            hits.append(Hit(f"… {field.name} : {field.param.help}", lambda: None, words))
        return hits

    def _place(self, text: str) -> list[Hit]:
        """Offer to go to coordinates, where that is what was typed."""
        try:
            east, north = place_of(text)
        except CallError:
            return []
        go = partial(self.parts.views.go_to, east, north)
        return [Hit(f"Go to {place_words(east, north)}", partial(self.desk.guarded, go))]

    def _doable(self) -> Iterable[_Entry]:
        for action in self.actions.values():
            if action.isEnabled() and action.text():
                keys = action.shortcut().toString()
                shown = action.text() + (f"   ({keys})" if keys else "")
                yield _Entry(shown, (action.text(),), action.trigger, 1)

    def _entries(self) -> Iterable[_Entry]:
        chosen = list(self.desk.selection)
        data = [self.desk.session.dataset(card) for card in chosen]
        known = [each for each in data if each is not None]
        for conversion in catalog.CONVERSIONS:
            if conversion.resumes:
                continue
            missing = self._missing(conversion, known)
            # With some of what it needs, or nothing, it is begun, and waits for the rest.
            begins = len(known) == len(chosen) and conversion.begun(known) is not None
            shown = f"Make: {conversion.title}" + (f"   (needs {missing})" if missing else "")
            make = partial(self.parts.making.make, conversion.id, chosen, {})
            names = (conversion.title, conversion.id.replace("_", " "), *conversion.also)
            tell = partial(
                _refuse, f"{conversion.title} needs {missing}: choose what it is made from below, then ask again"
            )
            yield _Entry(shown, names, make if begins else tell, 3 if missing else 0)
        for kind in catalog.FORMATS:
            if kind.write is not None:
                send = partial(self.parts.delivering.deliver, kind.id)
                yield _Entry(f"Deliver as {kind.title}", (kind.title, kind.id, *kind.suffixes, *kind.also), send, 2)
            else:
                show = partial(self.parts.at_home.show_manual, f"format-{kind.id}")
                yield _Entry(f"Format: {kind.title}", (kind.title, kind.id, *kind.suffixes), show, 4)
        for check in catalog.CHECKS:
            show = partial(self.parts.at_home.show_manual, f"check-{check.id}")
            yield _Entry(f"Check: {check.title}", (check.title, check.id, *check.also), show, 4)
        for card in self.desk.session.graph.cards.values():
            yield _Entry(f"Card: {card.name}", (card.name,), partial(self.go_to, card.id), 1)
        for folder in self.parts.at_home.others():
            yield _Entry(f"Job: {folder.name}", (folder.name,), partial(self.parts.at_home.use, folder), 3)
        for slug in (*TASKS, *SUBJECTS):
            about = page(slug)
            if about is not None:
                show = partial(self.parts.at_home.show_manual, slug)
                yield _Entry(f"Manual: {about.title}", (about.title,), show, 5)

    @staticmethod
    def _missing(conversion: Conversion, known: Sequence[object]) -> str:
        """Return what has to be chosen for a conversion and is not; empty where it can be made at once."""
        if known and conversion.assigned(known) is not None:  # type: ignore[arg-type]
            return ""
        needed = [each for each in conversion.inputs if each.least]
        if len(needed) < 2:
            several = f"at least {needed[0].least}: " if needed and needed[0].least > 1 else ""
            return several + " or ".join(kind.title for kind in needed[0].kinds) if needed else "a card"
        return listed([f"{each.role} ({' or '.join(kind.title for kind in each.kinds)})" for each in needed])


def _refuse(why: str) -> None:
    raise CallError(why)
