"""Plan, 3D view and section strip beside each other, with the row of what can be done in them."""

from __future__ import annotations

import dataclasses
from collections.abc import Callable
from functools import partial
from typing import Any

from PyQt6.QtCore import Qt, QTimer, pyqtSignal
from PyQt6.QtGui import QAction, QFontMetrics
from PyQt6.QtWidgets import (
    QCheckBox,
    QComboBox,
    QDoubleSpinBox,
    QHBoxLayout,
    QLabel,
    QSplitter,
    QToolButton,
    QVBoxLayout,
    QWidget,
)

from vastgrid import catalog
from vastgrid.base.errors import CallError
from vastgrid.data.areas import Areas
from vastgrid.data.linework import Contours
from vastgrid.data.pointset import PointSet
from vastgrid.data.tin import Tin
from vastgrid.qt.desk.desk import Desk
from vastgrid.qt.desk.styling import Styling
from vastgrid.qt.views.plan_view import PlanView
from vastgrid.qt.views.sectioning import Sectioning
from vastgrid.qt.views.space_view import MODES, SpaceView
from vastgrid.qt.widgets import theme
from vastgrid.qt.widgets.buttons import flat_button, menu_button, offering
from vastgrid.terrain.lines.labelling import Moves

PLAN, SPACE, BOTH = "plan", "3D", "both"
BLINK = 700
# What draws areas around points stays in hand, like the hands for surfaces.
# What the edit tools of a surface change, in the order in which they are offered.
EDIT_GROUPS = ("triangles", "vertices", "lines", "heights")
PICK, PICK_LESS, PICK_BOX, CHOOSE = "pick", "pick_less", "pick_box", "choose_areas"
TOOLS_IN_HAND = (PICK, PICK_LESS, PICK_BOX, CHOOSE)


