"""A bar on the stand-in frame in its chamber: warmed through its transition, or measured frequency by frequency."""

from __future__ import annotations

import subprocess
import sys
from pathlib import Path
from typing import Any

import numpy as np
import pytest
from pymodbus.client import ModbusTcpClient

from lucid_anvil.contracts.finding import Finding
from lucid_anvil.contracts.guard import Block, Sight, Watched
from lucid_anvil.core.errors import BadInput
from lucid_anvil.core.frame import dynamic
from lucid_anvil.domains.frame.chamber_guard import BAND
from lucid_anvil.domains.frame.dma_run import Dynamic
from lucid_anvil.domains.frame.standin_viscous import ViscousPart, modulus, shift
from lucid_anvil.engine.inprocess import Played, play_through
from lucid_anvil.engine.newplan import begin_plan
from lucid_anvil.engine.preparing import Prepared, prepare
from lucid_anvil.lab.beginning import begin_lab
from lucid_anvil.lab.editing import put
from lucid_anvil.lab.superposing import master
from lucid_anvil.lab.takes import Take
from lucid_anvil.rig.chamber import ChamberDesk, ChamberPart
from lucid_anvil.rig.instruments import Trouble
from lucid_anvil.rig.standins.chamber import server as chamber_server

BAR = {"kind": "tension", "length": "30 mm", "width": "10 mm", "thickness": "2 mm"}


def planned(tmp_path: Path, viscous: str = "", changes: tuple[tuple[str, str], ...] = (), **play: Any) -> Prepared:
    lab = begin_lab(tmp_path / "own", "Bench of one", [], "K.B.", True)
    rig = lab.folder / "rigs" / "dma.rig.yaml"
    text = rig.read_text()
    for old, new in (("viscous: {}", f"viscous: {{{viscous}}}"), *changes):
        assert old in text
        text = text.replace(old, new)
    rig.write_text(text)
    plan = begin_plan("dma", rig, "Resin 1", lab.jobs / "a" / "a.plan.yaml", lab=lab)
    put(plan, ("geometry",), BAR)
    put(plan, ("play",), play)
    return prepare(plan)


def read(prepared: Prepared, played: Played) -> Finding:
    held = {k: c for k, c in played.channels.items() if k != "drive"}
    return prepared.method.evaluate(held, prepared.settings, played.marks)


def newtons(played: Played) -> np.ndarray:
    return played.channels["force"].samples() / 0.1


@pytest.mark.parametrize("rubbery", ["4 MPa", "0.3 MPa"])
def test_a_bar_is_warmed_through_its_transition_and_nobody_tunes_it(tmp_path: Path, rubbery: str) -> None:
    warmed = {"from": "52 °C", "to": "94 °C", "rate": "25 K/min"}
    prepared = planned(tmp_path, f"air_lag: 4 s, lag: 3 s, rubbery: {rubbery}", frequencies=["5 Hz"], temperature=warmed,
                       least_force="0.5 N" if rubbery == "4 MPa" else "0.1 N")  # fmt: skip
    played = play_through(prepared)
    assert played.trip is None and played.marks[-1]["why"] == "done"
    found = read(prepared, played)
    part = ViscousPart(rubbery=4e6 if rubbery == "4 MPa" else 3e5)
    by = {c.key: c for c in found.curves}
    heat = np.array(by["storage"].x)
    true = np.array([modulus(part, 5.0, t) for t in heat]) / 1e6
    storage, loss = (np.array(by[k].y, float) for k in ("storage", "loss"))
    assert heat[0] < 54 and heat[-1] > 90 and by["storage"].x_unit == "°C"
    assert storage.max() / storage.min() > (400 if part.rubbery == 4e6 else 2500)
    assert np.max(np.abs(storage / true.real - 1)) < (0.015 if part.rubbery == 4e6 else 0.03)
    angle = np.degrees(np.angle(storage + 1j * loss) - np.angle(true))
    assert np.max(np.abs(angle)) < (0.7 if part.rubbery == 4e6 else 1.3) and np.median(np.abs(angle)) < 0.1
    values = {r.key: r.value for r in found.readings}
    dense = np.linspace(heat[0], heat[-1], 2000)
    whole = np.array([modulus(part, 5.0, t) for t in dense])
    assert values["tg_loss_peak"] == pytest.approx(dense[np.argmax(whole.imag)], abs=0.8)
    if part.rubbery == 4e6:
        assert values["tg_tan_peak"] == pytest.approx(dense[np.argmax(whole.imag / whole.real)], abs=1.0)
    else:  # it still rises where the record ends
        assert values["tg_tan_peak"] is None
    # Never slack, never beyond what was allowed, by force or by length.
    force = newtons(played)
    begun = next(int(m["t"] * 4000) for m in played.marks if m["kind"] == "dma")
    end = int(played.marks[-1]["t"] * 4000)
    # At such a rate the softest one goes slack for moments: by less than its own oscillation when it began.
    assert force[begun:end].min() > (-0.02 if part.rubbery == 4e6 else -0.6) and force.max() < 1.1 * 25 * 2.3
    way = played.channels["displacement"].samples() / 5e3
    last = way[end - 4000 : end]
    assert np.ptp(last) / 2 < 1.1 * 300e-6 and np.ptp(last) / 2 > 15e-6


