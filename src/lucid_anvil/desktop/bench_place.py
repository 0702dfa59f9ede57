"""The Bench: set up and run. Docket, Chain, Stage, Margins and Guards, Course."""

from __future__ import annotations

import datetime
import time
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
from ..lab.shaker_planning import change_step, stretched_course, swap_sensor
from ..lab.takes import Take, list_takes, next_take_folder, whole_write
from ..lab.textfiles import dump_yaml
from ..methods.shaker_settings import ShakerSettings
from ..protocol.messages import Board
from ..rig.choosing import rig_for, rig_of
from .background import Background
from .chain_view import ChainView
from .course_view import CourseView, clock
from .docket import Docket
from .link import Link
from .panels import RunPanel, head_of_points, live_rows
from .result_panel import ResultPanel
from .shaker_panels import ShakerResult, head_of, shaker_rows
from .shaker_stage import ShakerStage
from .stage import Stage
from .stretch_view import StretchView
from .walk_panel import WalkRoundPanel
from .widgets import Elided, Tabs, button, card, label, section

BUSY = ("preparing", "running", "easing", "reading")
"""States in which nothing else may be opened."""


def plan_beside(take: Path) -> Path:
    """The plan file of a take's folder: its only one, or the one that is no retake."""
    found = sorted(p for p in take.parent.glob("*.plan.yaml") if p.name != "struck.plan.yaml")
    return found[0] if found else take.parent / "comparison.plan.yaml"


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
        self.chain = ChainView()
        self.chain.clicked.connect(self.tile_menu)
        column.addWidget(self.chain)
        middle = QHBoxLayout()
        middle.setSpacing(10)
        self.stage = Stage()
        self.stage.edited.connect(self.change)
        self.shaker_stage = ShakerStage()
        self.shaker_stage.edited.connect(self.change)
        self.stages = QStackedWidget()
        for widget in (self.stage, self.shaker_stage):
            self.stages.addWidget(widget)
        middle.addWidget(self.stages, 1)
        middle.addWidget(self._right())
        column.addLayout(middle, 1)
        column.addWidget(self._course())
        link.board.connect(self.show_board)
        link.lost.connect(self._lost)
        self._nothing()

    def _right(self) -> QWidget:
        frame, column = card((14, 12, 14, 12), 6)
        frame.setFixedWidth(276)
        self.panels = QStackedWidget()
        column.addWidget(self.panels)
        initials = self.lab.facts.operator
        self.walk, self.run, self.result = WalkRoundPanel(initials), RunPanel(), ResultPanel(initials)
        self.empty = label("Choose a sensor in the Ledger and press Calibrate.", "muted", wrap=True)
        self.shaker_result = ShakerResult()
        self.shaker_result.again.connect(self.again)
        self.shaker_result.carry_on.connect(self.carry_on)
        for panel in (self.walk, self.run, self.result, self.shaker_result, self.empty):
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
        self.hold = button("Hold  H", tip="Hold the frequency or the time where it is; once more goes on")
        self.hold.clicked.connect(self.toggle_hold)
        self.down = button("−3 dB  [", tip="Lower the level by 3 dB")
        self.down.clicked.connect(lambda: self.step_level(-3.0))
        self.up = button("+3 dB  ]", tip="Raise the level by 3 dB, never above the planned one")
        self.up.clicked.connect(lambda: self.step_level(3.0))
        for widget in (self.kind, self.density, self.hold, self.down, self.up, self.mark):
            head.addWidget(widget)
            head.addSpacing(4)
        column.addLayout(head)
        self.course = CourseView()
        self.course.chosen.connect(self._point)
        self.stretches = StretchView()
        self.stretches.stretched.connect(self._stretched)
        self.courses = QStackedWidget()
        for view in (self.course, self.stretches):
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
        for widget in (self.kind, self.density, self.mark, self.hold, self.down, self.up):
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
        if self.link.connected:
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
        if self.link.connected:
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
        self.stages.setCurrentWidget(self.shaker_stage if self.shaking else self.stage)
        self.courses.setCurrentWidget(self.stretches if self.shaking else self.course)
        if self.shaking:
            self.shaker_stage.show_prepared(self.prepared, editable)
            self.shaker_stage.show_earlier(self._finding_before())
            self._show_stretches(editable)
            return
        self.stage.show_prepared(self.prepared, editable)
        self.stage.show_earlier(self._last_curve())
        self.kind.choose(self.prepared.settings.excitation, quiet=True)
        self.density.choose(str(self.prepared.settings.steps_per_octave), quiet=True)
        self._show_course()

    @property
    def shaking(self) -> bool:
        """Whether what is in hand is a shaker test."""
        return self.prepared is not None and issubclass(self.prepared.method.Settings, ShakerSettings)

    def _show_stretches(self, editable: bool) -> None:
        assert self.prepared
        self.stretches.show_course(self.prepared.course(), editable)
        text = f"{len(self.stretches.items)} stretches, about {clock(self.stretches.total)}"
        if editable:
            text += "; drag a right edge, or double-click to type a time"
        self.told.setText(text)

    def _finding_before(self) -> Finding | None:
        """The newest finding of an earlier take of the same plan."""
        if self.plan_file is None:
            return None
        for take in reversed(list_takes(self.plan_file.parent)):
            if take.folder != self.take and (finding := take.finding()) is not None:
                return finding
        return None

    def _stretched(self, item: int, duration: float) -> None:
        """A block of the course was made longer or shorter by hand."""
        assert self.prepared
        held = self.prepared.course()[item]
        if held.step is None:
            return
        course = [s.model_dump(exclude_none=True, exclude_defaults=True) for s in self.prepared.settings.course]
        if not course:
            usual = {"sine-sweep": {"sweep": "up"}, "random-vibration": {"random": True}}
            if self.prepared.method.name not in usual:
                return
            course = [usual[self.prepared.method.name]]
        self.change({"course": stretched_course(course, held.step, held.rung, duration - 2.0)})

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
            if self.prepared is not None and not self.shaking:
                self.kind.choose(self.prepared.settings.excitation, quiet=True)
                self.density.choose(str(self.prepared.settings.steps_per_octave), quiet=True)
            return
        if self.shaking:
            self._change_shaker(self.plan_file, changes)
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

    def _change_shaker(self, place: Path, changes: dict[str, Any]) -> None:
        """Into the plan's own files; a change that can't be is taken back and said."""
        assert self.prepared
        rig, plan = self.prepared.rig_file, self.prepared.plan

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
                self.shaker_stage.tell(made)
                self.shaker_stage.profile.draw() if plan is not None and self.prepared else None
                return
            self.prepared = made
            self._show_prepared(True)
            self.link.order("replan")

        self.aside.run("change", work, then)

    def tile_menu(self, role: str) -> None:
        """A click on a sensor's tile before the run: another sensor from the ledger."""
        if self.state not in ("starting", "walk-round") or not self.shaking or self.prepared is None:
            return
        if role not in self.prepared.facts.sensitivity or self.plan_file is None:
            return
        from PyQt6.QtGui import QCursor
        from PyQt6.QtWidgets import QMenu

        menu = QMenu(self)
        memory = self.link.latest.identities.get(role) if self.link.latest else None
        if memory is not None:
            menu.addAction("Take its data sheet into the ledger", lambda: self.take_sheet(role, memory))
            menu.addSeparator()
        for serial, text in self._choices():
            menu.addAction(text, lambda s=serial: self.swap(role, s))
        menu.exec(QCursor.pos())

    def take_sheet(self, role: str, memory: str) -> None:
        """What the sensor says of itself goes into the ledger, and from there onto the channel."""
        from ..formats.teds import decode
        from ..lab.identity import matching, number_of, take_in
        from ..lab.shaker_planning import record_of_entry

        lab = self.lab

        def work() -> tuple[str, str]:
            sheet = decode(bytes.fromhex(memory))
            ledger = lab.ledger()
            try:
                entries = list(ledger.entries())
                found = matching(sheet, [record_of_entry(e) for e in entries])
                serial = found.record.serial if found.record else f"S-{number_of(str(sheet.basic.serial))}"
                return serial, take_in(ledger, sheet, serial, datetime.date.today())
            finally:
                ledger.close()

        def then(made: tuple[str, str]) -> None:
            self.said.emit(made[1])
            self.swap(role, made[0])

        self.aside.run("change", work, then)

    def _choices(self) -> list[tuple[str, str]]:
        ledger = self.lab.ledger()
        made = [
            (e.sensor.serial, f"{e.sensor.serial} · {e.last.sensitivity:.4g} {e.last.unit} · to {e.last.due}")
            for e in ledger.entries()
            if e.sensor.kind == "accelerometer" and e.last is not None
        ]
        ledger.close()
        return made

    def swap(self, role: str, serial: str) -> None:
        """Another sensor on a channel: units, guards and checks follow."""
        place = self.plan_file
        assert place is not None and self.prepared is not None
        lab, rig = self.lab, self.prepared.rig_file

        def work() -> Prepared:
            swap_sensor(lab, place, role, serial)
            return prepare(place, rig)

        def then(made: Prepared) -> None:
            self.prepared = made
            self._show_prepared(True)
            self.link.order("replan")

        self.aside.run("change", work, then)

    # --- running ---------------------------------------------------------------------------------------------

    def toggle_hold(self) -> None:
        if self.state == "running" and self.shaking:
            held = self.hold.text().startswith("Go")
            self.link.order("go" if held else "hold")
            self.hold.setText("Hold  H" if held else "Go on  H")

    def step_level(self, by: float) -> None:
        if self.state == "running" and self.shaking:
            self.link.order("level", by=by)

    def show_board(self, board: Board) -> None:
        """One snapshot of the run."""
        if board.state != self.state:
            self._set_state(board.state)
        self.chain.show_tiles(board.tiles)
        (self.shaker_stage if self.shaking else self.stage).show_board(board)
        if board.state in ("starting", "walk-round", "preparing"):
            self.walk.show_checks(board.checks, board.state)
        elif board.state in ("running", "easing") and self.shaking:
            self._show_shaking(board)
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

    def _show_shaking(self, board: Board) -> None:
        assert self.prepared
        self.run.show_board(board, shaker_rows(board, self.prepared), head_of(board))
        live = board.live
        probing = live.get("stage") in (None, "probe")
        first = 1 if self.prepared.settings.control.probe.on else 0
        item = 0 if probing and first else int(live.get("item", 0)) + first
        items = self.stretches.items
        share = float(live.get("at", 0.0)) / max(float(live.get("of", 0.0)), 1e-9) if live.get("of") else 0.0
        if probing and items:
            share = board.t / max(items[0].duration, 1e-9)
        self.stretches.show_progress(min(item, len(items) - 1), min(share, 1.0))
        left = sum(i.duration for i in items[item + 1 :]) + (1 - min(share, 1.0)) * items[item].duration
        ends = time.strftime("%H:%M", time.localtime(time.time() + left / max(board.speed, 0.1)))
        name = Path(board.take or "").name
        self.told.setText(f"{name} · {clock(board.t)} of about {clock(board.t + left)} · ends about {ends}")

    def _set_state(self, state: str) -> None:
        before, self.state = self.state, state
        for widget in (self.kind, self.density):
            widget.setVisible(state in ("starting", "walk-round") and not self.shaking)
        for one in (self.hold, self.down, self.up):
            one.setVisible(state == "running" and self.shaking)
        self.mark.setVisible(state == "running")
        self.running.emit(state in ("running", "easing", "preparing"))
        if state in ("starting", "walk-round", "preparing"):
            self.panels.setCurrentWidget(self.walk)
            self.walk.show_checks(self.walk.shown if state != "starting" else [], state)
        elif state in ("running", "easing"):
            if self.panels.currentWidget() is not self.run:
                self.panels.setCurrentWidget(self.run)
                self.hold.setText("Hold  H")
                if self.shaking:
                    self.shaker_stage.profile.editable = False
                    self.stretches.editable = False
                    self.shaker_stage.show_prepared(self.prepared, False)  # type: ignore[arg-type]
                    self.shaker_stage.show_earlier(self._finding_before())
                    if self.prepared and self.prepared.method.name == "time-replication":
                        self.shaker_stage.choose("passes")
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
        if self.shaking:
            self._done_shaking(take, status, reason)
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

    def _done_shaking(self, take: Take, status: str, reason: str | None) -> None:
        self.panels.setCurrentWidget(self.shaker_result)
        cut = reason or (status if status != "done" else None)
        if self.finding is not None:
            self.shaker_stage.show_finding(self.finding, take, cut)
        elif cut is not None:
            self.shaker_stage.show_cut(take, cut)
        if cut is None and self.prepared is not None and self.prepared.method.name == "time-replication":
            self.shaker_stage.choose("passes")
        self.shaker_result.show_finding(self.finding, cut, take.position() is not None)
        where = take.position() if cut is not None else None
        if where is not None and self.stretches.items:
            item = int(where.get("item", 0)) + (1 if self.prepared and self.prepared.settings.control.probe.on else 0)
            item = min(item, len(self.stretches.items) - 1)
            share = float(where.get("at", 0.0)) / max(self.stretches.items[item].duration, 1e-9)
            self.stretches.show_progress(item, min(share, 1.0))
        else:
            self.stretches.show_progress(None, 0.0, all_done=cut is None)
        length = next((e["t"] for e in reversed(take.events()) if e["kind"] == "end"), 0.0)
        self.told.setText(f"{take.name} · {status} · {clock(length)} recorded")
        self.events.setText(reason or "")
        self.docket.show_plan(self.plan_file, take.folder, False)
        self.running.emit(False)

    def carry_on(self) -> None:
        """A new take of the same plan from where the last one was cut; its walk-round comes first."""
        if self.take is not None and self.plan_file is not None:
            self.open_plan(self.plan_file, resume=self.take)

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
        self.shaker_stage.repaint_charts()
        if self.prepared is None or self.shaking:
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
        if self.shaking:
            if self.plan_file is not None:
                self.open_plan(self.plan_file)
            return
        if self.prepared is not None and "unit" in self.prepared.plan.sensors:
            accepted = self.take is not None and any(e["kind"] == "accepted" for e in Take(self.take).events())
            self.calibrate(self.prepared.plan.sensors["unit"].serial, "as left" if accepted else "as found")

    def struck_again(self) -> None:
        """A take of the struck points alone; its finding holds the others from the first take."""
        if self.take is None or self.finding is None:
            return
        struck = [p["frequency"] for p in (self.finding.detail or {}).get("points", []) if p["fault"]]
        folder = self.take.parent
        plan = planning.retake_plan(Take(self.take), folder, struck)
        place = folder / "struck.plan.yaml"
        whole_write(place, dump_yaml(plan))
        self.open_plan(place)
