"""How far modes have moved since the probe run, and what the sine loop makes of it."""

from __future__ import annotations

import numpy as np
import pytest

from lucid_anvil.core.control.moving import MOST, Moving
from lucid_anvil.core.control.plant import LoopResponse
from lucid_anvil.core.control.sineloop import FALL, Regulation, SineLoop
from lucid_anvil.core.control.twin import Twin
from lucid_anvil.domains.shaker.sine_reading import evaluate
from lucid_anvil.engine.inprocess import play_through
from test_shaker_control import errors, played, prepared, sine


def mode(f: np.ndarray, at: float, quality: float = 20.0) -> np.ndarray:
    r = f / at
    return 1 / (1 - r**2 + 1j * r / quality)


def test_the_move_is_learned_from_the_skirts() -> None:
    moving, true, f0 = Moving(0.04), 0.03, 100.0

    def ratio(f: float, shift: float) -> float:
        return float(np.log(np.abs(mode(np.array([f]), f0 * (1 + shift))[0])))

    for f in np.linspace(60, 92, 200):
        off = ratio(f, true) - ratio(f, moving.at)
        slope = (ratio(f, moving.at + 0.004) - ratio(f, moving.at - 0.004)) / 0.008
        moving.learn((0.0, 0.0), (off, slope), f)
    assert moving.at == pytest.approx(true, abs=0.004)


def test_what_tells_nothing_moves_nothing_and_nonsense_has_an_end() -> None:
    moving = Moving(0.04)
    for _ in range(500):
        moving.learn((0.3, 0.0), (-0.2, 0.0), 50.0)
    assert abs(moving.at) < 1e-3
    for _ in range(5000):
        moving.learn((5.0, 3.0), (5.0, 9.0), 200.0)
    assert abs(moving.at) <= MOST and np.isfinite(moving.doubt).all()