def test_frequencies_are_measured_in_turn_each_until_it_rests(tmp_path: Path) -> None:
    tried = [0.5, 2.0, 8.0]
    prepared = planned(tmp_path, "air_lag: 4 s, lag: 3 s", frequencies=[f"{f} Hz" for f in tried], at="68 °C")
    assert [i.label for i in prepared.course()][1:] == ["To 68 °C", "0.5 Hz", "2 Hz", "8 Hz"]
    played = play_through(prepared)
    assert played.trip is None
    found = read(prepared, played)
    by = {c.key: c for c in found.curves}
    assert by["storage"].x == tuple(tried) and by["storage"].x_unit == "Hz"
    warm = played.channels["temperature"].samples()[-8000:].mean() / 20e-3
    assert warm == pytest.approx(68, abs=0.2)
    stretches = [(int(m["start"] * 4000), int(m["stop"] * 4000)) for m in played.marks if m["kind"] == "point"]
    for f, e, loss, (a, b) in zip(tried, by["storage"].y, by["loss"].y, stretches, strict=True):
        then = played.channels["temperature"].samples()[a:b].mean() / 20e-3
        true = modulus(ViscousPart(), f, then) / 1e6
        assert e == pytest.approx(true.real, rel=0.015) and loss == pytest.approx(true.imag, rel=0.02)
    assert not any("settled" in n for n in found.notes)
    assert found.reading("tg_tan_peak").value is None


