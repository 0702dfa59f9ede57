"""The plan of an amplifier's sheet: walk-round, steps and what is published, in the order that does not hurt it."""

from __future__ import annotations

from pathlib import Path
from typing import Any

from ...lab.place import Lab
from ...lab.plans import put_plan
from ...lab.takes import RETAKE, Take, plan_beside
from ...lab.textfiles import load_yaml

WALK_ROUND = [
    {"key": "earth", "text": "Protective earth on, first of all"},
    {"key": "bridged", "text": "Outputs not bridged, neither one earthed"},
    {"key": "loads", "text": "Load bank answers, cool, on both outputs", "sense": "loads"},
    {"key": "fan", "text": "Fan of the load bank on", "sense": "fan"},
    {"key": "mains", "text": "Supply meter on, inside its window", "sense": "mains"},
    {"key": "meter", "text": "Voltmeter and sense leads at the terminals", "sense": "meter"},
    {"key": "low_pass", "text": "Low-pass before the inputs, if it switches"},
    {"key": "neutral", "text": "Gain at its mark, tone and filters flat"},
    {"key": "signal", "text": "Signal lead on, last of all"},
]
"""Earth first, then the rest; loads before power; the signal last (IEC 60268-3, 4.3 and 5.1)."""


def sheet_steps(warm: str = "1 h") -> list[dict[str, Any]]:
    """The usual sheet: what is published of the fog-signal amplifier, step by step, after it was driven at a tenth of
    its power for as long as `warm` says."""
    return [
        {"method": "output-precondition", "name": "warm", "label": "Warm up", "loads": ["8 ohm"], "read": warm,
         "drive": {"power": "0.1 rated"}},
        {"method": "output-offset", "name": "offset", "label": "DC offset", "loads": ["8 ohm"], "read": 0.3,
         "settle": 0.3, "limits": {"offset": {"low": "-50 mV", "high": "50 mV"}}},
        {"method": "output-offset", "name": "offset driven", "label": "DC offset, with signal", "loads": ["8 ohm"],
         "read": 0.3, "drive": {"power": "0.5 rated"}, "limits": {"offset": {"low": "-50 mV", "high": "50 mV"}}},
        {"method": "output-gain", "name": "gain", "label": "Gain", "loads": ["8 ohm"], "drive": {"power": "1 W"},
         "limits": {"gain": {"low": "25.5 dB", "high": "26.5 dB"}, "difference": {"low": "-0.3 dB", "high": "0.3 dB"}}},
        {"method": "output-power", "name": "power", "label": "Power at 1 %", "drive": {"distortion": "1 %"},
         "limits": {"power": {"low": "40 W"}}},
        {"method": "output-power", "name": "power low", "label": "Power at 0.1 %", "drive": {"distortion": "0.1 %"}},
        {"method": "output-power", "name": "power both", "label": "Power at 1 %, both driven", "driven": "both",
         "drive": {"distortion": "1 %"}},
        {"method": "output-distortion", "name": "rated", "label": "At rated power", "drive": {"power": "rated"},
         "limits": {"thd_plus_n": {"high": "0.3 %"}}},
        {"method": "output-distortion", "name": "half", "label": "At half power", "loads": ["8 ohm"],
         "drive": {"power": "0.5 rated"}, "tones": [100, 1000, 6000], "settings": {"bandwidth": ["20 Hz", "40 kHz"]},
         "limits": {"thd": {"high": "0.1 %"}}},
        {"method": "output-power", "name": "clipping", "label": "Noise to clipping", "drive": {"power": "1 W"},
         "series": {"lowest": "50 mW", "per_decade": 4}},
        {"method": "output-response", "name": "response", "label": "Response", "loads": ["8 ohm"], "read": 5.0,
         "drive": {"power": "1 W"}, "limits": {"flatness": {"high": "1.5 dB"}, "corner_low": {"high": "10 Hz"}}},
        {"method": "output-response", "name": "spots", "label": "Response, spot tones", "loads": ["8 ohm"], "read": 0.7,
         "tones": [20, 100, 1000, 10000, 20000], "drive": {"power": "1 W"}},
        {"method": "output-noise", "name": "noise", "label": "Noise", "loads": ["8 ohm"], "read": 2.0,
         "limits": {"snr": {"low": "90 dB"}}},
        {"method": "output-noise", "name": "noise A", "label": "Noise, A", "loads": ["8 ohm"], "read": 2.0,
         "settings": {"weighting": "A"}},
        {"method": "output-noise", "name": "noise least", "label": "Noise, gain at minimum", "loads": ["8 ohm"],
         "read": 2.0, "settings": {"weighting": "A"}, "ask": {"text": "Turn the gain to its minimum", "knob": 0}},
        {"method": "output-separation", "name": "separation", "label": "Separation", "loads": ["8 ohm"],
         "ask": {"text": "Turn the gain back to its mark", "knob": 1}, "tones": [1000, 10000],
         "drive": {"power": "0.5 rated"}, "limits": {"separation": {"low": "60 dB"}}},
        {"method": "output-intermodulation", "name": "modulation", "label": "Modulation 60 Hz, 7 kHz",
         "loads": ["8 ohm"], "read": 1.0, "drive": {"power": "0.5 rated"}, "limits": {"imd": {"high": "0.3 %"}}},
        {"method": "output-intermodulation", "name": "difference", "label": "Difference 18 and 19 kHz",
         "loads": ["8 ohm"], "drive": {"power": "0.5 rated"}, "settings": {"kind": "difference"}},
        {"method": "output-common-mode", "name": "common mode", "label": "Common mode", "loads": ["8 ohm"],
         "drive": {"power": "1 W"}, "limits": {"common_mode_rejection": {"low": "50 dB"}}},
        {"method": "output-impedance", "name": "damping", "label": "Damping", "drive": {"power": "5 W"}, "read": 0.4,
         "limits": {"damping_factor": {"low": 80}}},
    ]  # fmt: skip


