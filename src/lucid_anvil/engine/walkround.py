"""The walk-round: checks in the order of the bench, sensed where they can be, signed where they can't."""

from __future__ import annotations

import datetime
from collections.abc import Mapping
from dataclasses import dataclass, field
from typing import Any

import numpy as np

from ..contracts.check import Looked
from ..contracts.registry import check_kind
from ..core.signal.sinefit import Floats
from ..lab.identity import judged
from ..lab.plans import SENSED, Check
from ..protocol.messages import CheckState
from ..rig.device import INTERLOCKS
from ..rig.model import MEASURED
from .guards import BIAS_WINDOW
from .preparing import Prepared

NOISE_WANTED_DB = 40.0
"""dB of the smallest planned level over the noise floor."""
DEVICES = ("frame", "frame_phase")
"""Roles in a plan of what settings rest on and is no channel's sensor"""
RANGE_SHARE = (0.005, 0.8)
"""Share of an input's range that the planned levels should use: below it is wasted, above it may overload."""


@dataclass
class Sensed:
    """What the bench shows while nothing is driven."""

    bias: dict[str, float] = field(default_factory=dict)
    rms: dict[str, float] = field(default_factory=dict)
    """V"""
    mean: dict[str, float] = field(default_factory=dict)
    """V"""
    seen: dict[str, tuple[float, float]] = field(default_factory=dict)
    """V, least and most of each mean"""
    temperature: float = float("nan")
    interlock: int = 0
    instruments: Mapping[str, Any] | None = None
    trouble: str | None = None
    sheets: dict[str, str] | None = None
    """Memories (hex) of the sensors that carry a data sheet; None before they were read."""
    today: datetime.date = field(default_factory=datetime.date.today)

    def learn(
        self, channels: Mapping[str, Floats], bias: Mapping[str, float], temperature: float, interlock: int = 0
    ) -> None:
        """Take in one block; the rms is averaged over about ten blocks."""
        self.interlock = interlock
        self.temperature = temperature
        self.bias = dict(bias)
        for role, x in channels.items():
            now = float(np.std(x))
            stands = float(np.mean(x))
            self.mean[role] = stands if role not in self.mean else 0.7 * self.mean[role] + 0.3 * stands
            low, high = self.seen.get(role, (stands, stands))
            self.seen[role] = min(low, self.mean[role]), max(high, self.mean[role])
            self.rms[role] = now if role not in self.rms else 0.9 * self.rms[role] + 0.1 * now


