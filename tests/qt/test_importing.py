"""The import window in the real window: several files, units with evidence, layouts, rules, samples; sources; areas."""

import shutil

import ezdxf
import numpy as np
import pytest
from PyQt6.QtCore import QMimeData, QPointF, Qt, QUrl
from PyQt6.QtGui import QDropEvent

import samples
from builders import DATA, HANDMADE
from hands import makeable
from vastgrid.base.quantities import Unit
from vastgrid.data.frame import Frame
from vastgrid.data.pointset import PointSet
from vastgrid.data.tin import areas
from vastgrid.execution.steps import Source
from vastgrid.formats import text as text_format
from vastgrid.formats.dxf.sorting import Becomes, Rule
from vastgrid.jobs.session import Session
from vastgrid.lineage import cloudindex
from vastgrid.qt.dialogs.import_candidate import Candidate, Contents
from vastgrid.qt.dialogs.import_units import UnitsPart
from vastgrid.qt.drawing import rendering
from vastgrid.qt.drawing.view import View, bounds, fitted
from vastgrid.qt.widgets import theme
from vastgrid.qt.window.main_window import MainWindow
from vastgrid.styling.colouring import plain


@pytest.fixture
def window(qtbot, tmp_path):
    theme.load_fonts()
    made = MainWindow(Session(tmp_path / "Tollgarth test"))
    qtbot.addWidget(made)
    made.show()
    qtbot.waitExposed(made)
    yield made
    made.close()


@pytest.fixture
def opened(qtbot, window):
    """Open the import window for files and wait until all are read."""

    def call(*paths):
        dialog = window.parts.importing.dialog(*paths)
        dialog.show()
        ready(qtbot, dialog)
        return dialog

    return call


def ready(qtbot, dialog):
    def done():
        return not dialog._soon.isActive() and all(each.source or each.error for each in dialog.candidates)

    qtbot.waitUntil(done, timeout=30_000)
    qtbot.wait(30)


def idle(qtbot, window):
    qtbot.waitUntil(lambda: not window.desk.runner.busy, timeout=60_000)
    qtbot.wait(80)


def names(window):
    return [node.name for node in window.session.graph.cards.values()]


def test_a_folder_of_many_formats_comes_in_at_once(qtbot, window, opened, demo):
    dialog = opened(*sorted((demo / "received").glob("*")))
    assert dialog.list.count() == 10 and not any(each.error for each in dialog.candidates)
    assert all(each.contents.image is not None for each in dialog.candidates)
    assert dialog.take.text() == "Import 10 files"
    at = [each.path.name for each in dialog.candidates].index("pit-scan.laz")
    dialog.list.item(at).setCheckState(Qt.CheckState.Unchecked)
    assert dialog.take.text() == "Import 9 files"
    dialog.list.setCurrentRow([each.path.name for each in dialog.candidates].index("surroundings-1998.tif"))
    assert "international foot, says the file" in dialog.units.notes[1].text()
    dialog.take.click()
    idle(qtbot, window)
    assert "day1" in names(window) and "pit-scan" not in names(window) and len(names(window)) >= 7
    old = next(node for node in window.session.graph.cards.values() if node.name == "surroundings-1998")
    assert old.node.into == ("m", "m"), "brought into the job's units by a recorded step"


def test_one_bad_file_among_good_ones(qtbot, window, opened, demo, tmp_path):
    shutil.copy(demo / "received" / "day1.csv", tmp_path / "a.csv")
    (tmp_path / "broken.laz").write_bytes(b"LASF" + bytes(400))
    dialog = opened(tmp_path / "a.csv", tmp_path / "broken.laz")
    dialog.list.setCurrentRow(1)
    assert "broken.laz" in dialog.error.text()
    assert dialog.take.isEnabled() and dialog.take.text() == "Import 1 file"
    dialog.take.click()
    idle(qtbot, window)
    assert names(window) == ["a"]


