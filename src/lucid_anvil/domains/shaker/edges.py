"""What is said of a profile's bands before anything is driven."""

from __future__ import annotations

from ...core.control.corridor import abort_inside
from ...core.control.randomprofile import RandomProfile
from ...core.control.sineprofile import SineProfile


def early_abort(profile: SineProfile | RandomProfile) -> list[str]:
    """A sentence where the abort band is narrower than the tolerance; a person may mean it, so that it is only said."""
    f = profile.grid()
    names = ("tolerances", "aborts") if isinstance(profile, RandomProfile) else ("tolerance", "abort")
    found = abort_inside(f, profile.edges(f, names[0]), profile.edges(f, names[1]))
    if found is None:
        return []
    where = f"At {found[0]:.3g} Hz" if found[0] == found[1] else f"Between {found[0]:.3g} and {found[1]:.3g} Hz"
    return [f"{where} the abort band is narrower than the tolerance: the test is cut while it is still inside."]
