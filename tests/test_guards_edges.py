"""Each guard just inside and just beyond its limit: what it says it saw, where, and how much room it shows."""

from __future__ import annotations

from pathlib import Path
from typing import Any

import numpy as np
import pytest

from lucid_anvil.core.control.chain import Changed
from lucid_anvil.engine import guards as module
from lucid_anvil.engine.guards import LABELS, UNITS, Guards, Seen, default_guards, told
from lucid_anvil.engine.study import demo_rig
from lucid_anvil.protocol.messages import Room, Trip
from lucid_anvil.rig.device import InputBlock
from lucid_anvil.rig.model import FramePart, LoadRating, Rig

N, RATE = 512, 51200.0
SPAN = N / RATE
NAN = float("nan")


def rig(**more: Any) -> Rig:
    data = demo_rig()
    data["front_end"] |= {"block": N, "rate": f"{RATE} Hz"}
    return Rig.model_validate(data | more)


def one(folder: Path, part: dict[str, Any], control: dict[str, Any] | None = None, **more: Any) -> Guards:
    """That guard; the chain's own is always there, and says nothing before a probe run."""
    return Guards(rig(guards=[part], **more), folder, control or {})


def square(level: float) -> np.ndarray:
    """Peak and rms alike."""
    return level * np.sign(np.sin(2 * np.pi * 400 * (np.arange(N) + 0.5) / RATE))


def seen(index: int = 0, *, drive: float = 0.0, overload: tuple[int, ...] = (), bias: tuple[float, ...] = (11, 11, 11),
         interlock: int = 0, expect: float | None = None, bounds: tuple[float, float, float] | None = None,
         instruments: dict[str, Any] | None = None, trouble: str | None = None, **levels: float) -> Seen:  # fmt: skip
    channels = {r: square(levels.get(r, 0.0)) for r in ("reference", "unit", "transverse", "current")}
    over = np.array([i in overload for i in range(4)])
    block = InputBlock(index, np.zeros((5, N)), over, np.array([*bias, NAN]), 21.0, 40.0, 230.0, interlock)
    return Seen(index * SPAN, block, channels, square(drive), expect, bounds, instruments, trouble)


def look(guards: Guards, *blocks: Seen) -> tuple[list[Trip], Room]:
    """All trips, and the room of the guard after the last block."""
    trips: list[Trip] = []
    for s in blocks:
        now, rooms = guards.look(s)
        trips += now
    return trips, rooms[0]


