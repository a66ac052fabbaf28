"""The Make menu: what can be made from the chosen cards, and what is asked or drawn before."""

from __future__ import annotations

from collections.abc import Callable
from functools import partial

from PyQt6.QtCore import Qt
from PyQt6.QtGui import QAction
from PyQt6.QtWidgets import QDialog, QMenu, QWidget

from vastgrid import catalog
from vastgrid.base.errors import CallError
from vastgrid.base.findings import count
from vastgrid.base.progress import Silent
from vastgrid.data.dataset import Dataset
from vastgrid.data.frame import UNKNOWN
from vastgrid.data.kinds import kind_named
from vastgrid.data.places import Line
from vastgrid.data.pointset import PointSet
from vastgrid.declarations.conversion import Conversion
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
from vastgrid.qt.widgets import glyphs, theme
from vastgrid.qt.widgets.buttons import entry, heading, submenu
from vastgrid.qt.window.tiling import LargeFolderWork

# In this order what can be made is offered; what only changes a card comes last of them.
CHANGED = "The same, changed"
GROUPS = ("Ground", "Lines", "Grids", "Solids", "Points", CHANGED)


def drawn_field(conversion: Conversion) -> str:
    """Return which parameter of a conversion is a place that can be drawn, if any."""
    return next((each.name for each in declare.fields(conversion.params) if each.how.editor == "drawn"), "")


def drawn_kind(conversion: Conversion) -> type:
    """Return of which kind that place is."""
    return declare.field_named(conversion.params, drawn_field(conversion)).kind


class MakeMenu:
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
        Asks for a delivery in a format, by its id.
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
        deliver: Callable[[str], None],
        tiling: LargeFolderWork,
    ) -> None:
        self.parent, self.desk, self.making, self.plan, self.palette = parent, desk, making, plan, palette
        self.deliver, self.tiling = deliver, tiling
        desk.asked.connect(lambda *asked: desk.guarded(lambda: self._ask(*asked).open()))

    def fill(self, menu: QMenu, actions: dict[str, QAction]) -> None:
        """Put what can be made from the chosen cards into a menu."""
        nodes = list(self.desk.selection)
        known = [dataset for node in nodes if (dataset := self.desk.session.dataset(node)) is not None]
        able = catalog.targets(known) if known and len(known) == len(nodes) else ()
        able = tuple(each for each in able if not each.answers)
        groups: dict[str, list[Conversion]] = {name: [] for name in GROUPS}
        for conversion in able:
            if not conversion.resumes:
                groups.setdefault(self._group(conversion, known), []).append(conversion)
        for name, own in groups.items():
            if own:
                heading(menu, name)
            for conversion in own:
                told = offered(conversion, known)
                entry(
                    menu,
                    conversion.title + (f"   ({told})" if told else ""),
                    partial(self.desk.guarded, partial(self.making.make, conversion.id, nodes, {})),
                    glyphs.icon(conversion.gives([type(each) for each in known]).kind, self.palette().action),
                )
        self._in_tiles(menu, nodes)
        self._files(menu, actions, known)
        drawn = [actions[f"draw_{each.id}"] for each in able if drawn_field(each)]
        if drawn:
            submenu(menu, "Over what you draw").addActions(drawn)
        for conversion in able:
            if conversion.resumes:
                begin = "pick" if PointSet in conversion.takes else "hand_"
                edit_tools = [action for key, action in actions.items() if key.startswith(begin)]
                submenu(menu, conversion.title).addActions(edit_tools)
        if not able:
            entry(menu, "Choose cards below first" if not nodes else "Nothing can be made from these together")

    def _in_tiles(self, menu: QMenu, cards: list[str]) -> None:
        """Offer what large files can be made into piece by piece, with time and room on the disk."""
        offers = self.tiling.offers(cards)
        if not offers:
            return
        own = submenu(menu, "In tiles, from the whole file")
        for conversion, told in offers:
            entry(
                own,
                conversion.title + (f"   ({told})" if told else " …"),
                partial(self.desk.guarded, partial(self.tiling.ask_for, cards, conversion)),
            )

    @staticmethod
    def _group(conversion: Conversion, known: list[Dataset]) -> str:
        """Return under which word a conversion is offered."""
        if conversion.keeps:
            return CHANGED
        kind = kind_named(conversion.gives([type(each) for each in known]).kind)
        return (kind.group if kind else "") or CHANGED

    def _files(self, menu: QMenu, actions: dict[str, QAction], known: list[Dataset]) -> None:
        """Offer the files that can hold what is chosen, with about how large they will be."""
        able = [
            each for each in catalog.FORMATS if each.write and all(isinstance(d, each.carries.kinds) for d in known)
        ]
        able = [each for each in able if known and (len(known) == 1 or each.carries.several)]
        if not able:
            return
        heading(menu, "Files")
        for each in sorted(able, key=lambda each: -each.usual):
            size = sum(each.weigh(dataset) for dataset in known)
            told = f"   (about {size / 1e6:.1f} MB)" if size >= 1e5 else f"   (about {max(size, 1e3) / 1e3:.0f} kB)"
            entry(
                menu,
                each.title + told,
                partial(self.desk.guarded, partial(self.deliver, each.id)),
                glyphs.icon("delivery", self.palette().action),
            )
        if len(known) == 1 and surface_of(known[0]) is not None:
            menu.addAction(actions["forms"])

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
