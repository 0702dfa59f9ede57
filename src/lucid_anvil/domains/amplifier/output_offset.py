"""DC offset at an amplifier's output, with a signal or without (IEC 60268-3, 14.8)."""

from __future__ import annotations

import math
from collections.abc import Mapping, Sequence
from typing import Any

import numpy as np

from ...contracts.finding import Finding, Reading
from ...contracts.method import Axis
from ...contracts.recording import Channel
from ...core.audio.tones import weights
from ...core.calibration.uncertainty import coverage_factor
from ...core.errors import BadInput
from .output import OutputMethod, OutputSettings, limits_of, listed, pieces

UNITS = {"offset": ("DC offset", "V")}
BLOCKS = 8


class OutputOffset(OutputMethod):
    """The method as the registry knows it."""

    name = "output-offset"
    title = "DC offset"
    roles: tuple[str, ...] = ("output",)
    Settings = OutputSettings
    readings = listed(UNITS)
    curves: dict[str, str] = {}
    views: tuple[Axis, ...] = ()

    def evaluate(
        self, record: Mapping[str, Channel], settings: OutputSettings, marks: Sequence[Mapping[str, Any]]
    ) -> Finding:
        limits = limits_of(settings, UNITS)
        (piece,) = pieces(record, settings, ("output",))
        if piece.x.size < 2:
            raise BadInput("the output channel is too short: at least two samples are needed.")
        # Under a window a tone, whole periods or not, leaves nothing in the mean.
        w = weights(piece.x.size) ** 2
        value = float(np.sum(w * piece.x) / np.sum(w))
        size = piece.x.size // BLOCKS
        if size >= 64:
            cut = piece.x[: size * BLOCKS].reshape(BLOCKS, size)
            own = weights(size) ** 2
            spread = float(np.std(cut @ own / own.sum(), ddof=1)) / math.sqrt(BLOCKS)
            k = coverage_factor(BLOCKS - 1)
        else:
            spread = float(np.std(piece.x, ddof=1)) / math.sqrt(piece.x.size)
            k = coverage_factor(piece.x.size - 1)
        doubt = math.hypot(k * spread, abs(value) * (settings.gain_uncertainty or 0.0) / 100)
        limit = piece.limit is not None and np.max(np.abs(piece.x)) >= piece.limit
        why = "the input is overloaded" if limit else None
        reading = Reading("offset", UNITS["offset"][0], value, "V", doubt, 2.0, valid=why is None, reason=why)
        notes = ("The offset of the input itself is not in the doubt.",)
        return Finding(self.name, (limits.judge(reading),), notes=notes)


METHOD = OutputOffset()
