"""What is played to headsets and handsets: asked for by hand where something must be moved, brought to its level at a
low one first, then played and marked."""

from __future__ import annotations

import math
from collections.abc import Callable, Generator, Mapping
from typing import Any

import numpy as np

from ...contracts.method import LEAD, Facts, Got, Want
from ...contracts.recording import Floats
from ...core.audio.programme import Programme
from ...core.errors import BadInput

Playing = Generator[Want, Got, None]
TRY = 0.02
"""Share of the source's range at which the way to the stimulus is found"""
TRY_FOR = 0.5
"""s"""
FADE = 0.02
"""s at both ends"""
TAIL = 0.3
"""s of silence after what is played"""
LEAST = 1e-3
"""Unit of the stimulus per volt at the source: below it nothing is connected"""
PEAKS = 4.1
"""Of the noise, over its rms"""


class Player:
    """One run: where it stands, what it marks, how its source reaches the stimulus."""

    def __init__(self, facts: Facts) -> None:
        self.facts = facts
        self.span = facts.block / facts.rate
        self.item = 0
        self.t = 0.0
        self.gain = 0.0
        """Unit of the stimulus per volt at the source, rms over rms of what is played"""
        self.marks: list[Mapping[str, Any]] = []
        self.wrong = ""
        """What keeps it from being played, in words"""
        self.heard: dict[str, list[Floats]] = {}
        """Blocks of what was played last, by role [V]"""
        self.sent: Floats = np.zeros(0)
        """V, what was played last"""
        self.began = self.ended = 0.0

    def leave_marks(self) -> tuple[Mapping[str, Any], ...]:
        made, self.marks = tuple(self.marks), []
        return made

    def rest(self, seconds: float = 0.0, settings: Mapping[str, Any] | None = None) -> Playing:
        for _ in range(max(math.ceil(seconds / self.span), LEAD + 1)):
            got = yield Want(np.zeros(self.facts.block), marks=self.leave_marks(), settings=settings)
            self.t, settings = got.start + self.span, None

    def ask(self, text: str, settings: Mapping[str, Any] | None = None) -> Playing:
        """Until a person says that it is done; `settings` is what it comes to, for a stand-in."""
        while True:
            live = {"item": self.item, "at": 0.0, "of": 1.0, "stage": "asking", "ask": text}
            got = yield Want(np.zeros(self.facts.block), marks=self.leave_marks(), live=live, settings=settings)
            self.t, settings = got.start + self.span, None
            if any(o.get("order") == "go" for o in got.orders):
                break
        self.marks.append({"kind": "asked", "t": self.t, "text": text})
        yield from self.rest()

    def sound(self, noise: Callable[[int], Floats], volts: float, seconds: float, words: str) -> Playing:
        """`seconds` of what `noise` gives, of rms 1, at volts rms; heard afterwards in `self.heard` by role."""
        count = math.ceil(seconds / self.span)
        fade = max(int(FADE * self.facts.rate), 1)
        whole = noise(count * self.facts.block)
        whole = whole / float(np.sqrt(np.mean(whole**2)))  # a short noise is not of rms 1 by itself
        ramp = np.clip((np.arange(whole.size) + 1) / fade, 0, 1)
        self.sent = volts * whole * ramp * ramp[::-1]
        blocks = self.sent.reshape(count, self.facts.block)
        self.heard = {}
        live = {"item": self.item, "of": count * self.span, "shown": {"Now": words}}
        tail = [np.zeros(self.facts.block)] * (LEAD + math.ceil(TAIL / self.span))
        self.began = self.t + LEAD * self.span
        for i, x in enumerate([*blocks, *tail]):
            got = yield Want(x, marks=self.leave_marks(), live={**live, "at": min(i, count) * self.span})
            self.t = got.start + self.span
            for role, heard in got.channels.items():
                self.heard.setdefault(role, []).append(heard)
        self.ended = self.began + count * self.span

    def level(self, role: str, scale: float) -> float:
        """rms in a role of what was just heard, silence around it left out."""
        return self._loud(np.concatenate(self.heard[role]) * scale)

    def _loud(self, x: Floats) -> float:
        power = np.convolve(x * x, np.ones(self.facts.block) / self.facts.block, "valid")
        loud = power[power > 0.05 * power.max()] if power.size and power.max() > 0 else np.zeros(1)
        return float(np.sqrt(np.mean(loud)))

    def find(self, noise: Callable[[int], Floats], role: str, scale: float, wanted: float, what: str) -> Playing:
        """How the source reaches the stimulus, at a low level; `wrong` says what is in the way of the one wanted."""
        low = TRY * self.facts.source_range
        yield from self.sound(noise, low, TRY_FOR, "finding the level")
        found = self.level(role, scale) * low / max(self._loud(np.pad(self.sent, self.facts.block)), 1e-12)
        quiet = float(np.sqrt(np.mean((np.concatenate(self.heard[role])[: self.facts.block] * scale) ** 2)))
        self.gain = found / low if found > max(3 * quiet, LEAST * low) else 0.0
        if self.gain <= 0:
            self.wrong = f"nothing arrives at the {role}: is the {what} on"
        elif wanted / self.gain * PEAKS > 0.98 * self.facts.source_range:
            most = 0.98 * self.facts.source_range * self.gain / PEAKS
            self.wrong = f"its level is beyond the source, which reaches {most:.3g} with its peaks"
        else:
            self.wrong = ""

    def refuse(self, title: str, role: str) -> Playing:
        """End what can't be played, with its reason."""
        yield Want(np.zeros(self.facts.block), trip={
            "guard": "drive", "label": f"{title}: {self.wrong}", "channel": role, "value": 0.0,
            "limit": self.facts.source_range, "unit": "V", "action": "ease",
        })  # fmt: skip

    def done(self, kind: str, **more: Any) -> None:
        """Mark what was just played."""
        self.marks.append({"kind": kind, "t": self.began, "start": self.began, "stop": self.ended, **more})
        self.item += 1


def noise_of(low: float, high: float, facts: Facts, seed: int) -> Callable[[int], Floats]:
    """Pink noise of rms 1. Raises BadInput for a band that the bench does not reach."""
    if high > 0.45 * facts.rate:
        raise BadInput(f"play: a bench at {facts.rate:g} Hz plays up to {0.45 * facts.rate:.0f} Hz: lower it.")
    return Programme("pink", low, high, [], PEAKS, facts.rate, seed).next


def tone_of(frequency: float, facts: Facts) -> Callable[[int], Floats]:
    """A sine of rms 1."""
    return lambda n: np.sqrt(2) * np.sin(2 * np.pi * frequency * np.arange(n) / facts.rate)
