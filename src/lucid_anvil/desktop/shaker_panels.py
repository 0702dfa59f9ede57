"""Margins of a shaker run while it goes on, and its result afterwards."""

from __future__ import annotations

import math
from typing import Any

from PyQt6.QtCore import pyqtSignal
from PyQt6.QtWidgets import QHBoxLayout, QSizePolicy, QVBoxLayout, QWidget

from ..contracts.finding import Finding, Reading
from ..core.figures import figure, fitting, significant
from ..engine.preparing import Prepared
from ..protocol.messages import Board
from . import theme
from .panels import Margins, lacking, reading_row
from .widgets import Verdict, button, label, scrolled, section, three

Row = tuple[str, str, float | None, float, str, str]
STAGES = {
    "probe": "probe run", "start-up": "starting up", "sweep": "sweeping", "held": "held", "dwell": "dwelling",
    "follow": "following the resonance", "random": "random", "level": "changing level", "history": "playing the record",
    "pause": "pause",
}  # fmt: skip


def head_of(board: Board) -> str:
    """What is going on, in few words."""
    live = board.live
    word = STAGES.get(live.get("stage", ""), board.state)
    level = live.get("level_db")
    if level is not None and live.get("stage") not in ("probe", "pause"):
        word += f" · {level:+.1f} dB".replace("-", "−")
    return word


def shaker_rows(board: Board, prepared: Prepared) -> list[Row]:
    """Margins: what is being controlled, against its allowance."""
    live = board.live
    name = prepared.method.name
    if name == "sine-sweep":
        return _sine_rows(live, prepared)
    if name == "random-vibration":
        return _random_rows(live)
    return _history_rows(live)


def _sine_rows(live: dict[str, Any], prepared: Prepared) -> list[Row]:
    if "control" not in live:
        return []
    import numpy as np

    from ..domains.shaker.settings import with_tolerance

    f, target = live["f"], live["target"]
    held, _ = with_tolerance(prepared.settings.sine())
    profile = held.solved()
    f_in = float(np.clip(f, profile.start, profile.stop))
    low, high = profile.edges(np.array([f_in]), "tolerance")
    error = 20 * math.log10(max(live["control"], 1e-9) / max(target, 1e-9))
    at = float(profile.acceleration(f_in))
    edge = 20 * math.log10(high[0] / at) if error > 0 else -20 * math.log10(max(low[0], 1e-9) / at)
    used, full = abs(error) / max(edge, 1e-6), prepared.facts.source_range
    said = "plain" if live.get("stage") == "start-up" else "inside" if used <= 1 else "outside"
    rows: list[Row] = [
        ("Level", f"{three(live['control'])} m/s² · {error:+.2f} dB".replace("-", "−"), used, 0.0, said, ""),
        ("Drive", f"{live['drive']:.3g} of {full:g} V", live["drive"] / full, 0.0, "inside", ""),
    ]  # fmt: skip
    others = [r for r in prepared.facts.sensitivity if r not in prepared.control()["roles"]]
    for role, value in zip(others, live.get("responses", []), strict=False):
        rows.append(
            (
                role.capitalize(),
                f"{three(value)} m/s² · {three(value / max(live['control'], 1e-9))} ×",
                None,
                0.0,
                "plain",
                "",
            )
        )
    if "phase_error" in live:
        off = live["phase_error"]
        rows.append(
            (
                "Phase held",
                f"{off:+.1f}° of ±3".replace("-", "−"),
                abs(off) / 3,
                0.0,
                "inside" if abs(off) <= 3 else "outside",
                "",
            )
        )
    return rows


