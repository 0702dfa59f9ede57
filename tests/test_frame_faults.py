"""What goes wrong on a load frame: it is stopped, and told for what it is; what is no fault is let be."""

from __future__ import annotations

from pathlib import Path
from typing import Any

import numpy as np
import pytest
from tests.test_frame_run import finding, rig, samples  # noqa: F401  (a fixture)

from lucid_anvil.contracts.guard import Block, Watched
from lucid_anvil.core.errors import BadInput
from lucid_anvil.domains.frame.motion_guard import MOTION
from lucid_anvil.domains.frame.slip import SlipWatch
from lucid_anvil.engine.guards import Guards, Seen
from lucid_anvil.engine.inprocess import Played, play_through
from lucid_anvil.engine.newplan import begin_plan
from lucid_anvil.engine.preparing import Prepared, prepare
from lucid_anvil.lab.beginning import begin_lab
from lucid_anvil.lab.editing import put
from lucid_anvil.lab.plans import GuardPart
from lucid_anvil.rig.device import InputBlock
from lucid_anvil.rig.model import load_rig

PULL = {"speed": "30 mm/min"}
STRAIN = {"control": "strain", "strain_rate": "0.001 1/s"}
PULSES = {"mean": "1.2 kN", "amplitude": "1 kN", "frequency": "1 Hz", "cycles": 12}


def faulty(rig: Path, method: str, settings: dict[str, Any], fault: str) -> tuple[Prepared, Played]:  # noqa: F811
    if method == "cyclic":
        rig = rig.with_name("pulser.rig.yaml")
    rig.write_text(rig.read_text().replace("standin:\n", f"standin:\n  faults: [{{{fault}}}]\n" if fault else "", 1)
                   if fault else rig.read_text())  # fmt: skip
    plan = begin_plan(method, rig, "Coupon", rig.parent.parent / "jobs" / "a" / "a.plan.yaml")
    put(plan, ("pulse" if method == "cyclic" else "pull",), settings)
    prepared = prepare(plan)
    return prepared, play_through(prepared)


@pytest.mark.parametrize(("fault", "size"), [("slip", 0.05), ("slip", -0.05), ("falls_off", 1.5)])
def test_an_extensometer_that_slips_is_told_and_the_curve_goes_on_with_travel(rig: Path, fault: str, size: float) -> None:  # noqa: F811,E501
    prepared, played = faulty(rig, "tension", PULL, f"kind: {fault}, at: 6 s, size: {size}")
    (lost,) = [m for m in played.marks if m["kind"] == "extensometer lost"]
    assert 6.0 <= lost["t"] < 6.07 and played.trip is None
    if fault == "slip":
        assert lost["by"] == pytest.approx(1e-3 * size, abs=5e-6)
    read = finding(prepared, played)
    assert any("slipped by" in n and "goes on with displacement" in n for n in read.notes)
    for key, truth, within in (("strength", 498, 2e-3), ("strain_at_break", 20, 0.03), ("modulus", 206, 5e-3)):
        assert read.reading(key).value == pytest.approx(truth, rel=within), key


def test_without_the_mark_a_slip_would_be_in_the_strain(rig: Path) -> None:  # noqa: F811
    prepared, played = faulty(rig, "tension", PULL, "kind: falls_off, at: 6 s, size: 1.5")
    played.marks = [m for m in played.marks if m["kind"] != "extensometer lost"]
    assert finding(prepared, played).reading("strain_at_break").value == pytest.approx(3.0, abs=0.2)


def test_a_slip_that_nothing_makes_up_for_leaves_nothing_inside(rig: Path) -> None:  # noqa: F811
    prepared, played = faulty(rig, "tension", PULL, "kind: slip, at: 6 s, size: 0.3")
    size = prepared.settings.specimen.model_copy(update={"parallel_length": None})
    given = prepared.settings.model_copy(update={"specimen": size})
    held = {k: c for k, c in played.channels.items() if k != "drive"}
    found = prepared.method.evaluate(held, given, played.marks)
    assert not found.complete and any("no travel to go on with" in m for m in found.missing)
    assert finding(prepared, played).complete


