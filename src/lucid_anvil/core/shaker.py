"""The linear electrodynamic shaker: what a volt does, and what the shaker allows.

Coil and table are two masses joined by the armature's stiffness and hung on the suspension; the coil is driven
through its resistance and inductance against its own back voltage (see ISO 5344 for the terms).
"""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from .signal.sinefit import Complexes, Floats


@dataclass(frozen=True)
class Mode:
    """One mode of an article: a mass on a spring upon the table."""

    mass: float
    """kg"""
    frequency: float
    """Hz, with the table held"""
    quality: float


@dataclass(frozen=True)
class Shaker:
    """Parameters in SI units. Frequencies are those of the moving element as loaded, the modes' masses among it."""

    moving_mass: float
    """kg, table, coil and what is mounted."""
    coil_share: float
    """Share of the moving mass that is coil."""
    suspension_frequency: float
    suspension_damping: float
    """Share of critical."""
    armature_frequency: float
    armature_damping: float
    force_factor: float
    """N/A (and V·s/m)."""
    resistance: float
    inductance: float
    amplifier_gain: float
    """V/V from source to coil."""
    modes: tuple[Mode, ...] = ()

    def state_space(self) -> tuple[Floats, Floats, Floats, Floats]:
        """A, B, C, D with the source voltage in; out: table acceleration [m/s²], coil current [A],
        table displacement [m], coil voltage [V], then each mode's acceleration [m/s²]. States: current, coil and
        table displacement and velocity, then displacement and velocity of each mode."""
        m_coil = self.moving_mass * self.coil_share
        m_table = self.moving_mass - m_coil - sum(m.mass for m in self.modes)
        k_s = self.moving_mass * (2 * np.pi * self.suspension_frequency) ** 2
        c_s = 2 * self.suspension_damping * self.moving_mass * 2 * np.pi * self.suspension_frequency
        reduced = m_coil * m_table / self.moving_mass
        k_a = reduced * (2 * np.pi * self.armature_frequency) ** 2
        c_a = 2 * self.armature_damping * reduced * 2 * np.pi * self.armature_frequency
        bl, r, ind = self.force_factor, self.resistance, self.inductance
        a = np.array(
            [
                [-r / ind, 0, -bl / ind, 0, 0],
                [0, 0, 1, 0, 0],
                [bl / m_coil, -k_a / m_coil, -c_a / m_coil, k_a / m_coil, c_a / m_coil],
                [0, 0, 0, 0, 1],
                [0, k_a / m_table, c_a / m_table, -(k_a + k_s) / m_table, -(c_a + c_s) / m_table],
            ]
        )
        count = 5 + 2 * len(self.modes)
        whole = np.zeros((count, count))
        whole[:5, :5] = a
        for i, mode in enumerate(self.modes):
            at = 5 + 2 * i
            k = mode.mass * (2 * np.pi * mode.frequency) ** 2
            r_m = mode.mass * 2 * np.pi * mode.frequency / mode.quality
            whole[at, at + 1] = 1
            for row, mass, sign in ((at + 1, mode.mass, 1.0), (4, m_table, -1.0)):
                whole[row, at] -= sign * k / mass
                whole[row, at + 1] -= sign * r_m / mass
                whole[row, 3] += sign * k / mass
                whole[row, 4] += sign * r_m / mass
        b = np.zeros(count)
        b[0] = self.amplifier_gain / ind
        c = np.zeros((4 + len(self.modes), count))
        c[0], c[1, 0], c[2, 3] = whole[4], 1.0, 1.0
        for i in range(len(self.modes)):
            c[4 + i] = whole[6 + 2 * i]
        d = np.zeros(4 + len(self.modes))
        d[3] = self.amplifier_gain
        return whole, b, c, d

    def response(self, frequencies: Floats) -> Complexes:
        """Per volt at the source; shape (4 + modes, frequencies): acceleration, current, displacement, coil voltage,
        then each mode's acceleration."""
        a, b, c, d = self.state_space()
        f = np.atleast_1d(np.asarray(frequencies, dtype=float))
        s = 2j * np.pi * f
        n = b.size
        system = s[:, None, None] * np.eye(n) - a
        x = np.linalg.solve(system, np.broadcast_to(b.astype(complex)[:, None], (f.size, n, 1)))[:, :, 0]
        return (x @ c.T + d).T


@dataclass(frozen=True)
class Capability:
    """Limits of shaker and amplifier, peak values in SI units; `voltage` is at the coil."""

    stroke: float
    """m, peak to peak"""
    velocity: float
    force: float
    current: float
    voltage: float
    source_voltage: float
    acceleration: float

    def lines(self, shaker: Shaker, frequencies: Floats) -> dict[str, Floats]:
        """Acceleration [m/s² peak] that each limit allows at each frequency."""
        f = np.asarray(frequencies, dtype=float)
        w = 2 * np.pi * f
        per_volt = np.abs(shaker.response(f))
        acceleration = np.maximum(per_volt[0], 1e-30)
        return {
            "stroke": self.stroke / 2 * w**2,
            "velocity": self.velocity * w,
            "force": np.full_like(f, self.force / shaker.moving_mass),
            "current": self.current * acceleration / np.maximum(per_volt[1], 1e-30),
            "amplifier": np.minimum(
                self.voltage * acceleration / np.maximum(per_volt[3], 1e-30), self.source_voltage * acceleration
            ),
            "table": np.full_like(f, self.acceleration),
        }

    def allowed(self, shaker: Shaker, frequencies: Floats, share: float = 0.8) -> tuple[Floats, list[str]]:
        """The highest level [m/s² peak] at each frequency when `share` of each limit is used, and which limit it is."""
        lines = self.lines(shaker, frequencies)
        names = list(lines)
        table = share * np.array([lines[n] for n in names])
        which = np.argmin(table, axis=0)
        return table.min(axis=0), [names[i] for i in which]
