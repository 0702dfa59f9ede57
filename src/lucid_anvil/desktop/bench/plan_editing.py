"""Editing the plan in hand: its settings in words, changes on the thing itself, and taking either back."""

from __future__ import annotations

import contextlib
from collections import deque
from collections.abc import Callable
from dataclasses import dataclass
from pathlib import Path
from typing import TYPE_CHECKING, Any

from PyQt6.QtCore import QPoint, QTimer
from PyQt6.QtWidgets import QApplication, QFileDialog, QLineEdit, QWidget

from ...contracts.explained import Setting
from ...core.errors import BadInput
from ...engine.preparing import Prepared, prepare
from ...lab.articles import facts_in
from ...lab.editing import NOTHING, put, put_rows, settings_in, typed
from ...lab.photos import KINDS, article_of, keep_in, photos_at
from ...lab.planning import change_step
from ...lab.textfiles import load_yaml, whole_write
from ...lab.unit_limits import Unit, units_of
from ...lab.walkrounds import as_text, from_text, with_photo
from ..parts.asking import ask_which
from ..parts.course_menu import stretch_menu
from ..parts.forms import Field, Sheet
from ..parts.limits_sheet import LimitsSheet
from ..parts.settings_view import SettingsView

if TYPE_CHECKING:
    from .place import BenchPlace


Texts = dict[Path, str]
"""A plan's files and what they hold"""
Stamps = tuple[tuple[str, int, int], ...]
AFTERWARDS = "The limits stand in the plan: they hold from the next take on. Read again judges this one by them."
LOOK = 1000
"""ms between two looks at the files"""


def texts_of(place: Path) -> Texts:
    """The plan and what stands beside it, as it is now."""
    made = {}
    for p in sorted(place.parent.glob("*.yaml")):
        with contextlib.suppress(OSError):
            made[p] = p.read_text(encoding="utf-8", errors="replace")
    return made


def stamps_of(place: Path) -> Stamps:
    """What tells without reading that a file was written."""
    made = []
    for p in sorted(place.parent.glob("*.yaml")):
        with contextlib.suppress(OSError):
            s = p.stat()
            made.append((p.name, s.st_mtime_ns, s.st_size))
    return tuple(made)


def changed_names(before: Texts, now: Texts) -> str:
    """Which files differ, in words."""
    names = [p.name for p in sorted({*before, *now}) if before.get(p) != now.get(p)]
    return " and ".join(names)


def typing(bench: QWidget) -> bool:
    """Whether a person is in the middle of something on this Bench: a dialog is open over it, or a field of it holds
    what is not yet taken."""
    over = QApplication.activeModalWidget()
    above = over.parentWidget() if over is not None else None
    if over is not None and over.isVisible() and (above is None or above.window() is bench.window()):
        return True
    field = QApplication.focusWidget()
    return isinstance(field, QLineEdit) and field.isModified() and bench.isAncestorOf(field)


@dataclass
class Asked:
    """A change of a plan's files that was asked for."""

    place: Path
    change: Callable[[], None]
    refused: Callable[[str], None] | None
    onto: list[Texts]
    """where what was there before is kept"""
    again: bool = False
    """A change that was taken back is made again: what else was taken back stays so"""


