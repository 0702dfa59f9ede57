"""What is entered into the ledger by hand: a sensor, and a certificate that another laboratory wrote."""

from __future__ import annotations

import datetime
from collections.abc import Mapping
from pathlib import Path

from PyQt6.QtWidgets import QFileDialog, QHBoxLayout, QWidget

from ...core.errors import BadInput
from ...lab.elsewhere import STEPS, calibration_from, keep_paper
from ...lab.entering import KINDS, USES, changes_from, day_of, sensor_from
from ...lab.ledger import Entry, Sensor
from ...lab.place import Lab
from ..parts.forms import Field, Sheet
from ..parts.widgets import button, label


class SensorSheet(Sheet):
    """A new sensor."""

    def __init__(self, parent: QWidget, lab: Lab) -> None:
        self.lab = lab
        self.serial = ""
        fields = [
            Field("serial", "Serial number"),
            Field("kind", "Kind", choices=KINDS),
            Field("maker", "Maker"), Field("model", "Model"),
            Field("nominal", "Nominal value", hint="with its unit, such as 10 mV/(m/s²), 2 kg or 100 mΩ"),
            Field("use", "Use", choices=("working", "reference")),
            Field("interval", "Calibrated every", "12", "months"),
            Field("tolerance", "Tolerance", hint="% about the nominal, such as 5 %"),
            Field("transverse", "Transverse", hint="% as its maker states it"),
            Field("owner", "Owner", hint="where it is a customer's"),
        ]  # fmt: skip
        super().__init__(parent, "Enter a sensor or instrument", "", fields, "Enter it", self._enter)

    def _enter(self, held: Mapping[str, str]) -> None:
        sensor = sensor_from(held)
        ledger = self.lab.ledger()
        try:
            ledger.add(sensor)
        finally:
            ledger.close()
        self.serial = sensor.serial


class ChangeSheet(Sheet):
    """A sensor's entry changed; what stood there is kept."""

    def __init__(self, parent: QWidget, lab: Lab, sensor: Sensor) -> None:
        self.lab, self.sensor = lab, sensor
        nominal = f"{sensor.nominal:g} {sensor.unit}" if sensor.nominal else ""
        fields = [
            Field("maker", "Maker", sensor.maker), Field("model", "Model", sensor.model),
            Field("nominal", "Nominal value", nominal),
            Field("use", "Use", sensor.use, choices=USES),
            Field("interval", "Calibrated every", str(sensor.interval_months or ""), "months"),
            Field("tolerance", "Tolerance", "" if sensor.tolerance is None else f"{sensor.tolerance:g} %"),
            Field("transverse", "Transverse", "" if sensor.transverse is None else f"{sensor.transverse:g} %"),
            Field("owner", "Owner", sensor.owner),
            Field("note", "Note", sensor.note, "what one should know of it"),
            Field("by", "Changed by", lab.facts.operator),
        ]  # fmt: skip
        super().__init__(parent, f"Change {sensor.serial}", "", fields, "Change it", self._change)

    def _change(self, held: Mapping[str, str]) -> None:
        values = changes_from(self.sensor, {k: v for k, v in held.items() if k != "by"})
        ledger = self.lab.ledger()
        try:
            ledger.change(self.sensor.serial, held["by"], **values)
        finally:
            ledger.close()


class RetireSheet(Sheet):
    """A sensor taken out of use."""

    def __init__(self, parent: QWidget, lab: Lab, sensor: Sensor) -> None:
        self.lab, self.sensor = lab, sensor
        fields = [Field("why", "Why", hint="such as dropped, or lost"), Field("on", "From", f"{datetime.date.today()}"),
                  Field("by", "Retired by", lab.facts.operator)]  # fmt: skip
        super().__init__(
            parent, f"Retire {sensor.serial}", "Nothing new may rest on it from that day on. What rests on it stays.",
            fields, "Retire it", self._retire,
        )  # fmt: skip

    def _retire(self, held: Mapping[str, str]) -> None:
        ledger = self.lab.ledger()
        try:
            ledger.retire(self.sensor.serial, held["by"], held["why"], day_of(held["on"], "from"))
        finally:
            ledger.close()


class CertificateSheet(Sheet):
    """A certificate from elsewhere."""

    def __init__(self, parent: QWidget, lab: Lab, entry: Entry) -> None:
        self.lab, self.sensor = lab, entry.sensor
        self.paper: Path | None = None
        unit = entry.sensor.unit
        steps = {"N": "N or kN in the heading", "Pa": "Pa or bar in the heading"}.get(STEPS.get(entry.sensor.kind, ""))
        fields = [
            Field("value", "Value", hint=f"such as 10.02 {unit}"),
            Field(
                "frequency",
                "at",
                "160 Hz" if entry.sensor.kind == "accelerometer" else "",
                "Hz, where it is one frequency's",
            ),
            Field("doubt", "Uncertainty", hint=f"expanded, such as 0.5 % or 0.05 {unit}"),
            Field("coverage", "Coverage factor k", "2"),
            Field("date", "Date", hint="such as 2026-11-29"),
            Field("lab", "Laboratory"),
            Field("number", "Number"),
            Field("due", "Due", hint="when it is to be calibrated again; may be left empty"),
            Field("table", "Points", hint=f"paste them: {steps or 'Hz'}, {unit}, uncertainty in %", long=True),
        ]
        row = QWidget()
        line = QHBoxLayout(row)
        line.setContentsMargins(0, 0, 0, 0)
        choose = button("Keep the paper…", tip="A copy of its PDF is kept in the lab's folder")
        choose.clicked.connect(self._choose)
        self.told = label("", "muted")
        line.addStretch()
        line.addWidget(self.told)
        line.addWidget(choose)
        title = f"A certificate for {entry.sensor.serial}"
        super().__init__(
            parent, title, "As another laboratory wrote it. It stands in the ledger for good: read it twice.",
            fields, "Put it into the ledger", self._enter, [row],
        )  # fmt: skip

    def _choose(self) -> None:
        place, _ = QFileDialog.getOpenFileName(self, "The certificate", "", "Papers (*.pdf *.png *.jpg)")
        if place:
            self.paper = Path(place)
            self.told.setText(self.paper.name)

    def _enter(self, held: Mapping[str, str]) -> None:
        made = calibration_from(self.sensor, **held)
        if self.paper is not None:
            if not self.paper.is_file():
                raise BadInput(f"{self.paper}: it is not there any more: choose the paper again.")
            keep_paper(self.lab, made.certificate, self.paper)
        ledger = self.lab.ledger()
        try:
            ledger.append(self.sensor.serial, made)
        finally:
            ledger.close()
