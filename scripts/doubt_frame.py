"""Is the stated doubt of what a load frame measures right? Seeded runs on stand-ins, their parameters drawn, and every
sensor and size off by what is stated of it.

Prints for modulus, proof strength, storage modulus and tan delta how many runs had the truth inside the stated
uncertainty, and the rms of error over expanded uncertainty. Usage: doubt_frame.py [runs] [pulled] [warmed]
"""

from __future__ import annotations

import sys
import tempfile
from concurrent.futures import ProcessPoolExecutor
from pathlib import Path
from typing import Any

import numpy as np

from lucid_anvil.core.frame import tension as curve
from lucid_anvil.domains.frame.standin import FrameScene, Specimen
from lucid_anvil.domains.frame.standin_viscous import ViscousPart, modulus
from lucid_anvil.engine.inprocess import Played, play_through
from lucid_anvil.engine.newplan import begin_plan
from lucid_anvil.engine.preparing import Prepared, prepare
from lucid_anvil.lab.beginning import begin_lab
from lucid_anvil.lab.editing import put
from lucid_anvil.lab.ledger import Sensor
from lucid_anvil.lab.place import open_lab

Row = tuple[str, float, float]
"""What, error, stated expanded uncertainty"""
STATED = {"force": 0.5, "extension": 0.6, "displacement": 0.6, "area": 0.4}
"""%, k = 2"""


def drawn(rng: np.random.Generator, role: str) -> float:
    """The factor that one of them is off by."""
    return float(1 + rng.normal(0, STATED[role] / 2) / 100)


def prepared_for(
    folder: Path, method: str, rig_name: str, changes: dict[str, str], settings: dict[str, Any]
) -> Prepared:
    """A plan on a stand-in's rig with texts of its file changed."""
    lab = begin_lab(folder, "Bench of one", [], "K.B.", True)
    rig = lab.folder / "rigs" / f"{rig_name}.rig.yaml"
    text = rig.read_text()
    for old, new in changes.items():
        if old not in text:
            raise RuntimeError(f"{old} is not in {rig}")
        text = text.replace(old, new)
    rig.write_text(text)
    plan = begin_plan(method, rig, "Specimen", lab.jobs / "a" / "a.plan.yaml", lab=lab)
    for key, value in settings.items():
        put(plan, (key,), value)
    return prepare(plan)


def pulled(seed: int) -> list[Row]:
    """A coupon of any metal: modulus and proof strength."""
    rng = np.random.default_rng([seed, 1])
    young, flow = rng.uniform(65e9, 215e9), rng.uniform(200e6, 400e6)
    area, uniform = rng.uniform(40e-6, 60e-6), rng.uniform(8, 16)
    scene = FrameScene(kind="frame", modulus=young, area=area, flow=flow, strength=flow * rng.uniform(1.2, 1.5),
                       uniform=uniform, breaks=uniform + 5, stiffness=rng.uniform(2e7, 6e7))  # fmt: skip
    stated = area / drawn(rng, "area")
    per = {"force": 0.2 * drawn(rng, "force"), "extension": 0.5 * drawn(rng, "extension")}
    changes = {
        "modulus: 206 GPa, area: 50 mm^2": f"modulus: {young!r} Pa, area: {area!r} m^2",
        "flow: 352 MPa, strength: 498 MPa": f"flow: {flow!r} Pa, strength: {scene.strength!r} Pa",
        "uniform: 14 %, breaks: 20 %, stiffness: 40 kN/mm":
            f"uniform: {uniform!r} %, breaks: {scene.breaks!r} %, stiffness: {scene.stiffness!r} N/m",
        "GL-50: {sensitivity: 0.2 V/kN": f"GL-50: {{sensitivity: {per['force']!r} V/kN",
        "GX-01: {sensitivity: 0.5 V/mm": f"GX-01: {{sensitivity: {per['extension']!r} V/mm",
        "seed: 50": f"seed: {seed}",
    }  # fmt: skip
    settings = {
        "specimen": {"area": f"{stated!r} m^2", "gauge_length": "50 mm", "parallel_length": "75 mm"},
        "uncertainty": {k: f"{STATED[k]} %" for k in ("force", "extension", "area")},
        "pull": {"speed": f"{rng.uniform(2, 6):.3g} mm/min", "travel": "2 mm"},
    }
    with tempfile.TemporaryDirectory() as folder:
        prepared = prepared_for(Path(folder) / "lab", "tension", "frame", changes, settings)
        _, found = played(prepared)
    model = Specimen(scene)
    line = curve.Line(young, 0.0, 0, 1, 0.0, 0.0)
    proof = curve.proof(model.strain_at, model.force_at / area, line, 0.002, model.strain_at.size)
    assert proof is not None
    return [row(found, "modulus", young / 1e9), row(found, "proof_0.2", proof / 1e6)]


def blank_phase(lab: Path, viscous: str, machine: float) -> list[dict[str, str]]:
    """Rows of `instrument`: the phase of a lab's frame as a thin blank of steel shows it there."""
    rig = lab / "rigs" / "blank.rig.yaml"
    strip = ("modulus: 206 GPa, area: 0.5 mm^2, length: 30 mm, gauge: 30 mm, slack: 20 um,"
             f" stiffness: {machine!r} N/m")  # fmt: skip
    rig.write_text((lab / "rigs" / "dma.rig.yaml").read_text().replace(viscous, strip))
    ledger = open_lab(lab).ledger()
    ledger.add(Sensor("LF-2-phase", "phase of a load frame", model="DF-100", unit="deg"))
    ledger.close()
    plan = begin_plan("frame-phase", rig, "Steel", lab / "jobs" / "p" / "p.plan.yaml")
    put(plan, ("frequencies",), ["0.5 Hz", "2 Hz", "7 Hz"])
    _, found = played(prepare(plan))
    curve = found.curve("phase")
    return [{"frequency": f"{f} Hz", "phase": f"{y} deg", "uncertainty": f"{u} deg"}
            for f, y, u in zip(curve.x, curve.y, curve.uncertainty, strict=True)]  # fmt: skip


