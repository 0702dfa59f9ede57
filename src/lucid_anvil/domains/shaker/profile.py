"""Working a profile out: crossovers, octaves, durations, cycles, peaks and rms values, as a finding."""

from __future__ import annotations

from pathlib import Path
from typing import TYPE_CHECKING

import numpy as np

from ...contracts.finding import Curve, Finding, Reading
from ...core.control import headroom
from .edges import early_abort
from .profiles import AnyFile, RandomFile, SineFile, TimeFile, prepare_history

if TYPE_CHECKING:
    from ...rig.model import Rig


def work_out(profile: AnyFile, folder: Path, rig: Rig | None = None) -> Finding:
    """The finding of a profile; with a rig also how much of each of its limits it uses. Raises BadInput."""
    if isinstance(profile, SineFile):
        return _sine(profile, rig)
    if isinstance(profile, RandomFile):
        return _random(profile, rig)
    return _time(profile, folder, rig)


def _curve(key: str, label: str, x: np.ndarray, y: np.ndarray, unit: str, x_unit: str = "Hz",
           edges: tuple[np.ndarray, np.ndarray] | None = None) -> Curve:  # fmt: skip
    low = high = None
    if edges is not None and (np.any(edges[0] > 0) or np.any(np.isfinite(edges[1]))):
        low = tuple(float(v) if v > 0 else None for v in edges[0])
        high = tuple(float(v) if np.isfinite(v) else None for v in edges[1])
    return Curve(key, label, tuple(map(float, x)), tuple(map(float, y)), x_unit, unit, low=low, high=high)


def _sine(part: SineFile, rig: Rig | None) -> Finding:
    profile = part.solved()
    readings = [
        Reading(f"crossover_{i}", f"Crossover {i}", f, "Hz") for i, f in enumerate(profile.crossovers, 1)
    ]  # fmt: skip
    notes = [_law_note(p) for p in profile.pieces]
    readings.append(Reading("octaves", "Octaves", float(np.log2(profile.stop / profile.start)), "oct"))
    held = part.sweeping()
    if held is not None:
        readings += [
            Reading("duration", "Duration of one sweep", held.one.duration, "s"),
            Reading("total_duration", "Total duration", held.total, "s"),
            Reading("cycles", "Cycles of one sweep", held.one.cycles, ""),
            Reading("sweeps", "Sweeps", held.count, ""),
        ]
    else:
        notes.append("No sweep is given, so there is no duration and no number of cycles.")
    for quantity, key, label, unit in (
        ("displacement", "displacement_peak_to_peak", "Largest displacement, peak to peak", "m"),
        ("velocity", "velocity_peak", "Largest velocity, peak", "m/s"),
        ("acceleration", "acceleration_peak", "Largest acceleration, peak", "m/s²"),
    ):
        value, at = profile.peak(quantity)
        readings.append(Reading(key, f"{label} (at {at:.4g} Hz)", value, unit))
    if part.moving_mass is not None:
        force = profile.peak("acceleration")[0] * part.moving_mass
        readings.append(Reading("force_peak", "Largest force, peak", force, "N"))
    for before, after in zip(profile.pieces, profile.pieces[1:], strict=False):
        step = float(after.at(before.high) / before.at(before.high))
        if abs(step - 1) > 1e-6:
            notes.append(_step_note(before.high, step, before, after))
    notes += early_abort(profile)
    f = profile.grid()
    curves = (
        _curve("acceleration", "Acceleration, peak", f, profile.acceleration(f), "m/s²",
               edges=profile.edges(f, "tolerance")),
        _curve("velocity", "Velocity, peak", f, profile.velocity(f), "m/s"),
        _curve("displacement", "Displacement, peak to peak", f, profile.displacement(f), "m"),
    )  # fmt: skip
    if rig is not None:
        made = headroom.of_sine(profile, rig.plant(), rig.capability_lines(), rig.band())
        rows, said = _headroom(made)
        readings, notes = readings + rows, notes + said
    return Finding("profile", tuple(readings), curves, (), tuple(notes))


def _law_note(piece: object) -> str:
    from ...core.control.sineprofile import NAMES, Piece

    assert isinstance(piece, Piece)
    return f"{piece.low:.6g} Hz to {piece.high:.6g} Hz: {NAMES[piece.law]}."


def _step_note(f: float, step: float, before: object, after: object) -> str:
    from ...core.control.sineprofile import Piece, Segment, crossover

    assert isinstance(before, Piece) and isinstance(after, Piece)
    said = f"At {f:.6g} Hz the level steps by {20 * np.log10(step):+.3g} dB"
    if "line" in (before.law, after.law):
        return said + "."

    def segment(p: Piece) -> Segment:
        w = 2 * np.pi * p.low
        return Segment(p.law, p.level / {"acceleration": 1.0, "velocity": w, "displacement": w * w / 2}[p.law])

    found = crossover(segment(before), segment(after))
    return said + (f"; the two laws cross at {found:.6g} Hz." if found else ".")


