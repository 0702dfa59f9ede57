"""Seeded faults over all shaker modes, and clean runs: whether each is cut in time for the right reason."""

from __future__ import annotations

from functools import partial
from pathlib import Path
from typing import Any

import numpy as np

from lucid_anvil.core.signal.sinefit import Floats
from lucid_anvil.domains.shaker.demo import _write_csv, deck_record
from lucid_anvil.engine.inprocess import REST, Played, play_through
from lucid_anvil.engine.preparing import Prepared, prepared_from
from lucid_anvil.lab.place import Lab
from lucid_anvil.lab.planning import sensors_of
from lucid_anvil.lab.plans import Plan
from lucid_anvil.lab.textfiles import load_yaml
from lucid_anvil.rig.model import Rig
from lucid_anvil.rig.standins.choosing import bench_of

from .told import Job, Told

FAULTS: dict[str, tuple[str, set[str], float]] = {
    # kind: (channel, guards that may name it, size); a sensor whose ratio to the others changes is the chain's as well
    "open": ("control", {"chain", "supply", "control_lost", "abort"}, 1.0),
    "short": ("control", {"chain", "supply", "control_lost", "abort"}, 1.0),
    "no_output": ("control", {"chain", "control_lost", "abort"}, 1.0),
    "gain_jump": ("control", {"chain", "abort", "control_lost", "drive", "acceleration"}, 3.0),
    "overload": ("control", {"chain", "overload", "abort", "control_lost", "stroke"}, 1.0),
    # A loose sensor may also show a motion that the stroke guard takes for real.
    "loose": (
        "control",
        {"chain", "distortion", "abort", "following", "lines", "overload", "control_lost", "stroke"},
        12.0,
    ),
    "amplifier_trip": ("control", {"control_lost", "abort"}, 1.0),
    "cooling": ("control", {"interlock"}, 1.0),
    "field": ("control", {"interlock", "control_lost", "abort"}, 1.0),
    "emergency_stop": ("control", {"interlock", "control_lost", "abort"}, 1.0),
    "disk_full": ("control", {"disk"}, 1.0),
}
MODES = ("sweep", "dwell", "random", "history")


def settings_for(mode: str, folder: Path, rng: np.random.Generator) -> tuple[str, dict[str, Any]]:
    """A short test of a mode, its numbers drawn."""
    bands = {"tolerance": {"low": "-3 dB", "high": "3 dB"}, "abort": {"low": "-6 dB", "high": "6 dB"}}
    control = {"probe": {"period": "1 s"}, "seed": int(rng.integers(1, 1000))}
    if mode in ("sweep", "dwell"):
        profile = {
            "kind": "sine", "start": f"{rng.uniform(20, 40):.3g} Hz", "stop": "300 Hz",
            "segments": [{"acceleration": f"{rng.uniform(8, 20):.3g} m/s^2"}],
            "sweep": {"rate": "20 oct/min"}, **bands,
        }  # fmt: skip
        course = (
            [{"sweep": "up"}] if mode == "sweep" else [{"dwell": f"{rng.uniform(45, 90):.3g} Hz", "duration": "10 s"}]
        )
        return "sine-sweep", {"profile": profile, "course": course, "control": control}
    if mode == "random":
        profile = {
            "kind": "random", "tolerance": bands["tolerance"], "abort": {"low": "-5 dB", "high": "5 dB"},
            "points": [{"frequency": "20 Hz", "density": "0.2 (m/s^2)^2/Hz"},
                       {"frequency": "800 Hz", "density": f"{rng.uniform(0.2, 0.8):.3g} (m/s^2)^2/Hz"}],
        }  # fmt: skip
        return "random-vibration", {
            "profile": profile,
            "course": [{"random": True, "duration": "9 s"}],
            "control": control,
        }
    place = folder / "deck.csv"
    if not place.exists():
        _write_csv(place, deck_record(2560.0, 6.0), 2560.0)
    profile = {"kind": "time", "file": str(place), "low_pass": "500 Hz", "stroke": "20 mm"}
    return "time-replication", {"profile": profile, "control": {**control, "passes": 2}}