class PlanEditing:
    """Every change of the plan in hand goes through here, so that any can be taken back."""

    def __init__(self, bench: BenchPlace) -> None:
        self.bench = bench
        self.sheet = SettingsView()
        self.sheet.changed.connect(self.set)
        self.sheet.closed.connect(self.hide)
        self.sheet.tables = ("limits", "curve_limits")
        self.sheet.table.connect(lambda _s: self.edit_limits())
        self.before: list[Texts] = []
        """The plan's files as they were before each change, for Ctrl+Z"""
        self.after: list[Texts] = []
        self.asked: deque[Asked] = deque()
        """Changes that were asked for, the one under way first"""
        self.working = False
        self.known: Texts = {}
        """The files as this window last read or wrote them"""
        self.stamps: Stamps = ()
        self.timer = QTimer(bench)  # a window that is gone looks no more
        self.timer.timeout.connect(self.look)

    def forget(self) -> None:
        """Another plan: what was changed before is no change of it."""
        self.before.clear()
        self.after.clear()
        self.watch()

    @property
    def open(self) -> bool:
        """Whether the sheet stands where the thing itself does."""
        return self.bench.stages.currentWidget() is self.sheet

    def toggle(self) -> None:
        if self.bench.stages.currentWidget() is self.sheet:
            self.hide()
        elif self.bench.prepared is not None and self.bench.state in ("starting", "walk-round"):
            self.show()

    def show(self) -> None:
        """Every setting of the method in hand, as the plan's own file says it."""
        if self.bench.plan_file is None or self.bench.prepared is None:
            return
        method = self.bench.prepared.method
        held = settings_in(load_yaml(self.bench.plan_file))
        self.sheet.show_method(method, method.beside(held, self.bench.plan_file.parent))
        self.bench.stages.setCurrentWidget(self.sheet)

    def hide(self) -> None:
        """The thing itself again."""
        if self.bench.stages.currentWidget() is self.sheet and self.bench.side is not None:
            self.bench.stages.setCurrentWidget(self.bench.side.stage)

    def set(self, setting: Setting, text: str) -> None:
        """One setting was typed or chosen: into the plan's text, in its place; a value that can't be is said there."""
        place = self.bench.plan_file
        if place is None or self.bench.state not in ("starting", "walk-round"):
            return
        try:
            value = typed(text)
        except BadInput as problem:
            self.sheet.refuse(setting, str(problem))
            return
        self.change(place, lambda: put(place, setting.path, value), lambda why: self.sheet.refuse(setting, why))

    def edit_limits(self) -> None:
        """Limits of readings and of curves, for the takes to come; while something is driven they stay."""
        bench, place = self.bench, self.bench.plan_file
        if place is None or bench.prepared is None or bench.state not in ("starting", "walk-round", "done"):
            return
        method, lab = bench.prepared.method, bench.lab
        seen = bench.finding if bench.state == "done" and bench.finding is not None else bench.finding_before()
        held = settings_in(load_yaml(place))
        folder = article_of(lab, place.parent)

        def ask(units: list[Unit]) -> None:
            if bench.plan_file != place:
                return
            try:
                article = facts_in(folder) if folder is not None else None
            except BadInput as problem:
                bench.said.emit(str(problem))
                article = None
            first = [u for u in units if bench.take is not None and u.take.parent == bench.take.parent]
            ordered = [*first, *(u for u in units if u not in first)]
            sheet = LimitsSheet(bench, method, seen, held, lambda key: [
                u for u in ordered if not key or u.curve(key) is not None], article=article)  # fmt: skip
            sheet.then(lambda: self._put_limits(place, {"limits": sheet.limits, "curve_limits": sheet.curve_limits}))

        bench.aside.run("units", lambda: units_of(lab, method.name), ask)

    def _put_limits(self, place: Path, made: dict[str, Any]) -> None:
        def put_them() -> None:
            held = settings_in(load_yaml(place))
            for key, value in made.items():
                if value != (held.get(key) or {}):
                    put(place, [key], value or NOTHING)

        if self.bench.state == "done":
            self.bench.aside.run("limits", put_them, lambda _: self.bench.said.emit(AFTERWARDS))
        else:
            self.change(place, put_them)

    def edit_walk_round(self) -> None:
        """Its lines: added, reworded, in another order."""
        place = self.bench.plan_file
        if place is None or self.bench.state not in ("starting", "walk-round"):
            return
        before = load_yaml(place).get("walk_round") or []
        sheet = Sheet(
            self.bench, "Walk-round",
            "A line a check, in the order in which they are done. A new line is signed by a person; those that the"
            " program senses keep their mark.",
            [Field("lines", "Checks", as_text(before), long=True)], "Keep it",
            lambda held: self.change(place, lambda: put_rows(place, ["walk_round"], from_text(held["lines"], before))),
        )  # fmt: skip
        sheet.fields.boxes["lines"].setFixedHeight(280)
        sheet.open()

    def walk_round_photos(self) -> dict[str, Path]:
        """By check the photo of how it looks when it is right, where the file is there."""
        prepared, place = self.bench.prepared, self.bench.plan_file
        if prepared is None or place is None:
            return {}
        held = {c.key: place.parent / c.photo for c in prepared.plan.walk_round if c.photo}
        return {key: photo for key, photo in held.items() if photo.is_file()}

    def walk_round_menu(self, key: str, where: QPoint) -> None:
        """A photo for a check, or none."""
        place = self.bench.plan_file
        if place is None or self.bench.state not in ("starting", "walk-round"):
            return
        acts: list[tuple[str, Callable[[], object]]] = [("A photo of how it should look…", lambda: self._choose(key))]
        if key in self.walk_round_photos():
            acts.append(("Without its photo", lambda: self.put_photo(key, None)))
        self.menu = stretch_menu(self.bench, where, acts)

    def _choose(self, key: str) -> None:
        kinds = f"Photos ({' '.join(f'*{k}' for k in KINDS)})"
        chosen, _ = QFileDialog.getOpenFileName(self.bench, "A photo of how it should look", "", kinds)
        if chosen:
            self.put_photo(key, Path(chosen))

    def put_photo(self, key: str, photo: Path | None) -> None:
        """A photo beside a check of the walk-round: a copy is kept with the plan."""
        place = self.bench.plan_file
        if place is None:
            return

        def change() -> None:
            kept = None if photo is None else keep_in(photos_at(place.parent), photo)
            name = None if kept is None else kept.relative_to(place.parent).as_posix()
            before = load_yaml(place).get("walk_round") or []
            put_rows(place, ["walk_round"], with_photo(before, key, name))

        self.change(place, change)

    def undo(self) -> None:
        """Take the last change of the plan in hand back."""
        if not self.before or self.bench.plan_file is None or self.bench.state not in ("starting", "walk-round"):
            return
        files = self.before.pop()

        def back() -> None:
            for file, text in files.items():
                whole_write(file, text)

        self.change(self.bench.plan_file, back, None, self.after)

    def redo(self) -> None:
        """Make the change again that was taken back last."""
        if not self.after or self.bench.plan_file is None or self.bench.state not in ("starting", "walk-round"):
            return
        files = self.after.pop()

        def forth() -> None:
            for file, text in files.items():
                whole_write(file, text)

        self.change(self.bench.plan_file, forth, None, self.before, again=True)

    def change_step(self, place: Path, changes: dict[str, Any], refused: Callable[[str], None] | None = None) -> None:
        """Change a plan's step in its own files; a change that can't be is taken back and said."""
        self.change(place, lambda: change_step(place, changes), refused)

    def change(
        self, place: Path, change: Callable[[], None], refused: Callable[[str], None] | None = None,
        onto: list[Texts] | None = None, again: bool = False,
    ) -> None:  # fmt: skip
        """Make a change of a plan's files that can be undone, after those that were asked for before it. `onto`: where
        what was there before is kept. Files that somebody else changed meanwhile are asked about."""
        self.asked.append(Asked(place, change, refused, self.before if onto is None else onto, again))
        self._next()

    def _next(self) -> None:
        """One change after the other: each begins with what the one before it left."""
        if self.working or not self.asked:
            return
        assert self.bench.prepared
        asked = self.asked[0]
        self.working = True
        held = texts_of(asked.place)
        if self.known and held != self.known:
            ask_which(
                self.bench, "The plan was changed on disk as well",
                f"{changed_names(self.known, held)} is no longer what this window shows. Your change can go into it as"
                " it is now, or be left out.",
                ("Take up what is on disk", self._leave_out),
                ("Put my change into it", lambda: self._make(asked, held)), self._leave_out,
            )  # fmt: skip
        else:
            self._make(asked, held)

    def _make(self, asked: Asked, held: Texts) -> None:
        if not self.asked or self.asked[0] is not asked:
            return
        assert self.bench.prepared
        rig = self.bench.prepared.rig_file

        def work() -> Prepared | str:
            try:
                asked.change()
                return prepare(asked.place, rig)
            except Exception as problem:
                for file, text in held.items():
                    whole_write(file, text)
                if isinstance(problem, BadInput):
                    return str(problem)
                return f"The change can't be made: {type(problem).__name__}: {problem}"

        def then(made: Prepared | str) -> None:
            if not self.asked or self.asked[0] is not asked:
                return  # another plan is in hand by now: it shows that one
            self.working = False
            self.asked.popleft()
            self.known = texts_of(asked.place)
            if isinstance(made, str):
                self.bench.said.emit(made)
                if asked.refused is not None:
                    asked.refused(made)
            else:
                asked.onto.append(held)
                if asked.onto is self.before and not asked.again:
                    self.after.clear()
                self.bench.changed(made)
            self._next()

        self.bench.aside.run("edit", work, then)

    def _leave_out(self) -> None:
        """What was asked for is given up; what the files hold is shown."""
        self.asked.clear()
        self.working = False
        self._take_up()

    # --- changes from elsewhere ------------------------------------------------------------------------------

    def watch(self) -> None:
        """From now on: what the files of the plan in hand hold, and who changes them."""
        self.known = texts_of(self.bench.plan_file) if self.bench.plan_file is not None else {}
        self.asked.clear()
        self.working = False
        if not self.timer.isActive():
            self.timer.start(LOOK)

    def wrote(self) -> None:
        """What the files hold now is this window's doing."""
        if self.known and self.bench.plan_file is not None:
            self.known = texts_of(self.bench.plan_file)

    def look(self) -> None:
        """Take up what an editor or another window wrote. Not while a person types here: that is asked about."""
        place = self.bench.plan_file
        if place is None or self.working or self.bench.state not in ("starting", "walk-round") or typing(self.bench):
            return
        if self.bench.aside.open:
            return  # this window is writing itself
        if self.stamps != (now := stamps_of(place)):
            self.stamps = now
            if self.known and texts_of(place) != self.known:
                self._take_up()

    def _take_up(self) -> None:
        place = self.bench.plan_file
        if place is None or self.bench.prepared is None:
            return
        rig, before, held = self.bench.prepared.rig_file, self.known, texts_of(place)
        self.known, self.working = held, True

        def work() -> Prepared | str:
            try:
                return prepare(place, rig)
            except BadInput as problem:
                return str(problem)
            except Exception as problem:  # told, not lost: changes wait for this one
                return f"{type(problem).__name__}: {problem}"

        def then(made: Prepared | str) -> None:
            if self.bench.plan_file != place:
                return
            self.working = False
            names = changed_names(before, held)
            if isinstance(made, str):
                self.bench.said.emit(f"{names} was changed on disk and can't be run: {made}")
                self.bench.link.order("replan")  # Begin stays shut
            else:
                self.before.append(before)
                self.after.clear()
                self.bench.changed(made)
                self.bench.said.emit(f"{names} was changed on disk: taken up. Ctrl+Z takes it back.")
            self._next()

        self.bench.aside.run("edit", work, then)
