"""Points of a dynamic analysis that stand in a nest: amplitudes within frequencies within temperatures."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from typing import Any

import numpy as np

from ...contracts.recording import Floats

MOST = 24
"""Curves of one kind at most"""
OFF = 0.15
"""Share by which an amplitude may be off before that is said"""
AXES = ("temperature", "frequency", "amplitude")
"""From the outermost"""
UNITS = {"temperature": "°C", "frequency": "Hz", "amplitude": "µm"}


@dataclass(frozen=True)
class Family:
    """The points of one curve."""

    rows: np.ndarray
    """Numbers of the points, in the order of x"""
    x: Floats
    suffix: str
    """of the curves' keys: none of the first"""
    words: str
    """of their labels: at what the other axes stood"""


@dataclass(frozen=True)
class Nest:
    """What moved, and the curves that come of it."""

    marks: tuple[Mapping[str, Any], ...]
    warm: tuple[float | None, ...]
    """°C measured at each point; None where nobody measured it"""
    swings: Floats
    """m of amplitude measured at each"""
    unit: str
    """of the axis that the curves stand over: the outermost that moves"""
    families: tuple[Family, ...]

    @property
    def first(self) -> Family:
        """The curve from which transitions are read."""
        return self.families[0]

    def table(self, k: np.ndarray) -> list[dict[str, Any]]:
        """A row a point; `k` complex moduli [MPa]."""
        return [
            {"at": m.get("temperature"), "temperature": w, "frequency": m["frequency"],
             "asked": m.get("amplitude"), "amplitude": float(a), "storage": _number(e.real), "loss": _number(e.imag),
             "settled": bool(m["settled"])}
            for m, w, a, e in zip(self.marks, self.warm, self.swings, k, strict=True)
        ]  # fmt: skip


def _number(value: float) -> float | None:
    return float(value) if np.isfinite(value) else None


def words_of(mark: Mapping[str, Any], axes: Sequence[str] = AXES) -> str:
    """Where a point stood, in words."""
    said = []
    for key in axes:
        value = mark.get(key)
        if value is not None:
            said.append(f"{1e6 * value:.3g} µm" if key == "amplitude" else f"{value:.5g} {UNITS[key]}")
    return ", ".join(said)


def nested(marks: Sequence[Mapping[str, Any]], warm: Sequence[float | None], swings: Floats) -> Nest | None:
    """The nest that marked points make; None where no more than the frequency moves. `warm` °C and `swings` m measured
    at each."""
    moving = [key for key in AXES if len({m.get(key) for m in marks}) > 1]
    if not moving or moving == ["frequency"]:
        return None
    main, *others = moving
    groups: dict[tuple[Any, ...], list[int]] = {}
    for i, m in enumerate(marks):
        groups.setdefault(tuple(m.get(key) for key in others), []).append(i)
    families = []
    for number, rows in enumerate(list(groups.values())[:MOST], start=1):
        x = np.array([_place(marks[i], warm[i], swings[i], main) for i in rows])
        order = np.argsort(x, kind="stable")
        words = words_of(marks[rows[0]], others)
        families.append(Family(np.array(rows)[order], x[order], f"_{number}" if number > 1 else "",
                               f", {words}" if words else ""))  # fmt: skip
    return Nest(tuple(marks), tuple(warm), swings, UNITS[main], tuple(families))


def missed(marks: Sequence[Mapping[str, Any]], swings: Floats) -> list[str]:
    """Points whose amplitude [m] is not what was asked for, in words."""
    return [
        f"{words_of(m)}: {1e6 * a:.3g} µm" for m, a in zip(marks, swings, strict=True)
        if m.get("amplitude") is not None and not abs(a / m["amplitude"] - 1) < OFF
    ]  # fmt: skip


def _place(mark: Mapping[str, Any], warm: float | None, swing: float, axis: str) -> float:
    """Where a point stands: as measured, and not as asked for, where it was."""
    if axis == "amplitude":
        return 1e6 * float(swing)
    return warm if axis == "temperature" and warm is not None else float(mark[axis])
