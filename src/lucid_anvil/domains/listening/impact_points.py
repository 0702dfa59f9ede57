"""Several points in one impact test: the hammer or the sensor moves on, and each point has a response of its own."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import replace
from typing import Any

import numpy as np

from ...contracts.finding import Curve, Finding
from ...core.signal.impact import FrfEstimate
from ...core.signal.sinefit import Complexes, Floats


def stretches_of(marks: Sequence[Mapping[str, Any]], begin: float, stop: float) -> list[tuple[str, float, float]]:
    """Name, start and end [s] of each point's stretch of a record that is read from `begin` to `stop`."""
    held = [(str(m["point"]), max(float(m["t"]), begin)) for m in marks if m["kind"] == "point"]
    ends = [*(t for _, t in held[1:]), stop][: len(held)]
    return [(name, start, end) for (name, start), end in zip(held, ends, strict=True) if end > start]


def shapes(frequency: Floats, responses: Sequence[Complexes], modes: Sequence[float]) -> Floats:
    """Shape of each mode over the points (modes, points): the imaginary part of the accelerance at its frequency, the
    largest being 1 (quadrature picking; close modes bleed into one another)."""
    made = np.array([[np.interp(f, frequency, np.imag(h)) for h in responses] for f in modes])
    top = made[np.arange(len(modes)), np.argmax(np.abs(made), axis=1)] if len(modes) else np.zeros(0)
    return np.asarray(made / np.where(top == 0, 1.0, top)[:, None]).reshape(len(modes), len(responses))


def with_points(first: Finding, names: Sequence[str], others: Sequence[FrfEstimate | None]) -> Finding:
    """The first point's finding with the other points' response functions and the modes' shapes. `names` of all
    points; an estimate is None where there was no good hit."""
    curves, notes = list(first.curves), list(first.notes)
    for name, made in zip(names[1:], others, strict=True):
        if made is None:
            notes.append(f"Point {name}: no good hit.")
            continue
        x = tuple(float(v) for v in made.frequency[1:])
        h = made.response[1:]
        curves.append(
            Curve(f"frf_magnitude@{name}", f"Accelerance, point {name}", x, tuple(np.abs(h)), "Hz", "(m/s²)/N")
        )
        curves.append(
            Curve(f"frf_phase@{name}", f"Phase, point {name}", x, tuple(np.degrees(np.angle(h))), "Hz", "deg")
        )
    there = {c.key for c in curves}
    modes = [r.value for r in first.readings if r.key.startswith("mode") and r.key.endswith("_frequency") and r.value]
    if "frf_magnitude" in there and modes and all(o is not None for o in others):
        m, p = first.curve("frf_magnitude"), first.curve("frf_phase")
        whole = np.array(m.y, float) * np.exp(1j * np.radians(np.array(p.y, float)))
        f = np.array(m.x, float)
        responses = [whole, *(np.interp(f, o.frequency, o.response) for o in others if o is not None)]
        at = tuple(float(k) for k in range(1, len(names) + 1))
        for n, row in enumerate(shapes(f, responses, modes), 1):
            curves.append(Curve(f"shape_mode{n}", f"Mode {n}, {modes[n - 1]:.1f} Hz", at, tuple(row), "point", ""))
    notes.append(f"Points in this order: {', '.join(names)}; modes are those of the first.")
    return replace(first, curves=tuple(curves), notes=tuple(notes))
