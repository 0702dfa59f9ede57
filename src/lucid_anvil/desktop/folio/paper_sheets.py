"""What is asked about a paper's cards: what one says and shows, and what is added."""

from __future__ import annotations

from collections.abc import Callable, Mapping
from pathlib import Path
from typing import Any

from PyQt6.QtCore import Qt
from PyQt6.QtWidgets import QFileDialog, QHBoxLayout, QLineEdit, QListWidget, QListWidgetItem, QWidget

from ...core.errors import BadInput
from ...core.quantities import parse
from ...folio.cards import first_cards, photo, report_of
from ...folio.papers import attached_pages
from ...lab.papers import KINDS, Card, Paper, from_lab, keep_beside
from ...lab.photos import KINDS as PHOTOS
from ...lab.place import Lab
from ...lab.takes import Take, list_takes
from ..parts.forms import Field, Sheet
from ..parts.widgets import button

WAYS = ("a photo", "a PDF", "a text", "another take")


def ends(text: str, name: str) -> list[float] | None:
    """Two ends of an axis from 'low to high'; None from nothing. Raises BadInput."""
    if not text.strip():
        return None
    parts = text.replace("…", " to ").replace(";", " to ").split(" to ")
    try:
        low, high = (float(p.strip().replace("−", "-")) for p in parts)
    except ValueError:
        raise BadInput(f"{name}: two numbers are wanted, such as '0 to 5', not '{text}'.") from None
    if not low < high:
        raise BadInput(f"{name}: the first must be less than the second, not '{text}'.")
    return [low, high]


def marks_of(text: str) -> list[dict[str, Any]]:
    """Numbered notes from lines 'place: text'. Raises BadInput."""
    made = []
    for line in text.splitlines():
        if not line.strip():
            continue
        at, colon, said = line.partition(":")
        try:
            made.append({"at": float(at.strip().replace("−", "-")), "text": said.strip()})
        except ValueError:
            colon = ""
        if not colon or not said.strip():
            raise BadInput(f"'{line.strip()}': a note is wanted as its place on the axis, a colon, and what it says.")
    return made


def card_sheet(parent: QWidget, card: Card, first: bool, take: Callable[[dict[str, Any]], None]) -> Sheet:
    """A card's own words and what it shows; `take` gets what is changed."""
    fields = [Field("title", "Title", card.title, KINDS[card.kind])]
    if card.kind == "curves":
        shown = "" if card.x is None else f"{card.x[0]:g} to {card.x[1]:g}"
        high = "" if card.y is None else f"{card.y[0]:g} to {card.y[1]:g}"
        notes = "\n".join(f"{m.at:g}: {m.text}" for m in card.marks)
        fields += [Field("x", "Along, from to", shown, "all there is"), Field("y", "Up, from to", high, "all there is"),
                   Field("marks", "Numbered notes", notes, "12.5: valve 3 shut", long=True)]  # fmt: skip
    if card.kind == "raw":
        fields.append(Field("every", "A row every", f"{card.every:g} s" if card.every else "", "what fits a page"))
    if card.kind == "budget":
        held = f"{card.frequency:g} Hz" if card.frequency else ""
        fields.append(Field("frequency", "Opened at", held, "where the uncertainty is largest"))
    if card.kind != "attached":
        fields.append(Field("text", "Text", card.text, "said below it", long=True))
    if not first and card.kind not in ("cover", "attached"):
        fields.append(Field("joined", "Begins", "on the page before" if card.joined else "a page of its own",
                            choices=("a page of its own", "on the page before")))  # fmt: skip

    def done(values: Mapping[str, str]) -> None:
        made: dict[str, Any] = {"title": values["title"].strip()}
        if "text" in values:
            made["text"] = values["text"].strip()
        if "joined" in values:
            made["joined"] = values["joined"] == "on the page before"
        if "x" in values:
            made |= {"x": ends(values["x"], "Along"), "y": ends(values["y"], "Up"), "marks": marks_of(values["marks"])}
        for key, unit in (("every", "s"), ("frequency", "Hz")):
            if key in values:
                made[key] = parse(values[key], unit) if values[key].strip() else None
        take(made)

    return Sheet(parent, KINDS[card.kind], "", fields, "Change it", done)


