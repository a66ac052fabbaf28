"""What can be made from the chosen cards, and what is asked or drawn before."""

from __future__ import annotations

import dataclasses
from collections.abc import Callable, Sequence
from functools import partial

from PyQt6.QtCore import Qt
from PyQt6.QtGui import QAction
from PyQt6.QtWidgets import QDialog, QWidget

from vastgrid import catalog
from vastgrid.base.errors import CallError
from vastgrid.base.findings import count
from vastgrid.base.progress import Silent
from vastgrid.data.dataset import Dataset
from vastgrid.data.frame import UNKNOWN
from vastgrid.data.kinds import kind_named
from vastgrid.data.places import Line
from vastgrid.data.pointset import PointSet
from vastgrid.declarations.conversion import Conversion, Input, listed
from vastgrid.execution.foretelling import offered
from vastgrid.execution.forms import form_of, ways
from vastgrid.execution.steps import check_usable, settled
from vastgrid.lineage.graph import Role
from vastgrid.measures.heights import surface_of
from vastgrid.params import declare
from vastgrid.qt.desk.desk import Desk
from vastgrid.qt.desk.making import Making
from vastgrid.qt.dialogs.ask_dialog import AskDialog
from vastgrid.qt.dialogs.tries_dialog import TriesDialog, Try
from vastgrid.qt.views.plan_view import PlanView
from vastgrid.qt.views.tools import Tool
from vastgrid.qt.widgets import theme
from vastgrid.qt.widgets.chooser import Choice
from vastgrid.qt.window.tiling import LargeFolderWork

# In this order what can be made is offered; what only changes a card comes last of them.
CHANGED, FIGURES = "The same, changed", "Figures"
GROUPS = ("Ground", "Lines", "Areas", "Grids", "Solids", "Points", FIGURES, CHANGED)
# Of what was made last, these many stand first.
MOST_LAST = 4


def drawn_field(conversion: Conversion) -> str:
    """Return which parameter of a conversion is a place that can be drawn, if any."""
    return next((each.name for each in declare.fields(conversion.params) if each.how.editor == "drawn"), "")


def drawn_kind(conversion: Conversion) -> type:
    """Return of which kind that place is."""
    return declare.field_named(conversion.params, drawn_field(conversion)).kind


def needs(lacking: Sequence[Input]) -> str:
    """Return what else has to be chosen, in words: “needs top (TIN or grid) too”."""
    return f"needs {listed([_role_and_kinds(each) for each in lacking])} too"


def _role_and_kinds(each: Input) -> str:
    kinds = _kinds(each)
    # “line (lines)” says one thing twice.
    return kinds if each.role.rstrip("s") == kinds.rstrip("s") else f"{each.role} ({kinds})"


def _foretell(conversion: Conversion, known: list[Dataset]) -> str:
    """Return what a conversion will give, in words; what it is for where that cannot be told."""
    return offered(conversion, known) or conversion.help


def _kinds(role: Input) -> str:
    return " or ".join(dict.fromkeys(kind.title for kind in role.kinds))


def _reason(conversion: Conversion, known: list[Dataset]) -> str:
    """Return why a conversion cannot begin from some data."""
    try:
        check_usable(conversion, known)
    except CallError as error:
        return str(error)
    return ""


