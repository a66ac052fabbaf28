"""The small pieces of the interface: forms, pictures, kept settings, the asking dialog, the status line's tasks."""

import math
from dataclasses import dataclass
from enum import Enum
from typing import Annotated

import numpy as np
import pytest
from PyQt6.QtCore import QPointF, Qt
from PyQt6.QtGui import QColor, QImage, QPainter
from PyQt6.QtWidgets import QCheckBox, QComboBox, QLineEdit

from builders import METRES, ground, scattered
from hands import pixels
from vastgrid.base.findings import Finding, note
from vastgrid.base.quantities import Length, Quantity, Unit
from vastgrid.data.dataset import Dataset
from vastgrid.data.linework import from_lines
from vastgrid.data.mesh import Mesh
from vastgrid.data.pointset import PointSet
from vastgrid.data.survey import Record, survey_of
from vastgrid.format_support.cloudfile import CloudReadParams
from vastgrid.kernels.drawing import strokes
from vastgrid.params import declare
from vastgrid.params.declare import Param
from vastgrid.qt.dialogs.import_dialog import _line, _together
from vastgrid.qt.drawing import divider, furniture, rendering
from vastgrid.qt.drawing.picture import Picture
from vastgrid.qt.drawing.view import View, bounds, fitted
from vastgrid.qt.widgets import theme
from vastgrid.qt.widgets.forms import ParamForm, editor, put_text, text_of
from vastgrid.qt.widgets.kept_box import KeptBox
from vastgrid.styling import ramps
from vastgrid.styling.colouring import StyledLayer, plain
from vastgrid.styling.look import look_of


class Taste(Enum):
    SWEET = "sweet"
    SOUR = "sour"


@dataclass(frozen=True)
class Sample:
    size: Annotated[Length, Param("Size", "How large.", Quantity.XY_LENGTH, above=0)] = Length(2.0)
    most: Annotated[int | None, Param("Most", "How many.", least=1, absent="any number")] = None
    taste: Annotated[Taste, Param("Taste", "Which.")] = Taste.SWEET
    sure: Annotated[bool, Param("Sure", "Whether.")] = False
    name: Annotated[str, Param("Name", "What it is called.", absent="nothing")] = ""


def test_a_form_has_an_editor_of_the_right_kind_for_each(qtbot):
    form = ParamForm(Sample)
    qtbot.addWidget(form)
    kinds = [type(form.editors[name]) for name in ("size", "most", "taste", "sure", "name")]
    assert kinds == [QLineEdit, QLineEdit, QComboBox, QCheckBox, QLineEdit]
    assert form.value() == Sample()
    assert form.editors["most"].placeholderText() == "any number"
    assert form.editors["size"].toolTip() == "How large." and form.editors["size"].accessibleName() == "Size"


@pytest.mark.parametrize(
    ("words", "want"),
    [
        (
            {"size": "3m", "most": "7"},
            Sample(size=declare.parse_value(declare.field_named(Sample, "size"), "3m"), most=7),
        ),
        ({"taste": "sour", "sure": "yes", "name": "x"}, Sample(taste=Taste.SOUR, sure=True, name="x")),
        ({"most": "none"}, Sample()),
    ],
)
def test_words_go_in_and_values_come_out(qtbot, words, want):
    form = ParamForm(Sample)
    qtbot.addWidget(form)
    told = []
    form.changed.connect(lambda: told.append(1))
    form.set_words(words)
    assert form.value() == want and not told, "what the program puts in is not a change of the user's"
    again = ParamForm(Sample, form.words())
    qtbot.addWidget(again)
    assert again.value() == want


@pytest.mark.parametrize(
    ("name", "text", "why"),
    [
        ("size", "-1", "more than 0"),
        ("size", "red", "not a length"),
        ("most", "0", "at least 1"),
        ("most", "x", "whole number"),
    ],
)
def test_what_cannot_be_is_said_beside_the_form(qtbot, name, text, why):
    form = ParamForm(Sample)
    qtbot.addWidget(form)
    form.show()
    form.editors[name].setText(text)
    assert form.error.isVisible() and why in form.error.text()
    form.editors[name].setText("5")
    assert not form.error.isVisible()


