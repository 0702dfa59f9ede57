"""Playing a signal through an output that takes what it likes: nothing is lost, nothing is asked twice, filters come in."""

from __future__ import annotations

from typing import Any

import numpy as np
import pytest

from lucid_anvil.core.signal.soundfilter import Band, Chain
from lucid_anvil.desktop.parts.player import RATE, Player, at_sound_rate


class Sink:
    """Plays the part of Qt's output: `free` bytes a call, then what it holds is heard."""

    class State:
        name = "ActiveState"

    def __init__(self, free: list[int]) -> None:
        self.free, self.got, self.stopped = free, b"", False

    def bytesFree(self) -> int:  # noqa: N802
        return self.free.pop(0) if self.free else 9600

    def bufferSize(self) -> int:  # noqa: N802
        return 9600

    def state(self) -> State:
        return self.State()

    def write(self, data: bytes) -> int:
        self.got += data
        return len(data)

    def stop(self) -> None:
        self.stopped = True

    def deleteLater(self) -> None:  # noqa: N802
        pass


def playing(x: np.ndarray, free: list[int], bands: tuple[Band, ...] = ()) -> tuple[Player, Sink]:
    player, sink = Player(), Sink(free)
    player.load(x, RATE)
    player.use(bands, bool(bands))
    player.sink = player.port = sink
    return player, sink


def test_an_output_that_takes_nothing_for_a_while_gets_the_whole_signal_once(qtbot: Any) -> None:
    x = np.sin(2 * np.pi * 440 * np.arange(4000) / RATE)
    player, sink = playing(x, [9600 // 4, 0, 1, 7, 2000, 0, 9600, 100, 9599], (Band("low-pass", 20.0, 2000.0),))
    ended: list[bool] = []
    player.ended.connect(lambda: ended.append(True))
    for _ in range(40):
        player._fill()
    assert len(sink.got) == 2 * x.size and sink.stopped and ended == [True] and not player.playing
    chain = Chain(player.chain.bands, RATE, True)
    wanted = (np.clip(chain(player.x), -1, 1) * 32767).astype("<i2")
    heard = np.frombuffer(sink.got, "<i2")
    # Block by block it is what it would be in one piece.
    assert np.max(np.abs(heard.astype(int) - wanted)) <= 1


def test_where_it_stands_is_what_was_heard_not_what_was_handed_over(qtbot: Any) -> None:
    player, sink = playing(np.ones(RATE), [9600, 0])
    player._fill()
    assert player.at == 4800 and player.seconds == 0.0
    sink.free = [4800]
    assert player.seconds == pytest.approx(0.05)
    player.stop()
    assert sink.stopped and not player.playing


def test_filters_switched_in_while_it_plays_take_their_band_out(qtbot: Any) -> None:
    t = np.arange(4 * RATE) / RATE
    player, sink = playing(np.sin(2 * np.pi * 400 * t) + np.sin(2 * np.pi * 1000 * t), [])
    player.use((Band("band-stop", 900.0, 1100.0),), False)
    for _ in range(20):
        player._fill()
    at = len(sink.got) // 2
    player.switch(True)
    for _ in range(20):
        player._fill()
    heard = np.frombuffer(sink.got, "<i2") / 32767

    def size(x: np.ndarray, f: float) -> float:
        w = np.hanning(x.size)
        return float(2 * abs(np.sum(x * w * np.exp(-2j * np.pi * f * np.arange(x.size) / RATE))) / w.sum())

    before, after = heard[:at], heard[at + RATE // 2 :]
    assert size(before, 1000) == pytest.approx(size(before, 400), rel=0.01)
    assert size(after, 400) == pytest.approx(size(before, 400), rel=0.01)
    assert size(after, 1000) < 0.002 * size(before, 1000)


def test_a_filter_takes_an_empty_block(qtbot: Any) -> None:
    for bands in ((), (Band("high-pass", 100.0, 0.0),)):
        assert Chain(bands, RATE)(np.zeros(0)).size == 0


@pytest.mark.parametrize("rate", [8000.0, 44100.0, 51200.0, 96000.0])
def test_signals_are_brought_to_the_outputs_rate(rate: float) -> None:
    x = np.sin(2 * np.pi * 300 * np.arange(int(2 * rate)) / rate)
    y = at_sound_rate(x, rate)
    assert y.size == pytest.approx(2 * RATE, abs=2)
    inner = slice(RATE // 2, RATE)
    assert y[inner] == pytest.approx(np.sin(2 * np.pi * 300 * np.arange(y.size) / RATE)[inner], abs=2e-3)
