"""A photo beside what it shows; a click looks at it large, and at the ones before it."""

from __future__ import annotations

from collections.abc import Callable
from pathlib import Path

from PyQt6.QtCore import QRectF, QSize, Qt
from PyQt6.QtGui import QImage, QImageReader, QKeyEvent, QMouseEvent, QPainter, QPainterPath, QPaintEvent
from PyQt6.QtWidgets import QFileDialog, QHBoxLayout, QWidget

from ...lab.photos import KINDS, keep_in, photos_at, photos_in
from . import theme
from .forms import Over
from .widgets import button, label

SMALL = QSize(124, 92)


def picture(place: Path, within: QSize) -> QImage:
    """A photo, turned as its camera held it, no larger than wanted; empty where it can't be read."""
    reader = QImageReader(str(place))
    reader.setAutoTransform(True)
    made = reader.read()
    if made.isNull():
        return made
    return made.scaled(within, Qt.AspectRatioMode.KeepAspectRatio, Qt.TransformationMode.SmoothTransformation)


class Photo(QWidget):
    """The newest photo, small. Hidden where there is none."""

    def __init__(self) -> None:
        super().__init__()
        self.setFixedSize(SMALL)
        self.photos: list[Path] = []
        self.shown = QImage()
        self.setCursor(Qt.CursorShape.PointingHandCursor)
        self.setAccessibleName("photo")
        self.hide()

    def show_photos(self, photos: list[Path]) -> None:
        """Oldest first."""
        self.photos = photos
        self.shown = picture(photos[-1], SMALL * 2) if photos else QImage()
        count = f"{len(photos)} photos: a click shows them" if len(photos) > 1 else "a click shows it large"
        self.setToolTip(count if photos else "")
        self.setVisible(bool(photos) and not self.shown.isNull())
        self.update()

    def mousePressEvent(self, _event: QMouseEvent | None) -> None:
        if self.photos:
            Large(self, self.photos).open()

    def paintEvent(self, _event: QPaintEvent | None) -> None:
        if self.shown.isNull():
            return
        painter = QPainter(self)
        painter.setRenderHint(QPainter.RenderHint.SmoothPixmapTransform)
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        box = QRectF(self.rect()).adjusted(0.5, 0.5, -0.5, -0.5)
        path = QPainterPath()
        path.addRoundedRect(box, 4, 4)
        painter.setClipPath(path)
        # Filled, not fitted: what is cut off can be seen with a click.
        by = max(box.width() / self.shown.width(), box.height() / self.shown.height())
        w, h = self.shown.width() * by, self.shown.height() * by
        painter.drawImage(QRectF(box.center().x() - w / 2, box.center().y() - h / 2, w, h), self.shown)
        painter.setClipping(False)
        painter.setPen(theme.color("line"))
        painter.drawPath(path)


def photo_acts(parent: QWidget, folder: Path | None, what: str) -> list[tuple[str, Callable[[], object]]]:
    """What a menu offers about the photos of a take or an article, whose folder it is; nothing without one."""
    if folder is None:
        return []
    held = photos_in(photos_at(folder))

    def add() -> None:
        kinds = f"Photos ({' '.join(f'*{k}' for k in KINDS)})"
        place, _ = QFileDialog.getOpenFileName(parent, f"A photo of the {what}", "", kinds)
        if place:
            keep_in(photos_at(folder), Path(place))

    made: list[tuple[str, Callable[[], object]]] = [(f"A photo of the {what}…", add)]
    if held:
        made.append((f"Look at its photos ({len(held)})", lambda: Large(parent, held).open()))
    return made


class Large(Over):
    """A photo as large as the window allows; arrow keys go through them."""

    def __init__(self, parent: QWidget, photos: list[Path]) -> None:
        super().__init__(parent, (14, 14, 14, 10), 8)
        self.photos, self.at = photos, len(photos) - 1
        self.face = Face()
        above = parent.window()
        self.face.setMinimumSize((above.size() if above is not None else QSize(900, 700)) * 0.75)
        self.column.addWidget(self.face, 1)
        self.words = label("", "muted")
        row = QHBoxLayout()
        row.addWidget(self.words)
        row.addStretch()
        close = button("Close  Esc")
        close.setAutoDefault(False)
        close.clicked.connect(self.reject)
        row.addWidget(close)
        self.column.addLayout(row)
        self._show()

    def _show(self) -> None:
        more = f" · {self.at + 1} of {len(self.photos)}, arrow keys show the others" if len(self.photos) > 1 else ""
        self.words.setText(f"{self.photos[self.at].name}{more}")
        self.face.show_photo(self.photos[self.at])

    def keyPressEvent(self, event: QKeyEvent | None) -> None:
        if event is not None and event.key() in (Qt.Key.Key_Left, Qt.Key.Key_Right):
            step = -1 if event.key() == Qt.Key.Key_Left else 1
            self.at = (self.at + step) % len(self.photos)
            self._show()
        else:
            super().keyPressEvent(event)


class Face(QWidget):
    """A photo, whole."""

    def __init__(self) -> None:
        super().__init__()
        self.place: Path | None = None

    def show_photo(self, place: Path) -> None:
        self.place = place
        self.update()

    def paintEvent(self, _event: QPaintEvent | None) -> None:
        if self.place is None:
            return
        made = picture(self.place, self.size())
        QPainter(self).drawImage((self.width() - made.width()) // 2, (self.height() - made.height()) // 2, made)
