"""A new test: what one wants to know, on which rig, of which article; the plan then stands on the Bench."""

from __future__ import annotations

from collections.abc import Mapping
from pathlib import Path

from PyQt6.QtCore import QRectF, Qt, pyqtSignal
from PyQt6.QtGui import QFont, QFontMetricsF, QMouseEvent, QPainter, QPen
from PyQt6.QtWidgets import QComboBox, QFileDialog, QVBoxLayout, QWidget

from ...contracts import registry
from ...core.errors import BadInput
from ...engine.newplan import FromRecord, begin_plan, place_for, suits
from ...formats.files import ENDINGS
from ...lab.patterns import for_unit, patterns
from ...lab.place import Lab
from ...lab.plans import load_plan
from ...rig.model import Rig, load_rig
from ..parts import theme
from ..parts.forms import Field, Sheet
from ..parts.widgets import button, scrolled, section, small_text


class MethodRow(QWidget):
    """One method: its title and what one learns by it; the chosen one is marked."""

    clicked = pyqtSignal(str)

    def __init__(self, name: str, title: str, text: str) -> None:
        super().__init__()
        self.name, self.chosen = name, False
        self.title, self.text = title, text
        self.setFixedHeight(44)
        self.setCursor(Qt.CursorShape.PointingHandCursor)
        self.setFocusPolicy(Qt.FocusPolicy.TabFocus)
        self.setAccessibleName(title)

    def mousePressEvent(self, _event: QMouseEvent | None) -> None:
        self.clicked.emit(self.name)

    def keyPressEvent(self, event: object) -> None:
        if event.key() in (Qt.Key.Key_Return, Qt.Key.Key_Enter, Qt.Key.Key_Space):  # type: ignore[attr-defined]
            self.clicked.emit(self.name)

    def paintEvent(self, _event: object) -> None:
        painter = QPainter(self)
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        box = QRectF(self.rect()).adjusted(0.5, 1.5, -0.5, -1.5)
        marked = self.chosen or self.hasFocus()
        painter.setPen(QPen(theme.color("brass" if marked else "line"), 1))
        painter.setBrush(theme.color("sand", 120) if self.chosen else Qt.BrushStyle.NoBrush)
        painter.drawRoundedRect(box, 4, 4)
        small_text(painter, 12, 19, self.title, theme.color("ink"), 10.5, 600)
        font = QFont(painter.font())
        font.setPointSizeF(9)
        cut = QFontMetricsF(font).elidedText(self.text, Qt.TextElideMode.ElideRight, self.width() - 26)
        small_text(painter, 12, 35, cut, theme.color("muted"), 9)
        self.setToolTip(self.text if cut != self.text else "")


