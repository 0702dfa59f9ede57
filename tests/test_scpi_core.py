"""What every stand-in instrument shares, as IEEE 488.2 and SCPI have it: headers, parameters, queue, status, blocks."""

from __future__ import annotations

import struct

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st

from lucid_anvil.rig.standins.scpi import (
    MISSING,
    NO_ERROR,
    OVERFLOW,
    QUEUE,
    RANGE,
    SUFFIX,
    SURPLUS,
    TYPE,
    UNKNOWN,
    Refused,
    Scpi,
    block,
    number,
    onoff,
    pattern,
)


class Lamp(Scpi):
    """An instrument of one value."""

    identity = "Lucid Anvil,lamp,7,1.0"
    commands = {"LEVel": "put", "LEVel?": "get", "LEVel:MAXimum?": "most", "TRACe:DATA?": "trace"}
    level = 0.0

    def put(self, text: str) -> None:
        """A level."""
        self.level = number(text, 0.0, 10.0)

    def get(self) -> str:
        """It."""
        return f"{self.level:g}"

    def most(self) -> str:
        """The largest."""
        return "10"

    def trace(self) -> bytes:
        """A few samples."""
        return block(np.arange(3.0))


@pytest.mark.parametrize("header", ["LEV 4", "level 4", ":LEVel 4.0", "Lev 4e0", "LEV   4"])
def test_long_and_short_forms_in_any_case(header: str) -> None:
    lamp = Lamp()
    assert lamp.handle(header) is None and lamp.level == 4.0 and lamp.error() == NO_ERROR


@pytest.mark.parametrize("header", ["LEVE 4", "LE 4", "LEVELS 4", "LEV:MAX 4", "4", "LEV4"])
def test_neither_form_is_an_error(header: str) -> None:
    lamp = Lamp()
    lamp.handle(header)
    assert lamp.level == 0.0 and lamp.error() == f'{UNKNOWN},"Undefined header"'


@given(st.text("abcLEVel:?*; ,.0123456789-", max_size=30))
def test_whatever_comes_it_answers_or_complains_and_lives(line: str) -> None:
    lamp = Lamp()
    lamp.handle(line)
    assert lamp.handle("*IDN?") == Lamp.identity
    while lamp.error() != NO_ERROR:
        pass
    assert 0.0 <= lamp.level <= 10.0


def test_several_commands_in_one_message() -> None:
    lamp = Lamp()
    assert lamp.handle("LEV 3;LEV?;LEV:MAX?;*OPC?") == "3;10;1"
    # What is refused is left out; the others are carried out all the same.
    assert lamp.handle("LEV 99;LEV 5;NOPE?;LEV?") == "5"
    assert [lamp.error() for _ in range(3)] == [
        f'{RANGE},"Data out of range"', f'{UNKNOWN},"Undefined header"', NO_ERROR,
    ]  # fmt: skip


@pytest.mark.parametrize(
    ("line", "error", "bit"),
    [("LEV", MISSING, 32), ("LEV x", TYPE, 32), ("LEV -1", RANGE, 16), ("LEV 10.001", RANGE, 16)],
)
def test_what_is_wrong_shows_in_the_event_status_register(line: str, error: int, bit: int) -> None:
    lamp = Lamp()
    assert lamp.handle("*ESR?") == "128" and lamp.handle("*ESR?") == "0"  # switched on; reading clears it
    lamp.handle(line)
    assert int(lamp.handle("*STB?") or 0) & 4 and lamp.handle("*ESR?") == str(bit)
    assert lamp.handle("SYST:ERR?") == lamp_word(error) and lamp.handle("SYST:ERR:NEXT?") == NO_ERROR
    assert not int(lamp.handle("*STB?") or 0) & 4


def lamp_word(error: int) -> str:
    """As the queue gives it."""
    lamp = Lamp()
    lamp.errors.append(error)
    return lamp.error()


def test_operation_complete_clear_and_reset() -> None:
    lamp = Lamp()
    lamp.handle("*CLS;*OPC")
    assert lamp.handle("*ESR?") == "1"
    for _ in range(50):
        lamp.handle("NOPE")
    assert len(lamp.errors) == 20  # the queue keeps the newest
    assert lamp.handle("*CLS;SYST:ERR?") == NO_ERROR
    assert lamp.handle("*RST;*WAI") is None and lamp.handle("") is None and lamp.handle(" ; ") is None


