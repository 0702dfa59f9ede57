"""A stand-in that speaks Modbus TCP: a true server, any client may talk to it."""

from __future__ import annotations

import asyncio
import threading
from collections.abc import Callable, Mapping
from typing import Any

HOLDING, INPUT = 3, 4
"""Functions that read (Modbus application protocol, 6.3 and 6.4)"""


class ModbusServer:
    """One instrument at a TCP port of this machine, until closed."""

    def __init__(
        self, name: str, device: int, registers: Mapping[tuple[int, int], list[int]], silent: Callable[[], bool],
        read: Mapping[int, Callable[[int], list[int]]], write: Callable[[int, list[int]], None] | None = None,
        port: int = 0,
    ) -> None:  # fmt: skip
        """`registers`: what stands at first, by function that reads and first address; `read`: what stands there now,
        by that function, called with the address of every request; `write`: takes what a client writes."""
        self.name, self.device, self.registers = name, device, registers
        self.silent, self.read, self.write = silent, read, write
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
        return {self.name: self.port}

    async def _act(
        self, function: int, _start: int, address: int, _count: int, now: list[int], wanted: Any
    ) -> Any:  # fmt: skip
        """Called for every request: what is read is brought up to date, what is written is taken."""
        while self.silent():
            await asyncio.sleep(0.05)
        if wanted is not None:
            if self.write is not None:
                self.write(address, [int(w) for w in wanted])
        elif function in self.read:
            for i, word in enumerate(self.read[function](address)[: len(now)]):
                now[i] = word

    def _serve(self, port: int) -> None:
        import logging

        from pymodbus.server import ModbusTcpServer
        from pymodbus.simulator import DataType, SimData, SimDevice

        logging.getLogger("pymodbus").setLevel(logging.CRITICAL)
        asyncio.set_event_loop(self.loop)

        def block(function: int) -> list[SimData]:
            held = {at: words for (f, at), words in self.registers.items() if f == function} or {0: [0]}
            return [SimData(at, values=list(words), datatype=DataType.REGISTERS) for at, words in held.items()]

        async def run() -> None:
            bits = [SimData(0, values=[0], datatype=DataType.BITS)]
            device = SimDevice(self.device, (bits, bits, block(HOLDING), block(INPUT)), action=self._act)
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
