"""How plans and articles are called where people read them."""

from __future__ import annotations

from pathlib import Path

STEP = "step.plan.yaml"
"""The plan of one step of a series"""


def article_of(folder: Path, jobs: Path) -> str:
    """What a plan's folder is about: the article's folder below the job, or the sensor that is calibrated."""
    parts = folder.relative_to(jobs).parts
    name = parts[1] if len(parts) > 1 else parts[-1]
    if name.startswith("comparison-"):
        return name.removeprefix("comparison-").upper()
    return name.replace("-", " ").capitalize()


def plan_name(place: Path) -> str:
    """A plan's name: its file's, or for a step of a series the step's and the series'."""
    if place.name == STEP:
        number, _, name = place.parent.name.partition("-")
        series = place.parent.parent.name.removeprefix("series").lstrip("-")
        return f"{number} {name.replace('-', ' ').capitalize()}" + (f" ({series})" if series else "")
    return place.name.removesuffix(".plan.yaml").replace("-", " ").capitalize()
