"""What is asked before a force or pressure sensor is calibrated, and before its calibration is accepted."""

from __future__ import annotations

import datetime
from collections.abc import Callable, Mapping
from pathlib import Path

from PyQt6.QtWidgets import QComboBox, QWidget

from ...core.errors import BadInput
from ...core.quantities import split
from ...lab import planning
from ...lab.ledger import Sensor
from ...lab.place import Lab
from ...lab.steps_planning import Laid, method_for, read_for, steps_plan, weights_for
from ..parts.forms import Field, Sheet

HOW = ("by the source", "by hand")
LAY, READ = "by weights, ", "by hand, read from "


def with_units(loads: list[str]) -> list[str]:
    """Loads each with the unit that the last one has. Raises BadInput where there is none."""
    unit = split(loads[-1])[1] if loads else ""
    if not unit:
        raise BadInput("weights laid on: write them with their unit, such as 5, 10, 20 kg.")
    return [w if split(w)[1] else f"{w} {unit}" for w in loads]


class CalibrateSheet(Sheet):
    """How far up, in how many steps, and who turns."""

    def __init__(self, parent: QWidget, lab: Lab, sensor: Sensor, as_state: str = "as found") -> None:
        self.lab, self.sensor, self.as_state = lab, sensor, as_state
        self.plan: Path | None = None
        ledger = lab.ledger()
        try:
            entries, method = ledger.entries(), method_for(sensor.kind)
            sets, shown = weights_for(entries, method), read_for(entries, method)
        finally:
            ledger.close()
        fields = [
            Field("top", "Up to", hint="the highest step, such as 4 kN or 60 bar"),
            Field("steps", "Steps", "10", "rising, evenly apart"),
            Field("wait", "Waiting at each", "30 s"),
            Field("how", "Brought up", choices=(
                *HOW, *(f"{LAY}{s}" for s in sets), *(f"{READ}{s}" for s in shown if s != sensor.serial))),
        ]  # fmt: skip
        if sets:
            marked = "masses" if sensor.kind != "pressure sensor" else "the pressures marked on them"
            fields.append(Field("loads", "Weights laid on", hint=f"{marked}, rising, such as 5, 10, 20 and their unit"))
            fields.append(Field("gravity", "Gravity here", hint="such as 9.8128 m/s^2; the standard one when empty"))
        if sensor.unit == "mV/V":
            fields.append(Field("amplifier", "Its amplifier", hint="what it makes of 1 mV/V, such as 5 V/(mV/V)"))
        super().__init__(
            parent, f"Calibrate {sensor.serial}", "Step by step against the reference that a rig has beside it.",
            fields, "Make the plan", self._make,
        )  # fmt: skip
        how = self.fields.boxes["how"]
        assert isinstance(how, QComboBox)
        how.currentTextChanged.connect(self._way)
        self._way(how.currentText())

    def _way(self, how: str) -> None:
        """What counts: where weights are laid on, they are the steps."""
        laid = how.startswith(LAY)
        for key, counts in (("top", not laid), ("steps", not laid), ("loads", laid), ("gravity", laid)):
            if key in self.fields.boxes:
                self.fields.boxes[key].setEnabled(counts)

    def _make(self, held: Mapping[str, str]) -> None:
        if held["how"].startswith(LAY):
            loads = [w.strip() for w in held["loads"].replace(";", ",").split(",") if w.strip()]
            laid = Laid(held["how"].removeprefix(LAY), with_units(loads), held["gravity"])
            plan = steps_plan(
                self.lab, self.sensor.serial, top="", today=datetime.date.today(), wait=held["wait"].strip() or "30 s",
                amplifier=held.get("amplifier", ""), as_state=self.as_state, laid=laid,
            )  # fmt: skip
            self.plan = planning.write_plan(self.lab, self.sensor.serial, plan)
            return
        if not held["top"].strip():
            raise BadInput("up to: give the highest step with its unit.")
        if not held["steps"].strip().isdigit():
            raise BadInput(f"steps: '{held['steps']}' is no number.")
        plan = steps_plan(
            self.lab, self.sensor.serial, top=held["top"].strip(), today=datetime.date.today(),
            steps=int(held["steps"]), wait=held["wait"].strip() or "30 s", hand=held["how"] == HOW[1],
            read=held["how"].removeprefix(READ) if held["how"].startswith(READ) else "",
            amplifier=held.get("amplifier", ""), as_state=self.as_state,
        )  # fmt: skip
        self.plan = planning.write_plan(self.lab, self.sensor.serial, plan)


class AcceptSheet(Sheet):
    """A calibration into the ledger."""

    def __init__(
        self, parent: QWidget, serial: str, as_state: str, initials: str, missing: str,
        take: Callable[[str, str, bool, str], None],
    ) -> None:  # fmt: skip
        fields = [
            Field("state", "Condition", as_state, choices=("as found", "as left")),
            Field("by", "Accepted by", initials),
            Field("due", "Due date on it", choices=("no", "yes")),
        ]
        text = "It stands in the ledger for good, and gets a certificate with the next number."
        if missing:
            text = f"It is not complete: {missing}."
            fields.append(Field("reason", "Why all the same", hint="stands on the certificate"))

        def accept(held: Mapping[str, str]) -> None:
            if not held["by"].strip():
                raise BadInput("accepted by: write your initials.")
            if missing and not held["reason"].strip():
                raise BadInput("why all the same: say it, or go on with the calibration.")
            take(held["state"], held["by"].strip(), held["due"] == "yes", held.get("reason", "").strip())

        super().__init__(parent, f"Accept the calibration of {serial}", text, fields, "Accept it", accept)
