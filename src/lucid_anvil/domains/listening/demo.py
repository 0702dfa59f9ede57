"""The demo job's listening: a microphone checked, a hammer on the mooring plate, the bilge pump run down."""

from __future__ import annotations

from typing import Any

from ...lab.place import Lab
from ...lab.planning import plan_of, put_in
from .planning import check_settings


def make(lab: Lab) -> None:
    """Microphone check, hammer on the mooring plate, and the bilge pump's run-down."""
    job, rigs = lab.jobs / (lab.facts.job or "bench"), lab.folder / "rigs"
    allowed = {"change": {"low": "-0.5 dB", "high": "0.5 dB"}}
    check = plan_of(
        lab, "Microphone GM-03, check before the run", "Bilge pump", "microphone-level",
        {
            "level": "93.97 dB", "frequency": "1 kHz", "level_uncertainty": "0.12 dB", "distortion_allowed": "3 %",
            "corrections": {"pressure": "0.02 dB"}, "limits": allowed, **check_settings(lab, "GM-03"),
        }, rigs / "microphone.rig.yaml",
    )  # fmt: skip
    put_in(job / "bilge-pump" / "check", "check", check)
    speed: dict[str, Any] = {
        "pulses_per_rev": 1, "orders": [0.5, 1, 2, 5, 10], "run": "down", "weighting": "A",
        "time_weighting": "F", "bands": "thirds",
        "speed": {"from": "600 rpm", "to": "2950 rpm", "step": "50 rpm"}, "mains": "50 Hz", "duration": "40 s",
    }  # fmt: skip
    down = plan_of(lab, "Run-down 3000–600 rpm", "Bilge pump", "speed-orders", speed, rigs / "pump.rig.yaml")
    put_in(job / "bilge-pump" / "run-down", "run-down", down)
    hits = {"block": 16384, "hits": 5, "trial_hits": 3}
    plate = plan_of(lab, "Plate, corner to centre", "Mooring plate", "impact-response", hits,
                           rigs / "hammer.rig.yaml")  # fmt: skip
    put_in(job / "mooring-plate" / "impact", "impact", plate)
