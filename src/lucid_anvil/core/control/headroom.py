"""Whether a profile fits a shaker: stroke, velocity, force, current, voltage, frequency range."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from ..figures import fitting, significant
from ..shaker import Capability, Shaker
from ..signal.sinefit import Floats
from .randomprofile import RandomProfile
from .sineprofile import SineProfile


@dataclass(frozen=True)
class Exceeded:
    """How one limit is used."""

    name: str
    used: float
    """share of the limit"""
    value: float
    limit: float
    unit: str
    frequency: float | None
    """Hz, where it is worst; None for an rms quantity"""

    @property
    def sentence(self) -> str:
        """What is used, where, and of how much."""
        where = f" at {self.frequency:.4g} Hz" if self.frequency else ""
        share = f"{100 * self.used:.0f} %"
        scale, unit = fitting(self.limit, self.unit)
        used, limit = significant(scale * self.value, 3), significant(scale * self.limit, 3)
        return f"{self.name}{where}: {used} {unit} of {limit} {unit} ({share})"


@dataclass(frozen=True)
class Headroom:
    """All limits, the most used first, and the share of the level at which all of them fit."""

    limits: tuple[Exceeded, ...]

    @property
    def fits(self) -> bool:
        return all(x.used <= 1 for x in self.limits)

    @property
    def level_db(self) -> float:
        """dB re the profile at which the worst limit is just met (range limits set aside)."""
        used = [x.used for x in self.limits if x.name != "Frequency range"]
        return float(-20 * np.log10(max(used)))


def _ordered(rows: list[Exceeded]) -> Headroom:
    return Headroom(tuple(sorted(rows, key=lambda x: -x.used)))


def of_sine(profile: SineProfile, shaker: Shaker, limits: Capability, band: tuple[float, float] | None = None,
            per_volt: Floats | None = None, at: Floats | None = None) -> Headroom:  # fmt: skip
    """A sine profile on a shaker. `per_volt` (4, n) at `at` [Hz]: a measured response instead of the model's,
    rows acceleration, current, displacement, coil voltage per volt at the source."""
    f = profile.grid(48) if at is None else np.asarray(at)
    f = f[(f >= profile.start) & (f <= profile.stop)] if at is not None else f
    a = profile.acceleration(f)
    w = 2 * np.pi * f
    if per_volt is None:
        per_volt = np.abs(shaker.response(f))
    volts = a / np.maximum(per_volt[0], 1e-30)
    rows = []
    for name, value, limit, unit in (
        ("Stroke", 2 * a / w**2, limits.stroke, "m"),
        ("Velocity", a / w, limits.velocity, "m/s"),
        ("Force", a * shaker.moving_mass, limits.force, "N"),
        ("Coil current", volts * per_volt[1], limits.current, "A"),
        ("Amplifier voltage", volts * per_volt[3], limits.voltage, "V"),
        ("Drive", volts, limits.source_voltage, "V"),
        ("Acceleration", a, limits.acceleration, "m/s²"),
    ):
        worst = int(np.argmax(value))
        rows.append(Exceeded(name, float(value[worst]) / limit, float(value[worst]), limit, unit, float(f[worst])))
    return _ordered(rows + _range(profile.start, profile.stop, band))


def of_random(profile: RandomProfile, shaker: Shaker, limits: Capability, band: tuple[float, float] | None = None,
              crest: float = 3.0) -> Headroom:  # fmt: skip
    """A random profile: peaks taken as `crest` times the rms (IEC 60068-2-64, drive clipping), currents as rms
    against a peak limit over √2."""
    f = profile.grid(48)
    s = profile.density(f)
    per_volt = np.abs(shaker.response(f))
    volts = s / np.maximum(per_volt[0], 1e-30) ** 2

    def rms(x: Floats) -> float:
        return float(np.sqrt(np.trapezoid(x, f)))

    rows = []
    for name, value, limit, unit in (
        ("Stroke", 2 * crest * profile.rms("displacement"), limits.stroke, "m"),
        ("Velocity", crest * profile.rms("velocity"), limits.velocity, "m/s"),
        ("Force", profile.rms() * shaker.moving_mass * np.sqrt(2), limits.force, "N"),
        ("Coil current", crest * rms(volts * per_volt[1] ** 2), limits.current, "A"),
        ("Amplifier voltage", crest * rms(volts * per_volt[3] ** 2), limits.voltage, "V"),
        ("Drive", crest * rms(volts), limits.source_voltage, "V"),
        ("Acceleration", crest * profile.rms(), limits.acceleration, "m/s²"),
    ):
        rows.append(Exceeded(name, float(value) / limit, float(value), limit, unit, None))
    return _ordered(rows + _range(profile.start, profile.stop, band))


def _range(start: float, stop: float, band: tuple[float, float] | None) -> list[Exceeded]:
    if band is None:
        return []
    rows = []
    if start < band[0]:
        rows.append(Exceeded("Frequency range", band[0] / start, start, band[0], "Hz", start))
    if stop > band[1]:
        rows.append(Exceeded("Frequency range", stop / band[1], stop, band[1], "Hz", stop))
    return rows
