"""The demo job's sound makers: the horn's driver, the crew's headset, and the radio's handset case by case."""

from __future__ import annotations

from pathlib import Path
from typing import Any

from ...lab.place import Lab
from ...lab.planning import plan_of, put_in

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


def _driver_jobs(lab: Lab, job: Path, rigs: Path) -> None:
    """The horn's driver: one part after the other on the line, and one under power for a night (shortened)."""
    line: dict[str, Any] = {
        "play": {"level": "2.83 V", "seconds": "1 s"},
        "limits": {"polarity": {"low": 1, "high": 1}, "sensitivity": {"low": "96 dB", "high": "98 dB"},
                   "resonance": {"low": "90 Hz", "high": "100 Hz"}, "thd_max": {"high": "3 %"},
                   "loose": {"high": 0}},
        "level_uncertainty": "0.3 dB",
    }  # fmt: skip
    part = plan_of(lab, "Drivers, one after the other", "Fog driver", "driver-check", line,
                          rigs / "driver.rig.yaml")  # fmt: skip
    put_in(job / "fog-driver" / "line", "line", part)
    power: dict[str, Any] = {
        "probe": {"frequency": "4 Hz"}, "every": "2 s", "cold_temperature": 20,
        "play": {"level": "40 W", "rated": "8 ohm", "crest": 2, "from": "150 Hz", "to": "8 kHz", "hottest": "150 °C",
                 "stages": [{"duration": "60 s"}, {"duration": "60 s", "by": "-3 dB", "on": "10 s", "off": "5 s"}]},
        "limits": {"coil_temperature_max": {"high": "120 °C"}, "compression_end": {"high": "2 dB"}},
    }  # fmt: skip
    night = plan_of(lab, "Horn driver, 40 W", "Fog driver", "power-endurance", power, rigs / "horn.rig.yaml")
    put_in(job / "fog-driver" / "night", "night", night)


def _speech_jobs(lab: Lab, job: Path, rigs: Path) -> None:
    """The crew's headset, and the radio's handset case by case."""
    check: dict[str, Any] = {
        "level_uncertainty": "0.3 dB", "band": {"from": "100 Hz", "to": "8 kHz"},
        "play": {"level": "0.2 V", "seconds": "5 s", "attenuation": "active"},
        "limits": {"difference_max": {"low": "-3 dB", "high": "3 dB"}, "passive": {"low": "6 dB"},
                   "polarity_left": {"low": 1, "high": 1}, "polarity_right": {"low": 1, "high": 1}},
    }  # fmt: skip
    headset = plan_of(lab, "Both sides, worn and cancelling", "Crew headset", "headset-check", check,
                             rigs / "headset.rig.yaml")  # fmt: skip
    put_in(job / "crew-headset" / "check", "check", headset)
    cases = plan_of(lab, "Harbour radio HR-1", "Radio handset", "handset-cases", {}, rigs / "handset.rig.yaml")
    cases["steps"] = [
        {"method": "handset-cases", "label": label, "rig": str(rigs / f"{rig}.rig.yaml"), "go_on": "always",
         "settings": {"case": case, "level_uncertainty": "0.3 dB", "play": {"level": level, "seconds": "5 s"}, **more}}
        for label, rig, case, level, more in HARBOUR_RADIO
    ]  # fmt: skip
    put_in(job / "radio-handset" / "cases", "cases", cases)


def make(lab: Lab) -> None:
    """All of it, in the open job's folder."""
    job, rigs = lab.jobs / (lab.facts.job or "bench"), lab.folder / "rigs"
    _driver_jobs(lab, job, rigs)
    _speech_jobs(lab, job, rigs)
