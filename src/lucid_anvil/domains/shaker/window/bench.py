"""The shaker's side of the Bench: its Stage, stretches and result, orders while it runs, sensors on their tiles."""

from __future__ import annotations

import datetime
import shutil
import time
from collections.abc import Callable
from pathlib import Path
from typing import TYPE_CHECKING, Any

from PyQt6.QtCore import QPoint
from PyQt6.QtGui import QCursor
from PyQt6.QtWidgets import QFileDialog, QMenu

from ....core.errors import BadInput
from ....desktop.bench.course_view import clock
from ....desktop.bench.run_orders import RunOrders
from ....desktop.bench.run_result import RunResult
from ....desktop.bench.side import Side
from ....desktop.bench.stretch_view import StretchView
from ....desktop.parts import course_menu
from ....desktop.parts.widgets import button
from ....engine.preparing import Prepared, prepare
from ....formats import ENDINGS
from ....formats.teds import decode
from ....lab.editing import settings_in
from ....lab.identity import matching, number_of, take_in
from ....lab.planning import record_of_entry
from ....lab.takes import Take
from ....lab.textfiles import load_yaml
from ....protocol.messages import Board
from ..planning import stretched_course, swap_sensor
from ..settings import ShakerSettings
from .margins import head_of, shaker_rows
from .record_fields import records_of, with_part, with_record, without_record
from .stage import ShakerStage

if TYPE_CHECKING:
    from ....desktop.bench.place import BenchPlace