def _random_rows(live: dict[str, Any]) -> list[Row]:
    if "rms" not in live:
        return []
    wanted = live["rms_wanted"]
    off = 100 * (live["rms"] / wanted - 1)
    share = live["lines_in"]
    return [
        ("rms", f"{three(live['rms'])} m/s² {off:+.1f} %".replace("-", "−"), abs(off) / 10, 0.0,
         "inside" if abs(off) <= 10 else "outside", ""),
        ("Lines within tolerance", f"{share:.1f} %", (100 - share) / 5, 0.0, "inside" if share >= 95 else "open", ""),
        ("Degrees of freedom", f"{live['dof']:.0f} · lines {live['spacing']:.3g} Hz apart", None, 0.0, "plain", ""),
        ("Kurtosis", f"{live['kurtosis']:.2f}" if live.get("kurtosis") else "–", None, 0.0, "plain", ""),
        ("Stroke, three sigma", f"{significant(1e3 * live['stroke'])} mm pk-pk", None, 0.0, "plain", ""),
        ("Drive", f"{live['drive']:.3g} V rms", None, 0.0, "plain", ""),
    ]  # fmt: skip


def _history_rows(live: dict[str, Any]) -> list[Row]:
    rows: list[Row] = []
    if live.get("stage") == "history":
        rows.append(("Pass", f"{live.get('pass', 1)}", None, 0.0, "plain", ""))
    g = live.get("figures")
    if g:
        rows += [
            ("Error of the last pass", f"{significant(g['rms_error'])} % rms", g["rms_error"] / 10, 0.0,
             "inside" if g["rms_error"] <= 10 else "outside", ""),
            ("Peak", f"{g['peak_error']:+.1f} %".replace("-", "−"), abs(g["peak_error"]) / 10, 0.0, "inside", ""),
            ("Spectrum", f"{significant(g['spectrum_error'])} dB", g["spectrum_error"] / 3, 0.0, "inside", ""),
        ]  # fmt: skip
    return rows


BIG = {
    "sine-sweep": ("in_tolerance", "{:.1f} % of lines within tolerance"),
    "random-vibration": ("in_tolerance", "{:.1f} % of lines within tolerance"),
    "time-replication": ("rms_error", "{:.2g} % error"),
    "impact-response": ("hits_accepted", "{:.0f} good hits"),
    "speed-orders": ("speed_max", "up to {:.0f} rpm"),
    "microphone-level": ("sensitivity", "{:.2f} mV/Pa"),
}


MOST_SHOWN = 7
"""Readings of a sheet that are not inside, by name; what to do about them must stay in sight below"""


def leading(finding: Finding) -> Reading | None:
    """The reading that is told first where a method says nothing of it: the first with a limit, else the first."""
    there = [r for r in finding.readings if r.value is not None and r.valid]
    return next((r for r in there if r.verdict != "none"), there[0] if there else None)


