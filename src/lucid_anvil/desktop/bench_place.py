"""The Bench: set up and run. Docket, Chain, Stage, Margins and Guards, Course."""

from __future__ import annotations

import datetime
import time
from collections.abc import Callable
from pathlib import Path
from typing import Any

from PyQt6.QtCore import pyqtSignal
from PyQt6.QtWidgets import QHBoxLayout, QInputDialog, QStackedWidget, QVBoxLayout, QWidget

from ..core.errors import BadInput
from ..engine.preparing import Prepared, prepare, prepared_from
from ..folio.accepting import accept_take
from ..lab import planning
from ..lab.findings import Curve, Finding
from ..lab.place import Lab
from ..lab.shaker_planning import change_step
from ..lab.takes import RETAKE, STRUCK, Take, list_takes, next_take_folder, plan_beside
from ..lab.textfiles import dump_yaml, whole_write
from ..protocol.messages import Board
from ..rig.choosing import rig_for, rig_of
from .amplifier_bench import AmplifierBench
from .background import Background
from .chain_view import ChainView
from .course_view import CourseView, clock
from .docket import Docket
from .link import Link
from .listen_bench import ListenBench
from .panels import RunPanel, head_of_points, live_rows
from .result_panel import ResultPanel
from .shaker_bench import ShakerBench
from .stage import Stage
from .walk_panel import WalkRoundPanel
from .widgets import Elided, Tabs, button, card, label, section

BUSY = ("preparing", "running", "easing", "reading")
"""States in which nothing else may be opened."""