def test_units_are_suggested_and_never_applied_unasked(qtbot, window, opened, demo, tmp_path):
    dialog = opened(demo / "received" / "day1.csv")
    dialog.take.click()
    idle(qtbot, window)
    rows = np.loadtxt(demo / "received" / "day1.csv", delimiter=",", skiprows=1, usecols=(1, 2, 3))[:800] / 0.3048
    np.savetxt(tmp_path / "feet.csv", rows, delimiter=",", header="E,N,Z", comments="", fmt="%.3f")
    dialog = opened(tmp_path / "feet.csv")
    assert dialog.units.boxes[0].currentData() is None and dialog.units.boxes[1].currentData() is None
    assert "Take international foot: so read, it lies with day1" in dialog.units.hints[0].text()
    assert "A unit is unknown" in dialog.findings.text()
    for button in dialog.units.hints:
        qtbot.mouseClick(button, Qt.MouseButton.LeftButton)
    assert [box.currentData().value for box in dialog.units.boxes] == ["ft", "ft"]
    assert "A unit is unknown" not in dialog.findings.text()
    dialog.take.click()
    idle(qtbot, window)
    brought = window.session.dataset(next(n.id for n in window.session.graph.cards.values() if n.name == "feet"))
    np.testing.assert_allclose(brought.xyz[0], rows[0] * 0.3048, atol=1e-3)


def test_what_was_said_of_one_file_is_not_proposed_for_the_next(tmp_path):
    first = tmp_path / "a.las"
    shutil.copy(DATA / "simple.las", first)
    candidate = Candidate(first)
    candidate.recognise({"las": {"crop": "1,2,3,4", "classes": "2", "gone": "x"}})
    assert candidate.words == {"classes": "2"}, "a cropped area belongs to one place; what is not an option is left out"


def test_a_file_that_is_not_read_yet_shows_no_other_files_units(qtbot, tmp_path):
    """Going to another file before it is read: nothing is said of its units yet."""
    frame = Frame(None, Unit.FOOT, Unit.FOOT)
    points = PointSet(name="a", frame=frame, xyz=np.eye(3))
    source = Source(path=tmp_path / "a.csv", format=text_format.FORMAT, datasets=(points,), findings=())
    part = UnitsPart(lambda: None)
    qtbot.addWidget(part)
    part.show_candidate(Candidate(tmp_path / "a.csv", contents=Contents(source, None, View(0, 0, 1, 1, 1), [], None)))
    assert part.notes[0].text() == "international foot, says the file"
    part.show_candidate(Candidate(tmp_path / "b.csv"))
    assert [note.text() for note in part.notes] == ["", ""]


def test_layouts_are_kept_and_offered_for_the_next_file(qtbot, window, opened, tmp_path):
    rows = "\n".join(f"{240 + k / 10:.2f};{431_000 + k};{887_000 + 2 * k};R{k}" for k in range(40))
    (tmp_path / "one.csv").write_text(rows)
    (tmp_path / "two.csv").write_text(rows.replace("R", "S"))
    dialog = opened(tmp_path / "one.csv")
    for box, role in zip(dialog.table.boxes, ("elevation", "easting", "northing", "point"), strict=True):
        box.setCurrentText(role)
    ready(qtbot, dialog)
    assert dialog.source.datasets[0].extent().elevation == (240.0, 243.9)
    dialog.text_part.keep_as("Rover, Z first")
    dialog.reject()
    dialog = opened(tmp_path / "two.csv")
    assert dialog.text_part.kept.box.currentText() == "Rover, Z first"
    assert dialog.source.datasets[0].extent().elevation == (240.0, 243.9)
    dialog.take.click()
    idle(qtbot, window)
    window.session.keeper.flush()
    assert "Rover, Z first" in Session(window.session.folder).settings["reading"]["layouts"]


def test_lines_left_out_are_kept_on_request(qtbot, opened, tmp_path):
    rows = [f"{431_000 + k},{887_000 + k},{200 + k}" for k in range(40)]
    rows[9] = "431009,887009,tree"
    (tmp_path / "a.csv").write_text("E,N,Z\n" + "\n".join(rows))
    dialog = opened(tmp_path / "a.csv")
    assert dialog.left_out.isVisible() and "1 line left out of 40" in dialog.findings.text()
    qtbot.mouseClick(dialog.left_out, Qt.MouseButton.LeftButton)
    assert "line 11\tthe elevation is not a finite number" in dialog.keep_left_out().read_text()
    dialog.reject()


