"""The demo job's shaker work: battery tray BT-3, sine, random and a transport record, all of it made up."""

from __future__ import annotations

from pathlib import Path

import numpy as np

from ...core.signal.sinefit import Floats
from ...lab.place import Lab
from .planning import shaker_plan, write_shaker_plan

SINE = {
    "lucid-anvil-profile": 1, "kind": "sine", "title": "Battery tray BT-3, axis Z", "start": "8 Hz", "stop": "400 Hz",
    "segments": [
        {"displacement": "4.4 mm"}, {"acceleration": "11 m/s^2", "until": "47 Hz"}, {"line": True, "until": "80 Hz"},
        {"acceleration": "32 m/s^2"},
    ],
    "tolerance": {"low": "-3 dB", "high": "3 dB"}, "abort": {"low": "-6 dB", "high": "6 dB"},
    "sweep": {"law": "log", "rate": "4 oct/min", "direction": "up"}, "moving_mass": "10.4 kg",
}  # fmt: skip
RANDOM = {
    "lucid-anvil-profile": 1, "kind": "random", "title": "Battery tray BT-3, axis Z",
    "points": [
        {"frequency": "20 Hz", "density": "0.005 g^2/Hz"}, {"frequency": "80 Hz", "density": "0.02 g^2/Hz"},
        {"frequency": "350 Hz", "density": "0.02 g^2/Hz"}, {"frequency": "2000 Hz", "slope": "-3 dB/oct"},
    ],
    "tolerance": {"low": "-3 dB", "high": "3 dB"}, "abort": {"low": "-6 dB", "high": "6 dB"},
}  # fmt: skip
RECORD = {
    "lucid-anvil-profile": 1, "kind": "time", "title": "Barge and quay, deck record", "file": "deck.csv",
    "low_pass": "500 Hz", "stroke": "20 mm",
}  # fmt: skip


def deck_record(rate: float = 2560.0, seconds: float = 12.0, seed: int = 4) -> Floats:
    """m/s²: a deck that rolls in the swell, an engine, and four knocks against the quay."""
    rng = np.random.default_rng(seed)
    t = np.arange(0, seconds, 1 / rate)
    x = 0.6 * np.sin(2 * np.pi * 0.4 * t) + 1.2 * np.sin(2 * np.pi * 24.6 * t) + 0.5 * np.sin(2 * np.pi * 49.2 * t)
    x = x + 0.6 * rng.standard_normal(t.size)
    for start, f, size in ((1.8, 63.0, 38.0), (4.6, 118.0, 26.0), (7.3, 41.0, 45.0), (9.9, 170.0, 30.0)):
        u = np.maximum(t - start, 0.0)
        x = x + size * np.exp(-u * f * 0.16) * np.sin(2 * np.pi * f * u)
    return np.asarray(x)


def _write_csv(place: Path, x: Floats, rate: float) -> None:
    rows = "".join(f"{v:.5g}\n" for v in x)
    place.write_text(f"# rate_hz={rate:g}\ndeck [m/s^2]\n{rows}", encoding="utf-8")


def make(lab: Lab) -> None:
    """Three plans for the battery tray in the open job's folder."""
    rig = lab.folder / "rigs" / "shaker.rig.yaml"
    base = lab.jobs / (lab.facts.job or "bench") / "battery-tray"
    tray = "Battery tray BT-3"
    sine = shaker_plan(
        lab, "Sine 8–400 Hz, axis Z", tray, "sine-sweep",
        {
            "course": [{"sweep": "up"}, {"follow": "resonance", "channel": "response", "duration": "20 s"},
                       {"sweep": "down"}],
            "limits": {"in_tolerance": {"low": "98 %"}},
        }, rig,
    )  # fmt: skip
    write_shaker_plan(base / "sine", "sine", sine, SINE)
    random = shaker_plan(
        lab, "Random 20–2000 Hz, axis Z", tray, "random-vibration",
        {
            "course": [
                {"random": True, "ladder": ["-12 dB", "-6 dB", "-3 dB", "0 dB"], "each": "8 s", "duration": "60 s"}
            ],
            "limits": {"in_tolerance": {"low": "95 %"}},
        }, rig,
    )  # fmt: skip
    write_shaker_plan(base / "random", "random", random, RANDOM)
    record = shaker_plan(
        lab, "Deck record, axis Z", tray, "time-replication",
        {"control": {"passes": 5}, "limits": {"rms_error": {"high": "10 %"}}}, rig,
    )  # fmt: skip
    folder = base / "record"
    write_shaker_plan(folder, "record", record, RECORD)
    _write_csv(folder / "deck.csv", deck_record(), 2560.0)
