"""The amplifier's side of the Bench: the sheet of many steps, and taking again what is invalid."""

from __future__ import annotations

import time
from pathlib import Path
from typing import TYPE_CHECKING, Any

from ....contracts.finding import Curve, Finding
from ....core.figures import figure
from ....desktop.bench.course_view import clock
from ....desktop.bench.run_result import RunResult
from ....desktop.bench.side import Side
from ....desktop.bench.stretch_view import StretchView
from ....desktop.parts.limits_sheet import LimitsSheet
from ....desktop.parts.panels import Row, reading_row
from ....desktop.parts.widgets import button
from ....engine.preparing import Prepared
from ....lab.editing import put_rows
from ....lab.photos import article_of
from ....lab.takes import Take, plan_beside
from ....lab.textfiles import load_yaml
from ....lab.unit_limits import Unit, put_limits, step_of, units_of
from ....protocol.messages import Board
from ..planning import retake_sheet
from ..sheet_settings import duration, tasks
from .card_view import CardView
from .sheet_stage import SheetStage
from .steps_sheet import StepsSheet

if TYPE_CHECKING:
    from ....desktop.bench.place import BenchPlace


MOST_SHOWN = 7
"""Readings of a sheet that are not inside, by name; what to do about them must stay in sight below"""


class SheetResult(RunResult):
    """How many readings are inside, outside, open; and what to take again."""

    nothing = "Nothing was read."

    def __init__(self) -> None:
        super().__init__()
        self.retake = button("Retake what is invalid", "main", "A new take of just these readings; both are kept")
        self.column.insertWidget(self.column.indexOf(self.rerun), self.retake)
        self.retake.hide()
        self.once = button("", tip="A new take of the reading that was clicked; both are kept")
        self.column.insertWidget(self.column.indexOf(self.rerun), self.once)
        self.once.hide()

    def offer_again(self, name: str) -> None:
        """One reading once more; none where `name` is empty."""
        self.once.setVisible(bool(name))
        self.once.setText(f"Again: {name}")

    def offer(self, keys: list[str]) -> None:
        """The readings that do not count."""
        self.retake.setVisible(bool(keys))
        self.retake.setText(f"Retake what is invalid ({len(keys)})")

    def show_figures(self, finding: Finding) -> None:
        judged = [r for r in finding.readings if r.verdict != "none"]
        inside = sum(1 for r in judged if r.verdict == "inside")
        self.big.setText(f"{inside} of {len(judged)} inside")
        worst = sorted((r for r in judged if r.verdict != "inside"), key=lambda r: r.verdict != "outside")
        rows: list[Row] = []
        shown: set[tuple[str, bool]] = set()
        said: set[str] = set()
        for r in worst:
            short = r.label.split(": ")[0]
            if (short, r.valid) in shown:
                continue
            shown.add((short, r.valid))
            _, _, used, doubt, verdict, _ = reading_row(r)
            value = "invalid" if not r.valid else "–" if r.value is None else figure(r.value, r.uncertainty, r.unit)
            # One cause spoils many: it is said once.
            cause = (r.reason or "").split(" at ")[0]
            word = "" if cause in said else r.reason or ""
            said.add(cause)
            rows.append((short, value, used if r.valid else None, doubt, verdict, word))
        more = len(rows) - MOST_SHOWN
        if more > 0:
            rows = [*rows[:MOST_SHOWN], (f"and {more} more", "", None, 0.0, "plain", "")]
        self.margins.show_rows(rows)
        # Which readings to take again is on the button and in the sheet; their keys are for scripts.
        told = [n for n in finding.notes if not n.startswith("Invalid, ")]
        self.notes.setText("\n".join(told[:4]))


