"""Stress and strain of every point of a pull, from a record and what a run said of it."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from typing import TYPE_CHECKING, Any

import numpy as np

from ...contracts.method import TREND
from ...contracts.recording import Channel, Floats
from ...contracts.samples import known_roles, samples_in, together
from ...core.errors import BadInput
from ...core.frame import tension as curve
from ...core.quantities import parse
from .shared import length_in
from .tension_course import lengths_of
from .tension_points import series

if TYPE_CHECKING:
    from .tension import TensionSettings

NO_TRAVEL = "there is no travel to go on with"
SEEN_WITHIN = 0.2
"""s before a slip is told, in which it happened"""
IN_NEITHER = "stand neither as samples nor as means"
DISAGREE = "do not agree with the means"
NOT_WHOLE = (NO_TRAVEL, IN_NEITHER, DISAGREE)
"""Notes with these words say that nothing may be called inside on what was read"""
MISSED = 0.25
"""s that may be missing: what was in hand where a run was cut"""
AGREES = 1e-4
"""Share of the greatest force by which means and samples of one stretch may differ"""
LENGTHS = ("extension", "displacement", "transverse")


@dataclass(frozen=True)
class Measured:
    """Stress [Pa] and strain [ratio] of every sample, and where they came from."""

    strain: Floats
    stress: Floats
    length: Floats
    """m, what falls when a specimen is unloaded: displacement where there is one"""
    transverse: Floats | None
    source: str
    notes: tuple[str, ...]
    force: Floats
    """N"""
    lengths: Mapping[str, Floats]
    """m, by role"""
    t: Floats
    """s of the run"""
    covers: Floats
    """Samples that each point is the mean of"""

    def noise(self, line: curve.Line | None, at: int) -> float:
        """Pa, rms of the stress of a point, by what it is about the modulus line: less where more samples are in it."""
        if line is None:
            return 0.0
        return line.noise * float(np.sqrt(self.covers[line.first : line.last + 1].mean() / self.covers[at]))


def measured(
    record: Mapping[str, Channel], settings: TensionSettings, marks: Sequence[Mapping[str, Any]] = ()
) -> Measured:
    """Stress and strain by the settings. Raises BadInput for geometry that is needed and missing."""
    table = {r.removeprefix(TREND): c for r, c in record.items() if r.startswith(TREND)}
    record = {r: c for r, c in record.items() if not r.startswith(TREND)}
    known_roles(settings.sensitivity, record, "sensitivity")
    known_roles(settings.zero, record, "zero")
    there = [r for r in LENGTHS if r in record]
    if not set(there) & {"extension", "displacement"}:
        raise BadInput("there is no extension and no displacement: one of them is needed for the strain.")
    rate, n = together(record, ("force", *there))
    if n < 4:
        raise BadInput("the record is too short for a curve: four samples are needed at least.")
    values = {"force": samples_in(record, "force", "N", settings.sensitivity)[:n]}
    values |= {r: length_in(record, r, settings)[:n] for r in there}
    held = series(values, rate, table, marks)
    values = dict(held.values)
    notes: list[str] = []
    if held.covers.max() > 1:
        notes.append(f"Between its pieces {int(np.sum(held.covers > 1))} means were kept.")
    if held.missing > MISSED:
        notes.append(f"{held.missing:.3g} s of the pull {IN_NEITHER}.")
    if held.apart > AGREES:
        notes.append(f"The samples that were kept {DISAGREE} by {100 * held.apart:.2g} % of the greatest force.")
    # What a run of ours took as zero holds where the settings say nothing else.
    for mark in (m for m in marks if m.get("kind") == "zero"):
        for role in values:
            if role in mark and role not in settings.zero:
                values[role] = values[role] - float(mark[role])
    for role, given in settings.zero.items():
        values[role] = values[role] - parse(given, "N" if role == "force" else "m", f"zero.{role}")
    size = settings.specimen
    area = size.section()
    if area is None:
        raise BadInput("specimen: its size is missing: give a diameter, width and thickness, or an area.")
    top = int(np.argmax(np.abs(values["force"])))
    axial = values["extension"] if "extension" in values else values["displacement"]
    signs = float(np.sign(axial[top])) or 1.0
    if settings.kind == "compression":
        for role in ("force", "extension", "displacement"):
            if role in values and values[role][top] < 0:
                values[role] = -values[role]
    travel = None
    if "displacement" in values:
        if size.parallel_length is None and ("extension" not in values or settings.extensometer_off is not None):
            raise BadInput("specimen: its parallel_length is missing: strain from displacement needs it.")
        if size.parallel_length is not None:
            travel = (values["displacement"] - settings.compliance * values["force"]) / size.parallel_length
    if "extension" in values:
        if size.gauge_length is None:
            raise BadInput("specimen: its gauge_length is missing: strain from extension needs it.")
        strain, source = values["extension"] / size.gauge_length, "extension"
        if settings.extensometer_off is not None:
            if travel is None:
                raise BadInput("extensometer_off: the strain goes on with displacement, which this record lacks.")
            strain, at = curve.joined(strain, travel, settings.extensometer_off / 100)
            if at is None:
                notes.append("The strain from which it would go on with displacement is never reached.")
        strain = _without_slip(strain, travel, held.t, marks, notes)
    else:
        assert travel is not None
        strain, source = travel, "displacement"
    transverse = None
    if "transverse" in values:
        if size.transverse_length is None:
            raise BadInput("specimen: its transverse_length is missing: the transverse channel needs it.")
        transverse = values["transverse"] / size.transverse_length * (signs if settings.kind == "compression" else 1.0)
    length = values.get("displacement", strain)
    lengths = lengths_of(values["force"], values, settings.compliance)
    return Measured(strain, values["force"] / area, length, transverse, source, tuple(notes), values["force"], lengths,
                    held.t, held.covers)  # fmt: skip


def _without_slip(
    strain: Floats, travel: Floats | None, t: Floats, marks: Sequence[Mapping[str, Any]], notes: list[str]
) -> Floats:
    """Strain that goes on with travel from where a run saw the extensometer slip; what it slipped is in no reading."""
    lost = next((m for m in marks if m.get("kind") == "extensometer lost"), None)
    if lost is None:
        return strain
    by = f"{1e6 * float(lost['by']):+.0f} µm"
    # It was told at the end of the block that it is in, a little later than it happened.
    told = float(lost.get("run", lost["t"]))
    end = min(int(np.searchsorted(t, told)) + 2, strain.size)
    begin = max(int(np.searchsorted(t, told - SEEN_WITHIN)) - 1, 1)
    at = begin + int(np.argmax(np.abs(strain[begin + 2 : end] - strain[begin : end - 2]))) if end > begin + 2 else begin
    if travel is None:
        where = f"The extensometer slipped by {by} at {100 * strain[at]:.3g} % of strain"
        notes.append(f"{where}, and {NO_TRAVEL}: every strain after it is off by that.")
        return strain
    notes.append(f"The extensometer slipped by {by} at {100 * strain[at]:.3g} % of strain: it goes on with displacement"
                 " from there.")  # fmt: skip
    made = strain.copy()
    made[at + 1 :] = strain[at] + travel[at + 1 :] - travel[at]
    return made
