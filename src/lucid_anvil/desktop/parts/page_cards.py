"""The pages of a paper as cards: laid out in rows, taken hold of to be ordered, left out by their corner."""

from __future__ import annotations

from dataclasses import dataclass

from PyQt6.QtCore import QPoint, QPointF, QRectF, QSize, Qt, pyqtSignal
from PyQt6.QtGui import QColor, QImage, QKeyEvent, QMouseEvent, QPainter, QPaintEvent, QPen, QPolygonF, QResizeEvent
from PyQt6.QtWidgets import QWidget

from . import theme
from .widgets import small_text

WIDE, GAP, WORDS = 104, 14, 42
"""px: a card, the room between two, what is written below"""
CORNER = 14
PAPER = "#FFFFFF"
"""A sheet is white, by day and by night"""
FAR = 7
"""px that the mouse moves before a card comes along"""


@dataclass(frozen=True)
class Shown:
    """A card as it is drawn."""

    title: str
    below: str
    out: bool
    page: QImage
    """Null where there is none yet"""


class PageCards(QWidget):
    """Cards in rows. Arrow keys choose, Space leaves out and puts back, Alt and arrows move, Enter opens."""

    chosen = pyqtSignal(int)
    opened = pyqtSignal(int)
    left_out = pyqtSignal(int)
    moved = pyqtSignal(int, int)
    """A card, and the place before which it goes"""
    add = pyqtSignal()
    taken_off = pyqtSignal(int)

    def __init__(self) -> None:
        super().__init__()
        self.cards: list[Shown] = []
        self.at = 0
        self.high = round(WIDE * 1.414)
        self.fixed = False
        """Handed over: looked at, not changed"""
        self.pressed: QPoint | None = None
        self.held: int | None = None
        self.where = QPoint()
        self.setFocusPolicy(Qt.FocusPolicy.StrongFocus)
        self.setMouseTracking(True)
        self.setAccessibleName("pages of the paper")
        self.setMinimumWidth(WIDE + 2 * GAP)

    def show_cards(self, cards: list[Shown], aspect: float, fixed: bool) -> None:
        """`aspect`: a page's height over its width."""
        self.cards, self.fixed = cards, fixed
        self.high = round(WIDE * min(max(aspect, 0.5), 1.6))
        self.at = min(self.at, max(len(cards) - 1, 0))
        self._fit()
        self.update()

    @property
    def columns(self) -> int:
        return max((self.width() - GAP) // (WIDE + GAP), 1)

    def box(self, i: int) -> QRectF:
        """Where a card is; the place after the last is the one to add by."""
        row, column = divmod(i, self.columns)
        return QRectF(GAP / 2 + column * (WIDE + GAP), 4 + row * (self.high + WORDS + 8), WIDE, self.high)

    def corner(self, i: int) -> QRectF:
        """The corner that leaves a card out; larger to the hand than to the eye."""
        box = self.box(i)
        return QRectF(box.right() - CORNER - 12, box.top(), CORNER + 12, CORNER + 12)

    def place_at(self, where: QPointF) -> int:
        """The card nearest to a point's left: where one that is let go there would be put."""
        best, least = len(self.cards), float("inf")
        for i in range(len(self.cards) + 1):
            box = self.box(i)
            away = abs(where.y() - box.center().y()) * 3 + abs(where.x() - box.left())
            if away < least:
                best, least = i, away
        return best

    def resizeEvent(self, event: QResizeEvent | None) -> None:
        super().resizeEvent(event)
        self._fit()

    def _fit(self) -> None:
        rows = -(-(len(self.cards) + (not self.fixed)) // self.columns)
        self.setMinimumHeight(rows * (self.high + WORDS + 8) + 8)

    # --- hand -------------------------------------------------------------------------------------------------

    def _hit(self, where: QPointF) -> int | None:
        for i in range(len(self.cards) + (not self.fixed)):
            if self.box(i).adjusted(0, 0, 0, WORDS).contains(where):
                return i
        return None

    def mousePressEvent(self, event: QMouseEvent | None) -> None:
        if event is None or event.button() != Qt.MouseButton.LeftButton:
            return
        i = self._hit(event.position())
        if i is None:
            return
        if i == len(self.cards):
            self.add.emit()
            return
        self.choose(i)
        if self.fixed:
            return
        if self.corner(i).contains(event.position()):
            self.left_out.emit(i)
            return
        self.pressed = event.position().toPoint()

    def mouseMoveEvent(self, event: QMouseEvent | None) -> None:
        if event is None:
            return
        self.where = event.position().toPoint()
        if self.pressed is not None and self.held is None and (self.where - self.pressed).manhattanLength() > FAR:
            self.held = self.at
        over = self._hit(event.position())
        hand = over is not None and not self.fixed
        self.setCursor(Qt.CursorShape.PointingHandCursor if hand else Qt.CursorShape.ArrowCursor)
        if self.held is not None:
            self.update()

    def mouseReleaseEvent(self, event: QMouseEvent | None) -> None:
        held, self.pressed, self.held = self.held, None, None
        self.update()
        if held is None or event is None:
            return
        to = self.place_at(event.position() - QPointF(WIDE / 2, 0))
        if to not in (held, held + 1):
            self.moved.emit(held, to)

    def mouseDoubleClickEvent(self, event: QMouseEvent | None) -> None:
        i = self._hit(event.position()) if event is not None else None
        if i is not None and i < len(self.cards) and not self.fixed:
            self.pressed = self.held = None
            self.opened.emit(i)

    def keyPressEvent(self, event: QKeyEvent | None) -> None:
        if event is None or not self.cards:
            return
        steps = {Qt.Key.Key_Left: -1, Qt.Key.Key_Right: 1, Qt.Key.Key_Up: -self.columns, Qt.Key.Key_Down: self.columns}
        step = steps.get(Qt.Key(event.key()))
        if step is not None and event.modifiers() & Qt.KeyboardModifier.AltModifier:
            to = min(max(self.at + step, 0), len(self.cards) - 1)
            if to != self.at and not self.fixed:
                self.moved.emit(self.at, to + (to > self.at))
        elif step is not None:
            self.choose(min(max(self.at + step, 0), len(self.cards) - 1))
        elif self.fixed:
            super().keyPressEvent(event)
        elif event.key() == Qt.Key.Key_Space:
            self.left_out.emit(self.at)
        elif event.key() in (Qt.Key.Key_Return, Qt.Key.Key_Enter):
            self.opened.emit(self.at)
        elif event.key() == Qt.Key.Key_Delete:
            self.taken_off.emit(self.at)
        elif event.key() == Qt.Key.Key_Plus:
            self.add.emit()
        else:
            super().keyPressEvent(event)

    def choose(self, i: int) -> None:
        """Look at a card."""
        self.at = i
        self.chosen.emit(i)
        self.update()

    # --- picture ----------------------------------------------------------------------------------------------

    def sizeHint(self) -> QSize:
        return QSize(4 * (WIDE + GAP), 2 * (self.high + WORDS))

    def paintEvent(self, _event: QPaintEvent | None) -> None:
        painter = QPainter(self)
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        painter.setRenderHint(QPainter.RenderHint.SmoothPixmapTransform)
        for i, card in enumerate(self.cards):
            if i != self.held:
                self._card(painter, self.box(i), card, i == self.at)
        if not self.fixed:
            box = self.box(len(self.cards))
            painter.setPen(QPen(theme.color("line"), 1, Qt.PenStyle.DashLine))
            painter.setBrush(Qt.BrushStyle.NoBrush)
            painter.drawRoundedRect(box.adjusted(0.5, 0.5, -0.5, -0.5), 3, 3)
            small_text(painter, box.center().x() - 5, box.center().y() + 7, "+", theme.color("brass"), 16, 400)
            small_text(painter, box.left() + 2, box.bottom() + 17, "Add", theme.color("ink"), 9.5, 600)
            small_text(painter, box.left() + 2, box.bottom() + 33, "a PDF, a photo, a text", theme.color("muted"), 8.5)
        if self.held is not None:
            self._drag(painter, self.cards[self.held])

    def _drag(self, painter: QPainter, card: Shown) -> None:
        to = self.box(self.place_at(QPointF(self.where) - QPointF(WIDE / 2, 0)))
        painter.setPen(QPen(theme.color("brass"), 2.5))
        painter.drawLine(QPointF(to.left() - GAP / 2, to.top()), QPointF(to.left() - GAP / 2, to.bottom()))
        box = QRectF(self.where.x() - WIDE / 2, self.where.y() - 30, WIDE, self.high)
        painter.fillRect(box.translated(5, 6), theme.color("sand", 170))
        self._card(painter, box, card, True, words=False)

    def _card(self, painter: QPainter, box: QRectF, card: Shown, chosen: bool, words: bool = True) -> None:
        ground = theme.color("sand") if card.out else QColor(PAPER)
        painter.setPen(QPen(theme.color("brass" if chosen else "line"), 1.6 if chosen else 1))
        painter.setBrush(ground)
        painter.drawRoundedRect(box.adjusted(0.5, 0.5, -0.5, -0.5), 3, 3)
        if not card.page.isNull():
            painter.setOpacity(0.35 if card.out else 1.0)
            painter.drawImage(box.adjusted(2, 2, -2, -2), card.page)
            painter.setOpacity(1.0)
        mark = QRectF(box.right() - CORNER - 6, box.top() + 6, CORNER, CORNER)
        if not self.fixed:
            painter.setPen(QPen(theme.color("muted" if card.out else "brass"), 1.2))
            painter.setBrush(ground if card.out else theme.color("brass"))
            painter.drawRoundedRect(mark, 2, 2)
            if not card.out:
                painter.setPen(QPen(QColor(PAPER), 1.6))
                tick = [mark.topLeft() + QPointF(x, y) for x, y in ((3, 7), (6, 10), (11, 4))]
                painter.drawPolyline(QPolygonF(tick))
        if words:
            ink = theme.color("muted" if card.out else "ink")
            room = int(WIDE)
            small_text(painter, box.left() + 2, box.bottom() + 17, shorter(painter, card.title, room, 9.5, 600), ink,
                       9.5, 600)  # fmt: skip
            small_text(painter, box.left() + 2, box.bottom() + 33, shorter(painter, card.below, room, 8.5, 400),
                       theme.color("muted"), 8.5)  # fmt: skip


def shorter(painter: QPainter, text: str, room: int, size: float, weight: int) -> str:
    """A text cut to the room that it has."""
    painter.setFont(theme.font(size, weight))
    return painter.fontMetrics().elidedText(text, Qt.TextElideMode.ElideRight, room)