@pytest.mark.parametrize("action", ["cut", "ease", "hold"])
@pytest.mark.parametrize(
    ("part", "inside", "beyond", "limit", "value", "where"),
    [
        ({"watch": "drive", "limit": "2 V"}, {"drive": 1.99}, {"drive": 2.01}, 2.0, 2.01, "source"),
        ({"watch": "current", "limit": "3 A"}, {"current": 2.99}, {"current": 3.01}, 3.0, 3.01, "current"),
        ({"watch": "acceleration", "limit": "40 m/s^2"}, {"reference": 39.9, "unit": 90.0}, {"reference": 40.1}, 40.0,
         40.1, "reference"),
        ({"watch": "acceleration", "limit": "4 m/s^2", "channel": "transverse"}, {"transverse": 3.9, "reference": 90.0},
         {"transverse": 4.1}, 4.0, 4.1, "transverse"),
        ({"watch": "overload"}, {}, {"overload": (2, 3)}, 0.5, 2.0, "transverse"),
        ({"watch": "interlock"}, {}, {"interlock": 6}, np.inf, 6.0, "field supply"),
        ({"watch": "supply"}, {"bias": (11.5, 18.9, 4.1)}, {"bias": (11.5, 19.1, 4.1)}, 19.0, 19.1, "unit"),
        ({"watch": "supply"}, {"bias": (4.01, NAN, 11.0)}, {"bias": (3.99, NAN, 11.0)}, 19.0, 3.99, "reference"),
        ({"watch": "control_lost", "limit": 0.25}, {"reference": 2.51, "expect": 10.0}, {"reference": 2.49, "expect": 10.0},
         0.25, 2.49, "reference"),
        ({"watch": "control_lost", "limit": 0.25}, {"reference": 39.9, "expect": 10.0}, {"reference": 40.1, "expect": 10.0},
         0.25, 40.1, "reference"),
        ({"watch": "control_lost", "limit": 0.25, "channel": "unit"}, {"unit": 9.0, "expect": 10.0},
         {"unit": 1.0, "reference": 10.0, "expect": 10.0}, 0.25, 1.0, "unit"),
        ({"watch": "instrument"}, {"instruments": {}}, {"trouble": "the supply does not answer."}, np.inf, 0.0, None),
        ({"watch": "supply_current", "limit": "5 A"}, {"instruments": {"supply_current": 4.99}},
         {"instruments": {"supply_current": 5.01}}, 5.0, 5.01, "supply"),
    ],
)  # fmt: skip
def test_each_at_its_edge(
    tmp_path: Path, part: dict[str, Any], inside: dict[str, Any], beyond: dict[str, Any], limit: float, value: float,
    where: str | None, action: str,
) -> None:  # fmt: skip
    guards = one(tmp_path, {**part, "action": action})
    trips, room = look(guards, seen(0, **inside), seen(1, **inside))
    assert trips == [] and room.used < 1 and room.limit == limit
    trips, room = look(guards, seen(2, **beyond), seen(3, **beyond))
    (trip,) = trips  # once
    kind = part["watch"]
    label = "the supply does not answer" if kind == "instrument" else LABELS[kind]
    assert (trip.guard, trip.label, trip.action, trip.channel) == (kind, label, action, where)
    assert trip.value == pytest.approx(value, rel=1e-6) and trip.limit == limit and trip.unit == UNITS[kind]
    assert (trip.t, trip.block) == (2 * SPAN, 2)
    assert room.used >= 1 and room.key == (f"{kind}_{part['channel']}" if "channel" in part else kind)
    assert (room.label, room.unit, room.action, room.value) == (LABELS[kind], UNITS[kind], action, trip.value)


@pytest.mark.parametrize(
    ("part", "s", "used"),
    [({"watch": "drive", "limit": "2 V"}, {"drive": 0.5}, 0.25), ({"watch": "current", "limit": "4 A"}, {"current": 1.0}, 0.25),
     ({"watch": "supply"}, {"bias": (11.5, 13.0, 11.5)}, 0.2), ({"watch": "supply"}, {"bias": (11.5, 10.0, 11.5)}, 0.2),
     ({"watch": "control_lost", "limit": 0.25}, {"reference": 5.0, "expect": 10.0}, 0.5),
     ({"watch": "control_lost", "limit": 0.25}, {"reference": 20.0, "expect": 10.0}, 0.5),
     ({"watch": "control_lost", "limit": 0.25}, {"reference": 0.001, "expect": 0.019}, 0.0),
     ({"watch": "control_lost", "limit": 0.25}, {"reference": 20.0}, 0.0),
     ({"watch": "supply_current", "limit": "5 A"}, {}, 0.0)],
)  # fmt: skip
def test_the_room_that_is_left(tmp_path: Path, part: dict[str, Any], s: dict[str, Any], used: float) -> None:
    _, room = look(one(tmp_path, part), seen(0, **s))
    assert room.used == pytest.approx(used, abs=1e-9)


