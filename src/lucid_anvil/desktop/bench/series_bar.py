"""The steps of a series above the Stage: where one is, what comes next, what moved; and the sheet that joins plans."""

from __future__ import annotations

from collections.abc import Mapping
from pathlib import Path

from PyQt6.QtCore import pyqtSignal
from PyQt6.QtWidgets import QHBoxLayout, QWidget

from ...contracts.finding import Finding, Reading
from ...core.errors import BadInput
from ...lab.docketing import article_of, plan_name
from ...lab.patterns import free_folder, slug
from ...lab.place import Lab
from ...lab.plans import load_plan
from ...lab.series import Series, SeriesStep, joined_plan, keep_finding
from ..parts.forms import Field, Sheet
from ..parts.widgets import Elided, Verdict, button, card, clear, label, three

MOST, NONE = 6, "none"
CONDITIONS = {"when it is done": "done", "only when it is inside": "inside", "in any case": "always"}


def moved_text(found: Finding) -> str:
    """What moved, the reading that moved most against its uncertainty or its limits first."""
    rows = [r for r in found.readings if r.key.startswith("moved_") and r.value is not None]

    def weight(r: Reading) -> tuple[bool, float]:
        size = abs(r.value or 0.0)
        return r.verdict in ("outside", "open"), size / (r.uncertainty or size or 1.0)

    rows.sort(key=weight, reverse=True)
    told = []
    for r in rows[:3]:
        sign = "+" if (r.value or 0) > 0 else ""
        doubt = f" ± {three(r.uncertainty)}" if r.uncertainty else ""
        told.append(f"{r.label.removesuffix(', last less first')} {sign}{three(r.value or 0.0)}{doubt} {r.unit}")
    return "Moved: " + "; ".join(told) if told else "Nothing to compare: no two steps of one kind were read."


class SeriesBar(QWidget):
    """One row; hidden where a plan is of its own."""

    chosen = pyqtSignal(object)
    """the plan of a step"""

    def __init__(self) -> None:
        super().__init__()
        outer = QHBoxLayout(self)
        outer.setContentsMargins(0, 0, 0, 0)
        frame, column = card((12, 5, 8, 5), 0)
        outer.addWidget(frame)
        row = QHBoxLayout()
        row.setSpacing(6)
        column.addLayout(row)
        self.title = label("", "small")
        row.addWidget(self.title)
        self.row = QHBoxLayout()
        self.row.setSpacing(6)
        row.addLayout(self.row)
        self.told = Elided("", "muted")
        row.addWidget(self.told, 1)
        self.next = button("Next step", "chip")
        self.next.clicked.connect(self._next)
        row.addWidget(self.next)
        self.step: SeriesStep | None = None
        self.found: Finding | None = None
        self.hide()

    def _next(self) -> None:
        if self.step is not None:
            self.chosen.emit(self.step.plan)

    def show_series(self, series: Series | None, plan: Path | None, busy: bool) -> None:
        """The series that a plan is a step of; None hides the row."""
        self.setVisible(series is not None)
        if series is None:
            return
        now = next((s for s in series.steps if s.plan == plan), None)
        self.title.setText(f"Step {now.number if now else '–'} of {len(series.steps)}")
        clear(self.row)
        for s in series.steps:
            verdict = s.finding.verdict if s.finding is not None else "none"
            self.row.addWidget(Verdict("outside" if s.status not in ("", "done") else verdict))
            one = button(f"{s.number} {s.label}", "chip", f"{s.status or 'not run yet'}")
            one.setCheckable(True)
            one.setChecked(s is now)
            one.setEnabled(not busy)
            one.clicked.connect(lambda _=False, s=s: self.chosen.emit(s.plan))
            self.row.addWidget(one)
        self.step = series.next
        why = series.held_back(self.step) if self.step is not None else ""
        self.next.setVisible(self.step is not None and self.step is not now)
        self.next.setEnabled(not busy and not why)
        self.found = None
        if self.step is None:
            self.found = keep_finding(series)
            self.told.setText(moved_text(self.found))
        else:
            self.told.setText(why or (f"Before it: {self.step.prompt}" if self.step.prompt else ""))


class JoinSheet(Sheet):
    """Plans that are there as steps of one. What was made is `plan`."""

    def __init__(self, parent: QWidget, lab: Lab) -> None:
        self.lab = lab
        self.plan: Path | None = None
        self.held: dict[str, Path] = {}
        for place in sorted(lab.jobs.rglob("*.plan.yaml")):
            if place.name == "step.plan.yaml" or len(load_plan(place).steps) > 1:
                continue
            self.held[f"{article_of(place.parent, lab.jobs)} · {plan_name(place)}"] = place
        names = [NONE, *self.held]
        fields = [
            Field("title", "Name"), Field("article", "Article", hint="the first step's where empty"),
            *(Field(f"step{i}", f"Step {i}", NONE, choices=names) for i in range(1, MOST + 1)),
            Field("go_on", "Goes on", choices=list(CONDITIONS)),
            Field("compare", "May move by", hint="a line a reading, such as dwell_1_frequency: 2 Hz", long=True),
        ]  # fmt: skip
        super().__init__(
            parent, "Steps after one another",
            "Each step keeps its own settings and guards, and gets a take of its own. At the end the first and the last"
            " step of one kind are compared.", fields, "Join them", self._join,
        )  # fmt: skip

    def _join(self, held: Mapping[str, str]) -> None:
        if not held["title"].strip():
            raise BadInput("Name: the plan needs one.")
        chosen = [self.held[held[f"step{i}"]] for i in range(1, MOST + 1) if held[f"step{i}"] != NONE]
        if len(chosen) < 2:
            raise BadInput("Choose two plans at least: one after the other.")
        article = held["article"].strip() or load_plan(chosen[0]).article
        base = self.lab.jobs / (self.lab.facts.job or "bench") / slug(article)
        folder = free_folder(base, slug(held["title"]))
        go_on = CONDITIONS[held["go_on"]]
        compare = {}
        for line in held["compare"].splitlines():
            key, colon, value = line.partition(":")
            if line.strip() and not (colon and value.strip()):
                raise BadInput(f"'{line.strip()}': write it as 'reading: value'.")
            if line.strip():
                compare[key.strip()] = {"low": f"-{value.strip()}", "high": value.strip()}
        place = folder / f"{folder.name}.plan.yaml"
        self.plan = joined_plan(held["title"].strip(), article, [(p, go_on) for p in chosen], place, compare)