class WalkRound:
    """All checks of a plan and where each stands."""

    def __init__(self, prepared: Prepared) -> None:
        self.prepared = prepared
        self.signed: dict[str, str] = {}
        self.levels: tuple[float, float] = prepared.method.levels(prepared.settings)
        """Smallest and largest planned level [m/s² peak]"""
        self.watched = [r for r in ("reference", "unit") if r in prepared.facts.sensitivity]
        self.watched = self.watched or prepared.control().get("roles", [])

    def sign(self, key: str, by: str) -> bool:
        """A person signs; only checks that can't be sensed take a signature."""
        for check in self.prepared.plan.walk_round:
            if check.key == key and not self._sensed(check) and by.strip():
                self.signed[key] = by.strip()
                return True
        return False

    def states(self, seen: Sensed) -> list[CheckState]:
        """Each check with why it is done or not."""
        made = []
        for check in self.prepared.plan.walk_round:
            if not self._sensed(check):
                by = self.signed.get(check.key)
                what = "sign when you have done it" if check.sense is None else "not read here: look, and sign"
                why = f"signed by {by}" if by else what
                made.append(CheckState(check.key, check.text, "signed", by is not None, why, by))
            else:
                done, why = self._sense(check, seen)
                made.append(CheckState(check.key, check.text, "sensed", done, why))
        return made

    def _sensed(self, check: Check) -> bool:
        """Whether something tells it. A front end that reads no interlocks would call them all well."""
        return check.sense is not None and (check.sense != "interlocks" or self.prepared.rig.is_standin)

    def _sense(self, check: Check, seen: Sensed) -> tuple[bool, str]:
        if check.sense not in SENSED:
            return check_kind(str(check.sense))(self._looked(seen))
        return {
            "supply": self._supply,
            "reference_date": self._reference_date,
            "reference_range": self._reference_range,
            "input_range": self._input_range,
            "temperature": self._temperature,
            "noise": self._noise,
            "sensor_dates": self._sensor_dates,
            "device_dates": self._device_dates,
            "interlocks": self._interlocks,
            "identity": self._identity,
            "mains": self._mains,
            "loads": self._loads,
            "fan": self._fan,
            "meter": self._meter,
        }[check.sense or "supply"](seen)

    def _looked(self, seen: Sensed) -> Looked:
        """What a check that a domain brought along may know."""
        prepared = self.prepared
        kinds = {c.role: c.kind for c in prepared.rig.channels}
        ranges = {c.role: c.range for c in prepared.rig.channels}
        moved = {r: high - low for r, (low, high) in seen.seen.items()}
        return Looked(prepared.settings, kinds, prepared.facts.sensitivity, seen.rms, seen.mean, moved, ranges,
                      seen.bias, seen.temperature, seen.instruments, seen.trouble)  # fmt: skip

    def _supply(self, seen: Sensed) -> tuple[bool, str]:
        low, high = BIAS_WINDOW
        roles = [c.role for c in self.prepared.rig.channels if c.supply and c.kind in MEASURED]
        if not seen.bias and not seen.rms:
            return False, "waiting for the front end"
        for role in roles:
            volts = seen.bias.get(role, float("nan"))
            if not np.isfinite(volts):
                return False, f"{role}: no bias voltage is read"
            if volts >= high:
                return False, f"{role}: open, {volts:.1f} V; plug the cable in"
            if volts <= low:
                return False, f"{role}: short, {volts:.1f} V; change the cable"
        shown = ", ".join(f"{r} {seen.bias[r]:.1f} V" for r in roles)
        return True, shown or "no channel needs a supply"

    def _reference_date(self, seen: Sensed) -> tuple[bool, str]:
        reference = self.prepared.plan.sensors.get("reference")
        if reference is None or not reference.calibrated:
            return False, "the plan names no calibration of the reference; make the plan from the ledger"
        if reference.due is None:
            return True, f"{reference.serial}, calibrated {reference.calibrated}, no due date"
        due = datetime.date.fromisoformat(reference.due)
        if due < seen.today:
            return False, f"{reference.serial} was due on {reference.due}; take another reference"
        return True, f"{reference.serial}, due {reference.due}"

    def _reference_range(self, _seen: Sensed) -> tuple[bool, str]:
        response = self.prepared.settings.response()
        if response is None:
            return False, "no response of the reference is known; make the plan from the ledger"
        missing = [f for f in self.prepared.settings.frequencies() if not response.covers(f)]
        if missing:
            return False, f"{missing[0]:g} Hz is not covered; the certificate ends there, narrow the course"
        if len(response.frequencies) == 1:
            return True, "one sensitivity for every frequency"
        return True, f"{response.frequencies[0]:g} Hz to {response.frequencies[-1]:g} Hz"

    def _input_range(self, seen: Sensed) -> tuple[bool, str]:
        _, highest = self.levels
        said = []
        for part in self.prepared.rig.channels:
            if part.kind != "acceleration" or part.role not in self.watched:
                continue
            peak = highest * self.prepared.facts.sensitivity[part.role]
            share = peak / part.range
            if share > RANGE_SHARE[1]:
                return False, (f"{part.role}: {peak:.2g} V expected in a range of {part.range:g} V; take a wider range")
            if share < RANGE_SHARE[0]:
                return False, f"{part.role}: only {100 * share:.2g} % of {part.range:g} V used; take a narrower range"
            said.append(f"{part.role} {-20 * np.log10(share):.0f} dB headroom")
        return True, ", ".join(said)

    def _sensor_dates(self, seen: Sensed) -> tuple[bool, str]:
        sensors = {r: s for r, s in self.prepared.plan.sensors.items() if r in self.prepared.facts.sensitivity}
        missing = [r for r in self.watched if r not in sensors]
        if missing:
            return False, f"{missing[0]}: the plan names no sensor for it; make the plan from the ledger"
        for role, sensor in sensors.items():
            if sensor.due is not None and datetime.date.fromisoformat(sensor.due) < seen.today:
                return False, f"{role}: {sensor.serial} was due on {sensor.due}; take another sensor"
        return True, ", ".join(f"{s.serial} to {s.due[:7]}" for s in sensors.values() if s.due) or "no due dates"

    def _device_dates(self, seen: Sensed) -> tuple[bool, str]:
        """Of what settings rest on and is no channel's sensor."""
        held = {r: s for r, s in self.prepared.plan.sensors.items() if r in DEVICES}
        for sensor in held.values():
            if sensor.due is not None and datetime.date.fromisoformat(sensor.due) < seen.today:
                return False, f"{sensor.serial} was due on {sensor.due}; measure it anew with a blank"
        return True, ", ".join(f"{s.serial} of {s.calibrated}" for s in held.values()) or "nothing is known of it"

    def _interlocks(self, seen: Sensed) -> tuple[bool, str]:
        if not seen.bias and not seen.rms:
            return False, "waiting for the front end"
        off = [n for i, n in enumerate(INTERLOCKS) if seen.interlock >> i & 1]
        if off:
            return False, f"{off[0]} is not well; see to it at the amplifier"
        return True, "door and emergency stop well" if self.prepared.rig.framed else "all three well"

    def _identity(self, seen: Sensed) -> tuple[bool, str]:
        if seen.sheets is None:
            return False, "waiting for the front end"
        sensors = self.prepared.plan.sensors
        for role, memory in seen.sheets.items():
            said = judged(role, memory, sensors.get(role), sensors.values())
            if said:
                return False, said
        count = len(seen.sheets)
        return True, f"{count} of {len(sensors)} tell who they are, and agree" if count else "no sensor carries one"

    def _shown(self, seen: Sensed) -> str | None:
        """Why the instruments say nothing, when they do."""
        return seen.trouble or (None if seen.instruments else "waiting for the instruments")

    def _mains(self, seen: Sensed) -> tuple[bool, str]:
        part = getattr(self.prepared.settings, "supply", None)
        if (why := self._shown(seen)) or part is None or seen.instruments is None:
            return False, why or "the plan names no supply"
        volts, (low, high) = float(seen.instruments["supply"]), part.edges
        if not np.isfinite(volts):
            return False, "the supply says nothing"
        if not low <= volts <= high:
            return False, f"{volts:.1f} V, wanted {low:.1f} V to {high:.1f} V; set the supply"
        return True, f"{volts:.1f} V"

    def _loads(self, seen: Sensed) -> tuple[bool, str]:
        if (why := self._shown(seen)) or seen.instruments is None:
            return False, why or ""
        limit = getattr(self.prepared.settings, "load_limit", 110.0)
        hot = float(np.max(list(seen.instruments["temperature"].values())))
        if not np.isfinite(hot):
            return False, "the load bank tells no temperature"
        if hot > limit - 20:
            return False, f"{hot:.0f} °C; let it cool below {limit - 20:.0f} °C"
        return True, f"{len(seen.instruments['temperature'])} outputs, {hot:.0f} °C"

    def _fan(self, seen: Sensed) -> tuple[bool, str]:
        if (why := self._shown(seen)) or seen.instruments is None:
            return False, why or ""
        return (True, "on") if seen.instruments["fan"] else (False, "off; switch it on at the load bank")

    def _meter(self, seen: Sensed) -> tuple[bool, str]:
        if (why := self._shown(seen)) or seen.instruments is None:
            return False, why or ""
        volts = seen.instruments.get("meter")
        return (False, "the voltmeter says nothing") if volts is None else (True, f"reads {1e3 * volts:.0f} mV")

    def _temperature(self, seen: Sensed) -> tuple[bool, str]:
        low, high = self.prepared.rig.room.window
        t = seen.temperature
        if not np.isfinite(t):
            return False, "no temperature is read"
        if not low <= t <= high:
            return False, f"{t:.1f} °C, wanted {low:g} to {high:g} °C"
        return True, f"{t:.1f} °C"

    def _noise(self, seen: Sensed) -> tuple[bool, str]:
        lowest, _ = self.levels
        worst, at = 1e9, ""
        for role in self.watched:
            if role not in seen.rms:
                return False, "waiting for the front end"
            level = lowest / np.sqrt(2) * self.prepared.facts.sensitivity[role]
            db = 20 * np.log10(level / max(seen.rms[role], 1e-12))
            if db < worst:
                worst, at = db, role
        if worst < (NOISE_WANTED_DB if "unit" in self.watched else 20.0):
            return False, f"{at}: noise only {worst:.0f} dB below the level; look for hum and loose cables"
        return True, f"{worst:.0f} dB below the smallest level"
