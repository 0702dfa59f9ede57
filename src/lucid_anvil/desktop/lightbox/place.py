"""The Lightbox: takes and foreign files looked into, laid over one another, cropped, listened to, read again."""

from __future__ import annotations

from pathlib import Path
from typing import Any

from PyQt6.QtCore import QSize, Qt, pyqtSignal
from PyQt6.QtWidgets import (
    QFileDialog,
    QHBoxLayout,
    QLineEdit,
    QListWidget,
    QListWidgetItem,
    QStackedWidget,
    QWidget,
)

from ...contracts.finding import Finding
from ...core.errors import BadInput
from ...engine.evaluating import reread, stated
from ...formats import Recording, read, write
from ...formats.files import ENDINGS
from ...lab.articles import named
from ...lab.catalogue import Catalogue
from ...lab.exporting import export
from ...lab.papers import name_of
from ...lab.place import Lab
from ...lab.querying import parsed
from ...lab.specimens import series, words
from ...lab.superposing import master
from ...lab.takes import Take, from_file, list_takes
from ...lab.trends import Read, export_trend, read_takes
from ..parts.background import Background
from ..parts.chart import Chart
from ..parts.widgets import Tabs, button, card, label, scrolled, section
from ..parts.window_handles import read_between, told, window_of
from .again_view import AgainView, difference
from .listen_view import ListenView
from .master_view import MasterView
from .overlay_view import OverlayView, Shown
from .reading_sheet import ReadingSheet
from .record_view import RecordView
from .series_view import SeriesView
from .trend_view import TrendView

TABS = [("curves", "Curves"), ("raw", "Record"), ("listen", "Listen"), ("series", "Series"),
        ("trend", "Trend")]
TITLES = {"curves": "Takes over one another", "raw": "Raw record", "listen": "Listen",
          "series": "Specimens beside each other", "trend": "A reading over takes"}  # fmt: skip
MOST = 2000
"""Takes that a search shows at most, the newest"""
FOLDER, READING, NAME = 256, 257, 258
"""Where a list item keeps its take's folder (or a foreign file) and its finding's file"""