def test_rules_are_picked_counted_highlighted_and_kept(qtbot, window, opened, tmp_path):
    dialog = opened(samples.drawing(tmp_path / "a.dxf"))
    part = dialog.rules_part
    assert part.isVisible() and "Without rules every entity comes in" in part.free.text()
    place = dialog.picture.place(50.0, 31.5)
    qtbot.mouseClick(dialog.picture, Qt.MouseButton.LeftButton, pos=place.toPoint())
    (rule,) = part.rules()
    assert (rule.layer, rule.type, rule.becomes) == ("CONT", "polyline", Becomes.BREAKLINES)
    assert part.table.item(0, 8).text() == "8" and "fit no rule" in part.free.text()
    assert dialog.picture.overlay is not None, "what it matches is highlighted"
    part.add(Rule(Becomes.POINTS, "Spots", "SPOT", "text"))
    part.add(Rule(Becomes.CONTOURS, "", "CONT"))
    assert part.table.item(2, 8).text() == "0 of 8", "an earlier rule has them"
    part.buttons["Up"].click()
    part.buttons["Up"].click()
    ready(qtbot, dialog)
    assert [each.name for each in dialog.source.datasets] == ["a contours", "Spots"]
    part.table.item(0, 2).setText("NOPE")
    ready(qtbot, dialog)
    part.keep_as("Plans")
    part.buttons["Remove"].click()
    ready(qtbot, dialog)
    part._use("Plans")
    ready(qtbot, dialog)
    assert len(part.rules()) == 3 and part.table.item(0, 8).text() == "0"
    part.table.item(0, 6).setText("high")
    assert "is not a range" in part.error.text()
    dialog.reject()


def test_a_box_drawn_on_the_picture_crops_a_cloud(qtbot, opened):
    dialog = opened(DATA / "autzen_trim.laz")
    picture = dialog.picture
    one, two = picture.place(636_200, 849_000), picture.place(636_600, 849_300)
    qtbot.mousePress(picture, Qt.MouseButton.LeftButton, pos=one.toPoint())
    qtbot.mouseMove(picture, pos=two.toPoint())
    qtbot.mouseRelease(picture, Qt.MouseButton.LeftButton, pos=two.toPoint())
    qtbot.waitUntil(lambda: bool(dialog.words.get("crop")), timeout=5000)
    ready(qtbot, dialog)
    assert "outside the cropped area" in dialog.findings.text()
    assert dialog.source.datasets[0].extent().east[0] >= 636_195
    dialog.reject()


def test_a_large_cloud_is_shown_by_a_sample_and_comes_in_whole(qtbot, window, opened, monkeypatch):
    monkeypatch.setattr("vastgrid.execution.steps.LARGE_FILE", 1000)
    dialog = opened(DATA / "autzen_trim.laz")
    assert "110\u202f000 points" in dialog.summary.text() and "sample" in dialog.picture.note
    assert "0 of 110\u202f000 points dropped" in dialog.findings.text()
    dialog.take.click()
    idle(qtbot, window)
    (node,) = window.session.graph.cards.values()
    assert len(window.session.dataset(node.id).xyz) == 110_000


def test_both_definitions_side_by_side(qtbot, window, opened):
    dialog = opened(HANDMADE / "two_definitions.xml")
    assert "also holds the data it was built from" in dialog.findings.text()
    dialog.form.editors["take"].setCurrentText("both")
    ready(qtbot, dialog)
    assert "differs from its faces by 0.500 us-ft" in dialog.findings.text()
    dialog.take.click()
    idle(qtbot, window)
    assert {"Yard & ramp", "Yard & ramp rebuilt"} <= set(names(window))


def test_records_and_meshes_are_drawn(qtbot, window, opened):
    for path in (HANDMADE / "road.xml", HANDMADE / "slab.off"):
        dialog = opened(path)
        image = dialog.own.contents.image
        pixels = ((x, y) for x in range(image.width()) for y in range(image.height()))
        inked = sum(image.pixelColor(x, y).alpha() > 0 for x, y in pixels)
        assert inked > 30
        dialog.take.click()
        idle(qtbot, window)
    kinds = {card.node: window.lineage.kind_of(window.session.graph[card.node]) for card in window.lineage.cards}
    assert set(kinds.values()) >= {"survey", "mesh"}
    qtbot.waitUntil(window.plan.settled, timeout=20_000)


