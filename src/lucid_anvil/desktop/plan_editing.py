"""Editing the plan in hand: its settings in words, changes on the thing itself, and taking either back."""

from __future__ import annotations

from collections.abc import Callable
from pathlib import Path
from typing import TYPE_CHECKING, Any

from ..contracts.explained import Setting
from ..core.errors import BadInput
from ..engine.preparing import Prepared, prepare
from ..lab.editing import NOTHING, put, put_rows, settings_in, typed
from ..lab.shaker_planning import change_step
from ..lab.textfiles import load_yaml, whole_write
from ..lab.walkrounds import as_text, from_text
from .forms import Field, Sheet
from .limits_sheet import LimitsSheet
from .settings_view import SettingsView

if TYPE_CHECKING:
    from .bench_place import BenchPlace


class PlanEditing:
    """Every change of the plan in hand goes through here, so that any can be taken back."""

    def __init__(self, bench: BenchPlace) -> None:
        self.bench = bench
        self.sheet = SettingsView()
        self.sheet.changed.connect(self.set)
        self.sheet.closed.connect(self.hide)
        self.sheet.tables = ("limits",)
        self.sheet.table.connect(lambda _s: self.edit_limits())
        self.before: list[dict[Path, str]] = []
        """The plan's files as they were before each change, for Ctrl+Z"""
        self.after: list[dict[Path, str]] = []

    def forget(self) -> None:
        """Another plan: what was changed before is no change of it."""
        self.before.clear()
        self.after.clear()

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
        """Limits of the readings, in a table."""
        place, prepared = self.bench.plan_file, self.bench.prepared
        if place is None or prepared is None or self.bench.state not in ("starting", "walk-round"):
            return
        held = settings_in(load_yaml(place)).get("limits") or {}
        sheet = LimitsSheet(self.bench, prepared.method, self.bench.finding_before(), held)
        setting = self.sheet.rows["limits"].setting

        def take() -> None:
            made = sheet.limits or NOTHING
            self.change(place, lambda: put(place, setting.path, made), lambda why: self.sheet.refuse(setting, why))

        sheet.then(take)

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

        self.change(self.bench.plan_file, forth, None, self.before)

    def change_step(self, place: Path, changes: dict[str, Any], refused: Callable[[str], None] | None = None) -> None:
        """Change a plan's step in its own files; a change that can't be is taken back and said."""
        self.change(place, lambda: change_step(place, changes), refused)

    def change(
        self, place: Path, change: Callable[[], None], refused: Callable[[str], None] | None = None,
        onto: list[dict[Path, str]] | None = None,
    ) -> None:  # fmt: skip
        """Make a change of a plan's files that can be undone. `onto`: where what was there before is kept."""
        assert self.bench.prepared
        rig = self.bench.prepared.rig_file
        held = {p: p.read_text(encoding="utf-8") for p in place.parent.glob("*.yaml")}

        def work() -> Prepared | str:
            try:
                change()
                return prepare(place, rig)
            except BadInput as problem:
                for file, text in held.items():
                    whole_write(file, text)
                return str(problem)

        def then(made: Prepared | str) -> None:
            if isinstance(made, str):
                self.bench.said.emit(made)
                if refused is not None:
                    refused(made)
                return
            (self.before if onto is None else onto).append(held)
            if onto is None:
                self.after.clear()
            self.bench.changed(made)

        self.bench.aside.run("change", work, then)
