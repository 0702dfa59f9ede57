"""The comparison's side of the Bench: a sensor calibrated back to back, its curve, its points, its certificate."""

from __future__ import annotations

import datetime
import time
from pathlib import Path
from typing import TYPE_CHECKING, Any

from ....contracts.finding import Curve
from ....desktop.bench.course_view import CourseView, clock
from ....desktop.bench.side import Side
from ....desktop.parts.panels import head_of_points, live_rows
from ....desktop.parts.widgets import Tabs
from ....engine.preparing import Prepared, prepare
from ....folio.accepting import accept_take
from ....lab import planning
from ....lab.takes import STRUCK, Take
from ....lab.textfiles import dump_yaml, whole_write
from ....protocol.messages import Board
from ....rig.choosing import rig_for
from .result_panel import ResultPanel
from .stage import Stage

if TYPE_CHECKING:
    from ....desktop.bench.place import BenchPlace


class ComparisonBench(Side):
    """What the Bench shows and does when the plan in hand is a calibration by comparison."""

    name = "comparison"
    calibrates = True

    def __init__(self, bench: BenchPlace) -> None:
        super().__init__(bench)
        self.stage = Stage()
        self.stage.edited.connect(bench.change)
        self.stretches = self.course = CourseView()
        self.course.chosen.connect(self.point)
        self.result = ResultPanel(bench.lab.facts.operator)
        self.result.accept.connect(self.accept)
        self.result.again.connect(bench.again)
        bench.aside.failed.connect(lambda _why: self.result.go.setEnabled(True))
        self.result.struck_again.connect(self.struck_again)
        self.result.certificate.connect(lambda: bench.certificate.emit(bench.take))
        self.kind = Tabs([("stepped", "Stepped sine"), ("multisine", "Multi-sine")], "chip")
        self.kind.chosen.connect(lambda k: bench.change({"excitation": k}))
        self.density = Tabs([("1", "octaves"), ("3", "thirds"), ("6", "sixths")], "chip")
        self.density.choose("3", quiet=True)
        self.density.chosen.connect(lambda k: bench.change({"steps_per_octave": int(k)}))
        self.settings = (self.kind, self.density)
        self.changes: dict[str, Any] = {}
        self.as_state = "as found"

    @property
    def here(self) -> bool:
        """Whether a comparison is in hand."""
        prepared = self.bench.prepared
        return prepared is not None and prepared.method.name == "accelerometer-comparison"

    def calibrate(self, serial: str, as_state: str = "as found") -> None:
        """Make a plan for a sensor, on a rig that has it, and go to its walk-round."""
        bench, lab = self.bench, self.bench.lab
        self.changes, self.as_state = {}, as_state

        def work() -> Path:
            rig = rig_for(lab.rig_file(), serial)
            plan = planning.calibration_plan(lab, serial, today=datetime.date.today(), as_state=as_state, rig_file=rig)
            return planning.write_plan(lab, serial, plan)

        bench.told.setText(f"Making a plan for {serial}.")
        bench.aside.run("plan", work, bench.open_plan)

    # --- before ----------------------------------------------------------------------------------------------

    def show_prepared(self, prepared: Prepared, editable: bool) -> None:
        self.stage.show_prepared(prepared, editable)
        self.stage.show_earlier(self._last_curve())
        self.show_settings()
        items = prepared.course()
        self.course.show_course(items)
        self.course.show_progress(None, {}, False)
        steps = sum(1 for i in items if i.frequency)
        limited = [i for i in items if i.limited_by]
        text = f"{steps} steps" if steps else "all frequencies at once"
        text += f", about {clock(self.course.total)}"
        if limited:
            why = ", ".join(sorted({str(i.limited_by) for i in limited}))
            text += f"; below the wished level at {len(limited)} ({why})"
        self.bench.told.setText(text)

    def _last_curve(self) -> Curve | None:
        """The unit's last calibration as a deviation curve."""
        bench = self.bench
        assert bench.prepared
        unit = bench.prepared.plan.sensors.get("unit")
        if unit is None:
            return None
        for c in reversed(bench.lab.history(unit.serial)):
            if c.points and c.take != str(bench.take):
                x = tuple(float(p[0]) for p in c.points)
                y = tuple(100 * (float(p[1]) / c.sensitivity - 1) for p in c.points)
                return Curve("earlier", "last time", x, y, "Hz", "%")
        return None

    def show_settings(self) -> None:
        if self.bench.prepared is not None:
            self.kind.choose(self.bench.prepared.settings.excitation, quiet=True)
            self.density.choose(str(self.bench.prepared.settings.steps_per_octave), quiet=True)

    def change(self, place: Path, changes: dict[str, Any]) -> None:
        """A comparison's plan is made anew with all that was changed, since levels follow the frequencies."""
        bench = self.bench
        assert bench.prepared
        self.changes |= changes
        serial, rig, lab = bench.prepared.plan.sensors["unit"].serial, bench.prepared.rig_file, bench.lab
        state, wanted = self.as_state, dict(self.changes)

        def work() -> Prepared:
            plan = planning.calibration_plan(
                lab, serial, today=datetime.date.today(), changes=wanted, as_state=state, rig_file=rig
            )
            planning.write_plan(lab, serial, plan)
            return prepare(place)

        bench.aside.run("change", work, bench.changed)

    # --- running ---------------------------------------------------------------------------------------------

    def begin(self, prepared: Prepared) -> None:
        self.stage.choose("deviation")

    def show_running(self, board: Board) -> None:
        bench = self.bench
        bench.run.show_board(board, live_rows(board, self.stage.corridor), head_of_points(board))
        done = {p["frequency"]: "struck" if p.get("fault") else "done" for p in board.points}
        self.course.show_progress(board.live.get("frequency"), done, board.state == "running")
        left = max(self.course.total * 1.3 - board.t, 0)
        total = len([i for i in self.course.items if i.frequency]) or 1
        share = len(done) / total
        if share > 0.15:
            left = board.t / share * (1 - share)
        ends = time.strftime("%H:%M", time.localtime(time.time() + left / max(board.speed, 0.1)))
        bench.told.setText(
            f"{Path(board.take or '').name} · {clock(board.t)} of about {clock(board.t + left)} · ends about {ends}"
        )

    # --- after -----------------------------------------------------------------------------------------------

    def show_done(self, take: Take, status: str, reason: str | None) -> None:
        bench, finding = self.bench, self.bench.finding
        bench.panels.setCurrentWidget(self.result)
        if finding is not None:
            self.stage.show_finding(finding, bench.prepared.settings.frequencies() if bench.prepared else [])
        if bench.link.latest is None or self.stage.tabs.now in ("level", "voltages"):
            self.stage.choose("deviation")
        self._show_result(take, reason)
        points = {p["frequency"]: p["fault"] for p in ((finding.detail or {}).get("points", []) if finding else [])}
        self.course.show_progress(None, {f: "struck" if fault else "done" for f, fault in points.items()}, False)
        bench.ended(take, f"{len(points)} points", reason)

    def _show_result(self, take: Take, reason: str | None) -> None:
        accepted = next((e["certificate"] for e in take.events() if e["kind"] == "accepted"), None)
        self.result.show_finding(self.bench.finding, take.plan(), self._beside(take), accepted, reason)

    def _beside(self, take: Take) -> str:
        """How the reading stands to the last calibration."""
        unit, finding = take.plan().sensors.get("unit"), self.bench.finding
        if unit is None or finding is None or unit.sensitivity is None:
            return ""
        value = finding.reading("sensitivity").value
        if value is None:
            return ""
        change = 100 * (value / unit.sensitivity - 1)
        when = f" of {unit.calibrated}" if unit.calibrated else ""
        moved = "no change" if abs(change) < 0.005 else f"change {change:+.2f} %".replace("-", "−")
        return f"last calibration{when}: {unit.sensitivity:.4g} {unit.unit}, {moved}"

    def repaint_charts(self) -> None:
        for chart in (*self.stage.charts.values(), self.stage.level, self.stage.wave, self.stage.small):
            chart.apply_theme()
        bench = self.bench
        if bench.prepared is None or not self.here:
            return
        self.stage.show_prepared(bench.prepared, bench.state in ("starting", "walk-round"))
        self.stage.show_earlier(self._last_curve())
        if bench.finding is not None:
            self.stage.show_finding(bench.finding, bench.prepared.settings.frequencies())

    def point(self, frequency: float) -> None:
        """The doubt's parts at a point of the course."""
        finding = self.bench.finding
        if finding is not None and finding.detail:
            self.stage.budget.show_budgets(finding.detail["budgets"], frequency)
            self.stage.choose("budget")

    def accept(self, as_state: str, by: str, wants_due: bool, reason: str = "") -> None:
        """Append to the ledger, number the certificate, write it. `reason` for one that is not complete."""
        bench = self.bench
        if bench.take is None or bench.finding is None:
            return
        take, finding = Take(bench.take), bench.finding
        self.result.go.setEnabled(False)  # once is enough

        def then(number: str) -> None:
            self._show_result(take, None)
            bench.docket.show_plan(bench.plan_file, take.folder, False)
            bench.said.emit(f"Accepted. Certificate {number} is in the Folio.")
            bench.accepted.emit(take.plan().sensors["unit"].serial)

        bench.aside.run("accept", lambda: accept_take(bench.lab, take, finding, as_state, by, wants_due, reason), then)

    def again(self) -> None:
        """A new take; after an adjustment its values are the as-left ones."""
        bench = self.bench
        if bench.prepared is not None and "unit" in bench.prepared.plan.sensors:
            accepted = bench.take is not None and any(e["kind"] == "accepted" for e in Take(bench.take).events())
            bench.calibrate(bench.prepared.plan.sensors["unit"].serial, "as left" if accepted else "as found")

    def struck_again(self) -> None:
        """A take of the struck points alone; its finding holds the others from the first take."""
        bench = self.bench
        if bench.take is None or bench.finding is None:
            return
        struck = [p["frequency"] for p in (bench.finding.detail or {}).get("points", []) if p["fault"]]
        folder = bench.take.parent
        place = folder / STRUCK
        whole_write(place, dump_yaml(planning.retake_plan(Take(bench.take), folder, struck)))
        bench.open_plan(place)
