"""A specimen as a drawing to scale, its sizes on it: each is clicked and typed, as one value or as several."""

from __future__ import annotations

from collections.abc import Sequence
from typing import Any

from PyQt6.QtCore import QPointF, QRectF, Qt
from PyQt6.QtGui import QPainter, QPainterPath, QPen

from ....core.errors import BadInput
from ....desktop.parts import theme
from ....desktop.parts.widgets import small_text
from .sized_drawing import SizedDrawing
from .sizes import SPECIMEN, in_unit

ACROSS: dict[str, Sequence[tuple[str, str]]] = {
    "flat": (("width", "width"), ("thickness", "thick")),
    "round": (("diameter", "⌀"),),
    "tube": (("diameter", "⌀"), ("inner_diameter", "inner ⌀")),
    "area": (("area", "area"),),
    "weighed": (("mass", "mass"), ("density", "density"), ("total_length", "length")),
}
"""Sizes that the section of each shape is told by, and their words on the drawing"""


class SpecimenView(SizedDrawing):
    """The drawing. `asked` names the size that was clicked."""

    def __init__(self) -> None:
        super().__init__(300)
        self.shape = "flat"
        self.pressed = False
        """Between plates, not in grips"""
        self.area: float | None = None
        self.strain = 0.0
        """of the moment, by which the drawing is stretched"""
        self.broken = False

    def show_specimen(self, specimen: Any, editable: bool, pressed: bool = False) -> None:
        """The settings' own model of a specimen."""
        self.size_ = {k: getattr(specimen, k) for k in SPECIMEN}
        self.shape = specimen.shape or ("round" if specimen.diameter else "weighed" if specimen.mass else "flat")
        self.pressed = pressed
        try:
            self.area = specimen.section()
        except BadInput:
            self.area = None
        self.strain, self.broken, self.editable = 0.0, False, editable
        self.update()

    def show_strain(self, strain: float, broken: bool) -> None:
        """As it is now: longer, or in two."""
        self.strain, self.broken = strain, broken
        self.update()

    # --- drawing ---------------------------------------------------------------------------------------------

    def paintEvent(self, _event: object) -> None:
        painter = QPainter(self)
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        self.places = {}
        high, middle = self.height(), self.width() / 2 - 8
        grip = 34.0
        top, bottom = 26.0, high - 52.0
        length = self.size_.get("parallel_length") or 1.5 * (self.size_.get("gauge_length") or 0.05)
        wide = self.size_.get("width") or self.size_.get("diameter") or 0.0125
        parallel = (bottom - top - 2 * grip) * 0.62
        # To scale as long as it is neither a thread nor a block.
        half = min(max(wide / length * parallel / 2, 7.0), 34.0)
        head = half if self.pressed else min(half * 1.9, 62.0)
        stretch = min(self.strain, 0.25) * parallel / 2
        centre = (top + bottom) / 2
        upper, lower = centre - parallel / 2 - stretch / 2, centre + parallel / 2 + stretch / 2
        painter.setPen(Qt.PenStyle.NoPen)
        painter.setBrush(theme.color("sand"))
        for y in (top - stretch / 2, bottom - grip + stretch / 2):
            painter.drawRect(QRectF(middle - head - 10, y, 2 * head + 20, grip))
        outline = self._outline(middle, half, head, top + grip - stretch / 2, upper, lower, bottom - grip + stretch / 2)
        painter.setBrush(theme.color("card"))
        painter.setPen(QPen(theme.color("ink"), 1.4))
        painter.drawPath(outline)
        if self.broken:
            self._crack(painter, middle, half, centre)
        self._sizes(painter, middle, half, (upper, lower), parallel)
        text = f"{1e6 * self.area:.4g} mm²" if self.area else "its sizes are missing"
        small_text(painter, 8, high - 22, text, theme.color("ink" if self.area else "clay"), 10, 600)
        if self.editable:
            small_text(painter, 8, high - 6, "click a size to type it; several are averaged", theme.color("muted"), 8.5)

    @staticmethod
    def _outline(
        x: float, half: float, head: float, top: float, upper: float, lower: float, bottom: float
    ) -> QPainterPath:
        path = QPainterPath(QPointF(x - head, top))
        bend = (upper - top) * 0.6
        path.cubicTo(QPointF(x - head, top + bend), QPointF(x - half, upper - bend), QPointF(x - half, upper))
        path.lineTo(QPointF(x - half, lower))
        path.cubicTo(QPointF(x - half, lower + bend), QPointF(x - head, bottom - bend), QPointF(x - head, bottom))
        path.lineTo(QPointF(x + head, bottom))
        path.cubicTo(QPointF(x + head, bottom - bend), QPointF(x + half, lower + bend), QPointF(x + half, lower))
        path.lineTo(QPointF(x + half, upper))
        path.cubicTo(QPointF(x + half, upper - bend), QPointF(x + head, top + bend), QPointF(x + head, top))
        path.closeSubpath()
        return path

    def _crack(self, painter: QPainter, x: float, half: float, y: float) -> None:
        painter.setPen(QPen(theme.color("clay"), 2.2))
        points = [QPointF(x - half - 4 + (2 * half + 8) * i / 6, y + (5 if i % 2 else -5)) for i in range(7)]
        for a, b in zip(points, points[1:], strict=False):
            painter.drawLine(a, b)

    def _sizes(self, painter: QPainter, x: float, half: float, ends: tuple[float, float], parallel: float) -> None:
        upper, lower = ends
        painter.setPen(QPen(theme.color("brass"), 1.2))
        length = self.size_.get("parallel_length")
        gauge = self.size_.get("gauge_length")
        share = min(gauge / length, 1.0) if gauge and length else 0.66
        middle = (upper + lower) / 2
        a, b = middle - parallel * share / 2, middle + parallel * share / 2
        out = x + half + 22
        for y in (a, b):
            painter.drawLine(QPointF(x + half, y), QPointF(out + 6, y))
        painter.drawLine(QPointF(out, a), QPointF(out, b))
        self._size(painter, "gauge_length", out + 8, middle, "gauge")
        self._size(painter, "parallel_length", out + 8, b + 34, "parallel")
        for i, (key, word) in enumerate(ACROSS[self.shape]):
            self._size(painter, key, 6, middle - 22 + 38 * i, word)

    def _size(self, painter: QPainter, key: str, x: float, y: float, word: str) -> None:
        value = self.size_.get(key)
        text = f"{in_unit(key, value):.5g}" if value else "type it"
        small_text(painter, x, y, text, theme.color("brass" if value else "clay"), 10.5, 600)
        small_text(painter, x, y + 13, f"{word}, {SPECIMEN[key].unit}", theme.color("muted"), 8)
        self.places[key] = QRectF(x - 4, y - 14, 64, 32)
