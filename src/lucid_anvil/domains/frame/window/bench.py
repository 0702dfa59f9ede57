"""The Bench of a specimen that is pulled: its drawing beside the curve that grows, and the construction on it."""

from __future__ import annotations

from collections.abc import Callable, Mapping, Sequence
from typing import TYPE_CHECKING, Any

from PyQt6.QtWidgets import QHBoxLayout, QVBoxLayout

from ....contracts.finding import Finding
from ....desktop.bench.plain_bench import PlainBench, PlainStage, legend_of
from ....desktop.parts.chart import Chart
from ....desktop.parts.window_handles import WindowHandles, read_between, window_of
from ....engine.preparing import Prepared
from ....lab.editing import put
from ....lab.takes import Take
from ....protocol.messages import Board
from .pictures import SECTIONS, WAYS, PictureChoice
from .sizes import SPECIMEN, SizeAsking
from .specimen_view import ACROSS, SpecimenView

if TYPE_CHECKING:
    from ....desktop.bench.place import BenchPlace

POINTS = (("proof_0.2", "Rp0.2"), ("upper_yield", "ReH"), ("strength", "Rm"))
"""Stresses that are written at the curve (symbols of ISO 6892-1)"""


class FrameStage(PlainStage):
    """Specimen and curve side by side."""

    names_curves = False

    def __init__(self) -> None:
        super().__init__()
        self.specimen = SpecimenView()
        self.ways, self.sections = PictureChoice("Kind of test", WAYS, 5), PictureChoice("Section", SECTIONS, 5)
        layout = self.charts.parentWidget().layout()  # type: ignore[union-attr]
        assert layout is not None
        assert isinstance(layout, QVBoxLayout)
        at = layout.indexOf(self.charts)
        layout.removeWidget(self.charts)
        row = QHBoxLayout()
        row.setSpacing(4)
        side = QVBoxLayout()
        side.setSpacing(2)
        for one in (self.ways, self.sections):
            one.setFixedWidth(228)
            side.addWidget(one)
        side.addWidget(self.specimen, 1)
        row.addLayout(side)
        row.addWidget(self.charts, 1)
        layout.insertLayout(at, row, 1)
        self.handles: WindowHandles | None = None

    def show_prepared(self, prepared: Prepared, editable: bool) -> None:
        super().show_prepared(prepared, editable)
        self.handles = None
        size, kind = prepared.settings.specimen, prepared.settings.kind
        self.specimen.show_specimen(size, editable, kind == "compression")
        for one in (self.ways, self.sections):
            one.setVisible(editable)
        self.ways.show_choice(kind, editable)
        self.sections.show_choice(self.specimen.shape, editable)
        self.told.setText("" if size.gauge_length else "The gauge length of the extensometer is missing.")
        if self.tabs is not None:
            self.tabs.choose("stress")

    def _named(self, chart: Chart, names: Sequence[str]) -> None:
        """Lengths beside each other are named; what stands on the stress curve is written there."""
        if "lengths" in self.views and chart is self.views["lengths"][1] and (written := legend_of(names)):
            chart.legend(written)

    def show_board(self, board: Board) -> None:
        super().show_board(board)
        live = board.live or {}
        if "strain" in live:
            self.specimen.show_strain(float(live["strain"]) / 100, bool(live.get("broken")))

    def show_finding(self, finding: Finding) -> None:
        super().show_finding(finding)
        chart = self.views["stress"][1]
        by = {r.key: r for r in finding.readings}
        curve = next((c for c in finding.curves if c.key == "stress"), None)
        if curve is None:
            return
        for key, symbol in POINTS:
            reading = by.get(key)
            if reading is None or reading.value is None:
                continue
            x = self._strain_at(finding, curve, key, reading.value)
            if x is not None:
                # A word by the axis would be cut off by it.
                beside = max(x, 0.13 * max(curve.x))
                chart.note(f"note-{key}", beside, reading.value, f"{symbol} {reading.value:.4g} MPa")
        broke = by.get("strain_at_break")
        if broke is not None and broke.value is not None:
            near = [y for x, y in zip(curve.x, curve.y, strict=True) if y is not None and x >= 0.99 * broke.value]
            chart.note("note-break", broke.value, max(near, default=0.0), "break")
            self.specimen.show_strain(broke.value / 100, True)

    @staticmethod
    def _strain_at(finding: Finding, curve: Any, key: str, value: float) -> float | None:
        if key == "strength":
            return next((r.value for r in finding.readings if r.key == "strain_at_strength"), None)
        return next((x for x, y in zip(curve.x, curve.y, strict=True) if y is not None and y >= value), None)

    def offer_window(self, window: Mapping[str, Any], take: Callable[[float, float], None]) -> None:
        """Both ends of the modulus window as lines that can be dragged; `take` gets them when they were."""
        if self.handles is not None:
            self.handles.drop()
        self.handles = WindowHandles(self.views["stress"][1], window, take)


class FrameBench(PlainBench):
    """What the Bench shows and does for a plan of tension or compression."""

    name = "frame"

    def __init__(self, bench: BenchPlace) -> None:
        super().__init__(bench)
        self.stage: FrameStage = FrameStage()
        self.next.setText("End it  N")
        self.next.setToolTip("The crosshead rests, and what was pulled so far is read")
        self.sizes = SizeAsking(bench, "specimen", SPECIMEN, lambda: self.stage.specimen.size_)
        self.stage.specimen.asked.connect(self.sizes.ask)
        self.stage.ways.chosen.connect(self.choose_way)
        self.stage.sections.chosen.connect(lambda key: self.sizes.choose("shape", key, [k for k, _ in ACROSS[key]]))

    @property
    def here(self) -> bool:
        prepared = self.bench.prepared
        return prepared is not None and prepared.method.name == "tension"

    def put_size(self, key: str, text: str) -> None:
        """A size as it is typed."""
        self.sizes.put(key, text)

    def choose_way(self, kind: str) -> None:
        """Pulled, or pressed."""
        place = self.bench.plan_file
        if place is not None:
            self.bench.editing.change(place, lambda: put(place, ("kind",), kind), self.bench.said.emit)

    def show_done(self, take: Take, status: str, reason: str | None) -> None:
        super().show_done(take, status, reason)
        self._offer(take)

    def _offer(self, take: Take) -> None:
        """The window that the modulus was read in, to be taken hold of."""
        window = window_of(self.bench.finding)
        if window is not None:
            self.stage.offer_window(window, lambda low, high: self.read_between(take, window, low, high))

    def read_between(self, take: Take, window: Mapping[str, Any], low: float, high: float) -> None:
        """Another finding of the same take, its modulus between two stresses."""
        if high <= max(low, 0.0):
            return

        def then(made: Finding) -> None:
            self.bench.finding = made
            self.stage.show_finding(made)
            self.result.show_finding(made, None if take.status() == "done" else take.reason(), False)
            self.bench.said.emit("Read again with that window; the finding before is kept beside it.")

        self.bench.aside.run("window", lambda: read_between(take, window, low, high), then)
