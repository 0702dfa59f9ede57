"""The demo job's fog-signal amplifier: what is published of it, held against it."""

from __future__ import annotations

from ...lab.place import Lab
from ...lab.planning import put_in
from .planning import amplifier_plan, sheet_steps


def make(lab: Lab) -> None:
    """The published sheet, with a short warming."""
    amplifier = amplifier_plan(lab, "Published sheet, both channels", "Fog-signal amplifier FS-2",
                               lab.folder / "rigs" / "amplifier.rig.yaml", sheet_steps("6 s"))  # fmt: skip
    put_in(lab.jobs / (lab.facts.job or "bench") / "fog-amplifier" / "sheet", "sheet", amplifier)