def test_a_strain_that_is_controlled_by_what_slipped_ends_the_pull(rig: Path) -> None:  # noqa: F811
    prepared, played = faulty(rig, "tension", STRAIN, "kind: slip, at: 6 s, size: 0.04")
    assert played.trip is not None and played.trip.guard == "extensometer" and played.altered is not None
    block = prepared.facts.block / prepared.facts.rate
    assert played.altered * block <= 6.0 + 3 * block
    assert not played.drive[(played.altered + 2) * prepared.facts.block :].any()
    assert finding(prepared, played).reading("strain_at_break").value is None


@pytest.mark.parametrize("name", ["tension", "cyclic"])
@pytest.mark.parametrize(("fault", "channel"), [("runaway", "unit"), ("frozen", "displacement")])
def test_a_crosshead_that_does_not_go_as_told_is_brought_to_rest(rig: Path, name: str, fault: str, channel: str) -> None:  # noqa: F811,E501
    settings = PULL if name == "tension" else PULSES
    _, played = faulty(rig, name, settings, f"kind: {fault}, at: 7.3 s, size: 3, channel: {channel}")
    assert played.trip is not None and played.trip.guard == "frame_motion" and "commanded" in played.trip.label
    assert played.trip.t < (9.0 if fault == "frozen" and name == "tension" else 7.8)


def test_an_encoder_that_is_turned_round_is_told_by_the_first_movement(rig: Path) -> None:  # noqa: F811
    text = rig.read_text()
    rig.write_text(text.replace("GX-02: {sensitivity: 0.1 V/mm", "GX-02: {sensitivity: -0.1 V/mm"))
    _, played = faulty(rig, "tension", PULL, "")
    assert played.trip is not None and played.trip.guard == "frame_motion" and played.trip.t < 2.0


def test_an_extensometer_at_the_end_of_its_travel_and_a_hot_actuator_end_a_pull(rig: Path) -> None:  # noqa: F811
    text = rig.read_text()
    rig.write_text(text.replace("limit: 18 mm, label: Extensometer", "limit: 4 mm, label: Extensometer"))
    _, played = faulty(rig, "tension", PULL, "")
    assert played.trip is not None and (played.trip.guard, played.trip.channel) == ("length", "extension")
    assert played.trip.label == "Extensometer" and abs(samples(played, "extension", 500.0)).max() < 4.1e-3
    hot = ("  - {role: actuator, input: 4, kind: temperature, range: 10 V, sensor: GT-01, sensitivity: 50 mV/°C,"
           " supply: off}\nroom: {")  # fmt: skip
    text = text.replace("room: {", hot, 1).replace("guards:\n", "guards:\n  - {watch: temperature, limit: 22 °C}\n")
    sensor = "  sensors:\n    GT-01: {sensitivity: 50 mV/°C, low_corner: 0 Hz, noise: 0.01}\n"
    rig.write_text(text.replace("  sensors:\n", sensor))
    plan = rig.parent.parent / "jobs" / "a" / "a.plan.yaml"
    played = play_through(prepare(plan))
    assert played.trip is not None and (played.trip.guard, played.trip.channel) == ("temperature", "actuator")
    rig.write_text(rig.read_text().replace("{watch: temperature, limit: 22 °C}", "{watch: temperature, limit: 60 °C}"))
    assert play_through(prepare(plan)).trip is None


@pytest.mark.parametrize("pull", [{**STRAIN, "switch_at": "1 %", "speed_after": "40 mm/min"}, {**PULL, "take_off": "wait"}])
def test_no_change_of_what_is_controlled_moves_the_load(rig: Path, pull: dict[str, Any]) -> None:  # noqa: F811
    off = "take_off" in pull
    plan = begin_plan("tension", rig, "Coupon", rig.parent.parent / "jobs" / "a" / "a.plan.yaml")
    put(plan, ("pull",), pull)
    if off:
        put(plan, ("extensometer_off",), "1 %")
    played = play_through(prepare(plan))
    force, strain = samples(played, "force", 2e-4), samples(played, "extension", 500.0) / 0.05
    at = int(np.argmax(strain >= 0.01))
    before, after = force[at - 200 : at], force[at : at + 600]
    trend = np.polyval(np.polyfit(np.arange(200), before, 1), 200 + np.arange(600))
    assert played.trip is None and np.abs(after - np.minimum(trend, trend[0] + 250)).max() < 0.005 * 50e3


