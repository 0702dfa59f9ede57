"""The demo job's shaker work: battery tray BT-3, sine, random and a transport record, all of it made up."""

from __future__ import annotations

from pathlib import Path
from typing import Any

import numpy as np

from ..core.signal.sinefit import Floats
from .amplifier_planning import amplifier_plan, sheet_steps
from .listening_planning import check_settings, listening_plan, write_listening_plan
from .place import Lab
from .shaker_planning import shaker_plan, write_shaker_plan

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


def make_jobs(lab: Lab) -> None:
    """Three plans for the battery tray in the open job's folder."""
    job, rigs = lab.jobs / (lab.facts.job or "bench"), lab.folder / "rigs"
    _driver_jobs(lab, job, rigs)
    _resin_job(lab, job, rigs)
    _speech_jobs(lab, job, rigs)
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
    _listening_jobs(lab)
    amplifier = amplifier_plan(lab, "Published sheet, both channels", "Fog-signal amplifier FS-2",
                               lab.folder / "rigs" / "amplifier.rig.yaml", sheet_steps("6 s"))  # fmt: skip
    write_listening_plan(lab.jobs / (lab.facts.job or "bench") / "fog-amplifier" / "sheet", "sheet", amplifier)


def _listening_jobs(lab: Lab) -> None:
    """Microphone check, hammer on the mooring plate, and the bilge pump's run-down."""
    job, rigs = lab.jobs / (lab.facts.job or "bench"), lab.folder / "rigs"
    allowed = {"change": {"low": "-0.5 dB", "high": "0.5 dB"}}
    check = listening_plan(
        lab, "Microphone GM-03, check before the run", "Bilge pump", "microphone-level",
        {
            "level": "93.97 dB", "frequency": "1 kHz", "level_uncertainty": "0.12 dB", "distortion_allowed": "3 %",
            "corrections": {"pressure": "0.02 dB"}, "limits": allowed, **check_settings(lab, "GM-03"),
        }, rigs / "microphone.rig.yaml",
    )  # fmt: skip
    write_listening_plan(job / "bilge-pump" / "check", "check", check)
    speed: dict[str, Any] = {
        "pulses_per_rev": 1, "orders": [0.5, 1, 2, 5, 10], "run": "down", "weighting": "A",
        "time_weighting": "F", "bands": "thirds",
        "speed": {"from": "600 rpm", "to": "2950 rpm", "step": "50 rpm"}, "mains": "50 Hz", "duration": "40 s",
    }  # fmt: skip
    down = listening_plan(lab, "Run-down 3000–600 rpm", "Bilge pump", "speed-orders", speed, rigs / "pump.rig.yaml")
    write_listening_plan(job / "bilge-pump" / "run-down", "run-down", down)
    hits = {"block": 16384, "hits": 5, "trial_hits": 3}
    plate = listening_plan(lab, "Plate, corner to centre", "Mooring plate", "impact-response", hits,
                           rigs / "hammer.rig.yaml")  # fmt: skip
    write_listening_plan(job / "mooring-plate" / "impact", "impact", plate)
    _coupon_job(lab, job, rigs)


def _driver_jobs(lab: Lab, job: Path, rigs: Path) -> None:
    """The horn's driver: one part after the other on the line, and one under power for a night (shortened)."""
    line: dict[str, Any] = {
        "play": {"level": "2.83 V", "seconds": "1 s"},
        "limits": {"polarity": {"low": 1, "high": 1}, "sensitivity": {"low": "96 dB", "high": "98 dB"},
                   "resonance": {"low": "90 Hz", "high": "100 Hz"}, "thd_max": {"high": "3 %"},
                   "loose": {"high": 0}},
        "level_uncertainty": "0.3 dB",
    }  # fmt: skip
    part = listening_plan(lab, "Drivers, one after the other", "Fog driver", "driver-check", line,
                          rigs / "driver.rig.yaml")  # fmt: skip
    write_listening_plan(job / "fog-driver" / "line", "line", part)
    power: dict[str, Any] = {
        "probe": {"frequency": "4 Hz"}, "every": "2 s", "cold_temperature": 20,
        "play": {"level": "40 W", "rated": "8 ohm", "crest": 2, "from": "150 Hz", "to": "8 kHz", "hottest": "150 °C",
                 "stages": [{"duration": "60 s"}, {"duration": "60 s", "by": "-3 dB", "on": "10 s", "off": "5 s"}]},
        "limits": {"coil_temperature_max": {"high": "120 °C"}, "compression_end": {"high": "2 dB"}},
    }  # fmt: skip
    night = listening_plan(lab, "Horn driver, 40 W", "Fog driver", "power-endurance", power, rigs / "horn.rig.yaml")
    write_listening_plan(job / "fog-driver" / "night", "night", night)


