"""A step that is begun: its sentence with what it lacks as empty fields, the cards that fit, and what it is made with."""

from __future__ import annotations

from html import escape

from PyQt6.QtCore import Qt, pyqtSignal
from PyQt6.QtWidgets import QComboBox, QFormLayout, QHBoxLayout, QPushButton, QVBoxLayout, QWidget

from vastgrid.base.errors import CallError
from vastgrid.declarations.conversion import Input
from vastgrid.execution.steps import check_usable, settled
from vastgrid.params import declare
from vastgrid.qt.desk.desk import Desk
from vastgrid.qt.desk.drafting import Drafting
from vastgrid.qt.panel.card_words import sentence_html
from vastgrid.qt.widgets import theme
from vastgrid.qt.widgets.forms import ParamForm
from vastgrid.qt.widgets.labels import label

_A_KIND = {"TIN": "a surface", "grid": "a surface", "lines": "lines", "points": "points", "contours": "lines"}


def chosen_words(role: Input) -> str:
    """Return what stands in a sentence for a role that is empty: “choose a surface”."""
    kinds = list(dict.fromkeys(_A_KIND.get(kind.title, kind.title) for kind in role.kinds))
    return "choose " + (" or ".join(kinds) if len(kinds) < 3 else "data")


class DraftPart(QWidget):
    """What the panel shows of a step that is begun.

    Signals
    -------
    made : list of cards, list of roles, dict of words
        It is to be made.
    """

    made = pyqtSignal(list, list, dict)

    def __init__(self, desk: Desk, drafting: Drafting, palette: theme.Palette) -> None:
        super().__init__()
        draft = drafting.draft
        assert draft is not None
        self.desk, self.drafting, self.draft, self.palette_ = desk, drafting, draft, palette
        self.conversion = draft.conversion
        self.setProperty("manual", f"conversion-{draft.operation}")
        layout = QVBoxLayout(self)
        layout.setContentsMargins(0, 0, 0, 0)
        layout.setSpacing(8)
        layout.addWidget(label(escape(self.conversion.title), name="heading"))
        layout.addWidget(label("not made yet", quiet=True))
        self.sentence = label()
        self.sentence.setAccessibleName("Sentence of this step")
        layout.addWidget(self.sentence)
        self.roles: dict[str, QComboBox] = {}
        rows = QFormLayout()
        rows.setRowWrapPolicy(QFormLayout.RowWrapPolicy.WrapLongRows)
        for role in self.conversion.inputs:
            self._add_role(rows, role)
        layout.addLayout(rows)
        self.form: ParamForm | None = None
        if not draft.lacking():
            self._add_form(layout)
        self.why = label("", name="error")
        self.why.hide()
        layout.addWidget(self.why)
        row = QHBoxLayout()
        self.make = QPushButton("Make")
        self.make.setProperty("main", "true")
        self.make.clicked.connect(self._make)
        row.addWidget(self.make)
        cancel = QPushButton("Cancel")
        cancel.clicked.connect(drafting.give_up)
        row.addWidget(cancel)
        row.addStretch()
        layout.addLayout(row)
        layout.addWidget(label(escape(self.conversion.help), quiet=True))
        self._say()

    def _add_role(self, rows: QFormLayout, role: Input) -> None:
        """Let a card be chosen for a role; those that play it already can be taken out."""
        graph = self.desk.session.graph
        mine = [card for own, card in self.draft.uses if own == role.role]
        for card in mine:
            box = QComboBox()
            box.addItem(graph[card].name, card)
            box.addItem("choose another", "")
            self._add_row(rows, role, box)
            box.activated.connect(lambda at, card=card: self.drafting.empty(card) if at == 1 else None)
        if role.most is not None and len(mine) >= role.most:
            return
        fitting = self.drafting.fitting(role)
        if not fitting and len(mine) >= role.least:
            return
        box = QComboBox()
        box.addItem(chosen_words(role) if len(mine) < role.least else "none, or choose one", "")
        for card in fitting:
            box.addItem(graph[card].name, card)
        self._add_row(rows, role, box)
        box.activated.connect(
            lambda at, box=box, role=role: self.desk.guarded(lambda: self._chosen(str(box.itemData(at)), role.role))
        )
        self.roles.setdefault(role.role, box)

    def _add_row(self, rows: QFormLayout, role: Input, box: QComboBox) -> None:
        box.setAccessibleName(role.role)
        box.setToolTip(role.help)
        box.setSizeAdjustPolicy(QComboBox.SizeAdjustPolicy.AdjustToMinimumContentsLengthWithIcon)
        box.setMinimumContentsLength(14)
        rows.addRow(role.role, box)

    def _chosen(self, card: str, role: str) -> None:
        if card:
            self.drafting.fill(card, role)

    def _add_form(self, layout: QVBoxLayout) -> None:
        """Show the parameters, each with what it would be for these inputs."""
        if not declare.fields(self.conversion.params):
            return
        known = [self.desk.session.named(card) for card in self.draft.cards]
        try:
            given = check_usable(self.conversion, known, self.draft.roles)
            params = settled(self.conversion, given, declare.build(self.conversion.params, self.draft.words))
        except CallError:
            params = declare.build(self.conversion.params, self.draft.words)
        self._proposed = declare.to_words(params)
        self.form = ParamForm(self.conversion.params, self._proposed, self.desk.suggestions(self.conversion, known))
        self.form.changed.connect(self._say)
        layout.addWidget(self.form)

    def words(self) -> dict[str, str]:
        """Return what was asked for."""
        if self.form is None:
            return self.draft.words
        words = declare.to_words(self.form.value())
        return {name: text for name, text in words.items() if name in self.draft.words or text != self._proposed[name]}

    def _say(self) -> None:
        """Say the step as it is now, with what it lacks marked."""
        graph, lacking = self.desk.session.graph, self.draft.lacking()
        names = [(role, graph[card].name) for role, card in self.draft.uses]
        empty = [(role.role, chosen_words(role)) for role in lacking]
        why = ""
        try:
            params = (
                self.form.value() if self.form is not None else declare.build(self.conversion.params, self.draft.words)
            )
            if not lacking:
                known = [self.desk.session.named(card) for card in self.draft.cards]
                params = settled(self.conversion, check_usable(self.conversion, known, self.draft.roles), params)
            said = sentence_html(self.conversion.sentence(params, [*names, *empty]), self.palette_, links=False)
            self.sentence.setText(_marked(said, [words for _, words in empty], self.palette_))
        except CallError as error:
            why = str(error)
        self.why.setText(why)
        self.why.setVisible(bool(why))
        self.make.setEnabled(not lacking and not why)

    def _make(self) -> None:
        self.made.emit(self.draft.cards, self.draft.roles, self.words())

    def begin(self) -> None:
        """Take the keys: at the first role that is empty, otherwise at the button."""
        lacking = self.draft.lacking()
        own = self.roles.get(lacking[0].role) if lacking else None
        (own or self.make).setFocus(Qt.FocusReason.OtherFocusReason)


def _marked(html: str, empty: list[str], palette: theme.Palette) -> str:
    """Mark the words that stand for what is lacking as an empty field."""
    style = f"color:{palette.warning}; background-color:{palette.chip}; font-weight:600;"
    for words in dict.fromkeys(empty):
        html = html.replace(
            escape(words), f'<span style="{style}">&nbsp;{escape(words).replace(" ", "&nbsp;")}&nbsp;</span>'
        )
    return html
