"""The demo job's load frame: a coupon of the mooring plate pulled, a potting resin warmed."""

from __future__ import annotations

from pathlib import Path
from typing import Any

from ...lab.place import Lab
from ...lab.planning import plan_of, put_in


def _resin_job(lab: Lab, job: Path, rigs: Path) -> None:
    """The resin that the battery tray is potted with, warmed through its transition."""
    warmed: dict[str, Any] = {
        "geometry": {"kind": "tension", "length": "30 mm", "width": "10 mm", "thickness": "2 mm"},
        "temperature_uncertainty": "0.5 K", "uncertainty": {"force": "0.6 %", "displacement": "0.5 %"},
        "play": {"frequencies": ["5 Hz"], "temperature": {"from": "50 °C", "to": "95 °C", "rate": "10 K/min"}},
        "limits": {"tg_tan_peak": {"low": "75 °C"}},
    }  # fmt: skip
    resin = plan_of(lab, "Potting resin, 50 to 95 °C", "Potting resin", "dma", warmed, rigs / "dma.rig.yaml")
    put_in(job / "potting-resin" / "warmed", "warmed", resin)


def _coupon_job(lab: Lab, job: Path, rigs: Path) -> None:
    """A coupon of the mooring plate, pulled."""
    settings: dict[str, Any] = {
        "specimen": {"width": "12.48 mm", "thickness": "4.01 mm", "gauge_length": "50 mm", "parallel_length": "75 mm"},
        "pull": {"speed": "5 mm/min"}, "uncertainty": {"force": "0.5 %", "extension": "0.6 %", "area": "0.4 %"},
        "limits": {"proof_0.2": {"low": "340 MPa"}, "strength": {"low": "470 MPa"},
                   "elongation_at_break": {"low": "12 %"}},
    }  # fmt: skip
    coupon = plan_of(lab, "Coupon MP-4, pulled", "Mooring plate", "tension", settings, rigs / "frame.rig.yaml")
    coupon["walk_round"] = [
        {"key": "grips", "text": "Specimen in both grips, straight"},
        {"key": "pin", "text": "Extensometer on, its pin out", "sense": "extensometer_pin"},
        {"key": "in_range", "text": "Extensometer in its range", "sense": "extensometer"},
        {"key": "travel", "text": "End stops set; nobody within reach"},
        {"key": "door", "text": "Guard door, emergency stop", "sense": "interlocks"},
    ]
    put_in(job / "mooring-plate" / "tension", "tension", coupon)


def make(lab: Lab) -> None:
    """Both, in the open job's folder."""
    job, rigs = lab.jobs / (lab.facts.job or "bench"), lab.folder / "rigs"
    _resin_job(lab, job, rigs)
    _coupon_job(lab, job, rigs)
