"""Dynamic mechanical analysis: storage, loss and tan delta over frequency, temperature or time (ISO 6721)."""

from __future__ import annotations

import math
from collections.abc import Mapping, Sequence
from typing import Any

import numpy as np

from ...contracts.finding import Curve, Finding
from ...contracts.method import Axis, BenchFacts, Calibrated, CourseItem, Facts, Input, Performance
from ...contracts.recording import Channel, Floats
from ...contracts.samples import (
    Readings,
    celsius,
    known_roles,
    listed,
    points,
    samples_in,
    share_of,
    together,
    unstated,
)
from ...contracts.sketch import line
from ...core.errors import BadInput
from ...core.frame import dynamic
from ...core.quantities import factor
from .dma_nest import AXES, missed, nested, words_of
from .dma_settings import DmaSettings, Step
from .shared import FrameMethod, length_in, sensed

KEYS = {
    "tg_storage_onset": ("Transition, onset of the storage modulus", "°C"),
    "tg_loss_peak": ("Transition, peak of the loss modulus", "°C"),
    "tg_tan_peak": ("Transition, peak of tan delta", "°C"),
}
ASSUMED = "0.2 deg"
"""Expanded, of a frame's own phase as long as it was not measured: what a sound cell and a filter make of 10 Hz"""
MOVING = 5.0
"""K by which temperature must move for curves to stand over it"""


