"""A choice made by pictures: how a specimen is held, what its section looks like."""

from __future__ import annotations

import math
from collections.abc import Callable, Mapping, Sequence
from dataclasses import dataclass
from functools import partial

from PyQt6.QtCore import QPointF, QRectF, Qt, pyqtSignal
from PyQt6.QtGui import QBrush, QMouseEvent, QPainter, QPen, QPolygonF
from PyQt6.QtWidgets import QWidget

from ....desktop.parts import theme
from ....desktop.parts.spots import Spot
from ....desktop.parts.widgets import small_text

HIGH, WORD, GAP = 40.0, 16.0, 6.0
Draw = Callable[[QPainter, QRectF], None]


@dataclass(frozen=True)
class Picture:
    """One of them."""

    key: str
    word: str
    draw: Draw


class PictureChoice(QWidget):
    """Tiles in rows, the chosen one framed. `chosen` names the one that was pressed."""

    chosen = pyqtSignal(str)

    def __init__(self, name: str, pictures: Sequence[Picture], columns: int) -> None:
        super().__init__()
        self.name, self.pictures, self.columns = name, list(pictures), columns
        self.key = ""
        self.editable = False
        self.again: Sequence[str] = ()
        rows = math.ceil(len(self.pictures) / columns)
        self.setFixedHeight(int(rows * (HIGH + WORD + GAP)))
        self.setMouseTracking(True)
        self.show_choice("", False)

    def show_choice(self, key: str, editable: bool, again: Sequence[str] = ()) -> None:
        """The one that holds; whether another may be chosen; those that may be chosen once more."""
        self.key, self.editable, self.again = key, editable, again
        word = next((p.word for p in self.pictures if p.key == key), "none chosen")
        self.setAccessibleName(f"{self.name}: {word}")
        self.update()

    def boxes(self) -> Mapping[str, QRectF]:
        """Where each lies."""
        wide = (self.width() - GAP * (self.columns - 1)) / self.columns
        return {
            p.key: QRectF((i % self.columns) * (wide + GAP), (i // self.columns) * (HIGH + WORD + GAP) + 1, wide, HIGH)
            for i, p in enumerate(self.pictures)
        }

    def spots(self) -> Sequence[Spot]:
        """All that are not chosen."""
        if not self.editable:
            return ()
        return [Spot(box, partial(self.chosen.emit, key)) for key, box in self.boxes().items()
                if key != self.key or key in self.again]  # fmt: skip

    def mousePressEvent(self, event: QMouseEvent | None) -> None:
        if event is None or not self.editable:
            return
        for key, box in self.boxes().items():
            if box.adjusted(0, 0, 0, WORD).contains(event.position()) and (key != self.key or key in self.again):
                self.chosen.emit(key)
                return

    def mouseMoveEvent(self, event: QMouseEvent | None) -> None:
        over = event is not None and self.editable and any(b.contains(event.position()) for b in self.boxes().values())
        self.setCursor(Qt.CursorShape.PointingHandCursor if over else Qt.CursorShape.ArrowCursor)

    def paintEvent(self, _event: object) -> None:
        painter = QPainter(self)
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        boxes = self.boxes()
        for p in self.pictures:
            box, on = boxes[p.key], p.key == self.key
            painter.setPen(QPen(theme.color("brass" if on else "line"), 1.8 if on else 1.0))
            painter.setBrush(theme.color("card"))
            painter.drawRoundedRect(box, 5, 5)
            painter.save()
            p.draw(painter, box.adjusted(5, 5, -5, -5))
            painter.restore()
            ink = theme.color("ink" if on else "muted")
            painter.setFont(theme.font(8.5, 600 if on else 400))
            wide = painter.fontMetrics().horizontalAdvance(p.word)
            small_text(painter, box.center().x() - wide / 2, box.bottom() + 12, p.word, ink, 8.5, 600 if on else 400)


# --- the strokes -----------------------------------------------------------------------------------------------


def body(painter: QPainter) -> None:
    """The specimen's own ink."""
    painter.setPen(QPen(theme.color("ink"), 1.3))
    painter.setBrush(theme.color("sand"))


def holder(painter: QPainter) -> None:
    """What holds it."""
    painter.setPen(Qt.PenStyle.NoPen)
    painter.setBrush(theme.color("muted"))


def arrow(painter: QPainter, x: float, y: float, way: float) -> None:
    """The force: a head at (x, y) that points up where `way` is negative, down else."""
    painter.setPen(Qt.PenStyle.NoPen)
    painter.setBrush(theme.color("brass"))
    painter.drawPolygon(QPolygonF([QPointF(x, y), QPointF(x - 3.5, y - 6 * way), QPointF(x + 3.5, y - 6 * way)]))


def pulled(painter: QPainter, box: QRectF) -> None:
    """A bar in two grips."""
    x = box.center().x()
    body(painter)
    painter.drawRect(QRectF(x - 4, box.top() + 5, 8, box.height() - 10))
    holder(painter)
    for y in (box.top() + 3, box.bottom() - 9):
        painter.drawRect(QRectF(x - 11, y, 22, 6))
    arrow(painter, x, box.top() - 3, -1)
    arrow(painter, x, box.bottom() + 3, 1)


def pressed(painter: QPainter, box: QRectF) -> None:
    """A block between two plates."""
    x, y = box.center().x(), box.center().y()
    body(painter)
    painter.drawRect(QRectF(x - 9, y - 8, 18, 16))
    holder(painter)
    for top in (y - 12, y + 8):
        painter.drawRect(QRectF(x - 17, top, 34, 4))
    arrow(painter, x, y - 13, 1)
    arrow(painter, x, y + 13, -1)


def _beam(painter: QPainter, box: QRectF, ends: Sequence[float]) -> None:
    y = box.center().y()
    body(painter)
    painter.drawRect(QRectF(box.left() + 2, y - 3, box.width() - 4, 6))
    holder(painter)
    for x in ends:
        painter.drawRect(QRectF(x - 4, y - 10, 8, 20))


def three_point(painter: QPainter, box: QRectF) -> None:
    """A beam on two supports, pressed between them."""
    _beam(painter, box, ())
    y = box.center().y()
    holder(painter)
    for x in (box.left() + 7, box.right() - 7):
        painter.drawEllipse(QPointF(x, y + 7), 4, 4)
    arrow(painter, box.center().x(), y - 3, 1)


def single_cantilever(painter: QPainter, box: QRectF) -> None:
    """A beam clamped at one end, moved at the other, which is guided."""
    _beam(painter, box, (box.left() + 6, box.right() - 6))
    arrow(painter, box.right() - 6, box.top(), -1)
    arrow(painter, box.right() - 6, box.bottom(), 1)


def dual_cantilever(painter: QPainter, box: QRectF) -> None:
    """A beam clamped at both ends, moved in the middle."""
    x = box.center().x()
    _beam(painter, box, (box.left() + 6, x, box.right() - 6))
    arrow(painter, x, box.top(), -1)
    arrow(painter, x, box.bottom(), 1)


def shear(painter: QPainter, box: QRectF) -> None:
    """Two pieces, each between an outer plate and one in the middle that moves."""
    x, y = box.center().x(), box.center().y()
    body(painter)
    for left in (x - 13, x + 4):
        painter.drawRect(QRectF(left, y - 8, 9, 16))
    holder(painter)
    for left, top, high in ((x - 17, y - 11, 22), (x - 4, y - 11, 22), (x + 13, y - 11, 22)):
        painter.drawRect(QRectF(left, top, 4 if left != x - 4 else 8, high))
    arrow(painter, x, box.bottom(), 1)


def flat(painter: QPainter, box: QRectF) -> None:
    """Sections: a strip."""
    body(painter)
    painter.drawRect(QRectF(box.center().x() - 14, box.center().y() - 5, 28, 10))


def round_(painter: QPainter, box: QRectF) -> None:
    """A bar."""
    body(painter)
    painter.drawEllipse(box.center(), 11, 11)


def tube(painter: QPainter, box: QRectF) -> None:
    """A tube."""
    body(painter)
    painter.drawEllipse(box.center(), 12, 12)
    painter.setBrush(theme.color("card"))
    painter.drawEllipse(box.center(), 7, 7)


def area(painter: QPainter, box: QRectF) -> None:
    """Anything whose area is known."""
    x, y = box.center().x(), box.center().y()
    body(painter)
    painter.setBrush(QBrush(theme.color("brass"), Qt.BrushStyle.BDiagPattern))
    painter.drawPolygon(QPolygonF([QPointF(x + a, y + b) for a, b in
                                   ((-13, -3), (-4, -11), (12, -7), (9, 5), (0, 11), (-11, 8))]))  # fmt: skip


def weighed(painter: QPainter, box: QRectF) -> None:
    """One that is put on a balance."""
    x, y = box.center().x(), box.center().y()
    holder(painter)
    painter.drawRect(QRectF(x - 13, y + 6, 26, 6))
    painter.drawRect(QRectF(x - 1.5, y, 3, 6))
    painter.drawRect(QRectF(x - 15, y - 2, 30, 2.5))
    body(painter)
    painter.drawRect(QRectF(x - 8, y - 10, 16, 8))


FIXTURES = (
    Picture("tension", "pulled", pulled), Picture("compression", "pressed", pressed),
    Picture("shear", "sheared", shear), Picture("three_point", "bent, 3 points", three_point),
    Picture("single_cantilever", "one end", single_cantilever),
    Picture("dual_cantilever", "both ends", dual_cantilever),
)  # fmt: skip
WAYS = FIXTURES[:2]
SECTIONS = (
    Picture("flat", "flat", flat), Picture("round", "round", round_), Picture("tube", "tube", tube),
    Picture("area", "area", area), Picture("weighed", "mass", weighed),
)  # fmt: skip