def prepared_for(lab: Lab, mode: str, seed: int, fault: dict[str, Any] | None, guards: bool = True) -> Prepared:
    """A prepared run; article, noise and profile drawn from the seed."""
    rng = np.random.default_rng([seed, MODES.index(mode)])
    rig_file = lab.folder / "rigs" / "shaker.rig.yaml"
    data = load_yaml(rig_file)
    data["standin"]["seed"] = seed
    modes = data["standin"]["article"]["modes"]
    modes[0] |= {"frequency": float(rng.uniform(100, 220)), "quality": float(rng.uniform(8, 30))}
    modes[1] |= {"frequency": float(rng.uniform(240, 700)), "quality": float(rng.uniform(5, 20))}
    data["standin"]["faults"] = [fault] if fault else []
    rig = Rig.model_validate(data)
    method, settings = settings_for(mode, lab.folder, rng)
    plan = Plan.model_validate(
        {"lucid-anvil-plan": 1, "title": mode, "sensors": sensors_of(lab, rig_file),
         "steps": [{"method": method, "settings": settings}]}
    )  # fmt: skip
    return prepared_from(plan, lab.folder / "study.plan.yaml", rig, rig_file)


def check_fault(lab: Lab, mode: str, kind: str, seed: int) -> Told:
    """One fault at a drawn moment while the drive is on."""
    rng = np.random.default_rng([seed, 77])
    channel, guards, size = FAULTS[kind]
    quick = prepared_for(lab, mode, seed, None)
    probe = quick.course()[0].duration
    at = probe + float(rng.uniform(3.5, 7.0))
    fault = {"at": at, "kind": kind, "channel": channel, "size": size}
    made = play_through(prepared_for(lab, mode, seed, fault), longest=at + 25)
    if made.trip is None:
        return Told(False, "never cut")
    if made.trip.guard not in guards:
        return Told(False, f"cut by {made.trip.guard} at {made.trip.t:.2f} s: {made.trip.label}")
    if made.trip.t + 0.1 < at:
        return Told(False, f"cut before the fault, at {made.trip.t:.2f} s by {made.trip.guard}")
    late = zero_late(made, quick)
    if late is not None:
        return Told(False, late)
    return Told(True, f"{made.trip.guard} after {made.trip.t - at:.2f} s")


def zero_late(made: Played, prepared: Prepared) -> str | None:
    """Whether the drive, as the source was seen to play it, was altered within two blocks and zero in its time."""
    assert made.trip is not None and made.altered is not None
    block, rate = prepared.facts.block, prepared.facts.rate
    seen = round(made.trip.t * rate / block)
    if made.altered > seen + 2:
        return f"altered only in block {made.altered} after it was seen in block {seen}"
    span = prepared.rig.cut_time if made.trip.action == "cut" else prepared.rig.ease_time
    from lucid_anvil.rig.standins.filters import DELAY

    end = int(made.altered * block + span * rate) + DELAY + 2
    rest = made.drive[end:]
    if rest.size == 0 or np.any(rest != 0):
        return f"the drive was not at zero {span:g} s after block {made.altered}"
    return None


def true_level(lab: Lab, mode: str, seed: int, size: float, at: float) -> tuple[Played, float]:
    """A run whose control sensor changes by `size` (share) at a time, and the most that the table then did against
    the same run without: the largest ratio of rms over a tenth of a second, or two periods, until the drive is down."""
    quick = prepared_for(lab, mode, seed, None)
    fault = {"at": at, "kind": "gain_jump", "channel": "control", "size": size}
    made = play_through(prepared_for(lab, mode, seed, fault), longest=at + 6)
    clean = play_through(quick, longest=at + 6)
    rate = quick.facts.rate
    n = int(0.1 * rate)
    x, y = (p.channels["control"].samples(0, p.channels["control"].length) for p in (made, clean))
    x = x.copy()
    x[round(at * rate) :] /= 1 + size
    count = min(x.size, y.size) // n
    a, b = (np.sqrt(np.mean(v[: count * n].reshape(count, n) ** 2, axis=1)) for v in (x, y))
    since = int(at * rate / n)
    loud = b[since:] > 0.3 * np.median(b[since:])
    return made, float(np.max((a[since:] / np.maximum(b[since:], 1e-12))[loud], initial=0.0))


