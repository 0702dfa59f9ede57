"""The recorder: raw streams of a take to HDF5 while they come, readable at any moment."""

from __future__ import annotations

import hashlib
import json
import os
from pathlib import Path
from typing import Any

import numpy as np

from ..contracts.finding import clean_numbers
from ..core.signal.sinefit import Floats
from ..formats.hdf5file import describe, state_root


class Recorder:
    """Writes `raw.h5` in SWMR mode and `events.jsonl`. At most one second is lost to a kill."""

    def __init__(self, folder: Path, channels: list[dict[str, Any]], rate: float, block: int) -> None:
        """`channels` in the order of the rows: label, unit and what else is known of each; `per_volt` [its unit] where
        a row comes in volts and is kept otherwise."""
        import h5py

        folder.mkdir(parents=True, exist_ok=True)
        self.folder, self.rate, self.block = folder, rate, block
        self.path = folder / "raw.h5"
        self.file = h5py.File(self.path, "x", libver="latest")
        state_root(self.file)
        self.factors = np.array([float(c.get("per_volt", 1.0)) for c in channels])[:, None]
        group = self.file.create_group("channels")
        self.sets = []
        chunk = block * max(1, round(0.5 * rate / block))
        for i, held in enumerate(channels):
            made = group.create_dataset(f"{i:03d}", shape=(0,), maxshape=(None,), dtype="f4", chunks=(chunk,))
            extra = {k: v for k, v in held.items() if k not in ("label", "unit", "per_volt")}
            describe(made, held["label"], held["unit"], rate, extra)
            self.sets.append(made)
        self.file.swmr_mode = True
        self.events = (folder / "events.jsonl").open("a", encoding="utf-8")
        self.length = 0
        self.broken: str | None = None
        """Why nothing can be written any more"""
        self.held: list[Floats] = []
        self.waiting = 0

    def write(self, samples: Floats) -> None:
        """One block (channels, n); goes to disk every half second. Raises OSError where that fails, once; what comes
        after it is let go."""
        if self.broken is not None:
            return
        self.held.append(samples)
        self.waiting += samples.shape[1]
        if self.waiting >= 0.5 * self.rate:
            self.flush()

    def flush(self) -> None:
        """All that is held to disk, where a reader can see it."""
        if not self.held:
            return
        whole = (np.concatenate(self.held, axis=1) * self.factors).astype("f4")
        self.held, self.waiting = [], 0
        end = self.length + whole.shape[1]
        for row, dataset in zip(whole, self.sets, strict=True):
            dataset.resize((end,))
            dataset[self.length : end] = row
        self.file.flush()
        self.length = end

    def event(self, kind: str, **more: Any) -> None:
        """One line to `events.jsonl`, on disk at once; numbers that JSON can't hold become null."""
        line = json.dumps(clean_numbers({"kind": kind, **more}), ensure_ascii=False, allow_nan=False)
        try:
            self.events.write(line + "\n")
            self.events.flush()
        except OSError as problem:  # a full disk: the run's own end must not hang on it
            self.broken = self.broken or str(problem)

    @property
    def seconds(self) -> float:
        return (self.length + self.waiting) / self.rate

    def close(self, **end: Any) -> None:
        """Finish: what is held, the hash, the end event; then read-only."""
        if self.broken is None:
            self.flush()
        self.file.close()
        digest = hashlib.sha256()
        with self.path.open("rb") as file:
            while piece := file.read(1 << 20):
                digest.update(piece)
        self.event("end", t=self.length / self.rate, sha256=digest.hexdigest(), **end)
        self.events.close()
        os.chmod(self.path, 0o444)
