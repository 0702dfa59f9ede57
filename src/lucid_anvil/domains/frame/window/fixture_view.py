"""A specimen of a dynamic analysis as it is held, drawn to scale, its sizes on it: each is clicked and typed."""

from __future__ import annotations

import math
from typing import Any

from PyQt6.QtCore import QPointF, QRectF
from PyQt6.QtGui import QPainter, QPen

from ....core.errors import BadInput
from ....desktop.parts import theme
from ....desktop.parts.widgets import small_text
from .pictures import arrow, body, holder
from .sized_drawing import SizedDrawing
from .sizes import GEOMETRY, in_unit

LENGTHS = {"tension": "length", "compression": "height", "three_point": "between supports",
           "single_cantilever": "free", "dual_cantilever": "free, each side"}  # fmt: skip
"""What its length is, by the way of holding it; shear has none"""
NEEDS = {"tension": ("width", "thickness"), "compression": ("width", "thickness"), "shear": ("thickness", "area")}
"""Sizes beside the length; for a beam width and thickness"""
LEAST = 5.0
"""px that the thinnest is drawn"""


class FixtureView(SizedDrawing):
    """The drawing. `asked` names the size that was clicked."""

    def __init__(self) -> None:
        super().__init__(230)
        self.kind = "tension"
        self.per_stiffness: float | None = None
        """1/m, its modulus over its stiffness"""

    def show_geometry(self, geometry: Any, editable: bool) -> None:
        """The settings' own model of it."""
        self.kind, self.editable = geometry.kind, editable
        self.size_ = {k: getattr(geometry, k) for k in GEOMETRY}
        try:
            self.per_stiffness = geometry.factor()
        except BadInput:
            self.per_stiffness = None
        self.update()

    def lacks(self, kind: str) -> list[str]:
        """Sizes that one held that way needs and that are not there."""
        needs = list(NEEDS.get(kind, ("width", "thickness"))) + (["length"] if kind in LENGTHS else [])
        if kind in ("tension", "compression") and self.size_.get("area"):
            needs = ["length"]
        return [k for k in needs if not self.size_.get(k)]

    # --- drawing ---------------------------------------------------------------------------------------------

    def _across(self) -> tuple[float, float, float]:
        """Length, width and thickness to draw [m], with something likely where none stands."""
        area = self.size_.get("area")
        wide = self.size_.get("width") or (math.sqrt(area) if area else 0.01)
        thick = self.size_.get("thickness") or (area / wide if area else 0.002)
        return self.size_.get("length") or 0.03, wide, thick

    def paintEvent(self, _event: object) -> None:
        painter = QPainter(self)
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        self.places = {}
        room = QRectF(20, 24, self.width() - 84, self.height() - 120)
        if self.kind in ("tension", "compression"):
            self._upright(painter, room)
        elif self.kind == "shear":
            self._sheared(painter, room)
        else:
            self._beam(painter, QRectF(26, 24, self.width() - 52, self.height() - 120))
        y = self.height() - 78.0
        for i, key in enumerate(NEEDS.get(self.kind, ("width", "thickness"))):
            self._size(painter, key, 8 + 104.0 * i, y, "of each piece" if key == "area" else key)
        told = self.per_stiffness is not None
        text = "all sizes are there" if told else "a size is missing"
        small_text(painter, 8, self.height() - 28, text, theme.color("ink" if told else "clay"), 10, 600)
        if self.editable:
            small_text(painter, 8, self.height() - 10, "click a size to type it", theme.color("muted"), 8.5)

    def _upright(self, painter: QPainter, room: QRectF) -> None:
        """Pulled between grips, or pressed between plates."""
        long, wide, _ = self._across()
        pulls = self.kind == "tension"
        scale = min((room.height() - 56) / long, room.width() * 0.8 / wide)
        half, high = max(wide * scale, LEAST) / 2, max(long * scale, LEAST)
        x, y = room.center().x(), room.center().y()
        body(painter)
        painter.drawRect(QRectF(x - half, y - high / 2, 2 * half, high))
        grip, thick = half + 16, 24.0 if pulls else 10.0
        holder(painter)
        for top in (y - high / 2 - thick, y + high / 2):
            painter.drawRoundedRect(QRectF(x - grip, top, 2 * grip, thick), 2, 2)
        for end, way in ((y - high / 2 - thick, -1), (y + high / 2 + thick, 1)):
            arrow(painter, x, end + (10 if pulls else 3) * way, way if pulls else -way)
        self._length(painter, QPointF(x + half, y - high / 2), QPointF(x + half, y + high / 2), x + grip + 10)

    def _length(self, painter: QPainter, a: QPointF, b: QPointF, out: float) -> None:
        painter.setPen(QPen(theme.color("brass"), 1.2))
        for end in (a, b):
            painter.drawLine(end, QPointF(out + 4, end.y()))
        painter.drawLine(QPointF(out, a.y()), QPointF(out, b.y()))
        self._size(painter, "length", out + 8, (a.y() + b.y()) / 2, LENGTHS[self.kind])

    def _sheared(self, painter: QPainter, room: QRectF) -> None:
        """Two pieces, each between an outer plate and the middle one."""
        _, _, thick = self._across()
        side = math.sqrt(self.size_.get("area") or 1e-4)
        scale = min(room.width() / (2 * thick + 2 * side), (room.height() - 40) / side)
        h, high = max(thick * scale, LEAST), max(side * scale, 3 * LEAST)
        x, y = self.width() / 2, room.center().y()
        body(painter)
        for left in (x - 8 - h, x + 8):
            painter.drawRect(QRectF(left, y - high / 2, h, high))
        holder(painter)
        for left, wide in ((x - 16 - h, 8), (x - 8, 16), (x + 8 + h, 8)):
            painter.drawRect(QRectF(left, y - high / 2 - 8, wide, high + 16))
        arrow(painter, x, y + high / 2 + 24, 1)

    def _beam(self, painter: QPainter, room: QRectF) -> None:
        """On supports, or clamped."""
        long, _, thick = self._across()
        spans = 2 if self.kind == "dual_cantilever" else 1
        scale = (room.width() - 8) / (spans * long)
        high = min(max(thick * scale, LEAST), room.height() * 0.4)
        y, left, right = room.center().y(), room.left() + 4, room.right() - 4
        middle = (left + right) / 2
        over = 14.0 if self.kind == "three_point" else 0.0
        body(painter)
        painter.drawRect(QRectF(left - over, y - high / 2, right - left + 2 * over, high))
        holder(painter)
        if self.kind == "three_point":
            for x in (left, right):
                painter.drawEllipse(QPointF(x, y + high / 2 + 8), 8, 8)
            arrow(painter, middle, y - high / 2 - 1, 1)
        else:
            ends = (left, right) if self.kind == "single_cantilever" else (left, middle, right)
            for x in ends:
                painter.drawRoundedRect(QRectF(x - 10, y - high / 2 - 16, 20, high + 32), 2, 2)
            moved = right if self.kind == "single_cantilever" else middle
            arrow(painter, moved, y - high / 2 - 26, -1)
            arrow(painter, moved, y + high / 2 + 26, 1)
        end = middle if self.kind == "dual_cantilever" else right
        under = y + high / 2 + 40
        painter.setPen(QPen(theme.color("brass"), 1.2))
        for x in (left, end):
            painter.drawLine(QPointF(x, y + high / 2 + (18 if over else 20)), QPointF(x, under + 4))
        painter.drawLine(QPointF(left, under), QPointF(end, under))
        self._size(painter, "length", (left + end) / 2 - 22, under + 16, LENGTHS[self.kind])

    def _size(self, painter: QPainter, key: str, x: float, y: float, word: str) -> None:
        value = self.size_.get(key)
        by_sides = key in ("width", "thickness") and value is None and self.size_.get("area") is not None
        by_sides = by_sides and self.kind in ("tension", "compression")
        ink = "muted" if by_sides else "brass" if value else "clay"
        text = "by its area" if by_sides else f"{in_unit(key, value):.5g}" if value else "type it"
        small_text(painter, x, y, text, theme.color(ink), 10.5, 600)
        small_text(painter, x, y + 13, f"{word}, {GEOMETRY[key].unit}", theme.color("muted"), 8)
        self.places[key] = QRectF(x - 4, y - 14, 96, 32)
