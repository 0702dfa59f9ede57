"""The stand-ins' physics against their own equations, and each of their faults once."""

from __future__ import annotations

from typing import Any

import numpy as np
import pytest

from lucid_anvil.contracts.settings import check
from lucid_anvil.core.errors import BadInput
from lucid_anvil.core.sensor import SensorModel
from lucid_anvil.core.shaker import Shaker
from lucid_anvil.core.signal.sinefit import fit_tone
from lucid_anvil.engine.study import demo_rig
from lucid_anvil.rig.model import Rig
from lucid_anvil.rig.standins.bench import OPEN_BIAS, SHORT_BIAS, StandInBench
from lucid_anvil.rig.standins.errors import DrawnErrors, draw_one, drawn_certificate, half_width
from lucid_anvil.rig.standins.filters import DELAY, BlockFir, Modal, fir_for, low_corner, resonance

RATE = 51200.0
BLOCK = 2048


def rig(**standin: Any) -> Rig:
    data = demo_rig()
    data["standin"].update(standin)
    data["standin"]["input_gains"] = {}
    data["room"]["temperature"] = 23.0
    return check(Rig, data, "rig")


def drive(bench: StandInBench, frequency: float, volts: float, blocks: int) -> dict[str, np.ndarray]:
    """Inputs by role while a sine is played."""
    rows = []
    for i in range(blocks):
        t = (i * BLOCK + np.arange(BLOCK)) / RATE
        rows.append(bench.play(volts * np.sin(2 * np.pi * frequency * t)))
    whole = np.concatenate([r.samples for r in rows], axis=1)
    made = {c.role: whole[i] for i, c in enumerate(bench.rig.channels)}
    return {**made, "drive": whole[-1]}


SHAKER = Shaker(0.22, 0.35, 18.0, 0.12, 13500.0, 0.03, 9.0, 1.6, 6e-5, 12.0)


def test_shaker_at_its_limits_of_frequency() -> None:
    f = np.array([0.5, 200.0, 500.0])
    a, current, x, volts = SHAKER.response(f)
    w = 2 * np.pi * f
    # Above the suspension, below the armature: a = Bl·i/m.
    assert np.abs(a[1:]) == pytest.approx(np.abs(9.0 * current[1:] / 0.22), rel=0.02)
    # Acceleration and displacement are one motion.
    assert a == pytest.approx(-(w**2) * x, rel=1e-6)
    # Far below the suspension resonance the spring holds the force.
    k = 0.22 * (2 * np.pi * 18.0) ** 2
    assert abs(x[0]) == pytest.approx(abs(9.0 * current[0]) / k, rel=0.01)
    assert np.abs(volts) == pytest.approx(12.0)


def test_capability_lines_are_what_their_names_say() -> None:
    r = rig()
    f = np.array([10.0, 100.0, 1000.0])
    lines = r.capability_lines().lines(r.plant(), f)
    assert lines["stroke"] == pytest.approx(0.006 * (2 * np.pi * f) ** 2)
    assert lines["velocity"] == pytest.approx(1.2 * 2 * np.pi * f)
    assert lines["force"] == pytest.approx(np.full(3, 120 / 0.22))
    allowed, why = r.capability_lines().allowed(r.plant(), f, 0.8)
    assert why[0] == "stroke"
    assert allowed[0] == pytest.approx(0.8 * lines["stroke"][0])
    assert np.all(allowed <= 0.8 * np.min(np.array(list(lines.values())), axis=0) + 1e-9)


