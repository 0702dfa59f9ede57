"""Photos, kept beside what they show: of a sensor one folder a serial number, of a take and of an article a folder of
theirs; the newest last."""

from __future__ import annotations

import re
import shutil
from pathlib import Path

from ..core.errors import BadInput
from .place import Lab

KINDS = (".jpg", ".jpeg", ".png")


def photos_of(lab: Lab, serial: str) -> list[Path]:
    """The photos of a sensor or instrument, oldest first."""
    return photos_in(_folder(lab, serial))


def photos_in(folder: Path) -> list[Path]:
    """The photos in a folder, oldest first."""
    if not folder.is_dir():
        return []
    return sorted(p for p in folder.iterdir() if p.suffix.lower() in KINDS)


def article_of(lab: Lab, plan_folder: Path) -> Path | None:
    """The folder of the article that a plan's folder is of; None where it lies beside the articles, as a calibration's
    does."""
    folder, jobs = plan_folder.resolve(), lab.jobs.resolve()
    if not folder.is_relative_to(jobs):
        return None
    parts = folder.relative_to(jobs).parts
    return plan_folder.parent if len(parts) >= 3 else None


def photos_at(folder: Path) -> Path:
    """Where photos of a take lie, or of the article whose folder it is."""
    return folder / "photos"


def keep_photo(lab: Lab, serial: str, photo: Path) -> Path:
    """A copy of a photo; none that is there is written over. Raises BadInput."""
    return keep_in(_folder(lab, serial), photo)


def keep_in(folder: Path, photo: Path) -> Path:
    """A copy of a photo in a folder; none that is there is written over. Raises BadInput."""
    if photo.suffix.lower() not in KINDS:
        raise BadInput(f"{photo.name}: a photo is a jpg or png file.")
    try:
        folder.mkdir(parents=True, exist_ok=True)
        there = [int(p.stem) for p in folder.iterdir() if p.stem.isdigit()]
        place = folder / f"{max(there, default=0) + 1:03d}{photo.suffix.lower()}"
        shutil.copyfile(photo, place)
    except OSError as problem:
        raise BadInput(f"{photo}: it can't be kept ({problem.strerror}).") from None
    return place


def _folder(lab: Lab, serial: str) -> Path:
    # Two serials that differ in a sign only must not share a folder.
    plain = re.sub(r"[^\w.-]+", lambda m: "%" + m.group().encode().hex(), serial).strip(".") or "unnamed"
    return lab.folder / "photos" / plain
