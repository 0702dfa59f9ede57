"""The Bench: set up and run. Docket, Chain, Stage, Margins and Guards, Course."""

from __future__ import annotations

from pathlib import Path
from typing import Any

from PyQt6.QtCore import pyqtSignal
from PyQt6.QtWidgets import QHBoxLayout, QStackedWidget, QVBoxLayout, QWidget

from ...contracts import registry
from ...contracts.finding import Finding
from ...core.errors import BadInput
from ...engine.preparing import Prepared, prepare, prepared_from
from ...lab.papers import name_of
from ...lab.place import Lab
from ...lab.plans import load_plan
from ...lab.series import begin_series, series_in, series_of
from ...lab.takes import Take, list_takes, next_take_folder, plan_beside
from ...protocol.messages import Board
from ...rig.choosing import rig_of
from ..parts.asking import ask_line
from ..parts.background import Background
from ..parts.docket import Docket
from ..parts.empty_stage import EmptyStage
from ..parts.link import Link
from ..parts.panels import RunPanel
from ..parts.widgets import Elided, button, card, label, section
from .after_sheet import AfterWatch
from .chain_view import WAKING, ChainView
from .course_view import clock
from .line_face import LineFace
from .new_test import NewTest
from .plain_bench import PlainBench
from .plan_editing import PlanEditing
from .plan_menus import PlanMenus
from .series_bar import JoinSheet, SeriesBar
from .side import Side
from .walk_panel import WalkRoundPanel

BUSY = ("preparing", "running", "easing", "reading")
"""States in which nothing else may be opened."""


