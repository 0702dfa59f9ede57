"""Filters for listening as text, as a person writes and reads them."""

from __future__ import annotations

import re

from ..errors import BadInput
from ..quantities import parse
from .soundfilter import KINDS, Band

FAR = 1e9
"""Hz of an edge that there is none of"""
UNITS = {"hz": "Hz", "khz": "kHz", "k": "kHz"}
HOW = "write filters like 'band-pass 300 Hz to 3 kHz, high-pass from 20 Hz', apart by commas"


def text_of(band: Band) -> str:
    """A filter in words."""
    if band.kind == "low-pass":
        return f"low-pass to {band.high:.4g} Hz"
    if band.kind == "high-pass":
        return f"high-pass from {band.low:.4g} Hz"
    return f"{band.kind} {band.low:.4g} to {band.high:.4g} Hz"


def bands_of(text: str) -> tuple[Band, ...]:
    """Filters from words; what `text_of` writes is read back. A number without a unit has that of the other edge, Hz
    where neither has one. Raises BadInput."""
    parts = re.split(r"[,;]\s*(?=[a-z])", text.strip().rstrip("."))
    return tuple(_band(part.strip()) for part in parts if part.strip())


def _band(text: str) -> Band:
    kind = next((k for k in KINDS if text.lower().startswith((k, k.replace("-", " "), k.replace("-", "")))), None)
    if kind is None:
        raise BadInput(f"'{text}' is no filter: {HOW}.")
    rest = re.sub(r"^[a-z]+[- ]?(pass|stop)", "", text.lower()).strip()
    edges = [e.strip() for e in re.split(r"\bfrom\b|\bto\b|–", rest) if e.strip()]
    if len(edges) != (1 if kind in ("low-pass", "high-pass") else 2):
        raise BadInput(f"'{text}': {HOW}.")
    units = [m.group() if (m := re.search(r"[a-z]+$", e)) else "" for e in edges]
    usual = next((u for u in reversed(units) if u), "hz")
    values = []
    for edge, own in zip(edges, units, strict=True):
        unit = own or usual
        value = parse(f"{edge.removesuffix(own).strip()} {UNITS.get(unit, unit)}", "Hz", text)
        if not 0 < value < FAR:
            raise BadInput(f"'{text}': an edge lies above zero.")
        values.append(value)
    if kind == "low-pass":
        return Band(kind, 0.0, values[0])
    if kind == "high-pass":
        return Band(kind, values[0], FAR)
    if values[0] >= values[1]:
        raise BadInput(f"'{text}': the lower edge comes first.")
    return Band(kind, values[0], values[1])
