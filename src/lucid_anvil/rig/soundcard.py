"""A sound card as the front end, through PortAudio: a process of its own, on the same line to the keeper as a stand-in.

The card has the clock. What it lost is told at once, and a machine without a card says so in one sentence.
"""

from __future__ import annotations

import argparse
import json
from collections.abc import Callable
from pathlib import Path
from typing import Any, Protocol

import numpy as np

from ..core.errors import BadInput
from ..core.signal.sinefit import Floats
from .device import InputBlock, Wire, prefer, wire_from_fd
from .model import Rig, load_rig

NO_PORTAUDIO = "No sound card can be reached: PortAudio is not installed here (libportaudio2)."
NO_CARD = "No sound card can be reached: this machine has none that plays and records; use a stand-in front end."


class Stream(Protocol):
    """What is used of a duplex PortAudio stream; blocks are (frames, channels) of full scale 1."""

    def start(self) -> Any: ...

    def read(self, frames: int) -> tuple[Any, bool]: ...

    def write(self, data: Any) -> bool: ...

    def close(self) -> Any: ...


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


def opened(rig: Rig) -> Stream:
    """The card's stream, as the rig file wants it. Raises BadInput."""
    library, end = portaudio(), rig.front_end
    cards()
    try:
        made: Stream = library.Stream(
            samplerate=end.rate, blocksize=end.block, device=end.card.device, dtype="float32",
            channels=(max(c.input for c in rig.channels), 2),
        )  # fmt: skip
    except Exception as problem:
        raise BadInput(f"The sound card can't be opened as the rig file wants it: {problem}.") from None
    return made


class CardServer:
    """Plays what comes, hands on what is heard."""

    def __init__(self, rig: Rig, wire: Wire, stream: Stream) -> None:
        """Raises BadInput when the card was never calibrated: its volts are not known."""
        part = rig.front_end.card
        if part.output_volts is None or part.input_volts is None:
            raise BadInput(
                "The sound card's volts are not known: calibrate it, and put output_volts and input_volts in."
            )
        self.rig, self.wire, self.stream, self.part = rig, wire, stream, part
        self.block = rig.front_end.block
        self.route = dict.fromkeys((c.role for c in rig.channels), "terminated")
        # The source's own record is held back by the loop's delay, so that it lies beside what it caused.
        self.sent = np.zeros(part.delay + self.block)
        self.index = 0

    def run(self) -> None:
        """Until told to stop, or the keeper is gone; then silence."""
        self.wire.send_json(b"T", {})
        self.stream.start()
        queue: list[Floats] = [np.zeros(self.block), np.zeros(self.block)]
        while True:
            playing = queue.pop(0) if queue else np.zeros(self.block)
            self._play(playing)
            try:
                self.wire.send(b"I", self._hear(playing).pack())
                if not self._fetch(queue):
                    break
            except (OSError, EOFError):
                break
        self._play(np.zeros(self.block))
        self.stream.close()

    def _play(self, source: Floats) -> None:
        share = source / float(self.part.output_volts or 1.0)
        sides = [np.where(w == "terminated", 0.0, 1.0) * share for w in list(self.route.values())[:2]]
        sides = (sides * 2)[:2]
        if self.stream.write(np.clip(np.stack(sides, axis=1), -1, 1).astype(np.float32)):
            self._dropped("played too late")

    def _hear(self, source: Floats) -> InputBlock:
        heard, lost = self.stream.read(self.block)
        if lost:
            self._dropped("lost samples it had heard")
        share = np.asarray(heard, dtype=float).T
        self.sent = np.concatenate([self.sent[self.block :], source])
        rows = [share[c.input - 1] * float(self.part.input_volts or 1.0) for c in self.rig.channels]
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


def serve(rig: Rig, wire: Wire, open_stream: Callable[[Rig], Stream] = opened) -> None:
    """Run the card, or say in one sentence why it can't be."""
    try:
        CardServer(rig, wire, open_stream(rig)).run()
    except BadInput as bad:
        wire.send_json(b"X", {"lost": str(bad)})


def main() -> None:
    parser = argparse.ArgumentParser()
    parser.add_argument("--fd", type=int, required=True)
    parser.add_argument("--rig", type=Path, required=True)
    parser.add_argument("--pace", choices=("real", "fast"), required=True)
    parser.add_argument("--log", type=Path)
    given = parser.parse_args()
    prefer(30)
    serve(load_rig(given.rig), wire_from_fd(given.fd))


if __name__ == "__main__":
    main()
