"""What a check of the walk-round is that a domain brings along: it senses something, and says why it is not well."""

from __future__ import annotations

from collections.abc import Callable, Mapping
from dataclasses import dataclass, field
from typing import Any


@dataclass(frozen=True)
class Looked:
    """What is known of the bench while it is walked round, before anything is driven."""

    settings: Any
    """Of the plan's method"""
    kinds: Mapping[str, str] = field(default_factory=dict)
    """Kind of every input by its role"""
    sensitivity: Mapping[str, float] = field(default_factory=dict)
    """V per unit by role"""
    rms: Mapping[str, float] = field(default_factory=dict)
    """V by role, of each input at rest; empty until the front end answers"""
    mean: Mapping[str, float] = field(default_factory=dict)
    """V by role, where each input stands at rest"""
    moved: Mapping[str, float] = field(default_factory=dict)
    """V by role, between the least and the most that each input has shown at rest since the walk-round began"""
    ranges: Mapping[str, float] = field(default_factory=dict)
    """V by role, at which an input overloads"""
    bias: Mapping[str, float] = field(default_factory=dict)
    """V by role, of supplied sensors"""
    temperature: float = float("nan")
    """°C of the room"""
    instruments: Mapping[str, Any] | None = None
    """What they show; None until they answer"""
    trouble: str | None = None
    """What is wrong with them"""


Sense = Callable[[Looked], tuple[bool, str]]
"""Whether it is done, and a few words: what was seen, or what to do"""
