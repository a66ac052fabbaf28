"""The panel of the chosen card: its sentence, what it cost, figures and findings."""

from __future__ import annotations

import re
from collections.abc import Callable
from dataclasses import dataclass
from functools import partial
from html import escape
from pathlib import Path

from PyQt6.QtCore import QPoint, Qt, QTimer, pyqtSignal
from PyQt6.QtGui import QResizeEvent
from PyQt6.QtWidgets import (
    QFrame,
    QGridLayout,
    QLabel,
    QLineEdit,
    QPushButton,
    QScrollArea,
    QVBoxLayout,
    QWidget,
)

from vastgrid import catalog
from vastgrid.base.errors import CallError
from vastgrid.base.findings import count
from vastgrid.data.dataset import Dataset
from vastgrid.data.table import Table
from vastgrid.jobs.glance import glance
from vastgrid.jobs.session import Session
from vastgrid.lineage.graph import Card, Role, State
from vastgrid.measures.figures import Figures
from vastgrid.params import declare
from vastgrid.qt.desk.cards import kind_text
from vastgrid.qt.desk.desk import Desk
from vastgrid.qt.desk.drafting import Drafting
from vastgrid.qt.desk.figuring import Figuring
from vastgrid.qt.desk.inspecting import Inspecting
from vastgrid.qt.desk.making import Making
from vastgrid.qt.desk.sourcing import Sourcing
from vastgrid.qt.desk.styling import Styling
from vastgrid.qt.panel.answer_part import AnswerPart
from vastgrid.qt.panel.card_words import figure_rows, sentence_html
from vastgrid.qt.panel.cost_part import CostPart
from vastgrid.qt.panel.draft_part import DraftPart
from vastgrid.qt.panel.edits_part import EditsPart
from vastgrid.qt.panel.figures_part import FiguresPart
from vastgrid.qt.panel.findings_part import FindingsPart
from vastgrid.qt.panel.glance_part import GlancePart
from vastgrid.qt.panel.looks_part import LooksPart
from vastgrid.qt.panel.readback_part import ReadbackPart
from vastgrid.qt.panel.sources_part import SourcesPart
from vastgrid.qt.widgets import theme
from vastgrid.qt.widgets.field_editor import FieldEditor
from vastgrid.qt.widgets.forms import ParamForm
from vastgrid.qt.widgets.labels import label
from vastgrid.qt.widgets.section import Section

# The part of the panel's height that its head takes at most.
HEAD = 0.62


@dataclass(frozen=True)
class PanelWork:
    """What does what is pressed in the panel."""

    making: Making
    sourcing: Sourcing
    inspecting: Inspecting
    styling: Styling
    figuring: Figuring