class NewTest(Sheet):
    """The methods by domain, then rig, article and name. What was begun is `plan`."""

    def __init__(self, parent: QWidget, lab: Lab) -> None:
        self.lab = lab
        self.plan: Path | None = None
        self.pattern: Path | None = None
        self.rigs = rigs_of(lab)
        inner = QWidget()
        column = QVBoxLayout(inner)
        column.setContentsMargins(0, 0, 10, 0)
        column.setSpacing(2)
        self.rows: dict[str, MethodRow] = {}
        self.patterns = dict(patterns(lab))
        if self.patterns:
            column.addWidget(section("Patterns of the lab"))
        for title, place in self.patterns.items():
            method = load_plan(place).step.method
            row = MethodRow(title, title, f"{registry.get(method).title}, as it was kept")
            row.clicked.connect(self.choose_pattern)
            column.addWidget(row)
            self.rows[title] = row
        for domain in registry.domains():
            names = [n for n in domain.methods if not (registry.get(n).begun_as or registry.get(n).reads_only)]
            if names:
                column.addWidget(section(domain.title))
            for name in names:
                row = MethodRow(name, registry.get(name).title, registry.get(name).about)
                row.clicked.connect(self.choose)
                column.addWidget(row)
                self.rows[name] = row
        column.addStretch()
        scroll = scrolled(inner)
        scroll.setFixedHeight(316)
        self.list = scroll
        fields = [
            Field("rig", "Rig", choices=[n for n, _, _ in self.rigs] or ["no rig yet"]),
            Field("record", "Record", hint="the file whose motion is played: csv, wav, xlsx, uff, mat, h5"),
            Field("channel", "Channel", hint="of the record, where it has several"),
            Field("unit", "Unit", hint="of the record, where its file states none, such as m/s^2 or g"),
            Field("article", "Article", hint="what is tested, as the customer calls it"),
            Field("title", "Name", hint="of this test; the method's when left empty"),
        ]
        super().__init__(parent, "New test", "What do you want to know?", fields, "Begin the plan", self._begin)
        self.column.insertWidget(2, scroll)
        self.browse = button("Choose the record…")
        self.browse.setAutoDefault(False)
        self.browse.clicked.connect(self._browse)
        self.column.insertWidget(3, self.browse, 0, Qt.AlignmentFlag.AlignRight)
        self.choose(next(n for n in self.rows if n not in self.patterns))

    @property
    def begun(self) -> Path:
        """The plan, once it is begun."""
        assert self.plan is not None
        return self.plan

    def choose_pattern(self, title: str) -> None:
        """A plan that the lab keeps; its rig is its own."""
        self.choose(load_plan(self.patterns[title]).step.method)
        self.pattern = self.patterns[title]
        for key, row in self.rows.items():
            row.chosen = key == title
            row.update()
        for key in ("rig", "record", "channel", "unit"):
            self.fields.reveal(key, False)
        self.browse.hide()

    def choose(self, name: str) -> None:
        """A method; the rigs that can serve it come first."""
        self.name, self.pattern = name, None
        self.fields.reveal("rig", True)
        for key, row in self.rows.items():
            row.chosen = key == name
            row.update()
        self.list.ensureWidgetVisible(self.rows[name])
        for key in ("record", "channel", "unit"):
            self.fields.reveal(key, registry.get(name).needs_record)
        self.browse.setVisible(registry.get(name).needs_record)
        box = self.fields.boxes["rig"]
        assert isinstance(box, QComboBox)
        box.clear()
        told = [(place, label, None if rig is None else suits(name, rig)) for label, place, rig in self.rigs]
        self.order = sorted(told, key=lambda t: t[2] is not None)
        box.addItems([f"{label} · {why}" if why else label for _, label, why in self.order] or ["no rig yet"])
        self.wrong.hide()

    def _begin(self, held: Mapping[str, str]) -> None:
        if self.pattern is not None:
            self.plan = for_unit(self.lab, self.pattern, held["article"], held["title"])
            return
        if not self.order:
            raise BadInput("There is no rig in this lab yet: hook one up first (Ctrl+R).")
        article = held["article"].strip()
        if not article:
            raise BadInput("Article: say what is tested.")
        box = self.fields.boxes["rig"]
        assert isinstance(box, QComboBox)
        rig = self.order[box.currentIndex()][0]
        title = held["title"].strip()
        place = place_for(self.lab, article, title or registry.get(self.name).title)
        record = None
        if registry.get(self.name).needs_record:
            if not held["record"].strip():
                raise BadInput("Record: choose the file whose motion is played.")
            record = FromRecord(Path(held["record"].strip()), held["channel"].strip(), held["unit"].strip())
        self.plan = begin_plan(self.name, rig, article, place, title, self.lab, record)

    def _browse(self) -> None:
        kinds = " ".join(f"*{e}" for e in ENDINGS)
        place, _ = QFileDialog.getOpenFileName(self, "The record", "", f"Records ({kinds})")
        if place:
            self.fields.boxes["record"].setText(place)  # type: ignore[union-attr]


def rigs_of(lab: Lab) -> list[tuple[str, Path, Rig | None]]:
    """Name, file and rig of every rig in the lab's folder; None for one that can't be read."""
    made: list[tuple[str, Path, Rig | None]] = []
    for place in sorted((lab.folder / "rigs").glob("*.rig.yaml")):
        try:
            rig: Rig | None = load_rig(place)
        except BadInput:
            rig = None
        made.append((place.name.removesuffix(".rig.yaml").replace("-", " ").capitalize(), place, rig))
    return made
