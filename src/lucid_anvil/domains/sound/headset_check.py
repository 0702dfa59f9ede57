"""Both sides of a headset on couplers: level, difference, polarity, attenuation (IEC 60268-7; terms of ISO 4869-1)."""

from __future__ import annotations

import math
from collections.abc import Mapping, Sequence
from typing import Annotated, Any, Literal

import numpy as np
from pydantic import Field, model_validator

from ...contracts.finding import Curve, Finding
from ...contracts.method import Axis, BenchFacts, CourseItem, Facts, Performance, record_of
from ...contracts.recording import Channel, Floats
from ...contracts.samples import Readings, listed, points, samples_in, together
from ...contracts.settings import Model, Seconds, quantity
from ...contracts.sketch import line
from ...core.audio import worn
from ...core.audio.driver import power_mean
from ...core.audio.excitation import arrival
from ...core.errors import BadInput
from .shared import PRESSURE, Band, SoundMethod, SoundSettings, decibel, overloaded, pressure

KEYS = {
    "sensitivity_left": ("Sensitivity, left", "dB"),
    "sensitivity_right": ("Sensitivity, right", "dB"),
    "difference_max": ("Left less right, largest", "dB"),
    "polarity_left": ("Polarity, left", ""),
    "polarity_right": ("Polarity, right", ""),
    "passive": ("Attenuation, passive", "dB"),
    "active": ("Attenuation, active", "dB"),
}
SIDES = ("left", "right")
FINE = 24


class State(Model):
    """A stretch of the record in which the headset is worn, or not."""

    state: Literal["open", "worn", "active"]
    start: Annotated[float, quantity("s")]
    stop: Annotated[float, quantity("s")]

    @model_validator(mode="after")
    def _ordered(self) -> State:
        if not 0 <= self.start < self.stop:
            raise ValueError("stop must come after start.")
        return self


class HeadsetPlay(Model):
    """What is played where a headset is there; a record knows nothing of it."""

    model_config = {**Model.model_config, "populate_by_name": True}
    level: Annotated[float, quantity("V")] = 0.2
    """rms at its terminals"""
    low: Annotated[float, quantity("Hz")] = Field(50.0, alias="from")
    high: Annotated[float, quantity("Hz")] = Field(12e3, alias="to")
    seconds: Seconds = 5.0
    """Of each noise"""
    attenuation: Literal["none", "passive", "active"] = "none"
    """Whether it is held against a noise around it too: worn, or worn and with its own cancelling"""
    field: Annotated[float, quantity("V")] = 0.2
    """rms at the source for the loudspeakers of the field"""
    seed: int = 1

    @model_validator(mode="after")
    def _sensible(self) -> HeadsetPlay:
        if min(self.level, self.field) <= 0 or not 0 < self.low < self.high or not 1 <= self.seconds <= 120:
            raise ValueError("level and field must be above zero, from below to, seconds from 1 to 120.")
        return self


class HeadsetSettings(SoundSettings):
    """Channels, bands and states."""

    left_sensitivity: Any = None
    """mV/Pa, of a microphone that is recorded in volts"""
    right_sensitivity: Any = None
    outside_sensitivity: Any = None
    band: Band = Field(default_factory=lambda: Band.between(100.0, 8e3))
    """{from, to} of sensitivity and attenuation"""
    difference_band: Band | None = None
    """{from, to}; the band itself when missing"""
    states: list[State] = Field(default_factory=list)
    """{state: open, worn or active, start, stop}"""
    play: HeadsetPlay = Field(default_factory=lambda: HeadsetPlay.model_validate({}))