class ShakerBench(Side):
    """What the Bench shows and does when the plan in hand is a shaker test; the Bench keeps plan, take and state."""

    name = "shaker"

    def __init__(self, bench: BenchPlace) -> None:
        super().__init__(bench)
        self.stage = ShakerStage()
        self.stage.edited.connect(bench.change)
        self.stage.fields.edited.connect(self.record_edited)
        self.stage.fields.more.connect(self.ask_record)
        self.stage.fields.less.connect(lambda number: self._record(lambda held: without_record(held, number)))
        self.stretches = StretchView()
        self.stretches.stretched.connect(self.stretched)
        self.stretches.asked.connect(self.stretch_asked)
        self.result = RunResult()
        self.result.again.connect(bench.again)
        self.result.carry_on.connect(bench.carry_on)
        self.orders = RunOrders(bench)
        self.next = button("Next  N", tip="Leave this stretch of the course and go on with the next")
        self.next.clicked.connect(self.skip)
        self.more = button("Add a stretch", tip="Sweep, dwell, random, pause: at the end of the course")
        self.more.clicked.connect(self.add_stretch)
        self.done = button("Done, go on  G", "main", "What the window asks for is done")
        self.done.clicked.connect(self.go)
        self.settings = (self.more,)
        self.buttons = (*self.orders.buttons, self.next, self.done)

    @property
    def here(self) -> bool:
        """Whether what is in hand is a shaker test."""
        prepared = self.bench.prepared
        return prepared is not None and issubclass(prepared.method.Settings, ShakerSettings)

    def show_prepared(self, prepared: Prepared, editable: bool) -> None:
        self.stage.show_prepared(prepared, editable)
        if editable and prepared.method.needs_record:
            self.stage.fields.show_profile(self._profile())
        self.stage.show_earlier(self.bench.finding_before())
        self.show_stretches(prepared, editable)

    def begin(self, prepared: Prepared) -> None:
        """The run has begun: nothing can be dragged any more, the last take lies behind."""
        self.orders.offer(prepared.method)
        self.stage.profile.editable = False
        self.stretches.editable = False
        self.stage.show_prepared(prepared, False)
        self.stage.show_earlier(self.bench.finding_before())
        if prepared.method.name == "time-replication":
            self.stage.choose("passes")

    def show_stretches(self, prepared: Prepared, editable: bool) -> None:
        self.stretches.show_course(prepared.course(), editable)
        text = f"{len(self.stretches.items)} stretches, about {clock(self.stretches.total)}"
        if editable:
            text += "; drag an edge, double-click for a time, right-click for more"
        self.bench.told.setText(text)

    def stretched(self, item: int, duration: float) -> None:
        """A block of the course was made longer or shorter by hand."""
        assert self.bench.prepared
        held = self.bench.prepared.course()[item]
        if held.step is None:
            return
        course = [s.model_dump(exclude_none=True, exclude_defaults=True) for s in self.bench.prepared.settings.course]
        if not course:
            usual = {"sine-sweep": {"sweep": "up"}, "random-vibration": {"random": True}}
            if self.bench.prepared.method.name not in usual:
                return
            course = [usual[self.bench.prepared.method.name]]
        self.bench.change({"course": stretched_course(course, held.step, held.rung, duration - 2.0)})

    def _profile(self) -> dict[str, Any]:
        """As the plan's own text has it, or the file that it names."""
        place = self.bench.plan_file
        assert place is not None
        held = settings_in(load_yaml(place)).get("profile") or {}
        return dict(load_yaml(place.parent / held) if isinstance(held, str) else held)

    def record_edited(self, number: int, key: str, text: str) -> None:
        """Something is to be done otherwise to a record that is played."""
        self._record(lambda held: with_part(held, key, text, number))

    def ask_record(self) -> None:
        """Another file, played after those that are there."""
        kinds = " ".join(f"*{e}" for e in ENDINGS)
        place, _ = QFileDialog.getOpenFileName(self.bench, "A record to be played after it", "", f"Records ({kinds})")
        if place:
            self.add_record(Path(place))

    def add_record(self, file: Path) -> None:
        """A file's motion, played after what is there; the file is copied beside the plan."""

        def with_it(held: dict[str, Any]) -> dict[str, Any]:
            assert self.bench.plan_file is not None
            beside = self.bench.plan_file.parent / file.name
            if not beside.exists():
                shutil.copyfile(file, beside)
            elif not (beside.samefile(file) or beside.read_bytes() == file.read_bytes()):
                raise BadInput(f"{file.name}: another file of that name lies beside the plan: rename one of them.")
            self.stage.fields.number = len(records_of(held))
            return with_record(held, {"file": file.name})

        self._record(with_it)

    def _record(self, change: Callable[[dict[str, Any]], dict[str, Any]]) -> None:
        before = self._profile()
        try:
            made = change(before)
        except BadInput as problem:
            self.stage.tell(str(problem))
            self.stage.fields.show_profile(before)
            return
        self.bench.change({"profile": made})

    # --- the course ------------------------------------------------------------------------------------------

    def _course(self) -> course_menu.Course:
        """As the plan's own file has it."""
        assert self.bench.plan_file is not None and self.bench.prepared is not None
        return course_menu.course_in(settings_in(load_yaml(self.bench.plan_file)), self.bench.prepared.method.name)

    def _put_course(self, course: course_menu.Course) -> None:
        self.bench.change({"course": course})

    def add_stretch(self) -> None:
        """A menu of what can be added at the end."""
        if self.bench.prepared is None:
            return
        menu = course_menu.new_menu(
            self.bench, self.bench.prepared.method.name,
            lambda step: self._put_course(course_menu.added(self._course(), step)),
        )  # fmt: skip
        self.menu = menu
        menu.popup(self.more.mapToGlobal(self.more.rect().topLeft()) - QPoint(0, menu.sizeHint().height()))

    def stretch_asked(self, item: int, where: QPoint) -> None:
        """What can be done with a block of the course; the probe run is none of it."""
        assert self.bench.prepared is not None
        at = self.bench.prepared.course()[item].step
        if at is None:
            self.bench.said.emit("The probe run is set under control, probe: Settings, T.")
            return

        def tried(make: Callable[[], course_menu.Course]) -> None:
            try:
                self._put_course(make())
            except BadInput as problem:
                self.bench.said.emit(str(problem))

        def copied() -> course_menu.Course:
            course = self._course()
            return course_menu.added(course, course[at], at)

        self.menu = course_menu.stretch_menu(self.bench, where, [
            ("Change…", lambda: self.change_stretch(at)), ("Copy", lambda: tried(copied)),
            ("Earlier", lambda: tried(lambda: course_menu.moved(self._course(), at, -1))),
            ("Later", lambda: tried(lambda: course_menu.moved(self._course(), at, 1))),
            ("Take it away", lambda: tried(lambda: course_menu.without(self._course(), at))),
        ])  # fmt: skip

    def change_stretch(self, at: int) -> None:
        """Its own values, typed."""
        sheet = course_menu.StretchSheet(self.bench, self._course(), at)
        sheet.then(lambda: self._put_course(sheet.course or []))

    def change(self, place: Path, changes: dict[str, Any]) -> None:
        """Into the plan's own files; a change that can't be is taken back and said."""

        def refused(why: str) -> None:
            self.stage.tell(why)
            self.stage.draw_profile()
            if self.bench.prepared is not None and self.bench.prepared.method.needs_record:
                self.stage.fields.show_profile(self._profile())

        self.bench.editing.change_step(place, changes, refused)

    def tile_menu(self, role: str) -> None:
        """A click on a sensor's tile before the run: another sensor from the ledger."""
        if self.bench.state not in ("starting", "walk-round") or not self.here or self.bench.prepared is None:
            return
        if role not in self.bench.prepared.facts.sensitivity or self.bench.plan_file is None:
            return
        menu = QMenu(self.bench)
        memory = self.bench.link.latest.identities.get(role) if self.bench.link.latest else None
        if memory is not None:
            menu.addAction("Take its data sheet into the ledger", lambda: self.take_sheet(role, memory))
            menu.addSeparator()
        for serial, text in self.choices():
            menu.addAction(text, lambda s=serial: self.swap(role, s))
        menu.exec(QCursor.pos())

    def take_sheet(self, role: str, memory: str) -> None:
        """What the sensor says of itself goes into the ledger, and from there onto the channel."""
        lab = self.bench.lab

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
            self.bench.said.emit(made[1])
            self.swap(role, made[0])

        self.bench.aside.run("change", work, then)

    def choices(self) -> list[tuple[str, str]]:
        ledger = self.bench.lab.ledger()
        made = [
            (e.sensor.serial, f"{e.sensor.serial} · {e.last.sensitivity:.4g} {e.last.unit} · to {e.last.due}")
            for e in ledger.entries()
            if e.sensor.kind == "accelerometer" and e.last is not None
        ]
        ledger.close()
        return made

    def swap(self, role: str, serial: str) -> None:
        """Another sensor on a channel: units, guards and checks follow."""
        place = self.bench.plan_file
        assert place is not None and self.bench.prepared is not None
        lab, rig = self.bench.lab, self.bench.prepared.rig_file

        def work() -> Prepared:
            swap_sensor(lab, place, role, serial)
            return prepare(place, rig)

        self.bench.aside.run("change", work, self.bench.changed)

    def go(self) -> None:
        """What a person was asked for is done: only then."""
        if self.bench.state == "running" and self.here and not self.done.isHidden():
            self.bench.link.order("go")

    def skip(self) -> None:
        if self.bench.state == "running" and self.here and self.done.isHidden():
            self.bench.link.order("skip")

    def show_running(self, board: Board) -> None:
        assert self.bench.prepared
        self.bench.run.show_board(board, shaker_rows(board, self.bench.prepared), head_of(board))
        live = board.live
        probing = live.get("stage") in (None, "probe")
        first = 1 if self.bench.prepared.settings.control.probe.on else 0
        item = 0 if probing and first else int(live.get("item", 0)) + first
        items = self.stretches.items
        share = float(live.get("at", 0.0)) / max(float(live.get("of", 0.0)), 1e-9) if live.get("of") else 0.0
        if probing and items:
            share = board.t / max(items[0].duration, 1e-9)
        self.stretches.show_progress(min(item, len(items) - 1), min(share, 1.0))
        left = sum(i.duration for i in items[item + 1 :]) + (1 - min(share, 1.0)) * items[item].duration
        ends = time.strftime("%H:%M", time.localtime(time.time() + left / max(board.speed, 0.1)))
        asking = live.get("stage") == "asking"
        self.done.setVisible(asking)
        self.next.setVisible(not asking)
        if asking:
            self.bench.told.setText(f"{live['ask']}. The table rests.")
            return
        name = Path(board.take or "").name
        self.bench.told.setText(f"{name} · {clock(board.t)} of about {clock(board.t + left)} · ends about {ends}")

    def show_done(self, take: Take, status: str, reason: str | None) -> None:
        self.bench.panels.setCurrentWidget(self.result)
        cut = reason or (status if status != "done" else None)
        if self.bench.finding is not None:
            self.stage.show_finding(self.bench.finding, take, cut)
        elif cut is not None:
            self.stage.show_cut(take, cut)
        if cut is None and self.bench.prepared is not None and self.bench.prepared.method.name == "time-replication":
            self.stage.choose("passes")
        self.result.show_finding(self.bench.finding, cut, take.position() is not None)
        where = take.position() if cut is not None else None
        if where is not None and self.stretches.items:
            probe = self.bench.prepared is not None and self.bench.prepared.settings.control.probe.on
            item = min(int(where.get("item", 0)) + (1 if probe else 0), len(self.stretches.items) - 1)
            share = float(where.get("at", 0.0)) / max(self.stretches.items[item].duration, 1e-9)
            self.stretches.show_progress(item, min(share, 1.0))
        else:
            self.stretches.show_progress(None, 0.0, all_done=cut is None)
        self.bench.ended(take, "", reason)
