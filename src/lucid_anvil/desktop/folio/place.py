"""The Folio: papers made of cards, certificates, and what was kept of them."""

from __future__ import annotations

import contextlib
import datetime
import re
from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from pathlib import Path

from PyQt6.QtCore import QModelIndex, QRectF, QSize, Qt, QUrl
from PyQt6.QtGui import QDesktopServices, QPainter, QPalette
from PyQt6.QtPdf import QPdfDocument
from PyQt6.QtPdfWidgets import QPdfView
from PyQt6.QtWidgets import (
    QFileDialog,
    QHBoxLayout,
    QLineEdit,
    QListWidget,
    QListWidgetItem,
    QStackedWidget,
    QStyle,
    QStyledItemDelegate,
    QStyleOptionViewItem,
    QWidget,
)

from ...core.errors import BadInput
from ...folio.chain import Grounds, grounds_of, known_sensors, stamp_of
from ...folio.handing import begin_paper, troubles
from ...folio.keeping import reports
from ...folio.lists import MONTH, VERDICTS, Row, month_rows, verdict_rows, write_list
from ...lab.ledger import Entry as SensorEntry
from ...lab.papers import ENDING, Paper, in_lab, list_papers, load_paper, name_of
from ...lab.place import Lab
from ..parts import theme
from ..parts.background import Background
from ..parts.course_menu import stretch_menu as popped
from ..parts.forms import Field, Sheet
from ..parts.page_cards import shorter
from ..parts.widgets import button, card, draw_verdict, label, section, small_text
from .paper_sheets import NewPaper
from .paper_view import PaperView

HELD = 256
AT_ONCE = 6
"""Takes that are read while the window waits; more are read aside"""
ROW, HEAD = 46, 30
"""px of a paper's row, and of a heading"""


@dataclass(frozen=True)
class Entry:
    """A row of the list: a paper, or a heading where there is no place."""

    title: str
    below: str = ""
    verdict: str = "none"
    place: Path | None = None
    words: str = ""
    """What it is found by"""
    wrong: tuple[str, ...] = ()


class PaperRow(QStyledItemDelegate):
    """A paper in two lines, with the verdict of what it reports."""

    def sizeHint(self, _option: QStyleOptionViewItem, index: QModelIndex) -> QSize:
        entry: Entry = index.data(HELD)
        return QSize(200, ROW if entry.place is not None else HEAD)

    def paint(self, painter: QPainter, option: QStyleOptionViewItem, index: QModelIndex) -> None:
        entry: Entry = index.data(HELD)
        box = QRectF(option.rect)
        painter.save()
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        if entry.place is None:
            small_text(painter, box.left() + 14, box.bottom() - 7, entry.title, theme.color("muted"), 9)
            painter.restore()
            return
        if option.state & QStyle.StateFlag.State_Selected:
            painter.fillRect(box, theme.color("selected"))
            painter.fillRect(QRectF(box.left(), box.top(), 3, box.height()), theme.color("brass"))
        room = int(box.width()) - 56
        title = shorter(painter, entry.title, room, 10, 600)
        small_text(painter, box.left() + 14, box.top() + 19, title, theme.color("ink"), 10, 600)
        ink = theme.color("clay" if entry.wrong else "muted")
        below = shorter(painter, "look at this first" if entry.wrong else entry.below, room, 8.5, 400)
        small_text(painter, box.left() + 14, box.top() + 36, below, ink, 8.5)
        draw_verdict(painter, entry.verdict, QRectF(box.right() - 32, box.top() + 11, 16, 9))
        painter.restore()


