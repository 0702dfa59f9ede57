"""Reading what was noted by hand: each row's figures again, from the raw record."""

from __future__ import annotations

import re
from collections.abc import Mapping, Sequence
from typing import Any

from ...contracts.finding import Curve, Finding, Reading
from ...contracts.limits import Limits
from ...contracts.method import record_of
from ...contracts.recording import Channel
from ...core.errors import BadInput
from ...core.quantities import split
from .by_hand import HandSettings
from .figures import figures

NO_DOUBT = "As seen, without an uncertainty: rows noted by hand are a look, no calibration."


def read(record: Mapping[str, Channel], settings: HandSettings, marks: Sequence[Mapping[str, Any]]) -> Finding:
    """One reading a row and channel. Raises BadInput for a limit of what was not noted."""
    channels = {r: c for r, c in record_of(record, settings).items() if r != "drive"}
    rows = [m for m in marks if m.get("kind") == "row"]
    readings: list[Reading] = []
    curves: list[Curve] = []
    for role, channel in channels.items():
        unit, values = settings.units.get(role, channel.unit), []
        per = settings.sensitivity.get(role) if channel.unit == "V" and unit != "V" else None
        if per is None and channel.unit != unit:
            unit = channel.unit
        for k, row in enumerate(rows, 1):
            made = _of_row(channel, row, k, role, unit, per, settings.load)
            values.append(made[0].value)
            readings += made
        if rows:
            numbers = tuple(float(k + 1) for k in range(len(rows)))
            curves.append(Curve(f"level_{role}", role.capitalize(), numbers, tuple(values), "row", unit))
    readings += [m for k, row in enumerate(rows, 1) if (m := _meter(row, k)) is not None]
    limits = Limits(settings.limits, {r.key: r.unit for r in readings}, settings.decision)
    notes = (NO_DOUBT,) if rows else ("No row was noted.",)
    return Finding("by-hand", tuple(limits.judge(r) for r in readings), tuple(curves), notes=notes)


def _of_row(
    channel: Channel, row: Mapping[str, Any], k: int, role: str, unit: str, per: float | None, load: float | None
) -> list[Reading]:  # fmt: skip
    key, title = f"row_{k}_{_key(role)}", f"{k} · {role}"
    x = channel.between(float(row["start"]), float(row["stop"]))
    wanted = int(0.95 * (float(row["stop"]) - float(row["start"])) * channel.rate)
    if x.size < max(wanted, 16):
        return [Reading(key, title, None, unit, valid=False, reason="the record ends before this row does")]
    told = figures(x / (per or 1.0), channel.rate, row.get("frequency"))
    made = [Reading(key, title, told["rms"], unit)]
    if unit == "V" and role != "drive":
        made.append(Reading(f"{key}_dc", f"{title}, DC", told["mean"], unit))
        if load is not None:
            made.append(Reading(f"{key}_power", f"{title}, into {load:g} Ω", told["rms"] ** 2 / load, "W"))
    if told["thd"] is not None:
        # Of noise alone; what the source itself distorts is in the value.
        doubt = max(told["thd_high"] - told["thd"], told["thd"] - told["thd_low"])
        made.append(Reading(f"{key}_thd", f"{title}, thd", told["thd"], "%", doubt, 2.0))
    return made


def _meter(row: Mapping[str, Any], k: int) -> Reading | None:
    typed = str(row.get("meter", "")).strip()
    if not typed:
        return None
    try:
        value, unit = split(typed)
    except BadInput:
        return Reading(f"row_{k}_meter", f"{k} · meter", None, "", valid=False, reason=f"'{typed}' is no value")
    return Reading(f"row_{k}_meter", f"{k} · meter, typed", value, unit or "")


def _key(role: str) -> str:
    return re.sub(r"\W+", "_", role.strip().lower())