def test_modal_simulation_is_the_transfer_function() -> None:
    modal = Modal(*SHAKER.state_space(), RATE)
    n = 40 * BLOCK
    for f in (30.0, 400.0, 3000.0):
        u = np.sin(2 * np.pi * f * np.arange(n) / RATE)
        modal.state[:] = 0
        y = np.concatenate([modal(u[i : i + BLOCK]) for i in range(0, n, BLOCK)], axis=1)
        fit = fit_tone(np.vstack([u, y[0]])[:, n // 2 :], RATE, f, refine=False)
        truth = SHAKER.response(np.array([f]))[0, 0]
        assert abs(fit.phasors[1] / fit.phasors[0]) == pytest.approx(abs(truth), rel=0.02)


@pytest.mark.parametrize(("fr", "q", "corner"), [(31000, 25, 0.5), (18000, 40, 0.0), (45000, 30, 2.0)])
def test_sensor_filters_follow_the_equation(fr: float, q: float, corner: float) -> None:
    model = SensorModel(1.0, fr, q, corner)
    taps = fir_for(model.upper, RATE)
    high = low_corner(corner, RATE)
    for f in (10.0, 160.0, 1000.0, 5000.0, 10000.0):
        response = np.sum(taps * np.exp(-2j * np.pi * f * np.arange(taps.size) / RATE))
        response *= np.exp(2j * np.pi * f * DELAY / RATE)
        if high is not None:
            z = np.exp(-2j * np.pi * f / RATE)
            response *= (high.b[0] + high.b[1] * z) / (high.a[0] + high.a[1] * z)
        assert response == pytest.approx(complex(model.response(np.array([f]))[0]), rel=3e-4)


def test_block_fir_is_convolution_whatever_the_blocks() -> None:
    rng = np.random.default_rng(1)
    taps, x = rng.normal(size=100), rng.normal(size=1024)
    fir = BlockFir(taps, 128)
    y = np.concatenate([fir(x[i : i + 128]) for i in range(0, 1024, 128)])
    assert y == pytest.approx(np.convolve(x, taps)[:1024], abs=1e-10)


def test_resonance_rises_by_its_quality() -> None:
    r = resonance(2000.0, 10.0, RATE)
    x = np.sin(2 * np.pi * 2000 * np.arange(51200) / RATE)
    assert np.max(np.abs(r(x)[-5120:])) == pytest.approx(10.0, rel=0.02)


def test_both_sensors_see_the_table() -> None:
    x = drive(StandInBench(rig()), 160.0, 0.1, 20)
    pair = np.array([x["reference"], x["unit"]])[:, 10 * BLOCK :]
    fit = fit_tone(pair, RATE, 160.0)
    held = rig().standin.sensors
    truth = held["GA-11"].model().response(np.array([160.0])) / held["GA-02"].model().response(np.array([160.0]))
    assert fit.phasors[1] / fit.phasors[0] == pytest.approx(complex(truth[0]), rel=1e-4)


def test_overload_is_clipped_and_told() -> None:
    bench = StandInBench(rig())
    t = np.arange(BLOCK) / RATE
    blocks = [bench.play(4.5 * np.sin(2 * np.pi * 160 * t)) for _ in range(6)]
    roles = [c.role for c in bench.rig.channels]
    assert blocks[-1].overload[roles.index("unit")]
    assert np.max(np.abs(blocks[-1].samples[roles.index("unit")])) <= 1.0 + 1e-9


@pytest.mark.parametrize(
    ("kind", "check_"),
    [
        ("open", lambda x, b: np.std(x[-BLOCK:]) < 1e-4 and b == OPEN_BIAS),
        ("short", lambda x, b: np.std(x[-BLOCK:]) < 1e-4 and b == SHORT_BIAS),
        ("no_output", lambda x, b: np.std(x[-BLOCK:]) < 1e-4 and 8 < b < 14),
        ("gain_jump", lambda x, b: np.std(x[-BLOCK:]) > 1.8 * np.std(x[2 * BLOCK : 4 * BLOCK])),
        ("overload", lambda x, b: np.max(np.abs(x[-BLOCK:])) == pytest.approx(1.0, abs=1e-4)),
        ("cable", lambda x, b: 0.2 < np.mean(np.abs(x[-4 * BLOCK :]) < 1e-9) < 0.7),
        ("hum", lambda x, b: fit_tone(x[-8 * BLOCK :], RATE, 50.0).phasors[0].__abs__() > 0.03),
        ("loose", lambda x, b: fit_tone(x[-4 * BLOCK :], RATE, 160.0).distortion[0] > 0.05),
        ("amplifier_trip", lambda x, b: np.std(x[-BLOCK:]) < 0.05 * np.std(x[2 * BLOCK : 4 * BLOCK])),
    ],
)
def test_each_fault(kind: str, check_: Any) -> None:
    made = rig(faults=[{"at": "0.3 s", "kind": kind, "channel": "unit"}])
    bench = StandInBench(made)
    rows = [bench.play(0.1 * np.sin(2 * np.pi * 160 * (i * BLOCK + np.arange(BLOCK)) / RATE)) for i in range(24)]
    x = np.concatenate([r.samples[1] for r in rows])
    assert check_(x, rows[-1].bias[1])
    assert 8 < rows[0].bias[1] < 14


def test_supply_sag_and_hang_belong_to_room_and_device() -> None:
    bench = StandInBench(rig(faults=[{"at": "0 s", "kind": "supply_sag"}]))
    assert bench.play(np.zeros(BLOCK)).supply < 210


def test_the_insert_shows_the_gain_ratio_of_the_inputs() -> None:
    data = demo_rig()
    data["standin"]["input_gains"] = {"unit": "0.3 %"}
    bench = StandInBench(check(Rig, data, "rig"))
    bench.command("insert", True)
    x = drive(bench, 400.0, 1.0, 10)
    pair = np.array([x["reference"], x["unit"]])[:, 4 * BLOCK :]
    assert abs(fit_tone(pair, RATE, 400.0).phasors).tolist()[1] == pytest.approx(0.5 * 1.003, rel=1e-4)


def test_drawn_errors_have_their_distribution_and_a_seed() -> None:
    rng = np.random.default_rng(1)
    for name, std in (("rectangular", 3**-0.5), ("triangular", 6**-0.5), ("u-shaped", 2**-0.5), ("normal k=2", 0.5)):
        assert np.std([draw_one(rng, name) for _ in range(4000)]) == pytest.approx(std, rel=0.06)
    sources = rig().budget
    f = np.array([100.0, 5000.0])
    assert np.array_equal(DrawnErrors(sources, 5).factor(f), DrawnErrors(sources, 5).factor(f))
    assert not np.allclose(DrawnErrors(sources, 5).factor(f), DrawnErrors(sources, 6).factor(f))
    assert half_width([[10, "0.1 %"], [1000, "0.3 %"]], np.array([100.0]))[0] == pytest.approx(0.2)


def test_drawn_certificates_scatter_as_they_state() -> None:
    points = [(100.0, 10.0), (1000.0, 10.0)]
    made = np.array([[s for _, s in drawn_certificate(points, "0.4 %", 0.5, 0.0, seed)] for seed in range(800)])
    relative = 100 * (made / 10 - 1)
    assert relative.std(axis=0) == pytest.approx([0.2, 0.2], rel=0.08)
    assert np.corrcoef(relative.T)[0, 1] == pytest.approx(0.5, abs=0.1)


@pytest.mark.parametrize(
    ("change", "words"),
    [
        ({"channels": [{"role": "a", "input": 1}]}, "serial number"),
        ({"channels": [{"role": "a", "input": 1, "sensor": "X"}]}, "not described"),
        ({"channels": [{"role": "a", "input": 1, "sensor": "GA-02"}, {"role": "a", "input": 2, "sensor": "GA-02"}]}, "same role"),
        ({"channels": [{"role": "a", "input": 1, "sensor": "GA-02"}, {"role": "b", "input": 1, "sensor": "GA-02"}]}, "share one input"),
        ({"shakr": {}}, "did you mean 'shaker'"),
        ({"shaker": {"strok": "1 mm"}}, "did you mean 'stroke'"),
        ({"shaker": {"stroke": "1 kg"}}, "can't be turned"),
        ({"front_end": {"block": 7}}, "greater than"),
    ],
)  # fmt: skip
def test_rig_files_with_mistakes(change: dict[str, Any], words: str) -> None:
    with pytest.raises(BadInput, match=words):
        check(Rig, {**demo_rig(), **change}, "rig")
