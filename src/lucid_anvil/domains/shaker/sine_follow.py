"""Following a resonance: a sine held at the phase that a mode has at its peak, while the mode drifts."""

from __future__ import annotations

import math
from collections.abc import Generator, Mapping
from typing import TYPE_CHECKING, Any

import numpy as np

from ...contracts.method import Got, Want
from .course import Stretch

if TYPE_CHECKING:
    from .sine_run import SineRun

SOUGHT = 2.0
"""° off its phase, within which a resonance is found"""
LEVELLED = 0.7
"""dB off its level, within which a dwell may begin to count"""
SEEK = 14.0
"""times the loop's own time that is spent on finding it at most"""


def settling(run: SineRun, f: float, index: int) -> float:
    """s to average over at rest: longer than the mode there takes to settle, since a quicker loop chases its
    transients."""
    return max(0.8, 5 / (math.pi * width_at(run, f, index)))


QUADRATURE = -math.pi / 2
"""rad, the phase re the base's motion at which a single mode on it has its resonance"""


def resonance(run: SineRun, stretch: Stretch) -> tuple[int, float]:
    """Channel index, and the phase [rad] re the control that is held: that of the mode's peak as the probe run showed
    it, steady at each frequency. A sweep that moves shows it late."""
    index = responding(run, stretch)
    return index, _phase_at_rest(run, run.frequency, index)


def responding(run: SineRun, stretch: Stretch) -> int:
    """The channel whose resonance is followed: as said, else the one that rose highest in the sweeps so far."""
    role = stretch.channel
    if role is None and run.found:
        role = max(run.found, key=lambda r: run.found[r][0])
    if role is None:
        role = run.roles[len(run.controls)] if len(run.roles) > len(run.controls) else run.roles[0]
    return run.roles.index(role)


def _phase_at_rest(run: SineRun, f: float, index: int) -> float:
    """rad at the peak of the response over the control near `f`, by a single mode fitted to the probe run's lines;
    quadrature where there is none to be fitted."""
    if run.plant is None:
        return QUADRATURE
    lines = run.plant.frequency
    over = run.plant.smoothed[index] / np.where(run.plant.smoothed[0] == 0, 1e-12, run.plant.smoothed[0])
    near = np.flatnonzero((lines > f / 1.15) & (lines < f * 1.15))
    if near.size < 7:
        return QUADRATURE
    top = near[int(np.argmax(np.abs(over[near])))]
    half = max(1.5 * width_at(run, float(lines[top]), index), 3 * float(lines[1]))
    x = lines[np.abs(lines - lines[top]) <= half]
    y = over[np.abs(lines - lines[top]) <= half]
    if x.size < 5 or np.min(run.plant.coherence[index][np.abs(lines - lines[top]) <= half]) < 0.5:
        return QUADRATURE
    # y·(f0² − f² + i·f·w) = c, linear in f0², w and the complex c (a single mode's receptance).
    scale = float(lines[top])
    r = x / scale
    rows = np.vstack([
        np.column_stack([y.real, -r * y.imag, -np.ones(r.size), np.zeros(r.size)]),
        np.column_stack([y.imag, r * y.real, np.zeros(r.size), -np.ones(r.size)]),
    ])  # fmt: skip
    goal = np.concatenate([r**2 * y.real, r**2 * y.imag])
    weight = np.tile(1 / np.abs(y), 2)
    (f0, w, a, b), *_ = np.linalg.lstsq(rows * weight[:, None], goal * weight, rcond=None)
    fine = np.linspace(r[0], r[-1], 2000)
    fitted = (a + 1j * b) / (f0 - fine**2 + 1j * fine * w)
    peak = float(np.angle(fitted[int(np.argmax(np.abs(fitted)))]))
    return peak if abs(peak - QUADRATURE) < 1.0 else QUADRATURE