class Dma(FrameMethod):
    """The method as the registry knows it."""

    name = "dma"
    title = "Dynamic mechanical analysis"
    steady = True
    roles = ("force", "displacement")
    optional_roles = ("temperature",)
    about = "Storage and loss modulus of a specimen, and the temperature at which it softens"
    sketch = (line(lambda x: 0.88 - 0.7 / (1 + math.exp(-22 * (x - 0.5)))),
              line(lambda x: 0.1 + 0.5 / (1 + ((x - 0.54) / 0.08) ** 2)))
    reads_only = False
    kinds = ("length",)
    usual = {
        "geometry": {"kind": "tension", "length": "30 mm", "width": "10 mm", "thickness": "2 mm"},
        "play": {"temperature": {"from": "40 °C", "to": "100 °C", "rate": "2 K/min"}},
    }
    walk_round = (
        {"key": "grips", "text": "Specimen in both grips, straight, its sizes measured"},
        {"key": "sensor", "text": "Temperature sensor beside it, not touching the grips"},
        {"key": "chamber", "text": "Chamber closed, its door latched"},
        {"key": "door", "text": "Guard door, emergency stop", "sense": "interlocks"},
        {"key": "answers", "text": "Chamber answers", "sense": "chamber"},
    )
    told = ("ramp", "point")
    knows = {"compliance": "frame", "instrument": "frame_phase"}
    Settings = DmaSettings
    readings = listed(KEYS)
    curves = {
        "storage": "Storage modulus [MPa] over Hz with steps, over °C where temperature moves, else over s",
        "loss": "Loss modulus [MPa]",
        "tan_delta": "Loss over storage",
        "storage_2": "... at the second frequency or amplitude of a nest, and so on; loss and tan_delta likewise",
    }
    views = (
        Axis("modulus", "Modulus", ("storage*", "loss*"), "", "MPa", y_log=True),
        Axis("tan_delta", "Tan delta", ("tan_delta*",), "", ""),
    )

    def evaluate(
        self, record: Mapping[str, Channel], settings: DmaSettings, marks: Sequence[Mapping[str, Any]]
    ) -> Finding:
        known_roles(settings.sensitivity, record, "sensitivity")
        by = settings.geometry.factor()
        there = ["temperature"] if "temperature" in record else []
        rate, n = together(record, ("force", "displacement", *there))
        force = samples_in(record, "force", "N", settings.sensitivity)[:n]
        way = length_in(record, "displacement", settings)[:n]
        heat = celsius(record, sensitivity=settings.sensitivity)[:n] if there else None
        made = Readings(KEYS, settings)
        own = [m for m in marks if m.get("kind") == "point"]
        ramp = next((m for m in marks if m.get("kind") == "ramp"), None)
        if own and not settings.steps:
            settings = settings.model_copy(update={"steps": [Step.model_validate(
                {k: m[k] for k in ("frequency", "start", "stop")}) for m in own]})  # fmt: skip
        elif ramp is not None:
            end = next((m["t"] for m in marks if m.get("kind") == "dma ended"), n / rate)
            a, n = int(ramp["start"] * rate), min(int(end * rate), n)
            force, way, heat = force[a:n], way[a:n], None if heat is None else heat[a:n]
            n -= a
            settings = settings.model_copy(update={"frequency": settings.frequency or float(ramp["frequency"])})
        pieces = _pieces(way, rate, n, settings)
        if isinstance(pieces, str):
            made.absent(list(KEYS), pieces)
            return Finding(self.name, made.all(), notes=(pieces,))
        held = [dynamic.complex_stiffness(force, way, rate, f, a, b) for f, a, b in pieces]
        turns = [settings.turned(f) for f, _, _ in pieces]
        with np.errstate(divide="ignore", invalid="ignore"):
            seen = np.array([v * turn for (v, _), (turn, _) in zip(held, turns, strict=True)])
            k = dynamic.without_machine(seen, settings.compliance) * by
            ratio = np.array([e for _, e in held]) * np.abs(k / (by * seen))
        angle = np.nan_to_num(np.array([u for _, u in turns]))
        nest = None
        if own:
            warm = [None if heat is None else float(heat[a:b].mean()) for _, a, b in pieces]
            swings = np.array([abs(dynamic.fit(way[None, a:b], rate, f)[0][0]) for f, a, b in pieces])
            nest = nested(own, warm, swings)
        x, unit = _axis(pieces, rate, heat, settings) if nest is None else (nest.first.x, nest.unit)
        notes = unstated(settings.uncertainty, "force", "displacement")
        axes = AXES if nest is not None else ("frequency",)
        loose = [words_of(m, axes) for m in own if not m["settled"]]
        if loose:
            notes.append(f"Not settled to {settings.play.spread:g} %: {', '.join(loose)}.")
        if nest is not None and (off := missed(nest.marks, nest.swings)):
            notes.append(f"Not at the amplitude that was asked for: {'; '.join(off)}.")
        if nest is not None and nest.unit == "°C":
            notes.append(f"The transitions are read at {words_of(own[0], AXES[1:])}.")
        elif not settings.steps:
            notes.append(f"Read at {pieces[0][0]:.5g} Hz, {settings.window} periods a point.")
        notes += _own_phase([settings.measured(f) for f, _, _ in pieces], settings)
        if np.any(k.real <= 0):
            notes.append("Where the machine's compliance leaves no stiffness to the specimen there is no modulus.")
            k = np.where(k.real > 0, k, np.nan)
        if unit == "°C" and settings.temperature_uncertainty is None:
            notes.append("No temperature_uncertainty is given: the transitions have no doubt here.")
        apart = 0.0 if nest is None or len(x) < 2 else float(np.max(np.abs(np.diff(x)))) / 2
        first = k if nest is None else k[nest.first.rows]
        _transitions(made, x, unit, first, settings.temperature_uncertainty, apart)
        detail: dict[str, Any] | None = None
        if nest is not None:
            detail = {"nest": nest.table(k / 1e6)}
        elif unit == "Hz" and heat is not None:  # a master curve is made of several by it
            detail = {"temperature": float(np.mean([heat[a:b].mean() for _, a, b in pieces]))}
        if nest is None:
            curves = _curves(x, unit, k, (ratio, angle), settings)
        else:
            curves = tuple(c for one in nest.families for c in _curves(
                one.x, nest.unit, k[one.rows], (ratio[one.rows], angle[one.rows]), settings, one.suffix, one.words))
        return Finding(self.name, made.all(), curves, notes=tuple(notes), detail=detail)

    # --- running ---------------------------------------------------------------------------------------------

    def from_ledger(self, known: Mapping[str, Calibrated]) -> dict[str, Any]:
        made = super().from_ledger({k: v for k, v in known.items() if k == "frame"})
        own = known.get("frame_phase")
        if own is not None and own.points:
            by = factor(own.unit, "deg")
            made["instrument"] = [
                {"frequency": f"{f:g} Hz", "phase": f"{v * by:.5g} deg",
                 "uncertainty": f"{abs(v) * by * u / 100:.2g} deg"} for f, v, u in own.points
            ]  # fmt: skip
        return made

    def course(self, settings: DmaSettings) -> list[CourseItem]:
        play, made = settings.play, [CourseItem("Zero, grip", 6.0)]
        seconds = [max(settings.window / f, 1.0) for f in play.frequencies]
        ramp = play.temperature
        if ramp is not None or play.duration is not None:
            start = ramp.first if ramp is not None else play.at
            if start is not None:
                made.append(CourseItem(f"To {start:g} °C", 300.0))
        if play.duration is not None:
            made.append(CourseItem(f"Over time, {play.frequencies[0]:g} Hz", play.duration + 8 * seconds[0]))
        elif ramp is not None:
            label = f"{ramp.first:g} to {ramp.last:g} °C, {play.frequencies[0]:g} Hz"
            made.append(CourseItem(label, abs(ramp.last - ramp.first) / ramp.rate + 8 * seconds[0]))
        else:
            each = len(play.swings)
            for t in play.soaks:
                if t is not None:
                    made.append(CourseItem(f"To {t:g} °C", 300.0))
                for f, s in zip(play.frequencies, seconds, strict=True):
                    made.append(CourseItem(f"{f:g} Hz", 4 * s * each, f))
        return made

    def perform(self, settings: DmaSettings, facts: Facts, start: Mapping[str, Any] | None = None) -> Performance:
        from .dma_run import perform

        return perform(settings, facts)

    def guarded(self, settings: DmaSettings, inputs: Sequence[Input]) -> dict[str, Any]:
        play = settings.play
        made = super().guarded(settings, inputs)
        if play.temperature is None and play.soaks == [None]:
            return made
        return {"guards": [*made.get("guards", []), {"watch": "chamber_band", "action": "ease"}]}

    def feasible(self, settings: DmaSettings, facts: Facts) -> None:
        from .dma_run import Dynamic

        Dynamic(settings, facts)

    def fill(self, given: dict[str, Any], bench: BenchFacts) -> dict[str, Any]:
        """A frame whose own phase nobody measured has one all the same."""
        return {"phase_uncertainty": ASSUMED, **sensed(super().fill(given, bench), bench)}


