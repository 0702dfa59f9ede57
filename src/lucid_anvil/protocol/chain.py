"""A chain model as bytes, for the line between conductor and keeper."""

from __future__ import annotations

import json
import struct

import numpy as np

from ..core.control.chain import ChainModel
from ..core.control.plant import LoopResponse


def pack(model: ChainModel) -> bytes:
    """Header as JSON with its length before it, then the response's arrays up to the band that is watched."""
    lines = min(int(2.0 * model.highest / model.plant.frequency[1]) + 2, model.plant.frequency.size)
    head = json.dumps(
        {
            "roles": model.roles, "controls": model.controls, "highest": model.highest, "tonal": model.tonal,
            "step": float(model.plant.frequency[1]), "lines": lines, "noise": [float(v) for v in model.plant.noise],
            "delay": model.plant.delay,
        }
    ).encode()  # fmt: skip
    return b"".join(
        (
            struct.pack("<I", len(head)), head,
            np.ascontiguousarray(model.plant.response[:, :lines], "<c16").tobytes(),
            np.ascontiguousarray(model.plant.coherence[:, :lines], "<f8").tobytes(),
        )
    )  # fmt: skip


def unpack(held: bytes) -> ChainModel:
    """The model again."""
    (size,) = struct.unpack_from("<I", held)
    head = json.loads(held[4 : 4 + size])
    channels, lines = len(head["roles"]), int(head["lines"])
    at = 4 + size
    response = np.frombuffer(held, "<c16", channels * lines, at).reshape(channels, lines)
    coherence = np.frombuffer(held, "<f8", channels * lines, at + 16 * channels * lines).reshape(channels, lines)
    plant = LoopResponse(
        np.arange(lines) * head["step"], response, coherence, np.array(head["noise"]), float(head["delay"])
    )
    return ChainModel(tuple(head["roles"]), plant, head["controls"], head["highest"], head["tonal"])
