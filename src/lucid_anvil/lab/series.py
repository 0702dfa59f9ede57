"""A plan of several steps: each becomes a plan and a take of its own in the series' folder, and what moved is read.

series-001/
  series.yaml              the plan as it was, with the order of its steps
  1-resonance-search/      an ordinary plan folder: step.plan.yaml, and its takes
  2-endurance/
  finding.json             steps that were judged, and what moved between the first and the last of one method
"""

from __future__ import annotations

import json
import math
from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from pathlib import Path
from typing import Any

from ..contracts import registry
from ..contracts.finding import Finding, Reading, as_json
from ..contracts.limits import Limits
from ..core.errors import BadInput
from .patterns import free_folder, slug
from .plans import Plan, Step, load_plan, put_plan
from .takes import Take, list_takes
from .textfiles import dump_yaml, load_yaml, whole_write

FILE = "series.yaml"
FINDING = "finding.json"


@dataclass(frozen=True)
class SeriesStep:
    """One step of a series, and how far it is."""

    number: int
    """from 1"""
    label: str
    method: str
    go_on: str
    """always, done or inside: what it must have come to before the next begins"""
    prompt: str
    """What a person is asked to do before it; empty for nothing"""
    plan: Path
    take: Take | None
    """Its newest take"""

    @property
    def status(self) -> str:
        return self.take.status() if self.take is not None else ""

    @property
    def finding(self) -> Finding | None:
        return self.take.finding() if self.take is not None else None


@dataclass(frozen=True)
class Series:
    """A series' folder as it is now."""

    folder: Path
    title: str
    steps: tuple[SeriesStep, ...]

    @property
    def next(self) -> SeriesStep | None:
        """The first step that was not run to its end."""
        return next((s for s in self.steps if s.status != "done"), None)

    def held_back(self, step: SeriesStep) -> str:
        """Why a step may not begin yet; empty where it may."""
        for before in self.steps[: step.number - 1]:
            if before.take is None:
                return f"Step {before.number}, {before.label}, was not run yet."
            if before.go_on != "always" and before.status != "done":
                return f"Step {before.number}, {before.label}, was {before.status}: run it again, or look why."
            found = before.finding
            if before.go_on == "inside" and (found is None or found.verdict != "inside"):
                was = found.verdict if found is not None else "not read"
                return f"Step {before.number}, {before.label}, is {was}; the plan goes on only where it is inside."
        return ""


def label_of(step: Step) -> str:
    return step.label or step.name or registry.get(step.method).title


def alone(plan: Plan, i: int, folder: Path) -> dict[str, Any]:
    """One step as a plan of its own, as plain data; files that its settings name are taken from `folder`, the plan's.
    Its guards are the plan's and its own."""
    step = plan.steps[i]
    held = plan.model_dump(by_alias=True, exclude_none=True, exclude_defaults=True)
    settings = registry.get(step.method).beside(step.settings, folder)
    if step.limits:
        settings = {**settings, "limits": {**settings.get("limits", {}), **step.limits}}
    guards = [g.model_dump(exclude_none=True, exclude_defaults=True) for g in (*plan.guards, *step.guards)]
    made = {k: v for k, v in held.items() if k not in ("steps", "guards", "compare", "walk_round", "version")}
    rig = step.rig or plan.rig
    if rig:
        made["rig"] = str(Path(rig) if Path(rig).is_absolute() else (folder / rig).resolve())
    if guards:
        made["guards"] = guards
    return {
        "lucid-anvil-plan": 1, **made, "title": f"{plan.title} · {i + 1} of {len(plan.steps)}, {label_of(step)}",
        "walk_round": [c.model_dump(exclude_none=True) for c in plan.walk_round],
        "steps": [{"method": step.method, "settings": settings}],
    }  # fmt: skip


def begin_series(plan_file: Path, folder: Path | None = None) -> Series:
    """Make the folders and plans of a series. Raises BadInput; then nothing is made."""
    plan = load_plan(plan_file)
    if not plan.several:
        raise BadInput(f"{plan_file}: it has one step: run it as it is.")
    place = folder or free_folder(plan_file.parent, "series")
    if place.exists() and any(place.iterdir()):
        raise BadInput(f"{place}: it exists already: a series is never written over; choose another place.")
    plans = [alone(plan, i, plan_file.parent) for i in range(len(plan.steps))]
    rows = []
    place.mkdir(parents=True, exist_ok=True)
    for i, (step, made) in enumerate(zip(plan.steps, plans, strict=True), 1):
        name = f"{i}-{slug(label_of(step))}"
        (place / name).mkdir()
        put_plan(place / name / "step.plan.yaml", made)
        rows.append({"folder": name, "label": label_of(step), "method": step.method, "go_on": step.go_on,
                     "prompt": step.prompt})  # fmt: skip
    facts = {"lucid-anvil-series": 1, "title": plan.title, "article": plan.article, "plan": plan_file.name,
             "compare": plan.compare, "steps": rows}  # fmt: skip
    whole_write(place / FILE, dump_yaml(facts))
    return series_in(place)


def series_in(folder: Path) -> Series:
    """A series as it is now. Raises BadInput."""
    held = load_yaml(folder / FILE)
    steps = []
    for number, row in enumerate(held["steps"], 1):
        place = folder / row["folder"]
        takes = list_takes(place)
        steps.append(SeriesStep(
            number, row["label"], row["method"], row.get("go_on", "done"), row.get("prompt", ""),
            place / "step.plan.yaml", takes[-1] if takes else None,
        ))  # fmt: skip
    return Series(folder, str(held.get("title", "")), tuple(steps))


