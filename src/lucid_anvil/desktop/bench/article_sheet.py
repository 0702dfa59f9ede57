"""An article's facts, typed once: maker, model, serial number, published figures, a photo."""

from __future__ import annotations

from collections.abc import Mapping
from pathlib import Path

from PyQt6.QtCore import Qt
from PyQt6.QtWidgets import QFileDialog, QWidget

from ...core.errors import BadInput
from ...lab.articles import Article, figures_as_text, figures_typed
from ...lab.photos import KINDS
from ..parts.forms import Field, Sheet
from ..parts.widgets import button


class ArticleSheet(Sheet):
    """What was typed is `article`; `photo` is one that was chosen."""

    def __init__(self, parent: QWidget, held: Article) -> None:
        self.article = held
        self.photo: Path | None = None
        self.pick = button("A photo…")
        self.pick.setAutoDefault(False)
        self.pick.clicked.connect(self._pick)
        super().__init__(
            parent, held.name, "They stand on its papers; published figures can be what limits count from.",
            [Field("maker", "Maker", held.maker), Field("model", "Model", held.model),
             Field("serial", "Serial number", held.serial),
             Field("figures", "Published figures", figures_as_text(held.figures), "rated power: 40 W", long=True),
             Field("note", "Note", held.note)],
            "Keep it", self._take, [self.pick],
        )  # fmt: skip
        self.column.setAlignment(self.pick, Qt.AlignmentFlag.AlignRight)

    def _pick(self) -> None:
        kinds = f"Photos ({' '.join(f'*{k}' for k in KINDS)})"
        chosen, _ = QFileDialog.getOpenFileName(self, "A photo of it", "", kinds)
        if chosen:
            self.choose(Path(chosen))

    def choose(self, photo: Path) -> None:
        """A photo to be kept with it."""
        self.photo = photo
        self.pick.setText(photo.name)

    def _take(self, held: Mapping[str, str]) -> None:
        if self.photo is not None and self.photo.suffix.lower() not in KINDS:
            raise BadInput(f"{self.photo.name}: a photo is a jpg or png file.")
        self.article = self.article.model_copy(update={
            "maker": held["maker"].strip(), "model": held["model"].strip(), "serial": held["serial"].strip(),
            "note": held["note"].strip(), "figures": figures_typed(held["figures"]),
        })  # fmt: skip
