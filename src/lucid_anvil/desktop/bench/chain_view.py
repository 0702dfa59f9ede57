"""The chain: the signal path as live tiles, source to inputs."""

from __future__ import annotations

from functools import partial

from PyQt6.QtCore import QPointF, QRectF, Qt, pyqtSignal
from PyQt6.QtGui import QMouseEvent, QPainter, QPen, QPolygonF
from PyQt6.QtWidgets import QWidget

from ...protocol.messages import Tile
from ..parts import theme
from ..parts.spots import Spot
from ..parts.widgets import small_text

GAP = 14
WAKING = "The bench is waking up: devices and guards are being started."


class ChainView(QWidget):
    """All tiles in one widget, painted."""

    clicked = pyqtSignal(str)

    def __init__(self) -> None:
        super().__init__()
        self.tiles: list[Tile] = []
        self.instead = ""
        self.setFixedHeight(80)
        self.setMouseTracking(True)

    def show_tiles(self, tiles: list[Tile]) -> None:
        self.tiles = tiles
        self.update()

    def show_none(self, why: str) -> None:
        """No signal path is live, and why."""
        self.tiles, self.instead = [], why
        self.update()

    def _boxes(self) -> list[QRectF]:
        count = max(len(self.tiles), 1)
        width = (self.width() - GAP * (count - 1)) / count
        return [QRectF(i * (width + GAP), 0, width, self.height() - 1) for i in range(count)]

    def spots(self) -> list[Spot]:
        made = zip(self.tiles, self._boxes(), strict=False)
        return [Spot(box, partial(self.clicked.emit, tile.key)) for tile, box in made]

    def mousePressEvent(self, event: QMouseEvent) -> None:
        for tile, box in zip(self.tiles, self._boxes(), strict=False):
            if box.contains(event.position()):
                self.clicked.emit(tile.key)

    def mouseMoveEvent(self, event: QMouseEvent) -> None:
        for tile, box in zip(self.tiles, self._boxes(), strict=False):
            if box.contains(event.position()):
                self.setToolTip(f"{tile.title}: {tile.detail}, {tile.value} {tile.note}")

    def paintEvent(self, _event: object) -> None:
        painter = QPainter(self)
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        boxes = self._boxes()
        if not self.tiles:
            small_text(painter, 4, 44, self.instead, theme.color("muted"), 10)
            return
        for i, (tile, box) in enumerate(zip(self.tiles, boxes, strict=True)):
            self._one(painter, tile, box)
            if i + 1 < len(boxes):
                x, y = box.right() + GAP / 2, box.center().y()
                painter.setPen(Qt.PenStyle.NoPen)
                painter.setBrush(theme.color("muted"))
                painter.drawPolygon(QPolygonF([QPointF(x - 3, y - 4), QPointF(x + 4, y), QPointF(x - 3, y + 4)]))

    def _one(self, painter: QPainter, tile: Tile, box: QRectF) -> None:
        role = "clay" if tile.alarm else "brass" if tile.side == "drive" else "teal"
        painter.setPen(QPen(theme.color("line"), 1))
        painter.setBrush(theme.color("card"))
        painter.drawRoundedRect(box.adjusted(0.5, 1, -0.5, -0.5), 4, 4)
        painter.fillRect(QRectF(box.left(), 0, box.width(), 3), theme.color(role))
        ink, muted = theme.color("ink"), theme.color("muted")
        small_text(painter, box.left() + 9, 20, tile.title, ink, 10, 600)
        painter.setFont(theme.font(8.5))
        text = painter.fontMetrics().elidedText(tile.detail, Qt.TextElideMode.ElideRight, int(box.width() - 18))
        small_text(painter, box.left() + 9, 35, text, muted, 8.5)
        small_text(painter, box.left() + 9, 56, tile.value, ink, 12.5, 600)
        taken = painter.fontMetrics().horizontalAdvance(tile.value)
        painter.setFont(theme.font(8.5))
        words = tile.note.split()
        # A note that does not fit loses its first words before it would lie over the value.
        while words and painter.fontMetrics().horizontalAdvance(" ".join(words)) > box.width() - 26 - taken:
            words = words[1:] if not words[-1].isalpha() or len(words) > 2 else []
        small_text(painter, box.right() - 9, 56, " ".join(words), muted, 8.5, 400, True)
        bar = QRectF(box.left() + 9, box.bottom() - 13, box.width() - 18, 5)
        painter.fillRect(bar, theme.color("sand"))
        share = min(max(tile.used, 0.0), 1.0)
        painter.fillRect(QRectF(bar.left(), bar.top(), bar.width() * share, 5), theme.color(role))
        if tile.mark is not None:
            painter.setPen(QPen(theme.color("clay"), 1.8))
            x = bar.left() + bar.width() * min(tile.mark * 0.94, 0.99)
            painter.drawLine(QPointF(x, bar.top() - 2), QPointF(x, bar.bottom() + 2))
