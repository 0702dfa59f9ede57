"""Each limit of a shaker by itself, in figures worked out beside: which is used most, where, and by how much."""

from __future__ import annotations

from typing import Any

import numpy as np
import pytest

from lucid_anvil.core.control import headroom
from lucid_anvil.core.control.headroom import Exceeded
from lucid_anvil.core.shaker import Capability

UNITS = {"Stroke": "m", "Velocity": "m/s", "Force": "N", "Coil current": "A", "Amplifier voltage": "V", "Drive": "V",
         "Acceleration": "m/s²"}  # fmt: skip
FIELDS = dict(zip(UNITS, ("stroke", "velocity", "force", "current", "voltage", "source_voltage", "acceleration"),
                  strict=True))  # fmt: skip
LIMITS = {"stroke": 0.01, "velocity": 1.0, "force": 100.0, "current": 10.0, "voltage": 40.0, "source_voltage": 5.0,
          "acceleration": 200.0}  # fmt: skip


class Plain:
    """A shaker whose answer is straight: 20 m/s², 0.5 A, 1 m and 3 V per volt at 100 Hz, rising with frequency."""

    moving_mass = 0.25

    def response(self, f: np.ndarray) -> np.ndarray:
        rise = f / 100.0
        return np.array([20.0 * rise, 0.5 * rise**2, np.full(f.size, 7.0), 3.0 * rise**0.5]) * np.exp(0.3j)


class Sweep:
    """10 m/s² at 10 Hz, rising to 100 at 1 kHz."""

    start, stop = 10.0, 1000.0

    def grid(self, _fraction: int) -> np.ndarray:
        return np.array([10.0, 50.0, 200.0, 1000.0])

    def acceleration(self, f: np.ndarray) -> np.ndarray:
        return 10.0 * np.sqrt(np.asarray(f) / 10.0)


class Noise:
    start, stop = 20.0, 500.0

    def grid(self, _fraction: int) -> np.ndarray:
        return np.array([20.0, 100.0, 300.0, 500.0])

    def density(self, f: np.ndarray) -> np.ndarray:
        return 2.0 + 0.01 * np.asarray(f)

    def rms(self, kind: str = "acceleration") -> float:
        return {"acceleration": 30.0, "velocity": 0.05, "displacement": 0.0004}[kind]


def rows_of(made: Any) -> dict[str, Exceeded]:
    assert [x.used for x in made.limits] == sorted((x.used for x in made.limits), reverse=True)
    return {x.name: x for x in made.limits}


def sine_wanted(at: np.ndarray, per_volt: np.ndarray) -> dict[str, np.ndarray]:
    a, w = 10.0 * np.sqrt(at / 10.0), 2 * np.pi * at
    volts = a / per_volt[0]
    return {"Stroke": 2 * a / w**2, "Velocity": a / w, "Force": 0.25 * a, "Coil current": volts * per_volt[1],
            "Amplifier voltage": volts * per_volt[3], "Drive": volts, "Acceleration": a}  # fmt: skip


@pytest.mark.parametrize("name", UNITS)
def test_each_limit_of_a_sweep_is_found_where_it_is_worst(name: str) -> None:
    f = Sweep().grid(48)
    wanted = sine_wanted(f, np.abs(Plain().response(f)))[name]
    worst = int(np.argmax(wanted))
    row = rows_of(headroom.of_sine(Sweep(), Plain(), Capability(**LIMITS)))[name]  # type: ignore[arg-type]
    limit = LIMITS[FIELDS[name]]
    assert (row.value, row.limit, row.unit, row.frequency) == (pytest.approx(wanted[worst]), limit, UNITS[name], f[worst])
    assert row.used == pytest.approx(wanted[worst] / limit)
    # With this limit tightened alone it leads, and the level says by how much all must come down.
    tight = Capability(**{**LIMITS, FIELDS[name]: wanted[worst] / 50})
    made = headroom.of_sine(Sweep(), Plain(), tight)  # type: ignore[arg-type]
    assert made.limits[0].name == name and not made.fits and made.level_db == pytest.approx(-20 * np.log10(50))


