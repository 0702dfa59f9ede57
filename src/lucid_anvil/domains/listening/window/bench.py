"""The listening side of the Bench: microphone check, impact response, orders over speed. Nothing is driven."""

from __future__ import annotations

from pathlib import Path
from typing import TYPE_CHECKING, Any

from PyQt6.QtWidgets import QStackedWidget

from ....contracts.finding import Finding
from ....desktop.bench.course_view import clock
from ....desktop.bench.run_result import RunResult
from ....desktop.bench.side import Side
from ....desktop.bench.stretch_view import StretchView
from ....desktop.parts.asking import ask_line
from ....desktop.parts.panels import Row
from ....desktop.parts.widgets import button, three
from ....engine.preparing import Prepared
from ....folio.accepting import accept_check
from ....lab.takes import Take
from ....protocol.messages import Board
from .hit_stage import HitStage
from .spin_stage import SpinStage
from .tone_stage import ToneStage

if TYPE_CHECKING:
    from ....desktop.bench.place import BenchPlace


class ListenStage(QStackedWidget):
    """One Stage a method."""

    def __init__(self) -> None:
        super().__init__()
        self.hits, self.spin, self.tone = HitStage(), SpinStage(), ToneStage()
        self.by: dict[str, HitStage | SpinStage | ToneStage] = {
            "impact-response": self.hits, "speed-orders": self.spin, "microphone-level": self.tone,
        }  # fmt: skip
        for stage in self.by.values():
            self.addWidget(stage)
        self.now: HitStage | SpinStage | ToneStage = self.hits

    def show_prepared(self, prepared: Prepared, editable: bool) -> None:
        self.now = self.by[prepared.method.name]
        self.setCurrentWidget(self.now)
        self.now.show_prepared(prepared, editable)

    def show_board(self, board: Board) -> None:
        self.now.show_board(board)

    def show_finding(self, finding: Finding) -> None:
        self.now.show_finding(finding)

    def repaint_charts(self) -> None:
        for stage in self.by.values():
            stage.repaint_charts()


class ListenResult(RunResult):
    """The figures, and for a microphone check the way into the ledger."""

    nothing = "Nothing was read."

    def __init__(self) -> None:
        super().__init__()
        self.accept = button("Accept into the ledger", "main", "Appends the sensitivity to the microphone's history")
        self.column.insertWidget(self.column.indexOf(self.more), self.accept)
        self.accept.hide()

    def offer(self, text: str | None, can: bool) -> None:
        """The button's text, none where there is nothing to accept."""
        self.accept.setVisible(text is not None)
        self.accept.setText(text or "")
        self.accept.setEnabled(can)