def _random(part: RandomFile, rig: Rig | None) -> Finding:
    profile = part.solved()
    readings = [
        Reading("acceleration_rms", "Acceleration, rms", profile.rms(), "m/s²"),
        Reading("velocity_rms", "Velocity, rms", profile.rms("velocity"), "m/s"),
        Reading("displacement_rms", "Displacement, rms", profile.rms("displacement"), "m"),
        Reading(
            "displacement_three_sigma_peak_to_peak", "Displacement, three sigma, peak to peak",
            6 * profile.rms("displacement"), "m",
        ),
    ]  # fmt: skip
    notes = [f"{profile.rms() / 9.80665:.4g} g rms."]
    if part.rms is not None:
        notes.append("The densities are scaled to the rms that is locked.")
    if part.moving_mass is not None:
        readings.append(Reading("force_rms", "Force, rms", profile.rms() * part.moving_mass, "N"))
    if part.duration is not None:
        readings.append(Reading("duration", "Duration", part.duration, "s"))
    notes += early_abort(profile)
    f = profile.grid()
    s = profile.density(f)
    curves = (_curve("density", "Acceleration density", f, s, "(m/s²)²/Hz", edges=profile.edges(f, "tolerances")),)
    if rig is not None:
        rows, said = _headroom(headroom.of_random(profile, rig.plant(), rig.capability_lines(), rig.band()))
        readings, notes = readings + rows, notes + said
    return Finding("profile", tuple(readings), curves, (), tuple(notes))


def _time(part: TimeFile, folder: Path, rig: Rig | None) -> Finding:
    made, channel = prepare_history(part, folder)
    after, before = made.after, made.before
    a, rate = after.acceleration, after.rate
    v, d = after.velocity, after.displacement
    readings = [
        Reading("duration", "Duration", a.size / rate, "s"),
        Reading("acceleration_peak", "Acceleration, peak", float(np.max(np.abs(a))), "m/s²"),
        Reading("acceleration_rms", "Acceleration, rms", float(np.sqrt(np.mean(a**2))), "m/s²"),
        Reading("velocity_peak", "Velocity, peak", float(np.max(np.abs(v))), "m/s"),
        Reading("displacement_peak_to_peak", "Displacement, peak to peak", after.peak_to_peak(), "m"),
    ]
    notes = list(made.notes)
    notes.append(
        f"Before: velocity ends at {before.velocity[-1]:.4g} m/s, displacement at"
        f" {1e3 * before.displacement[-1]:.4g} mm, over {1e3 * before.peak_to_peak():.4g} mm peak to peak."
    )
    if part.moving_mass is not None:
        readings.append(Reading("force_peak", "Force, peak", float(np.max(np.abs(a))) * part.moving_mass, "N"))
    if rig is not None:
        limits = rig.capability_lines()
        rows = []
        for name, value, limit, unit in (
            ("Stroke", after.peak_to_peak(), limits.stroke, "m"),
            ("Velocity", float(np.max(np.abs(v))), limits.velocity, "m/s"),
            ("Force", float(np.max(np.abs(a))) * rig.plant().moving_mass, limits.force, "N"),
            ("Acceleration", float(np.max(np.abs(a))), limits.acceleration, "m/s²"),
        ):
            rows.append(headroom.Exceeded(name, value / limit, value, limit, unit, None))
        more, said = _headroom(headroom.Headroom(tuple(sorted(rows, key=lambda x: -x.used))))
        readings, notes = readings + more, notes + said
    stride = max(1, a.size // 4000)
    t = np.arange(0, a.size, stride) / rate
    curves = tuple(
        _curve(key, label, t, y[::stride], unit, "s")
        for key, label, y, unit in (
            ("acceleration", "Acceleration", a, "m/s²"), ("velocity", "Velocity", v, "m/s"),
            ("displacement", "Displacement", d, "m"),
            ("before", "Acceleration as recorded", before.acceleration, "m/s²"),
        )
    )  # fmt: skip
    return Finding("profile", tuple(readings), curves, (), tuple(notes))


def _headroom(made: headroom.Headroom) -> tuple[list[Reading], list[str]]:
    rows = [
        Reading(
            f"used_{x.name.lower().replace(' ', '_')}", f"{x.name}, used", 100 * x.used, "%", high=100.0,
            verdict="inside" if x.used <= 1 else "outside",
        )
        for x in made.limits
    ]  # fmt: skip
    over = [x for x in made.limits if x.used > 1]
    notes = [f"Beyond the shaker: {x.sentence}." for x in over]
    if over:
        notes.append(f"A level of {np.floor(10 * made.level_db) / 10:.1f} dB would fit.")
    return rows, notes
