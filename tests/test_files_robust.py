"""Files that were cut short, overwritten or mixed up: one sentence, or what can be read of them; never a fault."""

from __future__ import annotations

from pathlib import Path

import numpy as np
import pytest

from lucid_anvil.contracts.recording import Recording, channel_of
from lucid_anvil.core.errors import BadInput
from lucid_anvil.formats import read, write
from lucid_anvil.formats.files import ENDINGS

RATE = 1000.0
SHARES = (0.0, 0.02, 0.1, 0.37, 0.5, 0.81, 0.97, 0.999)


def recording(count: int = 400) -> Recording:
    t = np.arange(count) / RATE
    return Recording("made", (channel_of("control", "V", RATE, np.sin(30 * t)),
                              channel_of("drive", "V", RATE, 0.5 * np.cos(30 * t))))  # fmt: skip


def held(tmp_path: Path, ending: str) -> bytes:
    place = tmp_path / f"whole{ending}"
    write(place, recording())
    return place.read_bytes()


def told_or_read(place: Path) -> Recording | None:
    """What can be read of it to the last sample; None when one sentence says why nothing can."""
    try:
        made = read(place)
        for c in made.channels:
            assert c.samples().size == c.length
        return made
    except BadInput as said:
        text = str(said)
        assert place.name in text and "\n" not in text and 20 < len(text) < 400, text
        return None


@pytest.mark.parametrize("ending", sorted(ENDINGS))
@pytest.mark.parametrize("share", SHARES)
def test_a_file_that_was_cut_short(tmp_path: Path, ending: str, share: float) -> None:
    whole = held(tmp_path, ending)
    place = tmp_path / f"cut{ending}"
    place.write_bytes(whole[: int(share * len(whole))])
    made = told_or_read(place)
    if made is not None:
        assert all(c.length <= 400 for c in made.channels)


@pytest.mark.parametrize("ending", sorted(ENDINGS))
@pytest.mark.parametrize("seed", range(6))
def test_a_file_in_which_bytes_were_overwritten(tmp_path: Path, ending: str, seed: int) -> None:
    rng = np.random.default_rng(seed)
    whole = bytearray(held(tmp_path, ending))
    # Half of the time in its beginning, where what it says of itself stands.
    top = min(len(whole), 600) if seed % 2 else len(whole)
    for at in rng.integers(0, top, 12):
        whole[int(at)] = int(rng.integers(0, 256))
    place = tmp_path / f"spoiled{ending}"
    place.write_bytes(bytes(whole))
    told_or_read(place)


@pytest.mark.parametrize("ending", sorted(ENDINGS))
def test_a_file_under_a_wrong_name(tmp_path: Path, ending: str) -> None:
    for other in ENDINGS:
        if other == ending:
            continue
        place = tmp_path / f"wrong-{other.strip('.')}{ending}"
        place.write_bytes(held(tmp_path, other))
        told_or_read(place)


@pytest.mark.parametrize("ending", sorted(ENDINGS))
@pytest.mark.parametrize("content", [b"", b"\x00" * 4096, b"\xff" * 4096, b"hello\n", b"1,2,3\n4,5\n", b"\r\n" * 100])
def test_a_file_that_is_none(tmp_path: Path, ending: str, content: bytes) -> None:
    place = tmp_path / f"none{ending}"
    place.write_bytes(content)
    assert told_or_read(place) is None


@pytest.mark.parametrize("ending", sorted(ENDINGS))
def test_one_sample_and_two(tmp_path: Path, ending: str) -> None:
    for count in (1, 2):
        place = tmp_path / f"short{count}{ending}"
        try:
            write(place, recording(count))
        except BadInput as said:
            assert "\n" not in str(said)
            continue
        made = told_or_read(place)
        assert made is None or all(c.length <= count for c in made.channels)
