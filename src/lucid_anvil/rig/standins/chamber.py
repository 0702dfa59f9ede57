"""The stand-in chamber: air that follows its set point late, a Modbus TCP server that any client may talk to."""

from __future__ import annotations

import asyncio
import threading
from collections.abc import Callable
from typing import Any, Protocol

from ..chamber import ChamberPart, from_counts, to_counts


class Warm(Protocol):
    """A bench with a chamber."""

    set_point: float
    """°C"""
    air: float
    """°C"""

    def silent(self) -> bool:
        """Whether its controller answers nobody, now."""
        ...


class Direct:
    """The chamber of a bench in this very process, without the line between."""

    def __init__(self, bench: Warm, part: ChamberPart) -> None:
        self.bench, self.part = bench, part

    def look(self) -> dict[str, Any]:
        """As `rig.chamber.ChamberDesk.look`."""
        held = {"chamber": self.bench.air, "chamber_set": self.bench.set_point}
        return {k: from_counts(to_counts(v, self.part.step), self.part.step) for k, v in held.items()}

    def put(self, name: str, value: Any) -> None:
        """As `rig.chamber.ChamberDesk.put`."""
        if name == "chamber":
            self.bench.set_point = from_counts(to_counts(float(value), self.part.step), self.part.step)


class Server:
    """The chamber's controller at a TCP port."""

    def __init__(self, bench: Warm, part: ChamberPart, port: int = 0) -> None:
        self.bench, self.part = bench, part
        self.port = 0
        self.failed: OSError | None = None
        self.ready = threading.Event()
        self.loop = asyncio.new_event_loop()
        self.stop: Callable[[], None] = lambda: None
        threading.Thread(target=self._serve, args=(port,), daemon=True).start()
        self.ready.wait(10.0)
        if self.failed is not None:
            raise self.failed

    @property
    def ports(self) -> dict[str, int]:
        return {"chamber": self.port}

    async def _act(
        self, function: int, _start: int, address: int, _count: int, now: list[int], wanted: Any
    ) -> Any:  # fmt: skip
        """Called for every request: what is read is brought up to date, what is written is taken."""
        while self.bench.silent():
            await asyncio.sleep(0.05)
        if wanted is not None and address == self.part.set_register:
            self.bench.set_point = from_counts(int(wanted[0]), self.part.step)
        elif function == 4:
            now[0] = to_counts(self.bench.air, self.part.step)

    def _serve(self, port: int) -> None:
        import logging

        from pymodbus.server import ModbusTcpServer
        from pymodbus.simulator import DataType, SimData, SimDevice

        logging.getLogger("pymodbus").setLevel(logging.CRITICAL)
        asyncio.set_event_loop(self.loop)
        first = to_counts(self.bench.set_point, self.part.step)

        def block(at: int, value: int) -> list[SimData]:
            return [SimData(at, values=[value], datatype=DataType.REGISTERS)]

        async def run() -> None:
            bits = [SimData(0, values=[0], datatype=DataType.BITS)]
            device = SimDevice(
                self.part.unit,
                (bits, bits, block(self.part.set_register, first), block(self.part.read_register, first)),
                action=self._act,
            )
            server = ModbusTcpServer(device, address=("127.0.0.1", port))
            try:
                await server.listen()
                at: Any = server.transport
                self.port = at.sockets[0].getsockname()[1]
            except (OSError, AttributeError) as problem:
                self.failed = problem if isinstance(problem, OSError) else OSError(98, "the port is taken")
                self.ready.set()
                return
            self.ready.set()
            ended = asyncio.Event()
            self.stop = lambda: self.loop.call_soon_threadsafe(ended.set)  # type: ignore[assignment]
            await ended.wait()
            await server.shutdown()

        self.loop.run_until_complete(run())

    def close(self) -> None:
        self.stop()