HARBOUR_RADIO = (
    ("Sending, clause 4.1", "handset", "sending", "0.58 Pa",
     {"mask": {"low": [[300, "-20 dB"], [600, "-14 dB"], [3000, "-14 dB"], [3400, "-20 dB"]],
               "high": [[100, "-2 dB"], [3400, "-2 dB"]]},
      "limits": {"loudness_rating": {"low": "0 dB", "high": "8 dB"}}}),
    ("Sending, idle noise, clause 4.2", "handset", "idle", "0.58 Pa", {"limits": {"noise": {"high": "-64 dB"}}}),
    ("Sending, distortion, clause 4.3", "handset", "distortion", "0.58 Pa", {"limits": {"sinad": {"low": "33 dB"}}}),
    ("Sending, delay, clause 4.4", "handset", "delay", "0.58 Pa", {"limits": {"delay": {"high": "60 ms"}}}),
    ("Receiving, clause 5.1", "earpiece", "receiving", "0.1 V",
     {"limits": {"loudness_rating": {"low": "-11 dB", "high": "-3 dB"}}}),
    ("Receiving, distortion, clause 5.3", "earpiece", "distortion", "0.1 V", {"limits": {"sinad": {"low": "33 dB"}}}),
)  # fmt: skip
"""Our own requirement for a harbour radio, HR-1: each case with its clause, its bench, its level and its limits"""


def _speech_jobs(lab: Lab, job: Path, rigs: Path) -> None:
    """The crew's headset, and the radio's handset case by case."""
    check: dict[str, Any] = {
        "level_uncertainty": "0.3 dB", "band": {"from": "100 Hz", "to": "8 kHz"},
        "play": {"level": "0.2 V", "seconds": "5 s", "attenuation": "active"},
        "limits": {"difference_max": {"low": "-3 dB", "high": "3 dB"}, "passive": {"low": "6 dB"},
                   "polarity_left": {"low": 1, "high": 1}, "polarity_right": {"low": 1, "high": 1}},
    }  # fmt: skip
    headset = listening_plan(lab, "Both sides, worn and cancelling", "Crew headset", "headset-check", check,
                             rigs / "headset.rig.yaml")  # fmt: skip
    write_listening_plan(job / "crew-headset" / "check", "check", headset)
    cases = listening_plan(lab, "Harbour radio HR-1", "Radio handset", "handset-cases", {}, rigs / "handset.rig.yaml")
    cases["steps"] = [
        {"method": "handset-cases", "label": label, "rig": str(rigs / f"{rig}.rig.yaml"), "go_on": "always",
         "settings": {"case": case, "level_uncertainty": "0.3 dB", "play": {"level": level, "seconds": "5 s"}, **more}}
        for label, rig, case, level, more in HARBOUR_RADIO
    ]  # fmt: skip
    write_listening_plan(job / "radio-handset" / "cases", "cases", cases)


def _resin_job(lab: Lab, job: Path, rigs: Path) -> None:
    """The resin that the battery tray is potted with, warmed through its transition."""
    warmed: dict[str, Any] = {
        "geometry": {"kind": "tension", "length": "30 mm", "width": "10 mm", "thickness": "2 mm"},
        "temperature_uncertainty": "0.5 K", "uncertainty": {"force": "0.6 %", "displacement": "0.5 %"},
        "play": {"frequencies": ["5 Hz"], "temperature": {"from": "50 °C", "to": "95 °C", "rate": "10 K/min"}},
        "limits": {"tg_tan_peak": {"low": "75 °C"}},
    }  # fmt: skip
    resin = listening_plan(lab, "Potting resin, 50 to 95 °C", "Potting resin", "dma", warmed, rigs / "dma.rig.yaml")
    write_listening_plan(job / "potting-resin" / "warmed", "warmed", resin)


def _coupon_job(lab: Lab, job: Path, rigs: Path) -> None:
    """A coupon of the mooring plate, pulled."""
    settings: dict[str, Any] = {
        "specimen": {"width": "12.48 mm", "thickness": "4.01 mm", "gauge_length": "50 mm", "parallel_length": "75 mm"},
        "pull": {"speed": "5 mm/min"}, "uncertainty": {"force": "0.5 %", "extension": "0.6 %", "area": "0.4 %"},
        "limits": {"proof_0.2": {"low": "340 MPa"}, "strength": {"low": "470 MPa"},
                   "elongation_at_break": {"low": "12 %"}},
    }  # fmt: skip
    coupon = listening_plan(lab, "Coupon MP-4, pulled", "Mooring plate", "tension", settings, rigs / "frame.rig.yaml")
    coupon["walk_round"] = [
        {"key": "grips", "text": "Specimen in both grips, straight"},
        {"key": "pin", "text": "Extensometer on, its pin out"},
        {"key": "travel", "text": "End stops set; nobody within reach"},
        {"key": "door", "text": "Guard door, emergency stop", "sense": "interlocks"},
    ]
    write_listening_plan(job / "mooring-plate" / "tension", "tension", coupon)


def _write_csv(place: Path, x: Floats, rate: float) -> None:
    rows = "".join(f"{v:.5g}\n" for v in x)
    place.write_text(f"# rate_hz={rate:g}\ndeck [m/s^2]\n{rows}", encoding="utf-8")
