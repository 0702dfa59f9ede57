"""A run that was cut and the one that went on from there, read as one record."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import replace
from typing import Any

import numpy as np

from ...contracts.recording import Channel
from ...core.signal.sinefit import Floats
from .sine_reading import cut_time

Part = tuple[Mapping[str, Channel], Any, Sequence[Mapping[str, Any]]]
TIMES = ("t", "start", "stop")
SPANS = ("steady", "rest")


def joined(parts: Sequence[Part]) -> Part:
    """Channels one after the other, each part up to where it was cut, and the marks moved along. What a cut broke off
    ends at the joint; a pass that did not come to its end is left out."""
    names = [n for n in parts[0][0] if all(n in p[0] for p in parts)]
    rate = parts[0][0][names[0]].rate
    lengths, marks, at = [], [], 0
    for number, (record, _, held) in enumerate(parts):
        last = number == len(parts) - 1
        length = record[names[0]].length
        if not last:
            length = round(min(length, cut_time(held, length / rate) * rate))
        offset, end = at / rate, length / rate
        for m in held:
            if not last and (m.get("kind") in ("trip", "end") or float(m.get("t", 0.0)) > end):
                continue
            if not last and m.get("kind") == "history" and sum(float(m[k]) for k in ("t", "offset", "length")) > end:
                continue
            moved = {**m, **{k: float(m[k]) + offset for k in TIMES if isinstance(m.get(k), (int, float))}}
            moved |= {k: [float(v) + offset for v in m[k]] for k in SPANS if k in m}
            marks.append(moved)
        lengths.append(length)
        at += length
        if not last:
            t = at / rate
            nothing = {"frequency": 0.0, "rate": 0.0, "phase": 0.0, "item": -1}
            marks.append({"kind": "sine", "t": t, "law": "end", **nothing})
            marks.append({"kind": "random-end", "t": t, "item": -1})
    channels = {n: _chained([p[0][n] for p in parts], lengths) for n in names}
    return channels, parts[-1][1], marks


def _chained(channels: Sequence[Channel], lengths: Sequence[int]) -> Channel:
    """One channel of several, each as long as said."""
    ends = np.cumsum(lengths)

    def load(a: int, b: int) -> Floats:
        made = []
        for channel, end, length in zip(channels, ends, lengths, strict=True):
            begin = int(end) - length
            low, high = max(a, begin), min(b, int(end))
            if high > low:
                made.append(channel.samples(low - begin, high - begin))
        return np.concatenate(made) if made else np.zeros(0)

    return replace(channels[0], length=int(ends[-1]), load=load)