class AddCard(Sheet):
    """A photo, a PDF, a text, or all the cards of another take."""

    def __init__(self, parent: QWidget, lab: Lab, paper: Paper) -> None:
        self.lab, self.paper = lab, paper
        self.cards: list[Card] = []
        self.takes: list[str] = []
        held = [t for t in reversed(list_takes(lab.jobs)) if t.counted() is not None]
        self.others = {from_lab(lab, t.folder): t for t in held if from_lab(lab, t.folder) not in paper.takes}
        fields = [
            Field("what", "What", WAYS[0], choices=WAYS if self.others else WAYS[:3]),
            Field("file", "File", "", "of the photo or PDF"),
            Field("take", "Take", "", choices=list(self.others) or ("none",)),
            Field("title", "Title", "", "what stands above it"),
            Field("text", "Text", "", "said on it", long=True),
        ]
        pick = button("Choose a file…")
        pick.clicked.connect(self._pick)
        row = QWidget()
        line = QHBoxLayout(row)
        line.setContentsMargins(0, 0, 0, 0)
        line.addStretch()
        line.addWidget(pick)
        super().__init__(parent, "Add to the paper", "It goes after the card in hand.", fields, "Add it", self._take,
                         (row,))  # fmt: skip
        self.picker = row
        self.fields.boxes["what"].currentTextChanged.connect(self._asked)  # type: ignore[union-attr]
        self._asked(WAYS[0])

    def _asked(self, what: str) -> None:
        file = what in WAYS[:2]
        self.picker.setVisible(file)
        self.fields.reveal("file", file)
        self.fields.reveal("take", what == WAYS[3])
        self.fields.reveal("title", what != WAYS[3])
        self.fields.reveal("text", what in (WAYS[0], WAYS[2]))

    def _pick(self) -> None:
        what = self.fields.values()["what"]
        kinds = f"Photos ({' '.join(f'*{k}' for k in PHOTOS)})" if what == WAYS[0] else "PDF (*.pdf)"
        place, _ = QFileDialog.getOpenFileName(self, "Choose a file", "", kinds)
        if place:
            self.fields.boxes["file"].setText(place)  # type: ignore[union-attr]

    def _take(self, values: Mapping[str, str]) -> None:
        what, title, text = values["what"], values["title"].strip(), values["text"].strip()
        if what == WAYS[2]:
            if not text:
                raise BadInput("Type the text first.")
            self.cards = [Card(kind="text", title=title, text=text)]
        elif what == WAYS[3]:
            held = values["take"]
            self.cards = first_cards(self.lab, report_of(self.others[held].folder))
            self.takes = [held]
        else:
            file = Path(values["file"].strip()).expanduser()
            if not values["file"].strip() or not file.is_file():
                raise BadInput(f"{file}: there is no such file." if values["file"].strip() else "Choose a file first.")
            if what == WAYS[0]:
                photo(file)
            else:
                attached_pages(file)
            kept = keep_beside(self.lab, file, "photos" if what == WAYS[0] else "attached")
            kind = "photo" if what == WAYS[0] else "attached"
            self.cards = [Card.model_validate({"kind": kind, "file": kept, "title": title or file.stem, "text": text})]


class NewPaper(Sheet):
    """Which takes a paper reports; the newest first, found by any of their words."""

    def __init__(self, parent: QWidget, lab: Lab) -> None:
        self.takes: list[Take] = []
        self.title = ""
        self.list = QListWidget()
        self.list.setAccessibleName("takes")
        self.list.setMinimumHeight(220)
        for take in reversed(list_takes(lab.jobs)):
            if take.counted() is None:
                continue
            item = QListWidgetItem(from_lab(lab, take.folder).removeprefix("jobs/").replace("/", " · "))
            item.setData(256, take)
            item.setCheckState(Qt.CheckState.Unchecked)
            self.list.addItem(item)
        find = QLineEdit()
        find.setPlaceholderText("find: job, article, plan")
        find.setAccessibleName("find a take")
        find.textChanged.connect(self._sift)
        text = "Tick what it reports, first the one that comes first." if self.list.count() else "No take was read yet."
        super().__init__(parent, "A new paper", text, [Field("title", "Title", "", "the plan's where empty")],
                         "Begin it", self._take, (find, self.list))  # fmt: skip
        self.order: list[int] = []
        self.list.itemChanged.connect(self._ticked)
        # A click on the name ticks as well: the box itself is small for a hand in a glove.
        self.list.itemClicked.connect(self._clicked)
        self.boxed: tuple[int, bool] | None = None

    def _sift(self, text: str) -> None:
        words = text.lower().split()
        for i in range(self.list.count()):
            item = self.list.item(i)
            item.setHidden(not all(w in item.text().lower() for w in words))

    def _ticked(self, item: QListWidgetItem) -> None:
        i = self.list.row(item)
        on = item.checkState() == Qt.CheckState.Checked
        self.boxed = (i, on)
        self.order = [k for k in self.order if k != i] + ([i] if on else [])

    def _clicked(self, item: QListWidgetItem) -> None:
        if self.boxed is not None and self.boxed[0] == self.list.row(item):
            self.boxed = None  # the box itself was hit
            return
        on = item.checkState() == Qt.CheckState.Checked
        item.setCheckState(Qt.CheckState.Unchecked if on else Qt.CheckState.Checked)
        self.boxed = None

    def _take(self, values: Mapping[str, str]) -> None:
        if not self.order:
            raise BadInput("Tick one take at least.")
        self.takes = [self.list.item(i).data(256) for i in self.order]
        self.title = values["title"].strip()
