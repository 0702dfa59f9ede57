"""One paper: its cards in the middle, the page in hand at the right, handed over and revised."""

from __future__ import annotations

from collections.abc import Callable
from pathlib import Path
from typing import Any

from PyQt6.QtCore import QBuffer, QByteArray, QPointF, QSize, Qt, QTimer, pyqtSignal
from PyQt6.QtGui import QImage, QKeySequence, QPalette, QShortcut
from PyQt6.QtPdf import QPdfDocument
from PyQt6.QtPdfWidgets import QPdfView
from PyQt6.QtWidgets import QComboBox, QHBoxLayout, QWidget

from ...core.errors import BadInput
from ...folio.handing import before_handing, hand_over, may_sign, revise, troubles
from ...folio.papers import Made, compose, page_size
from ...folio.words import languages
from ...lab.papers import KINDS, SIZES, Card, Paper, in_lab, load_paper, save_paper
from ...lab.place import Lab
from ..parts import theme
from ..parts.background import Background
from ..parts.forms import Field, Sheet
from ..parts.page_cards import WIDE, PageCards, Shown
from ..parts.widgets import Elided, Tabs, button, card, label, scrolled
from .paper_sheets import AddCard, card_sheet

LOOK = 700
"""ms between two looks at what an editor did to the paper, or to the lab's templates"""
UNDO = 100


