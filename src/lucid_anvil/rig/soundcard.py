"""A sound card as the front end, through PortAudio: a process of its own, on the same line to the keeper as a stand-in.

The card has the clock. What it lost is told at once, and a machine without a card says so in one sentence.
"""

from __future__ import annotations

import json
import math
import queue
from collections import deque
from collections.abc import Callable
from typing import Any, Protocol

import numpy as np

from ..core.errors import BadInput
from ..core.signal.sinefit import Floats
from .device import InputBlock, Wire, arguments, prefer, wire_from_fd
from .model import Rig, load_rig

CARD_PATIENCE = 2.0
"""s without a block, beyond ten blocks' own time, after which a card counts as gone"""
STARTING = 4
"""Blocks in which a card that has just been started may lose samples"""
LATE, LOST = "played too late", "lost samples it had heard"
NO_PORTAUDIO = "No sound card can be reached: PortAudio is not installed here (libportaudio2)."
UNKNOWN = "The sound card's volts are not known: calibrate it (lucid-anvil soundcard calibrate RIG)."
NO_CARD = "No sound card can be reached: this machine has none that plays and records; use a stand-in front end."


class Stream(Protocol):
    """What is used of a duplex PortAudio stream that calls back once a block."""

    def start(self) -> Any: ...

    def close(self) -> Any: ...


Callback = Callable[[Any, Any, int, Any, Any], None]
"""Of PortAudio: heard (frames, inputs), to play (frames, 2), frames, times, flags; of full scale 1"""
Opener = Callable[[Rig, Callback], Stream]


def portaudio() -> Any:
    """The library. Raises BadInput where it is not there."""
    try:
        import sounddevice
    except OSError:
        raise BadInput(NO_PORTAUDIO) from None
    return sounddevice


def cards() -> list[dict[str, Any]]:
    """Cards that play and record: number, name, channels and rate. Raises BadInput when there is none."""
    found = [
        {"number": i, "name": str(d["name"]), "inputs": int(d["max_input_channels"]),
         "outputs": int(d["max_output_channels"]), "rate": float(d["default_samplerate"])}
        for i, d in enumerate(portaudio().query_devices())
        if d["max_input_channels"] > 0 and d["max_output_channels"] > 0
    ]  # fmt: skip
    if not found:
        raise BadInput(NO_CARD)
    return found


def opened(rig: Rig, callback: Callback) -> Stream:
    """The card's stream, as the rig file wants it. Raises BadInput."""
    library, end = portaudio(), rig.front_end
    cards()
    try:
        made: Stream = library.Stream(
            samplerate=end.rate, blocksize=end.block, device=end.card.device, dtype="float32",
            latency=end.card.latency, channels=(max(c.input for c in rig.channels), 2), callback=callback,
        )  # fmt: skip
    except Exception as problem:
        raise BadInput(f"The sound card can't be opened as the rig file wants it: {problem}.") from None
    return made


class Duplex:
    """A card that plays one block and hears one by turns. It never waits for us, and takes as many blocks at once as
    its latency holds: so much silence goes ahead of ours, and one block more."""

    def __init__(self, rig: Rig, open_stream: Opener = opened) -> None:
        """Raises BadInput when the card can't be opened."""
        end = rig.front_end
        self.block = end.block
        self.ahead = math.ceil(end.card.latency * end.rate / end.block) + 1
        self.patience = CARD_PATIENCE + 10 * self.block / rig.front_end.rate
        self.waiting = deque(np.zeros((self.block, 2), dtype=np.float32) for _ in range(self.ahead))
        self.heard: queue.SimpleQueue[tuple[Floats, str]] = queue.SimpleQueue()
        self.stream = open_stream(rig, self._called)
        self.turns = 0

    def start(self) -> None:
        """Begin to play and to hear."""
        self.stream.start()

    def _called(self, heard: Any, playing: Any, _frames: int, _times: Any, flags: Any) -> None:
        said = LOST if flags and (flags.input_overflow or flags.input_underflow) else ""
        if flags and flags.output_underflow:
            said = said or LATE
        try:
            playing[:] = self.waiting.popleft()
        except IndexError:
            playing[:] = 0
            said = said or LATE
        self.heard.put((np.array(heard, dtype=float).T, said))

    def turn(self, sides: Floats) -> tuple[Floats, str]:
        """Play `sides` (2, block) and hear (inputs, block), both of full scale 1; and what was lost, "" for nothing.
        Raises BadInput when the card stops."""
        self.waiting.append(np.ascontiguousarray(np.clip(sides, -1, 1).T, dtype=np.float32))
        if len(self.waiting) > self.ahead + 1:
            self.waiting.popleft()  # silence took a late block's place: what follows must not stay behind by it
        try:
            heard, said = self.heard.get(timeout=self.patience)
        except queue.Empty:
            raise BadInput("The sound card stopped: look at its cable.") from None
        self.turns += 1
        return heard, said if self.turns > STARTING else ""

    def close(self) -> None:
        """The card is free, and silent."""
        self.waiting.clear()
        self.stream.close()


