"""The demo lab: Gullstone Test House, job 0412, all of it made up. Histories are drawn from plain drift models."""

from __future__ import annotations

import datetime
import shutil
from importlib.resources import files
from pathlib import Path

import numpy as np

from ..contracts import registry
from ..core.quantities import parse, preferred_frequencies
from ..core.sensor import SensorModel
from .beginning import RIGS
from .demo_records import make_records
from .ledger import Calibration, Sensor
from .place import Lab, open_lab
from .planning import add_months

SENSORS = [
    # serial, kind, maker, model, nominal, unit, use, months, tolerance %, transverse %, yearly drift %, due in days
    ("GA-02", "accelerometer", "Tidewrack", "BB 10-R", 10.0, "mV/(m/s²)", "reference", 24, 3.0, 1.0, 0.04, 412),
    ("GA-11", "accelerometer", "Tidewrack", "T 10", 10.0, "mV/(m/s²)", "working", 12, 5.0, 2.5, -0.45, -9),
    ("GA-07", "accelerometer", "Tidewrack", "T 10", 10.0, "mV/(m/s²)", "working", 12, 5.0, 2.5, 0.22, 31),
    ("GA-15", "accelerometer", "Tidewrack", "T 10", 10.0, "mV/(m/s²)", "working", 12, 5.0, 2.5, 0.10, 148),
    ("GC-04", "accelerometer", "Halvard & Roe", "Q 3", 0.31, "pC/(m/s²)", "working", 12, 5.0, 3.0, -0.30, -2),
    ("GA-21", "accelerometer", "Tidewrack", "T 10-X", 10.0, "mV/(m/s²)", "working", 24, 10.0, 5.0, 0.05, 501),
    ("GM-03", "microphone", "Orrin", "half-inch W", 50.0, "mV/Pa", "working", 12, None, None, -0.25, 12),
    ("GM-05", "microphone", "Orrin", "half-inch W", 50.0, "mV/Pa", "working", 12, None, None, 0.12, 205),
    ("GF-01", "force sensor", "Halvard & Roe", "F 5k", 2.2, "mV/N", "working", 12, None, None, 0.35, 77),
    ("GP-08", "pressure sensor", "Selkirk Bay", "P 60", 10.0, "mV/bar", "working", 12, None, None, 0.6, -31),
    ("GL-02", "load cell", "Selkirk Bay", "L 100k", 2.0, "mV/V", "working", 24, None, None, 0.03, 333),
    ("GH-01", "force hammer", "Selkirk Bay", "H 500", 2.25, "mV/N", "working", 12, None, None, -0.2, 118),
    ("GF-40", "force sensor", "Halvard & Roe", "R 5k", 2.0, "mV/N", "reference", 24, None, None, 0.01, 266),
    ("GP-01", "pressure sensor", "Selkirk Bay", "R 60", 150.0, "mV/bar", "reference", 12, None, None, 0.02, 171),
]  # fmt: skip

FREQUENCY = {"accelerometer": 160.0, "microphone": 250.0, "force hammer": 160.0}
"""Hz at which one of a kind is calibrated; what rests has none"""
STATIC = {"reference": 0.02, "working": 0.1}
"""% expanded, of what is calibrated at rest"""


def reference_points(model: SensorModel) -> list[tuple[float, float]]:
    """The true sensitivity [mV/(m/s²)] at the thirds of an octave, 5 Hz to 10 kHz."""
    f = np.array(preferred_frequencies(5, 10000, 3))
    return [(float(a), float(1e3 * abs(r))) for a, r in zip(f, model.response(f), strict=True)]


def reference_doubt(frequency: float) -> float:
    """% expanded, as a national institute might state it."""
    return 0.3 if frequency <= 1000 else 0.5 if frequency <= 5000 else 0.8


def make_demo(folder: Path, today: datetime.date) -> Lab:
    """A fresh demo lab in a folder that is empty or not there."""
    folder.mkdir(parents=True, exist_ok=True)
    source = files("lucid_anvil") / "data" / "demo"
    for name in ("lab.yaml", *(f"rigs/{r}.rig.yaml" for r in RIGS)):
        place = folder / name
        place.parent.mkdir(parents=True, exist_ok=True)
        place.write_text((source / name).read_text(encoding="utf-8"), encoding="utf-8")
    for name in ("jobs/0412", "certificates", "run"):
        (folder / name).mkdir(parents=True, exist_ok=True)
    lab = open_lab(folder)
    fill_ledger(lab, today)
    for make in registry.demos():
        make(lab)
    make_records(folder / "records", today)
    return lab


def fill_ledger(lab: Lab, today: datetime.date) -> None:
    """Sensors with four or five calibrations each; the last ones drifted to what the rig's stand-ins really are."""
    from ..rig.model import load_rig

    truth = {}
    for rig_file in sorted((lab.folder / "rigs").glob("*.rig.yaml")):
        truth.update(load_rig(rig_file).standin.sensors)
    ledger = lab.ledger()
    rng = np.random.default_rng(412)
    for serial, kind, maker, model, nominal, unit, use, months, tolerance, transverse, drift, left in SENSORS:
        ledger.add(Sensor(serial, kind, maker, model, nominal, unit, use, months, tolerance, transverse))
        last = add_months(today + datetime.timedelta(days=left), -months)
        count = 5 if months == 12 else 3
        own = truth.get(serial)
        now = nominal * (1 + rng.uniform(-0.012, 0.012))
        if own is not None:
            now = parse(own.sensitivity, unit.replace("²", "^2"), serial)
        for i in range(count):
            date = add_months(last, -months * (count - 1 - i))
            years = (today - date).days / 365.25
            value = now * (1 - drift / 100 * years) * (1 + rng.normal(0, 0.0006))
            points = None
            doubt = 0.3 if use == "reference" else 0.8
            if use == "working" and kind == "accelerometer" and own is not None:
                shape = [(f, s / reference_points(own.model())[15][1]) for f, s in reference_points(own.model())]
                bent = [s * (1 + 0.004 * (f / 10000) ** 2 + rng.normal(0, 0.001)) for f, s in shape]
                points = [[f, value * b, 0.8] for (f, _), b in zip(shape, bent, strict=True) if f >= 10]
            if use == "reference" and kind == "accelerometer" and own is not None:
                points = [[f, s * value / now, reference_doubt(f)] for f, s in reference_points(own.model())]
            ledger.append(
                serial,
                Calibration(
                    date, value, unit, "as found", FREQUENCY.get(kind), doubt if kind in FREQUENCY else STATIC[use],
                    f"NI-{date.year}-{2000 + int(rng.integers(1, 900))}" if use == "reference"
                    else f"{lab.facts.certificate_prefix}-{date.year}-{int(rng.integers(1, 60)):04d}",
                    "National institute" if use == "reference" else lab.facts.name,
                    add_months(date, months), "inside", "", "K.B." if i % 2 else "M.O.", 22.0, points,
                ),
            )  # fmt: skip
    ledger.close()


def fresh_demo(folder: Path, today: datetime.date) -> Lab:
    """A scratch copy, an older one thrown away."""
    if folder.exists():
        shutil.rmtree(folder)
    return make_demo(folder, today)
