"""Evaluation of what was kept: read, map roles, check settings, call the method's pure half."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import replace
from pathlib import Path
from typing import Any

from ..contracts import registry
from ..contracts.finding import Finding
from ..contracts.method import TREND, Method, held_to_all
from ..contracts.settings import check
from ..core.errors import BadInput
from ..formats import Channel, read
from ..lab.hashes import wrong
from ..lab.takes import Take, open_take
from ..lab.textfiles import load_yaml


def parse_roles(given: Sequence[str]) -> dict[str, str]:
    """`['unit=ch 2']` as {'unit': 'ch 2'}."""
    made: dict[str, str] = {}
    for one in given:
        role, sign, channel = one.partition("=")
        if not sign or not role.strip() or not channel.strip():
            raise BadInput(f"--role {one}: write ROLE=CHANNEL.")
        if role.strip() in made:
            raise BadInput(f"--role {role.strip()}: it is given twice: leave one out.")
        made[role.strip()] = channel.strip()
    return made


def evaluate_file(name: str, recording: Path, settings_file: Path | None, roles: Sequence[str]) -> Finding:
    """One method over one record or take. Raises BadInput."""
    method = registry.get(name)
    wanted = parse_roles(roles)
    folder = recording if recording.is_dir() else recording.parent
    take = Take(folder) if (folder / "plan.yaml").exists() and (folder / "raw.h5").exists() else None
    if settings_file is not None:
        given = load_yaml(settings_file)
        if isinstance(given, dict):
            given = method.beside(given, settings_file.parent)
        settings = check(method.Settings, given, str(settings_file))
    elif take is not None:
        return evaluate_take(take)
    else:
        settings = check(method.Settings, {}, "the settings")
    record = read(recording, logs=method.logs)
    more = tuple(r for r in wanted if method.more or r in method.optional_roles)
    channels = record.roles(wanted, tuple(dict.fromkeys((*method.needs(settings), *more))))
    if len({id(c) for c in channels.values()}) < len(channels):
        raise BadInput(f"--role: two roles take the same channel of {recording}: give each its own.")
    try:
        made = method.judged(with_optional(method, channels, record), settings, record.marks)
        return replace(made, notes=(*record.notes, *made.notes))
    except BadInput as problem:
        if str(recording) in str(problem) or (settings_file and str(settings_file) in str(problem)):
            raise
        raise BadInput(f"{recording}: {problem}") from None


def with_optional(method: Method, channels: dict[str, Channel], record: Any) -> dict[str, Channel]:
    """Channels by role with those that a method takes where they are there."""
    for extra in method.optional_roles:
        if extra not in channels and record.labels.count(extra) == 1:
            channels[extra] = record.channel(extra)
    if method.trends:
        channels |= {TREND + c.label: c for c in record.trend}
    if method.more:
        taken = {id(c) for c in channels.values()}
        for c in record.channels:
            if id(c) not in taken and c.label not in channels:
                channels[c.label] = c
    return channels


def material(take: Take) -> tuple[Method, Mapping[str, Channel], Any, Sequence[Mapping[str, Any]]]:
    """Method, channels by role, settings and marks of a take."""
    plan = take.plan()
    method = registry.get(plan.step.method)
    settings = check(method.Settings, method.beside(plan.step.settings, take.folder), str(take.folder / "plan.yaml"))
    record = take.recording()
    channels = with_optional(method, record.roles({}, method.needs(settings)), record)
    return method, channels, settings, record.marks


def reread(take: Take, settings: Mapping[str, Any]) -> Finding:
    """A take read with other settings in place of its plan's. Raises BadInput."""
    method, channels, _, marks = material(take)
    made = check(method.Settings, method.beside(settings, take.folder), "the settings")
    return _noted(take, method.judged(channels, made, marks).lacking(unfinished(take)))


def series_of(take: Take) -> list[Take]:
    """The take and those that it completes or goes on from, oldest first. Raises BadInput when one is missing."""
    made = [take]
    while True:
        last = made[0]
        goes_on = (e["folder"] for e in last.events() if e["kind"] == "continued" and "folder" in e)
        base = next(goes_on, last.plan().base_take)
        if base is None:
            return made
        before = open_take((last.folder / base).resolve())
        if any(before.folder == t.folder.resolve() for t in made):
            raise BadInput(f"{before.folder}: it is said to complete itself: mend base_take in its plan.yaml.")
        made.insert(0, before)


def evaluate_take(take: Take, changes: Mapping[str, Any] | None = None) -> Finding:
    """The finding of a take, with some settings changed if wished. A take of struck points, and one that goes on from
    where another was cut, is read together with what it completes."""
    method, channels, settings, marks = material(take)
    if changes:
        merged = {**method.beside(take.plan().step.settings, take.folder), **changes}
        settings = check(method.Settings, merged, "the changed settings")
    # What was taken again, or gone on with, is read with what it completes.
    earlier = [material(t)[1:] for t in series_of(take)[:-1]]
    if earlier:
        finding = held_to_all(method.together([*earlier, (channels, settings, marks)]), settings)
    else:
        finding = method.judged(channels, settings, marks)
    return _noted(take, finding.lacking(unfinished(take)))


def _noted(take: Take, finding: Finding) -> Finding:
    """With what the reader of a record from elsewhere had to say of it."""
    said = tuple(n for n in take.recording().notes if n not in finding.notes)
    return replace(finding, notes=(*said, *finding.notes)) if said else finding


def stated(take: Take, finding: Finding | None = None) -> Finding | None:
    """The counted finding of a take, or this one of it, as whatever leaves the lab states it: not complete where the
    run was not, or where the raw record is another now. None where nothing was read."""
    held = finding or take.finding()
    return None if held is None else held.lacking(unfinished(take))


def unfinished(take: Take) -> list[str]:
    """Why a take is not whole, whatever its method: it was cut, or it has no end."""
    changed = wrong(take)
    status = take.status()
    if changed is not None:
        return [changed]
    if status == "interrupted":
        return ["the run has no end: it was killed, or it still goes on"]
    if status == "done":
        return []
    return [f"the run did not come to its end ({(take.reason() or status).rstrip('.')})"]
