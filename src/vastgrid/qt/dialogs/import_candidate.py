"""A file that may come in: what it is, what is said of it, and what it would bring."""

from __future__ import annotations

import dataclasses
from collections.abc import Sequence
from dataclasses import dataclass, field
from pathlib import Path
from typing import Any

from PyQt6.QtGui import QImage

from vastgrid import catalog
from vastgrid.base.progress import Progress
from vastgrid.base.quantities import Unit
from vastgrid.data.dataset import Dataset
from vastgrid.declarations.fileformat import Format
from vastgrid.execution.steps import Source, peek_file, read_file, turned_findings
from vastgrid.formats import dxf as dxf_format
from vastgrid.measures.evidence import Suggestion, suggestions, units_doubtful
from vastgrid.params import declare
from vastgrid.qt.dialogs.import_text import fitting
from vastgrid.qt.drawing import rendering
from vastgrid.qt.drawing.view import View, bounds, fitted
from vastgrid.qt.widgets import theme

WIDTH, HEIGHT = 700, 460


@dataclass(frozen=True, eq=False)
class Contents:
    """What a file would bring.

    Attributes
    ----------
    source : Source
        What was read, all of it or a sample.
    image, view : QImage or None, View
        A picture of it.
    hints : list of Suggestion
        Units that something speaks for.
    drawing : Drawing or None
        A DXF's entities, for sorting rules.
    """

    source: Source
    image: QImage | None
    view: View
    hints: list[Suggestion]
    drawing: dxf_format.Drawing | None

    @property
    def sampled(self) -> bool:
        """Whether only a part was read, for the picture."""
        return bool(self.source.totals)


@dataclass(eq=False)
class Candidate:
    """One file that may come in.

    Attributes
    ----------
    path, kind : Path, Format or None
        The file, and what it is.
    words : dict
        Reading options.
    units : list of Unit or None
        Plan and height unit said for what the file leaves unknown.
    contents : Contents or None
        What it would bring, as it was last read.
    reading : bool
        Whether it is being read, so that `contents` may be out of date.
    error : str
        Why it cannot come in.
    number : int
        How often it was begun to be read, so that a late answer is told from the last one.
    """

    path: Path
    kind: Format | None = None
    words: dict[str, str] = field(default_factory=dict)
    units: list[Unit | None] = field(default_factory=lambda: [None, None])
    contents: Contents | None = None
    reading: bool = False
    error: str = ""
    number: int = 0

    @property
    def source(self) -> Source | None:
        """What was read of it; None while that is out of date or it cannot be read."""
        return self.contents.source if self.contents and not self.reading and not self.error else None

    @property
    def drawing(self) -> dxf_format.Drawing | None:
        """A DXF's entities."""
        return self.contents.drawing if self.contents else None

    @property
    def editor(self) -> str:
        """Which editor of its own the format has for its options; empty for none."""
        return self.kind.editor if self.kind is not None else ""

    @property
    def doubtful(self) -> bool:
        """Whether what the file says of its units cannot be relied on."""
        return self.source is not None and units_doubtful(self.source.findings)

    def recognise(self, remembered: dict[str, Any]) -> None:
        """Find out what it is, and take the options that were used last for such a file.

        Raises
        ------
        FormatError
            If no format fits.
        """
        self.kind = catalog.recognise(self.path)
        known = {each.name for each in declare.fields(self.kind.read_params) if not each.param.once}
        self.words = {key: word for key, word in remembered.get(self.kind.id, {}).items() if key in known}
        if self.editor == "columns":
            self.words |= fitting(self.path, remembered.get("layouts", {})) or {}


def examine(path: Path, kind: Format, words: dict[str, str], others: Sequence[Dataset], progress: Progress) -> Contents:
    """Read a file, or a sample of a large one, and draw it; slow, for a worker thread.

    Parameters
    ----------
    others : sequence of Dataset
        What its units are compared with.
    """
    drawing = None
    source = peek_file(path, words, progress)
    if source is None:
        source = read_file(path, words, progress)
        if kind.editor == "rules":
            params = declare.build(dxf_format.DxfReadParams, words)
            drawing, frame = dxf_format.open_drawing(path, params, progress, [])
    # A drawing is shown whole, so that what no rule takes can still be picked.
    shown = source.datasets if drawing is None else dxf_format.as_it_is(path, drawing, frame, [])
    image, view = None, View(0.0, 0.0, 1.0, 1, 1)
    box = bounds(shown)
    if box is not None:
        view = fitted(box, WIDTH, HEIGHT)
        image = rendering.draw(shown, view, theme.LIGHT)
    source = dataclasses.replace(source, findings=(*turned_findings(source, words, others), *source.findings))
    hints = [hint for dataset in source.datasets[:1] for hint in suggestions(dataset, others)]
    return Contents(source, image, view, hints, drawing)
