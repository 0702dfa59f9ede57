"""Looking again from the record: whether the measuring chain stayed what the probe run saw."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import replace
from typing import Any

import numpy as np

from ...contracts.finding import Finding
from ...contracts.recording import Channel
from ...core.control.chain import ChainModel, Changed, chain_model, changes
from ...core.control.plant import estimate
from ...core.signal.sinefit import Floats
from .sine_reading import cut_time


def model_of(
    record: Mapping[str, Channel], mark: Mapping[str, Any], controls: Sequence[str], tonal: bool
) -> ChainModel | None:
    """The model that a probe run leaves, by its mark; None where it can't be read. `record` in units, with the drive
    as played."""
    if "steady" not in mark or "drive" not in record:
        return None
    rate = record["drive"].rate
    roles = [*controls, *(r for r in mark["roles"] if r not in controls and r in record)]
    roles += [r for r in record if r not in roles and r != "drive" and record[r].rate == rate and record[r].unit == "A"]
    period = round(float(mark["period"]) * rate)
    a, b = (round(float(v) * rate) for v in mark["steady"])
    q, r = (round(float(v) * rate) for v in mark["rest"])
    if b > record["drive"].length or period < 2 or (b - a) < 2 * period:
        return None
    x = np.array([record[role].samples(a, b) for role in roles])
    rest = np.array([record[role].samples(q, r) for role in roles])
    plant = estimate(record["drive"].samples(a, b), x, rest, rate, period)
    low, high = (float(v) for v in mark["band"])
    return chain_model(plant, roles, len(controls), (low, high), tonal)


def changes_in(
    record: Mapping[str, Channel], marks: Sequence[Mapping[str, Any]], controls: Sequence[str], tonal: bool
) -> list[tuple[float, str, Changed]]:
    """What of the chain changed after the probe run: when [s], which role, and how."""
    probes = [m for m in marks if m.get("kind") == "probe"]
    made: list[tuple[float, str, Changed]] = []
    for i, mark in enumerate(probes):
        model = model_of(record, mark, controls, tonal)
        if model is None:
            continue
        drive, roles = record["drive"], (*model.roles, "drive")
        block = int(mark["block"])
        start = round(float(mark["stop"]) * drive.rate) // block * block
        end = float(probes[i + 1]["rest"][0]) if i + 1 < len(probes) and "rest" in probes[i + 1] else drive.duration
        stop = round(min(cut_time(marks, np.inf), end) * drive.rate)

        def load(a: int, b: int, roles: Sequence[str] = roles) -> Floats:
            return np.array([record[r].samples(a, b) for r in roles])

        found = changes(model, load, start, stop, drive.rate, block)
        made += [(t, model.roles[c.channel], c) for t, c in found]
    return made


def judged_again(
    finding: Finding, record: Mapping[str, Channel], marks: Sequence[Mapping[str, Any]], controls: Sequence[str],
    tonal: bool, notched: Sequence[str] = (),
) -> Finding:  # fmt: skip
    """The finding with what the record says of its chain. What rests on a control point that changed can't be
    inside."""
    notes, why = [], None
    told = [m for m in marks if m.get("kind") == "trip" and m.get("guard") == "chain"]
    for t, role, change in changes_in(record, marks, controls, tonal):
        text = f"{role} shows {change.by:.2f} of what it did from {max(t - 0.3, 0):.1f} s on"
        why_so = "its sensor, cable or mounting changed"
        if change.flickers:
            text, why_so = (
                f"{role} loses pieces of its signal from {max(t - 0.3, 0):.1f} s on",
                "its plug or cable opens",
            )
        notes.append(f"{text}: {why_so}.")
        if role in controls or role in notched:
            why = why or text
    if why is None and told:
        return finding  # what came after the cut is not read
    if not notes:
        return finding
    readings = finding.readings
    if why is not None:
        readings = tuple(
            replace(r, valid=False, reason=r.reason or why, verdict="open" if r.verdict == "inside" else r.verdict)
            for r in readings
        )
        finding = replace(finding, curve_verdicts=(*finding.curve_verdicts, "open"))
    return replace(finding, readings=readings, notes=(*notes, *finding.notes))