def test_frequencies_within_temperatures_make_their_curves_and_a_master_of_one_take(tmp_path: Path) -> None:
    order = (69.0, 66.5, 64.0)  # cooling: curves are over what rises all the same
    tried = (1.0, 4.0, 12.0)
    prepared = planned(tmp_path, "air_lag: 2 s, lag: 1.5 s", frequencies=[f"{f} Hz" for f in tried],
                       temperatures=[f"{t} °C" for t in order])  # fmt: skip
    labels = [i.label for i in prepared.course()]
    assert labels[1:5] == [f"To {order[0]:g} °C", "1 Hz", "4 Hz", "12 Hz"] and len(labels) == 13
    played = play_through(prepared)
    assert played.trip is None and played.marks[-1]["why"] == "done"
    assert prepared.method.guarded(prepared.settings, ())  # the chamber is watched
    found = read(prepared, played)
    by = {c.key: c for c in found.curves}
    assert by["storage"].label == "Storage modulus, 1 Hz" and by["loss_3"].label == "Loss modulus, 12 Hz"
    for f, key in zip(tried, ("", "_2", "_3"), strict=True):
        heat = np.array(by[f"storage{key}"].x)
        assert np.all(np.diff(heat) > 2) and by[f"storage{key}"].x_unit == "°C" and np.allclose(heat, sorted(order), atol=0.7)
        true = np.array([modulus(ViscousPart(), f, t) for t in heat]) / 1e6
        assert np.allclose(by[f"storage{key}"].y, true.real, rtol=0.02)
        assert np.allclose(by[f"loss{key}"].y, true.imag, rtol=0.03)
    nest = (found.detail or {})["nest"]
    assert [(p["at"], p["frequency"]) for p in nest] == [(t, f) for t in order for f in tried]
    made = master([("take 1", found)])
    assert made.names == tuple(f"take 1, {t:g} °C" for t in sorted(order))
    part = ViscousPart()
    true_shift = [shift(part, s.temperature) - shift(part, made.sweeps[1].temperature) for s in made.sweeps]
    assert np.allclose(made.found.shifts, true_shift, atol=0.12)
    # Slack for moments at most, while mean and amplitude grow; never beyond what its force may be.
    force = newtons(played)
    begun = next(int(m["t"] * 4000) for m in played.marks if m["kind"] == "dma")
    driven = force[begun : int(played.marks[-1]["t"] * 4000)]
    assert driven.min() > -0.03 * driven.max() and np.mean(driven < 0) < 2e-3 and force.max() < 1.1 * 25 * 2.3
    # While the chamber goes from one to the next it is held, and nothing tears or crushes it: nor at the end.
    assert force[int(played.marks[-1]["t"] * 4000) :].min() > -0.5 and abs(force[-2000:].mean()) < 0.1


def test_amplitudes_within_a_frequency_stand_where_they_were_and_not_where_they_should(tmp_path: Path) -> None:
    """So long a stretch keeps the specimen taut for the first two and not for the third, which is said."""
    prepared = planned(tmp_path, "air_lag: 2 s, lag: 1.5 s", frequencies=["4 Hz"], at="70 °C",
                       amplitudes=["10 um", "20 um", "40 um"], largest_mean="1.5 mm")  # fmt: skip
    played = play_through(prepared)
    found = read(prepared, played)
    storage = found.curve("storage")
    assert storage.x_unit == "µm" and len(found.curves) == 3
    assert storage.x[:2] == pytest.approx((10, 20), rel=0.16) and storage.x[2] < 0.85 * 40
    assert np.ptp(storage.y) < 0.02 * max(v or 0 for v in storage.y)
    said = "\n".join(found.notes)
    assert "Not at the amplitude that was asked for: 70 °C, 4 Hz, 40 µm" in said and "20 µm" not in said
    assert "Not settled to 1 %: 70 °C, 4 Hz, 40 µm" in said
    way, rate = played.channels["displacement"].samples() / 5e3, 4000
    pieces = [way[int(m["start"] * rate) : int(m["stop"] * rate)] for m in played.marks if m["kind"] == "point"]
    swings = sorted(abs(dynamic.fit(piece[None], rate, 4.0)[0][0]) * 1e6 for piece in pieces)
    assert swings == pytest.approx(storage.x)
    with pytest.raises(BadInput, match="no two frequencies"):
        master([("take 1", found)])


def test_another_frequency_never_turns_the_oscillation_round(tmp_path: Path) -> None:
    prepared = planned(tmp_path, frequencies=["1 Hz", "10 Hz"])
    for came in (-0.4, 0.0, 0.01, 5.0):
        run = Dynamic(prepared.settings, prepared.facts)
        run.last, run.came, run.stiffness, run.amplitude = complex(1e9, 5e8), came, 4e5, 1e-5
        run.turn_to(10.0)
        assert 0 < run.amplitude <= 1e-5 and run.frequency == 10.0, came
    assert run.amplitude == pytest.approx(5 / 1.3 / 4e5 / 10 ** (1 / np.pi))


