"""A new test: what one wants to know, on which rig, of which article; the plan then stands on the Bench."""

from __future__ import annotations

from collections.abc import Iterable, Mapping
from pathlib import Path

from PyQt6.QtCore import QPointF, QRectF, Qt, pyqtSignal
from PyQt6.QtGui import QFont, QFontMetricsF, QMouseEvent, QPainter, QPen, QPolygonF
from PyQt6.QtWidgets import QComboBox, QCompleter, QFileDialog, QHBoxLayout, QLineEdit, QVBoxLayout, QWidget

from ...contracts import registry
from ...contracts.sketch import Sketch
from ...core.errors import BadInput
from ...engine.newplan import FromRecord, begin_plan, lacking, place_for, suits
from ...formats.files import ENDINGS
from ...lab.articles import Article, facts_in, folder_of, keep_facts, known
from ...lab.patterns import for_unit, patterns
from ...lab.photos import keep_in, photos_at
from ...lab.place import Lab
from ...lab.plans import load_plan
from ...rig.model import Rig, load_rig
from ..parts import theme
from ..parts.forms import Field, Sheet
from ..parts.widgets import button, scrolled, section, small_text
from .article_sheet import ArticleSheet
from .missing_sheet import MissingSheet

SKETCH = 80
"""px from the left at which a row's words begin, beside its picture"""


class MethodRow(QWidget):
    """One method: its title and what one learns by it; the chosen one is marked."""

    clicked = pyqtSignal(str)

    def __init__(self, name: str, title: str, text: str, sketch: Sketch = ()) -> None:
        super().__init__()
        self.name, self.chosen, self.sketch = name, False, sketch
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
        self._picture(painter, QRectF(12, 9, 54, 26))
        small_text(painter, SKETCH, 19, self.title, theme.color("ink"), 10.5, 600)
        font = QFont(painter.font())
        font.setPointSizeF(9)
        cut = QFontMetricsF(font).elidedText(self.text, Qt.TextElideMode.ElideRight, self.width() - SKETCH - 14)
        small_text(painter, SKETCH, 35, cut, theme.color("muted"), 9)
        self.setToolTip(self.text if cut != self.text else "")


    def _picture(self, painter: QPainter, box: QRectF) -> None:
        """The method's sketch: its first line strong."""
        for i, points in reversed(list(enumerate(self.sketch))):
            painter.setPen(QPen(theme.color("teal" if i == 0 else "muted"), 1.6 if i == 0 else 0.9))
            painter.setBrush(Qt.BrushStyle.NoBrush)
            painter.drawPolyline(QPolygonF(
                [QPointF(box.left() + x * box.width(), box.bottom() - y * box.height()) for x, y in points]
            ))  # fmt: skip