class PaperView(QWidget):
    """Cards and page. `changed`: its name, number or state is another; `said`: a sentence for the foot."""

    changed = pyqtSignal()
    said = pyqtSignal(str)

    def __init__(self, lab: Lab) -> None:
        super().__init__()
        self.lab = lab
        self.place: Path | None = None
        self.paper: Paper | None = None
        self.made: Made | None = None
        self.before: list[Paper] = []
        self.stamps: tuple[Any, ...] = ()
        self.bytes: QBuffer | None = None
        self.thumbs: dict[int, QImage] = {}
        """Pages as cards show them, while they are the same"""
        self.document = QPdfDocument(self)
        self.aside = Background(self)
        self.aside.failed.connect(self._failed)
        row = QHBoxLayout(self)
        row.setContentsMargins(0, 0, 0, 0)
        row.setSpacing(10)
        row.addWidget(self._cards_part(), 11)
        row.addWidget(self._page_part(), 10)
        self.timer = QTimer(self)
        self.timer.timeout.connect(self.look)
        self.soon = QTimer(self)
        self.soon.setSingleShot(True)
        self.soon.timeout.connect(self._compose)
        QShortcut(QKeySequence.StandardKey.Undo, self, self.undo, context=Qt.ShortcutContext.WidgetWithChildrenShortcut)

    def _cards_part(self) -> QWidget:
        frame, column = card((14, 10, 8, 8), 8)
        top = QHBoxLayout()
        self.name = Elided("", "title")
        top.addWidget(self.name, 1)
        self.format = Tabs([(s, s) for s in SIZES], "chip")
        self.format.chosen.connect(lambda s: self.change(lambda p: p.model_copy(update={"size": s})))
        top.addWidget(self.format)
        self.turned = button("Landscape", "chip")
        self.turned.setCheckable(True)
        self.turned.clicked.connect(lambda on: self.change(lambda p: p.model_copy(update={"turned": on})))
        top.addWidget(self.turned)
        self.language = QComboBox()
        self.language.setAccessibleName("language of the paper")
        self.language.addItems(languages(self.lab))
        self.language.textActivated.connect(
            lambda w: self.change(lambda p: p.model_copy(update={"language": w}))
        )  # fmt: skip
        top.addWidget(self.language)
        column.addLayout(top)
        self.hint = label("", "muted")
        column.addWidget(self.hint)
        self.cards = PageCards()
        self.cards.chosen.connect(self._show_page)
        self.cards.opened.connect(self.edit)
        self.cards.left_out.connect(self.leave_out)
        self.cards.moved.connect(self.move_card)
        self.cards.add.connect(self.add)
        self.cards.taken_off.connect(self.take_off)
        column.addWidget(scrolled(self.cards), 1)
        return frame

    def _page_part(self) -> QWidget:
        frame, column = card((14, 10, 14, 8), 8)
        top = QHBoxLayout()
        self.which = label("", "title")
        top.addWidget(self.which)
        top.addStretch()
        self.save = button("Save a copy")
        self.revise = button("Revise…")
        self.revise.clicked.connect(self.ask_revise)
        self.hand = button("Hand over…", "main")
        self.hand.clicked.connect(self.ask_hand)
        for one in (self.save, self.revise, self.hand):
            top.addWidget(one)
        column.addLayout(top)
        self.view = QPdfView(self)
        self.view.setDocument(self.document)
        self.view.setPageMode(QPdfView.PageMode.SinglePage)
        self.view.setZoomMode(QPdfView.ZoomMode.FitInView)
        # A page that fits needs no bars; one that came would change what fits, and so on without end.
        self.view.setHorizontalScrollBarPolicy(Qt.ScrollBarPolicy.ScrollBarAlwaysOff)
        self.view.setVerticalScrollBarPolicy(Qt.ScrollBarPolicy.ScrollBarAlwaysOff)
        colours = self.view.palette()
        colours.setColor(QPalette.ColorRole.Dark, theme.color("sand"))
        self.view.setPalette(colours)
        column.addWidget(self.view, 1)
        self.wrong = label("", "cut", wrap=True)
        self.wrong.hide()
        column.addWidget(self.wrong)
        self.foot = label("", "muted", wrap=True)
        column.addWidget(self.foot)
        return frame

    # --- the file ---------------------------------------------------------------------------------------------

    def show_paper(self, place: Path) -> None:
        """Open a paper's file. Raises BadInput."""
        paper = load_paper(place)
        self.place, self.paper, self.made = place, paper, None
        self.before.clear()
        self.cards.at = 0
        self.stamps = self._stamps()
        self.document.close()
        self.thumbs.clear()
        self._told()
        self._compose()
        self.timer.start(LOOK)

    def leave(self) -> None:
        """No paper is shown any more."""
        self.timer.stop()
        self.place = self.paper = None

    def _stamps(self) -> tuple[Any, ...]:
        files = [self.place] if self.place is not None else []
        own = self.lab.folder / "templates"
        files += sorted(own.iterdir()) if own.is_dir() else []
        made = []
        for place in files:
            try:
                held = place.stat()
                made.append((place.name, held.st_mtime_ns, held.st_size))
            except OSError:
                made.append((place.name, 0, 0))
        return tuple(made)

    def look(self) -> None:
        """Take up what an editor wrote: into the paper, or into the lab's template and style."""
        if self.place is None or self.paper is None or self.stamps == (now := self._stamps()):
            return
        self.stamps = now
        try:
            self.paper = load_paper(self.place)
        except BadInput as problem:
            self._failed(str(problem))
            return
        self._told()
        self._compose()

    def change(self, change: Callable[[Paper], Paper]) -> None:
        """Change the paper, keep it, and make its pages anew; Ctrl+Z takes it back."""
        if self.place is None or self.paper is None:
            return
        if not self.paper.open:
            self.said.emit("It was handed over: Revise opens it again, with a reason.")
            self._told()
            return
        try:
            made = change(self.paper)
            save_paper(self.place, made)
        except BadInput as problem:
            self._failed(str(problem))
            return
        self.before = [*self.before[-UNDO:], self.paper]
        self._kept(made)

    def undo(self) -> None:
        """Take the last change back."""
        if self.before and self.place is not None and self.paper is not None and self.paper.open:
            made = self.before.pop()
            save_paper(self.place, made)
            self._kept(made)

    def _kept(self, paper: Paper) -> None:
        self.paper, self.stamps = paper, self._stamps()
        self._told()
        self.soon.start(150)

    # --- cards ------------------------------------------------------------------------------------------------

    def _card(self, i: int, **changes: Any) -> None:
        def change(paper: Paper) -> Paper:
            cards = list(paper.cards)
            cards[i] = Card.model_validate({**cards[i].model_dump(), **changes})
            return paper.model_copy(update={"cards": cards})

        self.change(change)

    def leave_out(self, i: int) -> None:
        """Leave a card out of the paper, or put it back."""
        if self.paper is not None:
            self._card(i, out=not self.paper.cards[i].out)

    def move_card(self, i: int, before: int) -> None:
        """Put a card before another."""

        def change(paper: Paper) -> Paper:
            cards = list(paper.cards)
            held = cards.pop(i)
            cards.insert(before - (before > i), held)
            return paper.model_copy(update={"cards": cards})

        self.cards.at = before - (before > i)
        self.change(change)

    def take_off(self, i: int) -> None:
        """Take a card off: one that was added goes, what a take brought is left out."""
        if self.paper is None or i >= len(self.paper.cards):
            return
        if self.paper.cards[i].kind not in ("photo", "attached", "text"):
            self._card(i, out=True)
            return
        self.change(lambda p: p.model_copy(update={"cards": [c for k, c in enumerate(p.cards) if k != i]}))

    def edit(self, i: int) -> None:
        """What a card says and shows."""
        if self.paper is not None and self.paper.open:
            card_sheet(self, self.paper.cards[i], i == 0, lambda changes: self._card(i, **changes)).open()

    def add(self) -> None:
        """A photo, a PDF, a text, or the cards of another take."""
        if self.paper is None or not self.paper.open:
            return
        sheet = AddCard(self, self.lab, self.paper)

        def made() -> None:
            at = self.cards.at + 1

            def change(paper: Paper) -> Paper:
                cards = [*paper.cards[:at], *sheet.cards, *paper.cards[at:]]
                return paper.model_copy(update={"cards": cards, "takes": [*paper.takes, *sheet.takes]})

            self.cards.at = at
            self.change(change)

        sheet.then(made)

    # --- pages ------------------------------------------------------------------------------------------------

    def _compose(self) -> None:
        if self.paper is None:
            return
        paper, lab = self.paper, self.lab
        if paper.open:
            self.which.setText("The pages are being made")
            self.aside.run("pages", lambda: compose(lab, paper), self._made)
            return
        file = in_lab(lab, paper.issues[-1].file)

        def read() -> Made:
            # What was handed over is shown as it lies there; which page a card is on is worked out anew.
            try:
                first = compose(lab, *before_handing(paper)).first
            except BadInput:
                first = {}
            try:
                content = file.read_bytes()
            except OSError as problem:
                raise BadInput(f"{file}: it can't be read ({problem.strerror}).") from None
            return Made(content, 0, first, {})

        self.aside.run("pages", read, self._made)

    def _made(self, made: Made) -> None:
        if self.paper is None:
            return
        self.made = made
        held = QBuffer(self)
        held.setData(QByteArray(made.pdf))
        held.open(QBuffer.OpenModeFlag.ReadOnly)
        self.document.load(held)
        if self.bytes is not None:
            self.bytes.deleteLater()
        self.bytes = held
        self.thumbs.clear()
        self.wrong.hide()
        self._told()
        self._show_page(self.cards.at)

    def _failed(self, why: str) -> None:
        self.wrong.setText(why)
        self.wrong.show()
        self.which.setText("")

    def _thumb(self, i: int) -> QImage:
        if self.made is None or i not in self.made.first:
            return QImage()
        page = self.made.first[i]
        if page not in self.thumbs:
            self.thumbs[page] = self.document.render(page, QSize(2 * WIDE, round(2 * WIDE * self._aspect())))
        return self.thumbs[page]

    def _aspect(self) -> float:
        if self.paper is None:
            return 1.414
        width, height = page_size(self.paper)
        return height / width

    def _told(self) -> None:
        """Names, cards and the state of the paper."""
        paper = self.paper
        if paper is None:
            return
        several = len(paper.takes) > 1
        shown = [Shown(c.title or KINDS[c.kind], below(c, several), c.out, self._thumb(i))
                 for i, c in enumerate(paper.cards)]  # fmt: skip
        self.cards.show_cards(shown, self._aspect(), not paper.open)
        pages = self.document.pageCount()
        self.name.setText(paper.title)
        count = f"{pages} pages · " if pages > 1 else ""
        how = "drag to order, corner leaves out, Enter changes" if paper.open else "handed over: its cards stay"
        self.hint.setText(f"{count}{how}")
        self.format.choose(paper.size, quiet=True)
        self.turned.setChecked(paper.turned)
        self.language.setCurrentText(paper.language)
        for part in (self.format, self.turned, self.language):
            part.setEnabled(paper.open)
        self.hand.setVisible(paper.open)
        self.revise.setVisible(not paper.open)
        self.save.setVisible(not paper.open)
        wrong = troubles(self.lab, paper)
        self.foot.setText(state_words(paper, may_sign(self.lab), wrong))
        self.foot.setObjectName("cut" if wrong else "muted")
        self.foot.style().polish(self.foot)

    def _show_page(self, i: int) -> None:
        if self.made is None or self.paper is None:
            return
        page = self.made.first.get(i)
        pages = self.document.pageCount()
        if page is None:
            self.which.setText("Left out" if i < len(self.paper.cards) and self.paper.cards[i].out else "")
            return
        self.which.setText(f"Page {page + 1} of {pages}")
        self.view.pageNavigator().jump(page, QPointF())

    # --- handing over -----------------------------------------------------------------------------------------

    def ask_hand(self) -> None:
        """Sign it and hand it over."""
        if self.place is None or self.paper is None:
            return
        place, lab, names = self.place, self.lab, may_sign(self.lab)
        wrong = troubles(lab, self.paper)
        text = "It gets its number, and its PDF is kept beside it and never written over."
        if wrong:
            text += f" Look at this first: {'; '.join(wrong)}."
        field = Field("by", "Signed by", names[0] if names else "", choices=names if len(names) > 1 else ())

        def take(values: Any) -> None:
            issue = hand_over(lab, place, values["by"])
            self.said.emit(f"Handed over as {issue.number}{f' rev {issue.revision}' if issue.revision else ''}.")

        Sheet(self, "Hand it over", text, [field], "Hand over", take).then(self._again)

    def ask_revise(self) -> None:
        """Open it again, with a reason."""
        if self.place is None or self.paper is None:
            return
        place = self.place
        text = f"{self.paper.number} stays as it is. The new one names it, with your reason."
        Sheet(self, "Revise it", text, [Field("why", "Reason", hint="what was wrong or is new")], "Revise",
              lambda v: revise(place, v["why"]) and None).then(self._again)  # fmt: skip

    def _again(self) -> None:
        if self.place is not None:
            at = self.cards.at
            self.show_paper(self.place)
            self.cards.at = at
            self.changed.emit()


