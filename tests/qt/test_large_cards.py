"""Cards of large files: what is offered in tiles, and results that come in from their coarse levels."""

from __future__ import annotations

import numpy as np
import pytest
from PyQt6.QtWidgets import QMessageBox, QPushButton
from rasterio import Affine

from hands import named
from tiling.grounds import put
from vastgrid import catalog
from vastgrid.base.progress import Silent
from vastgrid.execution.steps import read_file
from vastgrid.qt.dialogs.large_dialog import LargeDialog
from vastgrid.qt.window import tiling


@pytest.fixture
def hill(tmp_path):
    y, x = np.mgrid[0:300, 0:400]
    put(tmp_path / "hill.tif", 50 + 9 * np.sin(x / 40) + y * 0.05, Affine(2, 0, 500_000, 0, -2, 5_000_000), -9999)
    return tmp_path / "hill.tif"


def bring_in(window, path, words=None):
    words = words or {}
    source = read_file(path, words, Silent(), (None, None))
    nodes = window.session.sources.take_in(source, words, (None, None), Silent())
    window.session.accept(nodes, f"import {path.name}")
    window.desk.select([nodes[0].outputs[0].card])
    return nodes[0].outputs[0].card


def offered(window):
    return [each for each in window.parts.offers.choices(window.actions_) if each.group.startswith("In tiles")]


def wait(qtbot, window):
    qtbot.waitUntil(lambda: not window.desk.runner.busy, timeout=60_000)
    qtbot.wait(50)


def test_a_card_of_a_large_file_offers_work_in_tiles(qtbot, window, hill, monkeypatch):
    bring_in(window, hill)
    assert not offered(window)
    monkeypatch.setattr(tiling, "MANY", 100_000)
    own = {each.title: each for each in offered(window)}
    slope = own["Slope in tiles"]
    assert "tile, about" in slope.quiet and "of scratch" in slope.quiet
    # What needs a word first says so; a question, and a step after which another has to come, are not there.
    assert own["Simplify to a tolerance in tiles"].quiet == "asks for its values first"
    assert not any("Cut and fill" in text or text.startswith("TIN") for text in own)
    slope.run()
    dialog = window.findChild(LargeDialog)
    step = next(each for each in dialog.findChildren(QPushButton) if each.text() == "Add step")
    step.click()
    assert dialog.steps.count() == 1
    assert dialog.target.text().endswith("hill-slope.tif")
    dialog.workers.setValue(0)
    dialog.begin.click()
    wait(qtbot, window)
    made = window.session.dataset(named(window, "hill-slope"))
    assert made.holds() == "slope in %"
    assert made.heights.shape == (300, 400)
    dialog.close()


def test_a_result_too_large_for_the_job_comes_in_from_its_coarse_levels(qtbot, window, hill, monkeypatch):
    """And what is made of it in tiles is made of all its cells."""
    monkeypatch.setattr(tiling, "MOST_CELLS", 50_000)
    monkeypatch.setattr(tiling, "COARSE_CELLS", 8_000)
    dialog = window.parts.tiling.ask()
    dialog.set_paths([hill])
    dialog.add_step(catalog.conversion_named("grid"), {"cell": "1"})
    dialog.target.setText(str(hill.with_name("fine.tif")))
    dialog.workers.setValue(0)
    dialog.begin.click()
    wait(qtbot, window)
    card = named(window, "fine")
    node = window.session.graph.node(card)
    assert node.words["coarser"] == "8"
    grid = window.session.dataset(card)
    assert grid.heights.shape == (75, 100)
    assert (grid.dx, grid.dy) == (8.0, 8.0)
    assert "read-coarser" in [each.code for each in node.outcome.findings]
    dialog.close()
    window.desk.select([card])
    next(each for each in offered(window) if each.title == "Hillshade in tiles").run()
    dialog = window.findChildren(LargeDialog)[-1]
    next(each for each in dialog.findChildren(QPushButton) if each.text() == "Add step").click()
    dialog.card.setChecked(False)
    dialog.workers.setValue(0)
    dialog.begin.click()
    wait(qtbot, window)
    made = read_file(hill.with_name("fine-hillshade.tif"), {}, Silent(), (None, None)).datasets[0]
    assert made.heights.shape == (600, 800)
    dialog.close()


def test_a_set_of_parts_is_told(qtbot, window, hill):
    dialog = window.parts.tiling.ask()
    dialog.set_paths([hill])
    dialog.add_step(catalog.conversion_named("simplify"), {"tolerance": "0.5"})
    dialog.target.setText(str(hill.with_name("parts.xml")))
    dialog.tile.setText("300m")
    dialog.workers.setValue(0)
    dialog.begin.click()
    wait(qtbot, window)
    assert len(list(hill.parent.glob("parts-r*-c*.xml"))) == 6
    box = next(each for each in window.findChildren(QMessageBox) if each.isVisible())
    assert "parts-r1-c1.xml" in box.text()
    box.close()
    dialog.close()


def test_a_raster_read_coarser_says_so(hill, tmp_path):
    read = read_file(hill, {"coarser": "7"}, Silent(), (None, None))
    (grid,) = read.datasets
    assert grid.heights.shape == (43, 58)
    assert grid.dx * 58 == pytest.approx(800.0)
    assert grid.dy * 43 == pytest.approx(600.0)
    assert [each.code for each in read.findings if each.code == "read-coarser"]
    full = read_file(hill, {}, Silent(), (None, None)).datasets[0]
    assert np.isin(np.round(grid.heights, 9), np.round(full.heights, 9)).all()