class AmplifierBench(Side):
    """What the Bench shows and does when the plan in hand is an amplifier's."""

    name = "amplifier"

    def __init__(self, bench: BenchPlace) -> None:
        super().__init__(bench)
        self.stage = SheetStage()
        self.stretches = StretchView()
        self.result = SheetResult()
        self.result.again.connect(bench.again)
        self.result.carry_on.connect(bench.carry_on)
        self.result.retake.clicked.connect(self.retake)
        self.result.once.clicked.connect(self.take_again)
        self.stage.picked_one.connect(self._picked)
        self.stage.make.clicked.connect(self.make_limits)
        self.stage.card.clicked.connect(self.calibrate_card)
        self.view: LimitsSheet | None = None
        self.card: CardView | None = None
        self.done = button("Done  G", "main", "What was asked for is done by hand: go on")
        self.done.clicked.connect(self.go)
        self.buttons = (self.done,)
        self.edit = button("Steps…", tip="Add, copy, reorder, remove; each one's drive, loads, tones and limits")
        self.edit.clicked.connect(self.edit_steps)
        self.settings = (self.edit,)
        self.names: list[str] = []

    def edit_steps(self) -> None:
        """The steps of the sheet in hand."""
        bench, place = self.bench, self.bench.plan_file
        if place is None:
            return
        sheet = StepsSheet(bench, load_yaml(place).get("steps") or [])
        sheet.then(lambda: bench.editing.change(place, lambda: put_rows(place, ["steps"], sheet.steps)))

    @property
    def here(self) -> bool:
        """Whether an amplifier is in hand."""
        prepared = self.bench.prepared
        return prepared is not None and prepared.method.name == self.stage_method

    stage_method = "amplifier-sheet"

    def show_prepared(self, prepared: Prepared, editable: bool) -> None:
        self.stage.show_prepared(prepared, editable)
        self.stage.show_earlier(self.bench.finding_before())
        items = course_by_step(prepared)
        self.names = [i.label for i in items]
        self.stretches.show_course(items, False)
        whole = sum(i.duration for i in items)
        count = len(tasks(prepared.settings))
        self.bench.told.setText(f"{count} readings in {len(items)} steps, about {clock(whole)}")

    def show_running(self, board: Board) -> None:
        live, prepared = board.live, self.bench.prepared
        asking = live.get("stage") == "asking"
        self.done.setVisible(asking)
        if asking:
            self.bench.told.setText(f"{live['ask']}, then press Done. Nothing is driven.")
        self.bench.run.show_board(board, running_rows(board, self.stage.conditions.limit), live.get("step", ""))
        if prepared is None or not live.get("of"):
            return
        name = live.get("step", "")
        at = self.names.index(name) if name in self.names else None
        inside = [t for t in tasks(prepared.settings) if (t.step.label or t.step.name) == name]
        done = sum(1 for t in inside if t.key in live.get("cells", {}))
        share, warming = done / max(len(inside), 1), live.get("stage") == "warming"
        if warming and inside:
            share = 1 - live["left"] / inside[0].step.read
        self.stretches.show_progress(at, share)
        left = sum(duration(t) for t in tasks(prepared.settings)[int(live["done"]) :])
        ends = time.strftime("%H:%M", time.localtime(time.time() + left / max(board.speed, 0.1)))
        if asking:
            return
        if warming:
            self.bench.told.setText(f"{name}: {clock(live['left'])} left, then the readings · ends about {ends}")
            return
        self.bench.told.setText(
            f"{Path(board.take or '').name} · {live['done']} of {live['of']} readings · ends about {ends}"
        )

    def show_done(self, take: Take, status: str, reason: str | None) -> None:
        bench = self.bench
        bench.panels.setCurrentWidget(self.result)
        cut = reason or (status if status != "done" else None)
        events = take.events()
        if bench.prepared is not None:
            self.stage.show_prepared(bench.prepared, False)
        self.stage.show_events(events)
        self.stage.show_earlier(bench.finding_before())
        invalid: list[str] = []
        if bench.finding is not None:
            self.stage.show_finding(bench.finding)
            invalid = (bench.finding.detail or {}).get("sheet", {}).get("retake", [])
        self.result.show_finding(bench.finding, cut, take.position() is not None)
        self.result.offer(invalid)
        self.result.offer_again("")
        self.stretches.show_progress(None, 0.0, all_done=cut is None)
        bench.ended(take, "", reason)

    def go(self) -> None:
        """What was asked for is done."""
        if self.bench.state == "running" and self.here:
            self.bench.link.order("go")

    def edit_limits(self) -> None:
        """Those of the curve in hand; those of readings stand at their steps."""
        if self.bench.state == "done":
            self.make_limits()
        else:
            self.edit_steps()

    def make_limits(self) -> None:
        """A corridor for the curve in hand, from this unit or from several, dragged, typed or pasted."""
        bench, curve = self.bench, self.stage.curve_in_hand
        if bench.plan_file is None or bench.finding is None or bench.take is None or curve is None:
            return
        lab = bench.lab
        of = article_of(lab, bench.take.parent) or bench.take.parent
        here = Unit(of.name, bench.take, bench.finding)

        def units() -> list[Unit]:
            others = units_of(lab, here.finding.method)
            return [here, *(u for u in others if u.name != here.name)]

        bench.aside.run("units", units, lambda held: self._limits(held, curve))

    def _limits(self, units: list[Unit], curve: Curve) -> None:
        bench = self.bench
        if bench.take is None or bench.prepared is None:
            return
        place = plan_beside(bench.take)
        step = step_of(load_yaml(place), curve.key)
        held = {} if step is None or not step.get("mask") else {curve.key: step["mask"]}
        self.view = view = LimitsSheet(
            bench, bench.prepared.method, bench.finding, {"curve_limits": held},
            lambda key: [u for u in units if u.curve(key) is not None], curve.key,
        )  # fmt: skip

        def put() -> None:
            made = view.curve_limits.get(curve.key, {})
            bench.aside.run("limits", lambda: put_limits(place, curve.key, made), bench.said.emit)

        view.then(put)

    def calibrate_card(self) -> None:
        """The sound card's own calibration; the walk-round lets go of the card for it, and begins anew after it."""
        bench = self.bench
        if not self.here or bench.state in ("running", "easing", "preparing") or bench.plan_file is None:
            return
        assert bench.prepared is not None
        bench.link.close_run()
        bench.link.drop()
        view = CardView(bench.prepared.rig, bench.prepared.rig_file, bench)
        view.kept.connect(bench.said)
        self.card = view
        view.finished.connect(lambda _code, plan=bench.plan_file: bench.open_plan(plan))
        view.open()

    def retake(self) -> None:
        """A take of the invalid readings alone; its finding holds the others from this one."""
        bench = self.bench
        if bench.take is None or bench.finding is None:
            return
        keys = (bench.finding.detail or {}).get("sheet", {}).get("retake", [])
        take = bench.take
        bench.aside.run("retake", lambda: retake_sheet(Take(take), keys), bench.open_plan)

    def _picked(self, task: str) -> None:
        """A reading was clicked: it can be taken again once there is a finding."""
        bench = self.bench
        if bench.finding is None or bench.prepared is None or bench.state != "done":
            return
        whole = tasks(bench.prepared.settings.model_copy(update={"only": []}))
        at = next((t for t in whole if t.key == task), None)
        self.result.offer_again(f"{at.step.label or at.step.name}, {at.column}" if at else "")

    def take_again(self) -> None:
        """A take of the reading that was clicked; its finding holds the others from this one."""
        bench, key = self.bench, self.stage.picked
        if bench.take is None or key is None:
            return
        take = bench.take
        held = (bench.finding.detail or {}).get("sheet", {}) if bench.finding is not None else {}
        spoiled = key in held.get("retake", [])
        bench.aside.run("retake", lambda: retake_sheet(Take(take), [key], spoiled), bench.open_plan)


def course_by_step(prepared: Prepared) -> list[Any]:
    """The course with a stretch a step, since single readings are too many to see."""
    from ....contracts.method import CourseItem

    made: dict[str, float] = {}
    for task in tasks(prepared.settings):
        name = task.step.label or task.step.name
        made[name] = made.get(name, 0.0) + duration(task)
    return [CourseItem(name, seconds, step=i) for i, (name, seconds) in enumerate(made.items())]


def running_rows(board: Board, limit: float) -> list[Row]:
    """Margins of a run; `limit` °C of the loads."""
    live, shown = board.live, board.instruments or {}
    rows: list[Row] = []
    if live.get("of"):
        rows.append(("Readings", f"{live['done']} of {live['of']}", live["done"] / live["of"], 0.0, "plain", ""))
    if live.get("column"):
        word = {"cooling": "waiting until the loads are cool", "warming": "warming up"}.get(live.get("stage", ""), "")
        rows.append(("Now", live["column"], None, 0.0, "plain", word))
    if shown.get("temperature"):
        for name, t in shown["temperature"].items():
            rows.append((f"Load {name}", f"{t:.0f} °C", t / limit, 0.0, "inside" if t < limit else "outside", ""))
    return rows