@pytest.mark.parametrize("at", [2.5, 4.57, 5.9, 9.2])
def test_a_specimen_that_breaks_under_pulses_ends_them_at_once(rig: Path, at: float) -> None:  # noqa: F811
    prepared, played = faulty(rig, "cyclic", PULSES, f"kind: breaks, at: {at} s")
    (why,) = [m["why"] for m in played.marks if m["kind"] == "pulsed"]
    assert why == "break" and played.trip is None
    block = prepared.facts.block
    end = int(at * prepared.facts.rate / block) + 4
    assert not played.drive[end * block :].any()


def test_a_valve_that_is_stuck_is_shut_by_the_frame_itself(rig: Path) -> None:  # noqa: F811
    _, played = faulty(rig, "tension", PULL, "kind: stuck, at: 6 s")
    way = samples(played, "displacement", 100.0)
    (broke,) = [m["t"] for m in played.marks if m["kind"] == "pulled"]
    end = int((broke + 0.2) * 2000)
    assert np.ptp(way[end:]) < 3e-5 and way[end] - way[int(broke * 2000)] > 3e-5  # it ran on for a tenth of a second


def test_a_fault_that_nobody_knows_is_told_with_the_nearest(rig: Path) -> None:  # noqa: F811
    rig.write_text(rig.read_text().replace("standin:\n", "standin:\n  faults: [{kind: runawy, at: 1 s}]\n", 1))
    with pytest.raises(BadInput, match="did you mean 'runaway'"):
        load_rig(rig)


@pytest.mark.parametrize("speed", [3e-4, 5e-3, 2e-2])
@pytest.mark.parametrize("scale", [0.9, 1.0, 1.1])
def test_a_valve_that_lags_and_is_a_tenth_off_is_no_fault(speed: float, scale: float) -> None:
    rate, n = 4000.0, 64
    eye = MOTION.begin(Watched({"displacement": "length"}, rate, n, {}, {"frame_speed": 1e-3}), 1e-4)
    t = np.arange(int(8 * rate)) / rate
    asked = speed * np.sin(2 * np.pi * 0.9 * t) * np.clip(t - 1, 0, 1) + speed * (t > 5)
    moved, state = np.zeros(t.size), 0.0
    for i, v in enumerate(asked):
        state += (v - state) / (0.02 * rate)
        moved[i] = state
    way = scale * np.cumsum(moved) / rate + 2e-6 * np.random.default_rng(1).standard_normal(t.size)
    used = [eye(Block({"displacement": way[k : k + n]}, t[k], None, asked[k : k + n] / 1e-3)).used
            for k in range(0, t.size - n, n)]  # fmt: skip
    assert max(used) < 1.0
    # Let go at once from its full speed, it runs out for a moment.
    stop = np.where(t < 2, 0.02, 0.0) * np.clip(t, 0, 1)
    way = np.cumsum(np.convolve(stop, np.exp(-np.arange(400) / 40) / 40.5)[: t.size]) / rate
    eye = MOTION.begin(Watched({"displacement": "length"}, rate, n, {}, {"frame_speed": 1e-3}), 1e-4)
    assert max(eye(Block({"displacement": way[k : k + n]}, t[k], None, stop[k : k + n] / 1e-3)).used
               for k in range(0, t.size - n, n)) < 1.0  # fmt: skip
    assert eye(Block({}, 0.0)).used == 0.0


def test_what_falls_with_the_force_is_no_slip() -> None:
    def one(step: float, fall: float, noise: float = 2e-7) -> float | None:
        watch, rng = SlipWatch(), np.random.default_rng(3)
        watch.rest(noise * rng.standard_normal(64))
        t = np.arange(128) / 2000
        held = {"extension": 2e-5 * t + noise * rng.standard_normal(128), "displacement": 1e-4 * t,
                "force": np.full(128, 20e3)}  # fmt: skip
        held["extension"][90:] += step
        held["force"][90:] -= fall
        for part in (slice(0, 64), slice(64, 128)):
            seen = watch.look({k: v[part] for k, v in held.items()})
        return seen

    assert one(2e-5, 0.0) == pytest.approx(2e-5, abs=2e-6) and one(-6e-6, 0.0) == pytest.approx(-6e-6, abs=2e-6)
    assert one(2e-5, 4e3) is None and one(0.0, 0.0) is None and one(2e-5, 0.0, noise=4e-6) is None


