"""Asking for a conversion's parameters before it is made, where no default would be what is meant."""

from __future__ import annotations

from PyQt6.QtWidgets import QDialog, QDialogButtonBox, QPushButton, QVBoxLayout, QWidget

from vastgrid.base.errors import CallError
from vastgrid.declarations.conversion import Conversion
from vastgrid.params import declare
from vastgrid.qt.forms import ParamForm
from vastgrid.qt.panel_labels import label
from vastgrid.session.session import Session


class AskDialog(QDialog):
    """A form for one conversion, with the sentence it makes and what it would give.

    Parameters
    ----------
    words : dict
        What is known already.
    """

    def __init__(
        self, parent: QWidget | None, session: Session, conversion: Conversion, inputs: list[str], words: dict[str, str]
    ) -> None:
        super().__init__(parent)
        self.setWindowTitle(conversion.title)
        self.resize(520, 320)
        self.session, self.conversion, self.inputs = session, conversion, inputs
        datasets = [dataset for node in inputs if (dataset := session.dataset(node)) is not None]
        self.datasets = datasets
        try:
            params = conversion.settle(datasets, declare.build(conversion.params, words))
        except CallError:
            params = declare.build(conversion.params, words)
        layout = QVBoxLayout(self)
        layout.addWidget(label(conversion.help))
        self.form = ParamForm(conversion.params, declare.to_words(params))
        self.form.changed.connect(self._say)
        layout.addWidget(self.form)
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

    def words(self) -> dict[str, str]:
        """Return the parameters as words."""
        return declare.to_words(self.form.value())

    def _say(self) -> None:
        try:
            params = self.conversion.settle(self.datasets, self.form.value())
            names = [self.session.graph[node].name for node in self.inputs]
            self.sentence.setText(declare.plain(self.conversion.sentence(params, names)))
            self.make.setEnabled(True)
        except CallError as error:
            self.sentence.setText(str(error))
            self.make.setEnabled(False)