def test_suggestions_may_be_chosen_or_overwritten(qtbot):
    field = declare.field_named(Sample, "name")
    box = editor(field, "", ["", "LAYER_A", "LAYER_B"])
    qtbot.addWidget(box)
    assert isinstance(box, QComboBox) and box.isEditable() and box.lineEdit().placeholderText() == "nothing"
    put_text(box, "OTHER")
    assert text_of(box) == "OTHER"


def test_a_hidden_row_keeps_its_value(qtbot):
    form = ParamForm(Sample, {"name": "kept"})
    qtbot.addWidget(form)
    form.show()
    form.hide_row("name")
    assert not form.editors["name"].isVisible() and form.value().name == "kept"


def test_every_option_of_a_cloud_fits_the_form(qtbot):
    form = ParamForm(CloudReadParams)
    qtbot.addWidget(form)
    assert declare.to_words(form.value()) == declare.to_words(CloudReadParams())


def test_kept_settings(qtbot, monkeypatch):
    chosen, kept = [], []
    box = KeptBox("Layout", "as detected", chosen.append, kept.append)
    qtbot.addWidget(box)
    box.fill(["b", "a"], "b")
    assert [box.box.itemText(k) for k in range(3)] == ["as detected", "a", "b"] and box.box.currentText() == "b"
    box.show_name("")
    assert box.box.currentText() == "as detected"
    box.box.activated.emit(1)
    assert chosen == ["a"]
    for answer, want in ((("  new ", True), ["new"]), (("", True), ["new"]), (("x", False), ["new"])):
        monkeypatch.setattr("vastgrid.qt.widgets.kept_box.QInputDialog.getText", lambda *_, answer=answer: answer)
        box._ask()
        assert kept == want


def picture(qtbot, width, height, view=(431_000.0, 887_000.0, 2.0)):
    made = Picture()
    qtbot.addWidget(made)
    made.resize(width, height)
    image = QImage(400, 200, QImage.Format.Format_ARGB32)
    image.fill(QColor("#123456"))
    made.show_image(image, View(*view, 400, 200))
    made.show()
    return made


@pytest.mark.parametrize("size", [(800, 600), (400, 230), (380, 220)])
def test_a_picture_knows_the_place_under_the_pointer_at_any_size(qtbot, size):
    made = picture(qtbot, *size)
    picked = []
    made.picked.connect(lambda *place: picked.append(place))
    for east, north in ((431_000.0, 887_000.0), (430_800.0, 887_100.0), (431_250.0, 886_900.0)):
        qtbot.mouseClick(made, Qt.MouseButton.LeftButton, pos=made.place(east, north).toPoint())
        assert picked[-1][0] == pytest.approx(east, abs=3.0) and picked[-1][1] == pytest.approx(north, abs=3.0)
    assert picked[-1][2] >= 2.0, "a pixel is worth more where the picture is smaller"


def test_a_box_is_drawn_in_either_direction(qtbot):
    made = picture(qtbot, 800, 600)
    boxes = []
    made.boxed.connect(lambda *box: boxes.append(box))
    one, two = made.place(430_900.0, 886_950.0).toPoint(), made.place(431_100.0, 887_050.0).toPoint()
    for start, stop in ((one, two), (two, one)):
        qtbot.mousePress(made, Qt.MouseButton.LeftButton, pos=start)
        qtbot.mouseMove(made, pos=stop)
        qtbot.mouseRelease(made, Qt.MouseButton.LeftButton, pos=stop)
    for box in boxes:
        assert box == pytest.approx((430_900.0, 886_950.0, 431_100.0, 887_050.0), abs=3.0)
    assert len(boxes) == 2


def test_an_empty_picture_takes_no_clicks(qtbot):
    made = Picture()
    qtbot.addWidget(made)
    made.show()
    picked = []
    made.picked.connect(lambda *place: picked.append(place))
    qtbot.mouseClick(made, Qt.MouseButton.LeftButton, pos=QPointF(50, 50).toPoint())
    assert picked == []


def test_warnings_come_before_notes_and_nothing_is_markup():
    findings = (note("a", "a note."), Finding("b", "a <b>warning</b>."))
    lines = [_line(finding, k) for k, finding in enumerate(_together(findings))]
    assert lines == ["warning · a &lt;b&gt;warning&lt;/b&gt;.", "note · a note."]


# -------------------------------------------------------------------------------------------------------- pictures