class BenchPlace(QWidget):
    """The place itself."""

    said = pyqtSignal(str)
    running = pyqtSignal(bool)
    accepted = pyqtSignal(str)
    certificate = pyqtSignal(object)

    def __init__(self, lab: Lab, link: Link, pace: str = "real") -> None:
        super().__init__()
        self.lab, self.link, self.pace = lab, link, pace
        self.plan_file: Path | None = None
        self.prepared: Prepared | None = None
        self.take: Path | None = None
        self.finding: Finding | None = None
        self.state = ""
        self.changes: dict[str, Any] = {}
        self.as_state = "as found"
        self.aside = Background(self)
        self.aside.failed.connect(self.said)
        self.aside.failed.connect(lambda _why: self.result.go.setEnabled(True))
        row = QHBoxLayout(self)
        row.setContentsMargins(10, 10, 10, 10)
        row.setSpacing(10)
        self.docket = Docket(lab)
        self.docket.plan_chosen.connect(lambda place: self.open_plan(place))
        self.docket.take_chosen.connect(self.open_take)
        row.addWidget(self.docket)
        column = QVBoxLayout()
        column.setSpacing(8)
        row.addLayout(column, 1)
        self.shaker, self.listen, self.amplifier = ShakerBench(self), ListenBench(self), AmplifierBench(self)
        self.sides = (self.shaker, self.listen, self.amplifier)
        self.chain = ChainView()
        self.chain.clicked.connect(self.shaker.tile_menu)
        column.addWidget(self.chain)
        middle = QHBoxLayout()
        middle.setSpacing(10)
        self.stage = Stage()
        self.stage.edited.connect(self.change)
        self.stages = QStackedWidget()
        for widget in (self.stage, *(s.stage for s in self.sides)):
            self.stages.addWidget(widget)
        middle.addWidget(self.stages, 1)
        middle.addWidget(self._right())
        column.addLayout(middle, 1)
        column.addWidget(self._course())
        link.board.connect(self.show_board)
        link.lost.connect(self._lost)
        self._nothing()

    @property
    def side(self) -> ShakerBench | ListenBench | AmplifierBench | None:
        """What knows the plan in hand: a shaker test, one that listens; None for a comparison, which is done here."""
        return next((s for s in self.sides if s.here), None)

    @property
    def side_buttons(self) -> list[Any]:
        """Buttons for a run, of whatever kind."""
        return [b for s in self.sides for b in s.buttons]

    def _right(self) -> QWidget:
        frame, column = card((14, 12, 14, 12), 6)
        frame.setFixedWidth(276)
        self.panels = QStackedWidget()
        column.addWidget(self.panels)
        initials = self.lab.facts.operator
        self.walk, self.run, self.result = WalkRoundPanel(initials), RunPanel(), ResultPanel(initials)
        self.empty = label("Choose a sensor in the Ledger and press Calibrate.", "muted", wrap=True)
        for panel in (self.walk, self.run, self.result, *(s.result for s in self.sides), self.empty):
            self.panels.addWidget(panel)
        self.walk.sign.connect(lambda key, by: self.link.order("sign", key=key, by=by))
        self.walk.begin.connect(lambda: self.link.order("begin"))
        self.result.accept.connect(self.accept)
        self.result.again.connect(self.again)
        self.result.struck_again.connect(self.struck_again)
        self.result.certificate.connect(lambda: self.certificate.emit(self.take))
        return frame

    def _course(self) -> QWidget:
        frame, column = card((14, 8, 14, 8), 4)
        head = QHBoxLayout()
        head.addWidget(section("Course"))
        head.addSpacing(8)
        self.told = Elided("", "muted")
        head.addWidget(self.told, 1)
        self.kind = Tabs([("stepped", "Stepped sine"), ("multisine", "Multi-sine")], "chip")
        self.kind.chosen.connect(lambda k: self.change({"excitation": k}))
        self.density = Tabs([("1", "octaves"), ("3", "thirds"), ("6", "sixths")], "chip")
        self.density.choose("3", quiet=True)
        self.density.chosen.connect(lambda k: self.change({"steps_per_octave": int(k)}))
        self.mark = button("Mark  M", tip="Put a note at this moment into the record")
        self.mark.clicked.connect(self.make_mark)
        for widget in (self.kind, self.density, *self.side_buttons, self.mark):
            head.addWidget(widget)
            head.addSpacing(4)
        column.addLayout(head)
        self.course = CourseView()
        self.course.chosen.connect(self._point)
        self.courses = QStackedWidget()
        for view in (self.course, *(s.stretches for s in self.sides)):
            self.courses.addWidget(view)
        self.courses.setFixedHeight(74)
        column.addWidget(self.courses)
        foot = QHBoxLayout()
        self.events = Elided("", "muted")
        foot.addWidget(self.events, 1)
        self.disk = label("", "muted")
        foot.addWidget(self.disk)
        column.addLayout(foot)
        return frame

    # --- opening ---------------------------------------------------------------------------------------------

    def _nothing(self) -> None:
        self.panels.setCurrentWidget(self.empty)
        self.docket.show_plan(None, None, False)
        self.told.setText("Nothing is planned.")
        for widget in (self.kind, self.density, self.mark, *self.side_buttons):
            widget.setVisible(False)

    def calibrate(self, serial: str, as_state: str = "as found") -> None:
        """Make a comparison plan for a sensor, on a rig that has it, and go to its walk-round."""
        if self.state in BUSY:
            self.said.emit("A run is going on: stop it, or wait for its end.")
            return
        self.changes, self.as_state = {}, as_state
        lab = self.lab

        def work() -> Path:
            rig = rig_for(lab.rig_file(), serial)
            plan = planning.calibration_plan(lab, serial, today=datetime.date.today(), as_state=as_state, rig_file=rig)
            return planning.write_plan(lab, serial, plan)

        self.told.setText(f"Making a plan for {serial}.")
        self.aside.run("plan", work, self.open_plan)

    def open_plan(self, place: Path, resume: Path | None = None) -> None:
        """Show a plan and start its walk-round (nothing is driven yet). `resume`: a take to be continued."""
        if self.state in BUSY:
            self.said.emit("A run is going on: stop it, or wait for its end.")
            return
        self.aside.run("open", lambda: prepare(place), lambda prepared: self._opened(place, prepared, resume))

    def _opened(self, place: Path, prepared: Prepared, resume: Path | None = None) -> None:
        self.link.close_run()
        self.plan_file, self.prepared, self.finding = place, prepared, None
        self.events.setText("")
        self.take = next_take_folder(place.parent)
        self._show_prepared(True)
        self.link.start(place, self.take, self.pace, resume)
        self._set_state("starting")
        self.docket.show_plan(place, None, False)

    def pick_up(self) -> bool:
        """Connect to a run that another window left."""
        if not self.link.pick_up():
            return False
        assert self.link.address
        self.plan_file, self.take = Path(self.link.address.plan), Path(self.link.address.take)
        try:
            self.prepared = prepare(self.plan_file)
        except BadInput as problem:
            self.said.emit(str(problem))
            return False
        self._show_prepared(False)
        self.said.emit("A run was going on; this window has picked it up.")
        return True

    def open_take(self, folder: Path) -> None:
        """Look at a take that is finished."""
        if self.state in BUSY:
            return
        self.link.close_run()
        self.link.drop()
        kept = Take(folder)
        self.take, self.plan_file = folder, plan_beside(folder)

        def work() -> Prepared:
            return prepared_from(kept.plan(), folder / "plan.yaml", rig_of(folder), folder / "rig.yaml")

        def then(prepared: Prepared) -> None:
            self.prepared = prepared
            self._show_prepared(False)
            self._done(kept, None)

        self.aside.run("open", work, then)

    def _show_prepared(self, editable: bool) -> None:
        assert self.prepared
        side = self.side
        self.stages.setCurrentWidget(side.stage if side else self.stage)
        self.courses.setCurrentWidget(side.stretches if side else self.course)
        if side:
            side.show_prepared(self.prepared, editable)
            return
        self.stage.show_prepared(self.prepared, editable)
        self.stage.show_earlier(self._last_curve())
        self.kind.choose(self.prepared.settings.excitation, quiet=True)
        self.density.choose(str(self.prepared.settings.steps_per_octave), quiet=True)
        self._show_course()

    def _show_course(self) -> None:
        assert self.prepared
        items = self.prepared.course()
        self.course.show_course(items)
        self.course.show_progress(None, {}, False)
        steps = sum(1 for i in items if i.frequency)
        limited = [i for i in items if i.limited_by]
        text = f"{steps} steps" if steps else "all frequencies at once"
        text += f", about {clock(self.course.total)}"
        if limited:
            why = ", ".join(sorted({str(i.limited_by) for i in limited}))
            text += f"; below the wished level at {len(limited)} ({why})"
        self.told.setText(text)

    def _last_curve(self) -> Any:
        """The unit's last calibration as a deviation curve, else its last accepted take's."""
        assert self.prepared
        unit = self.prepared.plan.sensors.get("unit")
        if unit is None:
            return None
        for c in reversed(self.lab.history(unit.serial)):
            if c.points and c.take != str(self.take):
                x = tuple(float(p[0]) for p in c.points)
                y = tuple(100 * (float(p[1]) / c.sensitivity - 1) for p in c.points)
                return Curve("earlier", "last time", x, y, "Hz", "%")
        return None

    # --- editing ---------------------------------------------------------------------------------------------

    def change(self, changes: dict[str, Any]) -> None:
        """Settings were changed by hand on the thing itself: the plan, the course and the checks follow."""
        if self.state not in ("starting", "walk-round") or self.prepared is None or self.plan_file is None:
            if self.prepared is not None and not self.side:
                self.kind.choose(self.prepared.settings.excitation, quiet=True)
                self.density.choose(str(self.prepared.settings.steps_per_octave), quiet=True)
            return
        if self.side:
            self.side.change(self.plan_file, changes)
            return
        serial = self.prepared.plan.sensors["unit"].serial
        self.changes |= changes
        lab, state, wanted, rig, place = (
            self.lab,
            self.as_state,
            dict(self.changes),
            self.prepared.rig_file,
            self.plan_file,
        )

        def work() -> Prepared:
            plan = planning.calibration_plan(
                lab, serial, today=datetime.date.today(), changes=wanted, as_state=state, rig_file=rig
            )
            planning.write_plan(lab, serial, plan)
            return prepare(place)

        def then(prepared: Prepared) -> None:
            self.prepared = prepared
            self._show_prepared(True)
            self.link.order("replan")

        self.aside.run("change", work, then)

    def finding_before(self) -> Finding | None:
        """The newest finding of an earlier take of the same plan."""
        if self.plan_file is None:
            return None
        for take in reversed(list_takes(self.plan_file.parent)):
            if take.folder != self.take and (finding := take.finding()) is not None:
                return finding
        return None

    def alter(self, place: Path, changes: dict[str, Any], refused: Callable[[str], None] | None = None) -> None:
        """Change a plan's step in its own files; a change that can't be is taken back and said."""
        assert self.prepared
        rig = self.prepared.rig_file

        def work() -> Prepared | str:
            held = {p: p.read_text(encoding="utf-8") for p in place.parent.glob("*.yaml")}
            change_step(place, changes)
            try:
                return prepare(place, rig)
            except BadInput as problem:
                for file, text in held.items():
                    whole_write(file, text)
                return str(problem)

        def then(made: Prepared | str) -> None:
            if isinstance(made, str):
                self.said.emit(made)
                if refused is not None:
                    refused(made)
                return
            self.prepared = made
            self._show_prepared(True)
            self.link.order("replan")

        self.aside.run("change", work, then)

    # --- running ---------------------------------------------------------------------------------------------

    def show_board(self, board: Board) -> None:
        """One snapshot of the run."""
        if board.state != self.state:
            self._set_state(board.state)
        self.chain.show_tiles(board.tiles)
        (self.side.stage if self.side else self.stage).show_board(board)
        if board.state in ("starting", "walk-round", "preparing"):
            self.walk.show_checks(board.checks, board.state)
        elif board.state in ("running", "easing") and self.side:
            self.side.show_running(board)
        elif board.state in ("running", "easing"):
            self.run.show_board(board, live_rows(board, self.stage.corridor), head_of_points(board))
            done = {p["frequency"]: "struck" if p.get("fault") else "done" for p in board.points}
            self.course.show_progress(board.live.get("frequency"), done, board.state == "running")
            left = max(self.course.total * 1.3 - board.t, 0)
            total = len([i for i in self.course.items if i.frequency]) or 1
            share = len(done) / total
            if share > 0.15:
                left = board.t / share * (1 - share)
            ends = time.strftime("%H:%M", time.localtime(time.time() + left / max(board.speed, 0.1)))
            self.told.setText(
                f"{Path(board.take or '').name} · {clock(board.t)} of about {clock(board.t + left)} · ends about {ends}"
            )
        if board.events:
            self.events.setText(board.events[-1])
        rate = (
            f"recording raw · {len(self.prepared.rig.channels) + 1} channels · "
            if self.prepared and board.state == "running"
            else ""
        )
        self.disk.setText(f"{rate}{board.disk_free / 1e9:.0f} GB free" if board.disk_free else "")

    def _set_state(self, state: str) -> None:
        before, self.state = self.state, state
        for widget in (self.kind, self.density):
            widget.setVisible(state in ("starting", "walk-round") and not self.side)
        for one in self.side_buttons:
            one.setVisible(state == "running" and self.side is not None and one in self.side.buttons)
        self.mark.setVisible(state == "running")
        self.running.emit(state in ("running", "easing", "preparing"))
        if state in ("starting", "walk-round", "preparing"):
            self.panels.setCurrentWidget(self.walk)
            self.walk.show_checks(self.walk.shown if state != "starting" else [], state)
        elif state in ("running", "easing"):
            if self.panels.currentWidget() is not self.run:
                self.panels.setCurrentWidget(self.run)
                if self.side and self.prepared:
                    self.side.begin(self.prepared)
                else:
                    self.stage.choose("deviation")
                self.docket.show_plan(self.plan_file, self.take, True)
        elif state == "reading":
            self.told.setText("Reading the take: every point is computed again from the raw record.")
        elif state in ("done", "failed") and before != state and self.take is not None:
            board = self.link.latest
            if (self.take / "events.jsonl").exists():
                self._done(Take(self.take), board)
            elif state == "failed":
                self.said.emit((board.message if board else None) or "The run could not be begun.")
            self.link.close_run()

    def _done(self, take: Take, board: Board | None) -> None:
        self.state = "done"
        self.finding = take.finding()
        status = take.status()
        reason = take.reason() if status != "done" else None
        if self.side:
            self.side.show_done(take, status, reason)
            return
        self.panels.setCurrentWidget(self.result)
        if self.finding is not None:
            planned = self.prepared.settings.frequencies() if self.prepared else []
            self.stage.show_finding(self.finding, planned)
        if board is None or self.stage.tabs.now in ("level", "voltages"):
            self.stage.choose("deviation")
        self._show_result(take, reason)
        points = {
            p["frequency"]: p["fault"] for p in ((self.finding.detail or {}).get("points", []) if self.finding else [])
        }
        self.course.show_progress(None, {f: "struck" if fault else "done" for f, fault in points.items()}, False)
        length = next((e["t"] for e in reversed(take.events()) if e["kind"] == "end"), 0.0)
        self.told.setText(f"{take.name} · {status} · {clock(length)} recorded · {len(points)} points")
        self.events.setText(reason or "")
        self.docket.show_plan(self.plan_file, take.folder, False)
        self.running.emit(False)

    def _show_result(self, take: Take, reason: str | None) -> None:
        accepted = next((e["certificate"] for e in take.events() if e["kind"] == "accepted"), None)
        self.result.show_finding(self.finding, take.plan(), self._beside(take), accepted, reason)

    def _beside(self, take: Take) -> str:
        """How the reading stands to the last calibration."""
        unit = take.plan().sensors.get("unit")
        if unit is None or self.finding is None or unit.sensitivity is None:
            return ""
        value = self.finding.reading("sensitivity").value
        if value is None:
            return ""
        change = 100 * (value / unit.sensitivity - 1)
        when = f" of {unit.calibrated}" if unit.calibrated else ""
        moved = "no change" if abs(change) < 0.005 else f"change {change:+.2f} %".replace("-", "−")
        return f"last calibration{when}: {unit.sensitivity:.4g} {unit.unit}, {moved}"

    def _lost(self, why: str) -> None:
        self.said.emit(why)
        if self.take is not None and (self.take / "events.jsonl").exists():
            self._done(Take(self.take), None)
        else:
            self.state = "done"
            self.running.emit(False)

    def repaint_charts(self) -> None:
        """Take on the palette in force."""
        for chart in (*self.stage.charts.values(), self.stage.level, self.stage.wave, self.stage.small):
            chart.apply_theme()
        for side in self.sides:
            side.stage.repaint_charts()
        if self.prepared is None or self.side:
            return
        self.stage.show_prepared(self.prepared, self.state in ("starting", "walk-round"))
        self.stage.show_earlier(self._last_curve())
        if self.finding is not None:
            self.stage.show_finding(self.finding, self.prepared.settings.frequencies())

    def stop(self) -> None:
        """F12."""
        self.link.order("stop", why="stopped by the operator (F12)")

    def make_mark(self) -> None:
        if self.state != "running":
            return
        text, good = QInputDialog.getText(self, "Mark", "What happened?")
        if good and text.strip():
            self.link.order("mark", text=text.strip())

    def _point(self, frequency: float) -> None:
        if self.finding is not None and self.finding.detail:
            self.stage.budget.show_budgets(self.finding.detail["budgets"], frequency)
            self.stage.choose("budget")

    # --- after -----------------------------------------------------------------------------------------------

    def accept(self, as_state: str, by: str, wants_due: bool) -> None:
        """Append to the ledger, number the certificate, write it."""
        if self.take is None or self.finding is None:
            return
        take, finding = Take(self.take), self.finding
        self.result.go.setEnabled(False)  # once is enough

        def then(number: str) -> None:
            self._show_result(take, None)
            self.docket.show_plan(self.plan_file, take.folder, False)
            self.said.emit(f"Accepted. Certificate {number} is in the Folio.")
            self.accepted.emit(take.plan().sensors["unit"].serial)

        self.aside.run("accept", lambda: accept_take(self.lab, take, finding, as_state, by, wants_due), then)

    def again(self) -> None:
        """A new take; after an adjustment its values are the as-left ones."""
        if self.side:
            if self.plan_file is not None:
                # After a retake the whole is meant, not the few readings once more.
                retaken = self.plan_file.name == RETAKE and self.take is not None
                self.open_plan(plan_beside(self.take) if retaken and self.take else self.plan_file)
            return
        if self.prepared is not None and "unit" in self.prepared.plan.sensors:
            accepted = self.take is not None and any(e["kind"] == "accepted" for e in Take(self.take).events())
            self.calibrate(self.prepared.plan.sensors["unit"].serial, "as left" if accepted else "as found")

    def carry_on(self) -> None:
        """A new take of the same plan from where the last one was cut; its walk-round comes first."""
        if self.take is not None and self.plan_file is not None:
            self.open_plan(self.plan_file, resume=self.take)

    def struck_again(self) -> None:
        """A take of the struck points alone; its finding holds the others from the first take."""
        if self.take is None or self.finding is None:
            return
        struck = [p["frequency"] for p in (self.finding.detail or {}).get("points", []) if p["fault"]]
        folder = self.take.parent
        plan = planning.retake_plan(Take(self.take), folder, struck)
        place = folder / STRUCK
        whole_write(place, dump_yaml(plan))
        self.open_plan(place)
