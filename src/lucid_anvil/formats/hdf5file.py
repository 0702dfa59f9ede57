"""The HDF5 layout of a take's raw streams, and of a record in one file.

`/channels/NNN` is one dataset a channel with the attributes label, unit, rate_hz and, where known, sensor,
sensitivity, sensitivity_unit, range. Fixed datasets made before the file goes into SWMR mode, and no strings
of variable length, because a reader beside a running writer can't see either.
"""

from __future__ import annotations

import contextlib
import json
from pathlib import Path
from typing import Any

import numpy as np

from ..contracts.recording import Channel, Recording
from ..core.errors import BadInput
from .pieces import Pieces, append, bring_back, pieces_in

FORMAT = "lucid-anvil-raw"


VERSION = 1


def state_root(file: Any) -> None:
    """What a file is, at its root: format, version, date, program."""
    import datetime

    from .. import __version__

    file.attrs["format"] = np.bytes_(FORMAT)
    file.attrs["version"] = VERSION
    file.attrs["date"] = np.bytes_(datetime.datetime.now(datetime.UTC).isoformat(timespec="seconds"))
    file.attrs["program"] = np.bytes_(f"Lucid Anvil {__version__}")


def close_properly(path: Path) -> bool:
    """Make a file whose writer was killed one that any reader of HDF5 opens: its streams written anew, as far as all
    channels go, then put in its place. False where it was closed already. Raises BadInput where it can't be read."""
    import os

    import h5py

    if not _has_writer(path):
        return False
    part = path.with_name(f".{path.name}.part")
    part.unlink(missing_ok=True)
    try:
        with open_raw(path) as old, h5py.File(part, "w", libver="latest") as new:
            for key, value in old.attrs.items():
                new.attrs[key] = value
            group = new.create_group("channels")
            held = old["channels"]
            length = min((held[k].shape[0] for k in held), default=0)
            for key in held:
                made = group.create_dataset(
                    key, shape=(length,), maxshape=(None,), dtype=held[key].dtype, chunks=held[key].chunks
                )
                for name, value in held[key].attrs.items():
                    made.attrs[name] = value
                for a in range(0, length, 1 << 20):
                    made[a : min(a + (1 << 20), length)] = held[key][a : min(a + (1 << 20), length)]
            if "pieces" in old:
                for name in ("pieces", "last", "trend"):
                    old.copy(name, new)
                bring_back(new)
        os.replace(part, path)
    except (OSError, KeyError, RuntimeError, ValueError) as problem:
        raise BadInput(f"{path}: it can't be closed properly ({' '.join(str(problem).split())[:160]}).") from None
    finally:
        part.unlink(missing_ok=True)
    return True


def lengthen(path: Path, rows: Any, start: int) -> None:
    """Put samples (channels, n), the first of which is the run's sample `start`, at the end of a closed file of
    streams, in a copy that takes its place when whole. Raises OSError."""
    import os
    import shutil

    import h5py

    part = path.with_name(f".{path.name}.part")
    try:
        shutil.copyfile(path, part)
        with h5py.File(part, "r+") as file:
            held = file["channels"]
            end = min(held[k].shape[0] for k in held)
            if "pieces" in file:
                append(file, end, start, rows)
            else:
                for key, row in zip(sorted(held), rows, strict=True):
                    held[key].resize((end + len(row),))
                    held[key][end:] = row
        os.replace(part, path)
    finally:
        part.unlink(missing_ok=True)


def _has_writer(path: Path) -> bool:
    """Whether its writer is at work, or was killed: the consistency flags of its superblock (HDF5 File Format
    Specification 3.0, II.A, byte 11 from version 2 on)."""
    with path.open("rb") as file:
        head = file.read(12)
    return len(head) == 12 and head[:8] == b"\x89HDF\r\n\x1a\n" and head[8] >= 2 and bool(head[11] & 0b101)


def open_raw(path: Path) -> Any:
    """Open for reading, also while it is being written or after its writer was killed. Raises BadInput."""
    import h5py

    try:
        # A file that nobody writes is opened the strict way: the other one looks for ever for what was cut off.
        return h5py.File(path, "r", swmr=_has_writer(path))
    except OSError as problem:
        raise BadInput(f"{path}: this is not an HDF5 file that can be read ({problem}).") from None


def _load(dataset: Any, path: Path, pieces: Pieces | None = None) -> Any:
    def load(a: int, b: int) -> Any:
        try:
            if pieces is not None:
                made = [np.asarray(dataset[low:high], dtype=float) for low, high in pieces.spans(a, b)]
                return np.concatenate(made) if made else np.zeros(0)
            return np.asarray(dataset[a:b], dtype=float)
        except (OSError, RuntimeError):
            raise BadInput(f"{path}: samples {a} to {b} are damaged: crop the record to what is whole.") from None

    return load


def read_raw(path: Path) -> Recording:
    """Channels are read piece by piece; the file stays open as long as they are held. Raises BadInput, here and by a
    channel whose samples are damaged."""
    file = open_raw(path)
    try:
        return _recording(path, file)
    except (KeyError, OSError, RuntimeError, ValueError, AttributeError, TypeError, IndexError) as problem:
        said = str(problem).strip("'\"")
        raise BadInput(f"{path}: this HDF5 file is damaged ({said}): take it from where it is whole.") from None


