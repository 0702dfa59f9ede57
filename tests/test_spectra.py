"""Averaged spectra and the tracking of moving sines against closed forms."""

from __future__ import annotations

from typing import Any

import numpy as np
import pytest

from lucid_anvil.core.control.sweep import Sweep
from lucid_anvil.core.signal.framing import Framer, window_of
from lucid_anvil.core.signal.rounding import rounded
from lucid_anvil.core.signal.spectra import (
    Averager,
    averaged,
    degrees_of_freedom,
    frame_for,
    hann,
    noise_bandwidth,
    scaled,
)
from lucid_anvil.core.signal.tracking import PhasorBank, find_track, tracked


def test_a_hann_window_is_one_and_a_half_lines_wide() -> None:
    assert noise_bandwidth(hann(4096)) == pytest.approx(1.5, rel=1e-9)
    # Half overlapping Hann frames correlate by a sixth, so that their square adds little.
    alone, many = degrees_of_freedom(hann(1024), 512, 1), degrees_of_freedom(hann(1024), 512, 1000)
    assert alone == pytest.approx(2.0)
    assert many == pytest.approx(2000 / (1 + 2 * (1 / 6) ** 2), rel=1e-3)


def test_density_of_white_noise_and_of_a_sine() -> None:
    rng = np.random.default_rng(1)
    rate, n = 2048.0, 400000
    x = rng.normal(0, 3.0, (2, n))
    x[1] = 0.5 * np.roll(x[0], 3) + 0.01 * x[1]
    made = averaged((x[:, k : k + 777] for k in range(0, n, 777)), 2, rate, 1024)
    inner = slice(5, -5)
    assert np.mean(made.auto[0][inner]) == pytest.approx(2 * 9 / rate, rel=0.01)
    assert np.std(made.auto[0][inner]) / np.mean(made.auto[0][inner]) == pytest.approx((2 / made.dof) ** 0.5, rel=0.15)
    h = made.response()[1]
    f = made.frequency
    assert np.abs(h[inner]) == pytest.approx(0.5, rel=0.02)
    assert np.angle(h[20]) == pytest.approx(-2 * np.pi * f[20] * 3 / rate, abs=0.02)
    assert np.min(made.coherence()[1][inner]) > 0.99
    t = np.arange(n) / rate
    sine = averaged([4 * np.sin(2 * np.pi * 200 * t)[None]], 1, rate, frame_for(rate, 2.0))
    assert np.sum(sine.auto[0]) * sine.frequency[1] == pytest.approx(8.0, rel=1e-6)


def test_exponential_averages_forget() -> None:
    made = Averager(1, 1000.0, 100, 0.5, forget=0.2)
    made.feed(np.random.default_rng(2).normal(size=(1, 20000)))
    before = made.spectra().auto.mean()
    made.feed(10 * np.random.default_rng(3).normal(size=(1, 20000)))
    assert made.spectra().auto.mean() == pytest.approx(100 * before, rel=0.5)
    assert 10 < made.dof < 25


def test_a_swept_sine_is_followed_without_lag() -> None:
    rate = 5000.0
    s = Sweep(10, 400, 40.0)
    t = np.arange(int(40 * rate)) / rate
    level = 2 + np.sin(2 * np.pi * 0.05 * t)
    x = level * np.sin(s.phase(t) + 0.7) + 0.2 + 0.3 * np.sin(2 * (s.phase(t)))
    f = np.geomspace(11, 390, 60)
    at = np.array([s.time_at(v) for v in f])
    p = tracked(lambda a, b: x[None, a:b], x.size, rate, s.phase, f, at)[0]
    assert np.abs(p) == pytest.approx(np.interp(at, t, level), rel=0.01)
    assert np.angle(p * 1j) == pytest.approx(0.7, abs=0.02)
    track = find_track(x, rate, 10, 400)
    assert track is not None
    inner = slice(3, -3)
    assert track(at[inner]) == pytest.approx(f[inner], rel=0.01)


def test_no_track_in_silence() -> None:
    assert find_track(np.zeros(50), 1000.0, 10, 100) is None


def test_a_phasor_bank_reads_its_window() -> None:
    rate, n = 8000.0, 320
    bank = PhasorBank(2, 40, rate, 0.5)
    t = np.arange(n * 20) / rate
    carrier = 2 * np.pi * 100 * t
    x = np.array([3 * np.cos(carrier + 0.4), 0.5 * np.cos(carrier - 1.0)])
    for k in range(20):
        part = slice(k * n, (k + 1) * n)
        bank.feed(x[:, part], carrier[part], 100.0)
    p, f, age = bank.read(0.1)
    assert np.abs(p) == pytest.approx([3.0, 0.5], rel=1e-2) and np.angle(p) == pytest.approx([0.4, -1.0], abs=0.01)
    assert (f, age) == (pytest.approx(100.0), pytest.approx(0.05))


def test_spectra_agree_with_an_independent_implementation() -> None:
    from scipy import signal

    rng = np.random.default_rng(7)
    x = rng.normal(size=(3, 40000)) + 0.3
    x[2] += np.roll(x[0], 5)
    made = averaged([x], 3, 5000.0, 2048, reference=0)
    f, wanted = signal.welch(x, 5000.0, "hann", 2048, 1024, detrend="constant")
    assert made.frequency == pytest.approx(f) and made.frames == (40000 - 1024) // 1024
    assert np.max(np.abs(made.auto - wanted)[:, 1:-1] / wanted[:, 1:-1]) < 1e-10
    _, crossed = signal.csd(x[0], x[2], 5000.0, "hann", 2048, 1024, detrend="constant")
    assert np.max(np.abs(made.cross[2] - crossed)[1:-1]) < 1e-10 * np.max(np.abs(crossed))


