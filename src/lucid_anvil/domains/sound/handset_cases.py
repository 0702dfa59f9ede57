"""One case of a handset's requirements: response, rating, noise, distortion, delay (ITU-T P.79, P.64)."""

from __future__ import annotations

import math
from collections.abc import Mapping, Sequence
from typing import Annotated, Any, Literal

import numpy as np
from pydantic import Field, field_validator, model_validator

from ...contracts.finding import Curve, Finding
from ...contracts.method import Axis, BenchFacts, CourseItem, Facts, Performance, record_of
from ...contracts.recording import Channel, Floats
from ...contracts.samples import Readings, listed, points, samples_in, together
from ...contracts.settings import Flag, Model, Seconds, quantity
from ...contracts.sketch import line
from ...core.audio import handset, worn
from ...core.audio.distortion import analyse, fundamental
from ...core.audio.noise import measure
from ...core.errors import BadInput
from ...core.quantities import parse, same_kind, split
from .shared import PRESSURE, SoundMethod, SoundSettings, decibel, overloaded, pressure

KEYS = {
    "loudness_rating": ("Loudness rating", "dB"),
    "mask_margin": ("Margin to the mask", "dB"),
    "shift": ("Shift of the floating mask", "dB"),
    "delay": ("Delay", "ms"),
    "noise": ("Noise, A-weighted", "dB"),
    "sinad": ("Signal to noise and distortion", "dB"),
}
FINE = 15
"""Bands an octave of the curve: a multiple of three, so that thirds' middles are among its own"""
BANDS = {"narrow": (100.0, 4000.0), "wide": (100.0, 8000.0)}
HEARD, LATE = 0.3, 0.5
"""s that are heard after what was played, and s after its begin from which it is steady"""
CURVES = ("sending", "receiving", "sidetone")


class Mask(Model):
    """Lines between which the response must lie."""

    low: list[list[Any]] | None = None
    """Rows of [Hz, dB], rising"""
    high: list[list[Any]] | None = None
    floating: Flag = False
    """Whether the mask is shifted to where it fits best"""

    @model_validator(mode="after")
    def _rows(self) -> Mask:
        for name in ("low", "high"):
            rows = getattr(self, name)
            if rows is None:
                continue
            made = self.line(name)
            if len(made) < 2 or any(b[0] <= a[0] for a, b in zip(made, made[1:], strict=False)) or made[0][0] <= 0:
                raise ValueError(f"{name}: give two rows of [Hz, dB] at least, frequencies rising.")
        if self.low is None and self.high is None:
            raise ValueError("give a line low, high, or both.")
        return self

    def line(self, name: str) -> list[tuple[float, float]]:
        rows = getattr(self, name) or []
        if any(len(r) != 2 for r in rows):
            raise ValueError(f"{name}: each row is [Hz, dB].")
        return [(parse(f, "Hz", f"mask.{name}"), parse(v, "dB", f"mask.{name}")) for f, v in rows]


class HandsetPlay(Model):
    """What is played where a handset is there; a record knows nothing of it."""

    level: Any = "0.58 Pa"
    """rms of the stimulus: Pa at the mouth, V on the line (usual: -4.7 dB re 1 Pa, ITU-T P.64)"""
    seconds: Seconds = 6.0
    tone: Annotated[float, quantity("Hz")] = 1020.0
    """Of the distortion"""
    seed: int = 1

    @model_validator(mode="after")
    def _sensible(self) -> HandsetPlay:
        if self.wanted <= 0 or self.tone <= 0 or not 1 <= self.seconds <= 120:
            raise ValueError("level and tone must be above zero, seconds from 1 to 120.")
        return self

    @property
    def wanted(self) -> float:
        """Pa or V, whichever it was given in."""
        unit = split(self.level)[1] if isinstance(self.level, str) else ""
        return parse(self.level, "Pa" if same_kind(unit or "V", "Pa") else "V", "level")


class HandsetSettings(SoundSettings):
    """The case and its limits."""

    case: Literal["sending", "receiving", "sidetone", "idle", "distortion", "delay"] = "sending"
    band: Literal["narrow", "wide"] = "narrow"
    mask: Mask | None = None
    """{low: [[Hz, dB]], high: [[Hz, dB]], floating}"""
    stimulus_sensitivity: Any = None
    """mV/Pa, of a stimulus at the mouth that is recorded in volts"""
    response_sensitivity: Any = None
    """mV/Pa, of a response at the ear that is recorded in volts"""
    play: HandsetPlay = Field(default_factory=HandsetPlay)

    @field_validator("stimulus_sensitivity", "response_sensitivity")
    @classmethod
    def _positive(cls, value: Any) -> float | None:
        made = None if value is None else parse(value, "mV/Pa")
        if made is not None and made <= 0:
            raise ValueError("it must be above zero.")
        return made


