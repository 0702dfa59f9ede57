"""Studies that put the stated doubt to the test: seeded stand-in runs against the truth in the rig file."""

from __future__ import annotations

import datetime
import tempfile
from collections.abc import Sequence
from importlib.resources import files
from pathlib import Path
from typing import Any

import numpy as np

from ..contracts.settings import check
from ..lab.demo import reference_doubt, reference_points
from ..lab.plans import DEFAULT_WALK_ROUND, Plan
from ..lab.textfiles import parse_yaml
from ..rig.model import Rig
from ..rig.standins.errors import drawn_certificate
from .inprocess import play_through
from .preparing import Prepared, prepared_from

CORRELATION = 0.5
DRIFT = 0.05
"""%, half-width of the reference's drift in these studies."""
Row = tuple[float, float, float, float, float, float]
"""Frequency, error and expanded uncertainty of the sensitivity [%], the same of the deviation [points], truth."""


def demo_rig() -> dict[str, Any]:
    """The demo bench as plain data."""
    place = files("lucid_anvil") / "data" / "demo" / "rigs" / "comparison.rig.yaml"
    return parse_yaml(place.read_text(encoding="utf-8"), str(place))


def rig_variants() -> list[tuple[str, dict[str, Any], str]]:
    """Rigs with other parameters than the demo's, and both ways to excite."""
    made = []
    for name, changes in {
        "light table": {
            "shaker": {"moving_mass": "0.12 kg", "suspension_frequency": "24 Hz", "armature_frequency": "17 kHz"},
            "reference": {"sensitivity": "12.76 mV/(m/s^2)", "resonance": "52 kHz"},
            "unit": {"sensitivity": "5.11 mV/(m/s^2)", "resonance": "29 kHz", "quality": 40, "low_corner": "1.1 Hz"},
        },
        "heavy table": {
            "shaker": {"moving_mass": "0.9 kg", "suspension_frequency": "9 Hz", "armature_frequency": "8.2 kHz",
                       "transverse": "4 %"},
            "reference": {"sensitivity": "9.71 mV/(m/s^2)", "resonance": "38 kHz"},
            "unit": {"sensitivity": "10.4 mV/(m/s^2)", "resonance": "24 kHz", "quality": 15, "low_corner": "0.3 Hz"},
        },
    }.items():  # fmt: skip
        rig = demo_rig()
        rig["shaker"] |= changes["shaker"]
        rig["standin"]["sensors"]["GA-02"] |= changes["reference"]
        rig["standin"]["sensors"]["GA-11"] |= changes["unit"]
        rig["standin"]["input_gains"] = {}
        rig["room"]["temperature"] = 23.0
        made += [(name, rig, kind) for kind in ("stepped", "multisine")]
    return made


def study_run(rig_data: dict[str, Any], settings: dict[str, Any], certificate_seed: int | None = None) -> Prepared:
    """A plan on a rig given as data; the reference's certificate is true, or drawn with its own doubt."""
    rig = check(Rig, rig_data, "rig")
    reference = rig.standin.sensors["GA-02"]
    points = reference_points(reference.model())
    doubts = [[f, f"{reference_doubt(f)} %"] for f, _ in points]
    drift = 0.0
    if certificate_seed is not None:
        drift = DRIFT
        points = drawn_certificate(points, doubts, CORRELATION, drift, certificate_seed)
    transverse = {r: f"{rig.standin.sensors[s].transverse} %" for r, s in (("reference", "GA-02"), ("unit", "GA-11"))}
    data = {
        "lucid-anvil-plan": 1,
        "title": "study",
        "walk_round": DEFAULT_WALK_ROUND,
        "sensors": {
            "reference": {"serial": "GA-02", "sensitivity": points[15][1], "calibrated": str(datetime.date.today())},
            "unit": {"serial": "GA-11", "sensitivity": 1e3 * rig.standin.sensors["GA-11"].model().sensitivity},
            "transverse": {"serial": "GA-21", "sensitivity": 10.11},
        },
        "steps": [
            {
                "method": "accelerometer-comparison",
                "settings": {
                    "reference_response": [[f, f"{s!r} mV/(m/s^2)"] for f, s in points],
                    "reference_uncertainty": doubts,
                    "reference_drift": f"{drift} %",
                    "reference_correlation": CORRELATION,
                    "reference_frequency": 160.0,
                    "transverse_sensitivity": transverse,
                    "level": "30 m/s^2",
                    **settings,
                },
            }
        ],
    }
    with tempfile.TemporaryDirectory() as folder:
        place = Path(folder)
        return prepared_from(check(Plan, data, "plan"), place / "plan.yaml", rig, place / "rig.yaml")