def test_frames_do_not_depend_on_the_pieces() -> None:
    x = np.random.default_rng(8).normal(size=(2, 9000))
    whole = [y.copy() for y in Framer(2, 1000, 0.75).feed(x)]
    cutter = Framer(2, 1000, 0.75)
    parts = [y.copy() for a in range(0, 9000, 311) for y in cutter.feed(x[:, a : a + 311])]
    assert len(whole) == len(parts) == 33
    assert np.max(np.abs(np.array(whole) - np.array(parts))) < 1e-9
    cutter.clear()
    assert list(cutter.feed(x[:, :999])) == [] and len(list(cutter.feed(x[:, 999:1000]))) == 1


def test_numbers_for_pictures_are_short_and_right() -> None:
    rng = np.random.default_rng(3)
    x = rng.normal(size=400) * 10 ** rng.uniform(-12, 12, 400)
    for digits in (3, 5):
        made = rounded([*x, 0.0, np.inf], digits)
        assert made[:-2] == pytest.approx([float(f"{v:.{digits}g}") for v in x], rel=1e-12)
        assert made[-2:] == [0.0, np.inf]
        assert np.mean([len(repr(v)) for v in made]) < 12


@pytest.mark.parametrize("overlap", [0.5, 0.75, 0.6, 0.0])
@pytest.mark.parametrize("blocks", [(5000,), (700, 1024, 33, 4096), (12_345, 1, 8192), (60_000,)])
def test_however_it_is_fed_the_average_is_welchs(blocks: tuple[int, ...], overlap: float) -> None:
    from scipy import signal

    x = np.random.default_rng(9).standard_normal((3, 60_000)) + 2.0
    made, at, k = Averager(3, 1000.0, 1024, overlap, reference=1), 0, 0
    few = Averager(3, 1000.0, 1024, overlap, reference=1, count=100, cross=False)
    while at < x.shape[1]:
        n = blocks[k % len(blocks)]
        assert made.feed(x[:, at : at + n]) == few.feed(x[:, at : at + n])
        at, k = at + n, k + 1
    held = made.spectra()
    how: Any = {"nperseg": 1024, "noverlap": 1024 - made.hop, "detrend": "constant"}
    _, auto = signal.welch(x, 1000.0, **how)
    _, cross = signal.csd(x[1], x, 1000.0, **how)
    assert few.spectra().auto == pytest.approx(held.auto[:, :100], rel=1e-12)
    inner = slice(1, -1)
    assert held.auto[:, inner] == pytest.approx(auto[:, inner], rel=1e-10)
    assert np.max(np.abs(held.cross[:, inner] - cross[:, inner])) < 1e-10 * np.max(np.abs(cross))
    assert held.coherence()[1, inner] == pytest.approx(1.0)


@pytest.mark.parametrize(
    ("name", "bandwidth"),
    [("rectangular", 1.0), ("hann", 1.5), ("hamming", 1.3628), ("blackman", 1.7268), ("flat top", 3.7702)],
)
def test_windows_read_a_tone_and_noise_alike(name: str, bandwidth: float) -> None:
    w = window_of(name, 4096)
    assert noise_bandwidth(w) == pytest.approx(bandwidth, abs=2e-4)
    t = np.arange(40_960) / 4096.0
    tone = Averager(1, 4096.0, 4096, window=name)
    tone.feed(3.0 + np.sqrt(2) * np.sin(2 * np.pi * 100 * t)[None])
    auto = tone.spectra().auto[0]
    assert scaled(auto, 4096.0, w, "rms")[100] == pytest.approx(1.0, rel=1e-9)
    assert scaled(auto, 4096.0, w, "peak")[100] == pytest.approx(np.sqrt(2), rel=1e-9)
    assert scaled(auto, 4096.0, w, "energy", 2.0)[100] == 2 * auto[100] == 2 * scaled(auto, 4096.0, w, "density")[100]
    assert auto[0] < 1e-20  # the offset is off, whatever the window
    noise = Averager(1, 4096.0, 4096, window=name)
    noise.feed(np.random.default_rng(2).standard_normal((1, 400_000)))
    assert np.mean(noise.spectra().auto[0, 10:-10]) == pytest.approx(2 / 4096, rel=0.02)
    with pytest.raises(ValueError, match="flat top"):
        window_of("kaiser", 10)
    with pytest.raises(ValueError, match="energy"):
        scaled(auto, 4096.0, w, "power")


def test_a_flat_top_reads_a_tone_between_two_lines() -> None:
    t = np.arange(40_960) / 4096.0
    made = {}
    for name in ("hann", "flat top"):
        one = Averager(1, 4096.0, 4096, window=name)
        one.feed(np.sqrt(2) * np.sin(2 * np.pi * 100.5 * t)[None])
        made[name] = scaled(one.spectra().auto[0], 4096.0, window_of(name, 4096), "rms").max()
    assert made["flat top"] == pytest.approx(1.0, rel=2e-3)
    assert made["hann"] == pytest.approx(0.849, rel=5e-3)  # 1.42 dB low