def _recording(path: Path, file: Any) -> Recording:
    if file.attrs.get("format", b"") not in (FORMAT, FORMAT.encode(), np.bytes_(FORMAT)) or "channels" not in file:
        raise BadInput(f"{path}: this HDF5 file is not one of ours: convert it to csv, wav, uff or mat first.")
    channels = []
    lengths = [file["channels"][k].shape[0] for k in file["channels"]]
    same = min(lengths) if max(lengths, default=0) - min(lengths, default=0) < 1e6 else None
    pieces = pieces_in(file, min(lengths, default=0))
    for key in sorted(file["channels"]):
        dataset = file["channels"][key]
        attrs = {k: (v.decode() if isinstance(v, bytes) else v) for k, v in dataset.attrs.items()}
        label, unit = str(attrs.pop("label")), str(attrs.pop("unit"))
        rate = float(attrs.pop("rate_hz"))
        # After a kill one channel may hold a block more than the others.
        length = dataset.shape[0] if same is None else same
        length = length if pieces is None else pieces.length
        times = np.asarray(file["times"], dtype=float) if attrs.pop("uneven", 0) else None
        channels.append(Channel(label, unit, rate, int(length), _load(dataset, path, pieces), attrs, times))
    beside = path.parent / "events.jsonl"
    meta: dict[str, Any] = {"format": "hdf5", "file": file}
    if "notes" in file.attrs:
        said = file.attrs["notes"]
        meta["notes"] = tuple(json.loads(said.decode() if isinstance(said, bytes) else str(said)))
    events = read_events(beside)
    if pieces is None:
        return Recording(str(path), tuple(channels), meta, tuple(events))
    rate = channels[0].rate
    meta |= {"end": pieces.end, "notes": (*meta.get("notes", ()), *_said(pieces, rate))}
    return Recording(str(path), tuple(channels), meta, tuple(pieces.timed(events, rate)), _trend(file, path))


def _said(pieces: Pieces, rate: float) -> tuple[str, ...]:
    gaps = pieces.marks(rate)
    if not gaps:
        return ()
    lost = sum(m["lost"] for m in gaps)
    return (f"The raw record is kept in {len(gaps) + 1} pieces: {lost:.4g} s between them were let go.",)


def _trend(file: Any, path: Path) -> tuple[Channel, ...]:
    """The table that is kept of all; its columns end together, whatever a kill left."""
    held = file["trend"]
    length = min((held[k].shape[0] for k in held), default=0)
    made = []
    for key in sorted(held):
        label, unit = (bytes(held[key].attrs[a]).decode() for a in ("label", "unit"))
        made.append(Channel(label, unit, 1.0, int(length), _load(held[key], path)))
    return tuple(made)


POSITION = '{"kind": "position"'
"""What lines begin with that tell where a run could be continued from: a long one has ten thousands"""


def read_events(path: Path) -> list[dict[str, Any]]:
    """Events of a take, of its positions the last one; a last line cut short by a kill is left out."""
    lines: list[str] = []
    if path.exists():
        newest, before = -1, ""
        with path.open(encoding="utf-8") as file:
            for line in file:
                if line.startswith(POSITION) and line.endswith("}\n"):
                    newest, before = len(lines), line
                else:
                    lines.append(line)
        if newest >= 0:
            lines.insert(newest, before)
    made = []
    for line in lines:
        with contextlib.suppress(json.JSONDecodeError):
            made.append(json.loads(line))
    return made


def describe(dataset: Any, label: str, unit: str, rate: float, meta: dict[str, Any]) -> None:
    """Put a channel's description on its dataset, strings as fixed-length bytes."""
    held = {"label": label, "unit": unit, "rate_hz": float(rate), **meta}
    for key, value in held.items():
        if isinstance(value, str):
            dataset.attrs[key] = np.bytes_(value.encode())
        elif isinstance(value, (int, float)) and not isinstance(value, bool):
            dataset.attrs[key] = value


def write_raw(path: Path, recording: Recording) -> None:
    """All channels into one file, piece by piece."""
    import h5py

    with h5py.File(path, "w", libver="latest") as file:
        state_root(file)
        if recording.notes:
            file.attrs["notes"] = np.bytes_(json.dumps(recording.notes, ensure_ascii=False).encode())
        group = file.create_group("channels")
        times = next((c.times for c in recording.channels if c.times is not None), None)
        if times is not None:  # a logger's rows, each at its time
            file.create_dataset("times", data=np.asarray(times, dtype="f8"))
        for i, c in enumerate(recording.channels):
            dataset = group.create_dataset(
                f"{i:03d}", shape=(c.length,), dtype="f8", chunks=(min(max(c.length, 1), 65536),)
            )
            describe(dataset, c.label, c.unit, c.rate, {**c.meta, **({"uneven": 1} if c.times is not None else {})})
            for a in range(0, c.length, 1 << 20):
                dataset[a : a + (1 << 20)] = c.samples(a, a + (1 << 20))
