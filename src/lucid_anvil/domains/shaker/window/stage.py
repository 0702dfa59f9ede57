"""The Stage of a shaker test: profile, drive, responses, phase, raw, probe run, record, and what was after a cut."""

from __future__ import annotations

import copy
from typing import Any

import numpy as np
from PyQt6.QtCore import pyqtSignal
from PyQt6.QtGui import QGuiApplication
from PyQt6.QtWidgets import QHBoxLayout, QStackedWidget, QVBoxLayout, QWidget

from ....contracts.finding import Curve, Finding
from ....core.control.table import Recognised, read_table, recognise
from ....core.errors import BadInput
from ....core.figures import significant
from ....desktop.parts.chart import Chart
from ....desktop.parts.widgets import Tabs, button, card, label, three
from ....engine.preparing import Prepared
from ....lab.takes import Take
from ....protocol.messages import Board
from .lanes import Lane, Lanes
from .probe_view import ProbeView
from .profile_chart import ProfileChart, shown_per_acceleration
from .profile_table import ProfileTable, facts_of
from .record_fields import RecordFields

TABS = {
    "sine-sweep": [("profile", "Profile"), ("drive", "Drive"), ("responses", "Responses"), ("phase", "Phase"),
                   ("raw", "Raw"), ("probe", "Probe run")],
    "random-vibration": [("profile", "Profile"), ("drive", "Drive"), ("responses", "Responses"), ("raw", "Raw"),
                         ("probe", "Probe run")],
    "time-replication": [("record", "Record"), ("passes", "Passes"), ("spectrum", "Spectrum"), ("raw", "Raw"),
                         ("probe", "Probe run")],
}  # fmt: skip
TITLES = {
    "profile": "Control against profile", "drive": "Drive", "responses": "Responses", "phase": "Phase re control",
    "raw": "Raw, just now", "probe": "Probe run", "record": "Record, before and after compensation",
    "passes": "Control against target", "spectrum": "Spectra of the last pass", "cut": "The last two seconds",
}  # fmt: skip
QUANTITIES = [("acceleration", "m/s²"), ("velocity", "mm/s"), ("displacement", "mm pk-pk"), ("all", "all three")]
AFTER_CUT = 2.0
"""s of raw data that are shown after a cut."""


AT_LEVEL = ("level", "random", "sweep", "held", "dwell", "follow")
"""Stages of a run whose level is the test's, not that of coming up to it"""


def level_of(target: Curve | None, profile: Any) -> float:
    """dB re its profile of a finding's target, where it was read; 0 where it has none."""
    if target is None or profile is None or not target.y:
        return 0.0
    k = len(target.y) // 2
    f, y = np.array(target.x[k]), target.y[k]
    if y is None or y <= 0:
        return 0.0
    if hasattr(profile, "density"):
        return float(10 * np.log10(y / profile.density(f)))
    return float(20 * np.log10(y / profile.acceleration(f)))


