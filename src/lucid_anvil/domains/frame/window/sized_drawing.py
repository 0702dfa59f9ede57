"""A drawing on which sizes stand that are clicked to be typed."""

from __future__ import annotations

from collections.abc import Sequence
from functools import partial

from PyQt6.QtCore import QRectF, Qt, pyqtSignal
from PyQt6.QtGui import QMouseEvent
from PyQt6.QtWidgets import QWidget

from ....desktop.parts.spots import Spot

WIDE = 228


class SizedDrawing(QWidget):
    """`asked` names the size that was clicked; who paints it says in `places` where each stands."""

    asked = pyqtSignal(str)

    def __init__(self, least_height: int) -> None:
        super().__init__()
        self.setFixedWidth(WIDE)
        self.setMinimumHeight(least_height)
        self.setMouseTracking(True)
        self.size_: dict[str, float | None] = {}
        """By key, in SI units"""
        self.editable = False
        self.places: dict[str, QRectF] = {}

    def spots(self) -> Sequence[Spot]:
        """The sizes on it."""
        if not self.editable:
            return ()
        return [Spot(box, partial(self.asked.emit, key)) for key, box in self.places.items()]

    def mousePressEvent(self, event: QMouseEvent | None) -> None:
        if event is None or not self.editable:
            return
        for key, box in self.places.items():
            if box.contains(event.position()):
                self.asked.emit(key)
                return

    def mouseMoveEvent(self, event: QMouseEvent | None) -> None:
        over = event is not None and self.editable and any(b.contains(event.position()) for b in self.places.values())
        self.setCursor(Qt.CursorShape.PointingHandCursor if over else Qt.CursorShape.ArrowCursor)