def test_it_is_kept_and_measured_over_time(tmp_path: Path) -> None:
    prepared = planned(tmp_path, "air_lag: 2 s, lag: 1.5 s", frequencies=["4 Hz"], at="60 °C", duration="20 s")
    assert [i.label for i in prepared.course()] == ["Zero, grip", "To 60 °C", "Over time, 4 Hz"]
    found = read(prepared, play_through(prepared))
    storage = found.curve("storage")
    assert storage.x_unit == "s" and storage.x[-1] - storage.x[0] > 17
    true = modulus(ViscousPart(), 4.0, 60.0).real / 1e6
    assert np.allclose(storage.y, true, rtol=0.02)


def test_what_never_rests_is_said(tmp_path: Path) -> None:
    play = {"frequencies": ["4 Hz"], "at": "66 °C", "spread": "0.001 %", "most_windows": 4}
    prepared = planned(tmp_path, "air_lag: 3 s, lag: 2 s", **play)
    found = read(prepared, play_through(prepared))
    assert any("Not settled to 0.001 %: 4 Hz" in n for n in found.notes)


def test_an_empty_grip_is_no_specimen(tmp_path: Path) -> None:
    prepared = planned(tmp_path, "glassy: 3 Pa, rubbery: 1 Pa", frequencies=["4 Hz"], at="40 °C")
    played = play_through(prepared)
    assert played.marks[-1]["why"] == "no grip" and not prepared.method.readable(played.marks)
    assert not np.any(np.abs(played.drive[-64:]) > 1e-9)


def test_a_machine_that_gives_way_is_taken_off(tmp_path: Path) -> None:
    """Its compliance is stated and none is there: the modulus must come out too high by just that."""
    stated = 1e-7
    prepared = planned(tmp_path, "air_lag: 3 s, lag: 2 s", frequencies=["4 Hz"], at="45 °C")
    put(prepared.plan_file, ("compliance",), f"{stated} m/N")
    again = prepare(prepared.plan_file)
    played = play_through(again)
    true = modulus(ViscousPart(), 4.0, 45.0).real
    k = true * 20e-6 / 0.03
    wanted = true / (1 - k * stated) / 1e6
    assert read(again, played).curves[0].y[0] == pytest.approx(wanted, rel=0.01)


@pytest.mark.parametrize(
    ("play", "why"),
    [({"track": "80 %"}, "slack"), ({"frequencies": ["1 Hz", "2 Hz"], "temperature": {"from": 20, "to": 50}}, "takes one"),
     ({"temperature": {"from": "20 °C", "to": "20.5 °C"}}, "a degree apart"), ({"amplitude": "1 mm"}, "between"),
     ({"frequencies": []}, "frequencies"), ({"smallest_force": "50 N"}, "below largest_force"),
     ({"temperature": {"from": "warm", "to": 50}}, "from"), ({"temperatures": [50, 60], "at": 50}, "in place of"),
     ({"temperatures": [50, 50.04]}, "each stands once"), ({"amplitudes": ["1 mm"]}, "each lies between"),
     ({"duration": "20 s", "frequencies": ["1 Hz", "2 Hz"]}, "takes one frequency")],
)  # fmt: skip
def test_what_can_not_be_driven_is_said_in_the_plan(tmp_path: Path, play: dict[str, Any], why: str) -> None:
    with pytest.raises(BadInput, match=why):
        planned(tmp_path, **play)


def test_a_frame_too_slow_or_without_a_thermometer_is_told_before(tmp_path: Path) -> None:
    with pytest.raises(BadInput, match="faster than the frame"):
        planned(tmp_path / "a", frequencies=["40 Hz"])
    bare = (("  - {role: temperature, input: 3, kind: temperature, range: 10 V, sensor: GT-01, sensitivity: 20 mV/°C, supply: off}\n", ""),)  # noqa: E501
    with pytest.raises(BadInput, match="no temperature channel"):
        planned(tmp_path / "b", changes=bare, temperature={"from": 40, "to": 80})


def test_a_chamber_that_leaves_its_set_point_is_told() -> None:
    eye = BAND.begin(Watched({}, 4000, 64), 15.0)

    def at(air: float, asked: float) -> Sight:
        return eye(Block({}, 0.0, {"chamber": air, "chamber_set": asked}))

    assert at(23, 60).used == 0 and at(40, 60).used == 0  # on its way
    assert at(58, 60).used < 0.2 and at(58.2, 60.2).used < 0.2
    lost = at(76, 60.4)
    assert lost.used >= 1 and lost.said is not None and "15.6 K off its set point of 60.4 °C" in lost.said
    assert at(60, 120).used == 0 and eye(Block({}, 0.0, None)).used == 0


