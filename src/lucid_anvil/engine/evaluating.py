"""Evaluation of files: read, map roles, check settings, call the method's pure half."""

from __future__ import annotations

from collections.abc import Sequence
from pathlib import Path

from ..core.errors import BadInput
from ..formats import read
from ..lab.findings import Finding
from ..lab.textfiles import check, load_yaml
from ..methods import registry


def parse_roles(given: Sequence[str]) -> dict[str, str]:
    """`['unit=ch 2']` as {'unit': 'ch 2'}."""
    made = {}
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
    if settings_file is not None:
        settings = check(method.Settings, load_yaml(settings_file), str(settings_file))
    else:
        settings = _settings_of_take(method, recording)
    record = read(recording)
    channels = record.roles(wanted, method.roles)
    if len({id(c) for c in channels.values()}) < len(channels):
        raise BadInput(f"--role: two roles take the same channel of {recording}: give each its own.")
    for extra in getattr(method, "optional_roles", ()):
        if extra in record.labels:
            channels[extra] = record.channel(extra)
    return method.evaluate(channels, settings, record.marks)


def _settings_of_take(method: registry.Method, recording: Path) -> object:
    """A take knows its plan; a foreign file has only the defaults."""
    folder = recording if recording.is_dir() else recording.parent
    if (folder / "plan.yaml").exists() and (folder / "raw.h5").exists():
        held = load_yaml(folder / "plan.yaml")
        return check(method.Settings, held.get("settings", {}), str(folder / "plan.yaml"))
    return check(method.Settings, {}, "the settings")
