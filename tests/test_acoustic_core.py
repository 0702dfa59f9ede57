"""Weightings and fractional-octave bands against the standards' own formulas and masks."""

from __future__ import annotations

import numpy as np
import pytest
from scipy import signal

from lucid_anvil.core.errors import BadInput
from lucid_anvil.core.signal.bands import (
    G,
    band_filter,
    band_levels,
    edges,
    effective_bandwidth,
    mask,
    mid_frequencies,
)
from lucid_anvil.core.signal.weighting import CORNERS, gain, weighting

BASE_TEN = 1e3 * 10 ** (np.arange(-20, 13) / 10)


def test_corners_and_gains_are_the_standards() -> None:
    # IEC 61672-1, annex E gives the corners to two decimals, table 3 the weightings to a tenth.
    assert pytest.approx((20.60, 107.65, 737.86, 12194.22), abs=0.005) == CORNERS
    db = dict(zip(np.rint(BASE_TEN).astype(int), 20 * np.log10(gain(BASE_TEN, "A")), strict=True))
    for f, wanted in ((10, -70.4), (100, -19.1), (501, -3.2), (1000, 0.0), (2512, 1.3), (10000, -2.5), (15849, -6.6)):
        assert db[f] == pytest.approx(wanted, abs=0.11)
    assert 20 * np.log10(gain(np.array([31.6228]), "C"))[0] == pytest.approx(-3.0, abs=0.06)
    assert np.all(gain(BASE_TEN, "Z") == 1)
    with pytest.raises(BadInput, match="A, C, Z"):
        gain(BASE_TEN, "B")


@pytest.mark.parametrize("rate", [44100.0, 48000.0, 51200.0, 65536.0, 102400.0])
@pytest.mark.parametrize("kind", ["A", "C"])
def test_a_filter_has_no_droop(kind: str, rate: float) -> None:
    f = BASE_TEN[BASE_TEN < 16001]
    assert np.max(np.abs(20 * np.log10(weighting(kind, rate).response(f) / gain(f, kind)))) < 0.07


def test_weighted_samples_keep_their_time_and_channels() -> None:
    rate, f = 51200.0, 4000.0
    t = np.arange(51200) / rate
    x = np.array([np.sin(2 * np.pi * f * t), 2 * np.sin(2 * np.pi * 63.0957 * t)])
    y = weighting("A", rate)(x)
    assert y.shape == x.shape
    rms = y[:, 20000:40000].std(axis=1) * np.sqrt(2)
    assert rms == pytest.approx(gain(np.array([f]), "A").tolist() + [2 * gain(np.array([63.0957]), "A")[0]], rel=5e-3)
    assert weighting("Z", rate)(x) is x


@pytest.mark.parametrize("fraction", [1, 3])
@pytest.mark.parametrize("rate", [48000.0, 51200.0])
def test_bands_are_class_1(fraction: int, rate: float) -> None:
    seen = 0
    for mid in mid_frequencies(25, 20000, fraction):
        if edges(mid, fraction)[1] > 0.45 * rate:
            with pytest.raises(BadInput, match="leave it out"):
                band_filter(float(mid), fraction, rate)
            continue
        at = rate
        while mid * G ** (1 / fraction) < 0.05 * at:  # as band_levels halves the rate
            at /= 2
        made = band_filter(float(mid), fraction, at)
        ratio = np.exp(np.linspace(-4.1 * np.log(G), np.log(0.4999 * at / mid), 3000))
        _, h = signal.sosfreqz(made, mid * ratio, fs=at)
        loss = -20 * np.log10(np.abs(h) + 1e-30)
        least, most = mask(ratio, fraction)
        assert np.all(loss >= least) and np.all(loss <= most), mid
        assert abs(effective_bandwidth(made, float(mid), fraction, at)) < 0.05
        seen += 1
    assert seen >= 9 * fraction


def test_levels_of_bands_add_up() -> None:
    rate = 25600.0
    x = np.random.default_rng(2).standard_normal((2, int(20 * rate)))
    mid = mid_frequencies(100, 8000, 3)
    held = band_levels(x, rate, mid, 3, settle=0.5)
    low, high = edges(mid, 3)
    db = 10 * np.log10(held.power / ((high - low) / (rate / 2)))
    assert np.max(np.abs(db[:, 6:])) < 0.35
    assert np.mean(db) == pytest.approx(0.0, abs=0.06)
    assert mid_frequencies(31.5, 8000, 1).size == 9
    with pytest.raises(BadInput, match="fraction"):
        mid_frequencies(0, 10, 3)