def test_a_chamber_speaks_modbus_to_anyone() -> None:
    class Room:
        set_point, air, deaf = 23.0, -12.3, False

        def silent(self) -> bool:
            return self.deaf

    room = Room()
    part = ChamberPart(set_register=5, read_register=9)
    server = chamber_server(room, part)
    with pytest.raises(OSError):
        chamber_server(room, part, server.port)
    client = ModbusTcpClient("127.0.0.1", port=server.port)  # another hand than ours
    assert client.connect() and client.read_input_registers(9, count=1, device_id=1).registers == [65536 - 123]
    assert not client.write_register(5, 405, device_id=1).isError() and room.set_point == pytest.approx(40.5)
    assert client.read_input_registers(77, count=1, device_id=1).isError()
    client.close()
    desk = ChamberDesk(part, "127.0.0.1", server.port, 0.3)
    desk.put("chamber", -40.0)
    assert desk.look() == {"chamber": pytest.approx(-12.3), "chamber_set": pytest.approx(-40.0)}
    with pytest.raises(Trouble, match="may be asked for"):
        desk.put("chamber", 400.0)
    room.deaf = True
    with pytest.raises(Trouble, match="does not answer"):
        desk.look()
    room.deaf = False
    assert desk.look()["chamber"] == pytest.approx(-12.3)
    server.close()
    desk.close()
    with pytest.raises(Trouble, match="can't be reached|does not answer"):
        ChamberDesk(part, "127.0.0.1", 1, 0.3).look()


@pytest.mark.parametrize("silent", [False, True])
def test_it_runs_in_processes_with_the_chamber_on_its_line(tmp_path: Path, silent: bool) -> None:
    fault = (("  seed: 61", "  seed: 61\n  faults: [{kind: silent, at: 8 s, channel: chamber}]"),) if silent else ()
    play = {"frequencies": ["5 Hz"], "at": "45 °C"}
    prepared = planned(tmp_path, "air_lag: 2 s, lag: 1 s", fault, **play)
    take = tmp_path / "take"
    done = subprocess.run(
        [sys.executable, "-m", "lucid_anvil.cli", "run", str(prepared.plan_file), "--pace", "fast", "--take", str(take)],
        capture_output=True, text=True,
    )  # fmt: skip
    if silent:
        assert done.returncode == 3 and "chamber" in done.stdout + done.stderr
        return
    assert done.returncode == 0, done.stderr
    events = Take(take).events()
    assert [e["chamber_set"] for e in events if e["kind"] == "conditions" and "chamber_set" in e][-1] == 45.0
    assert Take(take).finding().curves[0].x == (5.0,)


@pytest.mark.parametrize("size", [-0.5, 0.45])
def test_a_force_sensor_that_lies_ends_it_before_it_is_followed(tmp_path: Path, size: float) -> None:
    lie = f"  seed: 61\n  faults: [{{at: 45.3 s, kind: gain_jump, channel: force, size: {size}}}]\n"
    prepared = planned(tmp_path, "air_lag: 4 s, lag: 3 s", (("  seed: 61\n", lie),), frequencies=["5 Hz"],
                       temperature={"from": "52 °C", "to": "80 °C", "rate": "25 K/min"}, least_force="0.5 N")  # fmt: skip
    played = play_through(prepared)
    assert played.trip is not None and played.trip.guard == "stiffness" and 45.3 < played.trip.t < 49
    force = newtons(played)
    t = np.arange(force.size) / played.channels["force"].rate
    true = np.where(t >= 45.3, force / (1 + size), force)
    before, after = true[(t > 42) & (t < 45)], true[t > 45.3]
    assert np.abs(after).max() < 1.3 * np.abs(before).max()
