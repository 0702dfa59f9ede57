"""Seeded faults of a load frame in pulls, pulses and warmed bars: stopped in time, for the right reason, or told."""

from __future__ import annotations

import subprocess
import sys
from functools import partial
from pathlib import Path
from typing import Any

import numpy as np

from lucid_anvil.engine.inprocess import Played, play_through
from lucid_anvil.engine.newplan import begin_plan
from lucid_anvil.engine.preparing import Prepared, prepare
from lucid_anvil.lab.beginning import begin_lab
from lucid_anvil.lab.editing import put
from lucid_anvil.lab.takes import Take

from .told import Job, Told

MOST = 1.1
"""Times the limit of force that no specimen may bear more of"""
FAULTS: dict[str, dict[str, set[str]]] = {
    # What may end it, by what is done; "mark" where it goes on and the reading is told
    "breaks": {"pull": {"break"}, "strain": {"break"}, "pulses": {"break", "stiffness"}},
    "slip": {"pull": {"mark"}, "strain": {"extensometer"}},
    "falls_off": {"pull": {"mark"}, "strain": {"extensometer"}},
    "door": {"pull": {"interlock"}, "strain": {"interlock"}, "pulses": {"interlock"}, "warm": {"interlock"}},
    # A valve that is stuck at the speed that is wanted shows it only where another is.
    "stuck": {"pull": {"frame_motion", "force", "break"}, "pulses": {"frame_motion", "force", "length", "stiffness"}},
    "runaway": {"pull": {"frame_motion", "force"}, "pulses": {"frame_motion", "force", "length"}},
    "frozen": {"pull": {"frame_motion"}, "strain": {"frame_motion"}, "pulses": {"frame_motion", "stiffness"}},
    "silent": {"warm": {"instrument"}},
}
RIGS = {"pull": "frame", "strain": "frame", "pulses": "pulser", "warm": "dma"}


def planned(folder: Path, what: str, fault: str, rng: np.random.Generator) -> tuple[Prepared, float, float]:
    """A plan on the stand-in with that fault, when it comes [s], and the limit of force [N]."""
    lab = begin_lab(folder, "Bench of one", [], "K.B.", True)
    rig = lab.folder / "rigs" / f"{RIGS[what]}.rig.yaml"
    text = rig.read_text()
    method = {"pull": "tension", "strain": "tension", "pulses": "cyclic", "warm": "dma"}[what]
    limit = {"pull": 28e3, "strain": 28e3, "pulses": 4e3, "warm": 80.0}[what]
    text = text.replace("limit: 45 kN", "limit: 28 kN").replace("limit: 5 kN", "limit: 4 kN")
    at = float(rng.uniform(3.0, 9.0))
    size = {"slip": rng.choice([-1, 1]) * rng.uniform(0.02, 0.3), "falls_off": rng.uniform(-2, 2),
            "runaway": rng.uniform(2, 4)}.get(fault, 1.0)  # fmt: skip
    channel = {"frozen": "displacement", "silent": "chamber"}.get(fault, "unit")
    told = f"{{kind: {fault}, at: {at:.3f} s, size: {size:.4f}, channel: {channel}}}"
    rig.write_text(text.replace("standin:\n", f"standin:\n  faults: [{told}]\n", 1))
    plan = begin_plan(method, rig, "Specimen", lab.jobs / "a" / "a.plan.yaml", lab=lab)
    settings: dict[str, Any] = {}
    if what in ("pull", "strain"):
        speed = f"{rng.uniform(10, 40):.3g} mm/min"
        settings = {"pull": {"speed": speed, "control": "strain" if what == "strain" else "crosshead",
                             "strain_rate": f"{rng.uniform(5e-4, 2e-3):.3g} 1/s"}}  # fmt: skip
    elif what == "pulses":
        settings = {"pulse": {"mean": "1.2 kN", "amplitude": f"{rng.uniform(0.6, 1):.3g} kN",
                              "frequency": f"{rng.uniform(0.7, 2):.3g} Hz", "cycles": 40}}  # fmt: skip
    else:
        settings = {"geometry": {"kind": "tension", "length": "30 mm", "width": "10 mm", "thickness": "2 mm"},
                    "play": {"frequencies": ["5 Hz"],
                             "temperature": {"from": "50 °C", "to": "60 °C", "rate": "20 K/min"}}}  # fmt: skip
    for key, value in settings.items():
        put(plan, (key,), value)
    return prepare(plan), at, limit


def per_volt(prepared: Prepared) -> float:
    """V/N of the load cell."""
    return float(prepared.facts.sensitivity["force"])


def _one(folder: Path, what: str, fault: str, seed: int) -> Told:
    prepared, at, limit = planned(folder, what, fault, np.random.default_rng(seed))
    if fault == "silent":
        return _in_processes(prepared, limit)
    played = play_through(prepared)
    force = played.channels["force"].samples() / per_volt(prepared)
    most = float(np.abs(force).max())
    ended = _ended(played)
    late = _late(played, prepared, at)
    allowed = FAULTS[fault][what]
    good = ended in allowed and most <= MOST * limit and (fault not in ("door", "breaks") or late <= 2)
    return Told(good, f"{ended} (wanted {', '.join(sorted(allowed))}), {late} blocks, peak {most / limit:.2f} of limit")


def _in_processes(prepared: Prepared, limit: float) -> Told:
    """A chamber is silent on its line only: as it is run, at the command line."""
    folder = prepared.plan_file.parent / "take-001"
    words = ["run", str(prepared.plan_file), "--take", str(folder), "--signed-by", "K.B."]
    subprocess.run([sys.executable, "-m", "lucid_anvil.cli", *words], capture_output=True, timeout=300, check=False)
    take = Take(folder)
    trips = [str(e["guard"]) for e in take.events() if e["kind"] == "trip"]
    force = take.recording().channel("force").samples() / per_volt(prepared)
    most = float(np.abs(force).max())
    ended = trips[0] if trips else "nothing"
    return Told(ended == "instrument" and most <= MOST * limit, f"{ended}, peak {most / limit:.2f} of limit")


def _ended(played: Played) -> str:
    """What ended it, or what is said of it."""
    if played.trip is not None:
        return played.trip.guard
    if any(m["kind"] == "extensometer lost" for m in played.marks):
        return "mark"
    return next((str(m["why"]) for m in played.marks if m["kind"] in ("pulled", "pulsed")), "nothing")


def _late(played: Played, prepared: Prepared, at: float) -> int:
    """Blocks from the one at whose end it could be seen to the first of another drive."""
    block, rate = prepared.facts.block, prepared.facts.rate
    first = int((at * rate + 8) / block)
    if played.altered is not None:
        return played.altered - first
    drive = played.drive.reshape(-1, block)
    still = [i for i in range(first, len(drive)) if abs(drive[i][-1]) < 0.5 * abs(drive[first][-1])]
    return still[0] - first if still else 10**6


def jobs(folder: Path, times: int) -> list[Job]:
    """Each of them so many times with other numbers."""
    made: list[Job] = []
    for k in range(times):
        for fault, ways in FAULTS.items():
            for what in ways:
                seed = 1000 * k + len(made)
                place = folder / f"frame-{seed}"
                made.append((f"frame: {fault} in {what} {seed}", partial(_one, place, what, fault, seed)))
    return made