class Panel(QWidget):
    """What belongs to the chosen card: its sentence and its cost always in sight, the rest in sections that fold.

    Parameters
    ----------
    desk : Desk
        Whose job it is.
    work : PanelWork
        Does what is pressed.

    Signals
    -------
    place : east, north
        A place is to be shown.
    compare : node, node
        Two surfaces are to be compared.
    open_folder, file_wanted : path
        The folder, or the tree, of a file is to be shown.
    report_wanted, map_wanted : node
        The report of what led to a card is to be saved; the difference that volumes were added up from is to be drawn.
    text_saved : path, text
        Text is to be written to a file.
    table_wanted : Table
        A table is to be shown whole.
    findings_listed, finding_explained : (), str
        All findings are to be shown; the manual is to tell of a code.
    source_replaced : node, source
        A source's file is to be replaced.
    edits_saved, edits_loaded : node
        The log of edits is to be written to a file, or read from one.
    wished : Suggestion
        What was proposed is to be done.
    """

    place = pyqtSignal(float, float)
    compare = pyqtSignal(str, str)
    open_folder = pyqtSignal(str)
    report_wanted = pyqtSignal(str)
    file_wanted = pyqtSignal(str)
    text_saved = pyqtSignal(str, str)
    table_wanted = pyqtSignal(object)
    map_wanted = pyqtSignal(str)
    findings_listed = pyqtSignal()
    finding_explained = pyqtSignal(str)
    source_replaced = pyqtSignal(str, str)
    edits_saved = pyqtSignal(str)
    edits_loaded = pyqtSignal(str)
    wished = pyqtSignal(object)

    def __init__(self, desk: Desk, palette: theme.Palette, work: PanelWork) -> None:
        super().__init__()
        self.desk, self.work, self.drafting = desk, work, work.making.drafting
        self.setObjectName("panel")
        self.setAttribute(Qt.WidgetAttribute.WA_StyledBackground)
        self.palette_ = palette
        self.nodes: list[str] = []
        self._told: list[object] = []
        self.figures: FiguresPart | None = None
        self.sources: SourcesPart | None = None
        self.field_editor: FieldEditor | None = None
        self.sentence: QLabel | None = None
        self.form: ParamForm | None = None
        self._more = False
        self._more_looks = False
        self._every_edit = False
        self.edits: EditsPart | None = None
        self.looks: LooksPart | None = None
        self.answer: AnswerPart | None = None
        self.draft: DraftPart | None = None
        self.glance: GlancePart | None = None
        outer = QVBoxLayout(self)
        outer.setContentsMargins(0, 0, 0, 0)
        outer.setSpacing(0)
        self.head, self._scroll = _scrolling(), _scrolling()
        outer.addWidget(self.head)
        outer.addWidget(self._scroll, 1)
        self.setMinimumWidth(300)
        self.show_nothing()

    # -- filling

    def _fresh(self, *, head: bool = False) -> QVBoxLayout:
        """Return the layout of a new page; with `head` that of what stays in sight above it."""
        scroll = self.head if head else self._scroll
        place = scroll.widget()
        assert place is not None
        beside = place.layout()
        assert beside is not None
        # The old page may hold the very button whose signal led here: it goes when that is over. It stays where it is until
        # then: a page that changes its parent is styled anew as a whole.
        for old in place.findChildren(QWidget, "panelBody", Qt.FindChildOption.FindDirectChildrenOnly):
            old.hide()
            beside.removeWidget(old)
            old.setObjectName("")
            old.deleteLater()
        body = QWidget(place)
        body.setObjectName("panelBody")
        layout = QVBoxLayout(body)
        layout.setContentsMargins(18, 14, 18, 6 if head else 14)
        layout.setSpacing(8)
        beside.addWidget(body)
        if head:
            return layout
        self.head.setVisible(False)
        self.sentence = None
        self.sources = None
        self.looks = None
        self.answer = None
        self.draft = None
        self.glance = None
        return layout

    def _fit_head(self) -> None:
        """Give what stays in sight the height it needs, up to a part of the panel's."""
        body, layout = self.head.widget(), None
        layout = body.layout() if body is not None else None
        if layout is not None and self.head.isVisibleTo(self):
            need = layout.totalHeightForWidth(max(self.width() - 2, 200))
            self.head.setFixedHeight(min(need + 2, max(round(self.height() * HEAD), 150)))

    def resizeEvent(self, event: QResizeEvent | None) -> None:
        super().resizeEvent(event)
        self._fit_head()

    def _guarded(self, run: Callable[..., object]) -> Callable[..., None]:
        return lambda *values: self.desk.guarded(partial(run, *values))

    def show_nothing(self) -> None:
        """Show the job at a glance."""
        layout = self._fresh()
        session = self.desk.session
        task = self.desk.runner.current()
        empty = not session.graph.nodes
        doing = f"{task.title} …" if task is not None and empty else ""
        part = GlancePart(session.name, glance(session, self.desk.files_changed), self.palette_, doing)
        part.wanted.connect(lambda card: self.desk.select([card]))
        part.wished.connect(self.wished)
        part.listed.connect(self.findings_listed)
        self.glance = part
        layout.addWidget(part)
        layout.addStretch()

    def show_nodes(self, nodes: list[str]) -> None:
        """Show one card's step, or what can be done with several."""
        # What was removed a moment ago may still be chosen.
        nodes = [node for node in nodes if node in self.desk.session.graph]
        if nodes != self.nodes:
            self._more = False
        self.nodes = nodes
        self._told = self._known()
        session = self.desk.session
        place = self._scroll.verticalScrollBar()
        at = place.value() if place else 0
        if self.drafting.draft is not None:
            # What came to be known of cards meanwhile must not take away what was typed.
            if self.draft is None or self.draft.draft is not self.drafting.draft:
                self._show_draft(self.drafting)
        elif not nodes:
            self.show_nothing()
        elif len(nodes) == 1:
            self._show_one(session, session.graph[nodes[0]])
        else:
            self._show_several(session, nodes)
        if place:
            QTimer.singleShot(0, lambda: place.setValue(at))

    def _known(self) -> list[object]:
        """Return what is known of the chosen cards beside the job itself: figures, findings, faults, changed files."""
        return [
            (
                self.work.figuring.known(node),
                [(each.finding, each.accepted) for each in self.desk.session.noticed([node])],
                self.desk.failures.get(node),
                self.desk.files_changed.get(node),
            )
            for node in self.nodes
        ]

    def out_of_date(self) -> bool:
        """Return whether more is known of the chosen cards than the panel shows; of the job at a glance always."""
        return not self.nodes or self._known() != self._told

    def _show_draft(self, drafting: Drafting) -> None:
        layout = self._fresh()
        self.draft = DraftPart(self.desk, drafting, self.palette_)
        self.draft.made.connect(self._guarded(self._make_draft))
        layout.addWidget(self.draft)
        layout.addStretch()

    def _make_draft(self, cards: list[str], roles: list[str], words: dict[str, str]) -> None:
        """Make the step that was begun."""
        draft = self.drafting.draft
        if draft is not None:
            self.work.making.make(draft.operation, cards, words, roles=roles, asked=True)
            self.drafting.give_up()

    def _show_several(self, session: Session, nodes: list[str]) -> None:
        layout = self._fresh()
        layout.addWidget(label(f"{len(nodes)} cards chosen", name="heading"))
        for node in nodes:
            layout.addWidget(label("· " + escape(session.graph[node].name)))
        kinds = [session.graph[node].kind for node in nodes]
        if len(nodes) == 2 and all(kind in ("tin", "grid") for kind in kinds):
            button = QPushButton("Compare them")
            button.setProperty("main", "true")
            button.clicked.connect(lambda: self.compare.emit(nodes[0], nodes[1]))
            layout.addWidget(button, alignment=Qt.AlignmentFlag.AlignLeft)
        layout.addWidget(label("The + at a card's edge makes something from all of them.", quiet=True))
        layout.addStretch()

    def _show_one(self, session: Session, node: Card) -> None:
        layout = self._fresh()
        layout.setContentsMargins(18, 2, 18, 14)
        head = self._fresh(head=True)
        name = QLineEdit(node.name)
        name.setAccessibleName("Name")
        name.setToolTip(node.name)
        # Of a long name the beginning is seen.
        name.setCursorPosition(0)
        name.setStyleSheet(
            f"QLineEdit {{ font-size: {theme.points(13)}; font-weight: 600; background: transparent; border: none; padding: 2px 0; }} "
            f"QLineEdit:focus {{ border-bottom: 2px solid {self.palette_.action}; }}"
        )
        name.editingFinished.connect(lambda: self.desk.rename(node.id, name.text()))
        head.addWidget(name)
        when = node.outcome.when[11:16] if node.outcome else ""
        kind = node.kind or node.operation
        head.addWidget(label(kind_text(node, kind) + (f" · made {when}" if when else ""), quiet=True))
        self.sentence = label()
        self.sentence.setText(sentence_html(session.sentence(node.id), self.palette_))
        self.sentence.setTextInteractionFlags(
            Qt.TextInteractionFlag.LinksAccessibleByMouse | Qt.TextInteractionFlag.LinksAccessibleByKeyboard
        )
        self.sentence.setFocusPolicy(Qt.FocusPolicy.StrongFocus)
        self.sentence.setAccessibleName("Sentence of this step")
        self.sentence.linkActivated.connect(lambda link: self.edit_field(link.removeprefix("field:")))
        head.addWidget(self.sentence)
        self._add_file_note(head, node)
        self._add_cost(head, session, node)
        self._add_buttons(head, session, node)
        self.head.setVisible(True)
        self._add_form(layout, session, node)
        self._add_edits(layout, node)
        if node.kind == Table.kind:
            self._add_answer(layout, session, node)
            # A table is what its figures are; nothing of it is drawn.
            self._add_figures(layout, node)
        # What asks for attention first, what is looked up last.
        self._add_findings(layout, session, node)
        self._add_readback(layout, node)
        self._add_sources(layout, session, node)
        if node.kind != Table.kind:
            self._add_looks(layout, session, node)
            self._add_figures(layout, node)
        layout.addStretch()
        self._fit_head()

    def _add_sources(self, layout: QVBoxLayout, session: Session, node: Card) -> None:
        if node.role is not Role.MADE or (len(node.inputs) < 2 and not session.usable_sources(node.id)):
            return
        part = self.sources = SourcesPart(session, node, self.desk.files_changed)
        work = self.work.sourcing
        part.switched.connect(self._guarded(work.switch))
        part.dropped.connect(self._guarded(work.drop))
        part.added.connect(self._guarded(work.add))
        part.given_role.connect(self._guarded(work.give_role))
        part.painted.connect(self._guarded(work.paint))
        part.replaced.connect(self.source_replaced)
        used = f"{len(node.inputs) - len(node.off)} of {len(node.inputs)} used"
        layout.addWidget(Section("Sources", part, used))

    def _add_answer(self, layout: QVBoxLayout, session: Session, node: Card) -> None:
        """Draw what a step that answers gave, all its tables together on the page of the first."""
        outputs = node.node.outputs if node.output is node.node.outputs[0] else (node.output,)
        found: dict[str, Dataset] = {}
        for output in outputs:
            dataset = self.desk.dataset(output.card) if session.graph[output.card].kind == Table.kind else None
            if dataset is not None:
                found[output.which] = dataset
        conversion = catalog.conversion_named(node.operation)
        part = AnswerPart(conversion, found, self.palette_)
        if not part.charts and not part.buttons:
            return
        part.whole_wanted.connect(self.table_wanted)
        part.map_wanted.connect(lambda: self.map_wanted.emit(node.id))
        self.answer = part
        layout.addWidget(part)

    def _add_edits(self, layout: QVBoxLayout, node: Card) -> None:
        """List the edits of a card's log."""
        self.edits = None
        log = self.desk.session.editing.log(node.id)
        if log is None or not log.entries:
            return
        unit = f" {node.figures['vertical_unit']}" if node.figures.get("vertical_unit") else ""
        found = node.outcome.findings if node.outcome else ()
        missed = {
            int(number[1])
            for each in found
            if each.code == "edit-not-applied" and (number := re.match(r"Edit (\d+) ", each.text))
        }
        part = self.edits = EditsPart(log, unit, missed, self.palette_, every=self._every_edit)
        part.rewritten.connect(self._guarded(partial(self.work.making.rewrite_edits, node.id)))
        part.wanted.connect(self.place)
        part.save_wanted.connect(lambda: self.edits_saved.emit(node.id))
        part.load_wanted.connect(lambda: self.edits_loaded.emit(node.id))
        part.every_wanted.connect(self._list_every_edit)
        layout.addWidget(Section("By hand", part, count(len(log.entries), "edit")))

    def _list_every_edit(self, every: bool) -> None:
        self._every_edit = every
        self.show_nodes(self.nodes)

    def _add_file_note(self, layout: QVBoxLayout, node: Card) -> None:
        if node.id not in self.desk.files_changed:
            return
        layout.addWidget(label(escape(self.desk.files_changed[node.id] + "."), name="warning"))
        if Path(node.path).exists():
            button = QPushButton("Read it again")
            button.clicked.connect(self._guarded(lambda _=False: self.work.sourcing.read_again(node.id)))
            layout.addWidget(button, alignment=Qt.AlignmentFlag.AlignLeft)

    def _add_cost(self, layout: QVBoxLayout, session: Session, node: Card) -> None:
        failure = self.desk.failures.get(node.id)
        if failure:
            layout.addWidget(label(escape(failure), name="error"))
        if node.outcome is None or node.outcome.loss is None:
            return
        source = session.measured_against(node.id) if len(node.node.used) < 4 else "its sources"
        answers = node.kind == Table.kind
        part = CostPart(node.outcome.loss, source, self.palette_, answers=answers)
        part.place.connect(self.place)
        layout.addWidget(part)

    def _add_buttons(self, layout: QVBoxLayout, session: Session, node: Card) -> None:
        buttons: list[QPushButton] = []
        stale = session.graph.state(node.id) is not State.MADE
        if stale or node.id in self.desk.failures:
            if stale:
                layout.addWidget(
                    label(
                        "Something before it, or the way it is made, has changed; this is out of date.", name="warning"
                    )
                )
            buttons.append(QPushButton("Make again"))
            buttons[-1].setProperty("main", "true")
            buttons[-1].clicked.connect(self._guarded(lambda _=False: self.work.making.remake([node.id])))
        if declare.fields(session.params_of(node.id)):
            buttons.append(QPushButton("Fewer options" if self._more else "Further options"))
            buttons[-1].clicked.connect(self._toggle_more)
        if node.role is Role.DELIVERY:
            buttons.append(QPushButton("Open folder"))
            buttons[-1].clicked.connect(lambda: self.open_folder.emit(node.path))
        if node.role is Role.DELIVERY or (node.kind == Table.kind and node.outcome is not None):
            buttons.append(QPushButton("Save report …"))
            buttons[-1].clicked.connect(lambda: self.report_wanted.emit(node.id))
        if node.path and node.outcome is not None:
            buttons.append(QPushButton("Look into the file …"))
            buttons[-1].clicked.connect(lambda: self.file_wanted.emit(node.path))
        # Two beside each other have room in the narrowest panel.
        table = QGridLayout()
        table.setColumnStretch(2, 1)
        for k, button in enumerate(buttons):
            table.addWidget(button, k // 2, k % 2)
        layout.addLayout(table)

    def _add_form(self, layout: QVBoxLayout, session: Session, node: Card) -> None:
        """List all options, where that was asked for."""
        if not self._more:
            return
        body = QWidget()
        inside = QVBoxLayout(body)
        inside.setContentsMargins(0, 0, 0, 0)
        self.form = ParamForm(session.params_of(node.id), session.shown_words(node.id), self._suggestions(node))
        inside.addWidget(self.form)
        apply = QPushButton("Change")
        apply.clicked.connect(lambda: self._apply(node))
        inside.addWidget(apply, alignment=Qt.AlignmentFlag.AlignLeft)
        layout.addWidget(Section("Options", body))

    def _toggle_more(self) -> None:
        self._more = not self._more
        self.show_nodes(self.nodes)

    def _apply(self, node: Card) -> None:
        if self.form is None:
            return
        try:
            words = declare.to_words(self.form.value())
        except CallError:
            return
        shown = self.desk.session.shown_words(node.id)
        changed = {name: text for name, text in words.items() if text != shown.get(name)}
        if changed:
            self.desk.guarded(partial(self.work.making.change_fields, node.id, changed))

    def _add_figures(self, layout: QVBoxLayout, node: Card) -> None:
        made = node.role is not Role.DELIVERY
        figures = self.work.figuring.of(node.id) if made else None
        kind = node.kind
        hides = kind in ("tin", "grid", "mesh", "points")
        rows = figure_rows(node)
        if node.kind == Table.kind and figures is not None:
            # What was asked comes first, when it was made after it.
            rows, figures = [*figures.rows, *rows], Figures(())
        self.figures = FiguresPart(node.name, rows, figures, self.palette_, node.look, hides=hides)
        self.figures.hidden.connect(lambda words: self._hide(node, words))
        self.figures.saved.connect(self.text_saved)
        layout.addWidget(Section("Figures", self.figures))

    def _hide(self, node: Card, words: dict[str, str]) -> None:
        self.work.styling.set_look(node.id, {**node.look, **words})
        # After the press that led here is over: the panel is made anew.
        QTimer.singleShot(0, lambda: self._toggle_looks(self._more_looks))

    def _add_looks(self, layout: QVBoxLayout, session: Session, node: Card) -> None:
        dataset = (
            session.dataset(node.id) if node.role is not Role.DELIVERY and node.id not in self.desk.failures else None
        )
        if dataset is None:
            return
        surfaces = [
            each.name for each in session.graph.cards.values() if each.kind in ("tin", "grid") and each.id != node.id
        ]
        self.looks = LooksPart(dataset, node.look, surfaces, made=bool(node.inputs), more=self._more_looks)
        self.looks.look_changed.connect(lambda words: self._wear(node, words))
        self.looks.shifted.connect(lambda up: self.work.styling.shift(node.id, up))
        self.looks.more_wanted.connect(self._toggle_looks)
        layout.addWidget(Section("Look", self.looks))

    def _wear(self, node: Card, words: dict[str, str]) -> None:
        self.work.styling.set_look(node.id, words)
        if words["colour"] != node.look.get("colour"):
            # Other rows make sense now; not while the box that was just used still tells of it.
            QTimer.singleShot(0, lambda: self._toggle_looks(self._more_looks))

    def _toggle_looks(self, more: bool) -> None:
        self._more_looks = more
        self.show_nodes(self.nodes)

    def _add_readback(self, layout: QVBoxLayout, node: Card) -> None:
        report = node.outcome.delivery if node.outcome else None
        if report:
            layout.addWidget(Section("Read back from disk", ReadbackPart(report)))

    def _add_findings(self, layout: QVBoxLayout, session: Session, node: Card) -> None:
        noticed = session.noticed([node.id])
        if not noticed:
            return
        inspecting = self.work.inspecting
        able = [inspecting.can_mend(node.id, each.finding.remedy) for each in noticed]
        part = FindingsPart(noticed, self.palette_, able)
        part.wanted.connect(inspecting.go_to)
        part.mended.connect(self._guarded(lambda own: inspecting.mend(own.node, own.finding.remedy)))
        part.listed.connect(self.findings_listed)
        part.explained.connect(self.finding_explained)
        layout.addWidget(Section("Findings", part, part.told))

    # -- editing

    def edit_field(self, name: str) -> None:
        """Open the editor of one field of the sentence."""
        if len(self.nodes) != 1 or self.sentence is None:
            return
        node = self.desk.session.graph[self.nodes[0]]
        field = declare.field_named(self.desk.session.params_of(node.id), name)
        words = self.desk.session.shown_words(node.id)
        text = words.get(name, declare.value_text(field.default))
        settles = node.role is Role.MADE
        asked = name in node.words if settles else None
        own = FieldEditor(self, field, text, self._suggestions(node).get(name, []), asked=asked)
        making = self.work.making
        own.accepted.connect(self._guarded(partial(making.change_field, node.id, name)))
        own.left_open.connect(self._guarded(lambda: making.change_fields(node.id, {name: None})))
        own.edited.connect(partial(making.preview_field, node.id, name))
        own.closed.connect(making.end_preview)
        self.field_editor = own
        own.open_at(self.sentence.mapToGlobal(QPoint(0, self.sentence.height() + 4)))

    def _suggestions(self, node: Card) -> dict[str, list[str]]:
        """Return what can be chosen for parameters that name something in the data."""
        if node.role is not Role.MADE:
            return {}
        inputs = [dataset for i in node.inputs if (dataset := self.desk.session.dataset(i)) is not None]
        return self.desk.suggestions(catalog.conversion_named(node.operation), inputs)


def _scrolling() -> QScrollArea:
    scroll = QScrollArea()
    scroll.setObjectName("panelScroll")
    scroll.setWidgetResizable(True)
    scroll.setHorizontalScrollBarPolicy(Qt.ScrollBarPolicy.ScrollBarAlwaysOff)
    scroll.setFrameShape(QFrame.Shape.NoFrame)
    place = QWidget()
    place.setObjectName("panelPlace")
    QVBoxLayout(place).setContentsMargins(0, 0, 0, 0)
    scroll.setWidget(place)
    return scroll
