"""What the shaker's three methods share: profiles in files, sensitivities from the plan, pieces read as one."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from pathlib import Path
from typing import Any

from ...contracts.finding import Finding
from ...contracts.method import BenchFacts, Input, Method
from ...contracts.recording import Channel
from ...lab.plans import SHAKER_WALK_ROUND
from .settings import ShakerSettings, control_roles, follow_profile


class ShakerMethod(Method):
    """A vibration test under control. Takes any other channels, under their own names."""

    roles = ("control",)
    more = True
    Settings = ShakerSettings
    walk_round = tuple(SHAKER_WALK_ROUND)
    told = ("sine", "random", "history")
    orders = ("hold", "level", "skip")
    drawn = {
        "profile": "on the Stage: drag, type or paste it",
        "course": "in the Course below: drag it, or type a time",
    }

    def together(
        self, parts: Sequence[tuple[Mapping[str, Channel], ShakerSettings, Sequence[Mapping[str, Any]]]]
    ) -> Finding:
        """A run that was cut and those that went on from there, as one record."""
        from .join import joined

        return self.evaluate(*joined(parts))

    def beside(self, given: Mapping[str, Any], folder: Path) -> dict[str, Any]:
        return follow_profile(dict(given), folder)

    def fill(self, given: dict[str, Any], bench: BenchFacts) -> dict[str, Any]:
        return {
            "sensitivity": {r: f"{1e3 * s!r} mV/(m/s²)" for r, s in bench.sensitivity.items()},
            "input_range": {r: v for r, v in bench.ranges.items() if bench.kinds[r] == "acceleration"},
            **given,
        }

    def files(self, settings: ShakerSettings) -> Mapping[str, Path]:
        """A time profile's records."""
        return {name: Path(part["file"]) for name, part in _records(settings.profile)}

    def kept(self, settings: dict[str, Any]) -> dict[str, Any]:
        profile = settings.get("profile")
        named = [{**part, "file": name} for name, part in _records(profile)]
        if not named:
            return settings
        then = {"then": named[1:]} if len(named) > 1 else {}
        return {**settings, "profile": {**profile, **named[0], **then}}  # type: ignore[dict-item]

    def guarded(self, settings: ShakerSettings, inputs: Sequence[Input]) -> dict[str, Any]:
        """The control points. A response that the profile is notched for gets a guard a quarter above its limit."""
        control = settings.control
        roles = control_roles([i.role for i in inputs if i.kind == "acceleration"], control)
        extra = [
            {"watch": "acceleration", "channel": role, "limit": 1.25 * level, "label": f"Limit of {role}"}
            for role, level in control.limits.items()
        ]
        return {"roles": roles, "combine": control.combine, "notched": list(control.limits), "guards": extra}


def _records(profile: Any) -> list[tuple[str, dict[str, Any]]]:
    """The parts of a time profile that have a file, each with the name that it has beside a take."""
    if not isinstance(profile, dict) or not isinstance(profile.get("file"), str):
        return []
    made = []
    for i, part in enumerate((profile, *profile.get("then", ()))):
        number = f"-{i + 1}" if i else ""
        made.append((f"profile{number}{Path(part['file']).suffix}", dict(part)))
    return made
