"""What can be made of a plan or a take by its menu in the docket: another unit, a copy, a pattern, a paper, a word."""

from __future__ import annotations

from collections.abc import Callable
from pathlib import Path
from typing import TYPE_CHECKING

from PyQt6.QtCore import QPoint

from ...core.errors import BadInput
from ...lab import patterns
from ...lab.articles import Article, facts_in, keep_facts
from ...lab.papers import name_of
from ...lab.photos import article_of, keep_in, photos_at
from ...lab.plans import load_plan
from ...lab.takes import Take, list_takes
from ..parts.asking import ask_line
from ..parts.course_menu import stretch_menu as popped
from ..parts.forms import Field, Sheet
from ..parts.photo import photo_acts
from .article_sheet import ArticleSheet
from .line_face import ask_shift

if TYPE_CHECKING:
    from .place import BenchPlace


class PlanMenus:
    """Both menus, and what they do."""

    def __init__(self, bench: BenchPlace) -> None:
        self.bench = bench

    def plan(self, place: Path, where: QPoint) -> None:
        """What can be made of a plan."""
        folder = article_of(self.bench.lab, place.parent)
        self.menu = popped(self.bench, where, [
            ("Open", lambda: self.bench.open_plan(place)),
            ("The same for the next unit…", lambda: self.next_unit(place)),
            ("One part after the other…", lambda: self.open_line(place)),
            ("Duplicate", lambda: self._made(lambda: patterns.duplicate(place))),
            ("Keep as a pattern…", lambda: self.keep_pattern(place)),
            ("A paper of its takes", lambda: self.paper_of(place)),
            *([] if folder is None else [("Its article…", lambda: self.article(folder, place))]),
            *photo_acts(self.bench, folder, "article"),
        ])  # fmt: skip

    def article(self, folder: Path, place: Path) -> None:
        """The facts of the article that a plan is of."""
        try:
            held = facts_in(folder) or Article(name=str(load_plan(place).article or folder.name))
        except BadInput as problem:
            self.bench.said.emit(str(problem))
            return
        sheet = ArticleSheet(self.bench, held)

        def taken() -> None:
            keep_facts(folder, sheet.article)
            if sheet.photo is not None:
                keep_in(photos_at(folder), sheet.photo)

        sheet.then(taken)

    def take(self, folder: Path, where: QPoint) -> None:
        """What can be made of a take."""
        self.menu = popped(self.bench, where, [
            ("Open", lambda: self.bench.open_take(folder)),
            ("Name and remark…", lambda: self.remark(Take(folder))),
            ("A plan from this take", lambda: self._made(lambda: patterns.from_take(Take(folder)))),
            *photo_acts(self.bench, folder, "take"),
        ])  # fmt: skip

    def remark(self, take: Take) -> None:
        """What a person says of a take."""
        held = take.remark() or {}
        sheet = Sheet(
            self.bench, f"Name and remark of {take.name}", "",
            [Field("name", "Name", held.get("name", ""), "such as after the new cable"),
             Field("text", "Remark", held.get("text", ""), long=True),
             Field("by", "By", self.bench.lab.facts.operator)],
            "Keep it", lambda typed: take.say(typed["name"], typed["text"], typed["by"]),
        )  # fmt: skip
        sheet.then(lambda: self.bench.docket.show_plan(self.bench.plan_file, self.bench.take, self.bench.busy))

    def _made(self, make: Callable[[], Path]) -> None:
        """Make a plan and open it, or say why it can't be."""
        try:
            place = make()
        except BadInput as problem:
            self.bench.said.emit(str(problem))
            return
        self.bench.docket.show_plan(self.bench.plan_file, self.bench.take, False)
        self.bench.open_plan(place)

    def next_unit(self, place: Path) -> None:
        """The plan for another unit, its serial typed or scanned: Enter begins it."""
        ask_line(
            self.bench, "Which unit? Type or scan its serial.", "Begin",
            lambda text: self._made(lambda: patterns.for_unit(self.bench.lab, place, text)),
        )  # fmt: skip

    def open_line(self, place: Path) -> None:
        """The face for a line: the plan for one unit after the other."""
        if self.bench.busy:
            self.bench.said.emit("A run is going on: stop it, or wait for its end.")
            return
        ask_shift(self.bench, place)

    def keep_pattern(self, place: Path) -> None:
        """The plan as a pattern of the lab."""

        def keep(name: str) -> None:
            try:
                patterns.keep_pattern(self.bench.lab, place, name)
            except BadInput as problem:
                self.bench.said.emit(str(problem))
                return
            self.bench.said.emit(f"Kept as the pattern '{name}': New test (Ctrl+T) offers it.")

        ask_line(self.bench, "Name of the pattern", "Keep", keep, place.parent.name.replace("-", " ").capitalize())

    def paper_of(self, place: Path) -> None:
        """One paper of all takes of a plan that were read, its steps' too, oldest first."""
        from ...folio.handing import begin_paper

        held = [t for t in list_takes(place.parent) if t.counted() is not None]
        if not held:
            self.bench.said.emit("No take of this plan was read yet: there is nothing to report.")
            return
        title = str(load_plan(place).title)
        bench = self.bench
        bench.aside.run("report", lambda: begin_paper(bench.lab, held, title), lambda p: bench.paper.emit(name_of(p)))
