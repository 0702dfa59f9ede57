"""Small parts that all places share: cards, labels, verdict glyphs, bars."""

from __future__ import annotations

from PyQt6.QtCore import QPointF, QRectF, QSize, Qt, pyqtSignal
from PyQt6.QtGui import QColor, QFont, QFontMetrics, QPainter, QPen, QPolygonF
from PyQt6.QtWidgets import QFrame, QHBoxLayout, QLabel, QPushButton, QScrollArea, QSizePolicy, QVBoxLayout, QWidget

from . import theme


def card(margins: tuple[int, int, int, int] = (14, 12, 14, 12), spacing: int = 8) -> tuple[QFrame, QVBoxLayout]:
    """A card and its layout."""
    frame = QFrame()
    frame.setObjectName("card")
    layout = QVBoxLayout(frame)
    layout.setContentsMargins(*margins)
    layout.setSpacing(spacing)
    return frame, layout


def label(text: str = "", name: str = "", wrap: bool = False) -> QLabel:
    made = QLabel(text)
    if name:
        made.setObjectName(name)
    made.setWordWrap(wrap)
    return made


def scrolled(widget: QWidget) -> QScrollArea:
    """A column that may be longer than its room."""
    area = QScrollArea()
    area.setWidgetResizable(True)
    area.setHorizontalScrollBarPolicy(Qt.ScrollBarPolicy.ScrollBarAlwaysOff)
    widget.setObjectName("clear")
    area.setWidget(widget)
    return area


def section(text: str) -> QLabel:
    return label(text.upper(), "section")


def button(text: str, name: str = "plain", tip: str = "") -> QPushButton:
    made = QPushButton(text)
    made.setObjectName(name)
    made.setCursor(Qt.CursorShape.PointingHandCursor)
    if tip:
        made.setToolTip(tip)
    return made


class Elided(QLabel):
    """A label that shortens its text to the room it has."""

    def __init__(self, text: str = "", name: str = "") -> None:
        super().__init__(text)
        if name:
            self.setObjectName(name)
        self.setSizePolicy(QSizePolicy.Policy.Ignored, QSizePolicy.Policy.Preferred)

    def paintEvent(self, _event: object) -> None:
        painter = QPainter(self)
        painter.setPen(self.palette().color(self.foregroundRole()))
        painter.setFont(self.font())
        box = self.contentsRect()
        text = self.fontMetrics().elidedText(self.text(), Qt.TextElideMode.ElideRight, box.width())
        painter.drawText(box, int(self.alignment() | Qt.AlignmentFlag.AlignVCenter), text)
        self.setToolTip(self.text() if text != self.text() else "")


def draw_verdict(painter: QPainter, verdict: str, box: QRectF) -> None:
    """inside: solid bar; outside: crossed strokes; open: half wedge; running: three strokes; none: hollow bar."""
    painter.save()
    painter.setRenderHint(QPainter.RenderHint.Antialiasing)
    if verdict == "inside":
        painter.fillRect(box, theme.color("teal"))
    elif verdict == "outside":
        painter.setPen(QPen(theme.color("clay"), 2.4, cap=Qt.PenCapStyle.RoundCap))
        painter.drawLine(box.topLeft(), box.bottomRight())
        painter.drawLine(box.topRight(), box.bottomLeft())
    elif verdict == "open":
        painter.setPen(Qt.PenStyle.NoPen)
        painter.setBrush(theme.color("plum"))
        painter.drawPolygon(QPolygonF([box.topLeft(), box.topRight(), box.bottomRight()]))
    elif verdict == "running":
        painter.setPen(Qt.PenStyle.NoPen)
        w = box.width() / 5
        for i in range(3):
            painter.fillRect(QRectF(box.left() + 2 * i * w, box.top(), w, box.height()), theme.color("brass"))
    else:
        painter.setPen(QPen(theme.color("muted"), 1))
        painter.setBrush(Qt.BrushStyle.NoBrush)
        painter.drawRect(box.adjusted(0.5, 0.5, -0.5, -0.5))
    painter.restore()


class Verdict(QWidget):
    """A verdict glyph."""

    def __init__(self, verdict: str = "none", size: tuple[int, int] = (16, 9)) -> None:
        super().__init__()
        self.verdict = verdict
        self.setFixedSize(*size)

    def set(self, verdict: str) -> None:
        self.verdict = verdict
        self.setToolTip(theme.VERDICT_WORDS.get(verdict, verdict))
        self.update()

    def paintEvent(self, _event: object) -> None:
        draw_verdict(QPainter(self), self.verdict, QRectF(self.rect()).adjusted(1, 0.5, -1, -0.5))


