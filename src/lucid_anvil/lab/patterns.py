"""Plans made from plans: a copy, a pattern that the lab keeps, the same for the next unit, one from a take.

The text goes over as it is, comments and all; only rig, article and title are written anew, in their places.
"""

from __future__ import annotations

import os
import re
import shutil
from collections.abc import Mapping
from pathlib import Path
from typing import Any

from ..core.errors import BadInput
from .editing import put_in
from .place import Lab
from .plans import load_plan, put_plan
from .takes import Take, plan_beside
from .textfiles import load_yaml

FOLDER = "patterns"


def slug(text: str) -> str:
    """A name for a file or folder: small letters, digits and hyphens. Raises BadInput where nothing is left."""
    made = re.sub(r"[^\w]+", "-", text.strip().lower()).strip("-_")
    if not made:
        raise BadInput(f"'{text}': a name needs a letter or a digit.")
    return made


def free_folder(base: Path, name: str) -> Path:
    """A folder of that name that is not there yet."""
    for number in range(1, 1000):
        made = base / (name if number == 1 else f"{name}-{number}")
        if not made.exists():
            return made
    raise BadInput(f"{base}: there are a thousand of that name: choose another.")


def _named(data: Any) -> list[str]:
    """Files that a plan's or a profile's data name, as they stand there."""
    if isinstance(data, Mapping):
        made = [v for k, v in data.items() if k in ("profile", "file") and isinstance(v, str)]
        return made + [n for v in data.values() for n in _named(v)]
    if isinstance(data, list):
        return [n for v in data for n in _named(v)]
    return []


def copied(plan: Path, folder: Path, changes: Mapping[str, Any]) -> Path:
    """A plan's text with the files that it names, into a folder that is made; some of its own values changed. Raises
    BadInput; then nothing is made."""
    held = load_yaml(plan)
    load_plan(plan)
    place = folder / f"{folder.name}.plan.yaml"
    made = [p for p in (folder, *folder.parents) if not p.exists()]
    try:
        folder.mkdir(parents=True)
        for name in _named(held):
            _copy(plan.parent / name, folder)
        shutil.copyfile(plan, place)
        rig = held.get("rig")
        if rig:
            there = Path(rig) if Path(rig).is_absolute() else (plan.parent / rig).resolve()
            put_in(place, ["rig"], os.path.relpath(there, folder.resolve()))
        for key, value in changes.items():
            put_in(place, [key], value)
        load_plan(place)
    except (BadInput, OSError) as problem:
        shutil.rmtree(folder, ignore_errors=True)
        for one in made[1:]:
            one.rmdir()
        if isinstance(problem, OSError):
            raise BadInput(f"{folder}: it can't be written ({problem.strerror}): choose another place.") from None
        raise
    return place


def _copy(source: Path, folder: Path) -> None:
    """A file that a plan names, and those that it names itself; one that lies elsewhere stays where it is."""
    if not source.is_file() or (folder / source.name).exists():
        return
    shutil.copyfile(source, folder / source.name)
    if source.suffix == ".yaml":
        for name in _named(load_yaml(source)):
            _copy(source.parent / name, folder)


def duplicate(plan: Path) -> Path:
    """A copy beside a plan's own folder."""
    title = str(load_yaml(plan).get("title", ""))
    return copied(plan, free_folder(plan.parent.parent, plan.parent.name), {"title": f"{title}, copy"})


def keep_pattern(lab: Lab, plan: Path, name: str) -> Path:
    """Keep a plan as a pattern to begin others from. Raises BadInput where there is one of that name."""
    folder = lab.folder / FOLDER / slug(name)
    if folder.exists():
        raise BadInput(f"There is a pattern '{name}' already: choose another name.")
    return copied(plan, folder, {"title": name.strip(), "article": ""})


def patterns(lab: Lab) -> list[tuple[str, Path]]:
    """Name and plan of the lab's patterns."""
    found = sorted((lab.folder / FOLDER).glob("*/*.plan.yaml"))
    return [(str(load_yaml(p).get("title") or p.parent.name), p) for p in found]


def for_unit(lab: Lab, plan: Path, article: str, title: str = "") -> Path:
    """The same for another article, in a folder of its own. Raises BadInput."""
    if not article.strip():
        raise BadInput("Article: say what is tested.")
    facts = lab.facts
    name = slug(title) if title.strip() else plan.parent.name
    folder = free_folder(lab.jobs / (facts.job or "bench") / slug(article), name)
    who = {"job": facts.job, "customer": facts.customer, "customer_address": facts.customer_address,
           "operator": facts.operator}  # fmt: skip
    held = load_yaml(plan)
    was, now = str(held.get("article", "")), article.strip()
    text = title.strip() or str(held.get("title", ""))
    if was and was in text and not title.strip():
        text = text.replace(was, now)
    elif not title.strip() and now not in text:
        text = f"{text}, {now}"
    changes = {k: v for k, v in who.items() if v or k in held}
    return copied(plan, folder, {**changes, "article": now, "title": text})


def from_take(take: Take) -> Path:
    """A plan with the settings that a take was run with, beside the take's own plan's folder."""
    beside = plan_beside(take.folder)
    folder = free_folder(take.folder.parent.parent, f"{take.folder.parent.name}-from-{take.name}")
    held = load_yaml(take.folder / "plan.yaml")
    held["title"] = f"{held.get('title', '')}, as {take.name}"
    if beside.exists() and load_yaml(beside).get("rig"):
        rig = load_yaml(beside)["rig"]
        held["rig"] = str(Path(rig) if Path(rig).is_absolute() else (beside.parent / rig).resolve())
    folder.mkdir(parents=True)
    try:
        for name in _named(held):
            _copy(take.folder / name, folder)
        return put_plan(folder / f"{folder.name}.plan.yaml", held)
    except BadInput:
        shutil.rmtree(folder)
        raise