METHOD = Dma()


def pieces_of(steps: Sequence[Step], rate: float, n: int) -> list[tuple[float, int, int]]:
    """Frequency, first and last sample of each step in a record of n samples. Raises BadInput."""
    made = []
    for i, step in enumerate(steps, start=1):
        a, b = int(round(step.start * rate)), int(round(step.stop * rate))
        if b > n + 1.5:
            raise BadInput(f"steps: the record ends at {n / rate:g} s, before step {i} does ({step.stop:g} s).")
        if step.frequency >= 0.45 * rate:
            raise BadInput(f"steps: a record at {rate:g} Hz can't hold the {step.frequency:g} Hz of step {i}.")
        if (b - a) / rate * step.frequency < 1:
            raise BadInput(f"steps: step {i} is shorter than one period of {step.frequency:g} Hz.")
        made.append((step.frequency, a, min(b, n)))
    return made


def _pieces(way: Floats, rate: float, n: int, settings: DmaSettings) -> list[tuple[float, int, int]] | str:
    """Frequency, first and last sample of each point; a sentence where there is none. Raises BadInput."""
    if settings.steps:
        return pieces_of(settings.steps, rate, n)
    f = settings.frequency or dynamic.frequency_of(way, rate)
    if f is None:
        return "there is no tone in the displacement"
    if f >= 0.45 * rate:
        raise BadInput(f"frequency: a record at {rate:g} Hz can't hold {f:g} Hz.")
    length = settings.window * rate / f
    count = int((n + 0.5) / length)
    if count < 1:
        return f"the record is shorter than {settings.window} periods"
    edges = np.round(np.arange(count + 1) * length).astype(int)
    return [(f, int(a), int(min(b, n))) for a, b in zip(edges[:-1], edges[1:], strict=True) if b - a >= 8] or (
        "there are too few samples a period"
    )


