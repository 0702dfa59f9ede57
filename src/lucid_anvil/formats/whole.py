"""Whether a file is whole, and its numbers are: what is not understood wholly is refused, never read as another."""

from __future__ import annotations

import struct
from pathlib import Path
from typing import Any

import numpy as np

from ..contracts.recording import Floats
from ..core.errors import BadInput

UNSTATED = 0xFFFFFFFF
W64_HEAD = b"riff\x2e\x91\xcf\x11\xa5\xd6\x28\xdb\x04\xc1\x00\x00"


def finite(table: Floats, path: Path, names: list[str]) -> Floats:
    """The samples (n, channels), when all of them are numbers. Raises BadInput naming the first that is not."""
    if np.isfinite(table).all():
        return table
    row, column = np.argwhere(~np.isfinite(table))[0]
    raise BadInput(
        f"{path}: sample {row + 1} of {names[column]} is not a number: crop the record to what is whole, or mend it."
    )


def even_rate(time: Floats, unit: str, path: Path) -> float:
    """Hz of a time axis in `unit`, seconds where none is stated. Raises BadInput."""
    from ..core.quantities import factor, same_kind

    if unit and not same_kind(unit, "s"):
        raise BadInput(f"{path}: the time is in '{unit}', which is no time: name its column like 'time [s]'.")
    t = np.asarray(time, float) * factor(unit or "s", "s")
    steps = np.diff(t)
    mean = float(steps.mean()) if steps.size else 0.0
    if not np.isfinite(t).all() or mean <= 0 or np.any(np.abs(steps - mean) > 1e-3 * mean):
        raise BadInput(f"{path}: time steps are uneven by more than 0.1 %: resample to an even rate.")
    rate = 1 / mean
    nominal = round(rate)
    return float(nominal) if nominal and abs(rate / nominal - 1) < 1e-6 else rate


def check_sound(path: Path) -> None:
    """Raises BadInput for a WAV, RF64 or W64 file that holds less than its own header says (EBU Tech 3306)."""
    size = path.stat().st_size
    with path.open("rb") as file:
        head = file.read(12)
        if head[:4] in (b"RIFF", b"RF64") and head[8:12] == b"WAVE":
            _check_chunks(path, file, size)
        elif len(head) == 12 and head == W64_HEAD[:12]:
            file.seek(16)
            held = file.read(8)
            if len(held) < 8 or struct.unpack("<Q", held)[0] > size:
                raise BadInput(f"{path}: the file is cut: its header says more than it holds; take it whole.")


def _check_chunks(path: Path, file: Any, size: int) -> None:
    at, long_data = 12, None
    while at + 8 <= size:
        file.seek(at)
        name, length = struct.unpack("<4sI", file.read(8))
        if name == b"ds64":
            long_data = struct.unpack("<QQ", file.read(16))[1]
        if name == b"data":
            if length == UNSTATED:
                if long_data is None:
                    raise BadInput(f"{path}: its header does not say how long it is: write it anew as .rf64 or .w64.")
                length = long_data
            if at + 8 + length > size:
                raise BadInput(
                    f"{path}: the file is cut: its header says {length} bytes of samples and {size - at - 8} are there;"
                    " take it whole."
                )
            return
        at += 8 + length + length % 2
    raise BadInput(f"{path}: the file is cut: there are no samples in it; take it whole.")


def check_mat(path: Path) -> None:
    """Raises BadInput for a MAT version 5 file whose elements reach beyond its end."""
    size = path.stat().st_size
    with path.open("rb") as file:
        head = file.read(128)
        if len(head) < 128 or head[126:128] not in (b"IM", b"MI"):
            return
        order = "<" if head[126:128] == b"IM" else ">"
        at = 128
        while at < size:
            file.seek(at)
            tag = file.read(8)
            if len(tag) < 8:
                raise BadInput(f"{path}: the file is cut in an element; take it whole.")
            kind, length = struct.unpack(order + "II", tag)
            if at + 8 + length > size:
                raise BadInput(f"{path}: the file is cut: {at + 8 + length - size} bytes are missing; take it whole.")
            at += 8 + length
            if kind != 15:  # all but compressed elements are padded to eight bytes
                at += -length % 8