@given(st.lists(st.floats(-1e6, 1e6, width=32), max_size=400))
def test_a_block_says_its_own_length(values: list[float]) -> None:
    made = block(np.array(values))
    digits = int(made[1:2])
    count = int(made[2 : 2 + digits])
    assert made[:1] == b"#" and count == 4 * len(values) == len(made) - 2 - digits
    assert list(struct.unpack(f"<{len(values)}f", made[2 + digits :])) == values


def test_parameters() -> None:
    assert [onoff(v) for v in ("ON", "off", "1", "0")] == [True, False, True, False]
    for text in ("", "2", "yes"):
        with pytest.raises(Refused) as refused:
            onoff(text)
        assert refused.value.number == TYPE
    assert number("1e2", 0, 100) == 100.0
    for text, wanted in (("1e2", RANGE), ("nan", RANGE), ("inf", RANGE), ("ten", TYPE)):
        with pytest.raises(Refused) as refused:
            number(text, 0, 99)
        assert refused.value.number == wanted


def test_a_header_with_a_question_mark_is_another_one() -> None:
    assert pattern("MEASure:VOLTage:AC?").fullmatch("meas:volt:ac?")
    assert not pattern("MEASure:VOLTage:AC?").fullmatch("meas:volt:ac")
    assert not pattern("VOLTage").fullmatch("volt?")


@pytest.mark.parametrize("line", ["VOLT 5", "SOUR:VOLT 5", ":SOURce:VOLTage 5", "source:volt 5"])
def test_a_word_in_brackets_may_be_left_out(line: str) -> None:
    header = pattern("[SOURce:]VOLTage")
    assert header.fullmatch(line.split(" ")[0])
    assert not header.fullmatch("SOUR:") and not header.fullmatch("SOURVOLT") and not header.fullmatch("MEAS:VOLT")


def test_headers_are_meant_below_the_path_before_them() -> None:
    lamp = Lamp()
    assert lamp.handle("LEV 3;LEV?") == "3"
    assert lamp.handle("LEV:MAX?;MAX?") == "10;10"  # the second is LEVel:MAXimum? too
    assert lamp.handle("LEV:MAX?;*OPC?;MAX?") == "10;1;10"  # a common command leaves the path
    assert lamp.handle("LEV:MAX?;LEV?") == "10" and lamp.handle("SYST:ERR?").startswith(str(UNKNOWN))
    assert lamp.handle("LEV:MAX?;:LEV?") == "10;3"


def test_the_queue_says_that_there_were_more() -> None:
    lamp = Lamp()
    for _ in range(QUEUE + 5):
        lamp.handle("NONSENSE")
    assert lamp.handle("SYST:ERR:COUN?") == str(QUEUE)
    said = [str(lamp.handle("SYST:ERR?")) for _ in range(QUEUE + 1)]
    assert said[0].startswith(str(UNKNOWN)) and said[-2].startswith(str(OVERFLOW)) and said[-1] == NO_ERROR


def test_enable_registers_and_the_status_byte() -> None:
    lamp = Lamp()
    lamp.handle("*CLS;*ESE 32;*SRE 32")
    assert lamp.handle("*ESE?;*SRE?;*STB?") == "32;32;0"
    lamp.handle("LEV 99")  # an execution error: not enabled
    assert int(str(lamp.handle("*STB?"))) == 4
    lamp.handle("NONSENSE")
    assert int(str(lamp.handle("*STB?"))) == 4 + 32 + 64
    assert lamp.handle("*TST?;:SYST:VERS?") == "0;1999.0"
    lamp.handle("*SRE 255")
    assert lamp.handle("*SRE?") == str(255 - 64)


@pytest.mark.parametrize(
    ("text", "unit", "value"), [("5 V", "V", 5.0), ("500mV", "V", 0.5), ("1.5E1", "V", 15.0), ("2 kohm", "OHM", 2000.0),
                                ("MAX", "V", 5000.0), ("min", "V", 0.0), (".5", "", 0.5)],
)  # fmt: skip
def test_suffixes(text: str, unit: str, value: float) -> None:
    assert number(text, 0.0, 5000.0, unit) == pytest.approx(value)


def test_a_suffix_of_something_else_and_a_parameter_too_many() -> None:
    with pytest.raises(Refused) as refused:
        number("5 A", 0.0, 10.0, "V")
    assert refused.value.number == SUFFIX
    lamp = Lamp()
    lamp.handle("LEV 1,2")
    assert str(lamp.handle("SYST:ERR?")).startswith(str(SURPLUS))