def test_a_dropped_folder(qtbot, window, monkeypatch, demo, tmp_path):
    (tmp_path / "day one" / "deep").mkdir(parents=True)
    shutil.copy(demo / "received" / "day1.csv", tmp_path / "day one" / "deep" / "Tag 1.csv")
    (tmp_path / "day one" / "notes.docx").write_bytes(b"PK\3\4")
    shown = []
    monkeypatch.setattr("vastgrid.qt.window.importing.ImportDialog.open", lambda dialog: shown.append(dialog))
    data = QMimeData()
    data.setUrls([QUrl.fromLocalFile(str(tmp_path / "day one"))])
    event = QDropEvent(
        QPointF(20, 20), Qt.DropAction.CopyAction, data, Qt.MouseButton.LeftButton, Qt.KeyboardModifier.NoModifier
    )
    window.dropEvent(event)
    assert [each.path.name for each in shown[0].candidates] == ["Tag 1.csv"]
    ready(qtbot, shown[0])
    shown[0].reject()


# --------------------------------------------------------------------------------------------------------- sources


@pytest.fixture
def job(qtbot, window, demo, tmp_path):
    for name in ("day1.csv", "day2.txt"):
        window.session.sources.bring_in(shutil.copy(demo / "received" / name, tmp_path / name))
    window.parts.making.make("tin", list(window.session.graph.cards), {})
    idle(qtbot, window)
    return window


def ground(window):
    return next(node.id for node in window.session.graph.cards.values() if node.name == "Ground")


def test_sources_are_switched_replaced_and_added_from_the_panel(qtbot, job, tmp_path):
    job.lineage.select([ground(job)])
    part = job.panel.sources
    day1, day2 = job.session.graph[ground(job)].inputs
    assert part is not None and list(part.boxes) == [day1, day2]
    part.boxes[day2].click()
    idle(qtbot, job)
    assert len(job.session.dataset(ground(job)).vertices) == 2600, "made again without it"
    job.panel.sources.boxes[day2].click()
    idle(qtbot, job)
    assert len(job.session.dataset(ground(job)).vertices) > 5000
    text = (tmp_path / "day1.csv").read_text().splitlines()
    (tmp_path / "newer.csv").write_text("\n".join(text[:1001]) + "\n")
    job.parts.sourcing.replace(day1, tmp_path / "newer.csv")
    idle(qtbot, job)
    assert job.session.graph[day1].path.endswith("newer.csv")
    assert len(job.session.dataset(ground(job)).vertices) == 3857
    job.parts.making.take_back()
    assert job.session.graph[day1].path.endswith("day1.csv")
    job.parts.sourcing.drop(ground(job), day2)
    idle(qtbot, job)
    job.lineage.select([ground(job)])
    (action,) = job.panel.sources.menus["add"].actions()
    action.trigger()
    idle(qtbot, job)
    assert set(job.session.graph[ground(job)].inputs) == {day1, day2}


def test_a_changed_file_is_noticed_and_read_again(qtbot, job, tmp_path):
    day1 = job.session.graph[ground(job)].inputs[0]
    with (tmp_path / "day1.csv").open("a") as file:
        file.write("9999,431100,887100,260.5,GL\n")
    job.parts.sourcing.look_at_files()
    qtbot.waitUntil(lambda: day1 in job.desk.files_changed, timeout=5000)
    job.lineage.select([day1])
    assert "changed on disk" in job.desk.message
    job.parts.sourcing.read_again(day1)
    idle(qtbot, job)
    assert len(job.session.dataset(day1).xyz) == 2602 and day1 not in job.desk.files_changed


def test_a_source_gets_a_colour(qtbot, job):
    day1 = job.session.graph[ground(job)].inputs[0]
    job.parts.sourcing.paint(day1, "#0000ff")
    qtbot.waitUntil(job.plan.settled, timeout=20_000)
    points = job.desk.dataset(day1)
    view = fitted(bounds([points]), 200, 150)
    image = rendering.draw([plain(points, "#0000ff")], view, theme.LIGHT)
    blues = [image.pixelColor(x, y) for x in range(200) for y in range(150) if image.pixelColor(x, y).alpha() > 200]
    assert blues and all(colour.blue() > 200 and colour.red() < 60 for colour in blues)


