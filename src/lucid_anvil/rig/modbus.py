"""A line to an instrument that speaks Modbus TCP, and what to say when it does not answer."""

from __future__ import annotations

import contextlib
from collections.abc import Callable
from typing import Any

from .instruments import PATIENCE, Trouble


class ModbusLine:
    """One instrument at a TCP port, reached when it is asked and anew after it fell silent."""

    def __init__(self, name: str, host: str, port: int, patience: float = PATIENCE) -> None:
        import logging

        from pymodbus.client import ModbusTcpClient

        logging.getLogger("pymodbus").setLevel(logging.CRITICAL)  # what goes wrong is said here
        self.name, self.where = name, f"{host}:{port}"
        self.client = ModbusTcpClient(host, port=port, timeout=patience, retries=0, reconnect_delay=0)

    def done(self, work: Callable[[Any], Any]) -> Any:
        """What the instrument answers to `work(client)`. Raises Trouble."""
        from pymodbus.exceptions import ModbusException

        if not self.client.connected and not self.client.connect():
            raise Trouble(f"The {self.name} at {self.where} can't be reached: look at its cable and power.")
        try:
            answer = work(self.client)
        except (ModbusException, OSError):
            self.client.close()
            raise Trouble(f"The {self.name} at {self.where} does not answer: look at its cable and power.") from None
        if answer.isError():
            raise Trouble(f"The {self.name} at {self.where} refuses: {answer}.")
        return answer

    def registers(self, work: Callable[[Any], Any], count: int) -> list[int]:
        """So many registers. Raises Trouble."""
        held = list(self.done(work).registers)
        if len(held) != count:
            raise Trouble(f"The {self.name} at {self.where} answers with another number of registers than asked for.")
        return held

    def close(self) -> None:
        with contextlib.suppress(Exception):
            self.client.close()
