"""Files of every format cut at random places: refused in one sentence, read whole, or read with a word."""

from __future__ import annotations

from functools import partial
from pathlib import Path

import numpy as np

from lucid_anvil.contracts.recording import Recording, channel_of
from lucid_anvil.core.errors import BadInput
from lucid_anvil.formats import read, write

from .told import Job, Told

ENDINGS = ("wav", "rf64", "w64", "uff", "mat", "h5", "xlsx", "csv")
RATE, COUNT = 2000.0, 3000


def jobs(folder: Path, places: int) -> list[Job]:
    """Each format at so many places."""
    rng = np.random.default_rng(40)
    x = np.sin(np.arange(COUNT) * 0.05) * np.linspace(0.2, 1, COUNT)
    made: list[Job] = []
    for ending in ENDINGS:
        whole = folder / f"whole.{ending}"
        write(whole, Recording("here", (channel_of("a", "V", RATE, x), channel_of("b", "m/s²", RATE, 2 * x))))
        held = whole.read_bytes()
        for at in rng.integers(1, len(held), places):
            made.append((f"torn {ending} at {at}", partial(cut, folder / f"torn.{ending}", held[: int(at)], x)))
    return made


def cut(place: Path, held: bytes, x: np.ndarray) -> Told:
    """What reading it says."""
    place.write_bytes(held)
    try:
        made = read(place)
        pairs = [(c.samples(), k * x) for k, c in enumerate(made.channels, start=1)]
    except BadInput as problem:
        plain = str(place) in str(problem) and "\n" not in str(problem)
        return Told(plain, str(problem))
    noted = any("does not end" in note for note in made.notes)
    whole = all(a.size == b.size and np.allclose(a, b, atol=1e-6) for a, b in pairs)
    # Nobody can tell a text that ends with a line from a whole one; its rows are right then.
    rows = place.suffix == ".csv" and all(
        np.allclose(a[: a.size - noted], b[: a.size - noted], atol=1e-6) for a, b in pairs
    )
    return Told(whole or rows, "read" + (", with a word" if noted else ""))