def usual_sheet() -> dict[str, Any]:
    """What the steps of the usual sheet share."""
    return {
        "loads": ["8 ohm", "4 ohm"], "rated": {"8": "40 W", "4": "60 W"}, "gain": 20, "ceiling": "2 V", "path": "10 mV",
        "supply": {"nominal": "230 V", "within": "1 %", "trim": False}, "load_limit": 90,
        "gain_uncertainty": "0.1 %", "load_uncertainty": "0.1 %",
    }  # fmt: skip


def amplifier_plan(lab: Lab, title: str, article: str, rig_file: Path, steps: list[dict[str, Any]] | None = None,
                   **sheet: Any) -> dict[str, Any]:  # fmt: skip
    """A plan as data; `sheet` is what the steps share."""
    facts = lab.facts
    return {
        "lucid-anvil-plan": 1, "title": title, "job": facts.job, "article": article, "rig": str(rig_file),
        "customer": facts.customer, "customer_address": facts.customer_address, "operator": facts.operator,
        "walk_round": WALK_ROUND,
        "sheet": {**usual_sheet(), **sheet},
        "steps": steps or sheet_steps(),
    }  # fmt: skip


def retake_sheet(take: Take, keys: list[str], trim: bool = True) -> Path:
    """A plan, beside the take's own, for just some of its readings; its finding holds the others from that take."""
    held = take.plan().model_dump(by_alias=True, exclude_none=True)
    step = dict(take.plan().step.settings)
    step["only"] = list(keys)
    # What spoiled them was the supply: where it can be set, it is trimmed this time.
    if trim:
        step["supply"] = {**step.get("supply", {}), "trim": True}
    held["steps"] = [{"method": "amplifier-sheet", "settings": step}]
    held["sheet"] = {}
    held["base_take"] = f"../{take.name}"
    own = plan_beside(take.folder)
    named = load_yaml(own).get("rig") if own.exists() else None
    held["rig"] = str((own.parent / named).resolve() if named else take.folder / "rig.yaml")
    return put_plan(take.folder.parent / RETAKE, held)
