"""What is entered into the ledger by hand: a sensor, and a certificate that another laboratory wrote."""

from __future__ import annotations

from collections.abc import Mapping
from pathlib import Path

from PyQt6.QtWidgets import QFileDialog, QHBoxLayout, QWidget

from ..core.errors import BadInput
from ..core.quantities import parse, sensitivity_unit, split
from ..lab.elsewhere import calibration_from, keep_paper
from ..lab.ledger import Entry, Sensor
from ..lab.place import Lab
from .forms import Field, Sheet
from .widgets import button, label

KINDS = ("accelerometer", "microphone", "force sensor", "force hammer", "load cell", "pressure sensor")
UNITS = {"microphone": "mV/Pa", "force sensor": "mV/N", "force hammer": "mV/N", "load cell": "mV/V",
         "pressure sensor": "mV/bar"}  # fmt: skip
"""What a sensor of a kind gives where nothing else is typed"""


def sensor_from(held: Mapping[str, str]) -> Sensor:
    """A sensor as it was typed. Raises BadInput."""
    serial = held["serial"].strip()
    if not serial:
        raise BadInput("A sensor needs its serial number: it is known by it.")
    kind = held["kind"]
    unit, value = UNITS.get(kind, "mV/(m/s²)"), None
    if held["nominal"].strip():
        amount, own = split(held["nominal"])
        if not own:
            raise BadInput(f"sensitivity: '{held['nominal']}' has no unit: write it like '10 {unit}'.")
        unit = sensitivity_unit(held["nominal"]) if kind == "accelerometer" else own
        value = parse(held["nominal"], unit, "sensitivity")
        if amount <= 0:
            raise BadInput("sensitivity: it must be above zero.")
    months = held["interval"].strip()
    if months and not (months.isdigit() and 0 < int(months) <= 240):
        raise BadInput(f"interval: '{months}' is no number of months: write 12, or leave it empty.")
    tolerance = parse(held["tolerance"], "%", "tolerance") if held["tolerance"].strip() else None
    transverse = parse(held["transverse"], "%", "transverse") if held["transverse"].strip() else None
    return Sensor(
        serial, kind, held["maker"].strip(), held["model"].strip(), value, unit, held["use"],
        int(months) if months else None, tolerance, transverse, held["owner"].strip(),
    )  # fmt: skip


class SensorSheet(Sheet):
    """A new sensor."""

    def __init__(self, parent: QWidget, lab: Lab) -> None:
        self.lab = lab
        self.serial = ""
        fields = [
            Field("serial", "Serial number"),
            Field("kind", "Kind", choices=KINDS),
            Field("maker", "Maker"), Field("model", "Model"),
            Field("nominal", "Nominal sensitivity", hint="with its unit, such as 10 mV/(m/s²) or 100 mV/g"),
            Field("use", "Use", choices=("working", "reference")),
            Field("interval", "Calibrated every", "12", "months"),
            Field("tolerance", "Tolerance", hint="% about the nominal, such as 5 %"),
            Field("transverse", "Transverse", hint="% as its maker states it"),
            Field("owner", "Owner", hint="where it is a customer's"),
        ]  # fmt: skip
        super().__init__(parent, "Enter a sensor", "", fields, "Enter it", self._enter)

    def _enter(self, held: Mapping[str, str]) -> None:
        sensor = sensor_from(held)
        ledger = self.lab.ledger()
        try:
            ledger.add(sensor)
        finally:
            ledger.close()
        self.serial = sensor.serial


class CertificateSheet(Sheet):
    """A certificate from elsewhere."""

    def __init__(self, parent: QWidget, lab: Lab, entry: Entry) -> None:
        self.lab, self.sensor = lab, entry.sensor
        self.paper: Path | None = None
        unit = entry.sensor.unit
        fields = [
            Field("value", "Sensitivity", hint=f"such as 10.02 {unit}"),
            Field("frequency", "at", "160 Hz"),
            Field("doubt", "Uncertainty", hint=f"expanded, such as 0.5 % or 0.05 {unit}"),
            Field("coverage", "Coverage factor k", "2"),
            Field("date", "Date", hint="such as 2026-11-29"),
            Field("lab", "Laboratory"),
            Field("number", "Number"),
            Field("due", "Due", hint="when it is to be calibrated again; may be left empty"),
            Field("table", "Points", hint=f"paste them: Hz, {unit}, uncertainty in %", long=True),
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
