"""Limits from units: tick the good ones, and see the corridor that comes of them before it goes into the plan."""

from __future__ import annotations

from PyQt6.QtCore import Qt
from PyQt6.QtWidgets import QDialog, QDoubleSpinBox, QHBoxLayout, QListWidget, QListWidgetItem, QVBoxLayout, QWidget

from ....contracts.finding import Curve, Finding
from ....core.errors import BadInput
from ....desktop.parts.chart import Chart
from ....desktop.parts.widgets import button, label
from ....lab.unit_limits import Unit, mask_from


class LimitsView(QDialog):
    """Units on the left, their curves and the corridor on the right, its width below."""

    def __init__(self, units: list[Unit], curve: Curve, relative: bool, parent: QWidget | None = None) -> None:
        """`curve` is the one in hand: units are those that have it; the first of them is ticked."""
        super().__init__(parent)
        self.setWindowTitle("Limits from units")
        self.resize(900, 540)
        self.key, self.relative, self.unit = curve.key, relative, curve.y_unit
        self.units = [u for u in units if u.curve(curve.key) is not None]
        outer = QVBoxLayout(self)
        outer.setContentsMargins(18, 14, 18, 14)
        outer.addWidget(label(curve.label, "title"))
        row = QHBoxLayout()
        row.setSpacing(14)
        side = QVBoxLayout()
        side.addWidget(label("Good units", "muted"))
        self.list = QListWidget()
        self.list.setFixedWidth(230)
        for i, unit in enumerate(self.units):
            item = QListWidgetItem(f"{unit.name} · {unit.take.name}")
            item.setFlags(item.flags() | Qt.ItemFlag.ItemIsUserCheckable)
            item.setCheckState(Qt.CheckState.Unchecked if i else Qt.CheckState.Checked)
            self.list.addItem(item)
        self.list.itemChanged.connect(lambda _item: self._draw())
        side.addWidget(self.list, 1)
        row.addLayout(side)
        self.chart = Chart(curve.x_unit, curve.y_unit, log_x=True, log_y=relative)
        row.addWidget(self.chart, 1)
        outer.addLayout(row, 1)
        foot = QHBoxLayout()
        self.what = label("", "small")
        self.width_box = QDoubleSpinBox()
        self.width_box.setRange(0.01, 500.0)
        self.width_box.setDecimals(0 if relative else 2)
        self.width_box.setSingleStep(5.0 if relative else 0.1)
        self.width_box.setSuffix(" %" if relative else f" {curve.y_unit}")
        self.width_box.setValue(50.0 if relative else 0.5)
        self.width_box.valueChanged.connect(lambda _v: self._draw())
        self.said = label("", "muted")
        self.leave = button("Leave it")
        self.leave.clicked.connect(self.reject)
        self.put = button("Put into the plan", "main")
        self.put.clicked.connect(self.accept)
        for widget in (self.what, self.width_box, self.said):
            foot.addWidget(widget)
        foot.addStretch(1)
        foot.addWidget(self.leave)
        foot.addWidget(self.put)
        outer.addLayout(foot)
        self._draw()

    @property
    def chosen(self) -> list[Finding]:
        """Findings of the units that are ticked."""
        return [u.finding for i, u in enumerate(self.units) if self._ticked(i)]

    @property
    def share(self) -> float:
        """The width as limits take it: in the curve's unit, or as a share."""
        return self.width_box.value() / (100.0 if self.relative else 1.0)

    def _ticked(self, i: int) -> bool:
        item = self.list.item(i)
        return item is not None and item.checkState() == Qt.CheckState.Checked

    def _draw(self) -> None:
        curves: list[Curve] = []
        for i, unit in enumerate(self.units):
            curve = unit.curve(self.key)
            assert curve is not None
            if not self._ticked(i):
                self.chart.drop(f"unit-{i}")
                continue
            self.chart.curve(f"unit-{i}", curve.x, curve.y, "teal", 1.6 if curves else 2.2, unit.name)
            curves.append(curve)
        self.what.setText("At least, either side" if len(curves) > 1 else "Plus and minus")
        self.put.setEnabled(bool(curves))
        self.chart.drop("mask-band", "mask-low", "mask-high")
        if not curves:
            self.said.setText("Tick a unit that is good.")
            return
        try:
            mask, said = mask_from(curves, self.share, self.relative)
        except BadInput as problem:
            self.said.setText(str(problem))
            self.put.setEnabled(False)
            return
        self.chart.corridor("mask", mask.x, mask.low, mask.high)
        self.said.setText(f"{said}, {mask.x.size} points")
