"""A letter on each thing that can be pressed: typed, it is pressed. So nothing needs a hand on the mouse."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from functools import partial
from typing import NamedTuple

from PyQt6 import sip
from PyQt6.QtCore import QEvent, QObject, QPoint, QRectF, Qt
from PyQt6.QtGui import QKeyEvent, QMouseEvent, QPainter
from PyQt6.QtWidgets import QAbstractButton, QComboBox, QLineEdit, QWidget

from ..parts import theme
from ..parts.spots import Spotted
from ..parts.widgets import small_text

LETTERS = "ASDFGHJKLQWERTZUIOPYXCVBNM"
SIZE = 18
"""px"""
ROW = 12
"""px within which things stand in one row"""


class Target(NamedTuple):
    """One thing that can be pressed: what it belongs to, where in the window, what a letter does, what a capital one
    does (None: the same)."""

    widget: QWidget
    at: QPoint
    press: Callable[[], object]
    ask: Callable[[], object] | None = None


def names(count: int) -> list[str]:
    """So many different names of letters, all of one length, so that none begins another."""
    if count <= len(LETTERS):
        return list(LETTERS[:count])
    return [a + b for a in LETTERS for b in LETTERS][:count]


def pressable(window: QWidget) -> list[Target]:
    """What is seen of a window and can be pressed, chosen from or typed into; row by row."""
    held: list[Target] = []
    for one in window.findChildren(QWidget):
        if not one.isVisible() or not one.isEnabled() or isinstance(one.parentWidget(), QComboBox):
            continue
        seen = one.visibleRegion()
        if isinstance(one, QAbstractButton | QComboBox | QLineEdit) and not seen.isEmpty():
            held.append(Target(one, one.mapTo(window, QPoint()), partial(press, one)))
        if isinstance(one, Spotted):
            for spot in one.spots():
                if not seen.intersects(spot.box.toRect()):
                    continue
                ask = None if spot.ask is None else partial(spot.ask, one.mapToGlobal(spot.box.center().toPoint()))
                does = spot.press or ask
                if does is not None:
                    held.append(Target(one, one.mapTo(window, spot.box.topLeft().toPoint()), does, ask))
    return sorted(held, key=lambda t: (round(t.at.y() / ROW), t.at.x()))


def press(one: QWidget) -> None:
    """What a click on it does."""
    if isinstance(one, QAbstractButton):
        one.click()
    else:
        one.setFocus(Qt.FocusReason.ShortcutFocusReason)
        if isinstance(one, QComboBox):
            one.showPopup()
        elif isinstance(one, QLineEdit):
            one.selectAll()


class Letters(QWidget):
    """Over the whole window until a name was typed, something else was pressed, or the window changed its size. A name
    typed in capitals asks what else can be done with the thing, where there is more."""

    def __init__(self, window: QWidget) -> None:
        super().__init__(window)
        found = pressable(window)
        self.named = dict(zip(names(len(found)), found, strict=False))
        self.typed = ""
        self.before = window.focusWidget()
        self.setAttribute(Qt.WidgetAttribute.WA_DeleteOnClose)
        self.setFocusPolicy(Qt.FocusPolicy.StrongFocus)
        self.setAccessibleName("letters on what can be pressed")
        self.setGeometry(window.rect())
        window.installEventFilter(self)
        self.show()
        self.raise_()
        self.setFocus()

    def eventFilter(self, _of: QObject | None, event: QEvent | None) -> bool:
        if event is not None and event.type() == QEvent.Type.Resize:
            self.close()
        return False

    def event(self, event: QEvent | None) -> bool:
        """Letters are names here and Esc leaves, whatever they are to the window; F12 and those with Ctrl stay what
        they are."""
        if (isinstance(event, QKeyEvent) and event.type() == QEvent.Type.ShortcutOverride
                and (event.text().isalpha() or event.key() == Qt.Key.Key_Escape)
                and not event.modifiers() & Qt.KeyboardModifier.ControlModifier):  # fmt: skip
            event.accept()
            return True
        return super().event(event)

    def keyPressEvent(self, event: QKeyEvent | None) -> None:
        if event is None or event.key() in (Qt.Key.Key_Shift, Qt.Key.Key_Control, Qt.Key.Key_Alt):
            return
        letter = event.text().upper()
        if event.key() == Qt.Key.Key_Backspace and self.typed:
            self.typed = self.typed[:-1]
        elif letter and any(n.startswith(self.typed + letter) for n in self.named):
            self.typed += letter
        else:
            self.close()
            return
        target = self.named.get(self.typed)
        if target is None:
            self.update()
            return
        self.close()
        one = target.widget
        if not sip.isdeleted(one) and one.isVisible() and one.isEnabled():
            more = event.modifiers() & Qt.KeyboardModifier.ShiftModifier and target.ask
            (target.ask if more and target.ask else target.press)()

    def mousePressEvent(self, _event: QMouseEvent | None) -> None:
        self.close()

    def closeEvent(self, event: object) -> None:
        if self.before is not None and not sip.isdeleted(self.before) and self.hasFocus():
            self.before.setFocus()
        super().closeEvent(event)  # type: ignore[arg-type]

    def paintEvent(self, _event: object) -> None:
        painter = QPainter(self)
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        taken: list[QRectF] = []
        for name, target in self.named.items():
            if not name.startswith(self.typed):
                continue
            box = free(QRectF(target.at.x() - 9, target.at.y() - 8, (0.5 + 0.5 * len(name)) * SIZE, SIZE), taken)
            taken.append(box)
            painter.setPen(theme.color("card"))
            painter.setBrush(theme.color("ink"))
            painter.drawRoundedRect(box, 4, 4)
            left = name[len(self.typed):]
            painter.setFont(theme.font(9.5, 600))
            room = painter.fontMetrics().horizontalAdvance(left)
            small_text(painter, box.center().x() - room / 2, box.bottom() - 5, left, theme.color("card"), 9.5, 600)


def free(box: QRectF, taken: Sequence[QRectF]) -> QRectF:
    """A box moved to the right until it covers none of those that are there; at the window's edge, into it."""
    box = box.translated(max(-box.left(), 0.0), max(-box.top(), 0.0))
    while any(box.intersects(t) for t in taken):
        box = box.translated(4, 0)
    return box