def frame_guards(tmp_path: Path, own: list[dict[str, Any]], plan: list[dict[str, Any]], **control: Any) -> Guards:
    lab = begin_lab(tmp_path / "own", "Bench of one", [], "K.B.", True)
    held = load_rig(lab.folder / "rigs" / "frame.rig.yaml")
    parts = [GuardPart.model_validate(g) for g in own]
    return Guards(held.model_copy(update={"guards": parts}), tmp_path, {**control, "guards": plan})


def blocks_of(guards: Guards, force: Any, extension: Any, way: Any, index: int) -> set[str]:
    """What trips on block `index`: N and m as functions of time [s], next to nothing commanded."""
    n, rate = guards.rig.front_end.block, guards.rig.front_end.rate
    t = (index * n + np.arange(n)) / rate
    channels = {"force": force(t), "extension": extension(t), "displacement": way(t)}
    held = InputBlock(index, np.full((4, n), 1e-6), np.zeros(3, bool), np.full(3, np.nan), 21, 40, 230)
    trips, rooms = guards.look(Seen(index * n / rate, held, channels, np.zeros(n), None))
    assert len(rooms) == len(guards.watches)
    return {f"{x.guard} {x.limit:g}" for x in trips}


def test_a_plan_takes_no_guard_of_its_rig_away(tmp_path: Path) -> None:
    """Two of one kind look each for itself, with its own limit."""
    for first, second in (("0.1 mm", "20 mm"), ("20 mm", "0.1 mm")):
        guards = frame_guards(tmp_path / first, [{"watch": "frame_motion", "limit": first}],
                              [{"watch": "frame_motion", "limit": second}])  # fmt: skip
        made: set[str] = set()
        for i in range(40):
            made |= blocks_of(guards, np.zeros_like, np.zeros_like, lambda t: 1e-3 * t, i)
        assert made == {"frame_motion 0.0001"}


@pytest.mark.parametrize(
    ("part", "slow", "fast"),
    [
        ({"watch": "strain", "limit": "2 %"}, (0.0, 0.9e-3, 0.0), (0.0, 1.1e-3, 0.0)),
        ({"watch": "force_rate", "limit": "1 kN/s"}, (900.0, 0.0, 0.0), (1100.0, 0.0, 0.0)),
        ({"watch": "length_rate", "limit": "1 mm/s"}, (0.0, 0.0, 0.9e-3), (0.0, 0.0, -1.1e-3)),
        ({"watch": "length_rate", "limit": "1 mm/s", "channel": "extension"}, (0.0, 0.9e-3, 2e-3), (0.0, 1.1e-3, 0.0)),
    ],
)
def test_strain_and_rates_are_guarded(
    tmp_path: Path, part: dict[str, Any], slow: tuple[float, ...], fast: tuple[float, ...]
) -> None:
    """Each grows with time from nought: N/s and m/s. Noise of a hundredth of the limit is no rate."""
    rng = np.random.default_rng(5)
    noise = {"force": 10.0, "extension": 1e-5, "displacement": 1e-5}
    for number, (rates, trips) in enumerate(((slow, False), (fast, True))):
        guards = frame_guards(tmp_path / str(number), [part], [], gauge=0.05)
        made: set[str] = set()
        for i in range(32):  # one second
            ramps = [lambda t, r=r, s=s: r * t + s * rng.standard_normal(t.size)
                     for r, s in zip(rates, noise.values(), strict=True)]  # fmt: skip
            made |= blocks_of(guards, *ramps, i)
        assert bool(made) == trips, (rates, made)


def test_a_guard_of_strain_without_a_gauge_length_is_refused_before_it_runs(rig: Path) -> None:  # noqa: F811
    pulser = rig.with_name("pulser.rig.yaml")
    strain = "{watch: strain, limit: 2 %, channel: displacement}"
    pulser.write_text(pulser.read_text().replace("guards:\n", f"guards:\n  - {strain}\n"))
    plan = begin_plan("tension", rig, "Coupon", rig.parent.parent / "jobs" / "a" / "a.plan.yaml")
    assert prepare(plan).control()["gauge"] == 0.05
    with pytest.raises(BadInput, match="needs the specimen's gauge_length"):
        begin_plan("cyclic", pulser, "Fender", rig.parent.parent / "jobs" / "b" / "b.plan.yaml")
