"""Whether the measuring chain is still the one that the probe run saw: in closed form, and on the stand-in's shaker."""

from __future__ import annotations

from pathlib import Path
from typing import Any

import numpy as np
import pytest

from lucid_anvil.contracts.finding import Finding
from lucid_anvil.core.control import chain as chain_core
from lucid_anvil.core.control.chain import ChainWatch, Changed, apart, chain_model
from lucid_anvil.core.control.plant import LoopResponse
from lucid_anvil.domains.shaker.chain import changes_in
from lucid_anvil.domains.shaker.settings import in_units
from lucid_anvil.engine.guards import told
from lucid_anvil.engine.inprocess import Played, play_through
from lucid_anvil.protocol import chain
from lucid_anvil.rig.model import Fault
from test_shaker_control import prepared, sine

RATE, BLOCK = 4096.0, 128
GAINS = (10.0, 4.0, 0.5)


def flat_plant() -> LoopResponse:
    """A plant of three channels without any mode."""
    f = np.arange(0, 1025) * 1.0
    h = np.tile(np.array(GAINS, dtype=complex)[:, None], (1, f.size))
    return LoopResponse(f, h, np.ones((3, f.size)), np.full(3, 1e-3), 0.0)


def watched(shape: Any, drive: np.ndarray, tonal: bool) -> list[tuple[int, Changed]]:
    """What a watch says of channels that are the drive times gains, shaped by `shape(t)` per channel."""
    watch = ChainWatch(flat_plant(), RATE, BLOCK, 200.0, range(3), tonal)
    rng = np.random.default_rng(3)
    t = np.arange(drive.size) / RATE
    x = np.array(GAINS)[:, None] * drive * shape(t) + 1e-3 * rng.standard_normal((3, drive.size))
    made = []
    for k in range(drive.size // BLOCK):
        at = slice(k * BLOCK, (k + 1) * BLOCK)
        found = watch.feed(x[:, at], drive[at])
        if found is not None:
            made.append((k, found))
    return made


def tone(seconds: float, f: float = 80.0) -> np.ndarray:
    return np.sin(2 * np.pi * f * np.arange(round(seconds * RATE) // BLOCK * BLOCK) / RATE)


def noise(seconds: float) -> np.ndarray:
    from scipy.signal import butter, sosfilt

    x = np.random.default_rng(1).standard_normal(round(seconds * RATE) // BLOCK * BLOCK)
    return np.asarray(sosfilt(butter(6, (20, 180), "band", fs=RATE, output="sos"), x))


@pytest.mark.parametrize("drive", [tone(8), noise(8)], ids=["tone", "noise"])
@pytest.mark.parametrize("by", [0.4, 0.55, 0.75, 1.3, 2.0])
@pytest.mark.parametrize("channel", [0, 1, 2])
def test_the_channel_that_changed_is_named_in_time(drive: np.ndarray, by: float, channel: int) -> None:
    def shape(t: np.ndarray) -> np.ndarray:
        made = np.ones((3, t.size))
        made[channel, t >= 5.0] = by
        return made

    (first, found), *_ = watched(shape, drive, drive.std() > 0.7)
    after = (first + 1) * BLOCK / RATE - 5.0
    assert found.channel == channel and set(found.witnesses) == {0, 1, 2} - {channel}
    assert 0 < after < (0.2 if by < 0.5 else 0.45)
    if by > 0.5:  # a gross one is told before its window is full
        assert found.by == pytest.approx(by, rel=0.05)


@pytest.mark.parametrize("drive", [tone(20), noise(20)], ids=["tone", "noise"])
def test_what_is_no_fault_of_a_sensor_says_nothing(drive: np.ndarray) -> None:
    still = np.ones((3, 1))
    assert watched(lambda t: still * np.ones(t.size), drive, True) == []
    # An amplifier turned up acts on all of them alike; heat on one, by a tenth over the whole time.
    assert watched(lambda t: still * np.where(t > 9, 1.6, 1.0), drive, True) == []
    warm = np.array([[0.1], [0.0], [0.0]])
    assert watched(lambda t: 1 - warm * t / 20, drive, True) == []


def test_one_that_creeps_away_is_found_too() -> None:
    slow = np.array([[1.0], [0.0], [0.0]])
    for drive in (tone(30), noise(30)):
        (first, found), *_ = watched(lambda t: np.exp(-slow * np.minimum(t / 30, 0.6)), drive, drive.std() > 0.7)
        assert found.channel == 0 and 0.6 < found.by < 0.85 and first * BLOCK / RATE < 20


def test_each_against_the_middle_of_the_others() -> None:
    assert apart(np.array([-0.6, 0.1, 0.1, 0.0])) == pytest.approx([-0.7, 0.1, 0.1, -0.1])
    assert apart(np.array([-0.6])) == pytest.approx([-0.6])
    made = apart(np.array([-0.6, np.nan, 0.2]))
    assert made[[0, 2]] == pytest.approx([-0.8, 0.8]) and np.isnan(made[1])


def test_a_model_travels_whole() -> None:
    model = chain_model(flat_plant(), ["control", "tray", "current"], 1, (10.0, 200.0), True)
    again = chain.unpack(chain.pack(model))
    assert (again.roles, again.controls, again.highest, again.tonal) == (("control", "tray", "current"), 1, 200.0, True)
    n = again.plant.frequency.size
    assert np.array_equal(again.plant.response, model.plant.response[:, :n]) and again.plant.frequency[-1] > 390
    said = told(model, Changed(0, 0.55, (1, 2)))
    assert "control shows 0.55" in said and "tray, current went on" in said
    assert "or the amplifier" in told(model, Changed(0, 0.55, ()))


# --- on the stand-in ---------------------------------------------------------------------------------------------------


def run(method: str, settings: dict[str, Any], size: float, at: float) -> tuple[Played, Finding, float]:
    """A run in which the control sensor changes, the finding, and by how much the table went beyond its level."""
    plain = prepared(method, settings)
    faulty = prepared(method, settings)
    faulty.rig.standin.faults.append(Fault(at=at, kind="gain_jump", channel="control", size=size))
    made = play_through(faulty, longest=at + 3)
    finding = faulty.method.evaluate(made.channels, faulty.settings, made.marks)
    rate, x = plain.facts.rate, made.channels["control"].samples().copy()
    x[round(at * rate) :] /= 1 + size
    n = int(0.1 * rate)
    rms = np.sqrt(np.mean(x[: x.size // n * n].reshape(-1, n) ** 2, axis=1))
    before = np.median(rms[int((at - 1) * rate / n) : int(at * rate / n)])
    return made, finding, float(rms[int(at * rate / n) :].max() / before)


RANDOM = {
    "profile": {"kind": "random", "points": [{"frequency": "20 Hz", "density": "0.3 (m/s^2)^2/Hz"},
                                             {"frequency": "400 Hz", "density": "0.3 (m/s^2)^2/Hz"}]},
    "course": [{"random": True, "duration": "8 s"}],
}  # fmt: skip
SINE = sine(30, 200, "4 oct/min", course=[{"dwell": "60 Hz", "duration": "10 s"}])


@pytest.mark.parametrize("size", [-0.55, -0.3, 0.45])
@pytest.mark.parametrize(("method", "settings"), [("sine-sweep", SINE), ("random-vibration", RANDOM)])
def test_a_control_that_lies_neither_over_drives_nor_passes(method: str, settings: dict[str, Any], size: float) -> None:
    at = 19.0 if method == "sine-sweep" else 26.0
    made, finding, most = run(method, settings, size, at)
    assert made.trip is not None and made.trip.guard in ("chain", "abort", "control_lost"), made.trip
    assert 0 <= made.trip.t - at + 0.05 < 0.4
    assert most < 1.3
    assert finding.verdict == "open" and finding.missing


@pytest.mark.parametrize("size", [0.3, 1.0])
def test_a_cable_that_opens_now_and_then_does_not_drive_the_table_up(size: float) -> None:
    """A tracking filter sees less, and a loop that sweeps fast follows it at once: the table went to 2.7 times."""
    quick = sine(30, 200, "20 oct/min", course=[{"sweep": "up"}], control={"probe": {"period": "1 s"}})
    faulty = prepared("sine-sweep", quick)
    at = faulty.course()[0].duration + 3.5
    faulty.rig.standin.faults.append(Fault(at=at, kind="cable", channel="control", size=size))
    made = play_through(faulty, longest=at + 3)
    assert made.trip is not None and made.trip.guard == "chain" and "plug or cable" in made.trip.label
    assert 0 <= made.trip.t - at + 0.05 < 0.5
    clean = play_through(prepared("sine-sweep", quick), longest=at + 3)
    n, rate = 500, faulty.facts.rate
    a, b = (np.sqrt(np.mean(p.drive[: p.drive.size // n * n].reshape(-1, n) ** 2, axis=1)) for p in (made, clean))
    since, until = int(at * rate / n), int(min(made.drive.size, clean.drive.size) / n)
    assert np.max(a[since:until] / b[since:until]) < 1.3  # the same bench and frequency: the drive is the table
    finding = faulty.method.evaluate(made.channels, faulty.settings, made.marks)
    assert finding.verdict == "open"


def test_a_sine_that_loses_its_shape_in_all_channels_is_no_cable() -> None:
    """A structure that rattles: harmonics everywhere, the sine's own part as large as before, or less in all."""

    def bent(t: np.ndarray, by: float, of: int) -> np.ndarray:
        made = np.ones((3, t.size))
        made[:of, t >= 5.0] = 1 - by * (np.sin(2 * np.pi * 80.0 * t[t >= 5.0]) ** 2)
        return made

    assert watched(lambda t: bent(t, 0.9, 3), tone(9), True) == []
    made = watched(lambda t: bent(t, 0.9, 1), tone(9), True)
    assert made and made[0][1].channel == 0

    def gaps(t: np.ndarray) -> np.ndarray:
        made = np.ones((3, t.size))
        made[0, (t >= 5.0) & (t % 0.05 < 0.02)] = 0.0
        return made

    (first, found), *_ = watched(gaps, tone(9), True)
    assert found.flickers and found.channel == 0 and 0 < (first + 1) * BLOCK / RATE - 5.0 < 0.15


def test_the_finding_looks_again_from_the_record() -> None:
    """A record whose control changed unseen can't be inside, whatever its level says."""
    p = prepared("random-vibration", {**RANDOM, "limits": {"rms_error": {"low": "-80 %", "high": "80 %"}}})
    made = play_through(p)
    fine = p.method.evaluate(made.channels, p.settings, made.marks)
    assert fine.verdict == "inside" and fine.complete
    control = made.channels["control"]
    x = control.samples().copy()
    start = next(float(m["t"]) for m in made.marks if m["kind"] == "random")
    x[round((start + 3) * control.rate) :] *= 0.6
    from lucid_anvil.contracts.recording import channel_of

    channels = {**made.channels, "control": channel_of("control", "V", control.rate, x, dict(control.meta))}
    looked = p.method.evaluate(channels, p.settings, made.marks)
    assert looked.verdict == "open" and "control shows 0.6" in looked.notes[0]
    record = in_units(channels, p.settings)
    (t, role, change), *_ = changes_in(record, made.marks, ["control"], False)
    assert role == "control" and t == pytest.approx(start + 3, abs=0.4) and change.by == pytest.approx(0.6, abs=0.06)


def test_a_guard_that_no_rig_leaves_out(tmp_path: Path) -> None:
    from lucid_anvil.engine.guards import Guards

    p = prepared("sine-sweep", SINE)
    assert p.rig.guards and all(g.watch != "chain" for g in p.rig.guards)
    guards = Guards(p.rig, tmp_path, p.control())
    assert any(w.part.watch == "chain" and w.part.action == "cut" for w in guards.watches)


def test_none_is_blamed_when_what_drives_them_has_gone() -> None:
    limit = np.full(4, 0.15)
    # An amplifier that trips: all die away, each in its own way.
    dying = np.array([-0.75, -0.54, -0.49, -0.74])
    assert chain_core._alone(dying, apart(dying), limit) is None
    one = np.array([-0.6, 0.02, -0.01, 0.0])
    found = chain_core._alone(one, apart(one), limit)
    assert found is not None and found.channel == 0
