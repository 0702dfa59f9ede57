"""A day on the line: stand-in drivers with hidden faults, judged by limits that are made from good ones.

Limits come from 25 good parts (mean, standard deviations, least widths). Then good parts, parts whose fault is a fifth
below or above the size at which it is just told, and parts whose fault is three times as large. Prints what was told of
each kind: missed and false alarms. Usage: parts.py [parts of each kind]
"""

from __future__ import annotations

import sys
import tempfile
from collections.abc import Mapping, Sequence
from concurrent.futures import ProcessPoolExecutor
from dataclasses import replace
from functools import cache
from pathlib import Path
from typing import Any

import numpy as np

from lucid_anvil.contracts.finding import Finding
from lucid_anvil.engine.inprocess import play_through
from lucid_anvil.engine.newplan import begin_plan
from lucid_anvil.engine.preparing import Prepared, prepare
from lucid_anvil.lab.beginning import begin_lab
from lucid_anvil.lab.unit_limits import lines_from

LEARNED, GOOD = 25, 80
SPREAD = {"sensitivity": 0.02, "resonance": 0.01, "resistance": 0.01, "square": 0.08}
"""Standard deviation of good parts, as a share"""
KINDS = {
    "weak motor": lambda size: {"sensitivity": 0.5 * (1 - size)},
    "wrong coil": lambda size: {"resistance": 6.2 * (1 + size)},
    "leak": lambda size: {"leak": min(size, 1.0)},
    "rub": lambda size: {"rub": size},
    "particle": lambda size: {"loose": 8, "strike": size},
    "polarity": lambda _size: {"reversed": True},
}
"""What is wrong with a part, by the size of it"""
RANGE = {
    "weak motor": (0.0, 0.5), "wrong coil": (0.0, 0.5), "leak": (0.0, 1.0), "rub": (0.0, 0.02), "particle": (0.0, 0.1),
}  # fmt: skip
"""Sizes between which the one that is just told is looked for"""
Part = tuple[int, Mapping[str, Any], Mapping[str, Any]]
"""Seed, what the part is, settings beside the usual"""


@cache
def line() -> Prepared:
    """The plan of the line, on its stand-in."""
    with tempfile.TemporaryDirectory() as work:
        lab = begin_lab(Path(work) / "own", "Bench of one", [], "K.B.", True)
        rig = lab.folder / "rigs" / "driver.rig.yaml"
        return prepare(begin_plan("driver-check", rig, "Driver", lab.jobs / "a" / "a.plan.yaml", lab=lab))


def taken(part: Part) -> Finding:
    """One part put on, driven and read."""
    seed, what, more = part
    prepared = line()
    rng = np.random.default_rng(seed)
    scene = prepared.rig.standin.scene
    own = {k: getattr(scene, k) * (1 + s * rng.standard_normal()) for k, s in SPREAD.items()}
    hidden = {k: v * own[k] / getattr(scene, k) if k in own else v for k, v in what.items()}
    scene = scene.model_copy(update={**own, **hidden})
    standin = prepared.rig.standin.model_copy(update={"scene": scene, "seed": seed})
    rig = prepared.rig.model_copy(update={"standin": standin})
    settings = type(prepared.settings).model_validate(
        {**prepared.settings.model_dump(by_alias=True, exclude_none=True), "decision": "simple", **more}
    )
    played = play_through(replace(prepared, rig=rig, settings=settings))
    held = {k: c for k, c in played.channels.items() if k != "drive"}
    return prepared.method.judged(held, settings, played.marks)


def limits_of(good: Sequence[Finding]) -> dict[str, Any]:
    """Limits from good parts: means and spreads of readings and curves."""

    def values(key: str) -> np.ndarray:
        return np.array([f.reading(key).value for f in good], float)

    def around(key: str, least: float) -> dict[str, float]:
        v = values(key)
        half = max(5 * float(v.std(ddof=1)), least)
        return {"low": float(v.mean()) - half, "high": float(v.mean()) + half}

    curves = {key: [f.curve(key) for f in good] for key in ("response", "impedance")}
    return {
        "limits": {
            "polarity": {"low": 1, "high": 1}, "loose": {"high": 0}, "sensitivity": around("sensitivity", 1.0),
            "resonance": around("resonance", 5.0), "impedance_minimum": around("impedance_minimum", 0.3),
            "thd_max": {"high": float(values("thd_max").mean() + 6 * values("thd_max").std(ddof=1))},
            "rub_max": {"high": float(values("rub_max").max()) + 4.0},
        },
        "curve_limits": {
            "response": lines_from(curves["response"], "5 s; 1 dB", "5 s; 1 dB", 40).plain(),
            "impedance": lines_from(curves["impedance"], "5 s; 12 %", "5 s; 12 %", 40).plain(),
        },
    }  # fmt: skip


def just_told(kind: str, limits: Mapping[str, Any]) -> float:
    """The size at which a fault is just told, on an average part."""
    low, high = RANGE[kind]
    for _ in range(9):
        middle = (low + high) / 2
        told = [taken((900 + s, KINDS[kind](middle), limits)).verdict == "outside" for s in range(3)]
        low, high = (low, middle) if sum(told) >= 2 else (middle, high)
    return (low + high) / 2


def main() -> None:
    count = int(sys.argv[1]) if len(sys.argv) > 1 else 20
    with ProcessPoolExecutor(2) as pool:
        good = list(pool.map(taken, [(seed, {}, {}) for seed in range(LEARNED)]))
        limits = limits_of(good)
        edges = dict(zip(RANGE, pool.map(just_told, RANGE, [limits] * len(RANGE)), strict=True))
        fine = list(pool.map(taken, [(1000 + s, {}, limits) for s in range(GOOD)]))
        alarms = [f for f in fine if f.verdict != "inside"]
        print("Called bad:")
        print(f"good parts: {len(alarms)} of {GOOD} called bad, by"
              f" {sorted({r.key for f in alarms for r in f.readings if r.verdict not in ('inside', 'none')})}")
        print(f"{'kind':14}{'just told at':>14}{'a fifth less':>14}{'a fifth more':>14}{'three times':>13}")
        missed = 0
        for number, kind in enumerate(KINDS):
            row = []
            for k, by in enumerate((0.8, 1.2, 3.0)):
                if kind == "polarity" and k < 2:
                    row.append("")
                    continue
                size = min(by * edges.get(kind, 1.0), 1.0 if kind == "leak" else 1e9)
                size = min(size, 0.95) if kind == "weak motor" else size
                n = count // 2 if k < 2 else count
                seeds = [(2000 + 1000 * number + 100 * k + s, KINDS[kind](size), limits) for s in range(n)]
                told = sum(f.verdict == "outside" for f in pool.map(taken, seeds))
                row.append(f"{told} of {n}")
                missed += n - told if k == 2 else 0
            edge = f"{edges[kind]:.4g}" if kind in edges else "any"
            print(f"{kind:14}{edge:>14}{row[0]:>14}{row[1]:>14}{row[2]:>13}")
    print(f"clear faults missed: {missed}")


if __name__ == "__main__":
    main()
