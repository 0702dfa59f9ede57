"""A power amplifier under test on its stand-in bench: two channels or more, loads, and the supply that feeds it."""

from __future__ import annotations

from typing import TYPE_CHECKING, Annotated, Literal

from pydantic import Field

from ...contracts.settings import Flag, Model, quantity

if TYPE_CHECKING:
    from ...rig.model import Rig
    from .standin import AmplifierBench

Hz = Annotated[float, quantity("Hz")]
Volt = Annotated[float, quantity("V")]
Percent = Annotated[float, quantity("%")]
Ohm = Annotated[float, quantity("ohm")]
Decibel = Annotated[float, quantity("dB")]


class AmplifierChannel(Model):
    """One channel's truth, which the program must find out."""

    gain: float = Field(default=20.0, gt=0)
    """V per V, at 1 kHz and no load"""
    offset: Volt = 0.004
    second: Percent = 0.02
    """of second harmonic at the rail's voltage"""
    third: Percent = 0.03
    kink: Percent = 0.1
    """by which the gain is lower about zero: crossover"""
    kink_width: Volt = 0.8
    impedance: Ohm = 0.04
    inductance: Annotated[float, quantity("ohm*s")] = 0.0
    """in series with the source impedance"""
    hum: Volt = 1e-4
    """rms of its 100 Hz part at the output; 50 Hz has half of it, 150 Hz a third"""
    noise: Volt = 1e-4
    """rms at the output within 20 kHz, spread evenly; seven tenths of its power come in before the gain's knob"""
    low_corner: Hz = 4.0
    high_corner: Hz = 35e3
    separation: Decibel = 75.0
    """of this channel's output from the others', input terminated"""
    common_mode: Decibel = 60.0


class LoadBank(Model):
    """Switched load resistors with a fan."""

    loads: list[Ohm] = Field(default_factory=lambda: [8.0, 4.0])
    error: Percent = 0.2
    """of each resistor, cold"""
    coefficient: Annotated[float, quantity("%/K")] = 0.01
    rating: Annotated[float, quantity("W")] = 150.0
    limit: float = 120.0
    """°C"""
    capacity: Annotated[float, quantity("J/K")] = 60.0
    resistance: Annotated[float, quantity("K/W")] = 0.6
    """with the fan on; three times that without"""


class SupplyPart(Model):
    """What feeds the amplifier."""

    nominal: Volt = 230.0
    actual: Volt = 230.0
    """before it is trimmed"""
    sag: float = 0.01
    """V per W drawn"""
    lag: Annotated[float, quantity("s")] = 0.05
    settable: Flag = True
    drift: Annotated[float, quantity("V/s")] = 0.0


class AmplifierScene(Model):
    """The amplifier, its loads and its supply."""

    kind: Literal["amplifier"]
    channels: dict[str, AmplifierChannel] = Field(min_length=1)
    """by the role of the input that hears it"""
    rail: Volt = 32.0
    """peak that an unloaded output reaches at nominal supply"""
    rail_resistance: Ohm = 0.25
    regulated: Flag = False
    current_limit: Annotated[float, quantity("A")] = 16.0
    efficiency: Percent = 60.0
    idle_power: Annotated[float, quantity("W")] = 25.0
    load: LoadBank = Field(default_factory=LoadBank)
    supply: SupplyPart = Field(default_factory=SupplyPart)
    meter_resolution: Volt = 0.001

    def bench(self, rig: Rig) -> AmplifierBench:
        """The bench of it."""
        from .standin import AmplifierBench

        return AmplifierBench(rig)