def test_a_twin_moved_shows_its_mode_elsewhere() -> None:
    f = np.arange(0, 513) * 0.5
    plant = LoopResponse(f, mode(f, 80.0)[None], np.ones((1, f.size)), np.zeros(1), 0.0)
    rate, block = 2048.0, 64
    t = np.arange(int(rate) * 6 // block * block) / rate
    for shift in (0.0, 0.05, -0.05):
        twin = Twin(plant, 1, rate, block, 150.0)
        twin.become(np.array([shift]))
        drive = np.sin(2 * np.pi * 84.0 * t)
        y = np.concatenate([twin(drive[k : k + block])[0] for k in range(0, t.size, block)])
        shown = np.sqrt(2 * np.mean(y[y.size // 2 :] ** 2))
        assert shown == pytest.approx(abs(mode(np.array([84.0 / (1 + shift)]), 80.0)[0]), rel=0.03)


def test_the_drive_does_not_rush_after_a_level_that_falls() -> None:
    f = np.arange(0, 513) * 1.0
    plant = LoopResponse(f, np.full((1, f.size), 10.0 + 0j), np.ones((1, f.size)), np.zeros(1), 0.0)
    rate, block = 4096.0, 128
    loop = SineLoop(
        rate, block, 1, 1, plant, Regulation(shortest=2 * block / rate), 10.0, 2 * block / rate, highest=200.0
    )
    phase, drives, level = 0.0, [np.zeros(block)] * 2, []
    for k in range(160):
        u = phase + 2 * np.pi * 60.0 * np.arange(block) / rate
        wanted, _ = loop.regulate(60.0, 5.0)
        drives.append(loop.play(wanted, u))
        level.append(wanted)
        phase += 2 * np.pi * 60.0 * block / rate
        heard = drives[-1] * 10.0 * (0.4 if k >= 100 else 1.0)
        loop.observe(heard[None], drives[-1], u, 60.0)
    assert level[99] == pytest.approx(0.5, rel=0.02)
    spans = 12 * block / rate
    assert level[112] / level[99] < 10 ** (FALL * spans / 20) + 0.02
    assert level[159] > 1.25 * level[99]  # a true change is followed all the same


@pytest.mark.parametrize(
    ("f", "quality", "drift", "block"),
    [(110.0, 50, -3.0, 320), (30.0, 50, 3.0, 128)],
)
def test_a_resonance_that_drifts_is_followed_at_its_true_phase(
    f: float, quality: float, drift: float, block: int
) -> None:
    course = [{"sweep": "up"}, {"follow": "resonance", "duration": "30 s", "channel": "response"}]
    p = prepared("sine-sweep", sine(f / 1.4, f * 1.4, "4 oct/min", course=course),
                 [{"mass": "0.9 kg", "frequency": f, "quality": quality, "drift": drift}], block=block)  # fmt: skip
    made = play_through(p)
    assert made.trip is None, made.trip
    finding = evaluate(made.channels, p.settings, made.marks)
    wanted = next(m["wanted"] for m in made.marks if m.get("follow"))
    assert wanted == pytest.approx(-90, abs=4)
    assert abs(finding.reading("dwell_1_phase_error").value) < 3.0
    assert abs(finding.reading("dwell_1_error").value) < 0.2
    assert finding.reading("dwell_1_drift").value == pytest.approx(drift * 27 / 60, abs=0.2)
    # From its first counted second on: it is found before its time begins.
    level = np.array(finding.curve("dwell_1_control").y) / 15
    assert np.max(np.abs(20 * np.log10(level))) < 0.2
    phase = np.array(finding.curve("dwell_1_phase").y)
    assert np.max(np.abs(phase)) < 3.0


def test_a_dwell_too_short_to_settle_is_said_not_a_fault() -> None:
    course = [{"follow": "110 Hz", "duration": "2.5 s", "channel": "response"}]
    made, finding = played(prepared("sine-sweep", sine(70, 160, "4 oct/min", course=course)))
    assert made.trip is None
    assert not finding.reading("dwell_1_drift").valid and "shorter" in finding.reading("dwell_1_drift").reason


@pytest.mark.parametrize(
    ("more", "course", "rate"),
    [({"drift": 2.0}, [{"sweep": "up"}, {"sweep": "down"}], "2 oct/min"),
     ({"softening": 0.5}, [{"sweep": "up"}], "4 oct/min")],
)  # fmt: skip
def test_a_mode_that_moved_is_met_where_it_is(more: dict[str, float], course: list[dict[str, str]], rate: str) -> None:
    article = [{"mass": "0.9 kg", "frequency": 110, "quality": 30, **more}]
    made, finding = played(prepared("sine-sweep", sine(70, 160, rate, course=course), article))
    assert made.trip is None, made.trip
    _, db = errors(finding)
    assert db.min() > -2.0 and db.max() < 1.5


@pytest.mark.parametrize(("drift", "rate"), [(0.0, "4 oct/min"), (-3.0, "2.9 oct/min")])
def test_a_very_sharp_mode_is_crossed_with_short_blocks(drift: float, rate: str) -> None:
    """Faster than such a mode can be held to its tolerance, which is said before; but it is no reason to cut."""
    article = [{"mass": "0.9 kg", "frequency": 110, "quality": 50, "drift": drift}]
    p = prepared("sine-sweep", sine(110 / 1.4, 110 * 1.4, rate, course=[{"sweep": "up"}]), article, block=128)
    made, finding = played(p)
    assert made.trip is None, made.trip
    _, db = errors(finding)
    assert db.min() > -3.5 and db.max() < 3.5


@pytest.mark.parametrize("block", [128, 320])
def test_a_short_block_and_the_end_of_a_down_sweep_leave_no_bias(block: int) -> None:
    p = prepared("sine-sweep", sine(30, 145, "8 oct/min", course=[{"sweep": "down"}]),
                 [{"mass": "0.9 kg", "frequency": 90, "quality": 8}], block=block)  # fmt: skip
    made, finding = played(p)
    assert made.trip is None, made.trip
    f, db = errors(finding)
    calm = (f > 35) & ((f < 75) | (f > 105)) & (f < 135)
    assert np.max(np.abs(db[calm])) < 0.15
    # The drive is taken down within the last line's window: what is read is what the raw record shows before it.
    end = next(m["t"] for m in made.marks if m.get("law") == "end")
    x = made.channels["control"].between(end - 3 / 30, end) / p.facts.sensitivity["control"]
    assert f[0] == pytest.approx(30) and abs(db[0] - 20 * np.log10(np.std(x) * np.sqrt(2) / 15)) < 0.1


def test_both_is_there_and_back() -> None:
    from lucid_anvil.domains.shaker.course import sine_stretches
    from lucid_anvil.domains.shaker.settings import ShakerSettings

    made = sine_stretches(ShakerSettings(**sine(20, 80, "2 oct/min", course=[{"sweep": "both"}])))
    assert [(s.sweep.start, s.sweep.stop) for s in made] == [(20, 80), (80, 20)]
    counted = sine_stretches(ShakerSettings(**sine(20, 80, "2 oct/min", course=[{"sweep": "both", "sweeps": 3}])))
    assert len(counted) == 3
