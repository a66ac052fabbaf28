"""The 3D view: the same data in perspective, turned, walked through and flown over; drawn off the interface thread."""

from __future__ import annotations

import dataclasses
import math
from collections.abc import Callable, Sequence
from dataclasses import dataclass
from typing import Any

import numpy as np
from PyQt6.QtCore import QPointF, QRectF, Qt, QTimer, pyqtSignal
from PyQt6.QtGui import QColor, QImage, QKeyEvent, QMouseEvent, QPainter, QPaintEvent, QPen, QResizeEvent, QWheelEvent
from PyQt6.QtWidgets import QWidget

from vastgrid.data.pointset import PointSet
from vastgrid.lineage import cloudindex
from vastgrid.lineage.cloudindex import CloudIndex
from vastgrid.measures.heights import heights, heights_at_hand, surface_of
from vastgrid.qt.drawing import furniture, rendering
from vastgrid.qt.drawing.painter import Painter, Size
from vastgrid.qt.widgets import theme
from vastgrid.qt.widgets.bridge import Bridge
from vastgrid.styling.camera import Camera
from vastgrid.styling.colouring import Scale, StyledLayer
from vastgrid.styling.scene import Scene, Shot, fitted, shoot

ORBIT, WALK, FLY = "orbit", "walk", "fly"
MODES = (ORBIT, WALK, FLY)
# Height of the eyes above the ground, in metres.
EYES = 1.7
# After so long without a movement the picture is drawn with all detail, in milliseconds.
STILL = 180


def clouds(points: PointSet, spacing: float) -> list[tuple[Any, Any]] | None:
    """Return the pieces of a large cloud thinned to a spacing; None where it has no order yet."""
    index: CloudIndex | None = cloudindex.ready.get(points.content)
    extent = points.extent()
    if index is None or not extent.east or not extent.north:
        return None
    origin = np.array((index.west, index.south, index.low))
    box = (extent.east[0], extent.north[0], extent.east[1], extent.north[1])
    return [(part + origin, rows) for part, rows in index.visible(box, spacing)]


@dataclass(frozen=True, eq=False)
class SpaceWish:
    """A picture that is asked for."""

    scene: Scene
    camera: Camera
    width: int
    height: int
    coarse: bool
    number: int


