"""Instruments over SCPI: true TCP servers, their errors, and a client that says what is wrong."""

from __future__ import annotations

import socket
import time
from collections.abc import Iterator
from typing import Any

import numpy as np
import pytest
from tests.test_amplifier_sheet import rig_of

from lucid_anvil.domains.amplifier.standin import AmplifierBench
from lucid_anvil.domains.amplifier.standin_instruments import Desk as Servers
from lucid_anvil.engine.desk import EVERY, Watched, watched
from lucid_anvil.rig.instruments import Desk, Instrument, Trouble
from lucid_anvil.rig.standins.scpi import block, pattern

FAULTS = {"silent": "does not answer", "garbage": "a number was wanted", "late": "does not answer"}


@pytest.fixture
def bench() -> Iterator[tuple[AmplifierBench, Servers]]:
    made = AmplifierBench(rig_of())
    servers = Servers(made)
    yield made, servers
    servers.close()


def places(servers: Servers) -> dict[str, tuple[str, int]]:
    return {name: ("127.0.0.1", port) for name, port in servers.ports.items()}


def talk(port: int, *lines: str) -> list[str]:
    """Any client: a bare socket, no library."""
    with socket.create_connection(("127.0.0.1", port), 5) as sock, sock.makefile("rwb") as file:
        answers = []
        for line in lines:
            file.write(line.encode() + b"\n")
            file.flush()
            if line.endswith("?"):
                answers.append(file.readline().decode().strip())
        return answers


def test_a_bare_socket_can_talk_to_them(bench: tuple[AmplifierBench, Servers]) -> None:
    made, servers = bench
    who, done, fault = talk(servers.ports["supply"], "*IDN?", "*OPC?", "syst:err?")
    assert who.count(",") == 3 and done == "1" and fault == '0,"No error"'
    (volts,) = talk(servers.ports["supply"], "VOLT 231.5", "SOURCE:VOLTAGES 200;:SOUR:VOLT?")
    assert volts == "231.500"  # no header of ours: an error, nothing set
    said = talk(servers.ports["supply"], "SYST:ERR?", "SYST:ERR?", "*ESR?", "*ESR?")
    assert said[0].startswith("-113") and said[1].startswith("0,") and int(said[2]) & 32 and said[3] == "0"
    assert talk(servers.ports["load"], "ROUT:LOAD 1,8", "ROUTE:LOAD? 1;:FAN?")[0:1] == ["8;1"]
    assert made.positions["A"].load == 8


@pytest.mark.parametrize(
    ("line", "number"),
    [("ROUT:LOAD 1,7", -222), ("ROUT:LOAD 9,8", -222), ("ROUT:LOAD x,8", -104), ("ROUT:LOAD 1", -109),
     ("FAN maybe", -104), ("NONSENSE", -113)],
)  # fmt: skip
def test_what_is_refused_goes_into_the_queue(bench: tuple[AmplifierBench, Servers], line: str, number: int) -> None:
    _, servers = bench
    with pytest.raises(Trouble, match=str(number)):
        Instrument("load bank", "127.0.0.1", servers.ports["load"]).tell(line)


def test_headers_take_both_forms() -> None:
    one = pattern("MEASure:VOLTage:AC?")
    assert all(one.fullmatch(t) for t in ("MEAS:VOLT:AC?", "measure:voltage:ac?", ":MEASure:VOLT:AC?"))
    assert not any(one.fullmatch(t) for t in ("MEASU:VOLT:AC?", "MEAS:VOLT:AC", "MEAS:VOLT?"))
    assert block(np.zeros(3)).startswith(b"#212") and len(block(np.zeros(3))) == 16


def test_the_desk_sets_and_shows(bench: tuple[AmplifierBench, Servers]) -> None:
    made, servers = bench
    desk = Desk(places(servers), ["A", "B"])
    desk.put("loads", {"A": 4.0, "B": None})
    desk.put("supply", 228.0)
    desk.put("fan", False)
    desk.put("meter", "B")
    made.command("route", {"B": "differential"})
    t = np.arange(2048) / 96e3
    for _ in range(60):
        made.play(0.1 * np.sin(2 * np.pi * 1000 * t))
    shown = desk.look()
    assert shown["supply"] == pytest.approx(228, abs=0.3) and shown["fan"] is False
    assert shown["resistance"]["A"] == pytest.approx(4.008, abs=0.01) and shown["resistance"]["B"] is None
    assert shown["meter"] == pytest.approx(made.positions["B"].volts, abs=0.0051)
    trace = desk.held["meter"].samples("TRAC:DATA? 500")
    assert trace.size == 500 and np.allclose(trace, made.positions["B"].trace[-500:], atol=1e-5)
    desk.close()