class Offers:
    """What Make offers.

    Parameters
    ----------
    parent : QWidget
        Above which is asked.
    desk : Desk
        Whose job it is.
    making : Making
        Makes it.
    plan : PlanView
        Where areas are drawn.
    palette : callable
        Gives the theme.
    deliver : callable
        Asks to whom, or as what, the chosen cards go out.
    tiling : LargeFolderWork
        Works on large files.
    """

    def __init__(
        self,
        parent: QWidget,
        desk: Desk,
        making: Making,
        plan: PlanView,
        palette: Callable[[], theme.Palette],
        deliver: Callable[[], object],
        tiling: LargeFolderWork,
    ) -> None:
        self.parent, self.desk, self.making, self.plan, self.palette = parent, desk, making, plan, palette
        self.deliver, self.tiling = deliver, tiling
        desk.asked.connect(lambda *asked: desk.guarded(lambda: self._ask(*asked).open()))

    def choices(self, actions: dict[str, QAction]) -> list[Choice]:
        """Return what can be made from the chosen cards, what was made last first; then what cannot, with the reason."""
        nodes = [node for node in self.desk.selection if self.desk.session.graph[node].role is not Role.DELIVERY]
        known = [dataset for node in nodes if (dataset := self.desk.session.dataset(node)) is not None]
        begins, cannot = self._conversions(nodes, known)
        places = {name: k for k, name in enumerate(GROUPS)}
        begins.sort(key=lambda each: places[each.group])
        by_title = {each.title: each for each in begins}
        last = [by_title[title] for title in self._lately() if title in by_title]
        return [
            *(dataclasses.replace(each, group="Made last") for each in last[:MOST_LAST]),
            *begins,
            *self._in_tiles(nodes),
            *self._by_hand(actions, known),
            *self._files(actions, known),
            *cannot,
        ]

    def _conversions(self, nodes: list[str], known: list[Dataset]) -> tuple[list[Choice], list[Choice]]:
        """Return the conversions that can begin from some cards, and those that cannot."""
        begins, cannot = [], []
        for conversion in catalog.CONVERSIONS:
            if conversion.resumes:
                continue
            roles = conversion.begun(known) if len(known) == len(nodes) else None
            glyph = conversion.outputs[0].kind.kind if conversion.outputs[0].kind is not None else "dataset"
            if roles is None:
                why = "not made yet" if len(known) < len(nodes) else _reason(conversion, known)
                cannot.append(Choice("Not from these", conversion.title, why, glyph, None, conversion.also))
                continue
            lacking = conversion.lacking(roles)
            told = needs(lacking) if lacking else conversion.help
            tell = None if lacking else partial(_foretell, conversion, known)
            group = self._group(conversion, known)
            if conversion.answers and not lacking:
                make = partial(self.desk.guarded, partial(self.desk.asked.emit, conversion.id, nodes, {}))
            else:
                make = partial(self.desk.guarded, partial(self.making.make, conversion.id, nodes, {}))
            drawn = drawn_field(conversion)
            also = (conversion.id.replace("_", " "), *conversion.also)
            if lacking or not (conversion.ask and conversion.answers and drawn):
                begins.append(Choice(group, conversion.title, told, glyph, make, also, tell))
            if drawn and not lacking and known:
                what = "along a line that you draw" if drawn_kind(conversion) is Line else "over an area that you draw"
                draw = partial(self.desk.guarded, partial(self.draw, conversion.id))
                begins.append(Choice(group, f"{conversion.title} {what}", "drawn in the plan", glyph, draw, also))
        return begins, cannot

    def _lately(self) -> list[str]:
        """Return the titles of what was made in this job, the last first."""
        graph = self.desk.session.graph
        made = [node.operation for node in graph.nodes.values() if node.role is Role.MADE]
        return [catalog.conversion_named(each).title for each in dict.fromkeys(reversed(made))]

    def _in_tiles(self, cards: list[str]) -> list[Choice]:
        """Offer what large files can be made into piece by piece, with time and room on the disk."""
        return [
            Choice(
                "In tiles, from the whole file",
                f"{conversion.title} in tiles",
                told or "asks for its values first",
                "dataset",
                partial(self.desk.guarded, partial(self.tiling.ask_for, cards, conversion)),
                conversion.also,
            )
            for conversion, told in self.tiling.offers(cards)
        ]

    @staticmethod
    def _group(conversion: Conversion, known: list[Dataset]) -> str:
        """Return under which word a conversion is offered."""
        if conversion.answers:
            return FIGURES
        if conversion.keeps:
            return CHANGED
        kind = kind_named(conversion.gives([type(each) for each in known] or list(conversion.takes)).kind)
        return (kind.group if kind else "") or CHANGED

    def _by_hand(self, actions: dict[str, QAction], known: list[Dataset]) -> list[Choice]:
        """Offer the tools with which what is chosen can be edited; they stand above the views as well."""
        found = []
        for conversion in catalog.CONVERSIONS:
            if not conversion.resumes or len(known) != 1 or not conversion.can_use(known[0]):
                continue
            begin = "pick" if PointSet in conversion.takes else "hand_"
            for key, action in actions.items():
                if key.startswith(begin):
                    run = partial(self.desk.guarded, action.trigger)
                    found.append(Choice("By hand", action.text(), action.toolTip(), "", run, conversion.also))
        return found

    def _files(self, actions: dict[str, QAction], known: list[Dataset]) -> list[Choice]:
        """Offer what leads to files."""
        if not known:
            return []
        able = [
            each for each in catalog.FORMATS if each.write and all(isinstance(d, each.carries.kinds) for d in known)
        ]
        able = [each for each in able if len(known) == 1 or each.carries.several]
        if not able:
            return []
        told = f"{count(len(able), 'format')} can hold {'it' if len(known) == 1 else 'them'}"
        words = tuple(word for each in able for word in (each.title, *each.also))
        found = [Choice("Files", "Deliver …", told, "delivery", self.deliver, words)]
        if len(known) == 1 and surface_of(known[0]) is not None:
            forms = actions["forms"]
            told = "size and largest difference of each, side by side"
            found.append(Choice("Files", forms.text(), told, "delivery", partial(self.desk.guarded, forms.trigger)))
        return found

    def _ask(self, operation: str, inputs: list[str], words: dict[str, str]) -> QDialog:
        """Return what asks before a conversion is made: a table where it can be tried, otherwise its form."""
        conversion = catalog.conversion_named(operation)
        known = check_usable(conversion, [self.desk.session.named(node) for node in inputs])
        params = settled(conversion, known, declare.build(conversion.params, words))
        tries = [
            Try(conversion, {**words, **attempt}, ", ".join(attempt.values()))
            for attempt in conversion.tries(known, params)
        ]
        if not tries:
            return self.ask_dialog(operation, inputs, words)
        return self._table(f"{conversion.title}: what each would cost", inputs, tries, len(tries) // 2)

    def _table(self, title: str, inputs: list[str], tries: list[Try], chosen: int) -> TriesDialog:
        dialog = TriesDialog(self.parent, self.desk, title, inputs, tries, chosen)
        dialog.setAttribute(Qt.WidgetAttribute.WA_DeleteOnClose)
        dialog.shown.connect(self.plan.show_preview)
        dialog.chosen.connect(
            lambda operation, words: self.desk.guarded(lambda: self.making.make(operation, inputs, words, asked=True))
        )
        return dialog

    def which_form(self) -> TriesDialog:
        """Return the table of forms in which the chosen surface can be sent.

        Raises
        ------
        CallError
            If no surface is chosen.
        """
        chosen = [card for card in self.desk.selection if surface_of(self.desk.session.dataset(card)) is not None]
        if len(chosen) != 1:
            raise CallError("choose one surface first: a TIN or a grid of heights")
        surface = surface_of(self.desk.session.named(chosen[0]))
        assert surface is not None
        tries = []
        for way in ways(surface):
            said = f"{way.form} {way.asked}" if way.conversion else f"{surface.title} as it is"
            raw = form_of(way, surface, Silent()) if way.conversion is None else None
            tries.append(Try(way.conversion, way.words, said, raw.dataset if raw else None, raw.loss if raw else None))
        return self._table(
            f"Output formats of {surface.name}: what each holds, and how far it differs", chosen, tries, 0
        )

    def ask_dialog(self, operation: str, inputs: list[str], words: dict[str, str]) -> AskDialog:
        """Return the dialog that asks for a conversion's parameters; accepting it makes the result."""
        conversion, session = catalog.conversion_named(operation), self.desk.session
        given = [session.named(card) for card in inputs]
        dialog = AskDialog(self.parent, session, conversion, inputs, words, self.desk.suggestions(conversion, given))
        dialog.setAttribute(Qt.WidgetAttribute.WA_DeleteOnClose)

        def accepted() -> None:
            self.making.make(operation, inputs, dialog.words(), roles=dialog.said_roles(), asked=True)

        dialog.accepted.connect(lambda: self.desk.guarded(accepted))
        return dialog

    def draw(self, operation: str) -> None:
        """Let an area be drawn in the plan, then make something over it from the chosen card."""
        conversion = catalog.conversion_named(operation)
        chosen = [node for node in self.desk.selection if self.desk.session.graph[node].role is not Role.DELIVERY]
        least = sum(each.least for each in conversion.inputs)
        if len(chosen) < least or (least == 1 and len(chosen) > 1):
            what = "one card" if least == 1 else count(least, "card")
            raise CallError(
                f"choose {what} first: {conversion.title.lower()} is made from {'it' if least == 1 else 'them'}"
            )

        def drawn(corners: list[tuple[float, float]]) -> None:
            dataset = self.desk.dataset(chosen[0])
            field = declare.field_named(conversion.params, drawn_field(conversion))
            area = field.kind(tuple(corners), dataset.frame if dataset is not None else UNKNOWN)
            self.making.make(operation, chosen, {field.name: declare.value_text(area)}, asked=conversion.answers)

        if drawn_kind(conversion) is Line:
            course = Tool(
                lambda places: self.desk.guarded(lambda: drawn([(p.east, p.north) for p in places])), snaps=False
            )
            self.plan.use(course)
        else:
            self.plan.draw_area(lambda corners: self.desk.guarded(lambda: drawn(corners)))
        what = "line" if drawn_kind(conversion) is Line else "area"
        self.desk.say(f"Click the corners of the {what}; Enter or a double click ends, Esc gives up")