class SpaceView(QWidget):
    """Shows datasets in perspective.

    Signals
    -------
    cursor_moved : east, north
        The place under the cursor.
    looked : ()
        The camera moved.
    """

    cursor_moved = pyqtSignal(float, float)
    looked = pyqtSignal()

    def __init__(self, palette: theme.Palette) -> None:
        super().__init__()
        self.setObjectName("space")
        self.setAccessibleName("3D view")
        self.setMouseTracking(True)
        self.setFocusPolicy(Qt.FocusPolicy.StrongFocus)
        self.setMinimumSize(240, 160)
        self.palette_ = palette
        self.items: list[StyledLayer] = []
        self.camera = Camera()
        self.mode = ORBIT
        self.sun = (315.0, 45.0)
        self.cut: tuple[tuple[float, float], tuple[float, float]] | None = None
        self.mark: tuple[float, float, float] | None = None
        self.pointer: tuple[float, float, float] | None = None
        self.shot: Shot | None = None
        self.legend: list[Scale] = []
        self.overlays: list[Callable[[QPainter], None]] = []
        self._image: QImage | None = None
        self.touched = False
        self._number = 0
        self._drawn = -1
        self._press: tuple[QPointF, Camera, np.ndarray | None] | None = None
        self._bridge = Bridge(self)
        self._painter: Painter[SpaceWish] = Painter(
            self._draw,
            lambda wish, picture, shot: self._bridge.post(lambda: self._arrived(wish, picture, shot)),
            lambda wish: Size(wish.width, wish.height),
        )
        self._painter.start()
        self._still = QTimer(self)
        self._still.setSingleShot(True)
        self._still.setInterval(STILL)
        self._still.timeout.connect(lambda: self._ask(coarse=False))

    @staticmethod
    def _draw(wish: SpaceWish) -> tuple[QImage, tuple[Shot, list[Scale]]]:
        shot = shoot(wish.scene, wish.camera, wish.width, wish.height, coarse=wish.coarse, smooth=not wish.coarse)
        made = QImage(shot.image.tobytes(), wish.width, wish.height, 4 * wish.width, QImage.Format.Format_ARGB32)
        return made.copy(), (shot, furniture.scales(wish.scene.items, wish.scene.ends))

    # -- what is shown

    def show_items(self, items: Sequence[StyledLayer]) -> None:
        """Show these; the camera stays where it is unless nothing was shown before."""
        if [id(item) for item in items] == [id(item) for item in self.items]:
            return
        self.items = list(items)
        self._number += 1
        if not self.touched:
            self.fit()
        self._changed()

    def scene(self) -> Scene:
        """Return what is drawn."""
        dark = self.palette_.name == "dark"
        return Scene(
            tuple(self.items),
            rendering.height_range([item.dataset for item in self.items]),
            self.sun,
            self.cut,
            clouds,
            breakline=self.palette_.breakline,
            line=self.palette_.action,
            wire="#E6E1D6" if dark else "#1F2D36",
            contour="#4A2A10",
        )

    def set_palette(self, palette: theme.Palette) -> None:
        """Change the theme."""
        self.palette_ = palette
        self.repaint_all()

    def repaint_all(self) -> None:
        """Draw everything anew."""
        self._number += 1
        self._changed()

    def set_sun(self, azimuth: float, altitude: float) -> None:
        """Let the light come from elsewhere."""
        self.sun = (azimuth % 360.0, min(max(altitude, 1.0), 90.0))
        self.repaint_all()

    def set_cut(self, cut: tuple[tuple[float, float], tuple[float, float]] | None) -> None:
        """Leave out what lies on the left of a vertical plane, or show all again."""
        if cut != self.cut:
            self.cut = cut
            self.repaint_all()

    def set_stretch(self, stretch: float) -> None:
        """Exaggerate heights."""
        self.look(dataclasses.replace(self.camera, stretch=min(max(stretch, 0.5), 20.0)))

    def set_mode(self, mode: str) -> None:
        """Change between turning around a place, walking on the ground and flying."""
        self.mode = mode
        if mode == WALK:
            self.touched = True
            self._set_down()

    def fit(self) -> None:
        """Show everything."""
        if self.items:
            self.touched = False
            self.look(fitted(self.items, self.camera))

    def look(self, camera: Camera) -> None:
        """Look from somewhere else."""
        self.camera = camera
        self.looked.emit()
        self._changed()

    def settled(self) -> bool:
        """Whether the picture shows the present view with all detail."""
        made = self.shot
        return (
            not self._painter.busy
            and not self._still.isActive()
            and made is not None
            and not made.coarse
            and made.camera == self.camera
            and self._drawn == self._number
        )

    def close_painter(self) -> None:
        """End the painter's thread."""
        self._painter.close()

    def forget(self) -> None:
        """Show nothing, and fit anew to whatever comes next."""
        self.items, self.shot, self._image, self.touched, self.mark, self.cut = [], None, None, False, None, None
        self._number += 1
        self.update()

    def _changed(self) -> None:
        if self.isVisible():
            self._ask(coarse=True)
            self._still.start()

    def _ask(self, *, coarse: bool) -> None:
        if self.width() > 1 and self.isVisible():
            self._painter.ask(SpaceWish(self.scene(), self.camera, self.width(), self.height(), coarse, self._number))

    def _arrived(self, wish: SpaceWish, picture: QImage, made: tuple[Shot, list[Scale]] | None) -> None:
        if wish.number != self._number:
            return
        self._image, self._drawn = picture, wish.number
        if made is not None:
            self.shot, self.legend = made
        self.update()

    # -- hands

    def place_at(self, at: QPointF) -> np.ndarray | None:
        """Return the world coordinates of what is seen at a pixel."""
        return None if self.shot is None else self.shot.place(at.x(), at.y())

    def on_ray(self, at: QPointF) -> np.ndarray:
        """Return a place in the world that is seen at a pixel, whatever stands there: as far away as the middle."""
        return self.camera.place(at.x(), at.y(), 1.0 / self.camera.distance, self.width(), self.height())

    def mousePressEvent(self, event: QMouseEvent | None) -> None:
        if event is not None:
            self._press = (event.position(), self.camera, self.place_at(event.position()))

    def mouseReleaseEvent(self, event: QMouseEvent | None) -> None:
        self._press = None

    def mouseDoubleClickEvent(self, event: QMouseEvent | None) -> None:
        if event is None:
            return
        place = self.place_at(event.position())
        if place is not None:
            self.touched = True
            self.look(dataclasses.replace(self.camera, east=place[0], north=place[1], height=place[2]))

    def mouseMoveEvent(self, event: QMouseEvent | None) -> None:
        if event is None:
            return
        if self._press is not None and event.buttons():
            start, camera, place = self._press
            moved = event.position() - start
            shifted = event.buttons() & (Qt.MouseButton.RightButton | Qt.MouseButton.MiddleButton) or (
                event.modifiers() & Qt.KeyboardModifier.ShiftModifier
            )
            self.touched = True
            if shifted:
                self._slide(camera, moved, place)
            else:
                self._turn(camera, moved.x() * 0.35, moved.y() * 0.3)
            return
        found = self.place_at(event.position())
        if found is not None:
            self.cursor_moved.emit(float(found[0]), float(found[1]))

    def _turn(self, camera: Camera, across: float, down: float) -> None:
        """Turn around the place in the middle, or in walking and flying around the eye."""
        self.touched = True
        if self.mode == ORBIT:
            pitch = min(max(camera.pitch + down, -20.0), 90.0)
            self.look(dataclasses.replace(camera, heading=(camera.heading + across) % 360.0, pitch=pitch))
            return
        eye = camera.eye()
        pitch = min(max(camera.pitch + down * 0.5, -85.0), 89.0)
        turned = dataclasses.replace(camera, heading=(camera.heading + across * 0.5) % 360.0, pitch=pitch)
        self.look(turned.at_eye(eye))

    def _slide(self, camera: Camera, moved: QPointF, place: np.ndarray | None) -> None:
        """Move along with what was gripped."""
        right, up, _ = camera.axes()
        eye = camera.eye()
        far = camera.distance
        if place is not None:
            off = (place - eye) * (1.0, 1.0, camera.factor())
            far = float(np.linalg.norm(off))
        size = far / camera.focus(self.height())
        flat = np.array((up[0], up[1], 0.0))
        length = float(np.linalg.norm(flat)) or 1.0
        step = -moved.x() * size * right + moved.y() * size * flat / length / max(
            math.sin(math.radians(camera.pitch)), 0.35
        )
        self.look(dataclasses.replace(camera, east=camera.east + step[0], north=camera.north + step[1]))

    def wheelEvent(self, event: QWheelEvent | None) -> None:
        if event is not None:
            self.zoom(1.0015 ** event.angleDelta().y(), event.position())

    def zoom(self, ratio: float, at: QPointF | None = None) -> None:
        """Come closer by a ratio, towards what is seen at a pixel."""
        self.touched = True
        place = None if at is None else self.place_at(at)
        camera = self.camera
        distance = max(camera.distance / ratio, 1e-3)
        if place is None:
            self.look(dataclasses.replace(camera, distance=distance))
            return
        # The eye and the place in the middle both move towards what is under the cursor, which so stays where it is.
        target = place + (camera.target - place) / ratio
        self.look(dataclasses.replace(camera, east=target[0], north=target[1], height=target[2], distance=distance))

    def keyPressEvent(self, event: QKeyEvent | None) -> None:
        if event is None:
            return
        key = event.key()
        walking = self.mode != ORBIT or bool(event.modifiers() & Qt.KeyboardModifier.ShiftModifier)
        ways = {
            Qt.Key.Key_Up: (0, 1), Qt.Key.Key_W: (0, 1), Qt.Key.Key_Down: (0, -1), Qt.Key.Key_S: (0, -1),
            Qt.Key.Key_Left: (-1, 0), Qt.Key.Key_A: (-1, 0), Qt.Key.Key_Right: (1, 0), Qt.Key.Key_D: (1, 0),
        }  # fmt: skip
        arrows = (Qt.Key.Key_Up, Qt.Key.Key_Down, Qt.Key.Key_Left, Qt.Key.Key_Right)
        if key in ways and (walking or key not in arrows):
            self.step(*ways[Qt.Key(key)])
        elif key in ways:
            across, up = ways[Qt.Key(key)]
            self._turn(self.camera, 6.0 * across, 5.0 * up)
        elif key in (Qt.Key.Key_E, Qt.Key.Key_Q) and self.mode != WALK:
            self.rise(1 if key == Qt.Key.Key_E else -1)
        elif key in (Qt.Key.Key_Plus, Qt.Key.Key_Equal):
            self.zoom(1.25)
        elif key == Qt.Key.Key_Minus:
            self.zoom(0.8)
        elif key in (Qt.Key.Key_PageUp, Qt.Key.Key_PageDown):
            self.set_stretch(self.camera.stretch * (1.25 if key == Qt.Key.Key_PageUp else 0.8))
        elif key in (Qt.Key.Key_F, Qt.Key.Key_Home):
            self.fit()
        elif key == Qt.Key.Key_N:
            self.touched = True
            self.look(dataclasses.replace(self.camera, heading=0.0))
        else:
            super().keyPressEvent(event)

    def step(self, across: int, ahead: int) -> None:
        """Go a step over the ground: a stride when walking, a share of the distance otherwise."""
        self.touched = True
        camera = self.camera
        heading = math.radians(camera.heading)
        plan = self._metre()
        size = 2.0 * plan if self.mode == WALK else max(camera.distance * 0.06, 1e-3)
        east = size * (math.sin(heading) * ahead + math.cos(heading) * across)
        north = size * (math.cos(heading) * ahead - math.sin(heading) * across)
        self.camera = dataclasses.replace(camera, east=camera.east + east, north=camera.north + north)
        if self.mode == WALK:
            self._set_down()
        else:
            self.look(self.camera)

    def rise(self, up: int) -> None:
        """Go up or down."""
        self.touched = True
        camera = self.camera
        self.look(dataclasses.replace(camera, height=camera.height + up * camera.distance * 0.05 / camera.factor()))

    def _metre(self) -> float:
        """Return how many plan units a metre has."""
        unit = self.items[0].dataset.frame.horizontal if self.items else None
        return 1.0 if unit is None or unit.value == "deg" else 1.0 / float(unit.metres)

    def _set_down(self) -> None:
        """Put the eye above the ground below it, as high as eyes are."""
        camera, metre = self.camera, self._metre()
        eye = camera.eye()
        if camera.distance > 60.0 * metre:
            # Coming from afar one is set down at the place one looked at.
            eye = camera.target
            camera = dataclasses.replace(camera, distance=12.0 * metre, pitch=5.0)
        ground = self.ground_at(eye[0], eye[1])
        if ground is not None:
            eye = np.array((eye[0], eye[1], ground + EYES * metre * camera.ratio))
        self.look(camera.at_eye(eye))

    def ground_at(self, east: float, north: float) -> float | None:
        """Return the height of the uppermost surface at a place."""
        found = None
        for item in self.items:
            surface = surface_of(item.dataset)
            if surface is not None and heights_at_hand(surface):
                z = float(heights(surface, np.array([[east, north]]))[0])
                if math.isfinite(z):
                    found = z
        return found

    def resizeEvent(self, event: QResizeEvent | None) -> None:
        self._changed()

    def showEvent(self, event: Any) -> None:
        if not self.touched:
            self.fit()
        self._changed()

    # -- painting

    def paintEvent(self, event: QPaintEvent | None) -> None:
        painter = QPainter(self)
        painter.fillRect(self.rect(), self.palette_.colour("paper"))
        if self._image is not None:
            painter.drawImage(QRectF(0, 0, self.width(), self.height()), self._image)
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        for place, paint in ((self.mark, self._paint_mark), (self.pointer, self._paint_pointer)):
            at = None if place is None else self.camera.pixel(np.array(place), self.width(), self.height())
            if at is not None:
                paint(painter, QPointF(*at))
        for overlay in self.overlays:
            overlay(painter)
        right = self.width() - 14.0
        furniture.paint_north(painter, right, 12.0, self.camera.heading, self.palette_)
        furniture.paint_legends(painter, right, 66.0, self.height() - 130.0, self.legend, self.palette_)
        self._paint_words(painter)
        if self.hasFocus():
            painter.setPen(QPen(self.palette_.colour("action"), 2))
            painter.setBrush(Qt.BrushStyle.NoBrush)
            painter.drawRect(QRectF(1, 1, self.width() - 2, self.height() - 2))
        painter.end()

    def _paint_words(self, painter: QPainter) -> None:
        camera = self.camera
        text = f"heights × {camera.stretch:g} · looking {camera.heading:.0f}°, {camera.pitch:.0f}° down"
        painter.setFont(theme.font(8.5))
        wide = painter.fontMetrics().horizontalAdvance(text) + 14.0
        box = QRectF(12, self.height() - 62.0, wide, 20)
        painter.setPen(Qt.PenStyle.NoPen)
        painter.setBrush(furniture.halo_of(self.palette_))
        painter.drawRoundedRect(box, 5, 5)
        painter.setPen(self.palette_.colour("ink"))
        painter.drawText(box, 0x84, text)

    def _paint_mark(self, painter: QPainter, at: QPointF) -> None:
        for colour, width in ((QColor("#FFFFFF"), 4.0), (self.palette_.colour("error"), 2.0)):
            painter.setPen(QPen(colour, width))
            painter.setBrush(Qt.BrushStyle.NoBrush)
            painter.drawEllipse(at, 11, 11)

    def _paint_pointer(self, painter: QPainter, at: QPointF) -> None:
        painter.setPen(QPen(QColor("#FFFFFF"), 1.5))
        painter.setBrush(self.palette_.colour("action"))
        painter.drawEllipse(at, 4.5, 4.5)

    def picture(self, width: int, height: int) -> QImage:
        """Return a picture of any size, with all detail; slow for large ones."""
        shot = shoot(self.scene(), self.camera, width, height, coarse=False, smooth=True)
        return QImage(shot.image.tobytes(), width, height, 4 * width, QImage.Format.Format_ARGB32).copy()
