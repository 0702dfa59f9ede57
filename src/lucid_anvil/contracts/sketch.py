"""Small pictures of what a method finds out, as lines in a box from (0, 0) at its lower left to (1, 1)."""

from __future__ import annotations

from collections.abc import Callable, Sequence

Line = tuple[tuple[float, float], ...]
Sketch = tuple[Line, ...]
"""The first line is drawn strong, the others thin behind it"""


def line(f: Callable[[float], float], start: float = 0.0, stop: float = 1.0, points: int = 60) -> Line:
    """A curve y = f(x), both from 0 to 1; what leaves the box is held at its edge."""
    made = []
    for k in range(points):
        x = start + (stop - start) * k / (points - 1)
        made.append((x, min(max(f(x), 0.0), 1.0)))
    return tuple(made)


def level(y: float, start: float = 0.0, stop: float = 1.0) -> Line:
    """A straight line at a height."""
    return ((start, y), (stop, y))


def stairs(heights: Sequence[float]) -> Line:
    """Steps of equal width."""
    wide = 1 / len(heights)
    return tuple(p for i, y in enumerate(heights) for p in ((i * wide, y), ((i + 1) * wide, y)))


def loop(f: Callable[[float], tuple[float, float]], points: int = 60) -> Line:
    """A closed curve; `f` takes 0 to 1."""
    return tuple(f(k / (points - 1)) for k in range(points))