@pytest.mark.parametrize("name", UNITS)
def test_each_limit_of_a_noise_counts_its_peaks(name: str) -> None:
    f = Noise().grid(48)
    per_volt, s = np.abs(Plain().response(f)), Noise().density(f)

    def rms(factor: np.ndarray | float) -> float:
        return float(np.sqrt(np.trapezoid(s / per_volt[0] ** 2 * factor, f)))

    crest = 2.5
    wanted = {"Stroke": 2 * crest * 0.0004, "Velocity": crest * 0.05, "Force": 30 * 0.25 * np.sqrt(2),
              "Coil current": crest * rms(per_volt[1] ** 2), "Amplifier voltage": crest * rms(per_volt[3] ** 2),
              "Drive": crest * rms(1.0), "Acceleration": crest * 30}[name]  # fmt: skip
    row = rows_of(headroom.of_random(Noise(), Plain(), Capability(**LIMITS), crest=crest))[name]  # type: ignore[arg-type]
    assert row.value == pytest.approx(wanted) and row.limit == LIMITS[FIELDS[name]] and row.unit == UNITS[name]
    assert row.used == pytest.approx(wanted / row.limit) and row.frequency is None
    usual = rows_of(headroom.of_random(Noise(), Plain(), Capability(**LIMITS)))[name]  # type: ignore[arg-type]
    assert usual.value == pytest.approx(wanted * (1 if name == "Force" else 3 / crest))


def test_a_measured_response_counts_instead_of_the_models() -> None:
    at = np.array([5.0, 10.0, 100.0, 1000.0, 2000.0])
    measured = np.array([[1.0, 2.0, 4.0, 8.0, 16.0]] * 4) * np.array([[1.0], [0.1], [1.0], [0.5]])
    inside = at[1:4]
    made = headroom.of_sine(Sweep(), Plain(), Capability(**LIMITS), None, measured[:, 1:4], inside)  # type: ignore[arg-type]
    wanted = sine_wanted(inside, measured[:, 1:4])
    for name, row in rows_of(made).items():
        assert row.value == pytest.approx(wanted[name].max()) and row.frequency in inside


@pytest.mark.parametrize(
    ("band", "wanted"),
    [((10.0, 1000.0), []), ((20.0, 1000.0), [("Frequency range", 2.0, 10.0, 20.0, "Hz", 10.0)]),
     ((5.0, 250.0), [("Frequency range", 4.0, 1000.0, 250.0, "Hz", 1000.0)]),
     ((40.0, 500.0), [("Frequency range", 4.0, 10.0, 40.0, "Hz", 10.0), ("Frequency range", 2.0, 1000.0, 500.0, "Hz", 1000.0)])],
)  # fmt: skip
def test_what_lies_beyond_the_range_is_said_and_is_no_question_of_level(
    band: tuple[float, float], wanted: list[tuple[Any, ...]]
) -> None:
    made = headroom.of_sine(Sweep(), Plain(), Capability(**LIMITS), band)  # type: ignore[arg-type]
    assert [x for x in made.limits if x.name == "Frequency range"] == [Exceeded(*w) for w in wanted]
    assert made.level_db == headroom.of_sine(Sweep(), Plain(), Capability(**LIMITS)).level_db  # type: ignore[arg-type]
    noise = headroom.of_random(Noise(), Plain(), Capability(**LIMITS), (25.0, 250.0))  # type: ignore[arg-type]
    ends = [x for x in noise.limits if x.name == "Frequency range"]
    assert [(x.used, x.frequency) for x in ends] == [(2.0, 500.0), (1.25, 20.0)]


def test_a_limit_that_is_just_met_fits_and_is_told_in_words() -> None:
    just = Exceeded("Stroke", 1.0, 0.012, 0.012, "m", 8.0)
    assert headroom.Headroom((just,)).fits and not headroom.Headroom((Exceeded("Drive", 1.001, 5, 5, "V", None),)).fits
    assert just.sentence == "Stroke at 8 Hz: 12.0 mm of 12.0 mm (100 %)"
    assert Exceeded("Force", 0.504, 50.44, 100.0, "N", None).sentence == "Force: 50.4 N of 100 N (50 %)"
