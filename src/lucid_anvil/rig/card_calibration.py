"""Calibrating a sound card: a tone on one output, a meter at its terminals, a cable to the input; volts, delay, losses.

The tone goes on while a person plugs the cable and reads the meter. Once the reading is there it stops, and a look of a
few seconds follows: delay, levels and lost samples are those of the look.
"""

from __future__ import annotations

import datetime
import io
import math
import threading
from collections.abc import Callable
from dataclasses import dataclass
from pathlib import Path
from typing import Any

import numpy as np

from ..contracts.settings import check
from ..core.audio.card import LOOK, TONE_AT, CardLevels, dropouts, levels, look_wave
from ..core.errors import BadInput
from ..core.signal.sinefit import Floats
from ..lab.textfiles import load_yaml, parse_yaml, whole_write
from .model import Rig
from .soundcard import Duplex, Opener, opened

FREQUENCY = 997.0
"""Hz; no divisor of a usual rate, so that all steps of the converter are used (IEC 61606-1)"""
LEVEL_DB = -12.0
"""re full scale: far from clipping, far above noise"""


@dataclass(frozen=True)
class CardChannel:
    """What one output and its input were found to be."""

    side: int
    """Counted from 0"""
    levels: CardLevels
    lost: tuple[float, ...]
    """s at which samples were lost, of the `seconds` looked at"""
    seconds: float
    told: int
    """Times that the card itself told of a loss"""

    def check(self) -> None:
        """Raises BadInput when samples were lost, since then its levels and its delay can't be trusted."""
        count = len(self.lost) + self.told
        if count:
            raise BadInput(
                f"The sound card lost samples {count} times in {self.seconds:.0f} s: nothing is kept. Close what else "
                "uses it, or raise its latency in the rig file, then calibrate again."
            )

    def sentence(self) -> str:
        """What was found, for a person."""
        found = self.levels
        return (
            f"output {found.output_volts:.4g} V, input {found.input_volts:.4g} V peak at full scale, "
            f"{found.delay} samples late, none lost in {self.seconds:.0f} s"
        )


class CardTone:
    """A tone on one output at a time, heard at that channel's input, until it is stopped."""

    def __init__(self, rig: Rig, open_stream: Opener = opened, frequency: float = FREQUENCY, level: float = LEVEL_DB
                 ) -> None:  # fmt: skip
        """`frequency` [Hz], `level` [dB re full scale]. Raises BadInput when the card can't be opened."""
        self.side = 0
        """The channel's place in the rig file, from 0"""
        self.inputs = [c.input - 1 for c in rig.channels[:2]]
        self.frequency = frequency
        self.rate, self.block = rig.front_end.rate, rig.front_end.block
        self.card = Duplex(rig, open_stream)
        self.size = 10 ** (level / 20)
        self.index = 0
        self.heard_db = -math.inf
        """rms at the input now [dB re full scale]"""
        self.rows: list[tuple[Floats, Floats, str]] | None = None
        """Sent, heard and what was lost, of the stretch that is looked at"""
        self.problem = ""
        self.ended, self.looked = threading.Event(), threading.Event()
        self.thread = threading.Thread(target=self._run, daemon=True)

    def start(self) -> None:
        """The tone begins."""
        self.thread.start()

    def stop(self) -> None:
        """Silence, and the card is free."""
        self.ended.set()
        if self.thread.is_alive():
            self.thread.join(5.0)

    def _wave(self, rows: list[Any] | None) -> Floats:
        """The next block: of the tone, or of the look as far as it has come."""
        if rows is not None:
            return self.size * look_wave(len(rows) * self.block, self.block, self.rate, self.frequency)
        t = (self.index * self.block + np.arange(self.block)) / self.rate
        return np.asarray(self.size * np.sin(2 * np.pi * self.frequency * t))

    def _run(self) -> None:
        try:
            self.card.start()
            while not self.ended.is_set():
                sides = np.zeros((2, self.block))
                # A look that is asked for from now on begins with the next block.
                side, rows = self.side, self.rows
                sides[side] = wave = self._wave(rows)
                heard, said = self.card.turn(sides)
                x = heard[self.inputs[side]]
                self.heard_db = 10 * math.log10(max(2 * float(np.mean(x**2)), 1e-16))
                self.index += 1
                if rows is not None and not self.looked.is_set():
                    rows.append((wave, x, said))
                    if len(rows) * self.block >= (TONE_AT + LOOK) * self.rate:
                        self.looked.set()
        except BadInput as problem:
            self.problem = str(problem)
        finally:
            self.looked.set()
            self.card.close()

    def measure(self, metered: float) -> CardChannel:
        """Look at the tone, with the meter's reading [V rms]; takes `LOOK` seconds. Raises BadInput."""
        if metered <= 0:
            raise BadInput("The meter's reading must be above 0 V.")
        self.looked.clear()
        self.rows = []
        self.looked.wait(3 * (TONE_AT + LOOK))
        rows, self.rows = self.rows, None
        if self.problem:
            raise BadInput(self.problem)
        sent, heard = (np.concatenate([row[i] for row in rows]) for i in (0, 1))  # type: ignore[misc]
        if np.max(np.abs(heard)) >= 0.999:
            raise BadInput("The input is overdriven: turn its gain down, then calibrate again.")
        try:
            found = levels(sent, heard, self.rate, self.frequency, metered)
        except ValueError as problem:
            raise BadInput(f"{str(problem).capitalize()}.") from None
        held = heard[int((TONE_AT + 0.1) * self.rate) + found.delay :]
        gone = dropouts(held, self.rate, self.frequency)
        told = sum(bool(said) for _, _, said in rows)
        return CardChannel(self.side, found, tuple(float(t) for t in gone), held.size / self.rate, told)


def put_card(rig_file: Path, found: list[CardChannel], today: datetime.date) -> None:
    """Into the rig file, its comments kept; whole or not at all. Raises BadInput."""
    from ruamel.yaml import YAML

    load_yaml(rig_file)  # says in a sentence what is wrong with it
    yaml = YAML()
    yaml.width = 240
    held = yaml.load(rig_file.read_text(encoding="utf-8"))
    card = held.setdefault("front_end", {}).setdefault("card", {})
    ordered = sorted(found, key=lambda one: one.side)
    card["output_volts"] = [float(f"{one.levels.output_volts:.6g}") for one in ordered]
    card["input_volts"] = [float(f"{one.levels.input_volts:.6g}") for one in ordered]
    card["delay"] = int(round(float(np.median([one.levels.delay for one in ordered]))))
    card["calibrated"] = today
    out = io.StringIO()
    yaml.dump(held, out)
    check(Rig, parse_yaml(out.getvalue(), str(rig_file)), str(rig_file))
    whole_write(rig_file, out.getvalue())


def hook_up(side: int, number: int) -> str:
    """What a person does while the tone of one channel is on."""
    return f"{FREQUENCY:g} Hz is on output {side + 1}: cable it to input {number}, and read V rms at its terminals"


def calibrate(rig: Rig, ask: Callable[[str], float], say: Callable[[str], None], open_stream: Opener = opened
              ) -> list[CardChannel]:  # fmt: skip
    """All channels, one after the other: `ask` shows a sentence and gives the meter's reading [V rms]. Raises
    BadInput."""
    made = []
    tone = CardTone(rig, open_stream)
    tone.start()
    try:
        for side, channel in enumerate(rig.channels[:2]):
            tone.side = side
            found = tone.measure(ask(hook_up(side, channel.input)))
            found.check()
            made.append(found)
            say(f"{channel.role}: {found.sentence()}")
    finally:
        tone.stop()
    return made