class ListenBench(Side):
    """What the Bench shows and does when the plan in hand only listens."""

    name = "listening"

    def __init__(self, bench: BenchPlace) -> None:
        super().__init__(bench)
        self.stage = ListenStage()
        self.stage.hits.trigger.connect(lambda v: self._order("trigger", level=v))
        self.stage.hits.edited.connect(bench.change)
        self.stage.hits.linked.refused.connect(bench.said)
        self.stage.spin.trigger.connect(lambda v: self._order("trigger", level=v))
        self.stage.spin.slope.connect(lambda up: self._order("slope", rising=up))
        self.stage.hits.overruled.connect(self.overrule)
        self.stretches = StretchView()
        self.result = ListenResult()
        self.result.again.connect(bench.again)
        self.result.accept.clicked.connect(self.accept)
        self.end = button("End  N", tip="Enough: end the recording now and read what there is")
        self.end.clicked.connect(self.skip)
        self.next = button("Next point  P", "main", "Hammer or sensor is at the next point: its hits count from now on")
        self.next.clicked.connect(self.next_point)
        self.buttons = (self.next, self.end)

    @property
    def here(self) -> bool:
        """Whether what is in hand only listens."""
        prepared = self.bench.prepared
        return prepared is not None and prepared.method.name in self.stage.by

    def _order(self, name: str, **body: Any) -> None:
        if self.bench.state == "running" and self.here:
            self.bench.link.order(name, **body)

    def show_prepared(self, prepared: Prepared, editable: bool) -> None:
        self.stage.show_prepared(prepared, editable)
        self.stage.now.show_earlier(self.bench.finding_before())
        self.stretches.show_course(prepared.course(), False)
        self.bench.told.setText("Nothing is driven; it begins and ends by itself.")

    def overrule(self, number: int) -> None:
        """A person takes a hit that was put aside, and says why."""
        ask_line(
            self.bench, f"Count hit {number} all the same? Say why.", "Count it",
            lambda text: self._order("overrule", number=number, note=text),
        )  # fmt: skip

    def skip(self) -> None:
        self._order("skip")

    def next_point(self) -> None:
        self._order("go")

    def show_running(self, board: Board) -> None:
        self.bench.run.show_board(board, running_rows(board.live), "")
        live = board.live
        self.next.setVisible(bool(live.get("moving")))
        if live.get("wanted"):
            ranging = live["stage"] == "ranging"
            share = live["trials"] / max(live["trials_wanted"], 1) if ranging else live["good"] / live["wanted"]
            first = 1 if live["trials_wanted"] and not ranging else 0
            self.stretches.show_progress(first + (0 if ranging else int(live.get("place", 0))), min(share, 1.0))
        elif live.get("of"):
            self.stretches.show_progress(0, min(float(live.get("at", 0.0)) / float(live["of"]), 1.0))
        self.bench.told.setText(f"{Path(board.take or '').name} · {clock(board.t)} recorded")

    def show_done(self, take: Take, status: str, reason: str | None) -> None:
        bench = self.bench
        bench.panels.setCurrentWidget(self.result)
        cut = reason or (status if status != "done" else None)
        if bench.finding is not None:
            self.stage.now.show_earlier(self.bench.finding_before())
            self.stage.show_finding(bench.finding)
        self.result.show_finding(bench.finding, cut, False)
        self._offer(take)
        self.stretches.show_progress(None, 0.0, all_done=cut is None)
        doubt = take.doubt()
        bench.ended(take, "", reason or (f"Doubtful: {doubt}" if doubt else None))

    def _offer(self, take: Take) -> None:
        finding = self.bench.finding
        if finding is None or finding.method != "microphone-level":
            self.result.offer(None, False)
            return
        accepted = any(e["kind"] == "accepted" for e in take.events())
        reading = finding.reading("sensitivity")
        can = reading.valid and reading.value is not None and finding.verdict != "outside"
        text = "In the ledger" if accepted else "Accept into the ledger" if can else "Not to be accepted"
        self.result.offer(text, can and not accepted)

    def accept(self) -> None:
        """The check goes into the ledger; takes between two checks that disagree are marked."""
        bench = self.bench
        if bench.take is None or bench.finding is None:
            return
        take, finding, lab = Take(bench.take), bench.finding, bench.lab
        self.result.accept.setEnabled(False)

        def then(said: str) -> None:
            self._offer(take)
            bench.said.emit(said)
            bench.docket.show_plan(bench.plan_file, take.folder, False)
            sensor = take.plan().sensors.get("microphone")
            if sensor is not None:
                bench.accepted.emit(sensor.serial)

        bench.aside.run("accept", lambda: accept_check(lab, take, finding, lab.facts.operator), then)


def running_rows(live: dict[str, Any]) -> list[Row]:
    """Margins of a run that listens."""
    rows: list[Row] = []
    if live.get("wanted"):
        good, wanted = live["good"], live["wanted"]
        aside = sum(1 for h in live.get("hits", []) if h["fault"] and not h.get("overruled"))
        rows.append(("Good hits", f"{good} of {wanted}", good / wanted, 0.0, "plain", ""))
        rows.append(("Put aside", f"{aside}", None, 0.0, "plain", ""))
        for role, lamp in live.get("lamps", {}).items():
            said = {"well": "inside", "cold": "open", "hot": "open", "over": "outside"}[lamp["state"]]
            rows.append((f"{role.capitalize()} range", f"{100 * lamp['share']:.0f} %", lamp["share"], 0.0, said,
                         "" if lamp["state"] == "well" else lamp["text"]))  # fmt: skip
        if "left" in live:
            left = live["left"]
            word = "not died out: longer block, or an exponential window" if left > 0.02 else ""
            rows.append(("Left at the block's end", f"{100 * left:.1f} %", left / 0.02, 0.0,
                         "inside" if left <= 0.02 else "open", word))  # fmt: skip
    elif "rpm" in live:
        said = "inside" if live["rpm"] and live["spread"] < 1 else "open"
        rows.append(("Spread of the pulses", f"{live['spread']:.2f} %", live["spread"], 0.0, said, live["why"]))
        if live["overall"]:
            unit = "dB" if live["unit"] == "Pa" else live["unit"]
            rows.append(("Overall level", f"{live['overall'][-1]:.1f} {unit}", None, 0.0, "plain", ""))
        rows.append(("Spectra on the map", f"{len(live['map']['rpm'])}", None, 0.0, "plain", ""))
    elif "levels" in live:
        span = live["levels"][-24:]
        wander = max(span) - min(span) if span else None
        if wander is not None:
            used = wander / live["steadiness"]
            said = "inside" if used <= 1 else "open"
            rows.append(("Wander over 3 s", f"{wander:.2f} dB of {live['steadiness']:g}", used, 0.0, said, ""))
        if live["distortion"] is not None and live["tone"]:
            rows.append(("Distortion", f"{three(live['distortion'])} %", live["distortion"] / 3, 0.0,
                         "inside" if live["distortion"] <= 3 else "open", ""))  # fmt: skip
        rows.append(("Read", f"{min(live['at'], live['of']):.0f} of {live['of']:.0f} s", live["at"] / live["of"], 0.0,
                     "plain", ""))  # fmt: skip
    return rows
