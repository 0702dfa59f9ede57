"""The Folio: certificates, page by page."""

from __future__ import annotations

from pathlib import Path

from PyQt6.QtCore import Qt, QUrl
from PyQt6.QtGui import QDesktopServices, QPalette
from PyQt6.QtPdf import QPdfDocument
from PyQt6.QtPdfWidgets import QPdfView
from PyQt6.QtWidgets import QFileDialog, QHBoxLayout, QListWidget, QListWidgetItem, QStackedWidget, QWidget

from ..core.errors import BadInput
from ..folio.keeping import reports
from ..lab.place import Lab
from . import theme
from .widgets import button, card, label, section


class FolioPlace(QWidget):
    """List on the left, the paper on the right."""

    def __init__(self, lab: Lab) -> None:
        super().__init__()
        self.lab = lab
        self.shown: Path | None = None
        row = QHBoxLayout(self)
        row.setContentsMargins(10, 10, 10, 10)
        row.setSpacing(10)
        frame, column = card((0, 12, 0, 8), 6)
        frame.setFixedWidth(250)
        head = section("Papers")
        head.setContentsMargins(14, 0, 0, 4)
        column.addWidget(head)
        self.list = QListWidget()
        self.list.setHorizontalScrollBarPolicy(Qt.ScrollBarPolicy.ScrollBarAlwaysOff)
        self.list.setWordWrap(True)
        self.list.currentItemChanged.connect(lambda now, _b: self._open(now))
        column.addWidget(self.list, 1)
        row.addWidget(frame)
        paper, sheet = card((14, 10, 14, 10), 8)
        top = QHBoxLayout()
        self.title = label("", "title")
        top.addWidget(self.title)
        top.addStretch()
        self.save = button("Save a copy")
        self.save.clicked.connect(self._save)
        self.out = button("Open outside")
        self.out.clicked.connect(lambda: QDesktopServices.openUrl(QUrl.fromLocalFile(str(self.shown))))
        top.addWidget(self.save)
        top.addWidget(self.out)
        sheet.addLayout(top)
        self.document = QPdfDocument(self)
        self.view = QPdfView(self)
        self.view.setDocument(self.document)
        self.view.setPageMode(QPdfView.PageMode.MultiPage)
        self.view.setZoomMode(QPdfView.ZoomMode.FitToWidth)
        colours = self.view.palette()
        colours.setColor(QPalette.ColorRole.Dark, theme.color("sand"))
        self.view.setPalette(colours)
        self.view.setPageSpacing(12)
        self.empty = label(
            "No paper yet. Calibrate a sensor on the Bench and accept its result, or press Report beside any take's"
            " result: the paper is here then.",
            "muted", wrap=True,
        )  # fmt: skip
        self.stack = QStackedWidget()
        self.stack.addWidget(self.empty)
        self.stack.addWidget(self.view)
        sheet.addWidget(self.stack, 1)
        row.addWidget(paper, 1)
        self.reload()

    def reload(self, wanted: str | None = None) -> None:
        """Read the folder again and choose a certificate (the newest, when none is named)."""
        self.list.clear()
        certificates = sorted(self.lab.certificates.glob("*.pdf"), reverse=True)
        by_age = sorted(reports(self.lab).glob("*.pdf"), key=lambda p: p.stat().st_mtime, reverse=True)
        for place in (*certificates, *by_age):
            item = QListWidgetItem(place.stem if place in certificates else f"Report {place.stem}")
            item.setData(256, place)
            item.setToolTip(item.text())
            self.list.addItem(item)
            if wanted == place.stem:
                self.list.setCurrentItem(item)
        if wanted is None and self.list.count():
            self.list.setCurrentRow(0)
        if not self.list.count():
            self.stack.setCurrentWidget(self.empty)
        for part in (self.save, self.out):
            part.setVisible(self.list.count() > 0)

    def _open(self, item: QListWidgetItem | None) -> None:
        if item is None:
            return
        self.shown = item.data(256)
        own = self.shown is not None and self.shown.parent == reports(self.lab)
        self.title.setText(item.text() if own else f"Certificate {item.text()}")
        self.document.load(str(self.shown))
        self.stack.setCurrentWidget(self.view)

    def _save(self) -> None:
        place, _ = QFileDialog.getSaveFileName(self, "Save a copy", f"{self.shown.stem if self.shown else ''}.pdf")
        if place and self.shown:
            try:
                Path(place).write_bytes(self.shown.read_bytes())
            except OSError as problem:
                raise BadInput(f"{place}: it can't be written ({problem.strerror}).") from None