class NewTest(Sheet):
    """The methods by domain, then rig, article and name. What was begun is `plan`."""

    def __init__(self, parent: QWidget, lab: Lab) -> None:
        self.lab = lab
        self.plan: Path | None = None
        self.pattern: Path | None = None
        self.rigs = rigs_of(lab)
        self.order: list[tuple[Path, str, str | None]] = []
        inner = QWidget()
        column = QVBoxLayout(inner)
        column.setContentsMargins(0, 0, 10, 0)
        column.setSpacing(2)
        self.rows: dict[str, MethodRow] = {}
        self.patterns = dict(patterns(lab))
        if self.patterns:
            column.addWidget(section("Patterns of the lab"))
        for title, place in self.patterns.items():
            method = registry.get(load_plan(place).step.method)
            row = MethodRow(title, title, f"{method.title}, as it was kept", method.sketch)
            row.clicked.connect(self.choose_pattern)
            column.addWidget(row)
            self.rows[title] = row
        for domain in registry.domains():
            names = [n for n in domain.methods if not (registry.get(n).begun_as or registry.get(n).reads_only)]
            if names:
                column.addWidget(section(domain.title))
            for name in names:
                method = registry.get(name)
                row = MethodRow(name, method.title, method.about, method.sketch)
                row.clicked.connect(self.choose)
                column.addWidget(row)
                self.rows[name] = row
        column.addStretch()
        scroll = scrolled(inner)
        scroll.setFixedHeight(392)
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
        self.frame.setMinimumWidth(720)
        self.column.insertWidget(2, scroll)
        self.known = known(lab)
        self.facts: dict[str, Article] = {}
        self.photos: dict[str, Path | None] = {}
        article = self.fields.boxes["article"]
        assert isinstance(article, QLineEdit)
        article.setCompleter(completer(self.known, self))
        self.about = button("About the article…", "chip", "Maker, model, serial number, published figures, photo")
        self.about.setAutoDefault(False)
        self.about.clicked.connect(self.ask_facts)
        self.mend = button("Add what it lacks…", "chip", "The inputs that this test needs and the rig has not")
        self.mend.setAutoDefault(False)
        self.mend.clicked.connect(self.ask_inputs)
        rig = self.fields.boxes["rig"]
        assert isinstance(rig, QComboBox)
        rig.currentIndexChanged.connect(lambda _i: self._lacks())
        self.browse = button("Choose the record…")
        self.browse.setAutoDefault(False)
        self.browse.clicked.connect(self._browse)
        acts = QHBoxLayout()
        acts.addStretch()
        for act in (self.browse, self.mend, self.about):
            acts.addWidget(act)
        self.column.insertLayout(4, acts)
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
        self._lacks()
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
        self._lacks()
        self.wrong.hide()

    def _lacks(self) -> None:
        """What the chosen rig lacks can be added here."""
        box = self.fields.boxes["rig"]
        at = box.currentIndex() if isinstance(box, QComboBox) else -1
        short = 0 <= at < len(self.order) and self.order[at][2] is not None and self.pattern is None
        self.mend.setVisible(short)

    def ask_inputs(self) -> None:
        """The inputs that the chosen rig lacks, with their sensors."""
        box = self.fields.boxes["rig"]
        assert isinstance(box, QComboBox)
        place, name = self.order[box.currentIndex()][0], self.name
        ledger = self.lab.ledger()
        try:
            entries = list(ledger.entries())
        finally:
            ledger.close()
        sheet = MissingSheet(self, place, *lacking(name, load_rig(place)), entries)

        def added() -> None:
            self.rigs = rigs_of(self.lab)
            self.choose(name)
            at = next((i for i, (p, _, _) in enumerate(self.order) if p == place), 0)
            box.setCurrentIndex(at)

        sheet.then(added)

    def ask_facts(self) -> None:
        """What is known of the article that is typed."""
        name = self.fields.values()["article"].strip()
        if not name:
            self.wrong.setText("Article: say what is tested first.")
            self.wrong.show()
            return
        try:
            folder = self.known.get(name) or folder_of(self.lab, name)
            held = self.facts.get(name) or facts_in(folder) or Article(name=name)
        except BadInput as problem:
            self.wrong.setText(str(problem))
            self.wrong.show()
            return
        sheet = ArticleSheet(self, held)

        def taken() -> None:
            self.facts[name], self.photos[name] = sheet.article, sheet.photo
            self.about.setText(sheet.article.words or "About the article…")

        sheet.then(taken)

    def _begin(self, held: Mapping[str, str]) -> None:
        name = held["article"].strip()
        facts, photo = self.facts.get(name), self.photos.get(name)
        if facts is None and name in self.known:
            facts = facts_in(self.known[name])  # of another job perhaps; what can't be read is said before it begins
        self._begin_plan(held)
        folder = self.begun.parent.parent
        if facts is not None and (name in self.facts or self.known[name] != folder):
            keep_facts(folder, facts)
        if photo is not None:
            keep_in(photos_at(folder), photo)

    def _begin_plan(self, held: Mapping[str, str]) -> None:
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


def completer(names: Iterable[str], parent: QWidget) -> QCompleter:
    """Offers names by any part of them."""
    made = QCompleter(list(names), parent)
    made.setCaseSensitivity(Qt.CaseSensitivity.CaseInsensitive)
    made.setFilterMode(Qt.MatchFlag.MatchContains)
    return made


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
