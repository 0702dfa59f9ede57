"""Playing a signal: through the machine's sound output where it has one, into a sound file otherwise."""

from __future__ import annotations

from pathlib import Path
from typing import Any

import numpy as np
from PyQt6.QtCore import QIODevice, QObject, pyqtSignal

from ..core.signal.sinefit import Floats
from ..core.signal.soundfilter import Band, Chain, for_ear

RATE = 48000
"""Hz that sound outputs have"""
PIECE = 4096


def at_sound_rate(x: Floats, rate: float) -> Floats:
    """A signal resampled to `RATE`."""
    from fractions import Fraction

    from scipy.signal import resample_poly

    if rate == RATE:
        return x
    share = Fraction(RATE / rate).limit_denominator(2000)
    return np.asarray(resample_poly(x, share.numerator, share.denominator))


class _Stream(QIODevice):
    """What a sound output pulls from: filters run as it plays."""

    def __init__(self, player: Player) -> None:
        super().__init__(player)
        self.player = player

    def readData(self, most: int) -> bytes:  # noqa: N802
        count = most // 2
        block = self.player.next_block(count)
        return (np.clip(block, -1, 1) * 32767).astype("<i2").tobytes()

    def writeData(self, _data: Any) -> int:  # noqa: N802
        return -1

    def bytesAvailable(self) -> int:  # noqa: N802
        left = self.player.x.size - self.player.at
        return 2 * left + super().bytesAvailable()


class Player(QObject):
    """Plays one signal at a time, with filters that are switched while it plays."""

    ended = pyqtSignal()

    def __init__(self, parent: QObject | None = None) -> None:
        super().__init__(parent)
        self.x: Floats = np.zeros(0)
        self.at = 0
        self.chain = Chain((), RATE)
        self.sink: Any = None
        self.stream: _Stream | None = None

    @staticmethod
    def device() -> Any:
        """The machine's sound output, None where it has none."""
        try:
            from PyQt6.QtMultimedia import QMediaDevices
        except ImportError:
            return None
        device = QMediaDevices.defaultAudioOutput()
        return None if device.isNull() else device

    @property
    def playing(self) -> bool:
        return self.sink is not None

    @property
    def seconds(self) -> float:
        """How far it has been played."""
        return self.at / RATE

    def load(self, x: Floats, rate: float) -> None:
        """Take a signal; its level is brought to what can be listened to."""
        self.stop()
        self.x, self.at = for_ear(at_sound_rate(x, rate)), 0

    def use(self, bands: tuple[Band, ...], on: bool) -> None:
        """Other filters; what plays goes on."""
        self.chain = Chain(bands, RATE, on)

    def switch(self, on: bool) -> None:
        """Filters in or out, without a click."""
        self.chain.on = on

    def next_block(self, count: int) -> Floats:
        """The next samples, filtered as the filters stand now."""
        piece = self.x[self.at : self.at + count]
        self.at += piece.size
        return self.chain(piece)

    def play(self) -> bool:
        """Begin. False: there is no sound output."""
        device = self.device()
        if device is None or not self.x.size:
            return False
        from PyQt6.QtMultimedia import QAudioFormat, QAudioSink

        form = QAudioFormat()
        form.setSampleRate(RATE)
        form.setChannelCount(1)
        form.setSampleFormat(QAudioFormat.SampleFormat.Int16)
        self.at = 0
        self.stream = _Stream(self)
        self.stream.open(QIODevice.OpenModeFlag.ReadOnly)
        self.sink = QAudioSink(device, form, self)
        self.sink.stateChanged.connect(self._state)
        self.sink.start(self.stream)
        return True

    def _state(self, state: Any) -> None:
        if self.sink is not None and state.name == "IdleState" and self.at >= self.x.size:
            self.stop()
            self.ended.emit()

    def stop(self) -> None:
        if self.sink is not None:
            sink, self.sink = self.sink, None
            sink.stop()
            sink.deleteLater()

    def write(self, place: Path) -> Path:
        """The whole signal as it would be heard, as a sound file."""
        import soundfile

        place.parent.mkdir(parents=True, exist_ok=True)
        self.at = 0
        chain = Chain(self.chain.bands, RATE, self.chain.on)
        made = [chain(self.x[a : a + PIECE]) for a in range(0, self.x.size, PIECE)]
        soundfile.write(str(place), np.concatenate(made) if made else np.zeros(1), RATE, subtype="PCM_16")
        return place
