"""A front end tried through the device link alone: who answers, its clock, order of its blocks, losses, its delay
through a loop, and whether its output comes to rest by itself when nobody speaks to it. See docs/device-link.md."""

from __future__ import annotations

import contextlib
import json
import subprocess
import tempfile
import time
from collections.abc import Callable
from dataclasses import dataclass, field
from pathlib import Path
from typing import Any

import numpy as np

from ..contracts.finding import Finding, Reading
from ..core.audio.handset import lag
from ..core.errors import BadInput
from ..core.signal.sinefit import Floats
from ..rig.device import Wire, unpack
from ..rig.model import Rig, load_rig

START = 45.0
"""s that a device may take to come up"""
SILENT = 2.0
"""s without a block after which it is called silent"""
HELD = 4
"""Blocks after the last one that was given, in which a device may still play what it holds"""
RATE_ALLOWED = 0.1
"""% by which blocks may come faster or slower than the rate says"""
Opener = Callable[[Path, str, Path, str], tuple[Wire, Any]]


@dataclass
class Tried:
    """What was seen of a front end."""

    identities: dict[str, str] = field(default_factory=dict)
    places: dict[str, tuple[str, int]] = field(default_factory=dict)
    said: list[str] = field(default_factory=list)
    arrived: list[float] = field(default_factory=list)
    """s, by our clock, of every block"""
    order: bool = True
    shape: bool = True
    lost: int = 0
    overload: bool = False
    heard: list[Floats] = field(default_factory=list)
    played: list[Floats] = field(default_factory=list)
    rest: float | None = None
    """s from the last block that was given to it until its output was at zero and it said so, or closed the wire"""
    why: str | None = None


def try_rig(
    rig_file: Path, seconds: float = 3.0, drive: float = 0.0, open_device: Opener | None = None
) -> tuple[Rig, Tried]:
    """Wake a rig's front end in real pace, with nothing driven but `drive` [V peak] of noise where a loop-back cable is
    in, then stop speaking to it. Raises BadInput."""
    from .keeper import start_device

    rig = load_rig(rig_file)
    if drive > rig.front_end.source_range:
        raise BadInput(f"--drive: the source reaches {rig.front_end.source_range:g} V.")
    with tempfile.TemporaryDirectory() as work:
        log = Path(work) / "device.jsonl"
        wire, process = (open_device or start_device)(rig_file, "real", log, rig.front_end.driver)
        tried = Tried()
        try:
            _stream(rig, wire, tried, seconds, drive)
            if tried.why is None:
                _stop_speaking(rig, wire, process, tried, log)
        finally:
            wire.sock.close()
            with contextlib.suppress(subprocess.TimeoutExpired):
                process.wait(3.0)
            if process.poll() is None:
                process.kill()
    return rig, tried


def _stream(rig: Rig, wire: Wire, tried: Tried, seconds: float, drive: float) -> None:
    """Answer each block with the one after the next, as a run does."""
    block, channels = rig.front_end.block, len(rig.channels)
    rng = np.random.default_rng(1)
    count = max(int(seconds * rig.front_end.rate / block), 8)
    patience = START
    began = False
    for index in range(count):
        kind, payload = b"", b""
        while kind != b"I":
            if not wire.ready(patience):
                tried.why = "it is silent: no block came" if not tried.arrived else "it fell silent"
                return
            try:
                kind, payload = wire.receive()
            except EOFError:
                tried.why = "it ended"
                return
            if kind == b"T":
                tried.identities = json.loads(payload)
            elif kind == b"P":
                tried.places = {n: (str(h), int(p)) for n, (h, p) in json.loads(payload).items()}
            elif kind == b"X":
                said = json.loads(payload)
                tried.said.append(str(said.get("dropout") or said.get("lost")))
                tried.lost += "dropout" in said
                if "lost" in said:
                    tried.why = str(said["lost"]).rstrip(".")
                    return
        tried.arrived.append(time.monotonic())
        patience = SILENT
        try:
            got = unpack(payload, channels, block)
        except (ValueError, IndexError):
            tried.shape = False
            tried.why = f"its blocks are not of {channels} channels and {block} samples"
            return
        if not began and got.index != index:
            tried.order = False
        began = True
        tried.order &= got.index == index
        tried.overload |= bool(got.overload.any())
        tried.heard.append(got.samples)
        give = drive * rng.uniform(-1, 1, block) if drive and index < count - 4 else np.zeros(block)
        tried.played.append(give)
        try:
            wire.send(b"O", np.ascontiguousarray(give, "<f8").tobytes())
        except OSError:
            tried.why = "it ended"
            return