def width_at(run: SineRun, f: float, index: int) -> float:
    """Hz between the half-power points of the response over the control near f, from the probe run."""
    if run.plant is None:
        return f / 20
    lines = run.plant.frequency
    near = (lines > f / 1.3) & (lines < f * 1.3)
    ratio = np.abs(run.plant.smoothed[index][near]) / np.maximum(np.abs(run.plant.smoothed[0][near]), 1e-9)
    if ratio.size < 5:
        return f / 20
    return max(float(np.sum(ratio > ratio.max() / np.sqrt(2)) * (lines[1] - lines[0])), f / 200)


class Tracker:
    """The frequency at which a response has the wanted phase, followed by a proportional and an integral part: a
    steady drift leaves no lag. As quick as the mode's own settling, the window and the blocks on their way allow."""

    def __init__(self, run: SineRun, index: int, wanted: float, slow: float = 0.0) -> None:
        """`index` of the response; `wanted` [rad] its phase re the control; `slow` [Hz/s] by which it drifts."""
        assert run.loop is not None
        self.run, self.index, self.wanted, self.slow = run, index, wanted, slow
        self.width = width_at(run, run.frequency, index)
        self.late = 1 / (math.pi * self.width) + run.loop.regulation.window(run.frequency) / 2 + 3 * run.span
        self.quick = 0.35 / self.late
        self.off = 0.0
        """rad off the wanted phase, smoothed"""

    def next(self) -> float:
        """Hz at the end of the next block."""
        run = self.run
        if run.reading is not None:
            p = run.reading.phases
            error = math.remainder(float(p[self.index] - p[0]) - self.wanted, 2 * math.pi)
            self.off += min(0.5, run.span / (0.2 * self.late)) * (error - self.off)
        # A single mode is off by half its width times the tangent of what its phase is off by.
        by = self.width / 2 * math.tan(max(-1.0, min(self.off, 1.0)))
        self.slow += self.quick**2 / 4 * by * run.span
        step = (self.quick * by + self.slow) * run.span
        f = run.frequency + float(np.clip(step, -self.width / 8, self.width / 8))
        return float(np.clip(f, run.profile.start, run.profile.stop)) if run.profile else f


def follow(run: SineRun, stretch: Stretch, begin: float) -> Generator[Want, Got, None]:
    """A dwell at a resonance, `begin` s of which were run before. It is found first; then its time counts."""
    assert run.loop is not None
    index, wanted = resonance(run, stretch)
    run.steady = settling(run, run.frequency, index)
    run.loop.follow(run.frequency)
    tracker = Tracker(run, index, wanted)
    found, t = 0.0, 0.0
    while found < 1 / tracker.quick and t < SEEK / tracker.quick and not run.skip:
        run.moved_level(stretch.level)
        yield from _block(run, tracker, {"seeking": True}, stage="seeking", at=0.0, of=stretch.duration)
        t += run.span
        level = run.reading.control / run.target(run.reading.frequency) if run.reading is not None else 0.0
        near = abs(math.degrees(tracker.off)) < SOUGHT and abs(20 * math.log10(max(level, 1e-9))) < LEVELLED
        found = found + run.span if near else 0.0
    more = {"dwell": run.item, "follow": True, "wanted": math.degrees(wanted), "role": run.roles[index]}
    t = begin
    while t < stretch.duration - 1e-9 and not run.skip:
        run.moved_level(stretch.level)
        yield from _block(run, tracker, more, stage="follow", at=t, of=stretch.duration, position=run.position(t),
                          phase_error=math.degrees(tracker.off))  # fmt: skip
        t += run.span
        more = {}
    run.skip, run.steady = False, 0.0
    run.loop.release()


def _block(run: SineRun, tracker: Tracker, more: Mapping[str, Any], **live: Any) -> Generator[Want, Got, None]:
    f = tracker.next()
    k = (f - run.frequency) / run.span
    u = np.arange(run.n) / run.rate
    phases = 2 * np.pi * (run.frequency * u + k * u * u / 2)
    turned = 2 * np.pi * (run.frequency * run.span + k * run.span**2 / 2)
    yield from run.sine(phases, turned, f, marks=(run.mark("linear", k, **more),), **live)