class Views(QWidget):
    """The views of the job.

    Parameters
    ----------
    desk : Desk
        Whose job is shown.
    styling : Styling
        Says in which look.
    actions : dict
        What the row above offers, by name.

    Signals
    -------
    pointed : str
        What to read at the pointer in the 3D view.
    room_wanted : bool
        The section strip has come up and wants room, or has gone.
    """

    pointed = pyqtSignal(str)
    room_wanted = pyqtSignal(bool)

    def __init__(self, desk: Desk, styling: Styling, actions: dict[str, QAction], palette: theme.Palette) -> None:
        super().__init__()
        self.desk, self.styling, self._actions = desk, styling, actions
        self.plan = PlanView(palette)
        self.sectioning = Sectioning(desk, self.plan, palette)
        self.space = SpaceView(palette)
        self.shown = PLAN
        self.compared: tuple[str, str] | None = None
        self._linking = False
        self._held = ""
        self._blink = QTimer(self)
        self._blink.setInterval(BLINK)
        self._blink.timeout.connect(self._blinked)
        self.buttons: dict[str, QToolButton] = {}
        layout = QVBoxLayout(self)
        layout.setContentsMargins(0, 0, 0, 0)
        layout.setSpacing(0)
        layout.addWidget(self._bar())
        self.hands_row = self._hands_bar()
        layout.addWidget(self.hands_row)
        desk.selected.connect(self._show_hands)
        desk.changed.connect(self._show_hands)
        self.sides = QSplitter(Qt.Orientation.Horizontal)
        self.sides.addWidget(self.plan)
        self.deep = QWidget()
        deep = QVBoxLayout(self.deep)
        deep.setContentsMargins(0, 0, 0, 0)
        deep.setSpacing(0)
        deep.addWidget(self._space_bar())
        deep.addWidget(self.space, 1)
        self.sides.addWidget(self.deep)
        self.levels = QSplitter(Qt.Orientation.Vertical)
        self.levels.addWidget(self.sides)
        self.levels.setStretchFactor(0, 1)
        layout.addWidget(self.levels, 1)
        self.deep.hide()
        self.levels.addWidget(self.sectioning)
        self.plan.overlays.append(self.sectioning.paint_line)
        self.sectioning.shown.connect(lambda shown: self.show_section(shown=shown))
        self.sectioning.moved.connect(self.section_moved)
        self.sectioning.pointed.connect(self.point_at)
        self.plan.looked.connect(self._plan_looked)
        self.space.looked.connect(self._space_looked)
        self.plan.pointed.connect(self.point_at)
        self.space.cursor_moved.connect(self._space_pointed)
        self._show_controls()

    # -- the row

    def _bar(self) -> QWidget:
        bar = QWidget()
        bar.setObjectName("viewBar")
        bar.setAttribute(Qt.WidgetAttribute.WA_StyledBackground)
        row = QHBoxLayout(bar)
        row.setContentsMargins(8, 2, 8, 2)
        row.setSpacing(2)
        for key in (PLAN, SPACE, BOTH):
            button = self.buttons[key] = flat_button({"plan": "Plan"}.get(key, key), partial(self.show_views, key))
            button.setCheckable(True)
            row.addWidget(button)
        row.addSpacing(10)
        for key, text, entries in (
            ("section", "Section", ("section", "section_along", "section_end")),
            ("measure", "Measure", ("measure", "measure_area", "interval")),
            ("compare", "Compare", ("swipe", "blink", "compare_end")),
            ("look", "Go", ("fit", "go", "north", "snap")),
            ("picture", "Picture", ("picture", "sheet")),
        ):
            actions = [self._actions[entry] for entry in entries]
            self.buttons[key] = menu_button(text + " ▾", offering(actions))
            row.addWidget(self.buttons[key])
        row.addStretch()
        return bar

    def _hands_bar(self) -> QWidget:
        """Return the row of what hands can do with a chosen surface."""
        bar = QWidget()
        bar.setObjectName("viewBar")
        bar.setAttribute(Qt.WidgetAttribute.WA_StyledBackground)
        row = QHBoxLayout(bar)
        row.setContentsMargins(8, 0, 8, 2)
        row.setSpacing(0)
        # A narrow window cuts the row off rather than be widened by it.
        row.setSizeConstraint(QHBoxLayout.SizeConstraint.SetNoConstraint)
        bar.setMinimumWidth(1)
        for group in EDIT_GROUPS:
            tools = [action for key, action in self._actions.items() if action.property("group") == group]
            button = self.buttons[f"edit_{group}"] = menu_button(f"{group.capitalize()} ▾", offering(tools))
            button.setToolTip(", ".join(action.iconText() for action in tools))
            button.setCheckable(True)
            row.addWidget(button)
        for key, action in self._actions.items():
            if key.startswith(("pick_", "choose_")) or key in ("pick", "keep_rim", "label_move"):
                button = flat_button(action.iconText(), partial(self._hand_pressed, key), action.toolTip())
                button.setCheckable(key in TOOLS_IN_HAND)
                button.setProperty("small", "true")
                button.setFixedWidth(QFontMetrics(theme.font(9)).horizontalAdvance(action.iconText()) + 18)
                self.buttons[key] = button
                row.addWidget(button)
        row.addStretch()
        bar.hide()
        return bar

    def _hand_pressed(self, key: str) -> None:
        # Which one is held says the one who holds it, not the press.
        self.show_held(self._held)
        self._actions[key].trigger()

    def show_held(self, key: str) -> None:
        """Show which hand is taken up; none where the key is empty."""
        self._held = key
        for own, button in self.buttons.items():
            if own in TOOLS_IN_HAND:
                button.setChecked(own == key)
        held = self._actions.get(key)
        for own, action in self._actions.items():
            if own.startswith("hand_"):
                action.setChecked(own == key)
        for group in EDIT_GROUPS:
            button = self.buttons[f"edit_{group}"]
            mine = held is not None and held.property("group") == group
            button.setChecked(mine)
            button.setText(f"{group.capitalize()}: {held.iconText()} ▾" if mine and held else f"{group.capitalize()} ▾")

    def _show_hands(self) -> None:
        """Offer hands where one card is chosen that they can work on: a surface in plan, points in every view."""
        graph, chosen = self.desk.session.graph, self.desk.selection
        kind = graph[chosen[0]].kind if len(chosen) == 1 and chosen[0] in graph else ""
        surface = kind == Tin.kind and self.shown != SPACE
        labels = catalog.parameter_of(graph[chosen[0]].operation, Moves) if kind == Contours.kind else None
        labelled = labels is not None and self.shown != SPACE
        areas = kind == Areas.kind and self.shown != SPACE
        self.hands_row.setVisible(surface or kind == PointSet.kind or labelled or areas)
        self.buttons["label_move"].setVisible(labelled)
        for key, button in self.buttons.items():
            if key.startswith("edit_"):
                button.setVisible(surface)
            elif key.startswith("pick"):
                button.setVisible(kind == PointSet.kind)
            elif key.startswith("choose_"):
                button.setVisible(areas)
        builds = surface and graph[chosen[0]].operation == catalog.builder().id
        self.buttons["keep_rim"].setVisible(builds)

    def _space_bar(self) -> QWidget:
        """Return the row above the 3D view."""
        bar = QWidget()
        bar.setObjectName("viewBar")
        bar.setAttribute(Qt.WidgetAttribute.WA_StyledBackground)
        row = QHBoxLayout(bar)
        row.setContentsMargins(8, 2, 8, 2)
        row.setSpacing(4)
        self.mode = QComboBox()
        self.mode.addItems(MODES)
        self.mode.setAccessibleName("How to move in the 3D view")
        self.mode.setToolTip("Orbit around a place; walk on the ground; fly over it (W A S D, Q and E)")
        self.mode.currentTextChanged.connect(self.space.set_mode)
        self.stretch = self._number(0.5, 20.0, 1.0, 0.5, "Vertical exaggeration", self.space.set_stretch)
        self.azimuth = self._number(0.0, 359.0, 315.0, 15.0, "Bearing that the sun stands at", self._sun)
        self.altitude = self._number(1.0, 90.0, 45.0, 5.0, "Height of the sun in degrees", self._sun)
        self.azimuth.setWrapping(True)
        for spin in (self.azimuth, self.altitude):
            spin.setDecimals(0)
            spin.setSuffix("°")
        self.cut = QCheckBox("cut away")
        self.cut.setToolTip("Leave out what lies to the left of the section")
        self.cut.toggled.connect(lambda _: self.section_moved())
        self.link = QCheckBox("linked")
        self.link.setChecked(True)
        self.link.setToolTip("Plan and 3D view look at the same place")
        for widget in (self.mode, QLabel("heights ×"), self.stretch, QLabel("sun"), self.azimuth, self.altitude):
            row.addWidget(widget)
        row.addWidget(self.cut)
        row.addWidget(self.link)
        row.addStretch()
        return bar

    def _number(
        self, least: float, most: float, value: float, step: float, name: str, run: Callable[[float], Any]
    ) -> QDoubleSpinBox:
        spin = QDoubleSpinBox()
        spin.setRange(least, most)
        spin.setSingleStep(step)
        spin.setDecimals(1)
        spin.setButtonSymbols(QDoubleSpinBox.ButtonSymbols.NoButtons)
        spin.setFixedWidth(52)
        spin.setValue(value)
        spin.setToolTip(name)
        spin.setAccessibleName(name)
        spin.valueChanged.connect(run)
        return spin

    def _sun(self, _value: float) -> None:
        self.space.set_sun(self.azimuth.value(), self.altitude.value())

    def _show_controls(self) -> None:
        for key in (PLAN, SPACE, BOTH):
            self.buttons[key].setChecked(key == self.shown)
        self.link.setVisible(self.shown == BOTH)
        self.cut.setVisible(self.sectioning.line is not None)

    # -- which views

    def show_views(self, which: str) -> None:
        """Show the plan, the 3D view, or both side by side."""
        self.shown = which
        if which != PLAN and not self.space.isVisible():
            self._follow_plan()
        self.plan.setVisible(which != SPACE)
        self.deep.setVisible(which != PLAN)
        if which == BOTH:
            half = self.sides.width() // 2
            self.sides.setSizes([half, half])
        self._show_controls()
        self._show_hands()
        (self.space if which == SPACE else self.plan).setFocus()

    def show_items(self) -> None:
        """Show what the job's cards say, in all views."""
        styling = self.styling
        items = styling.items()
        other = []
        if self.compared is not None:
            graph = self.desk.session.graph
            if all(node in graph for node in self.compared):
                one, two = (styling.styled(node) for node in self.compared)
                every = styling.stack(self.compared)
                items = [own for own in every if own is not two]
                other = [own for own in every if own is not one]
            else:
                self.end_compare()
        self.plan.show_items(items, other)
        self.space.show_items(items)
        if self.sectioning.line is not None:
            self.sectioning.refresh()

    def settled(self) -> bool:
        """Whether every view that is seen is drawn as it should be."""
        plan = self.shown == SPACE or self.plan.settled()
        space = self.shown == PLAN or self.space.settled()
        return plan and space and not self.sectioning.busy

    def set_palette(self, palette: theme.Palette) -> None:
        """Change the theme of all views."""
        self.plan.set_palette(palette)
        self.space.set_palette(palette)
        for view in (self.sectioning.view, self.sectioning.earlier):
            view.palette_ = palette
            view.update()

    def forget(self) -> None:
        """Show nothing, for another job."""
        self.end_compare()
        self.sectioning.close_section()
        self.plan.forget()
        self.space.forget()

    def repaint_all(self) -> None:
        """Draw everything anew."""
        self.plan.repaint_all()
        self.space.repaint_all()

    def close_painters(self) -> None:
        """End the threads that draw."""
        self._blink.stop()
        self.plan.close_painter()
        self.space.close_painter()

    # -- the same place in both

    def _follow_plan(self) -> None:
        view = self.plan.view
        if not self.space.items and not self.plan.items:
            return
        if not self.plan.touched:
            if not self.space.touched:
                self.space.fit()
            return
        self.space.touched = True
        camera = self.space.camera
        ground = self.space.ground_at(view.east, view.north)
        rows = max(self.space.height(), 1)
        distance = view.size * self.plan.height() / rows * camera.focus(rows)
        height = camera.height if ground is None else ground
        self.space.look(
            dataclasses.replace(camera, east=view.east, north=view.north, height=height, distance=max(distance, 1e-3))
        )

    def _plan_looked(self) -> None:
        # A view that only shows everything in the room it has leads no other.
        if self.shown == BOTH and self.link.isChecked() and not self._linking and self.plan.touched:
            self._linking = True
            self._follow_plan()
            self._linking = False

    def _space_looked(self) -> None:
        self.stretch.blockSignals(True)
        self.stretch.setValue(self.space.camera.stretch)
        self.stretch.blockSignals(False)
        if self.shown == BOTH and self.link.isChecked() and not self._linking and self.space.touched:
            self._linking = True
            camera = self.space.camera
            size = camera.pixel_size(max(self.space.height(), 1)) * self.space.height() / max(self.plan.height(), 1)
            self.plan.centre_on(camera.east, camera.north, size)
            self._linking = False

    def point_at(self, east: float, north: float) -> None:
        """Show a place in the 3D view."""
        if self.space.isVisible():
            ground = self.space.ground_at(east, north)
            self.space.pointer = None if ground is None else (east, north, ground)
            self.space.update()

    def _space_pointed(self, east: float, north: float) -> None:
        self.plan.pointer = (east, north)
        self.plan.update()
        self.pointed.emit(self.plan.readout(east, north))

    def go_to(self, east: float, north: float, *, close: bool = True) -> None:
        """Bring a place into all views and mark it."""
        self.plan.go_to(east, north, close=close)
        ground = self.space.ground_at(east, north)
        if ground is not None:
            self.space.mark = (east, north, ground)
            self._follow_plan()

    def fit(self) -> None:
        """Show everything."""
        self.plan.fit()
        self.space.fit()

    # -- sections

    def show_section(self, *, shown: bool) -> None:
        """Let the section strip come up, or go."""
        strip = self.sectioning
        if shown != strip.isVisible():
            # The lineage makes room for the strip, and has it back afterwards.
            self.room_wanted.emit(shown)
        strip.setVisible(shown)
        if shown:
            whole = sum(self.levels.sizes())
            self.levels.setSizes([int(whole * 0.58), int(whole * 0.42)])
        self._show_controls()
        self.section_moved()

    def section_moved(self) -> None:
        """Cut the 3D view along the section's first leg, where that is wanted."""
        line = self.sectioning.line
        if line is None or not self.cut.isChecked():
            self.space.set_cut(None)
        else:
            a, b = line[0], line[-1]
            self.space.set_cut(((float(a[0]), float(a[1])), (float(b[0]), float(b[1]))))

    # -- comparing

    def compare(self, *, blink: bool) -> None:
        """Show two chosen cards against each other: beside a divider, or one after the other at one place."""
        graph = self.desk.session.graph
        chosen = [n for n in self.desk.selection if n in graph and self.desk.dataset(n) is not None]
        if len(chosen) != 2:
            raise CallError("choose two cards in the lineage first: click one, then the other with Ctrl held")
        self.compared = (chosen[0], chosen[1])
        if self.shown == SPACE:
            self.show_views(PLAN)
        self.plan.split = 0.5
        self.show_items()
        if blink:
            self.plan.split = 0.0
            self._blink.start()
        else:
            self._blink.stop()
        names = [graph[n].name for n in chosen]
        how = "switching" if blink else "left and right of the divider; drag it, or press , and ."
        self.desk.say(f"{names[0]} and {names[1]} {how}; Compare ▾ ends it")

    def _blinked(self) -> None:
        self.plan.split = 1.0 if not self.plan.split else 0.0
        self.plan.update()

    def end_compare(self) -> None:
        """Show everything in one picture again."""
        self._blink.stop()
        if self.compared is not None:
            self.compared = None
            self.plan.split = None
            self.show_items()

    @property
    def blinking(self) -> bool:
        """Whether two cards are shown in turn."""
        return self._blink.isActive()

    def turn_north(self) -> None:
        """Turn the views until north is up."""
        self.plan.turn_to(0.0)
        self.space.look(dataclasses.replace(self.space.camera, heading=0.0))