class LightboxPlace(QWidget):
    """Tick findings to lay their curves over one another; the record of the one in hand is cropped and heard."""

    written = pyqtSignal(str)
    """the name of a paper that was just written"""

    def __init__(self, lab: Lab) -> None:
        super().__init__()
        self.lab = lab
        row = QHBoxLayout(self)
        row.setContentsMargins(10, 10, 10, 10)
        row.setSpacing(10)
        frame, column = card((0, 12, 0, 8), 6)
        frame.setFixedWidth(250)
        head = section("Takes")
        head.setContentsMargins(14, 0, 0, 4)
        column.addWidget(head)
        self.query = QLineEdit()
        self.query.setPlaceholderText("Find: coupon modulus<200GPa")
        self.query.setToolTip(
            "Words, or terms: article=FS-2 method=tension verdict=outside thd>0.5% since=2026-01-01 thd:rose>50%"
            " within=365d. Enter finds; empty shows all."
        )
        self.query.setProperty("help", "records.md#Find a take again")
        self.query.returnPressed.connect(self.search)
        around = QHBoxLayout()
        around.setContentsMargins(12, 0, 12, 2)
        around.addWidget(self.query)
        column.addLayout(around)
        self.wanted: set[Path] | None = None
        self.list = QListWidget()
        self.list.setIconSize(QSize(0, 0))
        self.list.setTextElideMode(Qt.TextElideMode.ElideMiddle)
        self.list.setHorizontalScrollBarPolicy(Qt.ScrollBarPolicy.ScrollBarAlwaysOff)
        self.list.itemChanged.connect(lambda _i: self.draw())
        self.list.currentItemChanged.connect(lambda _a, _b: self._other())
        column.addWidget(self.list, 1)
        self.foreign = button("Open…", tip="csv, xlsx, wav, uff, mat or h5: a record from elsewhere")
        self.foreign.clicked.connect(self.choose_file)
        around = QHBoxLayout()
        around.setContentsMargins(12, 0, 12, 4)
        around.addWidget(self.foreign)
        self.paper = button("Report", tip="The report of the take chosen above, into the Folio")
        self.paper.clicked.connect(self.make_report)
        around.addWidget(self.paper)
        self.sheet_out = button("Table…", tip="Readings and curves of the finding chosen above, as csv or xlsx")
        self.sheet_out.clicked.connect(self.save_table)
        around.addWidget(self.sheet_out)
        column.addLayout(around)
        row.addWidget(frame)
        main, sheet = card((16, 10, 12, 10), 6)
        top = QHBoxLayout()
        self.title = label(TITLES["curves"], "title")
        top.addWidget(self.title)
        top.addStretch()
        self.tabs = Tabs(TABS)
        self.tabs.chosen.connect(lambda _k: self.draw())
        top.addWidget(self.tabs)
        sheet.addLayout(top)
        self.stack = QStackedWidget()
        self.overlay, self.record, self.sound = OverlayView(), RecordView(), ListenView()
        self.overlay.kept.connect(self.keep_made)
        self.record.listen.connect(self.hear)
        self.record.export.connect(self.save_crop)
        self.record.reread.connect(self.read_again)
        self.trend = TrendView()
        self.trend.export.connect(self.save_trend)
        self.series_view = SeriesView()
        self.series_page = scrolled(self.series_view)
        self.series_page.setHorizontalScrollBarPolicy(Qt.ScrollBarPolicy.ScrollBarAsNeeded)
        self.master = MasterView()
        self.again = AgainView()
        self.again.read.connect(self.again_with)
        self.again.closed.connect(self.draw)
        self.empty = label(
            "No take yet. Run a plan on the Bench; every take is kept and can be looked at here.", "muted"
        )
        pages = (self.overlay, self.record, self.sound, self.series_page, self.master, self.trend, self.again)
        for widget in (*pages, self.empty):
            self.stack.addWidget(widget)
        sheet.addWidget(self.stack, 1)
        self.hint = label("", "muted", wrap=True)
        sheet.addWidget(self.hint)
        row.addWidget(main, 1)
        self.overlay.window_moved.connect(self.read_in_window)
        self.aside = Background(self)
        self.aside.failed.connect(self.hint.setText)
        self.files: list[Path] = []
        self.open: Path | None = None
        self.heard: tuple[Any, ...] | None = None
        self.reload()

    @property
    def chart(self) -> Chart:
        """Where the curves are."""
        return self.overlay.chart

    @property
    def raw(self) -> Chart:
        """Where the record is."""
        return self.record.chart

    def make_report(self) -> None:
        """The report of the take that is chosen."""
        from ...folio.keeping import begin_report

        item = self.list.currentItem()
        folder = item.data(FOLDER) if item is not None else None
        if folder is None or not folder.is_dir():
            self.hint.setText("Choose a take in the list: a record from elsewhere has no plan to report of.")
            return
        take = Take(folder)
        self.hint.setText("The report is being written.")
        self.aside.run("report", lambda: begin_report(self.lab, take), lambda place: self.written.emit(name_of(place)))

    # --- the list --------------------------------------------------------------------------------------------

    def reload(self) -> None:
        """Takes, newest first, one row a finding; then foreign files."""
        self.list.blockSignals(True)
        held = {self._key(self.list.item(i)): self.list.item(i).checkState() for i in range(self.list.count())}
        self.list.clear()
        for take in reversed(list_takes(self.lab.jobs)):
            if self.wanted is not None and take.folder.resolve() not in self.wanted:
                continue
            files = take.finding_files()
            name, status = named(self.lab, take.folder.parent), take.status()
            ended = "" if status == "done" else status
            for k, file in enumerate(files[::-1] or [None]):
                which = f" · reading {len(files) - k}" if len(files) > 1 else ""
                self._add(f"{name} · {take.name}{which}", take.folder, file, ended)
        for place in self.files:
            self._add(place.name, place, None)
        for i in range(self.list.count()):
            item = self.list.item(i)
            usual = Qt.CheckState.Checked if not held and i < 2 else Qt.CheckState.Unchecked
            item.setCheckState(held.get(self._key(item), usual))
        self.list.blockSignals(False)
        if self.list.count():
            self.list.setCurrentRow(0)
        self.draw()

    def search(self) -> None:
        """Only takes of which all that was typed is so; all of them when nothing was."""
        text = self.query.text().strip()
        if not text:
            self.wanted = None
            self.reload()
            return

        def work() -> list[Path]:
            catalogue = Catalogue(self.lab)
            try:
                query = parsed(text)
                catalogue.refresh()
                return [f.take.folder for f in catalogue.find(query, MOST)]
            finally:
                catalogue.close()

        def then(found: list[Path]) -> None:
            self.wanted = set(found)
            self.reload()
            self.hint.setText(f"{len(found)} takes found." if found else "No take is found by that.")

        self.aside.run("find", work, then)

    def _add(self, name: str, folder: Path, file: Path | None, ended: str = "") -> None:
        """A row; `ended`: how it ended, where that was not as planned."""
        text = f"{name} · {ended}" if ended else name
        item = QListWidgetItem(text)
        item.setData(NAME, name)
        item.setData(FOLDER, folder)
        item.setData(READING, file)
        item.setToolTip(text)
        item.setFlags(item.flags() | Qt.ItemFlag.ItemIsUserCheckable)
        self.list.addItem(item)

    @staticmethod
    def _key(item: QListWidgetItem) -> tuple[str, str]:
        return str(item.data(FOLDER)), str(item.data(READING))

    def _finding(self, item: QListWidgetItem) -> Finding | None:
        file = item.data(READING)
        return from_file(file) if file is not None else None

    def ticked(self) -> list[Shown]:
        """Findings that are ticked; those of one method with the first."""
        made: list[Shown] = []
        for i in range(self.list.count()):
            item = self.list.item(i)
            if item.checkState() != Qt.CheckState.Checked:
                continue
            finding = self._finding(item)
            if finding is not None:
                made.append(Shown(str(item.data(NAME)), finding, Path(item.data(FOLDER))))
        return made

    # --- what is shown ---------------------------------------------------------------------------------------

    def draw(self) -> None:
        """The page that is chosen."""
        if not self.list.count():
            self.stack.setCurrentWidget(self.empty)
            return
        key = self.tabs.now
        self.title.setText(TITLES[key])
        self.hint.setText("")
        if key == "raw":
            self.stack.setCurrentWidget(self.record)
            self.draw_raw()
        elif key == "listen":
            self.stack.setCurrentWidget(self.sound)
            self.draw_raw()
            self.hear()
        elif key == "series":
            self.stack.setCurrentWidget(self.series_page)
            self._series()
        elif key == "trend":
            self.stack.setCurrentWidget(self.trend)
            self.hint.setText("Takes are being looked through.")
            self.aside.run("trend", lambda: read_takes(self.lab.jobs), self._trend)
        else:
            self.stack.setCurrentWidget(self.overlay)
            ticked = self.ticked()
            self.overlay.show_findings(ticked)
            item = self.list.currentItem()
            self.overlay.readings.show_finding(self._finding(item) if item is not None else None)
            self.hint.setText(
                "Point at a curve to read it; the right button copies it as a picture or a table."
                if ticked
                else "Tick takes on the left to lay their curves over one another."
            )

    def _series(self) -> None:
        """The ticked takes beside each other."""
        ticked = self.ticked()
        several = len(ticked) > 1 or any("nest" in (s.finding.detail or {}) for s in ticked)
        if several and all({"temperature", "nest"} & set(s.finding.detail or {}) for s in ticked):
            self._master(ticked)
            return
        names = [s.name.rsplit(" · ", 1)[0] for s in ticked]
        if len(set(names)) < len(names):
            names = [s.name for s in ticked]
        try:
            made = series([(n, s.finding) for n, s in zip(names, ticked, strict=True)])
        except BadInput as problem:
            self.series_view.show_series(None)
            self.hint.setText(str(problem))
            return
        self.series_view.show_series(made)
        off = [f"{r.label}: {words(r, made.names)}" for r in made.rows if words(r, made.names)]
        self.hint.setText("; ".join(off) if off else "Nothing lies off (Grubbs' test, ISO 5725-2, at 5 %).")

    def _master(self, ticked: list[Shown]) -> None:
        """Sweeps at several temperatures, laid over one another."""
        try:
            made = master([(s.name, s.finding) for s in ticked])
        except BadInput as problem:
            self.hint.setText(str(problem))
            return
        self.master.show_master(made)
        self.stack.setCurrentWidget(self.master)
        self.hint.setText("Each sweep is moved along the frequency until it lies on its neighbour.")

    def _trend(self, read: list[Read]) -> None:
        item = self.list.currentItem()
        finding = self._finding(item) if item is not None else None
        self.hint.setText("")
        self.trend.show_takes(read, finding.method if finding is not None else None)

    def save_trend(self) -> None:
        """Every value of the trend, as csv or xlsx."""
        name, chosen = QFileDialog.getSaveFileName(self, "Export the trend", "", "XLSX (*.xlsx);;CSV (*.csv)")
        if not name:
            return
        place = Path(name) if Path(name).suffix else Path(name + chosen.split("*")[-1].rstrip(")"))
        rows, text = self.trend.rows, self.trend.label

        def work() -> Path:
            part = place.with_name(f".{place.stem}.new{place.suffix}")
            part.unlink(missing_ok=True)
            export_trend(rows, text, part)
            part.replace(place)
            return place

        self.aside.run("table", work, lambda made: self.hint.setText(f"Written to {made}."))

    def _other(self) -> None:
        self.heard = None
        if self.tabs.now != "trend":
            self.draw()

    def in_hand(self) -> Path | None:
        """The take's folder, or the file, that is chosen on the left."""
        item = self.list.currentItem()
        return None if item is None else Path(item.data(FOLDER))

    def draw_raw(self) -> None:
        """The record in hand, once."""
        place = self.in_hand()
        if place is None or place == self.open:
            return
        try:
            recording: Recording = Take(place).recording() if place.is_dir() else read(place)
        except BadInput as problem:
            try:
                recording = read(place, logs=True)  # a logger's rows, which some methods take
            except BadInput:
                self.hint.setText(str(problem))
                return
        self.open = place
        cache = place / "cache" if place.is_dir() else place.parent / f".{place.name}.cache"
        self.record.show_recording(recording, cache)
        self.hint.setText("Zoom with the wheel, down to single samples; the two lines crop a stretch.")

    def hear(self) -> None:
        """The stretch between the crop lines, of the first channel shown."""
        if not self.record.channels or self.open is None:
            return
        a, b = self.record.crop()
        c = self.record.channels[0]
        b = min(b, a + 600.0)
        wanted = (self.open, c.label, a, b)
        self.tabs.choose("listen", quiet=True)
        self.title.setText(TITLES["listen"])
        self.stack.setCurrentWidget(self.sound)
        if wanted == self.heard:
            return
        self.heard = wanted
        folder = self.open / "cache" if self.open.is_dir() else self.open.parent
        self.sound.show_signal(c.between(a, b), c.rate, c.unit, c.label, a, folder / f"listen-{c.label}.wav")

    def keep_made(self) -> None:
        """The curve made of the ticked ones, as a finding of the first one's take; what counts still counts."""
        made, shown = self.overlay.made, self.overlay.shown
        folder = next((Path(self.list.item(i).data(FOLDER)) for i in range(self.list.count())
                       if self.list.item(i).checkState() == Qt.CheckState.Checked), None)  # fmt: skip
        if made is None or folder is None or not folder.is_dir():
            self.hint.setText("It can be kept where the first of the ticked is a take.")
            return
        take = Take(folder)
        counted = take.counted()
        names = ", ".join(s.name for s in shown)
        take.keep(Finding(shown[0].finding.method, (), (made,), notes=(f"{made.label}: {names}.",)))
        if counted is not None:
            take.choose(counted)
        self.reload()
        self.hint.setText(f"Kept beside the findings of {take.name}.")

    # --- in and out ------------------------------------------------------------------------------------------

    def choose_file(self) -> None:
        endings = " ".join(f"*{e}" for e in ENDINGS)
        name, _ = QFileDialog.getOpenFileName(self, "A record from elsewhere", "", f"Records ({endings})")
        if name:
            self.open_file(Path(name))

    def open_file(self, place: Path) -> None:
        """A foreign file joins the list and is shown."""
        if place not in self.files:
            self.files.append(place)
        self.reload()
        for i in range(self.list.count()):
            if self.list.item(i).data(FOLDER) == place:
                self.list.setCurrentRow(i)
        self.tabs.choose("raw", quiet=True)
        self.draw()

    def save_crop(self) -> None:
        """The stretch between the lines into a file; the ending says the format."""
        endings = ";;".join(f"{e[1:].upper()} (*{e})" for e in (".csv", ".xlsx", ".mat", ".uff", ".wav", ".h5"))
        name, chosen = QFileDialog.getSaveFileName(self, "Export the stretch", "", endings)
        if not name:
            return
        place = Path(name)
        if not place.suffix:
            place = place.with_suffix(chosen.split("*")[-1].rstrip(")"))
        cropped = self.record.cropped()

        def work() -> Path:
            part = place.with_name(f".{place.stem}.new{place.suffix}")
            part.unlink(missing_ok=True)
            write(part, cropped)
            part.replace(place)  # the dialog has asked; what was there goes only when the new one is whole
            return place

        self.aside.run("export", work, lambda made: self.hint.setText(f"Written to {made}."))

    def read_again(self) -> None:
        """The take in hand read with other settings; both findings are kept."""
        place = self.in_hand()
        if place is None:
            return
        if not place.is_dir():
            self.read_foreign(place)
            return
        try:
            self.again.show_take(Take(place))
        except BadInput as problem:
            self.hint.setText(str(problem))
            return
        self.stack.setCurrentWidget(self.again)
        self.hint.setText("")

    def read_foreign(self, file: Path) -> ReadingSheet | None:
        """A record from elsewhere, read by a method of one's choice and kept as a take."""
        try:
            sheet = ReadingSheet(self, self.lab, file)
        except BadInput as problem:
            self.hint.setText(str(problem))
            return None
        sheet.then(lambda: self._adopted(sheet.take))
        return sheet

    def _adopted(self, take: Take | None) -> None:
        assert take is not None
        self.wanted = None
        self.query.clear()
        self._show_alone(take)
        name = named(self.lab, take.folder.parent)
        self.hint.setText(f"Kept as {name} · {take.name}: read it again, report it, compare it.")

    def _show_alone(self, take: Take) -> None:
        """The newest finding of a take, and no other."""
        self.reload()
        mine = [i for i in range(self.list.count()) if Path(self.list.item(i).data(FOLDER)) == take.folder]
        for i in range(self.list.count()):
            item = self.list.item(i)
            item.setCheckState(Qt.CheckState.Checked if i in mine[:1] else Qt.CheckState.Unchecked)
        if mine:
            self.list.setCurrentRow(mine[0])
        self.tabs.choose("curves", quiet=True)
        self.draw()

    def read_in_window(self, shown: Shown, low: float, high: float) -> None:
        """The take whose window was dragged, read between its new ends; the finding before is kept beside it."""
        window = window_of(shown.finding)
        if window is None or shown.folder is None or high <= max(low, 0.0):
            self.draw()
            return
        take = Take(shown.folder)

        def then(_made: Finding) -> None:
            self._show_alone(take)
            ends = f"{told('from', low, window['unit'])} {told('to', high, window['unit'])}"
            self.hint.setText(f"Read again {ends}; the finding before is kept beside it.")

        self.aside.run("window", lambda: read_between(take, window, low, high), then)

    def again_with(self, take: Take, settings: dict[str, Any]) -> None:
        """Read a take with other settings; both findings are kept, and what differs is said."""
        before = take.finding()

        def work() -> Finding:
            made = reread(take, settings)
            take.keep(made)
            return made

        def then(made: Finding) -> None:
            told = difference(before, made)
            self.reload()
            self.again.told.setText(told)
            self.stack.setCurrentWidget(self.again)
            self.hint.setText(f"{take.name} was read again; the old finding is kept beside the new one.")

        self.aside.run("again", work, then)

    def save_table(self) -> None:
        """Readings and curves of the finding in hand, as csv or xlsx."""
        item = self.list.currentItem()
        finding = self._finding(item) if item is not None else None
        if finding is None:
            self.hint.setText("Choose a take with a finding in the list.")
            return
        name, chosen = QFileDialog.getSaveFileName(self, "Export readings and curves", "", "XLSX (*.xlsx);;CSV (*.csv)")
        if name:
            place = Path(name) if Path(name).suffix else Path(name + chosen.split("*")[-1].rstrip(")"))
            self.export_to(place)

    def export_to(self, place: Path) -> None:
        """The finding in hand into a file; its ending says the format."""
        item = self.list.currentItem()
        finding = self._finding(item)
        assert finding is not None
        folder = Path(item.data(FOLDER))
        finding = (stated(Take(folder), finding) if folder.is_dir() else None) or finding
        facts = [("take", item.text())]

        def work() -> Path:
            part = place.with_name(f".{place.stem}.new{place.suffix}")
            part.unlink(missing_ok=True)
            export(finding, part, facts)
            part.replace(place)
            return place

        self.aside.run("table", work, lambda made: self.hint.setText(f"Written to {made}."))

    def repaint_charts(self) -> None:
        """Take on the palette in force."""
        for view in (self.overlay, self.record, self.sound, self.trend, self.master):
            view.repaint_charts()
