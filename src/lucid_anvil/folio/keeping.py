"""Papers that the lab keeps: the report of any take, beside the certificates."""

from __future__ import annotations

import re
from pathlib import Path

from ..core.errors import BadInput
from ..lab.papers import from_lab, list_papers, load_paper
from ..lab.place import Lab
from ..lab.takes import Take
from .certificate import certified, report
from .handing import begin_paper


def reports(lab: Lab) -> Path:
    """Where reports are kept."""
    return lab.folder / "reports"


def begin_report(lab: Lab, take: Take) -> Path:
    """What *Report* makes: of a calibration the certificate as it would stand, as PDF; of all else a paper of cards, or
    the one of this take alone that is still open. Raises BadInput where there is nothing to report."""
    finding = take.finding()
    if finding is not None and certified(take, finding):
        return keep_report(lab, take)
    for place in list_papers(lab):
        try:
            paper = load_paper(place)
        except BadInput:
            continue
        if paper.open and paper.takes == [from_lab(lab, take.folder)]:
            return place
    return begin_paper(lab, [take])


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
