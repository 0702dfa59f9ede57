"""Playing a signal: through the machine's sound output where it has one, into a sound file otherwise."""

from __future__ import annotations

from pathlib import Path
from typing import Any

import numpy as np
from PyQt6.QtCore import QObject, QTimer, pyqtSignal

from ...core.signal.sinefit import Floats
from ...core.signal.soundfilter import Band, Chain, for_ear

RATE = 48000
"""Hz that sound outputs have"""
PIECE = 4096
HELD, EVERY = 0.3, 0.04
"""s that the output holds ahead, and s between two fillings: a busy window makes no gap. An output that asks for pieces
by itself asks for one at a time and never catches up."""


def at_sound_rate(x: Floats, rate: float) -> Floats:
    """A signal resampled to `RATE`."""
    from fractions import Fraction

    from scipy.signal import resample_poly

    if rate == RATE:
        return x
    share = Fraction(RATE / rate).limit_denominator(2000)
    return np.asarray(resample_poly(x, share.numerator, share.denominator))


class Player(QObject):
    """Plays one signal at a time, with filters that are switched while it plays."""

    ended = pyqtSignal()

    def __init__(self, parent: QObject | None = None) -> None:
        super().__init__(parent)
        self.x: Floats = np.zeros(0)
        self.at = 0
        self.chain = Chain((), RATE)
        self.sink: Any = None
        self.port: Any = None
        """Where sound is put"""
        self.fill = QTimer(self)
        self.fill.timeout.connect(self._fill)

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
        """How far it has been heard: what was handed over less what the output still holds."""
        held = 0 if self.sink is None else (self.sink.bufferSize() - self.sink.bytesFree()) // 2
        return max(self.at - held, 0) / RATE

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
        self.sink = QAudioSink(device, form, self)
        self.sink.setBufferSize(int(2 * HELD * RATE))
        self.port = self.sink.start()
        self._fill()
        self.fill.start(int(1e3 * EVERY))
        return True

    def _fill(self) -> None:
        """As much as the output takes now; at the signal's end wait until what it holds is heard."""
        if self.sink is None or self.port is None:
            return
        free = self.sink.bytesFree()
        if self.at < self.x.size:
            if free >= 2:
                self.port.write((np.clip(self.next_block(free // 2), -1, 1) * 32767).astype("<i2").tobytes())
        elif free >= self.sink.bufferSize() or self.sink.state().name == "IdleState":
            self.stop()
            self.ended.emit()

    def stop(self) -> None:
        self.fill.stop()
        if self.sink is not None:
            sink, self.sink, self.port = self.sink, None, None
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