def inked(image):
    pixels = np.frombuffer(image.constBits().asstring(image.sizeInBytes()), np.uint8).reshape(
        image.height(), image.width(), 4
    )
    return pixels[:, :, 3] > 0


def test_a_mesh_is_drawn_as_it_is_seen_from_above():
    low, high = 0.0, 10.0
    vertices = np.array(
        [
            (0, 0, low),
            (40, 0, low),
            (40, 40, low),
            (0, 40, low),
            (10, 10, high),
            (30, 10, high),
            (30, 30, high),
            (10, 30, high),
        ]
    )
    faces = np.array([(4, 5, 6), (4, 6, 7), (0, 1, 2), (0, 2, 3)], np.int32)
    mesh = Mesh(name="table", frame=METRES, vertices=vertices, triangles=faces)
    view = View(20.0, 20.0, 1.0, 40, 40)
    image = rendering.draw([mesh], view, theme.LIGHT)
    middle, corner = image.pixelColor(20, 20), image.pixelColor(2, 2)
    colours = ramps.elevation()
    assert np.abs(np.array(middle.getRgb()[:3], int) - colours[-1]).max() < 30, "the upper face, whatever the order"
    assert np.abs(np.array(corner.getRgb()[:3], int) - colours[0]).max() < 30


def test_records_are_drawn_lines_and_single_places():
    line = np.array([(0.0, 0.0, 1.0), (40.0, 40.0, 1.0)])
    place = np.array([(35.0, 5.0, 1.0)])
    survey = survey_of("s", METRES, [Record("alignment", "a", line, {}), Record("photo position", "p", place, {})])
    drawn = inked(rendering.draw([survey], View(20.0, 20.0, 1.0, 40, 40), theme.LIGHT))
    assert drawn[20, 20] and drawn[35, 35] and not drawn[30, 30]


def test_points_take_the_colour_they_are_given():
    points = scattered(500)
    box = bounds([points])
    view = fitted(box, 200, 150)
    usual = rendering.draw([points], view, theme.LIGHT)
    red = rendering.draw([plain(points, "#ff0000")], view, theme.LIGHT)
    assert inked(usual).sum() == inked(red).sum()
    where = np.argwhere(inked(red))[0]
    colour = red.pixelColor(int(where[1]), int(where[0]))
    assert colour.red() > 200 and colour.green() < 40


@pytest.mark.parametrize("palette", [theme.LIGHT, theme.DARK], ids=lambda each: each.name)
def test_every_kind_shows_on_both_themes(palette):
    tin = ground(300)
    mesh = Mesh(name="m", frame=METRES, vertices=tin.vertices, triangles=tin.triangles)
    for dataset in (tin, mesh, scattered(300)):
        view = fitted(bounds([dataset]), 120, 90)
        image = rendering.draw([dataset], view, palette, small=True)
        paper = palette.colour("paper")
        strong = 0
        for y, x in np.argwhere(inked(image))[::7]:
            own = image.pixelColor(int(x), int(y))
            strong += abs(own.lightness() - paper.lightness()) > 12
        assert strong > 10, "it stands out from the paper"


def test_points_of_single_precision_are_drawn_alike():
    xyz = np.random.default_rng(1).random((400, 3)) * (40, 40, 5)
    colours = np.tile(np.array((10, 200, 30), np.uint8), (2, 1))
    images = []
    for kind in (np.float64, np.float32):
        image = np.zeros((40, 40, 4), np.uint8)
        strokes.draw_points(image, xyz.astype(kind), 0.0, 40.0, 1.0, colours, 0.0, 5.0, 1.0, 0)
        images.append(image)
    assert (images[0] != images[1]).any(axis=2).sum() <= 2, "but for rounding at a pixel's rim"


def test_a_mesh_can_be_drawn_as_wires():
    vertices = np.array([(5, 5, 1.0), (35, 5, 2.0), (35, 35, 3.0), (5, 35, 4.0)])
    mesh = Mesh(name="m", frame=METRES, vertices=vertices, triangles=np.array([(0, 1, 2), (0, 2, 3)], np.int32))
    view = View(20.0, 20.0, 0.2, 200, 200)
    wires = inked(rendering.draw([StyledLayer(mesh, look_of(mesh, {"faces": "wire"}))], view, theme.LIGHT))
    filled = inked(rendering.draw([StyledLayer(mesh, look_of(mesh, {"faces": "filled"}))], view, theme.LIGHT))
    assert 300 < wires.sum() < 0.1 * filled.sum()
    assert wires[100, 100] and not wires[100, 60], "the diagonal, and nothing inside the faces"


