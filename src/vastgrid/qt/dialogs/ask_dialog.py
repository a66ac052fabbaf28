"""Asking for a conversion's parameters before it is made, where no default would be what is meant."""

from __future__ import annotations

from typing import Any

from PyQt6.QtWidgets import QComboBox, QDialog, QDialogButtonBox, QFormLayout, QPushButton, QVBoxLayout, QWidget

from vastgrid.base.errors import CallError
from vastgrid.declarations.conversion import Conversion
from vastgrid.execution.steps import check_usable, roles_of, settled
from vastgrid.jobs.session import Session
from vastgrid.params import declare
from vastgrid.qt.widgets.forms import ParamForm
from vastgrid.qt.widgets.labels import label


class AskDialog(QDialog):
    """A form for one conversion, with the sentence it makes and what it would give.

    Parameters
    ----------
    words : dict
        What is known already.
    suggestions : dict or None
        What can be chosen for parameters; None for what the conversion itself suggests.
    """

    def __init__(
        self,
        parent: QWidget | None,
        session: Session,
        conversion: Conversion,
        inputs: list[str],
        words: dict[str, str],
        suggestions: dict[str, list[str]] | None = None,
    ) -> None:
        super().__init__(parent)
        self.setWindowTitle(conversion.title)
        self.setProperty("manual", f"conversion-{conversion.id}")
        self.resize(520, 320)
        self.session, self.conversion, self.inputs = session, conversion, inputs
        self.given = check_usable(conversion, [session.named(node) for node in inputs])
        self.order = _by_role(conversion, inputs, session)
        params, words = self._first(words)
        self.asked = words
        self.proposed = declare.to_words(params)
        layout = QVBoxLayout(self)
        layout.addWidget(label(conversion.help))
        self.form = ParamForm(conversion.params, self.proposed, suggestions or conversion.suggest(self.given))
        self.form.changed.connect(self._say)
        layout.addWidget(self.form)
        self.roles: dict[str, QComboBox] = {}
        if len(conversion.inputs) > 1:
            self._add_roles(layout)
        self.sentence = label("", quiet=True)
        layout.addWidget(self.sentence)
        layout.addStretch()
        buttons = QDialogButtonBox(QDialogButtonBox.StandardButton.Cancel)
        self.make: QPushButton = buttons.addButton("Make", QDialogButtonBox.ButtonRole.AcceptRole)  # type: ignore[assignment]
        self.make.setProperty("main", "true")
        buttons.accepted.connect(self.accept)
        buttons.rejected.connect(self.reject)
        layout.addWidget(buttons)
        self._say()

    def _add_roles(self, layout: QVBoxLayout) -> None:
        """Let cards change their roles, where each role has one."""
        rows = QFormLayout()
        for node, role in self.order:
            box = QComboBox()
            box.setAccessibleName(f"Role of {self.session.graph[node].name}")
            able = [
                each for each in self.conversion.inputs if self.conversion.can_use(self.session.named(node), each.role)
            ]
            for each in able:
                box.addItem(each.role + (f": {each.help}" if each.help else ""), each.role)
            box.setCurrentIndex([each.role for each in able].index(role))
            box.currentIndexChanged.connect(lambda _, node=node: self._role_changed(node))
            self.roles[node] = box
            rows.addRow(self.session.graph[node].name, box)
        layout.addLayout(rows)

    def _role_changed(self, node: str) -> None:
        """Give a card the role that was chosen; the card that had it takes the role that is free now."""
        role = str(self.roles[node].currentData())
        was = dict(self.order)[node]
        if self.conversion.role(role).most == 1:
            for other, box in self.roles.items():
                if other != node and box.currentData() == role and box.findData(was) >= 0:
                    box.blockSignals(True)
                    box.setCurrentIndex(box.findData(was))
                    box.blockSignals(False)
        self.order = [(other, str(box.currentData())) for other, box in self.roles.items()]
        self._say()

    def said_roles(self) -> list[str]:
        """Return the role of each input, in the order in which they were given."""
        return [dict(self.order)[node] for node in self.inputs]

    def words(self) -> dict[str, str]:
        """Return what is asked for: what was known already, and what was changed here."""
        words = declare.to_words(self.form.value())
        return {name: text for name, text in words.items() if name in self.asked or text != self.proposed[name]}

    def _first(self, words: dict[str, str]) -> tuple[Any, dict[str, str]]:
        """Return what is proposed: what is said, and beside it what was asked for the last time, where it fits this data."""
        last = {**self.session.remembered("asked", self.conversion.id), **words}
        try:
            params = declare.build(self.conversion.params, last)
            return settled(self.conversion, self.given, params), last
        except CallError:
            return self._settled(declare.build(self.conversion.params, words)), words

    def _settled(self, params: Any) -> Any:
        try:
            return settled(self.conversion, self.given, params)
        except CallError:
            return params

    def _say(self) -> None:
        try:
            self.given = check_usable(
                self.conversion, [self.session.named(node) for node in self.inputs], self.said_roles()
            )
            params = settled(self.conversion, self.given, self.form.value())
            names = [(role, each.name) for role, each in zip(self.given.roles, self.given, strict=True)]
            self.sentence.setText(declare.plain(self.conversion.sentence(params, names)))
            self.make.setEnabled(True)
        except CallError as error:
            self.sentence.setText(str(error))
            self.make.setEnabled(False)


def _by_role(conversion: Conversion, inputs: list[str], session: Session) -> list[tuple[str, str]]:
    return list(zip(inputs, roles_of(conversion, [session.named(node) for node in inputs]), strict=True))