class HeadsetCheck(SoundMethod):
    """The method as the registry knows it."""

    name = "headset-check"
    title = "Headset check"
    roles = SIDES
    optional_roles = ("stimulus", "outside")
    about = "Whether both sides of a headset are alike and loud enough, and what it keeps out"
    sketch = (line(lambda x: 0.62 + 0.2 * math.sin(5 * x) - 0.4 * x**6),
              line(lambda x: 0.56 + 0.2 * math.sin(5 * x + 0.3) - 0.4 * x**6))
    reads_only = False
    kinds = ("pressure",)
    usual = {"play": {"level": "0.2 V", "seconds": "5 s"}}
    walk_round = (
        {"key": "couplers", "text": "Both couplers calibrated today, their seals whole"},
        {"key": "ears", "text": "Nobody near the field's loudspeakers without ear protection"},
    )
    told = ("played",)
    orders = ()
    Settings = HeadsetSettings
    readings = listed(KEYS)
    curves = {
        "left": "Level for 1 V [dB re 20 µPa] over Hz", "right": "Level for 1 V [dB re 20 µPa] over Hz",
        "difference": "Left less right [dB]", "attenuation_passive": "Open less worn [dB] over thirds of an octave",
        "attenuation_active": "Worn less active [dB] over thirds of an octave",
    }  # fmt: skip
    views = (
        Axis("level", "Level", SIDES, "Hz", "dB", x_log=True),
        Axis("difference", "Difference", ("difference",), "Hz", "dB", x_log=True),
        Axis("attenuation", "Attenuation", ("attenuation_passive", "attenuation_active"), "Hz", "dB", x_log=True),
    )

    def evaluate(
        self, record: Mapping[str, Channel], settings: HeadsetSettings, marks: Sequence[Mapping[str, Any]]
    ) -> Finding:
        held = record_of(record, settings)
        more = [r for r in ("stimulus", "outside") if r in held]
        rate, n = together(held, (*SIDES, *more))
        if n < 64:
            raise BadInput(f"the record has {n} samples: at least 64 are needed.")
        x = {
            r: pressure(held, r, getattr(settings, f"{r}_sensitivity"))[:n] for r in (*SIDES, *more) if r != "stimulus"
        }
        made = Readings(KEYS, settings)
        played = next((m for m in marks if m.get("kind") == "played"), None)
        own = [{"state": m["state"], "start": m["start"], "stop": m["stop"]} for m in marks if m.get("kind") == "state"]
        if played is not None and not settings.states:  # in a take of ours the marks say what was when
            settings = settings.model_copy(update={"states": [State.model_validate(s) for s in own]})
        why = overloaded(held, settings, (*SIDES, *more))
        if why:
            for key in KEYS:
                made.put(key, None, why=why, valid=False)
            return Finding(self.name, made.all(), notes=(why,))
        for i, state in enumerate(settings.states, start=1):
            if state.stop > n / rate + 1.5 / rate:
                raise BadInput(f"states, {i}: the record ends at {n / rate:g} s, before {state.stop:g} s.")
        notes, curves = [], []
        if "stimulus" in held:
            stimulus = samples_in(held, "stimulus", "V")[:n]
            between = _free(settings.states, rate, n)
            if played is not None:
                between = (int(played["start"] * rate), min(int((played["stop"] + 0.1) * rate), n))
            curves += _played(made, x, stimulus, rate, settings, between)
        else:
            made.absent([k for k in KEYS if k not in ("passive", "active")], "there is no stimulus")
        curves += _kept_out(made, x, rate, settings)
        if settings.level_uncertainty is None:
            notes.append("No level_uncertainty is given: levels have no doubt here.")
        return Finding(self.name, made.all(), tuple(curves), notes=tuple(notes))


    # --- running ---------------------------------------------------------------------------------------------

    def course(self, settings: HeadsetSettings) -> list[CourseItem]:
        from .headset_run import states

        seconds = settings.play.seconds
        made = [CourseItem(f"Both sides, {settings.play.level:g} V", seconds + 1.5)]
        return made + [CourseItem(f"Field, {state}", seconds + 0.5) for state in states(settings)]

    def perform(self, settings: HeadsetSettings, facts: Facts, start: Mapping[str, Any] | None = None) -> Performance:
        from .headset_run import perform

        return perform(settings, facts)

    def fill(self, given: dict[str, Any], bench: BenchFacts) -> dict[str, Any]:
        made = super().fill(given, bench)
        for role in (*SIDES, "outside"):
            if role in bench.sensitivity:
                made.setdefault(f"{role}_sensitivity", f"{1e3 * bench.sensitivity[role]!r} mV/Pa")
        return made


METHOD = HeadsetCheck()


