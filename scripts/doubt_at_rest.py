"""Is the stated doubt of what is read at rest right? Seeded runs on stand-ins whose errors are drawn: force, pressure,
and the decay of a pressure under a drift of temperature. Prints how many held the truth, and the rms of error over U.

Usage: doubt_at_rest.py [runs]
"""

from __future__ import annotations

import sys
import tempfile
from concurrent.futures import ProcessPoolExecutor
from pathlib import Path
from typing import Any

import numpy as np

from lucid_anvil.contracts import registry
from lucid_anvil.contracts.recording import channel_of
from lucid_anvil.engine.inprocess import play_through
from lucid_anvil.engine.preparing import Prepared, prepared_from
from lucid_anvil.lab.beginning import begin_lab
from lucid_anvil.lab.planning import sensors_of
from lucid_anvil.lab.plans import Plan
from lucid_anvil.lab.textfiles import load_yaml
from lucid_anvil.rig.model import Rig

U_REFERENCE = 0.02
"""% expanded"""
QUICK = {"wait": "1 s", "read": "1 s", "preloads": 1, "steps": 8}


def prepared(folder: Path, rig: str, method: str, settings: dict[str, Any], draw: Any) -> tuple[Prepared, Any]:
    lab = begin_lab(folder / "lab", "Study", [], "S.S.", True)
    place = lab.folder / "rigs" / f"{rig}.rig.yaml"
    data = load_yaml(place)
    sensors = sensors_of(lab, place)
    draw(data["standin"], sensors)
    plan = Plan.model_validate({
        "lucid-anvil-plan": 1, "title": method, "sensors": sensors, "steps": [{"method": method, "settings": settings}],
    })  # fmt: skip
    held = Rig.model_validate(data)
    return prepared_from(plan, folder / "study.plan.yaml", held, place), held.standin.scene


def true_reading(scene: Any, load: np.ndarray, branch: float) -> np.ndarray:
    """What the unit shows of a load beyond its rest, on one branch, over all mountings."""
    share = load / scene.top
    middle = 4 * share * (1 - share)
    bent = scene.top / 100 * (scene.bow - scene.hysteresis / 2 * branch) * middle
    return np.asarray(load * (1 + scene.scale / 100) + bent)


def force(seed: int) -> tuple[float, float]:
    """Error and U of a unit's sensitivity, in % of it."""
    rng = np.random.default_rng([seed, 1])

    def draw(standin: dict[str, Any], sensors: dict[str, Any]) -> None:
        standin["seed"] = seed
        drawn = {"bow": 0.05, "offset": 1.0, "drift": 0.05}
        standin["scene"] |= {k: rng.uniform(-v, v) for k, v in drawn.items()}
        standin["scene"] |= {"hysteresis": rng.uniform(0, 0.1), "turn": rng.uniform(0, 0.08)}
        true = sensors["reference"]["sensitivity"] * (1 + rng.normal(0, U_REFERENCE / 2) / 100)
        standin["sensors"]["GF-40"]["sensitivity"] = f"{true!r} mV/N"

    first = float(rng.uniform(0, 360))
    course = {"top": "4 kN", "positions": [f"{first + a:g} deg" for a in (0, 120, 240)], **QUICK}
    with tempfile.TemporaryDirectory() as work:
        settings = {"reference_uncertainty": f"{U_REFERENCE} %", "course": course}
        p, scene = prepared(Path(work), "press", "force-comparison", settings, draw)
        made = play_through(p)
        s = p.method.evaluate(made.channels, p.settings, made.marks).reading("sensitivity")
    true = 2.172e-3 * float(true_reading(scene, np.array([4000.0]), 1.0)[0]) / 4000.0
    return 100 * (s.value / true - 1), 100 * s.uncertainty / s.value


def pressure(seed: int) -> tuple[float, float]:
    """The same of a pressure sensor's slope."""
    rng = np.random.default_rng([seed, 2])

    def draw(standin: dict[str, Any], sensors: dict[str, Any]) -> None:
        standin["seed"] = seed
        standin["scene"] |= {
            "bow": rng.uniform(-0.1, 0.1),
            "hysteresis": rng.uniform(0, 0.15),
            "offset": rng.uniform(-1, 1),
        }
        true = sensors["reference"]["sensitivity"] * (1 + rng.normal(0, U_REFERENCE / 2) / 100)
        standin["sensors"]["GP-01"]["sensitivity"] = f"{true!r} mV/bar"

    settings = {
        "reference_uncertainty": f"{U_REFERENCE} %",
        "span": {"low": "0 bar", "high": "60 bar"},
        "output": {"low": "0 V", "high": "0.6 V"},
        "course": {"top": "60 bar", "drive": "hand", **QUICK},
    }
    with tempfile.TemporaryDirectory() as work:
        p, scene = prepared(Path(work), "pressure", "pressure-comparison", settings, draw)
        made = play_through(p)
        found = p.method.calibration(p.method.evaluate(made.channels, p.settings, made.marks), "mV/bar")
    load = np.linspace(0, scene.top, 9)
    x = np.concatenate([load, load])
    y = np.concatenate([true_reading(scene, load, b) for b in (1.0, -1.0)])
    true = 9.841 * float(np.polyfit(x, y, 1)[0])
    return 100 * (found.value / true - 1), found.uncertainty


def decay(seed: int) -> tuple[float, float]:
    """A leak of a few thousandths of a bar an hour under a drift twenty times as large, in % of it."""
    rng = np.random.default_rng([seed, 3])
    rate, hours = 1.0, 6.0
    t = np.arange(0, hours * 3600, 1 / rate)
    leak = float(rng.uniform(0.002, 0.01))
    celsius = 20 + float(rng.uniform(3, 6)) * np.sin(2 * np.pi * (t / 3600 / 24 + rng.uniform()))
    kelvin = celsius + 273.15
    held = (6.0 + 1.01325 - leak * t / 3600) * kelvin / kelvin.mean() - 1.01325
    record = {
        "pressure": channel_of("pressure", "bar", rate, held + rng.normal(0, 0.002, t.size), {}),
        "temperature": channel_of("temperature", "°C", rate, celsius + rng.normal(0, 0.05, t.size), {}),
    }
    method = registry.get("pressure-hold")
    d = method.evaluate(record, method.Settings.model_validate({"medium": "gas"}), []).reading("decay")
    return 100 * (d.value / leak - 1), 100 * d.uncertainty / leak


def main() -> None:
    runs = int(sys.argv[1]) if len(sys.argv) > 1 else 100
    with ProcessPoolExecutor(2) as pool:
        for name, one in (("force", force), ("pressure", pressure), ("decay", decay)):
            rows = list(pool.map(one, range(1, runs + 1)))
            inside = sum(abs(e) <= u for e, u in rows)
            rms = float(np.sqrt(np.mean([(e / u) ** 2 for e, u in rows])))
            mean = float(np.mean([u for _, u in rows]))
            print(
                f"  {name:10} inside {inside} of {runs}, rms error/U {rms:.3f}, U {mean:.4f} % on average", flush=True
            )


if __name__ == "__main__":
    main()