class BenchPlace(QWidget):
    """The place itself."""

    said = pyqtSignal(str)
    running = pyqtSignal(bool)
    accepted = pyqtSignal(str)
    certificate = pyqtSignal(object)
    go = pyqtSignal(str)
    """to another place"""
    paper = pyqtSignal(str)
    """the name of one that was just written"""

    def __init__(self, lab: Lab, link: Link, pace: str = "real") -> None:
        super().__init__()
        self.lab, self.link, self.pace = lab, link, pace
        self.plan_file: Path | None = None
        self.prepared: Prepared | None = None
        self.take: Path | None = None
        self.finding: Finding | None = None
        self.state = ""
        self.line: LineFace | None = None
        """The face for a line, while it is there"""
        self.editing = PlanEditing(self)
        self.menus = PlanMenus(self)
        self.aside = Background(self)
        self.aside.failed.connect(self.said)
        self.after = AfterWatch(self)
        self.after.said.connect(self.said)
        row = QHBoxLayout(self)
        row.setContentsMargins(10, 10, 10, 10)
        row.setSpacing(10)
        self.docket = Docket(lab)
        self.docket.plan_chosen.connect(lambda place: self.open_plan(place))
        self.docket.take_chosen.connect(self.open_take)
        self.docket.plan_asked.connect(self.menus.plan)
        self.docket.take_asked.connect(self.menus.take)
        self.lefts = QStackedWidget()
        self.lefts.setFixedWidth(self.docket.width())
        self.lefts.addWidget(self.docket)
        row.addWidget(self.lefts)
        column = QVBoxLayout()
        column.setSpacing(8)
        row.addLayout(column, 1)
        self.sides: tuple[Side, ...] = tuple(kind(self) for kind in (*registry.sides(), PlainBench))
        self.kinds = {side.name: side for side in self.sides}
        self.chain = ChainView()
        self.chain.clicked.connect(lambda role: (self.side or self.plain).tile_menu(role))
        column.addWidget(self.chain)
        self.series = SeriesBar()
        self.series.chosen.connect(lambda place: self.open_plan(place))
        column.addWidget(self.series)
        middle = QHBoxLayout()
        middle.setSpacing(10)
        self.stages = QStackedWidget()
        self.nothing = EmptyStage(lab)
        self.nothing.plan.connect(lambda place: self.open_plan(place))
        self.nothing.place.connect(self._begin_with)
        self.docket.new.clicked.connect(self.new_test)
        self.docket.join.clicked.connect(self.join_plans)
        self.stages.addWidget(self.nothing)
        for side in self.sides:
            self.stages.addWidget(side.stage)
            if side.left is not None:
                self.lefts.addWidget(side.left)
        self.stages.addWidget(self.editing.sheet)
        middle.addWidget(self.stages, 1)
        self.right, self.below = self._right(), self._course()
        middle.addWidget(self.right)
        column.addLayout(middle, 1)
        column.addWidget(self.below)
        link.board.connect(self.show_board)
        link.lost.connect(self._lost)
        link.refused.connect(self.said)
        self._nothing()

    @property
    def busy(self) -> bool:
        """Whether something is being driven, or about to be."""
        return self.state in BUSY

    @property
    def side(self) -> Side | None:
        """What knows the plan in hand; None where there is none."""
        return next((s for s in self.sides if s.here), None)

    @property
    def plain(self) -> Side:
        """What takes a method that no domain's side knows."""
        return self.sides[-1]

    @property
    def waker(self) -> Side:
        """What wakes a rig without any test."""
        return next((s for s in self.sides if s.wakes), self.plain)

    @property
    def side_widgets(self) -> list[QWidget]:
        """What stands beside the course, of whatever kind of test."""
        return [w for s in self.sides for w in (*s.settings, *s.buttons)]

    def _right(self) -> QWidget:
        frame, column = card((14, 12, 14, 12), 6)
        frame.setFixedWidth(276)
        self.panels = QStackedWidget()
        column.addWidget(self.panels)
        initials = self.lab.facts.operator
        self.walk, self.run = WalkRoundPanel(initials), RunPanel()
        for side in self.sides:
            side.result.report.connect(self.make_report)
        for panel in (self.walk, self.run, *(s.result for s in self.sides)):
            self.panels.addWidget(panel)
        self.walk.sign.connect(lambda key, by: self.link.order("sign", key=key, by=by))
        self.walk.edit.connect(self.editing.edit_walk_round)
        self.walk.asked.connect(self.editing.walk_round_menu)
        self.walk.begin.connect(lambda: self.link.order("begin"))
        return frame

    def _course(self) -> QWidget:
        frame, column = card((14, 8, 14, 8), 4)
        head = QHBoxLayout()
        self.zone = section("Course")
        head.addWidget(self.zone)
        head.addSpacing(8)
        self.told = Elided("", "muted")
        head.addWidget(self.told, 1)
        self.mark = button("Mark  M", tip="Put a note at this moment into the record")
        self.mark.clicked.connect(self.make_mark)
        self.sheet = button("Settings  T", tip="Every setting of this test in words")
        self.sheet.clicked.connect(self.editing.toggle)
        self.limits = button("Limits  L", tip="Limits of every reading and of every curve")
        self.limits.clicked.connect(self.edit_limits)
        for widget in (*self.side_widgets, self.limits, self.sheet, self.mark):
            head.addWidget(widget)
            head.addSpacing(4)
        column.addLayout(head)
        self.courses = QStackedWidget()
        for side in self.sides:
            self.courses.addWidget(side.stretches)
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
        self.nothing.fill()
        self.stages.setCurrentWidget(self.nothing)
        self.lefts.setCurrentWidget(self.docket)
        self.series.hide()
        for part in (self.right, self.below):
            part.hide()
        self.chain.show_none("No bench is awake: choose a plan in the docket, or a sensor in the Ledger.")
        self.docket.show_plan(None, None, False)
        for widget in (self.mark, self.sheet, self.limits, *self.side_widgets):
            widget.setVisible(False)

    def _begin_with(self, what: str) -> None:
        {"New": self.new_test, "Rig": self.hook_up}.get(what, lambda: self.go.emit(what))()

    def hook_up(self) -> None:
        """Wake a rig without any test."""
        if self.state in BUSY:
            self.said.emit("A run is going on: stop it, or wait for its end.")
            return
        self.waker.choose()

    def leave(self) -> None:
        """Let go of what is open, where nothing is driven: the beginning again."""
        if self.state in BUSY:
            self.said.emit("A run is going on: stop it, or wait for its end.")
            return
        self.link.close_run()
        self.link.drop()
        self.prepared = self.plan_file = self.take = self.finding = None
        self.state = ""
        self._nothing()

    def new_test(self) -> None:
        """Begin a plan of any method, and open it."""
        if self.state in BUSY:
            self.said.emit("A run is going on: stop it, or wait for its end.")
            return
        sheet = NewTest(self, self.lab)
        sheet.then(lambda: self.open_plan(sheet.begun))

    def calibrate(self, serial: str, as_state: str = "as found") -> None:
        """Make a comparison plan for a sensor, on a rig that has it, and go to its walk-round."""
        if self.state in BUSY:
            self.said.emit("A run is going on: stop it, or wait for its end.")
            return
        next((s for s in self.sides if s.calibrates), self.plain).calibrate(serial, as_state)

    def open_plan(self, place: Path, resume: Path | None = None) -> None:
        """Show a plan and start its walk-round (nothing is driven yet). `resume`: a take to be continued."""
        if self.state in BUSY:
            self.said.emit("A run is going on: stop it, or wait for its end.")
            return
        self.aside.run("open", lambda: _ready(place), lambda made: self._opened(made[0], made[1], resume))

    def join_plans(self) -> None:
        """Plans that are there as the steps of one."""
        sheet = JoinSheet(self, self.lab)

        def joined() -> None:
            assert sheet.plan is not None
            self.open_plan(sheet.plan)

        sheet.then(joined)

    def _opened(self, place: Path, prepared: Prepared, resume: Path | None = None) -> None:
        self.link.close_run()
        self.plan_file, self.prepared, self.finding = place, prepared, None
        self.editing.forget()
        self.events.setText("")
        self.chain.show_none(WAKING)
        self.take = next_take_folder(place.parent)
        self._show_prepared(True)
        self.link.start(place, self.take, self.pace, resume)
        self._set_state("starting")
        self.docket.show_plan(place, None, False)
        self.show_series()

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
        self.editing.watch()
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
            self.chain.show_none(
                f"This is {kept.name} as it was kept; nothing is connected. Run again wakes its bench."
            )
            self._show_prepared(False)
            self._done(kept)

        self.aside.run("open", work, then)

    def _show_prepared(self, editable: bool) -> None:
        assert self.prepared
        side = self.side
        assert side
        for part in (self.right, self.below):
            part.show()
        self.stages.setCurrentWidget(side.stage)
        self.lefts.setCurrentWidget(side.left or self.docket)
        self.courses.setCurrentWidget(side.stretches)
        self.zone.setText(side.zone.upper())
        side.show_prepared(self.prepared, editable)

    # --- editing ---------------------------------------------------------------------------------------------

    def change(self, changes: dict[str, Any]) -> None:
        """Settings were changed by hand on the thing itself: the plan, the course and the checks follow."""
        if self.side is None or self.plan_file is None:
            return
        if self.state not in ("starting", "walk-round"):
            self.side.show_settings()
            return
        self.side.change(self.plan_file, changes)

    def changed(self, prepared: Prepared) -> None:
        """The plan in hand was changed: everything shows it, and the walk-round goes by it."""
        open_ = self.editing.open
        self.prepared = prepared
        self.editing.wrote()
        self._show_prepared(True)
        if open_:
            self.editing.show()
        self.link.order("replan")

    def finding_before(self) -> Finding | None:
        """The newest finding of an earlier take of the same plan."""
        if self.plan_file is None:
            return None
        for take in reversed(list_takes(self.plan_file.parent)):
            if take.folder != self.take and (finding := take.finding()) is not None:
                return finding
        return None

    def edit_limits(self) -> None:
        """Limits of what the test in hand gives, in the way of its side."""
        if self.side is not None and self.side.limited and self.isVisible():
            self.side.edit_limits()

    # --- running ---------------------------------------------------------------------------------------------

    def show_board(self, board: Board) -> None:
        """One snapshot of the run."""
        if board.state != self.state:
            self._set_state(board.state)
        self.chain.show_tiles(board.tiles)
        if self.side:
            self.side.stage.show_board(board)
        if board.state in ("starting", "walk-round", "preparing"):
            self.walk.show_photos(self.editing.walk_round_photos())
            self.walk.show_checks(board.checks, board.state, self._checks_wanted, board.unread)
        elif board.state in ("running", "easing") and self.side:
            self.side.show_running(board)
        if board.events:
            self.events.setText(board.events[-1])
        rate = (
            f"recording raw · {len(self.prepared.rig.channels) + 1} channels · "
            if self.prepared and board.state == "running"
            else ""
        )
        self.disk.setText(f"{rate}{board.disk_free / 1e9:.0f} GB free" if board.disk_free else "")

    @property
    def _checks_wanted(self) -> int:
        return len(self.prepared.plan.walk_round) if self.prepared is not None else 1

    def _set_state(self, state: str) -> None:
        before, self.state = self.state, state
        shown: tuple[QWidget, ...] = ()
        if self.side:
            planned = state in ("starting", "walk-round")
            shown = self.side.settings if planned else self.side.buttons if state == "running" else ()
        for one in self.side_widgets:
            one.setVisible(one in shown)
        self.mark.setVisible(state == "running")
        self.sheet.setVisible(state in ("starting", "walk-round"))
        at_rest = state in ("starting", "walk-round", "done")
        self.limits.setVisible(at_rest and self.side is not None and self.side.limited)
        if state not in ("starting", "walk-round"):
            self.editing.hide()
        self.running.emit(state in ("running", "easing", "preparing"))
        if state in ("preparing", "running") and before not in ("preparing", "running"):
            self.show_series()
        if state in ("starting", "walk-round", "preparing"):
            self.panels.setCurrentWidget(self.walk)
            self.walk.show_checks(self.walk.shown if state != "starting" else [], state, self._checks_wanted)
        elif state in ("running", "easing"):
            if self.panels.currentWidget() is not self.run:
                self.panels.setCurrentWidget(self.run)
                if self.side and self.prepared:
                    self.side.begin(self.prepared)
                self.docket.show_plan(self.plan_file, self.take, True)
        elif state == "reading":
            self.told.setText("Reading the take: every point is computed again from the raw record.")
        elif state in ("done", "failed") and before != state and self.take is not None:
            board = self.link.latest
            if (self.take / "events.jsonl").exists():
                self._done(Take(self.take))
            elif state == "failed":
                self.said.emit((board.message if board else None) or "The run could not be begun.")
            self.link.close_run()

    def _done(self, take: Take) -> None:
        self.state = "done"
        self.finding = take.finding()
        self.limits.setVisible(self.side is not None and self.side.limited)
        status = take.status()
        reason = take.reason() if status != "done" else None
        if self.side:
            self.side.show_done(take, status, reason)
        self.after.wait_for(self.lab, take)

    def show_series(self) -> None:
        """The row of steps, where the plan in hand is one of several."""
        series = series_of(self.plan_file) if self.plan_file is not None else None
        self.series.show_series(series, self.plan_file, self.busy)

    def ended(self, take: Take, more: str, note: str | None) -> None:
        """What is told of a take that is finished, on whatever side: `more` beside its length, a `note` below."""
        length = next((e["t"] for e in reversed(take.events()) if e["kind"] == "end"), 0.0)
        told = (take.name, take.status(), f"{clock(length)} recorded", more)
        self.told.setText(" · ".join(t for t in told if t))
        self.events.setText(note or "")
        self.docket.show_plan(self.plan_file, take.folder, False)
        self.show_series()
        self.running.emit(False)

    def _lost(self, why: str) -> None:
        self.said.emit(why)
        if self.take is not None and (self.take / "events.jsonl").exists():
            self._done(Take(self.take))
        else:
            self.state = "done"
            self.running.emit(False)

    def repaint_charts(self) -> None:
        """Take on the palette in force."""
        for side in self.sides:
            side.repaint_charts()

    def stop(self) -> None:
        """F12."""
        self.link.order("stop", why="stopped by the operator (F12)")

    def make_mark(self) -> None:
        if self.state != "running":
            return
        ask_line(self, "What happened?", "Mark", lambda text: self.link.order("mark", text=text))

    # --- after -----------------------------------------------------------------------------------------------

    def make_report(self) -> None:
        """The report of the take in hand, into the Folio."""
        from ...folio.keeping import begin_report

        if self.take is None:
            return
        take = Take(self.take)
        self.said.emit("The report is being written.")
        self.aside.run("report", lambda: begin_report(self.lab, take), lambda place: self.paper.emit(name_of(place)))

    def again(self) -> None:
        """Another take."""
        if self.side:
            self.side.again()

    def carry_on(self) -> None:
        """A new take of the same plan from where the last one was cut; its walk-round comes first."""
        if self.take is not None and self.plan_file is not None:
            self.open_plan(self.plan_file, resume=self.take)


def _ready(place: Path) -> tuple[Path, Prepared]:
    """What is opened: the plan, or the next step of its series; the newest one that was made of the plan as it is now
    and not run to its end, else a new one."""
    if load_plan(place).several:
        made = sorted(p.parent for p in place.parent.glob("series*/series.yaml"))
        fresh = [f for f in made if (f / "series.yaml").stat().st_mtime >= place.stat().st_mtime]
        series = series_in(fresh[-1]) if fresh else None
        if series is None or series.next is None:
            series = begin_series(place)
        assert series.next is not None
        place = series.next.plan
    return place, prepare(place)
