"""The panel of the chosen card: its sentence, what it cost, figures and findings."""

from __future__ import annotations

import re
from collections.abc import Callable
from html import escape
from pathlib import Path

from PyQt6.QtCore import QPoint, Qt, QTimer, pyqtSignal
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
from vastgrid.base.findings import Remedy
from vastgrid.data.dataset import Dataset
from vastgrid.data.table import Table
from vastgrid.jobs.session import Session
from vastgrid.lineage.graph import Card, Role, State
from vastgrid.measures.figures import Figures
from vastgrid.params import declare
from vastgrid.qt.desk.cards import kind_text
from vastgrid.qt.desk.desk import Desk
from vastgrid.qt.panel.answer_part import AnswerPart
from vastgrid.qt.panel.card_words import figure_rows, sentence_html
from vastgrid.qt.panel.cost_part import CostPart
from vastgrid.qt.panel.edits_part import EditsPart
from vastgrid.qt.panel.figures_part import FiguresPart
from vastgrid.qt.panel.findings_part import FindingsPart
from vastgrid.qt.panel.looks_part import LooksPart
from vastgrid.qt.panel.readback_part import ReadbackPart
from vastgrid.qt.panel.sources_part import SourcesPart
from vastgrid.qt.widgets import theme
from vastgrid.qt.widgets.field_editor import FieldEditor
from vastgrid.qt.widgets.forms import ParamForm
from vastgrid.qt.widgets.labels import label, rule


