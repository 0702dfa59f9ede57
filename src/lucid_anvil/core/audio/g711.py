"""Eight bits a sample for speech, by the two laws of ITU-T G.711: what a telephone network does to a signal.

Samples count from −1 to 1 of full scale; bit exact on the 13 (A-law) and 14 bits (µ-law) that the Recommendation is
defined on.
"""

from __future__ import annotations

from typing import Literal

import numpy as np

from ..signal.sinefit import Floats

Law = Literal["a", "u"]
BIAS, CLIP = 33, 8158
"""Of the µ-law, in steps of 14 bits (ITU-T G.711, table 2)"""


def encode(x: Floats, law: Law) -> np.ndarray:
    """Octets as they go over the line: A-law with its even bits inverted, µ-law with all of them (G.711, 3)."""
    if law == "a":
        return _encode_a(np.clip(np.floor(np.asarray(x) * 4096 + 0.5), -4096, 4095).astype(int))
    return _encode_u(np.clip(np.floor(np.asarray(x) * 8192 + 0.5), -8192, 8191).astype(int))


def _encode_a(step: np.ndarray) -> np.ndarray:
    positive = step >= 0
    size = np.where(positive, step, -step - 1)
    segment = np.maximum(np.floor(np.log2(np.maximum(size, 1))).astype(int) - 4, 0)
    # The first two segments are one straight line of 32 steps.
    inside = np.where(segment == 0, size >> 1, (size >> segment) & 15)
    code = np.where(segment == 0, inside & 31, (segment << 4) | inside)
    return ((code | np.where(positive, 0x80, 0)) ^ 0x55).astype(np.uint8)


def _encode_u(step: np.ndarray) -> np.ndarray:
    positive = step >= 0
    size = np.minimum(np.where(positive, step, -step), CLIP) + BIAS
    segment = np.floor(np.log2(size)).astype(int) - 5
    inside = (size >> (segment + 1)) & 15
    code = (segment << 4) | inside | np.where(positive, 0, 0x80)
    return (~code & 0xFF).astype(np.uint8)


def decode(octets: np.ndarray, law: Law) -> Floats:
    """Samples of full scale 1 from the octets of the line."""
    held = np.asarray(octets).astype(int)
    if law == "a":
        held = held ^ 0x55
        segment, inside = (held >> 4) & 7, held & 15
        size = np.where(segment == 0, 2 * inside + 1, (2 * inside + 33) << np.maximum(segment - 1, 0))
        return np.where(held & 0x80, size, -size) / 4096.0
    held = ~held & 0xFF
    segment, inside = (held >> 4) & 7, held & 15
    size = ((2 * inside + 33) << segment) - 33
    return np.where(held & 0x80, -size, size) / 8192.0


def over_the_line(x: Floats, law: Law) -> Floats:
    """What arrives of samples that were coded and decoded."""
    return decode(encode(x, law), law)