@pytest.mark.parametrize(("share", "kept"), [(-1.0, 0.02), (0.0, 0.02), (0.3, 0.3), (0.99, 0.98), (7.0, 0.98)])
def test_a_divider_leaves_something_on_both_sides(share, kept):
    assert divider.within(share) == kept


def test_a_divider_is_gripped_where_it_stands():
    assert divider.grips(0.25, 247.0, 1000) and not divider.grips(0.25, 259.0, 1000)
    assert not divider.grips(None, 0.0, 1000), "where nothing is compared there is none"


def test_data_of_no_kind_cannot_be_made():
    with pytest.raises(TypeError, match="abstract"):
        Dataset(name="nothing")


@pytest.mark.parametrize(
    ("size", "unit", "text"),
    [
        # A pixel of a screen with 96 dots is 0.0254 / 96 m.
        (1000 * 0.0254 / 96, Unit.METRE, "1:1 000"),
        (1000 * 0.0254 / 96 / 0.3048, Unit.FOOT, "1:1 000"),
        (4444 * 0.0254 / 96, Unit.METRE, "1:4 400"),
        (0.25, None, "1 pixel = 0.25"),
        (1e-5, Unit.DEGREE, "1 pixel = 1e-05"),
    ],
)
def test_the_scale_of_the_plan(size, unit, text):
    assert furniture.scale_text(size, unit, 96).replace("\u202f", " ") == text


@pytest.mark.parametrize("ratio", [1.25, 1.5, 2.0])
def test_a_picture_for_a_finer_screen_is_the_same_picture_finer(ratio):
    """As on desktops at 125, 150 and 200 %: every pixel of the screen is drawn, lines are as wide to the eye as before."""
    tin = ground(400)
    view = fitted(bounds([tin]), 161, 117)
    plain_, fine = (rendering.draw([tin], view, theme.LIGHT, wires=True, ratio=each) for each in (1.0, ratio))
    assert fine.devicePixelRatio() == ratio
    assert (fine.width(), fine.height()) == (math.ceil(161 * ratio), math.ceil(117 * ratio))
    shrunk = fine.scaled(161, 117, Qt.AspectRatioMode.IgnoreAspectRatio, Qt.TransformationMode.SmoothTransformation)
    one, other = pixels(plain_), pixels(shrunk)
    # The middle of the picture: shading at the rim looks at cells that lie beyond.
    assert np.abs(one - other)[20:-20, 20:-20].mean() < 12
    line = from_lines("l", METRES, [np.array([(0.0, 50.0, 1.0), (100.0, 50.0, 1.0)])], [""])
    image = rendering.draw([line], View(50.0, 50.0, 1.0, 100, 100), theme.LIGHT, ratio=ratio)
    column = image.width() // 2
    thick = sum(image.pixelColor(column, row).alphaF() for row in range(image.height()))
    thin = rendering.draw([line], View(50.0, 50.0, 1.0, 100, 100), theme.LIGHT)
    usual = sum(thin.pixelColor(50, row).alphaF() for row in range(100))
    assert thick == pytest.approx(usual * ratio, rel=0.15)


def test_a_finer_picture_lies_where_the_view_is():
    """Whether its pixels part evenly or not: the middle of the picture is the middle of the view."""
    points = PointSet(name="p", frame=METRES, xyz=np.array([(50.0, 50.0, 1.0)]))
    for ratio in (1.0, 1.5, 2.0):
        view = View(50.0, 50.0, 1.0, 101, 77)
        picture = rendering.draw([plain(points, "#ff0000")], view, theme.LIGHT, ratio=ratio)
        canvas = QImage(round(101 * ratio), round(77 * ratio), QImage.Format.Format_RGB32)
        canvas.setDevicePixelRatio(ratio)
        canvas.fill(QColor("white"))
        painter = QPainter(canvas)
        furniture.paint_picture(painter, picture, view, view)
        painter.end()
        red = np.argwhere(np.abs(pixels(canvas) - (255, 0, 0)).sum(axis=2) < 150)
        middle = red.mean(axis=0) / ratio
        assert middle == pytest.approx((38.5, 50.5), abs=0.8)