class ShakerStage(QWidget):
    """The card with tabs and charts."""

    edited = pyqtSignal(dict)
    said = pyqtSignal(str)

    def __init__(self) -> None:
        super().__init__()
        outer = QVBoxLayout(self)
        outer.setContentsMargins(0, 0, 0, 0)
        frame, self.column = card((16, 10, 12, 8), 6)
        outer.addWidget(frame)
        self.head = QHBoxLayout()
        self.title = label(TITLES["profile"], "title")
        self.head.addWidget(self.title)
        self.head.addSpacing(10)
        self.quantity = Tabs(QUANTITIES, "chip")
        self.quantity.chosen.connect(self._quantity)
        self.head.addWidget(self.quantity)
        self.head.addStretch()
        self.tabs = Tabs(TABS["sine-sweep"])
        self.head.addWidget(self.tabs)
        self.column.addLayout(self.head)
        self.pages = QStackedWidget()
        middle = QHBoxLayout()
        middle.setSpacing(0)
        middle.addWidget(self.pages, 1)
        self.table = ProfileTable()
        self.table.edited.connect(lambda data: self.edited.emit({"profile": data}))
        self.table.trouble.connect(self.tell)
        self.fields = RecordFields()
        for part in (self.table, self.fields):
            part.hide()
            middle.addWidget(part)
        self.column.addLayout(middle, 1)
        self._make_pages()
        self.column.addWidget(self._foot())
        self.prepared: Prepared | None = None
        self.method = "sine-sweep"
        self.earlier: Finding | None = None
        self.recognised: Recognised | None = None
        self._make_tabs(self.method)

    def _make_pages(self) -> None:
        self.profile = ProfileChart()
        self.profile.edited.connect(lambda data: self.edited.emit({"profile": data}))
        self.profile.trouble.connect(self.tell)
        self.three = [ProfileChart() for _ in range(3)]
        self.trio = QWidget()
        column = QVBoxLayout(self.trio)
        column.setContentsMargins(0, 0, 0, 0)
        column.setSpacing(2)
        for chart in self.three:
            column.addWidget(chart)
        self.drive = Chart("Hz", "V peak", log_y=True)
        self.responses = Chart("Hz", "m/s² peak", log_y=True)
        self.phase = Chart("Hz", "°")
        self.spectrum = Chart("Hz", "(m/s²)²/Hz", log_y=True)
        self.raw, self.record, self.cut, self.passes = Lanes(), Lanes(), Lanes(), Lanes()
        self.probe = ProbeView()
        self.order: dict[str, QWidget] = {
            "profile": self.profile, "drive": self.drive, "responses": self.responses, "phase": self.phase,
            "spectrum": self.spectrum, "raw": self.raw, "probe": self.probe, "record": self.record,
            "passes": self.passes, "cut": self.cut,
        }  # fmt: skip
        for widget in (*self.order.values(), self.trio):
            self.pages.addWidget(widget)

    def _foot(self) -> QWidget:
        """What the profile asks of the shaker, and the ways to put one in."""
        foot = QWidget()
        row = QHBoxLayout(foot)
        row.setContentsMargins(0, 0, 0, 0)
        self.word = label("", "muted", wrap=True)
        row.addWidget(self.word, 1)
        self.paste = button("Paste table", tip="Two columns from a spreadsheet: frequency, and level or density")
        self.paste.clicked.connect(self.paste_table)
        self.exact = button("Use exact form", "main")
        self.exact.clicked.connect(self.use_exact)
        self.lock = button("Lock rms", tip="Scale the densities to a chosen rms")
        self.lock.clicked.connect(self.lock_rms)
        for widget in (self.exact, self.lock, self.paste):
            row.addWidget(widget)
        self.exact.hide()
        return foot

    # --- showing ---------------------------------------------------------------------------------------------

    def _make_tabs(self, method: str, cut: bool = False) -> None:
        items = [*TABS[method], *([("cut", "After the cut")] if cut else [])]
        made = Tabs(items)
        made.chosen.connect(self.choose)
        self.head.replaceWidget(self.tabs, made)
        self.tabs.hide()
        self.tabs.deleteLater()
        self.tabs = made

    def choose(self, key: str) -> None:
        if key not in self.tabs.buttons:
            key = next(iter(self.tabs.buttons))
        self.tabs.choose(key, quiet=True)
        self.title.setText(TITLES[key])
        sine = self.method == "sine-sweep"
        self.quantity.setVisible(key == "profile" and sine)
        self.title.setVisible(not self.quantity.isVisibleTo(self))
        everything = key == "profile" and sine and self.quantity.now == "all"
        self.pages.setCurrentWidget(self.trio if everything else self.order[key])
        editing = key == "profile" and self.profile.editable
        self.paste.setVisible(editing)
        self.table.setVisible(editing and not everything and self.method != "time-replication")
        self.fields.setVisible(key == "record" and self.editable)
        self.lock.setVisible(editing and self.method == "random-vibration")

    def _quantity(self, key: str) -> None:
        if key == "all":
            assert self.prepared is not None
            for chart, quantity in zip(self.three, ("acceleration", "velocity", "displacement"), strict=True):
                chart.quantity = quantity
                chart.show_prepared(self.prepared, False)
        else:
            self.profile.show_quantity(key)
            self._again()
        self.choose("profile")

    def _again(self) -> None:
        """What was measured, in the quantity that is shown now."""
        if self.earlier is not None:
            self.show_earlier(self.earlier)
        if self._measured is not None:
            self.profile.measured("control", *self._measured)

    editable = False
    _measured: tuple[Any, Any] | None = None

    def show_prepared(self, prepared: Prepared, editable: bool) -> None:
        self.prepared, self._measured, self.editable = prepared, None, editable
        if prepared.method.name != self.method or "cut" in self.tabs.buttons:
            self.method = prepared.method.name
            self._make_tabs(self.method)
        self.recognised = None
        self.exact.hide()
        for chart in (self.profile, self.drive, self.responses, self.phase, self.spectrum):
            chart.drop(*[k for k in chart.series if k not in ("legend",)])
        self.raw.show_lanes([], (0, 1))
        if self.method == "time-replication":
            self._show_record(prepared)
            self.passes.show_lanes([], (0, 1))
        else:
            self.drive.y_unit = "V peak" if self.method == "sine-sweep" else "V²/Hz"
            self.responses.y_unit = "m/s² peak" if self.method == "sine-sweep" else "(m/s²)²/Hz"
            for chart in (self.drive, self.responses):
                chart.apply_theme()
            self.profile.show_prepared(prepared, editable)
            if editable:
                self.table.show_profile(prepared.settings.profile, facts_of(prepared))
            self.tell(self._demand(prepared))
        self.choose(self.tabs.now)

    def _demand(self, prepared: Prepared) -> str:
        from .profile_chart import headroom_lines

        if prepared.rig.undescribed:
            return prepared.rig.undescribed
        rows = headroom_lines(prepared)
        over = [r for r in rows if r[1] > 1]
        if over:
            db = -20 * np.log10(
                max(r[1] for r in over if "range" not in r[0]) if any("range" not in r[0] for r in over) else 1
            )
            told = "; ".join(r[2] for r in over[:3])
            return f"Beyond the shaker: {told}. −{-np.floor(10 * db) / 10:.1f} dB would fit."
        return f"Fits the shaker. Most used: {rows[0][2]}." if rows else ""

    def _show_record(self, prepared: Prepared) -> None:
        from pathlib import Path

        from ..profiles import prepare_history

        made, _ = prepare_history(prepared.settings.time(), Path("."))
        a, b = made.after, made.before
        n, rate = a.acceleration.size, a.rate
        lanes = [
            Lane("Acceleration", "m/s²", a.acceleration, behind=b.acceleration),
            Lane("Velocity", "mm/s", 1e3 * a.velocity, behind=1e3 * b.velocity),
            Lane("Displacement", "mm", 1e3 * a.displacement, behind=1e3 * b.displacement),
        ]
        self.record.show_lanes(lanes, (0, n / rate))
        self.tell(
            f"Grey: as recorded, its displacement ends at {three(1e3 * b.displacement[-1])} mm."
            f" Teal: as driven, {three(1e3 * a.peak_to_peak())} mm peak to peak,"
            f" high-pass {made.high_pass:.3g} Hz, all at rest at the end."
        )

    def tell(self, text: str) -> None:
        self.word.setText(text)

    def show_earlier(self, earlier: Finding | None) -> None:
        """The control curve of the take before, behind in thin ink."""
        self.earlier = earlier
        self.profile.drop("earlier")
        if earlier is not None and self.method != "time-replication":
            curve = next((c for c in earlier.curves if c.key == "control" and c.x_unit == "Hz"), None)
            if curve is not None:
                y = [np.nan if v is None else v for v in curve.y]
                self.profile.measured("earlier", curve.x, y, "muted", 1.1, "take before")

    # --- live ------------------------------------------------------------------------------------------------

    def show_board(self, board: Board) -> None:
        if board.probe:
            self.probe.show_probe(board.probe)
        if board.state in ("done", "failed"):
            return  # what the finding says stands there, not the last live picture
        if self.tabs.now == "raw" and board.wave:
            self._show_raw(board)
        if self.method != "time-replication" and board.live.get("stage") in AT_LEVEL:
            self.profile.show_level(float(board.live.get("level_db", 0.0)))
        if self.method == "sine-sweep":
            self._grow(board)
        elif self.method == "random-vibration" and board.spectrum:
            s = board.spectrum
            self._measured = (s["frequency"], s["control"])
            self.profile.measured("control", *self._measured)
            self.drive.curve("drive", s["frequency"], s["drive"], "brass", 2.0, "drive")
        elif self.method == "time-replication" and board.spectrum:
            self._show_pass(board.spectrum)

    def _show_raw(self, board: Board) -> None:
        t = board.wave["t"]
        units = {"control": "m/s²"}
        lanes = []
        facts = self.prepared.facts if self.prepared else None
        for role, x in board.wave.items():
            if role == "t":
                continue
            per = facts.sensitivity.get(role) if facts else None
            y = np.array(x) / per if per else np.array(x)
            lanes.append(Lane(role.capitalize(), "m/s²" if per else units.get(role, "V"), y,
                              "brass" if role == "drive" else "teal"))  # fmt: skip
        self.raw.show_lanes(lanes, (0.0, float(t[-1]) if t else 1.0))

    def _grow(self, board: Board) -> None:
        """The measured curve so far."""
        if not board.trace:
            return
        rows = sorted(board.trace.values())
        f = [r[0] for r in rows]
        self._measured = (f, [r[1] for r in rows])
        self.profile.measured("control", *self._measured)
        if self.quantity.now == "all":
            for chart in self.three:
                chart.measured("control", *self._measured)
        if self.tabs.now == "drive":
            self.drive.curve("drive", f, [r[2] for r in rows], "brass", 2.2, "drive")
        assert self.prepared is not None
        others = [r for r in self.prepared.facts.sensitivity if r not in self.prepared.control()["roles"]]
        n = len(others)
        if self.tabs.now == "responses":
            self.responses.curve("control", f, self._measured[1], "muted", 1.4, "control")
            for i, role in enumerate(others):
                self.responses.curve(role, f, [r[3 + i] for r in rows], "teal", 2.2 - 0.7 * i, role)
        if self.tabs.now == "phase":
            first = 3 + n + len(self.prepared.control()["roles"])
            zero = 3 + n
            for i, role in enumerate(others):
                turn = [(r[first + i] - r[zero] + 180) % 360 - 180 for r in rows]
                self.phase.curve(role, f, turn, "teal", 2.2 - 0.7 * i, role)

    def _show_pass(self, picture: dict[str, Any]) -> None:
        target, control, error = (np.array(picture[k]) for k in ("target", "control", "error"))
        lanes = [
            Lane("Control", "m/s²", control, behind=target), Lane("Target", "m/s²", target, "muted"),
            Lane("Error", "m/s²", error, "plum"),
        ]  # fmt: skip
        self.passes.show_lanes(lanes, (0.0, float(picture["t"][-1])))

    # --- after -----------------------------------------------------------------------------------------------

    def show_finding(self, finding: Finding, take: Take, cut: str | None) -> None:
        """The finding's curves; after a cut also the last two seconds of everything."""
        by = {c.key: c for c in finding.curves}
        if self.method == "time-replication":
            self._show_replication(by)
        else:
            self.profile.show_level(level_of(by.get("target"), self.profile.solved))
            self._show_curves(by)
        probe = next((e for e in reversed(take.events()) if e["kind"] == "probe"), None)
        if probe is not None:
            self.probe.show_probe(probe)
        if cut is not None:
            self.show_cut(take, cut)

    def _show_curves(self, by: dict[str, Any]) -> None:
        def y(c: Any) -> list[float]:
            return [np.nan if v is None else float(v) for v in c.y]

        if "control" in by:
            c = by["control"]
            self._measured = (c.x, y(c))
            self.profile.measured("control", c.x, y(c))
            if self.method == "sine-sweep":
                self.responses.curve("control", c.x, y(c), "muted", 1.4, "control")
        if "drive" in by:
            self.drive.curve("drive", by["drive"].x, y(by["drive"]), "brass", 2.2, "drive")
        for i, (key, c) in enumerate((k, c) for k, c in by.items() if k.startswith("response_")):
            if c.y_unit.startswith(("m/s²", "(m/s²)")):
                self.responses.curve(key, c.x, y(c), "teal", 2.2 - 0.7 * i, key.removeprefix("response_"))
        for i, (key, c) in enumerate((k, c) for k, c in by.items() if k.startswith("phase_") and "current" not in k):
            self.phase.curve(key, c.x, y(c), "teal", 2.2 - 0.7 * i, key.removeprefix("phase_"))

    def _show_replication(self, by: dict[str, Any]) -> None:
        if "control" in by:
            c, t, e = (np.array([v or 0.0 for v in by[k].y]) for k in ("control", "target", "error"))
            lanes = [
                Lane("Control", "m/s²", c, behind=t),
                Lane("Target", "m/s²", t, "muted"),
                Lane("Error", "m/s²", e, "plum"),
            ]
            self.passes.show_lanes(lanes, (0.0, by["control"].x[-1]))
        for key, role in (("spectrum_target", "ink"), ("spectrum_control", "teal")):
            if key in by:
                self.spectrum.curve(
                    key, by[key].x, by[key].y, role, 1.2 if role == "ink" else 2.2, key.removeprefix("spectrum_")
                )

    def show_cut(self, take: Take, why: str) -> None:
        """What tripped, the last two seconds of every channel at sample resolution, and the state of the drive."""
        try:
            record = take.recording()
        except BadInput:
            return
        self._make_tabs(self.method, cut=True)
        lanes = []
        end = min(c.duration for c in record.channels)
        start = max(end - AFTER_CUT - 0.6, 0.0)
        for c in record.channels:
            per = c.meta.get("sensitivity")
            x = c.between(start, end)
            y = (x - x.mean()) / (float(per) * 1e-3) if per else x
            lanes.append(
                Lane(c.label.capitalize(), "m/s²" if per else c.unit, y, "brass" if c.label == "drive" else "teal")
            )
        trip = next((e for e in reversed(take.events()) if e["kind"] == "trip"), None)
        mark = (float(trip["t"]), "tripped") if trip and trip.get("t", 0) > start else None
        self.cut.show_lanes(lanes, (start, end), mark)
        drive = next((c for c in record.channels if c.label == "drive"), None)
        last = drive.between(end - 0.05, end) if drive is not None else np.zeros(1)
        state = "at zero" if float(np.max(np.abs(last), initial=0.0)) < 1e-6 else "still coming down"
        self.tell(f"{why}. The drive is {state}; everything is kept in {take.name}.")
        self.choose("cut")

    # --- a table ---------------------------------------------------------------------------------------------

    def paste_table(self) -> None:
        """Two columns from the clipboard; nearly constant laws are offered in their exact form."""
        self.take_table(QGuiApplication.clipboard().text())

    def take_table(self, text: str) -> None:
        usual = {"acceleration": "m/s^2", "velocity": "mm/s", "displacement": "mm"}
        try:
            try:
                table = read_table(text)
            except BadInput as problem:
                if "no unit" not in str(problem):
                    raise
                # Without a unit in its header the table is in what is shown.
                shown = usual.get(self.quantity.now, "m/s^2") if self.method == "sine-sweep" else "(m/s^2)^2/Hz"
                table = read_table(text, shown)
            if self.method == "random-vibration":
                if table.kind != "density":
                    raise BadInput("A random profile wants densities: a column in (m/s²)²/Hz or g²/Hz.")
                points = [
                    {"frequency": f"{f:g} Hz", "density": f"{v!r} (m/s^2)^2/Hz"}
                    for f, v in zip(table.frequency.tolist(), table.value.tolist(), strict=True)
                ]
                self.edited.emit({"profile": {**self.profile.data, "points": points}})
                return
            made = recognise(table)
        except BadInput as problem:
            self.tell(str(problem))
            return
        self.recognised = made
        worst = float(np.max(np.abs(made.difference)))
        crossovers = ", ".join(f"{f:.4g} Hz" for f in made.profile.crossovers) or "as typed"
        self.tell(
            f"The table is nearly {made.constants} constant laws: their exact form differs by at most"
            f" {significant(worst)} % at its breakpoints; crossovers {crossovers}."
        )
        f = made.profile.grid()
        by = shown_per_acceleration(self.profile.quantity, f)
        self.profile.curve("offer", f, made.profile.acceleration(f) * by, "brass", 2.0, "exact form", z=11)
        self.exact.show()

    def use_exact(self) -> None:
        if self.recognised is None:
            return
        units = {"displacement": ("mm", 1e3), "velocity": ("m/s", 1.0), "acceleration": ("m/s^2", 1.0)}
        segments: list[dict[str, Any]] = []
        for s in self.recognised.segments:
            part: dict[str, Any] = {"line": True} if s.law == "line" else {
                s.law: f"{float(f'{units[s.law][1] * (s.value or 0.0):.6g}'):g} {units[s.law][0]}"
            }  # fmt: skip
            if s.until is not None:
                part["until"] = f"{s.until:g} Hz"
            segments.append(part)
        data = {
            **self.profile.data, "start": f"{self.recognised.profile.start:g} Hz",
            "stop": f"{self.recognised.profile.stop:g} Hz", "segments": segments,
        }  # fmt: skip
        self.exact.hide()
        self.edited.emit({"profile": data})

    def draw_profile(self) -> None:
        """The profile that holds, after a change that could not be."""
        if self.prepared is not None and self.method != "time-replication":
            self.profile.data = copy.deepcopy(self.prepared.settings.profile)
            self.profile.draw()
            self.table.show_profile(self.prepared.settings.profile, facts_of(self.prepared))

    def lock_rms(self) -> None:
        """Lock the rms at what it is, or let it free."""
        data = dict(self.profile.data)
        if "rms" in data:
            data.pop("rms")
        else:
            data["rms"] = f"{self.profile.solved.rms():.4g} m/s^2"
        self.edited.emit({"profile": data})

    def repaint_charts(self) -> None:
        for chart in (
            self.profile,
            *self.three,
            self.drive,
            self.responses,
            self.phase,
            self.spectrum,
            self.probe.chart,
        ):
            chart.apply_theme()
        if self.prepared is not None and self.method != "time-replication":
            self.profile.draw()
            self._again()