class CardServer:
    """Plays what comes, hands on what is heard."""

    def __init__(self, rig: Rig, wire: Wire, open_stream: Opener = opened) -> None:
        """Raises BadInput when the card can't be opened, or was never calibrated: its volts are not known."""
        part = rig.front_end.card
        if not part.known:
            raise BadInput(UNKNOWN)
        self.rig, self.wire, self.part = rig, wire, part
        self.block = rig.front_end.block
        self.card = Duplex(rig, open_stream)
        self.route = dict.fromkeys((c.role for c in rig.channels), "terminated")
        # The source's own record is held back by the loop's delay, so that it lies beside what it caused.
        self.sent = np.zeros(part.delay + self.block)
        self.echo = -1
        """Block in which a gap that was played comes back at the inputs"""
        self.index = 0

    def run(self) -> None:
        """Until told to stop, or the keeper is gone; then silence."""
        self.wire.send_json(b"T", {})
        self.card.start()
        queue: list[Floats] = [np.zeros(self.block), np.zeros(self.block)]
        try:
            while True:
                playing = queue.pop(0) if queue else np.zeros(self.block)
                self.wire.send(b"I", self._turn(playing).pack())
                if not self._fetch(queue):
                    break
        except (OSError, EOFError):
            pass  # the keeper is gone
        finally:
            self.card.close()

    def _turn(self, source: Floats) -> InputBlock:
        """Play a block on the sides that are driven, and hear one."""
        sides = [
            (0.0 if way == "terminated" else 1.0 / self.part.at(self.part.output_volts, i)) * source
            for i, way in enumerate(list(self.route.values())[:2])
        ]
        share, said = self.card.turn(np.array((sides * 2)[:2]))
        if said:
            self._dropped(said)
            self.echo = self.index + math.ceil(self.part.delay / self.block)
        elif self.index == self.echo:
            self._dropped("is heard with the gap that it played before")
        self.sent = np.concatenate([self.sent[self.block :], source])
        volts = self.part.input_volts
        rows = [share[c.input - 1] * self.part.at(volts, i) for i, c in enumerate(self.rig.channels)]
        rows.append(self.sent[: self.block])
        overload = np.array([bool(np.max(np.abs(share[c.input - 1])) >= 0.999) for c in self.rig.channels])
        room, none = self.rig.room, np.full(len(self.rig.channels), np.nan)
        self.index += 1
        return InputBlock(self.index - 1, np.array(rows), overload, none, room.temperature, room.humidity, room.supply)

    def _dropped(self, what: str) -> None:
        t = self.index * self.block / self.rig.front_end.rate
        self.wire.send_json(
            b"X", {"dropout": f"The sound card {what} at {t:.2f} s: what was read then does not count."}
        )

    def _fetch(self, queue: list[Floats]) -> bool:
        """Take what the keeper sent, without waiting for it: the card does not wait either. False: told to stop."""
        while self.wire.ready(0.0 if queue else 0.5 * self.block / self.rig.front_end.rate):
            kind, payload = self.wire.receive()
            if kind == b"O":
                queue.append(np.frombuffer(payload, "<f8"))
            elif kind == b"C":
                order = json.loads(payload)
                if order["name"] == "route":
                    self.route = {r: order["value"].get(r, "terminated") for r in self.route}
            elif kind == b"Q":
                return False
        return True


def serve(rig: Rig, wire: Wire, open_stream: Opener = opened) -> None:
    """Run the card, or say in one sentence why it can't be."""
    try:
        CardServer(rig, wire, open_stream).run()
    except BadInput as bad:
        wire.send_json(b"X", {"lost": str(bad)})


def main() -> None:
    given = arguments()
    prefer(30)
    serve(load_rig(given.rig), wire_from_fd(given.fd))


if __name__ == "__main__":
    main()
