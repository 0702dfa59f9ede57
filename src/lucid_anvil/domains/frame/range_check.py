"""Whether an extensometer moves at all, and stands in its range, before the crosshead goes anywhere."""

from __future__ import annotations

from ...contracts.check import Looked

MOST = 0.9
"""Share of its input's range that it may stand at"""


FREE = 1e-5
"""m, that arms move by at least when their pin comes out or a finger touches them; what drifts moves less"""
NOISE = 8.0
"""Times its noise that it must have moved by"""


def moves(now: Looked) -> tuple[bool, str]:
    """Done where its signal has moved since the walk-round began: a pin that holds its arms lets it show nothing."""
    if "extension" not in now.kinds:
        return True, "none is wired"
    if "extension" not in now.moved:
        return False, "waiting for the front end"
    per = abs(now.sensitivity.get("extension", 1.0))
    by, least = now.moved["extension"] / per, max(FREE, NOISE * now.rms.get("extension", 0.0) / per)
    if by < least:
        return False, f"its signal stands still ({1e6 * by:.1f} µm): pull its pin, or touch an arm"
    return True, f"its signal moved by {1e6 * by:.3g} µm"


def in_range(now: Looked) -> tuple[bool, str]:
    """Done where it has room to go, or none is there."""
    if "extension" not in now.kinds:
        return True, "none is wired"
    if "extension" not in now.mean:
        return False, "waiting for the front end"
    per = abs(now.sensitivity.get("extension", 1.0))
    stands, most = now.mean["extension"] / per, now.ranges["extension"] / per
    said = f"{1e3 * stands:+.2f} of ±{1e3 * most:.3g} mm"
    if abs(stands) > MOST * most:
        return False, f"{said}: set it nearer the middle, or pull its pin"
    off = getattr(now.settings, "extensometer_off", None)
    gauge = getattr(now.settings.specimen, "gauge_length", None)
    if off is not None and gauge and abs(stands) + off / 100 * gauge > most:
        return False, f"{said}: {1e3 * off / 100 * gauge:.3g} mm more, until it comes off, are beyond that"
    return True, said
