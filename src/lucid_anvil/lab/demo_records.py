"""Records as other people's loggers wrote them, for the demo lab: a coupon pulled, a hose held, a wrench tried."""

from __future__ import annotations

import datetime
from pathlib import Path

import numpy as np

from ..contracts.recording import Floats


def make_records(folder: Path, today: datetime.date) -> list[Path]:
    """Three files, each in the words and marks of its logger."""
    folder.mkdir(parents=True, exist_ok=True)
    return [_coupon(folder / "coupon-3.csv"), _hose(folder / "hose-12.csv", today), _wrench(folder / "wrench-4.csv")]


def _coupon(place: Path) -> Path:
    """A mooring-plate coupon, 12.5 mm by 4 mm, 50 mm of gauge length: yields, hardens, breaks."""
    rng = np.random.default_rng(3)
    strain = np.concatenate([np.linspace(0, 0.004, 400), np.linspace(0.004, 0.21, 900)[1:]])
    e, lower, top = 206e9, 352e6, 498e6
    plastic = np.clip((strain - 0.018) / 0.13, 0, 1)
    stress = np.where(strain < 0.018, lower + 1.6e6 * np.sin(2 * np.pi * strain / 1.7e-3),
                      lower + (top - lower) * (1 - (1 - plastic) ** 2.4))  # fmt: skip
    # The elastic line goes on to the upper yield, from which stress falls to where it flows.
    stress = np.minimum(e * strain, stress + 24e6 * np.exp(-((np.maximum(strain - 0.00182, 0) / 2.6e-4) ** 2)))
    stress = stress * (1 - 0.22 * np.clip((strain - 0.15) / 0.06, 0, 1) ** 2)
    force = np.concatenate([stress * 50e-6, [0.4 * stress[-1] * 50e-6, 0.0, 0.0]]) / 1e3
    length = np.concatenate([strain, strain[-1] + np.array([1e-4, 2e-4, 2e-4])]) * 50
    force = force + rng.normal(0, 0.004, force.size)
    length = length + rng.normal(0, 2e-4, length.size)
    head = "time [s];load [kN];extensometer [mm]"
    return _written(place, head, np.arange(force.size) / 10, (force, length), ";", (1, 4, 5), True)


def _hose(place: Path, today: datetime.date) -> Path:
    """A hose held over a night at 16 bar, a minute a row, the logger asleep for a while: it leaks a little, and the
    hall cools down."""
    rng = np.random.default_rng(12)
    minutes = np.array([i for i in range(13 * 60) if not 310 <= i < 335])
    hours = minutes / 60
    heat = 18.5 + 3.2 * np.exp(-hours / 5) + 0.15 * np.sin(hours)
    pressure = (17.013 - 0.0021 * hours) * (heat + 273.15) / (21.7 + 273.15) - 1.01325
    begin = datetime.datetime.combine(today - datetime.timedelta(days=1), datetime.time(17, 30))
    zone = datetime.timezone(datetime.timedelta(hours=1))
    lines = ["time,pressure [bar],temperature [°C]"]
    for m, p, t in zip(minutes, pressure + rng.normal(0, 2e-4, minutes.size), heat, strict=True):
        at = (begin + datetime.timedelta(minutes=int(m))).replace(tzinfo=zone)
        lines.append(f"{at.isoformat()},{p:.4f},{t:.2f}")
    place.write_text("\n".join(lines) + "\n", encoding="utf-8")
    return place


def _wrench(place: Path) -> Path:
    """Eight clicks of a torque wrench set to 40 N·m."""
    rng = np.random.default_rng(4)
    torque, angle = np.zeros(26 * 200), np.zeros(26 * 200)
    for i, top in enumerate(40 + rng.normal(0, 0.45, 8)):
        a = 200 + i * 600
        rise = np.linspace(0, 1, 241)
        torque[a : a + 241] = top * rise**1.3
        torque[a + 241 : a + 301] = np.concatenate([np.linspace(top, 0.72 * top, 12), np.linspace(0.72 * top, 0, 48)])
        angle[a : a + 241] = angle[a - 1] + 34 * rise
        angle[a + 241 :] = angle[a + 240]
    torque = torque + rng.normal(0, 0.02, torque.size)
    head = "time [s],torque [N*m],angle [deg]"
    return _written(place, head, np.arange(torque.size) / 200, (torque, angle), ",", (3, 3, 2))


def _written(
    place: Path, head: str, t: Floats, columns: tuple[Floats, ...], mark: str, digits: tuple[int, ...],
    comma: bool = False,
) -> Path:  # fmt: skip
    lines = [head]
    for row in zip(t, *columns, strict=True):
        line = mark.join(f"{v:.{d}f}" for v, d in zip(row, digits, strict=True))
        lines.append(line.replace(".", ",") if comma else line)
    place.write_text("\n".join(lines) + "\n", encoding="utf-8")
    return place