def _free(states: Sequence[State], rate: float, n: int) -> tuple[int, int]:
    """The longest stretch outside all states, where half a second of it is left; else all of the record."""
    taken = np.zeros(n, dtype=bool)
    for s in states:
        taken[int(s.start * rate) : int(s.stop * rate)] = True
    edges = np.flatnonzero(np.diff(np.concatenate([[True], taken, [True]]).astype(int)))
    spans = list(zip(edges[::2], edges[1::2], strict=True))
    a, b = max(spans, key=lambda s: s[1] - s[0], default=(0, n))
    return (int(a), int(b)) if (b - a) / rate >= 0.5 else (0, n)


def _played(
    made: Readings, x: Mapping[str, Floats], stimulus: Floats, rate: float, settings: HeadsetSettings,
    between: tuple[int, int],
) -> list[Curve]:  # fmt: skip
    a, b = between
    if not np.any(stimulus[a:b]):
        made.absent([k for k in KEYS if k not in ("passive", "active")], "there is nothing in the stimulus")
        return []
    mid = worn.usable(rate, 20.0, 0.46 * rate, FINE)
    level: dict[str, Floats] = {}
    stated = settings.level_uncertainty
    curves = []
    for side in SIDES:
        f, h, power = worn.transfer(stimulus[a:b], x[side][a:b], rate)
        level[side] = decibel(worn.smoothed(f, h, power, mid, FINE) / PRESSURE)
        there = np.isfinite(level[side])
        doubt = None if stated is None else (stated,) * int(there.sum())
        curves.append(Curve(side, side.capitalize(), points(mid[there]), points(level[side][there]), "Hz", "dB",
                            doubt, None if doubt is None else 2.0))  # fmt: skip
        mean = power_mean(mid, level[side], settings.band.low, settings.band.high)
        made.put(f"sensitivity_{side}", mean, stated, "the stimulus does not fill the band")
        _, sign = arrival(worn.impulse(f, h, power), rate)
        made.put(f"polarity_{side}", float(sign), 0.0)
    difference = level["left"] - level["right"]
    there = np.isfinite(difference)
    curves.append(Curve("difference", "Left less right", points(mid[there]), points(difference[there]), "Hz", "dB"))
    band = settings.difference_band or settings.band
    inside = there & (mid >= band.low / 1.0005) & (mid <= band.high * 1.0005)
    if inside.any():
        top = int(np.argmax(np.where(inside, np.abs(np.where(there, difference, 0.0)), -1.0)))
        made.put("difference_max", float(difference[top]), None if stated is None else float(np.sqrt(2) * stated))
    else:
        made.put("difference_max", None, why="the stimulus does not reach the band")
    return curves


def _kept_out(made: Readings, x: Mapping[str, Floats], rate: float, settings: HeadsetSettings) -> list[Curve]:
    """Levels of each state in thirds of an octave, relative to those outside where there is such a channel."""
    states = {s.state: s for s in settings.states}
    mid = worn.usable(rate, settings.band.low, settings.band.high, 3)
    sides: dict[str, Floats] = {}
    for name, s in states.items():
        part = slice(int(round(s.start * rate)), int(round(s.stop * rate)))
        power = worn.band_powers(np.array([x[side][part] for side in SIDES]), rate, mid, 3)
        if "outside" in x:
            power = power / np.maximum(worn.band_powers(x["outside"][part], rate, mid, 3), 1e-300)
        sides[name] = power
    curves = []
    stated = settings.level_uncertainty
    for key, before, after in (("passive", "open", "worn"), ("active", "worn", "active")):
        if before not in sides or after not in sides:
            made.put(key, None, why=f"there is no state {before if before not in sides else after}")
            continue
        with np.errstate(divide="ignore", invalid="ignore"):
            whole = 10 * np.log10(sides[before].sum(axis=1) / sides[after].sum(axis=1))
            thirds = 10 * np.log10(sides[before] / sides[after]).mean(axis=0)
        made.put(key, float(whole.mean()), None if stated is None else float(np.sqrt(2) * stated))
        label = "Open less worn" if key == "passive" else "Worn less active"
        curves.append(Curve(f"attenuation_{key}", label, points(mid), points(thirds), "Hz", "dB"))
    return curves