class FolioPlace(QWidget):
    """List on the left; a paper's cards and page, or a paper that stays as it is, on the right."""

    def __init__(self, lab: Lab) -> None:
        super().__init__()
        self.lab = lab
        self.shown: Path | None = None
        self.grounds: dict[Path, Grounds] = {}
        self.sensors: Mapping[str, SensorEntry] = {}
        self.blind = False
        """The ledger can't be looked into"""
        self.unread = 0
        """Takes that papers rest on and that were not read, or can't be"""
        self.aside = Background(self)
        row = QHBoxLayout(self)
        row.setContentsMargins(10, 10, 10, 10)
        row.setSpacing(10)
        row.addWidget(self._list_part())
        self.pages = QStackedWidget()
        self.pages.addWidget(self._paper_part())
        self.view_of_cards = PaperView(lab)
        self.view_of_cards.changed.connect(lambda: self.reload(self._name()))
        self.view_of_cards.save.clicked.connect(self._save)
        self.pages.addWidget(self.view_of_cards)
        row.addWidget(self.pages, 1)
        self.said = self.view_of_cards.said
        self.reload()

    def _list_part(self) -> QWidget:
        frame, column = card((0, 12, 0, 8), 6)
        frame.setFixedWidth(236)
        top = QHBoxLayout()
        top.setContentsMargins(14, 0, 10, 0)
        top.addWidget(section("Papers"))
        top.addStretch()
        self.new = button("New…", tip="A paper of one take or of several, or a list of many")
        self.new.clicked.connect(self.ask)
        top.addWidget(self.new)
        column.addLayout(top)
        self.sought = QLineEdit()
        self.sought.setPlaceholderText("find: number, title, article, serial")
        self.sought.setAccessibleName("find a paper")
        self.sought.textChanged.connect(self._sift)
        line = QHBoxLayout()
        line.setContentsMargins(12, 0, 12, 0)
        line.addWidget(self.sought)
        column.addLayout(line)
        self.list = QListWidget()
        self.list.setHorizontalScrollBarPolicy(Qt.ScrollBarPolicy.ScrollBarAlwaysOff)
        self.list.setItemDelegate(PaperRow(self.list))
        self.list.currentItemChanged.connect(lambda now, _b: self._open(now))
        column.addWidget(self.list, 1)
        self.rests = label("", "muted", wrap=True)
        self.rests.setContentsMargins(14, 4, 10, 0)
        column.addWidget(self.rests)
        return frame

    def _paper_part(self) -> QWidget:
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
            " result: the paper is here then. New… makes one of several takes.",
            "muted", wrap=True,
        )  # fmt: skip
        self.stack = QStackedWidget()
        self.stack.addWidget(self.empty)
        self.stack.addWidget(self.view)
        sheet.addWidget(self.stack, 1)
        return paper

    # --- the list ---------------------------------------------------------------------------------------------

    def reload(self, wanted: str | None = None) -> None:
        """Read the folders again and choose a paper by its file's stem (the newest, when none is named)."""
        before = self.sensors
        try:
            self.sensors, self.blind = known_sensors(self.lab), False
        except BadInput:
            self.sensors, self.blind = {}, True  # said below the list, and by each paper when it is opened
        if before != self.sensors:
            self.grounds.clear()  # what was found off since is another
        files = list_papers(self.lab)
        self._ground(files)
        held = [self._paper(p) for p in files]
        own = [e for e, job in held if not job or job == self.lab.facts.job]
        others = [e for e, job in held if job and job != self.lab.facts.job]
        certificates = [Entry(p.stem, "certificate", "inside", p, p.stem)
                        for p in sorted(self.lab.certificates.glob("*.pdf"), reverse=True)]  # fmt: skip
        by_age = sorted(reports(self.lab).glob("*.pdf"), key=lambda p: p.stat().st_mtime, reverse=True)
        kept = [Entry(p.stem, "report, as it was made", "none", p, p.stem) for p in by_age]
        rows: list[Entry] = []
        for name, entries in (("This job", own), ("Other jobs", others), ("Calibrations", self._told(certificates)),
                              ("Reports", kept)):  # fmt: skip
            rows += [Entry(name), *entries] if entries else []
        self.list.blockSignals(True)
        self.list.clear()
        chosen = None
        for entry in rows:
            item = QListWidgetItem()
            item.setData(HELD, entry)
            item.setData(Qt.ItemDataRole.AccessibleTextRole, f"{entry.title}, {entry.below}")
            if entry.place is None:
                item.setFlags(Qt.ItemFlag.NoItemFlags)
            else:
                item.setToolTip("\n".join(entry.wrong) or entry.title)
                if wanted == name_of(entry.place) or (wanted is None and chosen is None):
                    chosen = item
            self.list.addItem(item)
        self.list.blockSignals(False)
        doubtful = [e for e in rows if e.wrong]
        said = f"rest on what was found wrong later: {len(doubtful) or 'none'}"
        if self.blind:
            said += ", but the ledger can't be looked into"
        elif self.unread:
            said += f", takes not read: {self.unread}"
        self.rests.setText(said)
        self.rests.setObjectName("cut" if doubtful or self.blind else "muted")
        self.rests.style().polish(self.rests)
        self._sift(self.sought.text())
        self.list.setCurrentItem(chosen)
        if chosen is None:
            self._open(None)

    def _told(self, certificates: list[Entry]) -> list[Entry]:
        """Certificates with what they are of."""
        known = {c.certificate: (e, c) for e in self.sensors.values() for c in e.history if c.certificate}
        made = []
        for entry in certificates:
            sensor, calibration = known.get(entry.title, (None, None))
            if sensor is None or calibration is None:
                made.append(entry)
                continue
            what = f"{sensor.sensor.serial} {sensor.sensor.kind}"
            folder = Path(calibration.take) if calibration.take else None
            wrong: tuple[str, ...] = ()
            verdict = "none"
            if folder is not None and folder.is_dir():
                one = self.grounds.get(folder)
                verdict = one.verdict if one is not None else "none"
                wrong = tuple(d for d in (one.doubt, *one.wrong) if d) if one is not None else ()
            made.append(Entry(what, entry.title, verdict, entry.place, f"{what} {entry.title}", wrong))
        return made

    def _paper(self, place: Path) -> tuple[Entry, str]:
        """A paper's row and its job; one whose file can't be read says why."""
        try:
            paper = load_paper(place)
        except BadInput as problem:
            return Entry(name_of(place), str(problem), "open", place, place.stem, (str(problem),)), self.lab.facts.job
        verdicts = []
        words = [paper.title, paper.number, paper.job, *paper.takes]
        for held in paper.takes:
            folder = in_lab(self.lab, held)
            if not folder.is_dir():
                continue
            one = self.grounds.get(folder)
            if one is not None:
                verdicts.append(one.verdict)
                words.append(one.words)
        worst = next((v for v in ("outside", "open", "inside") if v in verdicts), "none")
        wrong = tuple(troubles(self.lab, paper, self.grounds))
        return Entry(paper.title, self._below(paper), worst, place, " ".join(words), wrong), paper.job

    def _ground(self, files: Sequence[Path]) -> None:
        """Read the takes that papers rest on, where they are new or changed: a few at once, many aside; rows tell of
        those when they are read."""
        folders = {Path(c.take) for e in self.sensors.values() for c in e.history if c.take and c.certificate}
        for place in files:
            with contextlib.suppress(BadInput):  # its own row says it
                folders |= {in_lab(self.lab, t) for t in load_paper(place).takes}
        wanted = []
        for folder in folders:
            if folder.is_dir():
                one = self.grounds.get(folder)
                if one is None or one.stamp != stamp_of(folder):
                    wanted.append(folder)
        sensors = self.sensors

        def read() -> dict[Path, Grounds]:
            made = {}
            for folder in wanted:
                with contextlib.suppress(BadInput, OSError, ValueError, KeyError):  # a take that can't be read is told
                    made[folder] = grounds_of(folder, sensors)  # by the paper itself when it is opened
            return made

        def then(made: dict[Path, Grounds]) -> None:
            self.grounds |= made
            if made:
                self.reload(self._name())

        if len(wanted) <= AT_ONCE:
            self.grounds |= read()
        else:
            self.aside.run("takes", read, then)
        self.unread = len([f for f in folders if f not in self.grounds])

    @staticmethod
    def _below(paper: Paper) -> str:
        return paper.number

    def _sift(self, text: str) -> None:
        words = text.lower().split()
        for i in range(self.list.count()):
            item = self.list.item(i)
            entry: Entry = item.data(HELD)
            held = f"{entry.title} {entry.below} {entry.words}".lower()
            item.setHidden(bool(words) and (entry.place is None or not all(w in held for w in words)))

    def _name(self) -> str | None:
        return name_of(self.shown) if self.shown is not None else None

    def ask(self) -> None:
        """What can be begun here."""
        below = self.new.mapToGlobal(self.new.rect().bottomLeft())
        rows = [("A paper of takes…", self.ask_new), ("A month's list…", self.ask_month)]
        if self.view_of_cards.paper is not None and self.pages.currentWidget() is self.view_of_cards:
            rows.append(("This paper's readings as a table…", self.save_verdicts))
        self.menu = popped(self, below, rows)

    def ask_month(self) -> None:
        """A month's calibrations and papers, for a spreadsheet."""
        now = datetime.date.today()
        hint = "Calibrations from the Ledger and papers that were handed over, a row each."

        def take(values: Mapping[str, str]) -> None:
            found = re.fullmatch(r"\s*(\d{4})-(\d{1,2})\s*", values["month"])
            if found is None:
                raise BadInput(f"'{values['month']}': a month is wanted as in 2026-11.")
            rows = month_rows(self.lab, int(found[1]), int(found[2]))
            if not rows:
                raise BadInput(f"Nothing was calibrated and nothing handed over in {values['month'].strip()}.")
            self._write(MONTH, rows, f"{values['month'].strip()}.xlsx")

        Sheet(self, "A month's list", hint, [Field("month", "Month", f"{now:%Y-%m}")], "Write it…", take).open()

    def save_verdicts(self) -> None:
        """Every reading of the paper's takes, with limits and verdicts."""
        if self.shown is not None:
            self._write(VERDICTS, verdict_rows(self.lab, self.shown), f"{name_of(self.shown)}.xlsx")

    def _write(self, head: Sequence[str], rows: Sequence[Row], name: str) -> None:
        place, _ = QFileDialog.getSaveFileName(self, "Write the list", name, "Spreadsheet (*.xlsx);;Table (*.csv)")
        if place:
            part = Path(place).with_name(f".{Path(place).stem}.new{Path(place).suffix}")
            part.unlink(missing_ok=True)
            write_list(head, rows, part)
            part.replace(place)  # the dialog asked about one that is there; it stays until the new one is whole
            self.said.emit(f"{len(rows)} rows in {place}.")

    def ask_new(self) -> None:
        """Begin a paper of one take or of several."""
        sheet = NewPaper(self, self.lab)

        def made() -> None:
            place = begin_paper(self.lab, sheet.takes, sheet.title)
            self.reload(name_of(place))

        sheet.then(made)

    # --- the paper --------------------------------------------------------------------------------------------

    def _open(self, item: QListWidgetItem | None) -> None:
        entry: Entry | None = item.data(HELD) if item is not None else None
        self.shown = entry.place if entry is not None else None
        self.view_of_cards.leave()
        there = self.shown is not None
        for part in (self.save, self.out):
            part.setVisible(there)
        if entry is None or self.shown is None:
            self.title.setText("")
            self.stack.setCurrentWidget(self.empty)
            self.pages.setCurrentIndex(0)
            return
        if self.shown.name.endswith(ENDING):
            try:
                self.view_of_cards.show_paper(self.shown)
                self.pages.setCurrentWidget(self.view_of_cards)
                return
            except BadInput as problem:
                self.title.setText(str(problem))
                self.stack.setCurrentWidget(self.empty)
                self.pages.setCurrentIndex(0)
                return
        own = self.shown.parent == reports(self.lab)
        self.title.setText(f"Report {self.shown.stem}" if own else f"Certificate {self.shown.stem}")
        self.document.load(str(self.shown))
        self.stack.setCurrentWidget(self.view)
        self.pages.setCurrentIndex(0)

    def _save(self) -> None:
        source = self.shown
        if source is not None and source.name.endswith(ENDING):
            paper = load_paper(source)
            source = in_lab(self.lab, paper.issues[-1].file) if paper.issues else None
        if source is None:
            return
        place, _ = QFileDialog.getSaveFileName(self, "Save a copy", f"{source.stem}.pdf")
        if place:
            try:
                Path(place).write_bytes(source.read_bytes())
            except OSError as problem:
                raise BadInput(f"{place}: it can't be written ({problem.strerror}).") from None
