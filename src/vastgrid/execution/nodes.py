"""Nodes of a graph, built in one place: requested text in its canonical form, inputs in their roles, outputs as cards."""

from __future__ import annotations

import datetime
import secrets
from collections.abc import Sequence
from dataclasses import dataclass
from pathlib import Path
from typing import Any

from vastgrid.declarations.conversion import Conversion
from vastgrid.declarations.fileformat import Format
from vastgrid.lineage.graph import Card, Node, OutputCard, Role, Use
from vastgrid.lineage.payloads import Payloads, is_reference
from vastgrid.params import declare

# What a copy that stays as it is says in place of a format or a conversion.
KEPT = "kept"


def new_card(which: str = "", name: str = "", **look: Any) -> OutputCard:
    """Return an output with a card of its own."""
    return OutputCard(secrets.token_hex(4), which, name, **look)


@dataclass(frozen=True, slots=True)
class NodeBuilder:
    """Builds the nodes of a graph, for whoever asks: command line, recipe, window.

    Attributes
    ----------
    payloads : Payloads
        Where long text is kept.
    """

    payloads: Payloads

    def source(
        self,
        kind: Format,
        path: Path,
        text: dict[str, str],
        cards: Sequence[OutputCard] = (),
        *,
        fingerprint: str = "",
        units: tuple[str, str] = ("", ""),
        into: tuple[str, str] = ("", ""),
        override: bool = False,
    ) -> Node:
        """Return a file that comes in.

        Parameters
        ----------
        cards : sequence of OutputCard
            One for each of its datasets that is used; they may be given later, once it is read.
        fingerprint, units, into, override
            See `Node`.
        """
        return Node(
            id=cards[0].card if cards else secrets.token_hex(4),
            role=Role.SOURCE,
            operation=kind.id,
            words=self._requested(kind.read_params, text),
            outputs=tuple(cards),
            path=str(path.resolve()),
            fingerprint=fingerprint,
            units=units,
            into=into,
            override=override,
        )

    def conversion(
        self, conversion: Conversion, uses: Sequence[Use], text: dict[str, str], cards: Sequence[OutputCard]
    ) -> Node:
        """Return a step that is yet to be made, its inputs in the order of their roles."""
        return Node(
            id=cards[0].card,
            role=Role.MADE,
            operation=conversion.id,
            version=conversion.version,
            words=self._requested(conversion.params, text),
            uses=tuple(sorted(uses, key=lambda use: conversion.place_of(use.role))),
            outputs=tuple(cards),
        )

    def delivery(
        self, kind: Format, path: Path, cards: Sequence[str], text: dict[str, str], name: str, into: tuple[str, str]
    ) -> Node:
        """Return a file that is yet to be written, every option of it said."""
        output = new_card(name=name)
        return Node(
            id=output.card,
            role=Role.DELIVERY,
            operation=kind.id,
            words=declare.to_words(declare.build(kind.write_params, text)),
            uses=tuple(Use(card) for card in cards),
            outputs=(output,),
            path=str(path.resolve()),
            into=into,
        )

    def copy(self, card: Card, name: str, when: datetime.datetime) -> Node:
        """Return a copy of a card that stays as it is."""
        output = new_card(name=name, look=card.look, colour=card.colour)
        return Node(
            id=output.card,
            role=Role.KEPT,
            operation=KEPT,
            words={"of": card.name, "when": when.isoformat(sep="T", timespec="minutes")},
            outputs=(output,),
        )

    def _requested(self, params: type, text: dict[str, str]) -> dict[str, str]:
        """Return what is asked as a node keeps it: 0.50 as 0.5; what is kept elsewhere by its reference.

        Raises
        ------
        ParamError
            For an unknown name or a bad value.
        """
        canonical = declare.canonical(params, self.payloads.full(text))
        return self.payloads.kept({**canonical, **references(text)})


def references(text: dict[str, str]) -> dict[str, str]:
    """Return the values that stand for something kept elsewhere."""
    return {name: value for name, value in text.items() if is_reference(value)}
