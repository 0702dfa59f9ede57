"""The shapes of a pulse as small pictures."""

from __future__ import annotations

import numpy as np
from PyQt6.QtCore import QPointF, QRectF
from PyQt6.QtGui import QPainter, QPen, QPolygonF

from ....desktop.parts import theme
from ..pulse_shapes import shape_of
from .pictures import Draw, Picture

ANY = [[0, 0], [1, 0.3], [2, 2.4], [3, 5], [4, 4.2], [5, 4.6], [6, 2.0], [7, 1.2], [8, 0.3], [9, 0]]
"""A course for what has any"""


def drawn(name: str) -> Draw:
    """A shape as a small picture; of one that was measured any course stands for it."""
    made = shape_of(name, points=ANY if name == "points" else ())

    def draw(painter: QPainter, box: QRectF) -> None:
        u = np.linspace(0, 1, 80, endpoint=False)
        y = made.value(u)
        painter.setPen(QPen(theme.color("teal"), 1.8))
        painter.drawPolyline(QPolygonF([QPointF(box.left() + box.width() * float(a), box.center().y()
                                                - 0.42 * box.height() * float(b)) for a, b in zip(u, y, strict=True)]))

    return draw


SHAPES = tuple(Picture(key, word, drawn(key)) for key, word in (
    ("haversine", "haversine"), ("sine", "sine"), ("triangle", "triangle"), ("square", "square"),
    ("points", "from a record…")))  # fmt: skip
