"""The uncertainty budget of a comparison, point by point (ISO 16063-21, annex A; JCGM 100)."""

from __future__ import annotations

import math
from collections.abc import Sequence
from dataclasses import dataclass, field

import numpy as np

from .comparison import ToneResult
from .uncertainty import Entry

DEGREES_PER_PERCENT = math.degrees(0.01)
"""An error phasor of 1 % across the signal turns its phase by this much."""


@dataclass(frozen=True)
class Source:
    """A source of doubt that the lab states beforehand: half-width in percent, by frequency where it must be."""

    key: str
    label: str
    points: tuple[tuple[float, float], ...]
    """(Hz, %), linear over log frequency, held level beyond its ends."""
    distribution: str = "rectangular"
    correlation: float = 1.0

    def at(self, frequency: float) -> float:
        """Half-width [%]."""
        f, w = np.array(self.points).T
        return float(np.interp(np.log(frequency), np.log(f), w))


LABELS = {
    "reference": "Reference, its certificate",
    "reference_drift": "Reference, drift since its calibration",
    "interpolation": "Reference, between its calibration points",
    "mounting": "Mounting",
    "cable": "Cable",
    "transverse_reference": "Transverse motion × reference",
    "transverse_unit": "Transverse motion × unit",
    "distortion": "Distortion of the motion",
    "hum": "Hum",
    "temperature": "Temperature",
    "gain_ratio": "Gain ratio of the two inputs",
    "resolution": "Resolution",
    "repeatability": "Noise and repeatability",
    "base_strain": "Base strain",
    "mass_loading": "Mass loading of the reference",
    "rocking": "Rocking motion",
    "conditioner": "Conditioner response",
    "magnetic": "Magnetic field",
}
"""The entries of a full budget. Those not measured are stated by the lab as sources."""


@dataclass(frozen=True)
class BudgetInputs:
    """What the budget needs beside the tone itself."""

    reference: Source
    """Expanded, k = 2."""
    sources: tuple[Source, ...] = ()
    drift: float = 0.0
    """%, half-width of the reference's drift since its calibration."""
    transverse_sensitivity: tuple[float, float] = (0.0, 0.0)
    """Of reference and unit, % of the axial one."""
    resolution: tuple[float, float] = (0.0, 0.0)
    """Smallest step of each input, in the unit of its samples."""
    gain_ratio_known: float | None = None
    """%, standard uncertainty left when an insert took the gain ratio out; None: it was not."""
    capability: Source | None = field(default=None)
    """Smallest expanded uncertainty [%] that the lab may state."""

    def floor(self, frequency: float) -> float:
        return self.capability.at(frequency) if self.capability else 0.0


def entries(tone: ToneResult, given: BudgetInputs, interpolation: float, transverse: float | None) -> tuple[Entry, ...]:
    """All entries at one tone, in percent of the sensitivity.

    `interpolation` % half-width; `transverse` the transverse motion over the axial one (a ratio), None where
    it was not measured.
    """
    f = tone.frequency
    ref = given.reference
    made = [
        Entry("reference", LABELS["reference"], ref.at(f), "%", ref.distribution, correlation=ref.correlation),
        Entry("reference_drift", LABELS["reference_drift"], given.drift),
        Entry("interpolation", LABELS["interpolation"], interpolation, correlation=0.0),
    ]
    for i, name in enumerate(("transverse_reference", "transverse_unit")):
        share = given.transverse_sensitivity[i]
        if share and transverse is not None:
            made.append(Entry(name, LABELS[name], transverse, "m/s² per m/s²", "u-shaped", share, correlation=0.0))
    distortion = max(tone.distortion)
    made.append(Entry("distortion", LABELS["distortion"], 100 * distortion**2 / 2, correlation=0.0))
    made.append(Entry("hum", LABELS["hum"], 100 * tone.hum, "%", "normal", correlation=0.0))
    steps = [r / 2 / a for r, a in zip(given.resolution, tone.amplitude, strict=True) if a > 0]
    made.append(Entry("resolution", LABELS["resolution"], 100 * math.hypot(*steps) if steps else 0.0, correlation=0.0))
    made.append(
        Entry(
            "repeatability", LABELS["repeatability"], 100 * tone.spread, "%", "normal",
            dof=max(tone.dof, 1.0), correlation=0.0,
        )
    )  # fmt: skip
    for source in given.sources:
        if source.key == "gain_ratio" and given.gain_ratio_known is not None:
            continue
        made.append(
            Entry(source.key, source.label, source.at(f), "%", source.distribution, correlation=source.correlation)
        )
    if given.gain_ratio_known is not None:
        made.append(Entry("gain_ratio", LABELS["gain_ratio"], given.gain_ratio_known, "%", "normal", correlation=0.0))
    return tuple(e for e in made if e.half_width > 0)


def in_degrees(of_ratio: Sequence[Entry], reference_phase: float) -> tuple[Entry, ...]:
    """The same sources for the phase: each is an error phasor of unknown direction; the certificate states its own
    (`reference_phase` degrees, k = 2)."""
    made = [Entry("reference", LABELS["reference"], reference_phase, "°", "normal k=2")] if reference_phase else []
    for e in of_ratio:
        if e.key not in ("reference", "reference_drift", "interpolation"):
            made.append(
                Entry(e.key, e.label, e.contribution * DEGREES_PER_PERCENT, "°", "normal", 1.0, e.dof, e.correlation)
            )
    return tuple(made)