class HandsetCases(SoundMethod):
    """The method as the registry knows it."""

    name = "handset-cases"
    title = "Handset case"
    roles = ("response",)
    optional_roles = ("stimulus",)
    about = "Whether a handset keeps one case of its requirement"
    sketch = (line(lambda x: 0.15 + 0.5 * math.exp(-(((x - 0.5) / 0.32) ** 4))),
              line(lambda x: 0.85 if 0.1 < x < 0.9 else 0.35), line(lambda x: 0.45 if 0.25 < x < 0.75 else 0.05))
    reads_only = False
    kinds = ("pressure",)
    usual = {"case": "sending", "play": {"level": "0.58 Pa", "seconds": "6 s"}}
    walk_round = (
        {"key": "simulators", "text": "Mouth and ear simulator calibrated today, set up as then"},
        {"key": "handset", "text": "Handset in its place, its call up"},
    )
    told = ("played",)
    orders = ()
    alike = ("case", "band")
    Settings = HandsetSettings
    readings = listed(KEYS)
    curves = {"response": "Response [dB re 1 V/Pa, 1 Pa/V or 1] over Hz"}
    views = (Axis("response", "Response", ("response", "mask_low", "mask_high"), "Hz", "dB", x_log=True),)

    def evaluate(
        self, record: Mapping[str, Channel], settings: HandsetSettings, marks: Sequence[Mapping[str, Any]]
    ) -> Finding:
        held = record_of(record, settings)
        if settings.mask is not None:  # a mask is a limit by itself
            limits = {"mask_margin": {"low": "0 dB"}, **settings.limits}
            settings = settings.model_copy(update={"limits": limits})
        made = Readings(KEYS, settings)
        if settings.case != "idle" and "stimulus" not in held:
            raise BadInput(f"there is no stimulus: the case {settings.case} needs one.")
        there = tuple(r for r in ("stimulus", "response") if r in held)
        rate, n = together(held, there)
        if n < 64:
            raise BadInput(f"the record has {n} samples: at least 64 are needed.")
        y, own = _signal(held, "response", settings.response_sensitivity)
        played = next((m for m in marks if m.get("kind") == "played"), None)
        a = 0 if played is None else int(played["start"] * rate)
        b = n if played is None else min(int((played["stop"] + HEARD) * rate), n)
        if played is not None and settings.case in ("idle", "distortion"):
            # What rises and fades at its ends, and comes late, is none of a steady tone or of silence.
            a, b = min(int((played["start"] + LATE) * rate), n), min(int((played["stop"] - 0.1) * rate), n)
        y, n = y[a:b], b - a
        why = overloaded(held, settings, there)
        if not why and not np.any(y - y.mean()):
            why = None if settings.case == "idle" else "there is nothing in the response"
        if why:
            for key in KEYS:
                made.put(key, None, why=why, valid=False)
            return Finding(self.name, made.all(), notes=(why,))
        stated = settings.level_uncertainty
        notes = [] if stated is not None else ["No level_uncertainty is given: levels have no doubt here."]
        curves: list[Curve] = []
        low, high = BANDS[settings.band]
        if settings.case == "idle":
            level = measure(y[:n], rate, (low, min(high, rate / 2)), "A")
            reference = PRESSURE if own == "Pa" else 1.0
            if level.rms > 0:
                scatter = 20 * np.log10(1 + level.doubt / level.rms)
                made.put("noise", float(20 * np.log10(level.rms / reference)), float(np.hypot(scatter, stated or 0.0)))
                notes.append("Noise is given re " + ("20 µPa." if own == "Pa" else "1 V."))
            else:
                made.put("noise", None, why="the response is silent to the last digit")
        elif settings.case == "distortion":
            _distortion(made, y[:n], rate, (low, min(high, rate / 2)))
        if "stimulus" in held:
            x, other = _signal(held, "stimulus", settings.stimulus_sensitivity)
            curves = _against(made, x[a:b], y[:n], rate, (other, own), settings)
        rest = {k: "it is not of this case" for k in KEYS if k not in made.made}
        for key, reason in rest.items():
            made.put(key, None, why=reason)
        return Finding(self.name, made.all(), tuple(curves), notes=tuple(notes))


    # --- running ---------------------------------------------------------------------------------------------

    def course(self, settings: HandsetSettings) -> list[CourseItem]:
        what = {"idle": "Silence", "distortion": f"{settings.play.tone:g} Hz, {settings.play.level}"}
        return [CourseItem(what.get(settings.case, f"Noise, {settings.play.level}"), settings.play.seconds + 2.0)]

    def perform(self, settings: HandsetSettings, facts: Facts, start: Mapping[str, Any] | None = None) -> Performance:
        from .handset_run import perform

        mouth = any(i.role == "stimulus" and i.unit == "Pa" for i in facts.inputs)
        given = str(settings.play.level)
        if settings.case != "idle" and same_kind(split(given)[1] or "V", "Pa") != mouth:
            where = "the mouth, in Pa" if mouth else "the line, in V"
            raise BadInput(f"play: this bench drives {where}: give the level so, not as {given}.")
        return perform(settings, facts)

    def fill(self, given: dict[str, Any], bench: BenchFacts) -> dict[str, Any]:
        made = super().fill(given, bench)
        for role in ("stimulus", "response"):
            if role in bench.sensitivity:
                made.setdefault(f"{role}_sensitivity", f"{1e3 * bench.sensitivity[role]!r} mV/Pa")
        return made


