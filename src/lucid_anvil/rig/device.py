"""What a streaming device is to the keeper, and the link to one that runs in a process of its own.

The device has the clock. It sends input block n, computed while output block n was played, and must by then
hold output block n+1; the keeper answers block n with output block n+2. So one block is queued, no more.
"""

from __future__ import annotations

import argparse
import contextlib
import json
import os
import socket
import struct
from dataclasses import dataclass
from pathlib import Path
from typing import Any

import numpy as np

from ..core.signal.sinefit import Floats

_HEAD = struct.Struct("<qdddq")
INTERLOCKS = ("cooling", "field supply", "emergency stop", "guard door")
"""What the bits of `InputBlock.interlock` mean, from the lowest; a bit that is set says that it is not well."""


@dataclass(frozen=True)
class InputBlock:
    """One block of inputs. `samples` (channels + 1, block) in volts, the last row what the source really played."""

    index: int
    samples: Floats
    overload: np.ndarray
    bias: Floats
    temperature: float
    humidity: float
    supply: float
    interlock: int = 0

    def pack(self) -> bytes:
        return b"".join(
            (
                _HEAD.pack(self.index, self.temperature, self.humidity, self.supply, self.interlock),
                self.overload.astype(np.uint8).tobytes(),
                self.bias.astype("<f8").tobytes(),
                np.ascontiguousarray(self.samples, dtype="<f8").tobytes(),
            )
        )


def unpack(held: bytes, channels: int, block: int) -> InputBlock:
    """The block again, from its bytes."""
    index, temperature, humidity, supply, interlock = _HEAD.unpack_from(held)
    at = _HEAD.size
    overload = np.frombuffer(held, np.uint8, channels, at).astype(bool)
    bias = np.frombuffer(held, "<f8", channels, at + channels)
    samples = np.frombuffer(held, "<f8", (channels + 1) * block, at + channels + 8 * channels)
    return InputBlock(
        index, samples.reshape(channels + 1, block), overload, bias, temperature, humidity, supply, interlock
    )


LONGEST = 1 << 27
"""bytes that a message may have"""


class Wire:
    """Messages over a stream socket: a kind (one byte), a length, and the bytes."""

    def __init__(self, sock: socket.socket) -> None:
        self.sock = sock
        for option in (socket.SO_SNDBUF, socket.SO_RCVBUF):
            sock.setsockopt(socket.SOL_SOCKET, option, 1 << 20)

    def send(self, kind: bytes, payload: bytes = b"") -> None:
        """Raises OSError when the other side is gone."""
        self.sock.sendall(kind + struct.pack("<I", len(payload)) + payload)

    def send_json(self, kind: bytes, data: Any) -> None:
        self.send(kind, json.dumps(data).encode())

    def _exactly(self, count: int) -> bytes:
        held = bytearray(count)
        view = memoryview(held)
        while count:
            got = self.sock.recv_into(view[-count:], count)
            if got == 0:
                raise EOFError("the other side is gone")
            count -= got
        return bytes(held)

    def ready(self, timeout: float | None) -> bool:
        """Whether a message comes within `timeout` seconds (None: wait for ever)."""
        import select

        return bool(select.select([self.sock], [], [], timeout)[0])

    def receive(self) -> tuple[bytes, bytes]:
        """The next message. Raises EOFError when the other side is gone."""
        try:
            head = self._exactly(5)
            size = struct.unpack("<I", head[1:])[0]
            if size > LONGEST:
                raise EOFError("the other side speaks nonsense")
            return head[:1], self._exactly(size)
        except ConnectionError:
            raise EOFError("the other side is gone") from None


def wire_pair() -> tuple[Wire, socket.socket]:
    """Our end as a Wire, and the other end to hand to a child process."""
    ours, theirs = socket.socketpair(socket.AF_UNIX, socket.SOCK_STREAM)
    return Wire(ours), theirs


def wire_from_fd(fd: int) -> Wire:
    return Wire(socket.socket(fileno=fd))


def arguments() -> argparse.Namespace:
    """What the keeper tells a device's process: `fd` of the wire, the rig's file, the pace, and where it may log."""
    parser = argparse.ArgumentParser()
    parser.add_argument("--fd", type=int, required=True)
    parser.add_argument("--rig", type=Path, required=True)
    parser.add_argument("--pace", choices=("real", "fast"), required=True)
    parser.add_argument("--log", type=Path)
    return parser.parse_args()


def prefer(level: int) -> None:
    """Ask for a real-time turn on the processor; without the right to it, a lower nice value; else go on."""
    try:
        os.sched_setscheduler(0, os.SCHED_RR, os.sched_param(level))
    except (OSError, AttributeError):
        with contextlib.suppress(OSError):
            os.nice(-5)