class Panel(QWidget):
    """What belongs to the chosen card.

    Signals
    -------
    field_changed : node, field, text
        A field of the sentence was changed.
    fields_changed : node, words
        Several fields were changed at once.
    field_edited : node, field, text
        A field is being edited; nothing is to be made yet.
    editing_ended : ()
        The field's editor closed.
    remake : list of node
        “Make again” was pressed.
    place : east, north
        A place is to be shown.
    renamed : node, name
        Another name was typed.
    read_again : node
        A source's changed file is to be read again.
    worn : node, words
        Another look was chosen.
    shifted : node, up
        A card is to move in the stack.
    report_wanted : node
        The report of what led to a card is to be saved.
    file_wanted : path
        The tree of a file is to be shown.
    text_saved : path, text
        Text is to be written to a file.
    table_wanted : Table
        A table is to be shown whole.
    map_wanted : node
        The difference that volumes were added up from is to be drawn.
    finding_… : Noticed
        As of `FindingsPart`.
    source_… : node, source …
        As of `SourcesPart`.
    edits_changed : node, lines
        The log of edits is to be another one.
    edits_saved, edits_loaded : node
        The log is to be written to a file, or read from one.
    """

    edits_changed = pyqtSignal(str, list)
    edits_saved = pyqtSignal(str)
    edits_loaded = pyqtSignal(str)
    field_changed = pyqtSignal(str, str, str)
    field_left_open = pyqtSignal(str, str)
    fields_changed = pyqtSignal(str, dict)
    field_edited = pyqtSignal(str, str, str)
    editing_ended = pyqtSignal()
    remake = pyqtSignal(list)
    place = pyqtSignal(float, float)
    renamed = pyqtSignal(str, str)
    compare = pyqtSignal(str, str)
    open_folder = pyqtSignal(str)
    report_wanted = pyqtSignal(str)
    file_wanted = pyqtSignal(str)
    text_saved = pyqtSignal(str, str)
    table_wanted = pyqtSignal(object)
    map_wanted = pyqtSignal(str)
    look_changed = pyqtSignal(str, dict)
    shifted = pyqtSignal(str, bool)
    finding_wanted = pyqtSignal(object)
    finding_mended = pyqtSignal(object)
    findings_listed = pyqtSignal()
    finding_explained = pyqtSignal(str)
    read_again = pyqtSignal(str)
    source_switched = pyqtSignal(str, str, bool)
    source_dropped = pyqtSignal(str, str)
    source_replaced = pyqtSignal(str, str)
    source_added = pyqtSignal(str, str)
    source_painted = pyqtSignal(str, str)
    source_given_role = pyqtSignal(str, str, str)

    def __init__(self, desk: Desk, palette: theme.Palette) -> None:
        super().__init__()
        self.desk = desk
        self.setObjectName("panel")
        self.setAttribute(Qt.WidgetAttribute.WA_StyledBackground)
        self.palette_ = palette
        self.nodes: list[str] = []
        self.figures: FiguresPart | None = None
        self.figures_of: Callable[[str], Figures | None] = lambda node: None
        self.can_mend: Callable[[str, Remedy | None], bool] = lambda node, remedy: False
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
        outer = QVBoxLayout(self)
        outer.setContentsMargins(0, 0, 0, 0)
        self._scroll = QScrollArea()
        self._scroll.setObjectName("panelScroll")
        self._scroll.setWidgetResizable(True)
        self._scroll.setHorizontalScrollBarPolicy(Qt.ScrollBarPolicy.ScrollBarAlwaysOff)
        self._scroll.setFrameShape(QFrame.Shape.NoFrame)
        outer.addWidget(self._scroll)
        self.setMinimumWidth(300)
        self.show_nothing()

    # -- filling

    def _fresh(self) -> QVBoxLayout:
        body = QWidget()
        body.setObjectName("panelBody")
        layout = QVBoxLayout(body)
        layout.setContentsMargins(18, 14, 18, 14)
        layout.setSpacing(8)
        # The old content may hold the very button whose signal led here: it goes when that is over.
        old = self._scroll.takeWidget()
        if old is not None:
            old.hide()
            old.deleteLater()
        self._scroll.setWidget(body)
        self.sentence = None
        self.sources = None
        self.looks = None
        self.answer = None
        return layout

    def show_nothing(self) -> None:
        """Say what to do first."""
        layout = self._fresh()
        layout.addWidget(label("Nothing chosen", name="heading"))
        layout.addWidget(
            label(
                "Choose a card below to read how it was made, to change its sentence, and to see what it cost. "
                "The + at a card's edge makes something from it.",
                quiet=True,
            )
        )
        layout.addStretch()

    def show_nodes(self, nodes: list[str]) -> None:
        """Show one card's step, or what can be done with several."""
        if nodes != self.nodes:
            self._more = False
        self.nodes = nodes
        session = self.desk.session
        place = self._scroll.verticalScrollBar()
        at = place.value() if place else 0
        if not nodes:
            self.show_nothing()
        elif len(nodes) == 1:
            self._show_one(session, session.graph[nodes[0]])
        else:
            self._show_several(session, nodes)
        if place:
            QTimer.singleShot(0, lambda: place.setValue(at))

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
        name = QLineEdit(node.name)
        name.setAccessibleName("Name")
        # Of a long name the beginning is seen.
        name.setCursorPosition(0)
        name.setStyleSheet(
            f"QLineEdit {{ font-size: {theme.points(13)}; font-weight: 600; background: transparent; border: none; padding: 2px 0; }} "
            f"QLineEdit:focus {{ border-bottom: 2px solid {self.palette_.action}; }}"
        )
        name.editingFinished.connect(lambda: self.renamed.emit(node.id, name.text()))
        layout.addWidget(name)
        when = node.outcome.when[11:16] if node.outcome else ""
        kind = node.kind or node.operation
        layout.addWidget(label(kind_text(node, kind) + (f" · made {when}" if when else ""), quiet=True))
        self.sentence = label()
        self.sentence.setText(sentence_html(session.sentence(node.id), self.palette_))
        self.sentence.setTextInteractionFlags(
            Qt.TextInteractionFlag.LinksAccessibleByMouse | Qt.TextInteractionFlag.LinksAccessibleByKeyboard
        )
        self.sentence.setFocusPolicy(Qt.FocusPolicy.StrongFocus)
        self.sentence.setAccessibleName("Sentence of this step")
        self.sentence.linkActivated.connect(lambda link: self.edit_field(link.removeprefix("field:")))
        layout.addWidget(self.sentence)
        self._add_edits(layout, node)
        self._add_file_note(layout, node)
        self._add_cost(layout, session, node)
        if node.kind == Table.kind:
            self._add_answer(layout, session, node)
            # A table is what its figures are; nothing of it is drawn.
            self._add_figures(layout, node)
        self._add_buttons(layout, session, node)
        # What asks for attention first, what is looked up last.
        self._add_findings(layout, session, node)
        self._add_readback(layout, node)
        if node.role is Role.MADE and (len(node.inputs) > 1 or session.usable_sources(node.id)):
            layout.addWidget(rule())
            self.sources = SourcesPart(session, node, self.desk.files_changed)
            for signal in ("switched", "dropped", "replaced", "added", "painted", "given_role"):
                getattr(self.sources, signal).connect(getattr(self, f"source_{signal}"))
            layout.addWidget(self.sources)
        if node.kind != Table.kind:
            self._add_looks(layout, session, node)
            layout.addWidget(rule())
            self._add_figures(layout, node)
        layout.addStretch()

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
        layout.addWidget(rule())
        part = self.edits = EditsPart(log, unit, missed, self.palette_, every=self._every_edit)
        part.rewritten.connect(lambda lines: self.edits_changed.emit(node.id, lines))
        part.wanted.connect(self.place)
        part.save_wanted.connect(lambda: self.edits_saved.emit(node.id))
        part.load_wanted.connect(lambda: self.edits_loaded.emit(node.id))
        part.every_wanted.connect(self._list_every_edit)
        layout.addWidget(part)

    def _list_every_edit(self, every: bool) -> None:
        self._every_edit = every
        self.show_nodes(self.nodes)

    def _add_file_note(self, layout: QVBoxLayout, node: Card) -> None:
        if node.id not in self.desk.files_changed:
            return
        layout.addWidget(label(escape(self.desk.files_changed[node.id] + "."), name="warning"))
        if Path(node.path).exists():
            button = QPushButton("Read it again")
            button.clicked.connect(lambda: self.read_again.emit(node.id))
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
            buttons[-1].clicked.connect(lambda: self.remake.emit([node.id]))
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
        if self._more:
            self.form = ParamForm(session.params_of(node.id), session.shown_words(node.id), self._suggestions(node))
            layout.addWidget(self.form)
            apply = QPushButton("Change")
            apply.clicked.connect(lambda: self._apply(node))
            layout.addWidget(apply, alignment=Qt.AlignmentFlag.AlignLeft)

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
            self.fields_changed.emit(node.id, changed)

    def _add_figures(self, layout: QVBoxLayout, node: Card) -> None:
        made = node.role is not Role.DELIVERY
        figures = self.figures_of(node.id) if made else None
        kind = node.kind
        hides = kind in ("tin", "grid", "mesh", "points")
        rows = figure_rows(node)
        if node.kind == Table.kind and figures is not None:
            # What was asked comes first, when it was made after it.
            rows, figures = [*figures.rows, *rows], Figures(())
        self.figures = FiguresPart(node.name, rows, figures, self.palette_, node.look, hides=hides)
        self.figures.hidden.connect(lambda words: self._hide(node, words))
        self.figures.saved.connect(self.text_saved)
        layout.addWidget(self.figures)

    def _hide(self, node: Card, words: dict[str, str]) -> None:
        self.look_changed.emit(node.id, {**node.look, **words})
        # After the press that led here is over: the panel is made anew.
        QTimer.singleShot(0, lambda: self._toggle_looks(self._more_looks))

    def _add_looks(self, layout: QVBoxLayout, session: Session, node: Card) -> None:
        dataset = (
            session.dataset(node.id) if node.role is not Role.DELIVERY and node.id not in self.desk.failures else None
        )
        if dataset is None:
            return
        layout.addWidget(rule())
        surfaces = [
            each.name for each in session.graph.cards.values() if each.kind in ("tin", "grid") and each.id != node.id
        ]
        self.looks = LooksPart(dataset, node.look, surfaces, made=bool(node.inputs), more=self._more_looks)
        self.looks.look_changed.connect(lambda words: self._wear(node, words))
        self.looks.shifted.connect(lambda up: self.shifted.emit(node.id, up))
        self.looks.more_wanted.connect(self._toggle_looks)
        layout.addWidget(self.looks)

    def _wear(self, node: Card, words: dict[str, str]) -> None:
        self.look_changed.emit(node.id, words)
        if words["colour"] != node.look.get("colour"):
            # Other rows make sense now; not while the box that was just used still tells of it.
            QTimer.singleShot(0, lambda: self._toggle_looks(self._more_looks))

    def _toggle_looks(self, more: bool) -> None:
        self._more_looks = more
        self.show_nodes(self.nodes)

    def _add_readback(self, layout: QVBoxLayout, node: Card) -> None:
        report = node.outcome.delivery if node.outcome else None
        if report:
            layout.addWidget(rule())
            layout.addWidget(ReadbackPart(report))

    def _add_findings(self, layout: QVBoxLayout, session: Session, node: Card) -> None:
        noticed = session.noticed([node.id])
        if not noticed:
            return
        layout.addWidget(rule())
        part = FindingsPart(noticed, self.palette_, [self.can_mend(node.id, each.finding.remedy) for each in noticed])
        part.wanted.connect(self.finding_wanted)
        part.mended.connect(self.finding_mended)
        part.listed.connect(self.findings_listed)
        part.explained.connect(self.finding_explained)
        layout.addWidget(part)

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
        own.accepted.connect(lambda value: self.field_changed.emit(node.id, name, value))
        own.left_open.connect(lambda: self.field_left_open.emit(node.id, name))
        own.edited.connect(lambda value: self.field_edited.emit(node.id, name, value))
        own.closed.connect(self.editing_ended)
        self.field_editor = own
        own.open_at(self.sentence.mapToGlobal(QPoint(0, self.sentence.height() + 4)))

    def _suggestions(self, node: Card) -> dict[str, list[str]]:
        """Return what can be chosen for parameters that name something in the data."""
        if node.role is not Role.MADE:
            return {}
        inputs = [dataset for i in node.inputs if (dataset := self.desk.session.dataset(i)) is not None]
        return self.desk.suggestions(catalog.conversion_named(node.operation), inputs)
