"""Common-mode rejection of a balanced input (IEC 60268-3, 14.15)."""

from __future__ import annotations

import math
from collections.abc import Mapping, Sequence
from typing import Annotated, Any, Literal

import numpy as np
from pydantic import Field, model_validator

from ...contracts.finding import Finding
from ...contracts.method import Axis
from ...contracts.recording import Channel
from ...contracts.settings import Model, quantity
from ...core.audio.distortion import Ratio, fundamental, noisy_ratio
from ...core.audio.separation import Passed
from ...core.audio.tones import fit
from ...core.errors import BadInput
from .output import OutputMethod, Piece, limits_of, listed, nothing, pieces, waveform
from .output_separation import SeparationSettings, ratio_in_db

UNITS = {"common_mode_rejection": ("Common-mode rejection", "dB")}


class DriveStep(Model):
    """A stretch with the tone fed one way or the other."""

    mode: Literal["differential", "common"]
    start: Annotated[float, quantity("s")]
    stop: Annotated[float, quantity("s")]
    drive: Annotated[float, quantity("V")] | None = None
    """V at the input; needed where the two differ and no stimulus is recorded"""

    @model_validator(mode="after")
    def _ordered(self) -> DriveStep:
        if not 0 <= self.start < self.stop or (self.drive is not None and self.drive <= 0):
            raise ValueError("stop must come after start, and drive be above zero.")
        return self


class CommonModeSettings(SeparationSettings):
    """When the input was fed which way."""

    steps: list[DriveStep] = Field(default_factory=list)


class OutputCommonMode(OutputMethod):
    """The method as the registry knows it."""

    name = "output-common-mode"
    title = "Common-mode rejection"
    roles: tuple[str, ...] = ("output",)
    optional_roles = ("stimulus",)
    Settings = CommonModeSettings
    readings = listed(UNITS)
    curves: dict[str, str] = {}
    views: tuple[Axis, ...] = ()

    def evaluate(
        self, record: Mapping[str, Channel], settings: CommonModeSettings, marks: Sequence[Mapping[str, Any]]
    ) -> Finding:
        limits = limits_of(settings, UNITS)
        roles = ("output", "stimulus") if "stimulus" in record else ("output",)
        held = dict(zip(roles, (waveform(p, r) for p, r in zip(pieces(record, settings, roles), roles, strict=True)),
                        strict=True))  # fmt: skip
        steps: dict[str, DriveStep] = {s.mode: s for s in settings.steps}
        if len(steps) < 2:
            raise BadInput("steps: a stretch fed differentially and one fed in common are needed.")
        output = held["output"]
        wide, narrow = (_cut(output, steps[m]) for m in ("differential", "common"))
        if not all(x.size > 64 for x in (wide, narrow)):
            raise BadInput(f"steps: the record ends at {output.x.size / output.rate:g} s.")
        at = fundamental(wide, output.rate, settings.frequency, settings.band_of(output.rate))
        if at is None:
            return nothing(self.name, UNITS, "there is no tone where the input is fed differentially", limits)
        try:
            one = fit(wide, output.rate, np.array([[1]]), np.array([at]))
            other = fit(narrow, output.rate, np.array([[1]]), one.bases, refine=False)
            fed = _fed(held.get("stimulus"), steps, output.rate, one.bases)
        except ValueError as bad:
            return nothing(self.name, UNITS, str(bad), limits)
        ratio = noisy_ratio(other.power, other.noise, float(one.rms[0]))
        scaled = Ratio(*(v / fed for v in (ratio.value, ratio.low, ratio.high, ratio.floor)))
        found = Passed(float(one.bases[0]), float(one.rms[0]), scaled, 0.0)
        label = UNITS["common_mode_rejection"][0]
        reading = ratio_in_db("common_mode_rejection", label, found, settings, output.overloaded(at))
        notes = [f"At {found.frequency:.5g} Hz; common drive over differential {fed:.4g}."]
        if not found.told:
            notes.append(f"The common tone can't be told from noise: at least {-20 * math.log10(scaled.high):.1f} dB.")
        return Finding(self.name, (limits.judge(reading),), notes=tuple(notes))


def _cut(piece: Piece, step: DriveStep) -> np.ndarray:
    return piece.x[int(round(step.start * piece.rate)) : int(round(step.stop * piece.rate))]


def _fed(stimulus: Piece | None, steps: Mapping[str, DriveStep], rate: float, bases: np.ndarray) -> float:
    """Common drive over differential drive."""
    if stimulus is not None:
        levels = {m: float(fit(_cut(stimulus, s), rate, np.array([[1]]), bases, refine=False).rms[0])
                  for m, s in steps.items()}  # fmt: skip
        if min(levels.values()) <= 0:
            raise ValueError("the stimulus is silent in one of the steps")
        return levels["common"] / levels["differential"]
    common, differential = steps["common"].drive, steps["differential"].drive
    return common / differential if common and differential else 1.0


METHOD = OutputCommonMode()