def test_a_guard_waits_and_forgets(tmp_path: Path) -> None:
    guards = one(tmp_path, {"watch": "drive", "limit": "1 V", "after": f"{3.5 * SPAN} s"})
    trips, room = look(guards, *(seen(i, drive=1.5) for i in range(3)))
    assert trips == [] and room.used == 0.99  # beyond it, and not acted: nearly used up
    trips, _ = look(guards, seen(3, drive=0.5), *(seen(i, drive=1.5) for i in range(4, 7)))
    assert trips == []  # it went back meanwhile
    trips, room = look(guards, seen(7, drive=1.5))
    assert [t.block for t in trips] == [7] and room.used == 1.5
    assert look(guards, seen(8, drive=1.5))[0] == []
    guards.rearm()
    trips, _ = look(guards, *(seen(i, drive=1.5) for i in range(9, 13)))
    assert [t.block for t in trips] == [12]


@pytest.mark.parametrize(
    ("combine", "levels", "within"),
    [
        ("average", (8.0, 12.0), 10.0),
        ("maximum", (8.0, 12.0), 12.0),
        ("minimum", (8.0, 12.0), 8.0),
        ("", (8.0, 12.0), 10.0),
    ],
)
def test_the_abort_corridor_holds_the_combined_level(
    tmp_path: Path, combine: str, levels: tuple[float, float], within: float
) -> None:
    control = {"roles": ["reference", "unit"], "combine": combine}
    over = 4 * SPAN
    for low, high, trips in ((within * 0.99, within * 2, 0), (within * 1.01, within * 2, 1), (within / 2, within * 1.01, 0),
                             (within / 2, within * 0.99, 1)):  # fmt: skip
        guards = one(tmp_path, {"watch": "abort"}, control)
        blocks = [seen(i, reference=levels[0], unit=levels[1], bounds=(low, high, over)) for i in range(6)]
        got, room = look(guards, *blocks)
        assert len(got) == trips and room.value == pytest.approx(within, rel=1e-6)
        assert room.limit == pytest.approx(low if low / within > within / high else high)
        if got:
            assert got[0].block == 3 and got[0].channel == "reference"  # as soon as there is enough to be averaged


def test_the_level_is_of_the_last_seconds_without_its_mean(tmp_path: Path) -> None:
    guards = one(tmp_path, {"watch": "abort"})
    quiet = [seen(i, reference=1.0, bounds=(0.5, 6.0, 4 * SPAN)) for i in range(8)]
    loud = [seen(i, reference=10.0, bounds=(0.5, 6.0, 4 * SPAN)) for i in range(8, 12)]
    for s in (*quiet, *loud):
        s.channels["reference"] += 50.0
    trips, room = look(guards, *quiet, *loud[:1])
    assert trips == [] and room.value == pytest.approx((0.75 + 25.0) ** 0.5)
    trips, room = look(guards, *loud[1:2])
    assert [t.value for t in trips] == pytest.approx([(0.5 + 50.0) ** 0.5])
    assert look(guards, seen(12, reference=10.0))[1].used == 0.0  # no corridor: nothing to hold it to


def test_a_lost_control_is_looked_for_over_less_than_the_corridor(tmp_path: Path) -> None:
    guards = one(tmp_path, {"watch": "control_lost", "limit": 0.25})
    near = [seen(i, reference=10.0, expect=10.0, bounds=(1.0, 90.0, 1.0)) for i in range(20)]
    gone = [seen(i, reference=0.0, expect=10.0, bounds=(1.0, 90.0, 1.0)) for i in range(20, 36)]
    trips, _ = look(guards, *near, *gone)
    assert [t.block for t in trips] == [20 + 15 - 1]  # 1 − 15/16 of the energy is a quarter of the level