def test_an_area_is_drawn_and_a_lattice_laid_over_it(qtbot, job):
    job.lineage.select([ground(job)])
    qtbot.waitUntil(job.plan.settled, timeout=20_000)
    job.actions_["draw_lattice"].trigger()
    plan = job.plan
    for east, north in ((431_200, 887_150), (431_300, 887_150), (431_250, 887_250)):
        qtbot.mouseClick(plan, Qt.MouseButton.LeftButton, pos=QPointF(*plan.view.pixel(east, north)).toPoint())
    opened = []
    qtbot.wait(20)
    from vastgrid.qt.dialogs.ask_dialog import AskDialog

    qtbot.keyClick(plan, Qt.Key.Key_Return)
    qtbot.waitUntil(lambda: bool(opened.extend(job.findChildren(AskDialog)) or opened), timeout=5000)
    dialog = opened[0]
    dialog.form.editors["spacing"].setText("5m")
    assert "Points every 5 m over an area of 3 corners" in dialog.sentence.text()
    dialog.make.click()
    idle(qtbot, job)
    made = job.session.dataset(next(n.id for n in job.session.graph.cards.values() if n.name == "Lattice"))
    assert len(made.xyz) == pytest.approx(100 * 100 / 2 / 25, rel=0.1)
    job.actions_["draw_lattice"].trigger()
    qtbot.keyClick(plan, Qt.Key.Key_Escape)
    assert plan.tool is None
    job.lineage.select([])
    told = []
    job.desk.tell = told.append
    job.actions_["draw_lattice"].trigger()
    assert "choose one card first" in told[0] and plan.tool is None


def test_what_can_be_drawn_is_offered_in_the_menu(job):
    job.lineage.select([ground(job)])
    assert "Points on a lattice over an area that you draw" in makeable(job)


def test_a_conversion_without_a_fitting_default_asks_first(qtbot, job):
    dialog = job.parts.offers.ask_dialog("reproject", [ground(job)], {})
    dialog.show()
    dialog.form.editors["crs"].setText("EPSG:25832")
    assert "reprojected to EPSG:25832" in dialog.sentence.text()
    dialog.reject()


def test_a_large_cloud_is_put_in_order_behind_and_may_rest(qtbot, window, monkeypatch):
    monkeypatch.setattr("vastgrid.qt.desk.ordering.WORTH", 1000)
    monkeypatch.setattr("vastgrid.qt.drawing.rendering.WORTH", 1000)
    monkeypatch.setattr("vastgrid.lineage.cloudindex.BLOCK", 500)
    xyz = np.random.default_rng(1).random((60_000, 3)) * (300, 200, 20)
    cloud = PointSet(name="scan", xyz=xyz)
    window.parts.ordering.see_to([cloud], window.session.folder)
    window.parts.ordering.pause()
    task = window.parts.ordering.task
    if task is not None:
        assert task.paused and window.status.pause.text() == "Go on"
        window.parts.ordering.pause()
    qtbot.waitUntil(lambda: cloud.content in cloudindex.ready, timeout=20_000)
    view = fitted(bounds([cloud]), 300, 200)
    image = rendering.draw([cloud], view, theme.LIGHT)
    assert sum(image.pixelColor(x, 100).alpha() > 0 for x in range(300)) > 150
    cloudindex.ready.clear()
    window.parts.ordering._begun.clear()
    window.parts.ordering.see_to([cloud], window.session.folder)
    assert cloud.content in cloudindex.ready, "in order before: opened at once"
    cloudindex.ready.clear()


def test_what_a_finding_offers_is_done_at_one_press(qtbot, window, opened, tmp_path):
    xyz = np.column_stack((431_000 + np.random.default_rng(5).random((60, 2)) * 90 + [0, 456_000], np.arange(60.0)))
    np.savetxt(tmp_path / "a.csv", xyz, fmt="%.2f", delimiter=",", header="Easting,Northing,Elevation", comments="")
    other = xyz[:, [1, 0, 2]] + [0.5, 0.5, 0.0]
    np.savetxt(tmp_path / "b.csv", other, fmt="%.2f", delimiter=",", header="X,Y,Z", comments="")
    dialog = opened(tmp_path / "a.csv")
    dialog.take.click()
    idle(qtbot, window)
    dialog = opened(tmp_path / "b.csv")
    assert "easting and northing are taken for each other" in dialog.findings.text()
    link = dialog.findings.text().split('href="')[1].split('"')[0]
    dialog.findings.linkActivated.emit(link)
    ready(qtbot, dialog)
    assert "for each other" not in dialog.findings.text()
    dialog.take.click()
    idle(qtbot, window)
    brought = next(node for node in window.session.graph.cards.values() if node.name == "b")
    np.testing.assert_allclose(window.session.dataset(brought.id).xyz, xyz + [0.5, 0.5, 0.0], atol=0.006)
    assert "northing,easting" in brought.words["columns"]


