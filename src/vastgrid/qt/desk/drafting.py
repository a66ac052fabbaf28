"""A step that is begun and not made yet: its conversion, what plays which role, and what it still lacks."""

from __future__ import annotations

from dataclasses import dataclass, field, replace

from vastgrid import catalog
from vastgrid.base.errors import CallError
from vastgrid.data.dataset import Dataset
from vastgrid.declarations.conversion import Conversion, Input
from vastgrid.lineage.graph import Role
from vastgrid.qt.desk.desk import Desk


@dataclass(frozen=True)
class Draft:
    """A step that lacks something.

    Attributes
    ----------
    operation : str
        Id of its conversion.
    uses : tuple of (str, str)
        Roles and the cards that play them.
    words : dict
        Parameters that were given.
    """

    operation: str
    uses: tuple[tuple[str, str], ...] = ()
    words: dict[str, str] = field(default_factory=dict)

    @property
    def conversion(self) -> Conversion:
        """Its conversion."""
        return catalog.conversion_named(self.operation)

    @property
    def cards(self) -> list[str]:
        """The cards it is made from."""
        return [card for _, card in self.uses]

    @property
    def roles(self) -> list[str]:
        """The role of each of them."""
        return [role for role, _ in self.uses]

    def lacking(self) -> list[Input]:
        """Return the roles that are empty still."""
        return self.conversion.lacking(self.roles)


class Drafting:
    """Begins steps that lack an input, and fills what they lack.

    Parameters
    ----------
    desk : Desk
        Whose job it is; it knows the draft.
    """

    def __init__(self, desk: Desk) -> None:
        self.desk = desk
        desk.left.connect(self.give_up)
        desk.changed.connect(self._look)

    @property
    def draft(self) -> Draft | None:
        """The step that is begun, if any."""
        own = self.desk.draft
        return own if isinstance(own, Draft) else None

    def begin(self, operation: str, cards: list[str], words: dict[str, str]) -> None:
        """Begin a step from some cards.

        Raises
        ------
        CallError
            If it cannot begin from them.
        """
        conversion = catalog.conversion_named(operation)
        roles = conversion.begun([self.desk.session.named(card) for card in cards])
        if roles is None:
            raise CallError(
                f"{conversion.title} is made from {conversion.wants()}; choose one of them below, or nothing"
            )
        self._set(Draft(operation, tuple(zip(roles, cards, strict=True)), dict(words)))
        lacking = conversion.lacking(roles)
        if lacking:
            self.desk.say(f"Click a card that fits to choose the {lacking[0].role}; Esc gives up")

    def fitting(self, role: Input) -> list[str]:
        """Return the cards that can play a role and play none yet."""
        own = self.draft
        if own is None:
            return []
        found = []
        for card in self.desk.session.graph.cards.values():
            if card.id in own.cards or card.role is Role.DELIVERY or not card.digest:
                continue
            dataset = self._data(card.id)
            if dataset is not None and own.conversion.can_use(dataset, role.role):
                found.append(card.id)
        return found

    def _data(self, card: str) -> Dataset | None:
        return self.desk.dataset(card)

    def lit(self) -> list[str]:
        """Return the cards that fit what is filled next."""
        own = self.draft
        return (
            [] if own is None else list(dict.fromkeys(card for role in self._next(own) for card in self.fitting(role)))
        )

    @staticmethod
    def _next(draft: Draft) -> list[Input]:
        """Return the roles that a click fills: the first that is needed, otherwise those that may have more."""
        lacking = draft.lacking()
        roles = draft.roles
        free = [each for each in draft.conversion.inputs if each.most is None or roles.count(each.role) < each.most]
        return lacking[:1] or free

    def fill(self, card: str, role: str = "") -> None:
        """Let a card play a role, the first that is empty where none is named.

        Raises
        ------
        CallError
            If it cannot.
        """
        own = self.draft
        if own is None:
            return
        able = [each.role for each in self._next(own)]
        role = role or next(
            (each for each in able if card in self.fitting(own.conversion.role(each))), able[0] if able else ""
        )
        name = self.desk.session.graph[card].name
        if card in own.cards:
            raise CallError(f"{name} is used already; choose another card")
        if not role or card not in self.fitting(own.conversion.role(role)):
            if not role:
                raise CallError(f"{own.conversion.title} has all it can use; press Make, or Cancel")
            wanted = " or ".join(dict.fromkeys(kind.title for kind in own.conversion.role(role).kinds))
            raise CallError(f"{name} cannot be the {role}: {wanted} is needed")
        self._set(replace(own, uses=(*own.uses, (role, card))))
        self.desk.say(f"{name} is the {role}")

    def empty(self, card: str) -> None:
        """Take a card out of its role."""
        own = self.draft
        if own is not None:
            self._set(replace(own, uses=tuple(use for use in own.uses if use[1] != card)))

    def give_up(self) -> None:
        """Forget the step that was begun."""
        if self.desk.draft is not None:
            self._set(None)

    def _look(self) -> None:
        """Give up a draft of cards that are gone."""
        own = self.draft
        if own is not None and not all(card in self.desk.session.graph for card in own.cards):
            self.give_up()

    def _set(self, draft: Draft | None) -> None:
        self.desk.draft = draft
        self.desk.drafted.emit()