def test_disk_space_and_a_stand_ins_full_disk(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    class Held:
        f_bavail, f_frsize = 1000, 512

    asked: list[Path] = []
    monkeypatch.setattr(module.os, "statvfs", lambda place: asked.append(place) or Held)
    guards = one(tmp_path, {"watch": "disk", "limit": 500e3, "action": "ease"})
    trips, room = look(guards, *(seen(i) for i in range(26)))
    assert trips == [] and room.value == 512e3 and room.used == pytest.approx(500 / 512)
    assert asked == [tmp_path, tmp_path] and guards.free == 512e3  # not in every block
    Held.f_bavail = 900
    trips, _ = look(guards, *(seen(i) for i in range(26, 52)))
    assert [(t.guard, t.value, t.block, t.action) for t in trips] == [("disk", 460800.0, 50, "ease")]
    data = demo_rig()
    full = one(tmp_path, {"watch": "disk", "limit": 1e3}, standin=data["standin"] | {"faults": [{"at": 5.5 * SPAN, "kind": "disk_full"}]})  # fmt: skip
    look(full, seen(0))
    full.rearm()  # the fault's time counts from the run's begin
    trips, _ = look(full, *(seen(i) for i in range(1, 9)))
    assert [t.block for t in trips] == [1 + 5] and trips[0].value == 0


def test_force_and_length_are_of_their_own_channels(tmp_path: Path) -> None:
    data = demo_rig()
    for part, kind in zip(data["channels"], ("acceleration", "force", "length"), strict=False):
        part["kind"] = kind
    for sensor, unit in (("GA-11", "mV/N"), ("GA-21", "V/m")):
        if sensor in data["standin"]["sensors"]:
            data["standin"]["sensors"][sensor] |= {"sensitivity": f"1 {unit}", "noise": 0.0}
    more = {"channels": data["channels"], "standin": data["standin"]}
    guards = one(tmp_path, {"watch": "force", "limit": "1 kN"}, **more)
    assert look(guards, seen(0, unit=999.0, reference=5000.0))[0] == []
    s = seen(1)
    s.channels["unit"] = np.linspace(0, -1001.0, N)
    ((trip,), room) = look(guards, s)
    assert (trip.value, trip.channel, trip.unit, room.used) == (-1001.0, "unit", "N", pytest.approx(1.001))
    guards = one(tmp_path, {"watch": "length", "limit": "2 mm"}, **more)
    ((trip,), _) = look(guards, seen(0, transverse=0.0021))
    assert (trip.channel, trip.unit) == ("transverse", "m") and trip.limit == pytest.approx(0.002)


def test_how_hot_a_load_gets(tmp_path: Path) -> None:
    load = LoadRating.model_validate({"limit": 60.0, "capacity": "10 J/K", "resistance": "1 K/W", "lowest": "4 ohm"})
    guards = one(tmp_path, {"watch": "load_heat"}, load=load)
    assert guards.watches[0].limit == 60.0 and len(guards.watches) == 1  # no table, so no chain to be watched
    trips, room = look(guards, *(seen(i, unit=20.0) for i in range(400)))
    # 100 W into 10 J/K through 1 K/W: 60 °C where it will be in a second.
    (trip,) = trips
    assert trip.channel == "unit" and 60 <= trip.value < 60.3 and trip.limit == 60.0
    at = 23 + 100 * (1 - np.exp(-trip.t / 10))
    assert at + (100 - (at - 23)) / 10 == pytest.approx(60.0, abs=0.3) and room.used > 1
    assert one(tmp_path, {"watch": "load_heat", "limit": 80}, load=load).watches[0].limit == 80.0


def test_what_a_rig_without_guards_is_given(tmp_path: Path) -> None:
    bare = rig(guards=[])
    held = {g.watch: g for g in default_guards(bare)}
    assert list(held) == [
        "drive",
        "current",
        "stroke",
        "overload",
        "control_lost",
        "supply",
        "interlock",
        "abort",
        "disk",
    ]
    made = {w.part.watch: w for w in Guards(bare, tmp_path).watches}
    assert [*held, "chain"] == list(made)
    assert made["drive"].limit == pytest.approx(0.99 * bare.front_end.source_range)
    assert (made["current"].limit, made["stroke"].limit) == (bare.shaker.current, bare.shaker.stroke)
    assert (made["overload"].limit, made["supply"].limit, made["control_lost"].limit) == (0.5, 19.0, 0.25)
    assert made["chain"].limit == 13.0 and made["abort"].limit == np.inf and made["disk"].limit == 2e8
    assert (held["overload"].after, held["control_lost"].after, held["disk"].action) == (0.06, 0.12, "ease")
    loaded = {g.watch: g for g in default_guards(rig(guards=[], load=LoadRating()))}
    assert list(loaded) == ["drive", "overload", "load_heat", "supply_current", "instrument", "disk"]
    assert loaded["load_heat"].action == "ease" and loaded["overload"].after == 0.06
    framed = bare.model_copy(update={"frame": FramePart()})
    assert [(g.watch, g.after, g.action) for g in default_guards(framed)] == [
        ("force", 0.0, "cut"), ("interlock", 0.0, "cut"), ("overload", 0.02, "cut"), ("disk", 0.0, "ease"),
    ]  # fmt: skip
    assert float(default_guards(framed)[0].limit) == FramePart().force


def test_which_channels_are_the_control(tmp_path: Path) -> None:
    assert one(tmp_path, {"watch": "drive", "limit": "1 V"}).points == ["reference"]
    assert one(tmp_path, {"watch": "drive", "limit": "1 V"}, {"roles": ["unit", "nobody"]}).points == ["unit"]
    assert one(tmp_path, {"watch": "drive", "limit": "1 V"}, {"roles": ["nobody"]}).points == ["reference"]
    data = demo_rig()
    for old, new in (("reference", "first"), ("unit", "control")):
        next(c for c in data["channels"] if c["role"] == old)["role"] = new
    assert one(tmp_path, {"watch": "drive", "limit": "1 V"}, channels=data["channels"]).points == ["control"]
    next(c for c in data["channels"] if c["role"] == "control")["role"] = "second"
    assert one(tmp_path, {"watch": "drive", "limit": "1 V"}, channels=data["channels"]).points == ["first"]
    more = one(tmp_path, {"watch": "drive", "limit": "1 V"}, {"guards": [{"watch": "stroke", "limit": "1 mm"}]})
    assert [w.part.watch for w in more.watches] == ["drive", "stroke", "chain"] and more.watches[1].limit == 0.001


def test_a_change_of_the_chain_stops_only_what_the_level_rests_on(tmp_path: Path) -> None:
    class Model:
        roles = ("reference", "unit", "current")
        controls = 1

        def watch(self, rate: float, block: int) -> Any:
            assert (rate, block) == (RATE, N)
            return sight

    class Sight:
        jumps, limit = np.array([0.07, 0.4, 0.0]), 0.14
        found: Changed | None = None

        def feed(self, x: np.ndarray, drive: np.ndarray) -> Changed | None:
            assert x.shape == (3, N) and np.abs(x[1]).max() == 7.0 and drive.size == N
            return self.found

    sight = Sight()
    guards = one(tmp_path, {"watch": "chain"}, {"roles": ["reference"], "notched": ["unit"]})
    assert guards.look(seen(0))[1] == []  # nothing is known yet
    guards.know(Model())  # type: ignore[arg-type]
    trips, room = look(guards, seen(1, unit=7.0))
    assert trips == [] and room.used == pytest.approx(0.5) and room.value == pytest.approx(100 * np.expm1(0.07))
    sight.found = Changed(2, 0.5, (0, 1))
    assert look(guards, seen(2, unit=7.0))[0] == []  # a channel that nothing rests on: told in the finding
    sight.found = Changed(1, 0.6, (0, 2))
    ((trip,), room) = look(guards, seen(3, unit=7.0))
    assert trip.channel == "unit" and trip.value == pytest.approx(-40.0) and trip.limit == 13.0 and room.used == 2.0
    assert (
        trip.label
        == "unit shows 0.60 of what it did while reference, current went on: its sensor, cable or mounting changed"
    )
    assert len(guards.changed) == 2
    guards.know(Model())  # type: ignore[arg-type]
    assert guards.changed == []
    assert told(Model(), Changed(0, 0.5, ())) == (  # type: ignore[arg-type]
        "reference shows 0.50 of what the drive gave before: its sensor or cable, or the amplifier"
    )
    assert told(Model(), Changed(0, 0.5, (1, 2), True)) == (  # type: ignore[arg-type]
        "reference loses pieces of its signal while unit, current went on: its plug or cable opens"
    )


@pytest.mark.parametrize(("frequency", "loss"), [(10.0, 0.0016), (4.0, 1 / 17), (2.0, 0.5)])
def test_the_stroke_is_from_peak_to_peak(tmp_path: Path, frequency: float, loss: float) -> None:
    """Two integrators above 2 Hz: a/(2πf)², less what two corners of second order (Butterworth) take there."""
    guards = one(tmp_path, {"watch": "stroke", "limit": "9 mm"})
    w = 2 * np.pi * frequency
    level = 0.004 * w * w  # 8 mm from peak to peak
    last: list[Room] = []
    trips: list[Trip] = []
    for i in range(500):
        s = seen(i)
        s.channels["reference"] = level * np.sin(w * (i * N + np.arange(N)) / RATE)
        now, rooms = guards.look(s)
        trips += now if i > 200 else []
        last = [*last, rooms[0]][-round(1 / frequency / SPAN) - 1 :]
    assert max(r.value for r in last) == pytest.approx(0.008 * (1 - loss), rel=0.01) and trips == []
    assert last[0].limit == pytest.approx(0.009)


def test_a_stroke_beyond_its_limit(tmp_path: Path) -> None:
    guards = one(tmp_path, {"watch": "stroke", "limit": "7.5 mm"})
    w = 2 * np.pi * 10.0
    trips: list[Trip] = []
    for i in range(200):
        s = seen(i)
        s.channels["reference"] = 0.004 * w * w * np.sin(w * (i * N + np.arange(N)) / RATE)
        trips += guards.look(s)[0]
    assert [(t.guard, t.channel, t.unit) for t in trips] == [("stroke", "table", "m")]


def test_inputs_without_a_supply_have_no_bias_to_be_watched(tmp_path: Path) -> None:
    guards = one(tmp_path, {"watch": "supply"})
    s = seen(0)
    s.block.bias[3] = 0.0  # the current's input
    assert look(guards, s)[0] == [] and [guards.roles[i] for i in guards.supplied] == [
        "reference",
        "unit",
        "transverse",
    ]


def test_guards_behind_one_that_knows_nothing_yet_are_looked_at(tmp_path: Path) -> None:
    more = rig(guards=[{"watch": "chain"}, {"watch": "drive", "limit": "1 V"}])
    trips, rooms = Guards(more, tmp_path).look(seen(0, drive=2.0))
    assert [t.guard for t in trips] == ["drive"] and [r.key for r in rooms] == ["drive"]


def test_a_load_cools_without_its_fan_more_slowly(tmp_path: Path) -> None:
    load = LoadRating.model_validate({"limit": 60.0, "capacity": "10 J/K", "resistance": "1 K/W", "lowest": "4 ohm"})
    shown = {"resistance": {"unit": 8.0}, "temperature": {"unit": 23.0}, "fan": True}
    slow = one(tmp_path, {"watch": "load_heat"}, load=load)
    trips, room = look(slow, *(seen(i, unit=20.0, instruments=shown) for i in range(300)))
    # Half the power into twice the resistance, as the bank says.
    assert trips == [] and room.value == pytest.approx(23 + 50 * (1 - np.exp(-0.3)) + 5 * np.exp(-0.3), abs=0.3)


def test_it_acts_as_soon_as_its_time_is_full(tmp_path: Path) -> None:
    guards = one(tmp_path, {"watch": "drive", "limit": "1 V", "after": f"{2 * SPAN} s"})
    trips, _ = look(guards, seen(0, drive=1.5), seen(1, drive=1.5))
    assert [t.block for t in trips] == [1]
