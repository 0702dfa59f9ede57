"""The recorder: raw streams of a take to HDF5 while they come, readable at any moment."""

from __future__ import annotations

import hashlib
import json
import os
from collections.abc import Mapping, Sequence
from pathlib import Path
from typing import Any

import numpy as np

from ..contracts.finding import clean_numbers
from ..contracts.method import Thinned
from ..core.signal.sinefit import Floats
from ..formats import pieces
from ..formats.hdf5file import describe, state_root

LITTLE = 1 << 16
"""bytes of what was written that are kept at hand, a dataset: left alone, a long run would hold megabytes of each"""


class Recorder:
    """Writes `raw.h5` in SWMR mode and `events.jsonl`. At most one second is lost to a kill."""

    def __init__(
        self, folder: Path, channels: list[dict[str, Any]], rate: float, block: int, thinned: Thinned | None = None
    ) -> None:
        """`channels` in the order of the rows: label, unit and what else is known of each; `per_volt` [its unit] where
        a row comes in volts and is kept otherwise. `thinned`: not all will be kept, but a table of it."""
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
            made = group.create_dataset(f"{i:03d}", shape=(0,), maxshape=(None,), dtype="f4", chunks=(chunk,),
                                         rdcc_nbytes=max(8 * chunk, LITTLE))  # fmt: skip
            extra = {k: v for k, v in held.items() if k not in ("label", "unit", "per_volt")}
            describe(made, held["label"], held["unit"], rate, extra)
            self.sets.append(made)
        self.thin = None if thinned is None else _Thin(self.file, len(channels), rate, block, thinned)
        self.file.swmr_mode = True
        self.events = (folder / "events.jsonl").open("a", encoding="utf-8")
        self.length = 0
        self.passed = 0
        """Samples of the run, kept or not"""
        self.broken: str | None = None
        """Why nothing can be written any more"""
        self.held: list[tuple[int, Floats]] = []
        self.waiting = 0

    def write(self, samples: Floats, keep: bool = True) -> None:
        """One block (channels, n); goes to disk every half second. One that need not be kept stays on disk only as
        long as the record's `last`. Raises OSError where that fails, once; what comes after it is let go."""
        if self.broken is not None:
            return
        if keep or self.thin is None:
            self.held.append((self.passed, samples))
        else:
            self.thin.aside.append((self.passed, samples))
        self.passed += samples.shape[1]
        self.waiting += samples.shape[1]
        if self.waiting >= 0.5 * self.rate:
            self.flush()

    def row(self, values: Mapping[str, float]) -> None:
        """A line of the table of what is thinned."""
        if self.thin is not None and self.broken is None:
            self.thin.rows.append(values)

    def flush(self) -> None:
        """All that is held to disk, where a reader can see it."""
        self.waiting = 0
        made, self.held = stretches(self.held), []
        for start, rows in made:
            whole = (rows * self.factors).astype("f4")
            if self.thin is None:
                end = self.length + whole.shape[1]
                for row, dataset in zip(whole, self.sets, strict=True):
                    dataset.resize((end,))
                    dataset[self.length : end] = row
                self.length = end
            else:
                self.length = pieces.append(self.file, self.length, start, whole)
        if self.thin is not None:
            self.thin.flush(self.factors)
        self.file.flush()

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
        """Of the run"""
        return self.passed / self.rate

    def close(self, **end: Any) -> None:
        """Finish: what is held, the hash, the end event; then read-only."""
        if self.broken is None:
            self.flush()
            if self.thin is not None:
                pieces.bring_back(self.file)
        self.file.close()
        digest = hashlib.sha256()
        with self.path.open("rb") as file:
            while piece := file.read(1 << 20):
                digest.update(piece)
        self.event("end", t=self.passed / self.rate, sha256=digest.hexdigest(), **end)
        self.events.close()
        os.chmod(self.path, 0o444)


class _Thin:
    """What a record has beside its channels where not all of it is kept: pieces, a ring, a table."""

    def __init__(self, file: Any, channels: int, rate: float, block: int, thinned: Thinned) -> None:
        self.block = block
        slots = max(int(np.ceil(thinned.last * rate / block)), 1)
        file.create_dataset("pieces", shape=(0, 2), maxshape=(None, 2), dtype="i8", chunks=(256, 2))
        ring = file.create_group("last")
        self.begins = ring.create_dataset("begins", data=np.full(slots, -1, dtype="i8"))
        wide = block * min(slots, 16)
        self.samples = ring.create_dataset("samples", shape=(channels, slots * block), dtype="f4",
                                           chunks=(channels, wide),
                                           rdcc_nbytes=max(8 * channels * wide, LITTLE))  # fmt: skip
        self.slots = slots
        table = file.create_group("trend")
        self.columns = {}
        for i, (name, unit) in enumerate(thinned.columns.items()):
            made = table.create_dataset(f"{i:03d}", shape=(0,), maxshape=(None,), dtype="f8", chunks=(4096,),
                                        rdcc_nbytes=LITTLE)  # fmt: skip
            describe(made, name, unit, 1.0, {})
            self.columns[name] = made
        self.count = 0
        self.aside: list[tuple[int, Floats]] = []
        self.rows: list[Mapping[str, float]] = []

    def flush(self, factors: Floats) -> None:
        for start, rows in stretches(self.aside):
            at, n = start // self.block, rows.shape[1] // self.block
            held = (rows * factors).astype("f4")
            done = 0
            while done < n:  # the ring begins anew at its end
                slot = (at + done) % self.slots
                many = min(n - done, self.slots - slot)
                part = held[:, done * self.block : (done + many) * self.block]
                self.samples[:, slot * self.block : (slot + many) * self.block] = part
                self.begins[slot : slot + many] = start + (done + np.arange(many)) * self.block
                done += many
        self.aside = []
        if self.rows:
            end = self.count + len(self.rows)
            for name, column in self.columns.items():
                column.resize((end,))
                column[self.count : end] = [row[name] for row in self.rows]
            self.count, self.rows = end, []


def stretches(blocks: Sequence[tuple[int, Floats]]) -> list[tuple[int, Floats]]:
    """Blocks that follow on one another as one, each with the sample of the run that it begins with."""
    made: list[tuple[int, list[Floats]]] = []
    end = -1
    for start, rows in blocks:
        if start == end:
            made[-1][1].append(rows)
        else:
            made.append((start, [rows]))
        end = start + rows.shape[1]
    return [(start, np.concatenate(rows, axis=1)) for start, rows in made]
