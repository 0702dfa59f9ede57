"""Photos of what stands in the ledger, kept beside it: one folder a serial number, the newest last."""

from __future__ import annotations

import re
import shutil
from pathlib import Path

from ..core.errors import BadInput
from .place import Lab

KINDS = (".jpg", ".jpeg", ".png")


def photos_of(lab: Lab, serial: str) -> list[Path]:
    """The photos of a sensor or instrument, oldest first."""
    folder = _folder(lab, serial)
    if not folder.is_dir():
        return []
    return sorted(p for p in folder.iterdir() if p.suffix.lower() in KINDS)


def keep_photo(lab: Lab, serial: str, photo: Path) -> Path:
    """A copy of a photo; none that is there is written over. Raises BadInput."""
    if photo.suffix.lower() not in KINDS:
        raise BadInput(f"{photo.name}: a photo is a jpg or png file.")
    folder = _folder(lab, serial)
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
