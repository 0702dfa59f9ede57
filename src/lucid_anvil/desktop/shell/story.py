"""The demo's story through the real window: each kind of work begun, run and looked at, with pictures."""

from __future__ import annotations

import time
from collections.abc import Callable
from pathlib import Path
from typing import Any

from ...lab.place import Lab
from .demo import application


def wait_until(done: Callable[[], bool], timeout: float, every: Callable[[], None] | None = None) -> bool:
    """Run the event loop until something is so."""
    from PyQt6.QtWidgets import QApplication

    until = time.monotonic() + timeout
    while time.monotonic() < until:
        QApplication.processEvents()
        if done():
            return True
        if every:
            every()
        time.sleep(0.01)
    return False


def settle(seconds: float = 0.4) -> None:
    """Let the window paint."""
    wait_until(lambda: False, seconds)


LOUD = (1.0, 1.012, 0.985, 1.006, 0.994, 1.02, 1.03, 1.045)
RISE = (1.0, 0.994, 1.008, 1.003, 0.99, 1.012, 1.004, 0.997)
"""Of drivers on the line: their sensitivity and resonance re the first; the last ones grow louder"""


class Story:
    """The demo's course through the window, with a picture at each stop."""

    def __init__(self, lab: Lab, pictures: Path, say: Callable[[str], None], pace: str = "fast") -> None:
        self.app = application()
        from .window import MainWindow

        self.lab, self.pictures, self.say = lab, pictures, say
        self.window = MainWindow(lab, pace)
        self.window.show()

    def shot(self, name: str) -> None:
        """One picture of the window."""
        settle(0.35)
        place = self.pictures / f"{name}.png"
        self.window.grab().save(str(place))
        self.say(f"picture {place}")

    def _walk(self) -> None:
        """Sign what a person signs, and begin."""
        bench = self.window.bench
        if not wait_until(lambda: bench.state == "walk-round" and bool(bench.walk.shown), 60):
            raise RuntimeError("the bench did not come up")
        for check in [c for c in bench.walk.shown if c.kind == "signed"]:
            bench.walk.sign.emit(check.key, self.lab.facts.operator)
        if not wait_until(bench.walk.go.isEnabled, 20):
            raise RuntimeError(f"the walk-round was not done: {bench.walk.why.text()}")
        bench.walk.go.click()

    def run(self, serial: str = "GA-11") -> None:
        bench = self.window.bench
        self.shot("ledger")
        self.window.ledger.reload(serial)
        self.window.ledger.calibrate.emit(serial)
        if not wait_until(lambda: bench.state == "walk-round" and bool(bench.walk.shown), 40):
            raise RuntimeError("the bench did not come up")
        self.shot("bench-before")
        self._walk()

        def far() -> bool:
            latest = self.window.link.latest
            return latest is not None and (len(latest.points) >= 17 or latest.state in ("done", "failed"))

        wait_until(far, 180)
        self.shot("bench-running")
        if not wait_until(lambda: bench.state == "done" and bench.finding is not None, 240):
            raise RuntimeError("the run did not come to its end")
        self.shot("bench-done")
        bench.kinds["comparison"].point(10000.0)
        self.shot("budget")
        bench.kinds["comparison"].stage.choose("deviation")
        bench.kinds["comparison"].accept("as found", self.lab.facts.operator, False)
        if not wait_until(lambda: any(self.lab.certificates.glob("*.pdf")) and not bench.aside.open, 60):
            raise RuntimeError(f"it was not accepted: {self.window.strip.text()}")
        self.window.go("Folio")
        wait_until(lambda: False, 1.2)
        self.shot("folio")
        self.window.go("Lightbox")
        self.shot("lightbox")
        take = bench.take
        assert take is not None and bench.finding is not None
        self.say(f"take {take}")
        for certificate in sorted(self.lab.certificates.glob("*.pdf")):
            self.say(f"certificate {certificate}")
        self.say(f"verdict {bench.finding.verdict}")

    def open_plan(self, article: str, name: str) -> None:
        """One of the open job's plans, up to its walk-round."""
        bench = self.window.bench
        self.window.go("Bench")
        wait_until(lambda: not bench.aside.open, 10)
        place = self.lab.jobs / (self.lab.facts.job or "bench") / article / name / f"{name}.plan.yaml"
        bench.open_plan(place)
        if not wait_until(
            lambda: bench.plan_file == place and bench.state == "walk-round" and bool(bench.walk.shown), 60
        ):
            raise RuntimeError("the bench did not come up")

    def until_live(self, done: Callable[[Any], bool], timeout: float = 400) -> None:
        """Wait for a live picture of which `done` is true, or the end."""

        def there() -> bool:
            latest = self.window.link.latest
            return self.window.bench.state == "done" or (latest is not None and done(latest))

        if not wait_until(there, timeout):
            raise RuntimeError("the run did not come so far")

    def run_shaker(self) -> None:
        """Sine, random and record on the shaker, with a picture of each."""
        bench = self.window.bench
        self.open_plan("battery-tray", "sine")
        self.shot("profile-editor")
        self._settings()
        self._walk()
        self.until_live(lambda b: bool(b.probe))
        bench.kinds["shaker"].stage.choose("probe")
        self.shot("probe-run")
        bench.kinds["shaker"].stage.choose("profile")
        self.until_live(lambda b: b.live.get("stage") == "sweep" and b.live.get("f", 0) > 190)
        self.shot("sine-running")
        wait_until(lambda: bench.state == "done", 600)
        self.open_plan("battery-tray", "random")
        self._walk()
        self.until_live(
            lambda b: b.live.get("stage") == "random" and b.live.get("at", 0) > 20 and b.live["level_db"] > -0.1
        )
        self.shot("random-running")
        wait_until(lambda: bench.state == "done", 600)
        self.open_plan("battery-tray", "record")
        self.shot("record-before")
        self._walk()
        wait_until(lambda: bench.state == "done", 600)
        self.shot("record-done")

    def _settings(self) -> None:
        """The plan's settings in words, and how another test is begun."""
        from ..bench.new_test import NewTest

        bench = self.window.bench
        bench.editing.toggle()
        settle()
        self.shot("settings")
        bench.editing.hide()
        sheet = NewTest(bench, bench.lab)
        sheet.choose("impact-response")
        sheet.fields.boxes["article"].setText("Mooring plate")  # type: ignore[union-attr]
        sheet.show()
        settle()
        sheet.grab().save(str(self.pictures / "new-test.png"))
        sheet.close()

    def run_own(self) -> None:
        """A rig awake without a test, driven by hand; and plans that are run one after the other."""
        from ...lab.series import joined_plan

        bench, hookup = self.window.bench, self.window.bench.kinds["hookup"]
        self.window.go("Bench")
        hookup.wake(self.lab.folder / "rigs" / "shaker.rig.yaml")
        if not wait_until(lambda: bench.state == "walk-round" and all(w.seen for w in hookup.stage.lanes), 60):
            raise RuntimeError("the rig did not wake")
        settle(1.0)
        self.shot("hook-up")
        self._walk()
        wait_until(lambda: bench.state == "running", 60)
        for _ in range(7):
            hookup.stretches.bar.by(6.0)
        self.until_live(lambda b: (b.live.get("figures") or {}).get("control", {}).get("thd") is not None)
        settle(3.0)
        hookup.stretches.note_it()
        self.until_live(lambda b: b.live.get("rows") == 1)
        self.shot("by-hand")
        bench.link.order("skip")
        self._until_done()
        base = self.lab.jobs / (self.lab.facts.job or "bench") / "battery-tray"
        plans = [(base / n / f"{n}.plan.yaml", "done") for n in ("sine", "random", "record", "sine")]
        place = base / "all-of-it" / "all-of-it.plan.yaml"
        joined_plan("Search, endure, road, search", "Battery tray BT-3", plans, place, {})
        bench.open_plan(place)
        wait_until(lambda: bench.series.isVisible() and bench.state == "walk-round" and bool(bench.walk.shown), 60)
        self.shot("four-steps")

    def run_listening(self) -> None:
        """Hammer on the plate, the pump's run-down and the microphone check, with pictures of each."""
        bench = self.window.bench
        self.open_plan("mooring-plate", "impact")
        self._walk()
        self.until_live(lambda b: b.live.get("good", 0) >= 3 and bool(b.live.get("waiting")))
        self.shot("hits")
        self._until_done()
        self.shot("response")
        self._second_plate()
        self.open_plan("bilge-pump", "run-down")
        self._walk()
        self.until_live(lambda b: len(b.live.get("map", {}).get("rpm", [])) > 30)
        self.shot("run-down")
        self._until_done()
        bench.kinds["listening"].stage.spin.map.chart.put_order(5.0)
        bench.kinds["listening"].stage.spin.map.cut()
        self.shot("map")
        self.open_plan("bilge-pump", "check")
        self._walk()
        self._until_done()
        self.shot("microphone-check")
        self._hear()

    def run_frame(self) -> None:
        """A coupon pulled until it breaks, the construction on its curve; and one from another laboratory's record."""
        bench = self.window.bench
        self.open_plan("mooring-plate", "tension")
        self._walk()
        self.until_live(lambda b: float(b.live.get("strain") or 0) > 6)
        self.shot("tension-running")
        self._until_done()
        settle(0.5)
        self.shot("tension")
        self._paper()
        self.window.go("Lightbox")
        place = self.window.place("Lightbox")
        place.open_file(self.lab.folder / "records" / "coupon-3.csv")
        sheet = place.read_foreign(self.lab.folder / "records" / "coupon-3.csv")
        if sheet is None:
            raise RuntimeError("the record could not be opened")
        sheet.choose("tension")
        sheet.article.setText("Coupon MP-3")
        for key, text in (("width", "12.5 mm"), ("thickness", "4 mm"), ("gauge_length", "50 mm")):
            row = sheet.sheet.rows[f"specimen.{key}"]
            sheet.sheet.changed.emit(row.setting, text)
        settle(0.4)
        sheet.grab().save(str(self.pictures / "record-sheet.png"))
        sheet.done_with()
        wait_until(lambda: sheet.take is not None and not place.aside.open, 60)
        settle(0.5)
        self.shot("record-read")
        bench.leave()

    def run_line(self) -> None:
        """Drivers one after the other, limits drawn around the good ones, and how a reading goes from part to part."""
        from PyQt6.QtCore import Qt
        from PyQt6.QtWidgets import QApplication

        from ...lab.patterns import for_unit
        from ...lab.textfiles import dump_yaml, load_yaml
        from ..parts.limits_sheet import LimitsSheet

        bench = self.window.bench
        base = self.lab.jobs / (self.lab.facts.job or "bench") / "fog-driver" / "line" / "line.plan.yaml"
        place = self.lab.folder / "rigs" / "driver.rig.yaml"
        rig = load_yaml(place)
        self.window.go("Bench")
        for i, (loud, rise) in enumerate(zip(LOUD, RISE, strict=True)):
            rig["standin"] |= {"seed": 100 + i}
            rig["standin"]["scene"] |= {"sensitivity": f"{0.5 * loud:.4f} Pa/V", "resonance": f"{95 * rise:.2f} Hz"}
            place.write_text(dump_yaml(rig), encoding="utf-8")
            bench.open_plan(for_unit(self.lab, base, f"Driver FD-{i + 1:03d}"))
            wait_until(lambda: not bench.aside.open and bench.state in ("starting", "walk-round"), 30)
            self._walk()
            self._until_done()
        bench.edit_limits()
        wait_until(lambda: isinstance(QApplication.activeModalWidget(), LimitsSheet), 20)
        sheet = QApplication.activeModalWidget()
        assert isinstance(sheet, LimitsSheet)
        sheet.tabs.choose("curves")
        page = sheet.curves
        for i in range(page.list.count()):
            item = page.list.item(i)
            if item is not None:
                item.setCheckState(Qt.CheckState.Checked)
        page.below.setText("3 s; 1 dB")
        page.above.setText("3 s; 1 dB")
        page.most.setText("10")
        page.make.click()
        settle(0.5)
        sheet.grab().save(str(self.pictures / "limits.png"))
        sheet.reject()
        self.window.go("Lightbox")
        box = self.window.place("Lightbox")
        box.reload()
        box.tabs.choose("trend")
        wait_until(lambda: not box.aside.open, 20)
        box.trend.method.setCurrentIndex(max(box.trend.method.findData("driver-check"), 0))
        box.trend._method_chosen()
        settle(0.4)
        self.shot("trend")
        box.tabs.choose("curves")
        self.window.go("Bench")

    def run_warmed(self) -> None:
        """A bar of resin taken through its transition, and a horn's driver under power."""
        bench = self.window.bench
        for folder, plan, name in (("potting-resin", "warmed", "warmed"), ("fog-driver", "night", "endurance")):
            self.open_plan(folder, plan)
            self._walk()
            self._until_done()
            settle(0.5)
            self.shot(name)
            bench.leave()

    def _paper(self) -> None:
        """The take's paper, card by card."""
        from ...folio.handing import may_sign
        from ...lab.papers import list_papers

        bench = self.window.bench
        bench.make_report()
        if not wait_until(lambda: bool(list_papers(self.lab)) and not bench.aside.open, 60):
            raise RuntimeError(f"there is no paper: {self.window.strip.text()}")
        view = self.window.place("Folio").view_of_cards
        wait_until(lambda: view.made is not None and view.aside.open == 0, 60)
        at = next(i for i, c in enumerate(view.paper.cards) if c.kind == "curves")
        view.cards.choose(at)
        wait_until(lambda: False, 0.6)
        self.shot("cards")
        self.say(f"paper {list_papers(self.lab)[0]}; may be signed by {' or '.join(may_sign(self.lab))}")
        self.window.go("Bench")

    def run_force(self) -> None:
        """A force sensor on the press, from the Ledger on."""
        from ..bench.calibrate_sheet import CalibrateSheet

        bench = self.window.bench
        self.window.go("Ledger")
        self.window.ledger.reload("GF-01")
        sheet = CalibrateSheet(self.window, self.lab, self.window.ledger.chosen.sensor)
        for key, text in (("top", "4 kN"), ("steps", "8"), ("wait", "2 s")):
            sheet.fields.boxes[key].setText(text)
        sheet.then(lambda: bench.open_plan(sheet.plan))
        self.shot("force-asked")
        sheet.done_with()
        self.window.go("Bench")
        self._walk()
        taken: list[str] = []

        def seen(board: Any) -> bool:
            if bench.plain.done.isVisible():
                bench.plain.done.click()
            if not taken and board.live.get("item") == 5 and board.live.get("at", 0) > 0.6:
                taken.append("force")
                self.shot("force")
            return board.state in ("done", "failed")

        wait_until(lambda: self.window.link.latest is not None and seen(self.window.link.latest), 240)
        self._until_done()
        settle(0.5)
        self.shot("force-done")
        bench.leave()

    def run_amplifier(self) -> None:
        """The fog-signal amplifier's sheet; what a sagging supply spoiled is taken again."""
        bench = self.window.bench
        self.open_plan("fog-amplifier", "sheet")
        wait_until(lambda: bench.state == "walk-round" and len(bench.walk.shown) > 0, 60)
        self.shot("amplifier-walk-round")
        self._walk()
        self.until_live(lambda b: b.live.get("done", 0) >= 14)
        self.shot("amplifier-running")
        wait_until(lambda: bench.state == "done", 240, self._by_hand)
        self._until_done()
        stage = bench.kinds["amplifier"].stage
        line = stage.sheet.line_of("power_A_4")
        stage.area.verticalScrollBar().setValue(int(line.top) - 70 if line else 0)
        self.shot("amplifier-invalid")
        stage.choose("noise_B_8")
        stage.area.verticalScrollBar().setValue(stage.area.verticalScrollBar().maximum() * 2 // 3)
        self.shot("amplifier-noise")
        bench.kinds["amplifier"].retake()
        wait_until(lambda: bench.state == "walk-round", 60)
        self._walk()
        self._until_done()
        stage.tabs.choose("power")
        self.shot("amplifier-sheet")

    def _by_hand(self) -> None:
        """Do what the run asks a person for."""
        if self.window.bench.kinds["amplifier"].done.isVisible():
            self.window.bench.kinds["amplifier"].done.click()

    def _second_plate(self) -> None:
        """Another plate of the same kind, a little softer, and both responses over one another in the Lightbox."""
        from PyQt6.QtCore import Qt

        from ...lab.textfiles import dump_yaml, load_yaml

        place = self.lab.folder / "rigs" / "hammer.rig.yaml"
        rig = load_yaml(place)
        for mode, by in zip(rig["standin"]["scene"]["modes"], (0.972, 0.981, 0.965, 0.988), strict=True):
            mode["frequency"] = f"{by * float(str(mode['frequency']).split()[0]):.1f} Hz"
        rig["standin"]["seed"] = 32
        place.write_text(dump_yaml(rig), encoding="utf-8")
        self.open_plan("mooring-plate", "impact")
        self._walk()
        self._until_done()
        self.window.go("Lightbox")
        box = self.window.place("Lightbox")
        for i in range(box.list.count()):
            item = box.list.item(i)
            chosen = "impact" in item.text()
            item.setCheckState(Qt.CheckState.Checked if chosen else Qt.CheckState.Unchecked)
        box.overlay.choose("frf_magnitude")
        box.overlay.pick.setCurrentText("delta")
        box.overlay.place_cursors(663.9, 688.0)
        box.chart.setXRange(0, 1700, padding=0)
        self.shot("overlay")
        self.window.go("Bench")

    def _hear(self) -> None:
        """The run-down's record, cropped and listened to."""
        self.window.go("Lightbox")
        box = self.window.place("Lightbox")
        row = next(i for i in range(box.list.count()) if "run-down" in box.list.item(i).text())
        box.list.setCurrentRow(row)
        box.tabs.choose("raw")
        box.record.choose("signal")
        box.record.set_crop(5.0, 9.0)
        self.shot("record")
        box.tabs.choose("listen")
        box.sound.add("band-stop", 150.0, 260.0)
        box.sound.add("low-pass", 15.0, 1500.0)
        self.shot("listening")

    def _until_done(self) -> None:
        if not wait_until(lambda: self.window.bench.state == "done" and self.window.bench.finding is not None, 600):
            raise RuntimeError("the run did not come to its end")

    def run_shaker_cut(self) -> None:
        """A sine run in which the control sensor comes off."""
        from ...lab.textfiles import dump_yaml, load_yaml

        place = self.lab.folder / "rigs" / "shaker.rig.yaml"
        rig = load_yaml(place)
        rig["standin"]["faults"] = [{"at": "82 s", "kind": "open", "channel": "control"}]
        place.write_text(dump_yaml(rig), encoding="utf-8")
        self.open_plan("battery-tray", "sine")
        self._walk()
        if not wait_until(lambda: self.window.bench.state == "done", 600):
            raise RuntimeError("the run was not cut")
        self.shot("sine-cut")

    def run_cut(self) -> None:
        """A second run in which the unit's cable comes off: what a cut looks like."""
        from ...lab.textfiles import dump_yaml, load_yaml

        rig = load_yaml(self.lab.rig_file())
        rig["standin"]["faults"] = [{"at": "38 s", "kind": "open", "channel": "unit"}]
        self.lab.rig_file().write_text(dump_yaml(rig), encoding="utf-8")
        self.window.go("Bench")
        bench = self.window.bench
        bench.again()
        self._walk()
        if not wait_until(lambda: bench.state == "done", 240):
            raise RuntimeError("the run was not cut")
        self.shot("bench-cut")
        self.window.night()
        self.shot("night")
        self.window.night()
