"""The Bench: set up and run. Docket, Chain, Stage, Margins and Guards, Course."""

from __future__ import annotations

from collections.abc import Callable
from pathlib import Path
from typing import Any

from PyQt6.QtCore import pyqtSignal
from PyQt6.QtWidgets import QHBoxLayout, QStackedWidget, QVBoxLayout, QWidget

from ..core.errors import BadInput
from ..engine.preparing import Prepared, prepare, prepared_from
from ..lab.findings import Finding
from ..lab.place import Lab
from ..lab.shaker_planning import change_step
from ..lab.takes import Take, list_takes, next_take_folder, plan_beside
from ..lab.textfiles import whole_write
from ..protocol.messages import Board
from ..rig.choosing import rig_of
from .amplifier_bench import AmplifierBench
from .asking import ask_line
from .background import Background
from .chain_view import WAKING, ChainView
from .comparison_bench import ComparisonBench
from .course_view import clock
from .docket import Docket
from .empty_stage import EmptyStage
from .link import Link
from .listen_bench import ListenBench
from .panels import RunPanel
from .shaker_bench import ShakerBench
from .side import Side
from .walk_panel import WalkRoundPanel
from .widgets import Elided, button, card, label, section

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
        self.aside = Background(self)
        self.aside.failed.connect(self.said)
        self.aside.failed.connect(lambda _why: self.comparison.result.go.setEnabled(True))
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
        self.comparison, self.shaker = ComparisonBench(self), ShakerBench(self)
        self.listen, self.amplifier = ListenBench(self), AmplifierBench(self)
        self.sides: tuple[Side, ...] = (self.comparison, self.shaker, self.listen, self.amplifier)
        self.chain = ChainView()
        self.chain.clicked.connect(self.shaker.tile_menu)
        column.addWidget(self.chain)
        middle = QHBoxLayout()
        middle.setSpacing(10)
        self.stages = QStackedWidget()
        self.nothing = EmptyStage(lab)
        self.nothing.plan.connect(lambda place: self.open_plan(place))
        self.nothing.place.connect(self.go)
        self.stages.addWidget(self.nothing)
        for side in self.sides:
            self.stages.addWidget(side.stage)
        middle.addWidget(self.stages, 1)
        self.right, self.below = self._right(), self._course()
        middle.addWidget(self.right)
        column.addLayout(middle, 1)
        column.addWidget(self.below)
        link.board.connect(self.show_board)
        link.lost.connect(self._lost)
        self._nothing()

    @property
    def side(self) -> Side | None:
        """What knows the plan in hand; None where there is none."""
        return next((s for s in self.sides if s.here), None)

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
        self.walk.begin.connect(lambda: self.link.order("begin"))
        return frame

    def _course(self) -> QWidget:
        frame, column = card((14, 8, 14, 8), 4)
        head = QHBoxLayout()
        head.addWidget(section("Course"))
        head.addSpacing(8)
        self.told = Elided("", "muted")
        head.addWidget(self.told, 1)
        self.mark = button("Mark  M", tip="Put a note at this moment into the record")
        self.mark.clicked.connect(self.make_mark)
        for widget in (*self.side_widgets, self.mark):
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
        for part in (self.right, self.below):
            part.hide()
        self.chain.show_none("No bench is awake: choose a plan in the docket, or a sensor in the Ledger.")
        self.docket.show_plan(None, None, False)
        for widget in (self.mark, *self.side_widgets):
            widget.setVisible(False)

    def calibrate(self, serial: str, as_state: str = "as found") -> None:
        """Make a comparison plan for a sensor, on a rig that has it, and go to its walk-round."""
        if self.state in BUSY:
            self.said.emit("A run is going on: stop it, or wait for its end.")
            return
        self.comparison.calibrate(serial, as_state)

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
        self.chain.show_none(WAKING)
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
        self.courses.setCurrentWidget(side.stretches)
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
        self.prepared = prepared
        self._show_prepared(True)
        self.link.order("replan")

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
            self.changed(made)

        self.aside.run("change", work, then)

    # --- running ---------------------------------------------------------------------------------------------

    def show_board(self, board: Board) -> None:
        """One snapshot of the run."""
        if board.state != self.state:
            self._set_state(board.state)
        self.chain.show_tiles(board.tiles)
        if self.side:
            self.side.stage.show_board(board)
        if board.state in ("starting", "walk-round", "preparing"):
            self.walk.show_checks(board.checks, board.state)
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

    def _set_state(self, state: str) -> None:
        before, self.state = self.state, state
        shown: tuple[QWidget, ...] = ()
        if self.side:
            planned = state in ("starting", "walk-round")
            shown = self.side.settings if planned else self.side.buttons if state == "running" else ()
        for one in self.side_widgets:
            one.setVisible(one in shown)
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
        status = take.status()
        reason = take.reason() if status != "done" else None
        if self.side:
            self.side.show_done(take, status, reason)

    def ended(self, take: Take, more: str, note: str | None) -> None:
        """What is told of a take that is finished, on whatever side: `more` beside its length, a `note` below."""
        length = next((e["t"] for e in reversed(take.events()) if e["kind"] == "end"), 0.0)
        told = (take.name, take.status(), f"{clock(length)} recorded", more)
        self.told.setText(" · ".join(t for t in told if t))
        self.events.setText(note or "")
        self.docket.show_plan(self.plan_file, take.folder, False)
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
        text = ask_line(self, "What happened?", "Mark")
        if text:
            self.link.order("mark", text=text)

    # --- after -----------------------------------------------------------------------------------------------

    def make_report(self) -> None:
        """The report of the take in hand, into the Folio."""
        from ..folio.keeping import keep_report

        if self.take is None:
            return
        take = Take(self.take)
        self.said.emit("The report is being written.")
        self.aside.run("report", lambda: keep_report(self.lab, take), lambda place: self.paper.emit(place.stem))

    def again(self) -> None:
        """Another take."""
        if self.side:
            self.side.again()

    def carry_on(self) -> None:
        """A new take of the same plan from where the last one was cut; its walk-round comes first."""
        if self.take is not None and self.plan_file is not None:
            self.open_plan(self.plan_file, resume=self.take)