def _stop_speaking(rig: Rig, wire: Wire, process: Any, tried: Tried, log: Path) -> None:
    """Give it nothing more. It must bring its output to zero by itself, and either say so or end."""
    last = time.monotonic()
    came = quiet = 0
    until = last + rig.front_end.watchdog + 4 * rig.front_end.patience + 3.0
    while time.monotonic() < until:
        if log.exists() and "watchdog" in log.read_text(encoding="utf-8", errors="replace"):
            tried.rest = time.monotonic() - last
            return
        if process.poll() is not None:
            tried.rest = time.monotonic() - last
            return
        with contextlib.suppress(EOFError, OSError):
            if wire.ready(0.02):
                kind, payload = wire.receive()
                came += kind == b"I"
                # What it still held was silence; what comes after that is its own.
                quiet = quiet + 1 if kind == b"I" and came > HELD and _silent(rig, payload) else 0
                if quiet >= HELD:
                    tried.rest = time.monotonic() - last
                    return
    tried.rest = None


def _silent(rig: Rig, payload: bytes) -> bool:
    """Whether its own record says that its output is at zero, though nothing is given to it."""
    with contextlib.suppress(ValueError, IndexError):
        got = unpack(payload, len(rig.channels), rig.front_end.block)
        return not np.any(got.samples[-1])
    return False


def finding_of(rig: Rig, tried: Tried, drive: float) -> Finding:
    """What was seen, as readings with their limits."""
    block = rig.front_end.block / rig.front_end.rate
    t = np.array(tried.arrived)
    made = [
        _reading("blocks", "Blocks", float(t.size), "", low=1.0),
        _reading("order", "Blocks in their order", float(tried.order), "", low=1.0),
        _reading("losses", "Losses that it told", float(tried.lost), "", high=0.0),
        _reading("overload", "Inputs overloaded", float(tried.overload), "", high=0.0),
    ]
    if t.size >= 8:
        steps = np.diff(t)
        n = t.size - 1
        share = 100 * (block * n / max(float(t[-1] - t[0]), 1e-9) - 1)
        # A clock is not told better than one block's arrival over the whole.
        doubt = 100 * float(np.std(steps)) * 2 / max(float(t[-1] - t[0]), 1e-9)
        allowed = RATE_ALLOWED + doubt
        made.append(_reading("rate_error", "Blocks against the rate", share, "%", -allowed, allowed))
        late = 1e3 * float(steps.max() - block)
        made.append(_reading("late", "Latest block after its time", max(late, 0.0), "ms",
                             high=1e3 * rig.front_end.patience))  # fmt: skip
    if tried.why is None:
        limit = rig.front_end.watchdog + 2 * rig.front_end.patience + 1.0
        said = None if tried.rest is not None else "its output did not come to rest by itself"
        made.append(_reading("watchdog", "Output at rest after silence", tried.rest, "s", high=limit, why=said))
    made += _delays(rig, tried, drive)
    notes = [f"{role}: {text}" for role, text in tried.identities.items()]
    notes += tried.said
    if tried.why is not None:
        notes.insert(0, f"The front end did not go through: {tried.why}.")
    missing = (f"the front end did not go through ({tried.why})",) if tried.why else ()
    return Finding("rig-check", tuple(made), notes=tuple(notes), missing=missing)


def _reading(
    key: str, label: str, value: float | None, unit: str, low: float | None = None, high: float | None = None,
    why: str | None = None,
) -> Reading:  # fmt: skip
    wrong = value is None or (low is not None and value < low) or (high is not None and value > high)
    verdict = "none" if low is None and high is None else "outside" if wrong else "inside"
    return Reading(key, label, value, unit, 0.0 if value is not None else None, None, None, low, high, verdict,
                   value is not None, why)  # fmt: skip


def _delays(rig: Rig, tried: Tried, drive: float) -> list[Reading]:
    """Delay from what was given to what each input heard, where something was driven and came back."""
    if not drive or len(tried.heard) < 8:
        return []
    given = np.concatenate(tried.played)
    made = []
    for i, channel in enumerate(rig.channels):
        heard = np.concatenate([h[i] for h in tried.heard])
        late, match = lag(given, heard, rig.front_end.rate)
        if match > 0.3:
            made.append(_reading(f"delay_{channel.role}", f"Delay, {channel.role}", 1e3 * late, "ms"))
    return made


@dataclass(frozen=True)
class Answered:
    """An instrument that was asked who it is."""

    name: str
    where: str
    identity: str
    took: float | None
    """s; None: nobody answered"""


def ask_instruments(rig: Rig, places: dict[str, tuple[str, int]]) -> list[Answered]:
    """Every instrument of a rig: its identity and the time that it took."""
    from ..rig.instruments import Instrument, Trouble

    made = []
    for name, (host, port) in places.items():
        began = time.monotonic()
        try:
            held = Instrument(name, host, port)
        except Trouble as trouble:
            made.append(Answered(name, f"{host}:{port}", str(trouble), None))
            continue
        made.append(Answered(name, f"{host}:{port}", held.identity, time.monotonic() - began))
        held.close()
    return made


def places_of(rig: Rig) -> dict[str, tuple[str, int]]:
    """Instruments that the rig file names."""
    return {name: (p.host, p.port) for name, p in rig.instruments.items()}
