"""Stress and strain of every point of a pull, from a record and what a run said of it."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from typing import TYPE_CHECKING, Any

import numpy as np

from ...contracts.recording import Channel, Floats
from ...contracts.samples import known_roles, samples_in, together
from ...core.errors import BadInput
from ...core.frame import tension as curve
from ...core.quantities import parse
from .shared import length_in
from .tension_course import lengths_of

if TYPE_CHECKING:
    from .tension import TensionSettings

NO_TRAVEL = "there is no travel to go on with"
SEEN_WITHIN = 0.2
"""s before a slip is told, in which it happened"""
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
    rate: float


def measured(
    record: Mapping[str, Channel], settings: TensionSettings, marks: Sequence[Mapping[str, Any]] = ()
) -> Measured:
    """Stress and strain by the settings. Raises BadInput for geometry that is needed and missing."""
    known_roles(settings.sensitivity, record, "sensitivity")
    known_roles(settings.zero, record, "zero")
    there = [r for r in LENGTHS if r in record]
    if not set(there) & {"extension", "displacement"}:
        raise BadInput("there is no extension and no displacement: one of them is needed for the strain.")
    _, n = together(record, ("force", *there))
    if n < 4:
        raise BadInput("the record is too short for a curve: four samples are needed at least.")
    values = {"force": samples_in(record, "force", "N", settings.sensitivity)[:n]}
    values |= {r: length_in(record, r, settings)[:n] for r in there}
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
    notes: list[str] = []
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
        strain = _without_slip(strain, travel, record["force"].rate, marks, notes)
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
                    record["force"].rate)  # fmt: skip


def _without_slip(
    strain: Floats, travel: Floats | None, rate: float, marks: Sequence[Mapping[str, Any]], notes: list[str]
) -> Floats:
    """Strain that goes on with travel from where a run saw the extensometer slip; what it slipped is in no reading."""
    lost = next((m for m in marks if m.get("kind") == "extensometer lost"), None)
    if lost is None:
        return strain
    by = f"{1e6 * float(lost['by']):+.0f} µm"
    # It was told at the end of the block that it is in, a little later than it happened.
    end = min(round(float(lost["t"]) * rate) + 2, strain.size)
    begin = max(end - round(SEEN_WITHIN * rate), 1)
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
