"""Papers that the lab keeps: the report of any take, beside the certificates."""

from __future__ import annotations

import re
from pathlib import Path

from ..core.errors import BadInput
from ..lab.place import Lab
from ..lab.takes import Take
from .certificate import report


def reports(lab: Lab) -> Path:
    """Where reports are kept."""
    return lab.folder / "reports"


def keep_report(lab: Lab, take: Take) -> Path:
    """Write a take's report into the lab, under a name that tells what it is of; a paper that is there stays as it is.
    Raises BadInput where there is nothing to report, or it can't be written."""
    folder = reports(lab)
    try:
        folder.mkdir(exist_ok=True)
    except OSError as problem:
        raise BadInput(f"{folder}: it can't be made ({problem.strerror}).") from None
    parts = take.folder.resolve().parts
    jobs = lab.jobs.resolve().parts
    inside = parts[len(jobs) :] if parts[: len(jobs)] == jobs else parts[-2:]
    name = re.sub(r"[^\w.-]+", "-", " ".join(inside)).strip("-")
    count, place = 1, folder / f"{name}.pdf"
    while place.exists():
        count += 1
        place = folder / f"{name}-{count}.pdf"
    report(take, place)
    return place
