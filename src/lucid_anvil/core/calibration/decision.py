"""Three-state verdicts (ISO/IEC Guide 98-4; ILAC-G8): inside, outside, open."""

from __future__ import annotations

from collections.abc import Iterable

RULES = ("guarded", "simple")
ORDER = ("outside", "open", "inside", "none")
ROUNDING = 1e-12
"""Share of a limit that is rounding of numbers, not of measuring: 0.1 + 0.2 is at a limit of 0.3, and so inside."""


def verdict(
    value: float | None,
    doubt: float | None,
    low: float | None,
    high: float | None,
    rule: str = "guarded",
    valid: bool = True,
    interval: tuple[float, float] | None = None,
) -> str:
    """`guarded`: inside only if all of the doubt is inside, outside only if all of it is, else open. A limit itself is
    allowed (ISO 14253-1, 5: conformity is within or at it).

    `simple`: the value alone decides. No limit: none. Not valid, or no value, or (guarded) no doubt known: open.
    """
    if low is None and high is None:
        return "none"
    if not valid or (value is None and interval is None):
        return "open"
    if rule == "simple":
        if value is None:
            return "open"
        interval = (value, value)
    elif interval is None:
        if doubt is None or value is None:
            return "open"
        interval = (value - doubt, value + doubt)
    bottom, top = interval
    floor = low if low is not None else -float("inf")
    ceiling = high if high is not None else float("inf")
    under, over = (ROUNDING * abs(v) if abs(v) < float("inf") else 0.0 for v in (floor, ceiling))
    if bottom >= floor - under and top <= ceiling + over:
        return "inside"
    if top < floor - under or bottom > ceiling + over:
        return "outside"
    return "open"


def worst(verdicts: Iterable[str]) -> str:
    """The first that occurs among outside, open, inside, none."""
    seen = set(verdicts)
    return next((v for v in ORDER if v in seen), "none")