class Bar(QWidget):
    """A thin bar: how much is used, with a mark at the limit and a whisker for the doubt."""

    def __init__(self, height: int = 6, role: str = "teal") -> None:
        super().__init__()
        self.setFixedHeight(height + 6)
        self.thick = height
        self.used, self.doubt, self.mark, self.role = 0.0, 0.0, 1.0, role
        self.span = 1.25

    def set(self, used: float, role: str, doubt: float = 0.0, mark: float | None = 1.0, span: float = 1.25) -> None:
        """`used` 0 to 1 of the allowance; the bar shows up to `span` of it."""
        self.used, self.role, self.doubt, self.mark, self.span = used, role, doubt, mark if mark else -1.0, span
        self.update()

    def paintEvent(self, _event: object) -> None:
        painter = QPainter(self)
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        y = (self.height() - self.thick) / 2
        w = self.width()
        painter.fillRect(QRectF(0, y, w, self.thick), theme.color("sand"))
        x = w * min(max(self.used / self.span, 0), 1)
        painter.fillRect(QRectF(0, y, x, self.thick), theme.color(self.role))
        ink = QPen(theme.color("ink"), 1.4)
        if self.doubt > 0:
            painter.setPen(ink)
            d = w * self.doubt / self.span
            middle = self.height() / 2
            painter.drawLine(QPointF(max(x - d, 0), middle), QPointF(min(x + d, w), middle))
        if self.mark >= 0:
            painter.setPen(QPen(theme.color("clay" if self.span < 1.2 else "ink"), 1.8))
            at = min(w * self.mark / self.span, w - 1)
            painter.drawLine(QPointF(at, 0), QPointF(at, self.height()))


class Tabs(QWidget):
    """A row of words, one chosen."""

    chosen = pyqtSignal(str)

    def __init__(self, items: list[tuple[str, str]], name: str = "tab") -> None:
        super().__init__()
        layout = QHBoxLayout(self)
        layout.setContentsMargins(0, 0, 0, 0)
        layout.setSpacing(4 if name == "chip" else 0)
        self.buttons: dict[str, QPushButton] = {}
        for key, text in items:
            made = button(text, name)
            made.setCheckable(True)
            if name == "tab":  # the chosen one is bold, and must find room
                made.setMinimumWidth(QFontMetrics(theme.font(10, 600)).horizontalAdvance(text) + 20)
            made.clicked.connect(lambda _=False, k=key: self.choose(k))
            layout.addWidget(made)
            self.buttons[key] = made
        self.now = items[0][0]
        self.buttons[self.now].setChecked(True)

    def choose(self, key: str, quiet: bool = False) -> None:
        self.now = key
        for k, b in self.buttons.items():
            b.setChecked(k == key)
        if not quiet:
            self.chosen.emit(key)


class Mark(QWidget):
    """Our sign: an anvil, drawn."""

    def __init__(self) -> None:
        super().__init__()
        self.setFixedSize(QSize(26, 22))

    def paintEvent(self, _event: object) -> None:
        painter = QPainter(self)
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        painter.setPen(Qt.PenStyle.NoPen)
        painter.setBrush(theme.color("brass_light"))
        points = [(0, 4), (25, 4), (25, 7), (18, 11), (15, 13), (15, 15), (19, 18), (19, 21), (6, 21), (6, 18),
                  (10, 15), (10, 13), (6, 10)]  # fmt: skip
        painter.drawPolygon(QPolygonF([QPointF(x, y) for x, y in points]))


def head_bar() -> tuple[QWidget, QHBoxLayout]:
    """The dark bar at the head of a window, with our sign and name; the row for what else stands there."""
    bar = QWidget()
    bar.setObjectName("bar")
    bar.setFixedHeight(48)
    row = QHBoxLayout(bar)
    row.setContentsMargins(14, 0, 14, 0)
    row.setSpacing(10)
    row.addWidget(Mark())
    name = label("Lucid Anvil")
    name.setStyleSheet("font-size: 15px; font-weight: 600;")
    row.addWidget(name)
    return bar, row


def small_text(painter: QPainter, x: float, y: float, text: str, colour: QColor, size: float = 9, weight: int = 400,
               right: bool = False) -> None:  # fmt: skip
    """Text at a base line; `right` aligns its end to x."""
    font: QFont = theme.font(size, weight)
    painter.setFont(font)
    painter.setPen(colour)
    if right:
        x -= painter.fontMetrics().horizontalAdvance(text)
    painter.drawText(QPointF(x, y), text)


def three(value: float) -> str:
    """Three digits without an exponent where a person can do without one."""
    size = abs(value)
    if size >= 1000 and size < 1e6:
        text = f"{value:.0f}"
    elif size < 1e-3 and size > 0:
        text = f"{value:.2g}"
    else:
        text = f"{value:.3g}"
    return text.replace("-", "−")


def clear(layout: QVBoxLayout | QHBoxLayout) -> None:
    """Take everything out of a layout."""
    while layout.count():
        item = layout.takeAt(0)
        assert item
        if item.widget():
            item.widget().hide()
            item.widget().deleteLater()
        elif item.layout():
            clear(item.layout())  # type: ignore[arg-type]
