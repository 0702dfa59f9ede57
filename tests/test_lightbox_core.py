"""Pyramid, arithmetic of curves, cursors, pulses, filters for listening, forms of a response: against closed forms."""

from __future__ import annotations

from pathlib import Path

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st

from lucid_anvil.contracts.recording import channel_of
from lucid_anvil.core.errors import BadInput
from lucid_anvil.core.signal import curves, pulses, pyramid, soundfilter
from lucid_anvil.core.signal.mobility import FORMS, form_of, part_of
from lucid_anvil.formats import Recording, pyramidfile, read, write

# --- pyramid ---------------------------------------------------------------------------------------------------------


def record(n: int = 3_000_000, seed: int = 1) -> np.ndarray:
    x = np.cumsum(np.random.default_rng(seed).standard_normal(n)) * 1e-3
    x[n // 3], x[n // 2] = 50.0, -50.0
    return x


@pytest.fixture(scope="module")
def long() -> tuple[np.ndarray, pyramid.Pyramid]:
    x = record()
    return x, pyramid.build(lambda a, b: x[a:b], x.size)


@pytest.mark.parametrize(("a", "b"), [(0, 3_000_000), (999_000, 1_600_000), (999_990, 1_000_020), (5, 300_000)])
def test_a_picture_holds_the_least_and_the_greatest(long: tuple[np.ndarray, pyramid.Pyramid], a: int, b: int) -> None:
    x, made = long
    at, y = made.picture(a, b, 800, lambda i, j: x[i:j])
    assert at.size <= 2 * 802 and np.all(np.diff(at) >= 0)
    size = 256 * 16**2 if b - a > 1e6 else 256
    near = slice(max(a - size, 0), b + size)
    assert x[a:b].max() - 1e-3 <= y.max() <= x[near].max() + 1e-3
    assert x[near].min() - 1e-3 <= y.min() <= x[a:b].min() + 1e-3


def test_zoomed_in_the_samples_themselves_are_seen(long: tuple[np.ndarray, pyramid.Pyramid]) -> None:
    x, made = long
    at, y = made.picture(1_234_500, 1_234_560, 800, lambda i, j: x[i:j])
    assert at.tolist() == list(range(1_234_500, 1_234_560))
    assert np.array_equal(y, x[1_234_500:1_234_560])
    assert made.picture(10, 11, 800, lambda i, j: x[i:j])[0].size == 0
    assert made.picture(-50, 40, 800, lambda i, j: x[i:j])[0].size == 40


def test_a_whole_picture_reads_no_sample(long: tuple[np.ndarray, pyramid.Pyramid]) -> None:
    _, made = long

    def never(_a: int, _b: int) -> np.ndarray:
        raise AssertionError("a sample was read")

    assert made.picture(0, made.length, 1000, never)[0].size > 1000


def test_a_pyramid_is_kept_and_thrown_away(long: tuple[np.ndarray, pyramid.Pyramid], tmp_path: Path) -> None:
    _, made = long
    place = tmp_path / "cache" / "ch.npz"
    pyramidfile.keep(made, place)
    back = pyramidfile.kept(place, made.length)
    assert back is not None
    assert all(np.array_equal(a, b) for a, b in zip(made.levels, back.levels, strict=True))
    assert pyramidfile.kept(place, made.length + 1) is None  # of another record
    place.write_bytes(place.read_bytes()[:1000])
    assert pyramidfile.kept(place, made.length) is None  # cut short
    assert pyramidfile.kept(tmp_path / "nothing.npz", 3) is None


@given(st.integers(2, 5000), st.integers(1, 50), st.integers(0, 2**31))
def test_an_envelope_misses_nothing(n: int, columns: int, seed: int) -> None:
    x = np.random.default_rng(seed).standard_normal(n)
    at, y = pyramid.envelope(x, columns)
    assert (y.min(), y.max()) == (x.min(), x.max())
    assert at[0] == 0 and at[-1] < n


# --- curves ----------------------------------------------------------------------------------------------------------

X = np.linspace(1, 10, 10)


def test_curves_are_taken_together_on_the_firsts_grid() -> None:
    a, b, c = (X, 2 * X), (np.linspace(0, 20, 41), 3 * np.linspace(0, 20, 41)), (X[:5], X[:5])
    assert curves.combined([a, b], "sum")[1] == pytest.approx(5 * X)
    assert curves.combined([a, b], "difference")[1] == pytest.approx(-X)
    assert curves.combined([a, b], "ratio")[1] == pytest.approx(np.full(10, 2 / 3))
    assert curves.combined([a, b], "average")[1] == pytest.approx(2.5 * X)
    assert curves.combined([a, b], "max hold")[1] == pytest.approx(3 * X)
    assert curves.combined([a, b], "min hold")[1] == pytest.approx(2 * X)
    assert curves.combined([a, b], "spread")[1] == pytest.approx(X / np.sqrt(2))
    beyond = curves.combined([a, c], "sum")[1]
    assert np.isfinite(beyond[:5]).all() and np.isnan(beyond[5:]).all()
    with pytest.raises(ValueError, match="max hold"):
        curves.combined([a, b], "product")


def test_ratio_of_three_is_of_the_first_and_the_mean_of_the_rest() -> None:
    made = curves.combined([(X, 6 * X), (X, 2 * X), (X, 4 * X)], "ratio")
    assert made[1] == pytest.approx(np.full(10, 2.0))
    assert curves.normalised((X, -4 * X))[1].min() == -1.0


def test_a_cursor_snaps_to_the_peak_between_its_lines() -> None:
    x = np.arange(0, 100, 1.0)
    y = 1 / (1 + (x - 42.3) ** 2) + 0.3 / (1 + (x - 70) ** 2)
    at = curves.nearest_peak((x, y), 45.0)
    assert at is not None and at[0] == pytest.approx(42.3, abs=0.25)
    assert curves.nearest_peak((x, y), 68.0, reach=0.05)[0] == pytest.approx(70, abs=0.1)  # type: ignore[index]
    assert curves.nearest_peak((x, y), 10.0, reach=0.05) is None
    logs = np.geomspace(10, 1000, 200)
    assert curves.nearest_peak((logs, -np.abs(np.log(logs / 100))), 120, True)[0] == pytest.approx(100, rel=0.03)  # type: ignore[index]


def test_harmonics_sidebands_and_a_band() -> None:
    f = np.arange(0, 1000, 2.0)
    y = np.full(f.size, 1e-3)
    for k in range(1, 6):
        y[f == 100 * k] = 1 / k
    y[(f == 288) | (f == 312)] = 0.05
    assert [(k, round(v, 2)) for k, _, v in curves.harmonics((f, y), 100.0)][:5] == [
        (1, 1.0), (2, 0.5), (3, 0.33), (4, 0.25), (5, 0.2)
    ]  # fmt: skip
    sides = {k: v for k, _, v in curves.sidebands((f, y), 300.0, 12.0, 2)}
    assert sides[-1] == sides[1] == 0.05 and sides[0] == pytest.approx(1 / 3)
    # A tone of 1 V rms spreads over three lines of a Hann window: 1/2, 1, 1/2.
    line = np.zeros(f.size)
    line[[49, 50, 51]] = 0.5, 1.0, 0.5
    assert curves.band_rms((f, line), 90.0, 110.0) == pytest.approx(1.0)
    assert curves.band_rms((f, line), 500.0, 600.0) == 0.0


# --- pulses ----------------------------------------------------------------------------------------------------------


def train(rate: float = 100e3, noise: float = 0.0) -> np.ndarray:
    """Pulses of 2 V every 10 ms, 3 ms wide at half, edges of 0.4 ms from end to end."""
    t = np.arange(0, 0.1, 1 / rate)
    u = np.mod(t - 2e-3, 10e-3)
    up = np.clip((u - 0.0) / 0.4e-3, 0, 1) - np.clip((u - 3e-3) / 0.4e-3, 0, 1)
    return 0.5 + 2 * up + noise * np.random.default_rng(2).standard_normal(t.size)


@pytest.mark.parametrize("noise", [0.0, 0.01])
def test_rise_width_and_rest_of_pulses(noise: float) -> None:
    made = pulses.figures(train(noise=noise), 100e3)
    assert made.pulses == 10
    assert made.rise == pytest.approx(0.8 * 0.4e-3, rel=0.08)
    assert made.width == pytest.approx(3e-3, rel=0.01)
    assert made.rest == pytest.approx(7e-3, rel=0.01)
    assert made.peak_to_peak == pytest.approx(2.0, abs=8 * noise + 1e-9)
    assert made.least == pytest.approx(0.5, abs=5 * noise + 1e-9)


def test_a_sound_is_no_train_of_pulses() -> None:
    t = np.arange(0, 1, 1 / 8000)
    made = pulses.figures(np.sin(2 * np.pi * 50 * t) + 0.5 * np.sin(2 * np.pi * 117 * t), 8000)
    assert made.pulses == 0 and made.rise is None
    assert made.rms == pytest.approx(np.sqrt(0.5 + 0.125), rel=0.01)
    still = pulses.figures(np.full(100, 3.0), 8000)
    assert (still.pulses, still.peak_to_peak, still.mean) == (0, 0.0, 3.0)


# --- filters for listening -------------------------------------------------------------------------------------------

RATE = 48000.0


@pytest.mark.parametrize(
    ("kind", "low", "high", "through", "stopped"),
    [("band-stop", 900, 1100, (300, 3000), (1000,)), ("band-pass", 500, 2000, (1000,), (50, 15000)),
     ("low-pass", 20, 1000, (100, 300), (8000,)), ("high-pass", 1000, 20000, (5000,), (50,))],
)  # fmt: skip
def test_filters_pass_and_stop(
    kind: str, low: float, high: float, through: tuple[int, ...], stopped: tuple[int, ...]
) -> None:
    band = soundfilter.Band(kind, low, high)
    assert soundfilter.gain((band,), np.array(through, float), RATE) == pytest.approx(1.0, abs=0.03)
    assert np.all(soundfilter.gain((band,), np.array(stopped, float), RATE) < 0.01)
    assert soundfilter.gain((), np.array([10.0, 100.0]), RATE).tolist() == [1.0, 1.0]
    t = np.arange(0, 1, 1 / RATE)
    for f, wanted in ((through[0], 1.0), (stopped[0], 0.0)):
        y = soundfilter.Chain((band,), RATE)(np.sin(2 * np.pi * f * t))
        assert np.std(y[24000:]) * np.sqrt(2) == pytest.approx(wanted, abs=0.03)


def test_filters_block_by_block_are_the_same_and_switch_without_a_click() -> None:
    t = np.arange(0, 1, 1 / RATE)
    x = np.sin(2 * np.pi * 200 * t) + 0.5 * np.sin(2 * np.pi * 1000 * t)
    band = soundfilter.Band("band-stop", 900, 1100)
    whole = soundfilter.Chain((band,), RATE)(x)
    chain = soundfilter.Chain((band,), RATE)
    pieces = np.concatenate([chain(x[a : a + 1000]) for a in range(0, x.size, 1000)])
    assert pieces == pytest.approx(whole, abs=1e-12)
    switched = soundfilter.Chain((band,), RATE)
    head = switched(x[:24000])
    switched.on = False
    tail = switched(x[24000:])
    both = np.concatenate([head, tail])
    steepest = np.max(np.abs(np.diff(x)))
    assert np.max(np.abs(np.diff(both))) < 1.2 * steepest  # no step where it was switched
    assert tail[2000:] == pytest.approx(x[26000:], abs=1e-9)


def test_what_is_heard_is_loud_enough_and_never_too_loud() -> None:
    x = 1e-4 * np.random.default_rng(1).standard_normal(10000) + 3.0
    made = soundfilter.for_ear(x)
    assert np.abs(made).max() <= 1.0
    assert np.quantile(np.abs(made), 0.999) == pytest.approx(0.7, rel=1e-6)
    assert np.all(soundfilter.for_ear(np.full(50, 2.0)) == 0)


# --- forms of a response ---------------------------------------------------------------------------------------------


def test_mobility_and_receptance_of_a_mass_and_a_spring() -> None:
    f = np.array([1.0, 10.0, 100.0])
    w = 2 * np.pi * f
    mass = np.full(3, 1 / 5.0 + 0j)  # accelerance of 5 kg
    assert form_of(f, mass, "accelerance") == pytest.approx(mass)
    assert form_of(f, mass, "mobility") == pytest.approx(1e3 / (1j * w * 5))
    spring = -(w**2) / 1e4 + 0j  # accelerance of 10 kN/m
    assert form_of(f, spring, "receptance") == pytest.approx(np.full(3, 1e6 / 1e4))
    assert part_of(form_of(f, spring, "mobility"), "phase") == pytest.approx(90.0)
    h = np.array([3 + 4j])
    assert [part_of(h, p)[0] for p in ("magnitude", "real", "imaginary")] == [5, 3, 4]
    assert FORMS["receptance"][0] == "µm/N"


# --- spreadsheets ----------------------------------------------------------------------------------------------------


def test_a_record_goes_into_a_spreadsheet_and_comes_back(tmp_path: Path) -> None:
    x = np.random.default_rng(3).standard_normal((2, 400))
    meta = {"sensor": "GM-03", "sensitivity": 48.9}
    made = Recording("here", (channel_of("mic", "V", 25600, x[0], meta), channel_of("tach", "V", 25600, x[1])))
    place = tmp_path / "crop.xlsx"
    write(place, made)
    back = read(place)
    assert back.labels == ["mic", "tach"]
    assert back.channels[0].rate == 25600 and back.channels[0].unit == "V"
    assert back.channels[0].samples() == pytest.approx(x[0], abs=1e-12)
    assert back.channels[0].meta["sensor"] == "GM-03" and back.channels[0].meta["sensitivity"] == 48.9


def sheet(place: Path, *rows: list[object]) -> Path:
    import openpyxl

    book = openpyxl.Workbook()
    for row in rows:
        book.active.append(row)
    book.save(place)
    return place


def test_a_strangers_spreadsheet(tmp_path: Path) -> None:
    good = sheet(tmp_path / "a.xlsx", ["time [s]", "force [N]"], *([k * 0.001, float(k % 7)] for k in range(50)))
    made = read(good)
    assert made.channel("force").unit == "N" and made.channel("force").rate == pytest.approx(1000)
    for name, rows, word in (
        ("b", [["force [N]"], [1.0], [2.0]], "no rate"),
        ("c", [["time [s]", "x [V]"], [0, 1], [1, None]], "empty or no number"),
        ("d", [["time [s]", "x [V]"], [0, 1], [1, 2], [5, 2]], "uneven"),
        ("e", [[1, 2], [3, 4], [5, 6]], "heading row"),
    ):
        with pytest.raises(BadInput, match=word):
            read(sheet(tmp_path / f"{name}.xlsx", *rows))
    (tmp_path / "f.xlsx").write_text("no zip")
    with pytest.raises(BadInput, match="not a spreadsheet"):
        read(tmp_path / "f.xlsx")
    long = Recording("x", (channel_of("a", "V", 1000, np.zeros(1_100_000)),))
    with pytest.raises(BadInput, match="more than a sheet"):
        write(tmp_path / "g.xlsx", long)