def state_words(paper: Paper, names: list[str], wrong: list[str]) -> str:
    """How a paper stands: draft or handed over, who may sign, and what is to be looked at first."""
    made = ["Draft."]
    if paper.issues:
        last = paper.issues[-1]
        made = [f"Handed over {last.date.isoformat()} as {paper.number}, signed by {last.by.rstrip('.')}."]
    if paper.revising:
        made.append(f"Revised because: {paper.revising.rstrip('.')}.")
    if paper.open:
        may = " or ".join(names).rstrip(".") or "anybody, as lab.yaml names nobody"
        made.append(f"May sign: {may}.")
    if wrong:
        made.append(f"Look at this first: {'; '.join(wrong)}.")
    return " ".join(made)


def below(card: Card, several: bool) -> str:
    """What stands below a card's name."""
    if card.kind in ("attached", "photo"):
        return Path(card.file).name
    if card.marks:
        return f"{len(card.marks)} notes" if len(card.marks) > 1 else "1 note"
    if several and card.take:
        return "/".join(Path(card.take).parts[-2:])
    if card.joined and not card.out:
        return "on the page before"
    return {"cover": "whose, of what, verdict", "readings": "value, limit, verdict", "sheet": "value, limit, verdict",
            "conditions": "when, where, notes", "sensors": "with certificates", "raw": "the record in rows",
            "budget": "what the doubt is made of", "summary": "a line each",
            "series": "beside each other, mean, spread"}.get(card.kind, "")  # fmt: skip
