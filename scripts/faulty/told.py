"""What became of one fault."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass


@dataclass(frozen=True)
class Told:
    """One fault, whether all went as it must, and how it went."""

    good: bool
    text: str


Job = tuple[str, Callable[[], Told]]
"""Its name, and what tries it"""
