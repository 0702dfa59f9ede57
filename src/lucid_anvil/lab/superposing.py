"""A master curve from takes: each a sweep of frequency at its own temperature, or several of them in one take."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from typing import Any

import numpy as np

from ..contracts.finding import Finding
from ..core.errors import BadInput
from ..core.frame.superposition import Superposed, Sweep, superpose
from ..core.quantities import round_to_doubt
from ..core.signal.sinefit import Floats


@dataclass(frozen=True)
class Master:
    """Sweeps by name, each with its own shift, and what the shifts follow."""

    names: tuple[str, ...]
    sweeps: tuple[Sweep, ...]
    """In the order of their temperatures, as the names; storage in MPa"""
    found: Superposed

    def reduced(self, i: int) -> Floats:
        """Hz of sweep i, moved to the reference."""
        return np.asarray(self.sweeps[i].frequency * 10 ** self.found.shifts[i])

    def words(self) -> list[str]:
        """What was found, a line each, with expanded uncertainties (k = 2)."""
        found = self.found
        made = [f"Reference {found.reference:.1f} °C, {len(self.names)} temperatures."]
        if found.wlf is not None:
            (c1, c2), (u1, u2) = found.wlf.values, found.wlf.doubts
            made.append(f"WLF: c1 = {round_to_doubt(c1, 2 * u1)} ± {round_to_doubt(2 * u1, 2 * u1)}, c2 ="
                        f" {round_to_doubt(c2, 2 * u2)} ± {round_to_doubt(2 * u2, 2 * u2)} K; off by"
                        f" {found.wlf.rest:.2g} decades rms.")  # fmt: skip
        if found.arrhenius is not None:
            energy, doubt = found.arrhenius.values[0] / 1e3, 2 * found.arrhenius.doubts[0] / 1e3
            made.append(f"Arrhenius: {round_to_doubt(energy, doubt)} ± {round_to_doubt(doubt, doubt)} kJ/mol; off by"
                        f" {found.arrhenius.rest:.2g} decades rms.")  # fmt: skip
        if found.wlf is not None and found.arrhenius is not None:
            better = "WLF" if found.wlf.rest < found.arrhenius.rest else "Arrhenius"
            made.append(f"The shifts lie nearer to {better}.")
        return made


def master(findings: Sequence[tuple[str, Finding]], reference: float | None = None) -> Master:
    """A master curve of dynamic analyses over frequency, by name and finding. Raises BadInput for any other, or one
    whose temperature nobody measured."""
    held: list[tuple[str, Sweep]] = []
    for name, finding in findings:
        nest = (finding.detail or {}).get("nest")
        if nest is not None:
            held += _of_nest(name, nest)
            continue
        curve = next((c for c in finding.curves if c.key == "storage"), None)
        warm = (finding.detail or {}).get("temperature")
        if curve is None or curve.x_unit != "Hz" or len(curve.x) < 2:
            raise BadInput(f"{name}: it is no dynamic analysis over several frequencies: leave it out.")
        if warm is None:
            raise BadInput(f"{name}: its temperature was not measured: leave it out.")
        x, y = np.array(curve.x, float), np.array([np.nan if v is None else v for v in curve.y])
        good = np.isfinite(y) & (y > 0)
        order = np.argsort(x[good])
        held.append((name, Sweep(float(warm), x[good][order], y[good][order])))
    if not held:
        raise BadInput("A master curve is made of dynamic analyses over several frequencies: tick some.")
    held.sort(key=lambda p: p[1].temperature)
    found = superpose([s for _, s in held], reference)
    return Master(tuple(n for n, _ in held), tuple(s for _, s in held), found)


def _of_nest(name: str, points: Sequence[Mapping[str, Any]]) -> list[tuple[str, Sweep]]:
    """The sweeps of one take that went through several temperatures, at its first amplitude. Raises BadInput."""
    made = []
    first = points[0].get("asked")
    for at in dict.fromkeys(p["at"] for p in points):
        own = [p for p in points if p["at"] == at and p.get("asked") == first and (p["storage"] or 0) > 0]
        warm = [p["temperature"] for p in own if p["temperature"] is not None]
        if at is None or len(own) < 2 or len(warm) < len(own):
            continue
        own.sort(key=lambda p: p["frequency"])
        sweep = Sweep(float(np.mean(warm)), *(np.array([p[k] for p in own], float) for k in ("frequency", "storage")))
        made.append((f"{name}, {at:g} °C", sweep))
    if not made:
        raise BadInput(f"{name}: it has no two frequencies at one measured temperature: leave it out.")
    return made