def played(prepared: Prepared) -> tuple[Played, Any]:
    """A run of a stand-in from first to last, and what is read from it."""
    run = play_through(prepared)
    if run.trip is not None:
        raise RuntimeError(run.trip.sentence)
    held = {k: c for k, c in run.channels.items() if k != "drive"}
    return run, prepared.method.evaluate(held, prepared.settings, run.marks)


def warmed(seed: int) -> list[Row]:
    """A bar of any resin at one temperature and frequency, on a frame whose own phase was measured on steel before:
    storage modulus and tan delta."""
    rng = np.random.default_rng([seed, 2])
    part = ViscousPart(glassy=rng.uniform(1.5e9, 3.5e9), rubbery=rng.uniform(2e6, 2e7), spread=rng.uniform(1.0, 2.2),
                       reference=rng.uniform(55, 70), air_lag=2.0, lag=1.0)  # fmt: skip
    # To a tenth of a degree, as a chamber takes it; where it loses enough for an angle to mean something.
    at, hertz = round(float(part.reference + rng.uniform(-6, 18)), 1), round(float(rng.uniform(0.8, 6)), 2)
    per = {"force": 0.1 * drawn(rng, "force"), "displacement": 5 * drawn(rng, "displacement")}
    stated = part.area / drawn(rng, "area")
    held = part.model_dump(exclude={"area", "length"}, exclude_none=True)
    machine = float(rng.uniform(4e6, 1.2e7))
    viscous = "viscous: {" + ", ".join(f"{k}: {v!r}" for k, v in {**held, "machine": machine}.items()) + "}"
    sensors = (f"cell: {{resonance: {rng.uniform(300, 900)!r} Hz, damping: {rng.uniform(0.02, 0.06)!r}}},"
               f" encoder_lag: {rng.uniform(0, 4e-4)!r} s")  # fmt: skip
    changes = {
        "viscous: {}": viscous,
        "model: DF-100,": "model: DF-100, serial: LF-2,",
        "cell: {resonance: 900 Hz, damping: 0.03}": sensors,
        "GL-12: {sensitivity: 0.1 V/N": f"GL-12: {{sensitivity: {per['force']!r} V/N",
        "GX-04: {sensitivity: 5 V/mm": f"GX-04: {{sensitivity: {per['displacement']!r} V/mm",
        "seed: 61": f"seed: {seed}",
    }
    settings = {
        "geometry": {"kind": "tension", "length": "30 mm", "area": f"{stated!r} m^2"},
        "uncertainty": {k: f"{STATED[k]} %" for k in ("force", "displacement", "area")},
        "compliance": f"{1 / machine!r} m/N",
        "play": {"frequencies": [f"{hertz} Hz"], "temperatures": [f"{at} °C"]},
    }
    with tempfile.TemporaryDirectory() as folder:
        prepared_for(Path(folder) / "lab", "dma", "dma", changes, settings)
        plan = Path(folder) / "lab" / "jobs" / "a" / "a.plan.yaml"
        put(plan, ("instrument",), blank_phase(Path(folder) / "lab", viscous, machine))
        run, found = played(prepare(plan))
    # Where the bar really was: a chamber is never quite where it was told to be, and that is none of the reading's.
    (point,) = [m for m in run.marks if m["kind"] == "point"]
    warm = run.channels["temperature"].between(point["start"], point["stop"]) / 0.02
    truth = modulus(part, hertz, float(np.mean(warm)))
    rows = []
    for key, value in (("storage", truth.real / 1e6), ("tan_delta", truth.imag / truth.real)):
        one = next(c for c in found.curves if c.key == key)
        y, u = one.y[-1], (one.uncertainty or (None,))[-1]
        if y is None or u is None:
            raise RuntimeError(f"{key}: nothing was read: {found.notes}")
        rows.append((key, y / value - 1, u / value))
    return rows


def row(found: Any, key: str, truth: float) -> Row:
    """Error and stated uncertainty of a reading, relative."""
    reading = found.reading(key)
    if reading.value is None or reading.uncertainty is None:
        raise RuntimeError(f"{key}: {reading.reason}")
    return key, reading.value / truth - 1, reading.uncertainty / truth


def main() -> None:
    runs = int(sys.argv[1]) if len(sys.argv) > 1 else 100
    held: dict[str, list[tuple[float, float]]] = {}
    with ProcessPoolExecutor(2) as pool:
        for what in [w for w in (pulled, warmed) if w.__name__ in sys.argv[2:] or not sys.argv[2:]]:
            for rows in pool.map(what, range(1, runs + 1)):
                for key, error, doubt in rows:
                    held.setdefault(key, []).append((error, doubt))
    for key, made in held.items():
        error, doubt = np.array(made).T
        share = error / doubt
        inside, rms = int((np.abs(share) <= 1).sum()), float(np.sqrt(np.mean(share**2)))
        print(f"{key:10} inside {inside} of {runs}, rms error/U {rms:.3f},"
              f" U {100 * np.median(doubt):.2f} % (median), mean error {100 * error.mean():+.3f} %")  # fmt: skip


if __name__ == "__main__":
    main()