def series_of(plan: Path) -> Series | None:
    """The series that a step's plan belongs to; None for a plan of its own."""
    folder = plan.parent.parent
    return series_in(folder) if plan.name == "step.plan.yaml" and (folder / FILE).exists() else None


# --- what came of it --------------------------------------------------------------------------------------------------


def moved(first: Finding, last: Finding) -> list[Reading]:
    """What moved between two findings of one method: last less first, of each reading that both have. The uncertainty
    is the root of the sum of squares of both, where both state one with the same coverage; a scatter that both share
    is counted twice by that, so it is on the safe side."""
    held = {r.key: r for r in first.readings}
    made = []
    for r in last.readings:
        was = held.get(r.key)
        if was is None or was.value is None or r.value is None or was.unit != r.unit:
            continue
        doubt = coverage = None
        if was.uncertainty is not None and r.uncertainty is not None and was.coverage == r.coverage:
            doubt, coverage = math.hypot(was.uncertainty, r.uncertainty), r.coverage
        valid = was.valid and r.valid
        why = "" if valid else was.reason or r.reason or "one of both does not count"
        made.append(Reading(f"moved_{r.key}", f"{r.label}, last less first", r.value - was.value, r.unit, doubt,
                            coverage, valid=valid, reason=why))  # fmt: skip
    return made


def pair(steps: Sequence[SeriesStep]) -> tuple[SeriesStep, SeriesStep] | None:
    """The first and the last step of one method that stand furthest apart, both read, and asked for the same."""
    read = [s for s in steps if s.finding is not None]
    pairs = [(a, b) for a in read for b in read if b.number > a.number and _asked(a) == _asked(b)]
    return max(pairs, key=lambda p: p[1].number - p[0].number, default=None)


def _asked(step: SeriesStep) -> tuple[Any, ...]:
    """What a step was asked for, as far as it makes its readings another quantity."""
    keys = registry.get(step.method).alike
    settings = step.take.plan().step.settings if keys and step.take is not None else {}
    return (step.method, *(str(settings.get(k)) for k in keys))


def finding_of(series: Series) -> Finding:
    """Each step's verdict as a reading, what moved, and what is missing. The verdict is the first of outside, open,
    inside that occurs among the steps and what moved, never inside while a step is missing."""
    held = load_yaml(series.folder / FILE)
    readings: list[Reading] = []
    missing: list[str] = []
    notes: list[str] = []
    for s in series.steps:
        found = s.finding
        verdict = found.verdict if found is not None else "none"
        doubt = s.take.doubt() if s.take is not None else None
        if s.status != "done" or found is None or not found.complete or doubt:
            missing.append(f"step {s.number}, {s.label}: {doubt or s.status or 'not run'}")
        notes.append(f"Step {s.number}, {s.label}: {s.status or 'not run'}, {verdict}.")
        readings.append(Reading(f"step_{s.number}", f"Step {s.number}, {s.label}", None, "", verdict=verdict,
                                valid=found is not None, reason="" if found else "not run"))  # fmt: skip
    both = pair(series.steps)
    if both is not None:
        a, b = (s.finding for s in both)
        assert a is not None and b is not None
        rows = moved(a, b)
        limits = Limits(_limits(held), {r.key: r.unit for r in rows}, "guarded")
        readings += [limits.judge(r) for r in rows]
        notes.append(f"What moved: step {both[1].number} less step {both[0].number}, {both[0].label}.")
    elif held.get("compare"):
        missing.append("what moved: no two steps of one method were read")
    return Finding("series", tuple(readings), notes=tuple(notes)).lacking(tuple(missing))


def _limits(held: Mapping[str, Any]) -> dict[str, Any]:
    return {k if k.startswith("moved_") else f"moved_{k}": v for k, v in (held.get("compare") or {}).items()}


def keep_finding(series: Series) -> Finding:
    """Read a series, and keep what came of it beside its steps."""
    found = finding_of(series)
    whole_write(series.folder / FINDING, json.dumps(as_json(found), indent=1, ensure_ascii=False))
    return found


def joined_plan(title: str, article: str, plans: Sequence[tuple[Path, str]], place: Path, compare: Mapping[str, Any]
                ) -> Path:  # fmt: skip
    """A plan of several steps from plans that are there, each with what it must come to before the next begins; the
    first one's rig, walk-round and sensors hold. Raises BadInput."""
    if len(plans) < 2:
        raise BadInput("Choose two plans at least: one after the other.")
    held = load_yaml(plans[0][0])
    steps = []
    rig = None
    for file, go_on in plans:
        plan = load_plan(file)
        if len(plan.steps) > 1:
            raise BadInput(f"{file.name}: it has several steps itself: choose plans of one step.")
        there = (file.parent / plan.rig).resolve() if plan.rig else None
        rig = rig or there
        settings = registry.get(plan.step.method).beside(plan.step.settings, file.parent)
        row: dict[str, Any] = {"method": plan.step.method, "label": file.parent.name.replace("-", " ").capitalize(),
                               "go_on": go_on, "settings": settings}  # fmt: skip
        if there is not None and there != rig:
            row["rig"] = str(there)
        if plan.guards:
            row["guards"] = [g.model_dump(exclude_none=True, exclude_defaults=True) for g in plan.guards]
        steps.append(row)
    keep = {k: v for k, v in held.items() if k not in ("steps", "guards", "title", "article", "rig")}
    made = {**keep, "title": title, "article": article, "rig": str(rig), "steps": steps}
    if compare:
        made["compare"] = dict(compare)
    place.parent.mkdir(parents=True, exist_ok=True)
    put_plan(place, made)
    load_plan(place)
    return place
