"""The hook-up on the Bench: a rig awake without a test, changed while one looks at it, and driven by hand."""

from __future__ import annotations

import datetime
import os
from collections.abc import Callable
from pathlib import Path
from typing import TYPE_CHECKING, Any

from PyQt6.QtWidgets import QComboBox, QWidget

from ....core.errors import BadInput
from ....core.figures import fitting
from ....desktop.bench.course_view import clock
from ....desktop.bench.new_test import NewTest, rigs_of
from ....desktop.bench.run_result import RunResult
from ....desktop.bench.side import Side
from ....desktop.ledger.sensor_forms import SensorSheet
from ....desktop.parts.forms import Field, Sheet
from ....desktop.parts.panels import Row
from ....desktop.parts.widgets import button, three
from ....engine.newplan import new_plan
from ....engine.preparing import Prepared
from ....lab.editing import sync
from ....lab.elsewhere import STEPS
from ....lab.patterns import slug
from ....lab.plans import GuardPart, put_plan
from ....lab.takes import Take
from ....lab.textfiles import load_yaml
from ....protocol.messages import Board
from ....rig.editing import add_channel, channels_in, plug
from ....rig.model import load_rig
from .device_sheets import FrontEndSheet, InstrumentSheet, ShakerSheet
from .gauge_sheet import GaugeSheet
from .hand_strip import HandStrip
from .rig_sheets import ChannelSheet, GuardSheet, NewRigSheet, TableSheet
from .stage import HookUpStage, SensorsColumn

if TYPE_CHECKING:
    from ....desktop.bench.place import BenchPlace

BY_HAND = "by-hand"
NEW = "A new rig…"


class WhichRig(Sheet):
    """Which rig is to be woken."""

    def __init__(self, parent: QWidget, lab: Any) -> None:
        self.rigs = rigs_of(lab)
        self.chosen: Path | None = None
        names = [label for label, _, rig in self.rigs if rig is not None]
        super().__init__(
            parent, "Hook up a rig", "It is woken without any test: look at every input, plug sensors, drive by hand.",
            [Field("rig", "Rig", choices=(*names, NEW))], "Wake it", self._take,
        )  # fmt: skip

    def _take(self, held: Any) -> None:
        self.chosen = next((p for label, p, _ in self.rigs if label == held["rig"]), None)


