"""A gauge that can be read from two metres: where a load stands, where it is to stand, and what is to be done."""

from __future__ import annotations

import math
from collections.abc import Mapping
from typing import Any

from PyQt6.QtCore import QRectF, Qt
from PyQt6.QtGui import QPainter, QPaintEvent, QPen
from PyQt6.QtWidgets import QWidget

from ...core.figures import axis_unit
from ..parts import theme

WORDS = {"rise": "Rise", "lower": "Lower", "hold": "Hold", "steady": "Steady", "reading": "Reading", "turn": "Turn"}
HEIGHT = 92


def number(value: float, top: float) -> str:
    """To a ten-thousandth of the highest step, no finer."""
    text = f"{value:.{max(0, 3 - math.floor(math.log10(top)))}f}"
    return text.lstrip("-") if float(text) == 0 else text.replace("-", "−")


class GaugeView(QWidget):
    """The last that was told of it."""

    def __init__(self) -> None:
        super().__init__()
        self.setFixedHeight(HEIGHT)
        self.told: Mapping[str, Any] = {}
        self.setAccessibleName("gauge")
        self.hide()

    def show_gauge(self, told: Mapping[str, Any] | None) -> None:
        """`value`, `wanted`, `within`, `top` in `unit`, its scale from `low` on (0 where it is not told);
        `word` what is to be done; `left` s of waiting."""
        self.setVisible(told is not None)
        if told is not None:
            self.told = told
            self.setAccessibleDescription(self.said)
            self.update()

    @property
    def word(self) -> str:
        return WORDS.get(str(self.told.get("word")), "")

    @property
    def said(self) -> str:
        """All of it in a line."""
        if not self.told:
            return ""
        scale, unit = axis_unit(float(self.told["top"]), str(self.told["unit"]))
        left = float(self.told.get("left") or 0.0)
        more = f", {left:.0f} s" if left >= 1 else ""
        now = number(scale * self.told["value"], scale * self.told["top"])
        return f"{self.word}: {now} {unit}, wanted {scale * self.told['wanted']:g}{more}"

    def paintEvent(self, _event: QPaintEvent | None) -> None:
        if not self.told:
            return
        painter = QPainter(self)
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        value, wanted, within = (float(self.told[k]) for k in ("value", "wanted", "within"))
        top = float(self.told["top"])
        scale, unit = axis_unit(top, str(self.told["unit"]))
        ink, muted = theme.color("ink"), theme.color("muted")
        there = abs(value - wanted) <= within
        accent = theme.color("teal" if there else "brass")
        # What is to be done, and the figure: large, at the left and the right.
        painter.setFont(theme.font(22, 600))
        painter.setPen(accent)
        painter.drawText(QRectF(2, 0, 230, 44), Qt.AlignmentFlag.AlignLeft | Qt.AlignmentFlag.AlignVCenter, self.word)
        painter.setPen(ink)
        figure = f"{number(scale * value, scale * top)} {unit}"
        painter.drawText(
            QRectF(0, 0, self.width() - 2, 44), Qt.AlignmentFlag.AlignRight | Qt.AlignmentFlag.AlignVCenter, figure
        )
        painter.setFont(theme.font(11))
        painter.setPen(muted)
        left = float(self.told.get("left") or 0.0)
        more = f" · {left:.0f} s" if left >= 1 else ""
        painter.drawText(
            QRectF(150, 0, self.width() - 360, 44), Qt.AlignmentFlag.AlignLeft | Qt.AlignmentFlag.AlignVCenter,
            f"to {scale * wanted:g} {unit}{more}",
        )  # fmt: skip
        # The scale: the band that is wanted, and a bar up to where it stands.
        line = QRectF(2, 54, self.width() - 4, 16)
        low, full = float(self.told.get("low", 0.0)), 1.08 * top

        def at(v: float) -> float:
            return line.left() + line.width() * min(max((v - low) / (full - low), 0.0), 1.0)

        painter.setPen(Qt.PenStyle.NoPen)
        painter.setBrush(theme.color("line", 120))
        painter.drawRoundedRect(line, 3, 3)
        painter.setBrush(accent)
        ends = sorted((at(value), at(0.0)))
        painter.drawRoundedRect(QRectF(ends[0], line.top() + 4, max(ends[1] - ends[0], 1.0), 8), 2, 2)
        band = QRectF(at(wanted - within), line.top() - 4, 0, line.height() + 8)
        band.setRight(max(at(wanted + within), band.left() + 3))
        painter.setBrush(theme.color("teal", 60))
        painter.setPen(QPen(theme.color("teal"), 1.2))
        painter.drawRoundedRect(band, 2, 2)
        painter.setFont(theme.font(8.5))
        painter.setPen(muted)
        for share in (0.0, 0.5, 1.0):
            mark = low + share * (top - low)
            text = f"{scale * mark:g}"
            w = painter.fontMetrics().horizontalAdvance(text)
            x = at(mark)
            painter.drawText(QRectF(min(max(x - w / 2, 0.0), self.width() - w), 74, w + 2, 16),
                             Qt.AlignmentFlag.AlignLeft, text)  # fmt: skip
