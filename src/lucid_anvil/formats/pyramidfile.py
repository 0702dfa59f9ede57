"""Pyramids of long records kept beside them, so that the next look opens at once."""

from __future__ import annotations

from pathlib import Path
from zipfile import BadZipFile

import numpy as np

from ..core.signal.pyramid import Pyramid


def keep(pyramid: Pyramid, place: Path) -> None:
    """Write it beside a take; it can be thrown away and made again."""
    place.parent.mkdir(parents=True, exist_ok=True)
    held = {f"level{k}": level for k, level in enumerate(pyramid.levels)}
    part = place.with_name(f".{place.name}.part")
    with part.open("wb") as file:
        np.savez(file, length=np.int64(pyramid.length), **held)  # type: ignore[arg-type]
    part.replace(place)


def kept(place: Path, length: int) -> Pyramid | None:
    """The pyramid kept at a place, if it is of a record of that length; None otherwise."""
    try:
        with np.load(place) as held:
            if int(held["length"]) != length:
                return None
            count = sum(1 for k in held.files if k.startswith("level"))
            return Pyramid(length, tuple(held[f"level{k}"] for k in range(count)))
    except (OSError, ValueError, KeyError, EOFError, BadZipFile):
        return None
