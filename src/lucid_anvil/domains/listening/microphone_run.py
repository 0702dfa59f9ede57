"""Performing a microphone level check: wait for the calibrator's tone, until it is steady, then listen a while."""

from __future__ import annotations

import math
from dataclasses import dataclass, field
from typing import Any

import numpy as np

from ...contracts.method import Facts, Got, Performance, Want
from ...core.calibration.soundlevel import find_tone, pressure
from ...core.signal.rounding import rounded
from ...core.signal.sinefit import Floats, fit_tone
from .microphone_level import MicrophoneSettings

BLOCK = 0.125
"""s over which one level is told"""
STEADY = 3.0
"""s that the tone must keep within its steadiness before it is read"""
READ = 4.0
"""s that are then read"""
PATIENCE = 90.0
LOUD = 1e-4
"""V rms below which there is no tone to look for"""


@dataclass
class ToneRun:
    """State of the check; the microphone in volts."""

    settings: MicrophoneSettings
    facts: Facts
    stage: str = "no tone"
    text: str = "put the calibrator on, and switch it on"
    levels: list[float] = field(default_factory=list)
    """dB re the level that the last known sensitivity would show, or re 1 V"""
    frequency: float | None = None
    distortion: float | None = None
    sensitivity: float | None = None
    steady_at: float | None = None

    def __post_init__(self) -> None:
        self.rate = self.facts.rate
        self.size = int(BLOCK * self.rate)
        self.kept: Floats = np.zeros(0)
        self.held: Floats = np.zeros(0)
        self.t = 0.0
        self.wanted = self.settings.level + sum(self.settings.corrections.values())
        known = self.settings.previous_sensitivity or 1e3 * self.facts.sensitivity["microphone"]
        self.known = float(known)

    def heed(self, got: Got) -> bool:
        """Take in one block. True when there was something new to tell."""
        x = got.channels["microphone"]
        self.t += x.size / self.rate
        self.held = np.concatenate([self.held, x])
        if self.held.size < self.size:
            return False
        piece, self.held = self.held[: self.size], self.held[self.size :]
        self.kept = np.concatenate([self.kept, piece])[-int(STEADY * self.rate) :]
        self._listen(piece)
        return True

    def _listen(self, piece: Floats) -> None:
        half = self.kept[-8 * self.size :]
        found = find_tone(half, self.rate, self.settings.frequency) if np.std(half) > LOUD else None
        if found is None:
            self.levels, self.steady_at, self.frequency = [], None, None
            self.stage, self.text = "no tone", self._missing(half)
            return
        fit = fit_tone(piece - piece.mean(), self.rate, found, harmonics=6)
        rms = float(np.abs(fit.phasors[0])) / math.sqrt(2)
        self.frequency, self.distortion = found, 100 * float(fit.distortion[0])
        self.sensitivity = 1e3 * rms / pressure(self.wanted)
        self.levels = [*self.levels, 20 * math.log10(max(rms, 1e-12) / (1e-3 * self.known * pressure(self.wanted)))]
        self.levels = self.levels[-400:]
        span = self.levels[-int(STEADY / BLOCK) :]
        wander = max(span) - min(span)
        if len(span) < STEADY / BLOCK or wander > self.settings.steadiness:
            self.steady_at = None
            self.stage = "settling"
            self.text = f"the level wanders by {wander:.2f} dB, {self.settings.steadiness:g} dB allowed"
            if len(span) == STEADY / BLOCK and wander > 4 * self.settings.steadiness:
                self.text += ": seat the calibrator again"
            return
        if self.steady_at is None:
            self.steady_at = self.t
        self.stage, self.text = "steady", f"within {wander:.3f} dB, being read"

    def _missing(self, x: Floats) -> str:
        """What is there instead of the tone."""
        if np.std(x) <= LOUD:
            return "put the calibrator on, and switch it on"
        power = np.abs(np.fft.rfft((x - x.mean()) * np.hanning(x.size))) ** 2
        f = np.fft.rfftfreq(x.size, 1 / self.rate)
        at = float(f[int(np.argmax(power))])
        if power.max() > 20 * np.median(power[f > 20]) and at > 20 and power.max() > 0.05 * power.sum():
            return f"a tone of {at:.0f} Hz, wanted {self.settings.frequency:g} Hz: is it set to another frequency?"
        return f"no tone near {self.settings.frequency:g} Hz"

    @property
    def done(self) -> bool:
        return self.steady_at is not None and self.t - self.steady_at >= READ

    def told(self) -> dict[str, Any]:
        """What faces show."""
        last = self.kept[-int(5 * self.rate / self.settings.frequency) :]
        change = None if not self.levels else self.levels[-1]
        return {
            "stage": self.stage, "text": self.text, "levels": rounded(self.levels, 5), "every": BLOCK,
            "tone": self.frequency, "distortion": self.distortion, "sensitivity": self.sensitivity, "known": self.known,
            "change": change, "steadiness": self.settings.steadiness, "at": self.t - (self.steady_at or self.t),
            "of": READ, "rms": float(np.std(self.kept)) if self.kept.size else 0.0,
            "picture": {"t": rounded(np.arange(last.size) / self.rate * 1e3, 5), "v": rounded(last, 4)},
        }  # fmt: skip


def perform(settings: MicrophoneSettings, facts: Facts) -> Performance:
    """Listen until a steady tone was read, ninety seconds have gone, or the operator ends it."""
    run = ToneRun(settings, facts)
    silence = np.zeros(facts.block)
    got = yield Want(silence, marks=({"t": 0.0, "kind": "calibrator"},))
    while not run.done:
        fresh = run.heed(got)
        if run.t > PATIENCE or any(o["order"] == "skip" for o in got.orders):
            return
        got = yield Want(silence, live=run.told() if fresh else None)
    read = {"t": run.t, "kind": "calibrator", "start": max(run.t - READ - STEADY, 0.0), "stop": run.t}
    yield Want(silence, marks=(read,), live=run.told())