def check_chain(lab: Lab, mode: str, seed: int) -> Told:
    """A control sensor that loses or gains 20 to 60 % at a drawn moment."""
    rng = np.random.default_rng([seed, 78])
    size = float(rng.uniform(0.2, 0.6) * rng.choice([-1, 1]))
    quick = prepared_for(lab, mode, seed, None)
    at = quick.course()[0].duration + float(rng.uniform(4.5, 7.0))
    made, most = true_level(lab, mode, seed, size, at)
    text = f"{100 * size:+.0f} %, table {most:.2f} times"
    if made.trip is None:
        return Told(most < 1.3 and abs(size) < 0.3, f"never cut, {text}")
    good = made.trip.guard in ("chain", "abort", "control_lost") and made.trip.t + 0.1 >= at and most <= 1.3
    return Told(good, f"{made.trip.guard} after {made.trip.t - at:.2f} s, {text}")


def table_of(prepared: Prepared, drive: Floats) -> Floats:
    """What the control point of a bench without faults shows for a drive as it was played."""
    rig, n = prepared.rig, prepared.facts.block
    bench = bench_of(rig.model_copy(deep=True))
    bench.command("begin", REST * n / prepared.facts.rate)
    at = [c.role for c in rig.channels].index("control")
    for _ in range(REST):
        bench.play(np.zeros(n))
    return np.concatenate([bench.play(drive[k : k + n]).samples[at] for k in range(0, drive.size - n + 1, n)])


def check_cable(lab: Lab, mode: str, seed: int) -> Told:
    """The control's cable that opens for a few milliseconds at a time, a tenth to two thirds of the time."""
    rng = np.random.default_rng([seed, 79])
    quick = prepared_for(lab, mode, seed, None)
    at, size = quick.course()[0].duration + float(rng.uniform(3.5, 6.0)), float(rng.uniform(0.25, 1.6))
    fault = {"at": at, "kind": "cable", "channel": "control", "size": size}
    made = play_through(prepared_for(lab, mode, seed, fault), longest=at + 8)
    clean = play_through(quick, longest=at + 8)
    n = int(0.1 * quick.facts.rate)
    a, b = (np.sqrt(np.mean(x[: x.size // n * n].reshape(-1, n) ** 2, axis=1))
            for x in (table_of(quick, p.drive) for p in (made, clean)))  # fmt: skip
    part = slice(int(at * quick.facts.rate / n), min(a.size, b.size))
    a, b = a[part], b[part]
    most = float(np.max((a / np.maximum(b, 1e-12))[b > 0.3 * np.median(b)], initial=0.0))
    text = f"open for {40 * size:.0f} % of the time, table {most:.2f} times"
    if made.trip is None:
        return Told(False, f"never cut, {text}")
    good = made.trip.guard in ("chain", "abort", "control_lost") and made.trip.t + 0.1 >= at and most <= 1.3
    return Told(good, f"{made.trip.guard} after {made.trip.t - at:.2f} s, {text}")


def check_clean(lab: Lab, mode: str, seed: int) -> Told:
    made = play_through(prepared_for(lab, mode, seed, None))
    return Told(made.trip is None, "" if made.trip is None else f"cut: {made.trip.sentence}")


def jobs(lab: Lab, faults: int, chains: int, cables: int, clean: int) -> list[Job]:
    """So many faults of each sort, over all modes in turn; the number is the seed."""
    kinds = list(FAULTS)
    made: list[Job] = []
    for i in range(faults):
        mode, kind = MODES[i % 4], kinds[(i // 4) % len(kinds)]
        made.append((f"{i} {mode}: {kind}", partial(check_fault, lab, mode, kind, i)))
    for i in range(chains):
        made.append((f"{2000 + i} {MODES[i % 4]}: lying sensor", partial(check_chain, lab, MODES[i % 4], 2000 + i)))
    for i in range(cables):
        made.append((f"{3000 + i} {MODES[i % 4]}: cable opens", partial(check_cable, lab, MODES[i % 4], 3000 + i)))
    for i in range(clean):
        made.append((f"{1000 + i} {MODES[i % 4]}: clean", partial(check_clean, lab, MODES[i % 4], 1000 + i)))
    return made
