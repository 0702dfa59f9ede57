"""What a person types about a sensor, as the ledger keeps it."""

from __future__ import annotations

import datetime
from collections.abc import Mapping
from dataclasses import replace
from typing import Any

from ..core.errors import BadInput
from ..core.quantities import parse, sensitivity_unit, split
from .ledger import Sensor

SENSORS = ("accelerometer", "microphone", "force sensor", "force hammer", "load cell", "pressure sensor",
           "torque transducer", "extensometer", "displacement sensor", "thermometer")  # fmt: skip
INSTRUMENTS = ("vibration calibrator", "sound calibrator", "weight", "pressure balance", "voltmeter", "power supply",
               "load bank", "shunt", "coupler", "amplifier", "front end",
               "load frame", "phase of a load frame")  # fmt: skip
KINDS = (*SENSORS, *INSTRUMENTS)
UNITS = {"microphone": "mV/Pa", "force sensor": "mV/N", "force hammer": "mV/N", "load cell": "mV/V",
         "pressure sensor": "mV/bar", "torque transducer": "mV/V", "extensometer": "V/mm",
         "displacement sensor": "V/mm", "thermometer": "mV/K", "vibration calibrator": "m/s²",
         "sound calibrator": "Pa", "weight": "kg", "pressure balance": "bar", "voltmeter": "V/V", "power supply": "V",
         "load bank": "Ω", "shunt": "mΩ", "coupler": "cm³", "amplifier": "V/V", "front end": "V/V",
         "load frame": "µm/kN", "phase of a load frame": "deg"}  # fmt: skip
"""What one of a kind gives, or is, where nothing else is typed"""
USES = ("working", "reference")


def sensor_from(held: Mapping[str, str]) -> Sensor:
    """A sensor as it was typed. Raises BadInput."""
    serial = held["serial"].strip()
    if not serial:
        raise BadInput("A sensor needs its serial number: it is known by it.")
    start = Sensor(serial, held["kind"], unit=UNITS.get(held["kind"], "mV/(m/s²)"))
    return replace(start, **changes_from(start, {k: v for k, v in held.items() if k not in ("serial", "kind")}))


def changes_from(sensor: Sensor, held: Mapping[str, str]) -> dict[str, Any]:
    """What was typed of a sensor as values of its entry; only the keys that are there. Raises BadInput."""
    made: dict[str, Any] = {}
    for key, text in held.items():
        text = text.strip()
        if key == "nominal":
            made |= _nominal(sensor, text)
        elif key in ("interval", "interval_months"):
            if text and not (text.isdigit() and 0 < int(text) <= 240):
                raise BadInput(f"interval: '{text}' is no number of months: write 12, or leave it empty.")
            made["interval_months"] = int(text) if text else None
        elif key in ("tolerance", "transverse"):
            made[key] = parse(text, "%", key) if text else None
        elif key == "use":
            if text not in USES:
                raise BadInput(f"use: '{text}' is not known: use {' or '.join(USES)}.")
            made[key] = text
        elif key == "kind":
            if not text:
                raise BadInput("kind: say what it is.")
            made[key] = text
        elif key == "retired":
            made[key] = day_of(text, key) if text else None
        elif key in ("maker", "model", "owner", "note"):
            made[key] = text
        else:
            raise BadInput(
                f"A sensor has no '{key}': there are kind, nominal, maker, model, use, interval, tolerance, transverse,"
                " owner, note, retired."
            )
    return made


def _nominal(sensor: Sensor, text: str) -> dict[str, Any]:
    if not text:
        return {"nominal": None}
    amount, own = split(text)
    if not own:
        raise BadInput(f"nominal value: '{text}' has no unit: write it like '10 {sensor.unit}'.")
    if amount <= 0:
        raise BadInput("nominal value: it must be above zero.")
    unit = sensitivity_unit(text) if sensor.kind == "accelerometer" else own
    if UNITS.get(sensor.kind) == "kg":
        unit = "kg"
    return {"nominal": parse(text, unit, "nominal value"), "unit": unit}


def day_of(text: str, what: str) -> datetime.date:
    """A day as typed; today where nothing is. Raises BadInput."""
    if not text.strip():
        return datetime.date.today()
    try:
        return datetime.date.fromisoformat(text.strip())
    except ValueError:
        raise BadInput(f"{what}: '{text}' is no date: write it like 2026-11-29.") from None