def _own_phase(measured: Sequence[bool], settings: DmaSettings) -> list[str]:
    """What is to be said of the instrument's own phase where it was not measured for every point."""
    if all(measured):
        return []
    stated = settings.phase_uncertainty
    doubt = "and not in their doubt" if stated is None else f"{stated:g}° are assumed of it in their doubt"
    last = f"{settings.instrument[-1].frequency:g} Hz" if settings.instrument else ""
    if any(measured):
        return [f"Above {last} the instrument's own phase was not measured: it is in the loss and in tan delta there,"
                f" {doubt}."]  # fmt: skip
    up_to = f" (it was measured up to {last})" if last else ""
    return [f"The instrument's own phase is not taken off{up_to}: it is in the loss and in tan delta, {doubt}."]


def _axis(
    pieces: list[tuple[float, int, int]], rate: float, heat: Floats | None, settings: DmaSettings
) -> tuple[Floats, str]:
    if settings.steps:
        return np.array([f for f, _, _ in pieces]), "Hz"
    if heat is not None:
        at = np.array([heat[a:b].mean() for _, a, b in pieces])
        if float(at.max() - at.min()) > MOVING or float(heat.max() - heat.min()) > MOVING:
            return at, "°C"
    return np.array([(a + b - 1) / 2 / rate for _, a, b in pieces]), "s"


def _transitions(made: Readings, x: Floats, unit: str, k: np.ndarray, stated: float | None, apart: float) -> None:
    """`apart`: half of the K between two points that were measured one by one."""
    if unit != "°C":
        made.absent(list(KEYS), "temperature does not move by more than 5 K in this record")
        return
    found = dynamic.transitions(x, k.real, k.imag)
    # Half of the width that the curves are smoothed over is what a peak or a tangent can be off by beside it.
    doubt = None if stated is None else float(np.hypot(np.hypot(stated, dynamic.WIDTH / 2 * np.ptp(x) / 2), apart))
    for key, value, what in zip(
        KEYS, (found.onset, found.loss_peak, found.tan_peak), ("no fall", "no peak", "no peak"), strict=True
    ):
        made.put(key, value, doubt, None if value is not None else f"there is {what} inside the range of temperature")


def _curves(
    x: Floats, unit: str, k: np.ndarray, doubts: tuple[Floats, Floats], settings: DmaSettings, suffix: str = "",
    words: str = "",
) -> tuple[Curve, ...]:  # fmt: skip
    """Storage, loss and tan delta of points over x; `doubts`: the standard error as a ratio, and the expanded one of
    the instrument's phase [rad]; `suffix` of their keys and `words` of their labels."""
    share = share_of(settings.uncertainty, "force", "displacement")
    size = np.abs(k) / 1e6
    ratio, angle = doubts
    scatter = 2 * ratio
    turning = np.hypot(scatter, angle)
    at = points(x)
    tan = k.imag / k.real
    return (
        Curve(f"storage{suffix}", f"Storage modulus{words}", at, points(k.real / 1e6), unit, "MPa",
              points(np.hypot(np.hypot(scatter * size, share * k.real / 1e6), angle * k.imag / 1e6)), 2.0),
        Curve(f"loss{suffix}", f"Loss modulus{words}", at, points(k.imag / 1e6), unit, "MPa",
              points(np.hypot(np.hypot(scatter * size, share * k.imag / 1e6), angle * k.real / 1e6)), 2.0),
        Curve(f"tan_delta{suffix}", f"Tan delta{words}", at, points(tan), unit, "",
              points(turning * (1 + tan**2)), 2.0),
    )  # fmt: skip