class HookUpBench(Side):
    """What the Bench shows and does while a rig is put together."""

    name = "hookup"
    wakes = True
    limited = False

    def __init__(self, bench: BenchPlace) -> None:
        super().__init__(bench)
        self.stage = HookUpStage()
        self.stretches = HandStrip()
        self.left = SensorsColumn()
        self.result = RunResult()
        self.result.nothing = "No row was noted."
        self.result.again.connect(bench.again)
        self.end = button("End", tip="The drive comes down, and what was noted is read from the record")
        self.end.clicked.connect(lambda: bench.link.order("skip"))
        self.buttons = (self.end,)
        self.stage.asked.connect(self._change_input)
        self.stage.plugged.connect(self._plug)
        self.stage.add.connect(lambda: self._edit(lambda: add_channel(self.rig_file)))
        self.stage.table.connect(lambda: self._sheet(TableSheet(bench, self.rig_file)))
        self.stage.guard.connect(self._guard)
        self.stage.shaker.connect(lambda: self._sheet(ShakerSheet(bench, self.rig_file)))
        self.stage.front_end.connect(lambda: self._sheet(FrontEndSheet(bench, self.rig_file)))
        self.stage.instrument.connect(lambda name: self._sheet(InstrumentSheet(bench, self.rig_file, name)))
        self.stage.gauge.connect(self._gauge)
        self.stage.serve.connect(self._serve)
        self.left.offered.connect(self._offered)
        self.left.new.clicked.connect(self._new_sensor)
        self.left.back.clicked.connect(bench.leave)
        self.stretches.drive.connect(lambda body: bench.link.order("drive", **body))
        self.stretches.jog.moved.connect(lambda speed: bench.link.order("jog", speed=speed))
        self.stretches.row.connect(lambda body: bench.link.order("row", **body))
        self.stretches.said.connect(bench.said)

    zone = "By hand"

    @property
    def here(self) -> bool:
        prepared = self.bench.prepared
        return prepared is not None and prepared.method.name == BY_HAND

    @property
    def rig_file(self) -> Path:
        assert self.bench.prepared is not None
        return self.bench.prepared.rig_file

    # --- waking ----------------------------------------------------------------------------------------------

    def choose(self) -> None:
        """Which rig, or a new one."""
        sheet = WhichRig(self.bench, self.bench.lab)

        def chosen() -> None:
            if sheet.chosen is not None:
                self.wake(sheet.chosen)
                return
            new = NewRigSheet(self.bench, self.bench.lab)
            new.then(lambda: new.rig is None or self.wake(new.rig))

        sheet.then(chosen)

    def wake(self, rig: Path) -> bool:
        """A rig, without any test: its plan of driving by hand is kept with the rig's name, so that its log is."""
        lab = self.bench.lab
        place = lab.jobs / "hook-up" / slug(rig.name.removesuffix(".rig.yaml")) / "by-hand.plan.yaml"
        try:
            plan = new_plan(BY_HAND, rig, load_rig(rig).name, lab=lab)
            place.parent.mkdir(parents=True, exist_ok=True)
            if place.exists():  # what was set there stays; rig and sensors are as they are now
                held = load_yaml(place)
                plan["rig"] = os.path.relpath(rig.resolve(), place.parent.resolve())
                sync(place, {**plan, **{k: held[k] for k in ("steps", "walk_round", "guards") if k in held}})
            else:
                put_plan(place, plan)
        except (BadInput, OSError) as problem:
            self.bench.said.emit(str(problem))
            return False
        self.bench.open_plan(place)
        return True

    def _edit(self, change: Callable[[], object]) -> None:
        """Change the rig's file, and wake it anew."""
        if self.bench.busy:
            self.bench.said.emit("The rig is being driven: end that before it is changed.")
            return
        rig = self.rig_file
        try:
            change()
        except BadInput as problem:
            self.bench.said.emit(str(problem))
            return
        self.wake(rig)

    def _sheet(self, sheet: Sheet) -> None:
        if self.bench.busy:
            self.bench.said.emit("The rig is being driven: end that before it is changed.")
            sheet.reject()
            return
        rig = self.rig_file
        sheet.then(lambda: self.wake(rig))

    def _change_input(self, index: int) -> None:
        self._sheet(ChannelSheet(self.bench, self.rig_file, index, self._entries()))

    def _gauge(self) -> None:
        serials = [e.sensor.serial for e in self._entries()
                   if e.sensor.kind in STEPS and e.sensor.retired is None]  # fmt: skip
        self._sheet(GaugeSheet(self.bench, self.rig_file, serials))

    def _guard(self, held: GuardPart | None) -> None:
        self._sheet(GuardSheet(self.bench, self.rig_file, held))

    def _entries(self) -> list[Any]:
        ledger = self.bench.lab.ledger()
        try:
            return list(ledger.entries())
        finally:
            ledger.close()

    def _plug(self, index: int, serial: str) -> None:
        sensor = next(e.sensor for e in self._entries() if e.sensor.serial == serial)
        self._edit(lambda: plug(self.rig_file, index, sensor))

    def _offered(self, serial: str) -> None:
        """Into the first input that has no sensor."""
        rows = channels_in(self.rig_file)
        free = next((i for i, r in enumerate(rows) if not r.get("sensor") and r.get("kind") != "current"), None)
        if free is None:
            self.bench.said.emit("Every input has its sensor: add an input, or drag it onto the one it replaces.")
            return
        self._plug(free, serial)

    def _new_sensor(self) -> None:
        sheet = SensorSheet(self.bench, self.bench.lab)
        sheet.then(self._fill)

    def _fill(self) -> None:
        self.left.fill(self._entries(), datetime.date.today())

    def _serve(self, name: str) -> None:
        """A new test of a method on this rig."""
        sheet = NewTest(self.bench, self.bench.lab)
        sheet.choose(name)
        box = sheet.fields.boxes["rig"]
        assert isinstance(box, QComboBox)
        box.setCurrentIndex(next((i for i, (place, _, _) in enumerate(sheet.order) if place == self.rig_file), 0))
        sheet.then(lambda: self.bench.open_plan(sheet.begun))

    # --- the run ---------------------------------------------------------------------------------------------

    def show_prepared(self, prepared: Prepared, editable: bool) -> None:
        self.stage.show_prepared(prepared, editable)
        self._fill()
        self.stretches.wake(False, {})
        self.stretches.bar.highest = prepared.settings.highest
        self.bench.told.setText(f"the rig is kept as {prepared.rig_file.name}")

    def begin(self, prepared: Prepared) -> None:
        super().begin(prepared)
        inputs = {i.role: (i.unit, 1 / i.scale) for i in prepared.facts.inputs}
        self.stretches.load = prepared.settings.load
        self.stretches.wake(True, inputs)

    def skip(self) -> None:
        """N: a row."""
        self.stretches.note_it()

    def show_running(self, board: Board) -> None:
        prepared = self.bench.prepared
        assert prepared is not None
        per = {i.role: (i.unit, 1 / i.scale) for i in prepared.facts.inputs}
        rows: list[Row] = []
        for role, f in (board.live.get("figures") or {}).items():
            unit, scale = per.get(role, ("V", 1.0))
            by, own = fitting(f["rms"] / scale, unit)
            told = f"{three(by * f['rms'] / scale)} {own}"
            more = [] if role == "drive" or f.get("thd") is None else [f"thd {_thd(f)}, thd + n {three(f['thd_n'])} %"]
            if unit == "V" and role != "drive":
                if prepared.settings.load is not None:
                    more.insert(0, f"{three((f['rms'] / scale) ** 2 / prepared.settings.load)} W")
                by, own = fitting(f["mean"] / scale, unit)
                more.append(f"DC {three(by * f['mean'] / scale)} {own}")
            rows.append((role, told, None, 0.0, "plain", ", ".join(more)))
        self.bench.run.show_board(board, rows, "rms")
        self.stretches.show_live(board.live)
        self.bench.told.setText(f"{Path(board.take or '').name} · {clock(board.t)} recorded")

    def show_done(self, take: Take, status: str, reason: str | None) -> None:
        bench = self.bench
        self.stretches.wake(False, {})
        self.stage.sleep()
        bench.panels.setCurrentWidget(self.result)
        cut = reason or (status if status != "done" else None)
        self.result.show_finding(bench.finding, cut, False)
        bench.ended(take, "", reason)


def _thd(figures: dict[str, Any]) -> str:
    """Harmonics, or what they stay below where noise hides them."""
    if figures["thd"] < figures["thd_floor"]:
        return f"< {three(max(figures['thd_high'], 1e-4))} %"
    return f"{three(figures['thd'])} %"
