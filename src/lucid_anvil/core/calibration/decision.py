"""Three-state verdicts (ISO/IEC Guide 98-4; ILAC-G8): inside, outside, open."""

from __future__ import annotations

from collections.abc import Iterable

RULES = ("guarded", "simple")
ORDER = ("outside", "open", "inside", "none")


def verdict(
    value: float | None,
    doubt: float | None,
    low: float | None,
    high: float | None,
    rule: str = "guarded",
    valid: bool = True,
    interval: tuple[float, float] | None = None,
) -> str:
    """`guarded`: inside only if all of the doubt is inside, outside only if all of it is, else open.

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
    if bottom >= floor and top <= ceiling:
        return "inside"
    if top < floor or bottom > ceiling:
        return "outside"
    return "open"


def worst(verdicts: Iterable[str]) -> str:
    """The first that occurs among outside, open, inside, none."""
    seen = set(verdicts)
    return next((v for v in ORDER if v in seen), "none")