class ShakerResult(QWidget):
    """After the run: how much was within tolerance, the figures, and what to do next."""

    again = pyqtSignal()
    carry_on = pyqtSignal()
    report = pyqtSignal()
    nothing = "Nothing was driven at level."
    """said of a run that was cut before there was anything to read"""

    def __init__(self) -> None:
        super().__init__()
        self.finding: Finding | None = None
        outer = QVBoxLayout(self)
        outer.setContentsMargins(0, 0, 0, 0)
        inner = QWidget()
        column = QVBoxLayout(inner)
        column.setContentsMargins(0, 0, 4, 0)
        column.setSpacing(4)
        outer.addWidget(scrolled(inner))
        head = QHBoxLayout()
        head.addWidget(section("Result"))
        head.addStretch()
        self.glyph = Verdict("none", (20, 11))
        self.word = label("", "small")
        head.addWidget(self.glyph)
        head.addWidget(self.word)
        column.addLayout(head)
        self.cut = label("", "cut", wrap=True)
        column.addWidget(self.cut)
        self.big = label("", "title", wrap=True)
        column.addWidget(self.big)
        self.margins = Margins()
        self.margins.setSizePolicy(QSizePolicy.Policy.Preferred, QSizePolicy.Policy.Maximum)
        column.addWidget(self.margins)
        self.notes = label("", "muted", wrap=True)
        column.addWidget(self.notes)
        column.addStretch()
        self.column = column
        self.more = button("Continue from where it was cut", "main")
        self.more.clicked.connect(self.carry_on)
        column.addWidget(self.more)
        self.paper = button("Report", tip="The report of this take, into the Folio")
        self.paper.clicked.connect(self.report)
        column.addWidget(self.paper)
        self.rerun = button("Run again", tip="A new take of the same plan; this one is kept")
        self.rerun.clicked.connect(self.again)
        column.addWidget(self.rerun)

    def show_finding(self, finding: Finding | None, cut: str | None, position: bool) -> None:
        """`cut`: why it was cut; `position`: whether it could be continued."""
        self.finding = finding
        self.cut.setText(cut or "")
        self.cut.setVisible(cut is not None)
        self.more.setVisible(cut is not None and position)
        self.paper.setVisible(finding is not None)
        if finding is None:
            self.glyph.set("outside")
            self.word.setText("cut" if cut else "nothing read")
            self.big.setText(self.nothing if cut else "")
            self.margins.show_rows([])
            self.notes.setText("")
            return
        self.glyph.set("outside" if cut else finding.verdict)
        self.word.setText("cut" if cut else theme.VERDICT_WORDS[finding.verdict])
        if cut is None and not finding.complete:
            self.cut.setText(lacking(finding))
            self.cut.setVisible(True)
        key, text = BIG.get(finding.method, ("", "{}"))
        value: Any = next((r.value for r in finding.readings if r.key == key), None)
        if not key and (first := leading(finding)) is not None:
            key, value = first.key, f"{first.label}: {figure(first.value or 0.0, first.uncertainty, first.unit)}"
        self.big.setText("nothing could be read" if value is None else text.format(value))
        if finding.method == "amplifier-sheet":
            self._count(finding)
            return
        rows: list[Row] = []
        for r in finding.readings:
            told = r.key == key and finding.method in BIG
            if told or r.value is None or len(rows) >= 12:
                continue
            name, shown, used, doubt, verdict, word = reading_row(r)
            if r.uncertainty is None:
                scale, unit = fitting(r.value, r.unit)
                shown = f"{three(r.value * scale)} {unit}"
            rows.append((name, shown, used, doubt, verdict if verdict != "none" else "plain", word))
        self.margins.show_rows(rows)
        self.notes.setText("\n".join(finding.notes[:4]))

    def _count(self, finding: Finding) -> None:
        """How a sheet of many readings stands: how many of each verdict, and the ones that are not inside."""
        judged = [r for r in finding.readings if r.verdict != "none"]
        inside = sum(1 for r in judged if r.verdict == "inside")
        self.big.setText(f"{inside} of {len(judged)} inside")
        worst = sorted((r for r in judged if r.verdict != "inside"), key=lambda r: r.verdict != "outside")
        rows: list[Row] = []
        shown: set[tuple[str, bool]] = set()
        said: set[str] = set()
        for r in worst:
            short = r.label.split(": ")[0]
            if (short, r.valid) in shown:
                continue
            shown.add((short, r.valid))
            _, _, used, doubt, verdict, _ = reading_row(r)
            value = "invalid" if not r.valid else "–" if r.value is None else figure(r.value, r.uncertainty, r.unit)
            # One cause spoils many: it is said once.
            cause = (r.reason or "").split(" at ")[0]
            word = "" if cause in said else r.reason or ""
            said.add(cause)
            rows.append((short, value, used if r.valid else None, doubt, verdict, word))
        more = len(rows) - MOST_SHOWN
        if more > 0:
            rows = [*rows[:MOST_SHOWN], (f"and {more} more", "", None, 0.0, "plain", "")]
        self.margins.show_rows(rows)
        # Which readings to take again is on the button and in the sheet; their keys are for scripts.
        told = [n for n in finding.notes if not n.startswith("Invalid, ")]
        self.notes.setText("\n".join(told[:4]))