@pytest.mark.parametrize("kind", list(FAULTS))
def test_an_instrument_in_trouble_is_told_in_one_sentence(kind: str) -> None:
    made = AmplifierBench(rig_of([{"at": "0 s", "kind": kind, "channel": "supply", "size": 2.0}]))
    servers = Servers(made)
    meter = Instrument("supply", "127.0.0.1", servers.ports["meter"], 0.3)
    assert meter.number("MEAS:VOLT:AC?") == 0.0
    with pytest.raises(Trouble, match="does not answer|a number was wanted") as said:
        Instrument("supply", "127.0.0.1", servers.ports["supply"], 0.3).number("MEAS:VOLT?")
    assert str(said.value).count(".") >= 1 and "supply" in str(said.value)
    servers.close()
    with pytest.raises(Trouble, match="reached|answer"):
        Instrument("supply", "127.0.0.1", servers.ports["supply"], 0.3)


class Fails:
    """A desk that answers until it is told not to."""

    def __init__(self) -> None:
        self.well, self.set = True, {}
        self.looks = 0

    def look(self) -> dict[str, Any]:
        self.looks += 1
        if not self.well:
            raise Trouble("The supply does not answer.")
        return {"supply": 230.0}

    @property
    def answers(self) -> list[tuple[str, str, float]]:
        return [("supply", "made up", 0.001)]

    def put(self, name: str, value: Any) -> None:
        self.set[name] = value

    def close(self) -> None:
        self.well = False


def test_one_missed_look_is_no_trouble_but_two_are() -> None:
    desk = Fails()
    seen = Watched(desk, "fast")
    assert seen.answers == [("supply", "made up", 0.001)]
    seen.at(0.0)
    seen.at(EVERY / 2)
    assert desk.looks == 1 and seen.shown == {"supply": 230.0}
    desk.well = False
    seen.at(EVERY)
    assert seen.trouble is None
    desk.well = True
    seen.at(2 * EVERY)
    desk.well = False
    seen.at(3 * EVERY)
    assert seen.trouble is None
    seen.at(4 * EVERY)
    assert seen.trouble == "The supply does not answer."
    desk.well = True
    seen.at(5 * EVERY)
    assert seen.trouble is None  # the walk-round finds and mends it


def test_a_desk_without_a_load_bank_is_refused() -> None:
    with pytest.raises(Trouble, match="names no load"):
        watched({"supply": ("127.0.0.1", 1)}, ["A"], "fast")


def test_in_real_pace_a_thread_looks(bench: tuple[AmplifierBench, Servers]) -> None:
    made, servers = bench
    seen = watched(places(servers), ["A", "B"], "real")
    seen.put("loads", {"A": 8.0})
    until = time.monotonic() + 10
    while time.monotonic() < until and not (seen.shown and seen.shown["resistance"]["A"]):
        time.sleep(0.02)
    assert seen.shown is not None and seen.shown["resistance"]["A"] == pytest.approx(8.016, abs=0.01)
    assert made.positions["A"].load == 8 and seen.trouble is None
    seen.close()


def test_stand_ins_alone_serve_any_client(demo_lab: Any) -> None:
    import threading

    from lucid_anvil.core.errors import BadInput
    from lucid_anvil.rig.model import load_rig
    from lucid_anvil.rig.standins.alone import serve_alone

    said: list[str] = []
    stop = threading.Event()
    rig = load_rig(demo_lab.folder / "rigs" / "amplifier.rig.yaml")
    thread = threading.Thread(target=serve_alone, args=(rig, 0, said.append, stop))
    thread.start()
    try:
        until = time.monotonic() + 20
        while len(said) < 3 and time.monotonic() < until:
            time.sleep(0.02)
        ports = {line.split(":")[0]: int(line.rsplit(":", 1)[1]) for line in said}
        held = Instrument("supply", "127.0.0.1", ports["supply"])
        assert held.number("MEAS:VOLT?") > 100 and held.ask("SYST:VERS?") == "1999.0"
        held.tell("SOUR:VOLT 229 V")
        assert held.ask("VOLT?;*OPC?") == "229.000;1"
        (answer,) = talk(ports["supply"], "X" * 70000, "*TST?")[-1:]
        assert answer == "0"
        held.close()
    finally:
        stop.set()
        thread.join(10)
    with pytest.raises(BadInput, match="no stand-in instruments"):
        serve_alone(load_rig(demo_lab.folder / "rigs" / "shaker.rig.yaml"), 0, said.append)