def offers(window, name):
    node = next(node for node in window.session.graph.cards.values() if node.name == name)
    window.lineage.select([node.id])
    return node, makeable(window)


def test_points_of_a_lattice_are_offered_as_the_grid_they_are(qtbot, window, opened, tmp_path):
    row, column = np.divmod(np.arange(20 * 30), 30)
    xyz = np.column_stack((431_000.0 + 2.0 * column, 887_000.0 - 2.0 * row, 100.0 + np.sin(column) + row))
    order = np.random.default_rng(7).permutation(len(xyz))
    np.savetxt(tmp_path / "even.csv", xyz[order], fmt="%.4f", delimiter=",", header="E,N,Z", comments="")
    loose = xyz + np.random.default_rng(8).random(xyz.shape)
    np.savetxt(tmp_path / "loose.csv", loose, fmt="%.4f", delimiter=",", header="E,N,Z", comments="")
    dialog = opened(tmp_path / "even.csv", tmp_path / "loose.csv")
    dialog.take.click()
    idle(qtbot, window)
    _, of_loose = offers(window, "loose")
    assert not any(text.startswith("Grid from gridded points") for text in of_loose), "they are not lattice"
    even, of_even = offers(window, "even")
    of_even["Grid from gridded points"].run()
    idle(qtbot, window)
    made = next(node for node in window.session.graph.cards.values() if node.inputs == (even.id,))
    grid = window.session.dataset(made.id)
    assert grid.heights.shape == (20, 30) and (grid.dx, grid.dy) == (2.0, 2.0)
    np.testing.assert_allclose(grid.heights.ravel(), xyz[:, 2], atol=5.1e-5)
    assert (
        "".join(piece.text for piece in window.session.sentence(made.id)) == "Grid with a cell at every point of even."
    )
    window.parts.making.take_back()
    assert made.id not in window.session.graph


def test_boundaries_of_a_surface_are_chosen_by_layer(qtbot, window, opened, tmp_path):
    document = ezdxf.new("R2018")
    document.header["$INSUNITS"] = 6
    space = document.modelspace()
    for layer, low, high in (("LIMIT", 0.0, 60.0), ("POND", 20.0, 40.0), ("ISLAND", 28.0, 32.0)):
        document.layers.add(layer)
        ring = [(low, low), (high, low), (high, high), (low, high)]
        space.add_lwpolyline(ring, close=True, dxfattribs={"layer": layer})
    document.saveas(tmp_path / "rings.dxf")
    xyz = np.random.default_rng(9).random((900, 3)) * [80.0, 80.0, 4.0] - [10.0, 10.0, 0.0]
    np.savetxt(
        tmp_path / "shots.csv", xyz, fmt="%.3f", delimiter=",", header="Easting (m),Northing (m),Elev (m)", comments=""
    )
    dialog = opened(tmp_path / "rings.dxf", tmp_path / "shots.csv")
    dialog.take.click()
    idle(qtbot, window)
    graph = window.session.graph
    window.lineage.select([node.id for node in graph.cards.values() if node.name in ("rings", "shots")])
    makeable(window)["TIN"].run()
    idle(qtbot, window)
    made = next(node for node in window.session.graph.cards.values() if len(node.inputs) == 2)
    window.parts.making.change_fields(
        made.id, {"boundary": "LIMIT", "voids": "POND", "islands": "ISLAND", "breaklines": "none"}
    )
    idle(qtbot, window)
    tin = window.session.dataset(made.id)
    assert areas(tin).sum() == pytest.approx(60.0**2 - 20.0**2 + 4.0**2, rel=1e-9)
    sentence = "".join(piece.text for piece in window.session.sentence(made.id))
    assert "inside LIMIT" in sentence and "POND" in sentence and "ISLAND" in sentence
