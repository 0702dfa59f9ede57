"""Limits of a sheet's curve made from units that were measured: a good one plus and minus an offset, or a batch."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from pathlib import Path

import numpy as np

from ..contracts.finding import Curve, Finding
from ..core.errors import BadInput
from ..core.quality.masks import Mask, around, batch
from .place import Lab
from .plans import put_plan
from .takes import list_takes
from .textfiles import load_yaml

MASKED = ("distortion_power_", "gain_")
"""What keys of curves begin with that a step's mask holds for"""
DEVIATIONS = 3.0
"""Standard deviations of a batch on either side of its mean"""


@dataclass(frozen=True)
class Unit:
    """An article whose sheet was taken."""

    name: str
    take: Path
    finding: Finding

    def curve(self, key: str) -> Curve | None:
        """Its curve of that name, if it has one."""
        return next((c for c in self.finding.curves if c.key == key), None)


def sheet_units(lab: Lab) -> list[Unit]:
    """The newest counted sheet of each article in the lab that has curves, the newest article first."""
    newest: dict[Path, Unit] = {}
    for take in list_takes(lab.jobs):
        finding = take.finding()
        if finding is not None and finding.method == "amplifier-sheet" and finding.curves:
            newest[take.folder.parent] = Unit(take.folder.parent.name, take.folder, finding)
    return list(newest.values())[::-1]


def mask_from(curves: Sequence[Curve], width: float, relative: bool) -> tuple[Mask, str]:
    """The mask around one unit's curve, plus and minus `width` [its unit, or a share where `relative`], or of several
    units their mean and three standard deviations, `width` at least; and what it is, in words. Raises BadInput."""
    arrays = [(np.array(c.x, float), np.array([np.nan if v is None else v for v in c.y], float)) for c in curves]
    try:
        if len(arrays) > 1:
            least = width * (float(np.nanmedian(arrays[0][1])) if relative else 1.0)
            said = f"mean of {len(arrays)} units and three standard deviations"
            return batch(arrays).mask(DEVIATIONS, least), said
        mask = around(*arrays[0], min(width, 0.99) if relative else width, width, relative)
    except ValueError as problem:
        raise BadInput(f"No limits can be made from these curves: {problem}.") from None
    return mask, f"this unit ± {100 * width:.0f} %" if relative else f"this unit ± {width:g}"


def limits_from(place: Path, findings: Sequence[Finding], key: str, width: float, relative: bool) -> str:
    """Put a mask into the plan's step that the curve `key` is of, as `mask_from` makes it of the findings that have
    that curve. Says what was done. Raises BadInput without such a curve or step."""
    plan = load_yaml(place)
    curves = [c for f in findings for c in f.curves if c.key == key]
    if not curves:
        raise BadInput(f"{place.name}: no take here has the curve {key}: take it again with that step.")
    task = next((key.removeprefix(start) for start in MASKED if key.startswith(start)), "")
    steps = {str(s.get("name", "")).replace(" ", "-"): s for s in plan.get("steps", [])}
    name = max((n for n in steps if n and task.startswith(f"{n}_")), key=len, default=None)
    if name is None:
        raise BadInput(f"{place.name}: it has no step whose curve {key} could be held to limits.")
    step = steps[name]
    mask, said = mask_from(curves, width, relative)
    step["mask"] = {k: [float(f"{v:.6g}") for v in getattr(mask, k)] for k in ("x", "low", "high")}
    put_plan(place, plan)
    return (
        f"Limits of {step.get('label') or step['name']}: {said}, {mask.x.size} points. They hold from the next take on."
    )