METHOD = HandsetCases()


def _signal(held: Mapping[str, Channel], role: str, sensitivity: Any) -> tuple[Floats, str]:
    """Samples and their unit, Pa or V. Raises BadInput."""
    unit = held[role].unit or "V"
    if sensitivity is not None or same_kind(unit, "Pa"):
        return pressure(held, role, sensitivity), "Pa"
    return samples_in(held, role, "V"), "V"


def _distortion(made: Readings, y: Floats, rate: float, band: tuple[float, float]) -> None:
    tone = fundamental(y, rate, None, band)
    if tone is None:
        made.put("sinad", None, why="there is no tone in the response", valid=False)
        return
    try:
        found = analyse(y, rate, tone, band)
    except ValueError:
        made.put("sinad", None, why="the record is too short", valid=False)
        return
    if found.total <= 0:
        made.put("sinad", None, why="there is nothing beside the tone")
        return
    doubt = 20 * float(np.log10(1 + found.total_doubt / found.total))
    made.put("sinad", float(-20 * np.log10(found.total)), doubt)


def _against(
    made: Readings, x: Floats, y: Floats, rate: float, units: tuple[str, str], settings: HandsetSettings
) -> list[Curve]:
    """Delay in every case; the curve with mask and rating where the case has one."""
    late, match = handset.lag(x, y, rate)
    if match > 0.05:
        made.put("delay", 1e3 * late, 1e3 / rate)
    else:
        made.put("delay", None, why="the response does not follow the stimulus", valid=settings.case != "delay")
    if settings.case not in CURVES:
        return []
    shift = int(round(late * rate)) if match > 0.05 else 0
    a, b = (x[: x.size - shift], y[shift:]) if shift >= 0 else (x[-shift:], y[:shift])
    mid = worn.usable(rate, 100.0, min(BANDS[settings.band][1], 0.46 * rate), FINE)
    f, h, power = worn.transfer(a, b, rate)
    level = decibel(worn.smoothed(f, h, power, mid, FINE))
    there = np.isfinite(level)
    f_mid, y_mid = mid[there], level[there]
    stated = settings.level_uncertainty
    doubt = None if stated is None else (stated,) * int(there.sum())
    unit = "dB"
    curves = [Curve("response", f"Response, {units[1]}/{units[0]}", points(f_mid), points(y_mid), "Hz", unit, doubt,
                    None if doubt is None else 2.0)]  # fmt: skip
    _rating(made, f, h, power, rate, settings, stated)
    curves += _mask(made, f_mid, y_mid, settings, stated)
    return curves


def _rating(
    made: Readings, f: Floats, h: Any, power: Floats, rate: float, settings: HandsetSettings, stated: float | None
) -> None:
    if settings.case == "sidetone" or settings.band != "narrow":
        made.put("loudness_rating", None, why="it is given for sending and receiving in narrow band")
        return
    thirds = worn.usable(rate, handset.LOWEST, handset.HIGHEST, 3)
    held = decibel(worn.smoothed(f, h, power, thirds, 3))
    if thirds.size < len(handset.WEIGHTS[settings.case]) or not np.isfinite(held).all():
        made.put("loudness_rating", None, why="the record does not hold all thirds from 200 Hz to 4 kHz")
        return
    made.put("loudness_rating", handset.loudness_rating(held, settings.case), stated)


def _mask(made: Readings, f: Floats, level: Floats, settings: HandsetSettings, stated: float | None) -> list[Curve]:
    mask = settings.mask
    if mask is None:
        made.absent(("mask_margin", "shift"), "there is no mask")
        return []
    rows = {name: mask.line(name) for name in ("low", "high")}
    low, high = (
        handset.margins(f, level, rows[name], name == "high") if rows[name] else np.full(f.size, np.nan)
        for name in ("low", "high")
    )
    if not (np.isfinite(low).any() or np.isfinite(high).any()):
        made.absent(("mask_margin", "shift"), "the response has no point within the mask's own")
        return []
    shift = handset.floated(low, high) if mask.floating else 0.0
    if mask.floating and rows["low"] and rows["high"]:
        made.put("shift", shift, None)
    else:
        made.put(
            "shift", None, why="the mask does not float" if not mask.floating else "a mask of one line can't float"
        )
    # The lines go up with the shift: the lower margin shrinks by it, the upper one grows.
    margin = float(np.nanmin(np.concatenate([low - shift, high + shift])))
    made.put("mask_margin", margin, stated)
    curves = []
    for name in ("low", "high"):
        if rows[name]:
            x, y = zip(*rows[name], strict=True)
            label = f"Mask, {'lower' if name == 'low' else 'upper'}"
            curves.append(Curve(f"mask_{name}", label, points(x), points(np.array(y) + shift), "Hz", "dB"))
    return curves