def errors_against_truth(prepared: Prepared) -> list[Row]:
    """Play the run through and compare every point with the sensor's true response."""
    played = play_through(prepared)
    if played.trip is not None:
        raise RuntimeError(played.trip.sentence)
    finding = prepared.method.judged(played.channels, prepared.settings, played.marks)
    unit = prepared.rig.standin.sensors["GA-11"].model()
    s, d = finding.curve("sensitivity"), finding.curve("deviation")
    truth = 1e3 * np.abs(unit.response(np.array(s.x)))
    at = s.x.index(160.0)
    rows = []
    for i, f in enumerate(s.x):
        y, u, dev, dev_u = s.y[i], (s.uncertainty or ())[i], d.y[i], (d.uncertainty or ())[i]
        if y is None or u is None or dev is None or dev_u is None:
            raise RuntimeError(f"{f:g} Hz was struck: {finding.notes}")
        true_dev = 100 * (truth[i] / truth[at] - 1)
        rows.append((f, 100 * (y / truth[i] - 1), 100 * u / y, dev - true_dev, dev_u, float(truth[i])))
    return rows


def accuracy(given: tuple[str, dict[str, Any], str]) -> tuple[str, str, float, float, float]:
    """Worst errors with nothing drawn: sensitivity [%], deviation to 5 kHz and to 10 kHz [points]."""
    name, rig, kind = given
    rows = errors_against_truth(study_run(rig, {"excitation": kind, "insert": True}))
    sensitivity = max(abs(r[1]) for r in rows if r[0] == 160.0)
    low = max(abs(r[3]) for r in rows if r[0] <= 5000)
    return name, kind, sensitivity, low, max(abs(r[3]) for r in rows)


def one_run(given: tuple[int, int, str]) -> list[Row]:
    """One run with every systematic error drawn from `seed`."""
    seed, density, kind = given
    rig = demo_rig()
    rig["standin"]["seed"] = seed
    rig["standin"]["draw_errors"] = True
    rig["standin"]["input_gains"] = {}
    rig["room"]["temperature"] = 23.0
    rig["capability"] = None
    settings = {"steps_per_octave": density, "excitation": kind, "dwell": "0.5 s"}
    return errors_against_truth(study_run(rig, settings, certificate_seed=seed))


def summary(runs: Sequence[Sequence[Row]]) -> list[tuple[float, int, float, int, float]]:
    """By frequency: runs with the truth inside, rms of error over expanded uncertainty; and of the deviation."""
    table = np.array([[r[:5] for r in rows] for rows in runs])
    made = []
    for i in range(table.shape[1]):
        f = float(table[0, i, 0])
        share = table[:, i, 1] / table[:, i, 2]
        with np.errstate(divide="ignore", invalid="ignore"):
            dev = np.nan_to_num(table[:, i, 3] / table[:, i, 4])
        made.append(
            (
                f, int((np.abs(share) <= 1).sum()), float(np.sqrt(np.mean(share**2))),
                int((np.abs(dev) <= 1).sum()), float(np.sqrt(np.mean(dev**2))),
            )
        )  # fmt: skip
    return made
