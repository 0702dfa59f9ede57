"""A take on disk: its files when a run begins, its finding and the ledger's trace of it when the run is over."""

from __future__ import annotations

import contextlib
import shutil
from collections.abc import Sequence
from pathlib import Path
from typing import Any

from ..contracts import registry
from ..contracts.finding import Finding
from ..lab.articles import copied_into
from ..lab.takes import OF_THE_GUARDS, Take, begin_take
from ..rig.model import MEASURED
from .evaluating import evaluate_take
from .preparing import Prepared, files_kept
from .recorder import Recorder


def make_take(folder: Path, prepared: Prepared, kept: tuple[str, str], roles: Sequence[str]) -> Recorder:
    """A new take with the plan and rig as they are now (`kept`, their texts) and the files they rest on; what records
    into it. Raises OSError or BadInput where it can't be written."""
    begin_take(folder, *kept)
    for name, place in files_kept(prepared).items():
        shutil.copyfile(place, folder / name)
    copied_into(folder, prepared.plan_file)
    rows = [_channel_row(prepared, role) for role in roles] + [{"label": "drive", "unit": "V"}]
    return Recorder(folder, rows, prepared.facts.rate, prepared.facts.block,
                    prepared.method.thinned(prepared.settings, prepared.facts))  # fmt: skip


def _channel_row(prepared: Prepared, role: str) -> dict[str, Any]:
    part = prepared.rig.channel(role)
    row: dict[str, Any] = {"label": role, "unit": "V", "range": part.range}
    if part.kind == "current":
        row |= {"unit": "A", "per_volt": 1.0 / part.scale, "range": part.range / part.scale}
    if role in prepared.facts.sensitivity:
        unit = MEASURED[part.kind]
        row["sensitivity"] = prepared.facts.sensitivity[role] * 1e3
        row["sensitivity_unit"] = f"mV/({unit})" if "/" in unit else f"mV/{unit}"
    if part.sensor:
        row["sensor"] = part.sensor
    return row


def unmake_take(folder: Path) -> None:
    """Take away the folder of a run that never began; not one that holds anything but the guards' own notes."""
    with contextlib.suppress(OSError):
        for name in OF_THE_GUARDS:
            (folder / name).unlink(missing_ok=True)
        folder.rmdir()


def read_take(take: Take) -> tuple[Path, Finding] | None:
    """Read a finished take and keep its finding: where, and what; None where nothing was played or heard. Raises
    BadInput where it can't be read."""
    if not registry.get(take.plan().step.method).readable(take.events()):
        return None
    finding = evaluate_take(take)
    return take.keep(finding), finding


def tell_ledger(take: Take) -> bool:
    """Which sensors' calibrations a take rests on; what the ledger knows already is not told twice. True: something
    was new to it."""
    from ..lab.place import lab_of

    place = lab_of(take.folder)
    if place is None:
        return False
    ledger = place.ledger()
    try:
        name = str(take.folder.resolve().relative_to(place.folder.resolve()))
        made = [
            ledger.rests_on(name, sensor.serial, role, sensor.certificate)
            for role, sensor in take.plan().sensors.items()
        ]
    finally:
        ledger.close()
    return any(made)
