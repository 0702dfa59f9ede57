"""Readers and writers at their edges: what each part of a file says is taken, and what is wrong is told to the letter."""

from __future__ import annotations

import struct
from pathlib import Path
from typing import Any

import numpy as np
import openpyxl
import pytest
import scipy.io
import soundfile

from lucid_anvil.contracts.recording import Recording, channel_of
from lucid_anvil.core.errors import BadInput
from lucid_anvil.formats import csvfile, read, write
from lucid_anvil.formats.files import _is_log
from lucid_anvil.formats.whole import check_mat, check_sound

ROWS = "\n".join(f"{0.01 * i:.3f};{i};{2 * i}" for i in range(20))


def refused(said: str, call: Any, *arguments: Any) -> None:
    with pytest.raises(BadInput) as problem:
        call(*arguments)
    assert str(problem.value) == said


def csv(folder: Path, text: str, name: str = "r.csv", encoding: str = "utf-8") -> Path:
    place = folder / name
    place.write_bytes(text.encode(encoding))
    return place


# --- csv ---------------------------------------------------------------------------------------------------------------


def test_a_time_that_does_not_begin_at_zero(tmp_path: Path) -> None:
    for unit, by in (("s", 1), ("ms", 1000)):
        made = read(csv(tmp_path, f"time [{unit}];a [V]\n" + "\n".join(f"{by * (5 + 0.01 * i):.3f};{i}" for i in range(9))))
        assert made.channels[0].rate == 100 and made.channels[0].samples().tolist() == list(range(9))
    odd = read(csv(tmp_path, "t;a [V]\n" + "\n".join(f"{i / 44100.5:.12f};{i}" for i in range(99))))
    assert odd.channels[0].rate == pytest.approx(44100.5, abs=0.01) and odd.labels == ["a"]


@pytest.mark.parametrize(("rows", "said"), [
    (["0;1", "0.01;2", "0.02;3", "0.035;4", "0.04;5"],
     "line 5: time steps are uneven by 50 % (0.1 % is allowed): write the time with more decimals, or use '# rate_hz=...'"
     " without a time column."),
    (["0;1", "0.01;2", "0.01;3", "0.02;4"], "line 4: time does not rise: mend the time column."),
    (["0;1", "0.01;2", "0.02;x", "0.03;4"], "line 4, column 2: 'x' is not a number: mend that cell."),
    (["0;1", "0.01;2", "0.02;nan", "0.03;4"], "line 4, column 2: 'nan' is not a number: mend that cell."),
])  # fmt: skip
@pytest.mark.parametrize("long", [False, True])
def test_what_is_wrong_is_told_with_its_line(
    tmp_path: Path, monkeypatch: pytest.MonkeyPatch, rows: list[str], said: str, long: bool
) -> None:
    # A long file goes through another reader than a short one; what it says is the same.
    monkeypatch.setattr(csvfile, "SMALL", 0 if long else 8_000_000)
    place = csv(tmp_path, "\n".join(["time [s];a [V]", *rows]) + "\n")
    refused(f"{place}, {said}", read, place)
    whole = csv(tmp_path, "time [s];a [V]\n0;1\n0.5;2\n1;4\n")
    assert read(whole).channels[0].samples().tolist() == [1, 2, 4]
    wide = csv(tmp_path, "time [s];a [V]\n0;1\n0.5;2;7\n1;4\n")
    with pytest.raises(BadInput, match="line 3"):
        read(wide)


def test_decimal_commas_with_and_without_blanks_around(tmp_path: Path) -> None:
    for form in (" {} ; {} \n", "{};{}\n"):
        rows = "".join(form.format(f"{0.01 * i:.2f}", i + 0.5).replace(".", ",") for i in range(20))
        made = read(csv(tmp_path, "time [s];a [V]\n" + rows))
        assert made.channels[0].rate == 100 and np.allclose(made.channels[0].samples(), np.arange(20) + 0.5)
    place = csv(tmp_path, "time [s];a [V]\n0,0;1,5\n0,1; 2;5\n0,2;3,5\n")
    with pytest.raises(BadInput, match="line 3"):
        read(place)
    place = csv(tmp_path, "time [s];a [V]\n0,0; 1,5\n0,1; zwei\n0,2; 3,5\n")
    refused(f"{place}, line 3, column 2: 'zwei' is not a number: mend that cell.", read, place)


def test_headings_rates_and_marks(tmp_path: Path) -> None:
    place = csv(tmp_path, "0;1\n0.1;2\n0.2;3\n")
    refused(f"{place}, line 1: the first row must name its columns as 'label [unit]'.", read, place)
    place = csv(tmp_path, "# one\n\n0;1\n0.1;2\n0.2;3\n")
    refused(f"{place}, line 3: the first row must name its columns as 'label [unit]'.", read, place)
    place = csv(tmp_path, "time [s];a [V]\n0;1\n")
    refused(f"{place}: there are fewer than two rows of numbers below the first row.", read, place)
    place = csv(tmp_path, "a [V]\n1\n2\n")
    refused(f"{place}: no rate: put a 'time [s]' column first, or a line '# rate_hz=...' above.", read, place)
    place = csv(tmp_path, "# rate_hz=-3\na [V]\n1\n2\n")
    refused(f"{place}: '# rate_hz=-3' gives no rate: write '# rate_hz=51200'.", read, place)
    place = csv(tmp_path, "time [s]\n0\n0.1\n")
    refused(f"{place}: there is no column beside the time.", read, place)
    made = read(csv(tmp_path, "# rate_hz=12,5\na [V]\t [mV]\n1\t2\n2\t3\n3\t5\n"))
    assert made.channels[0].rate == 12.5 and made.labels == ["a", "ch2"] and made.channels[1].unit == "mV"
    assert made.channels[1].samples().tolist() == [2, 3, 5] and made.meta["format"] == "csv"
    for text, encoding in (('sep=;\n"time [s]";"a, wide [V]"\n0,0;1,5\n0,5;2,5\n1,0;3,5\n', "utf-8"),
                           ("time [s];a, wide [V]\n0,0;1,5\n0,5;2,5\n1,0;3,5\n", "utf-16")):  # fmt: skip
        made = read(csv(tmp_path, text, encoding=encoding))
        assert made.labels == ["a, wide"] and made.channels[0].samples().tolist() == [1.5, 2.5, 3.5]
        assert made.channels[0].rate == 2 and made.source == str(tmp_path / "r.csv")
    place = csv(tmp_path, 'sep=;\n"time [s]";"a [V]"\n0;1\n1;x\n2;3\n')
    refused(f"{place}, line 4, column 2: 'x' is not a number: mend that cell.", read, place)


@pytest.mark.parametrize(("head", "log"), [
    ("time [s];a", True), ("t,a", True), ("Date;a", True), ('"datetime";a', True), ("timestamp\ta", True),
    ("sep=;\ntime;a", True), ("# note\n\ntime;a", True), ("a [V];time", False), ("times;a", False), ("", False),
])  # fmt: skip
def test_whether_a_text_is_a_loggers(tmp_path: Path, head: str, log: bool) -> None:
    for encoding in ("utf-8", "utf-8-sig", "utf-16"):
        assert _is_log(csv(tmp_path, head + "\n0;1\n", encoding=encoding)) is log
    assert not _is_log(tmp_path / "nowhere.csv")


# --- matrices, spreadsheets --------------------------------------------------------------------------------------------


def mat(folder: Path, **held: Any) -> Path:
    place = folder / "m.mat"
    scipy.io.savemat(str(place), held)
    return place


@pytest.mark.parametrize("key", ["rate_hz", "fs", "Fs", "rate"])
def test_a_matrix_by_every_name_of_its_rate(tmp_path: Path, key: str) -> None:
    table = np.arange(20.0).reshape(10, 2)
    for held in (table, table.T):  # a row a channel is understood too
        made = read(mat(tmp_path, data=held, **{key: 50.0}))
        assert [c.samples().tolist() for c in made.channels] == table.T.tolist() and made.channels[0].rate == 50
        assert made.labels == ["ch1", "ch2"] and made.channels[0].unit == "" and made.meta["format"] == "mat"


def test_a_matrix_names_all_of_its_channels_or_none(tmp_path: Path) -> None:
    table = np.arange(20.0).reshape(10, 2)
    made = read(mat(tmp_path, data=table, fs=50.0, labels=np.array(["a", "b"], object), units=np.array(["V", "N"], object)))
    assert made.labels == ["a", "b"] and [c.unit for c in made.channels] == ["V", "N"]
    place = mat(tmp_path, data=table, fs=50.0, labels=np.array(["a"], object))
    refused(f"{place}: it has 2 channels and 1 labels: give one for each.", read, place)  # none is lost in silence
    place = mat(tmp_path, data=table, fs=50.0, units=np.array(["V", "N", "m"], object))
    refused(f"{place}: it has 2 channels and 3 units: give one for each.", read, place)
    vectors = read(mat(tmp_path, a=np.arange(9.0), b=np.arange(9.0) ** 2, t=np.arange(9.0) * 20, time_unit="ms"))
    assert sorted(vectors.labels) == ["a", "b"] and vectors.channels[0].rate == 50
    for held, said in (({"a": np.arange(9.0)}, "no rate: it needs a number 'rate_hz', or a vector 'time' in seconds."),
                       ({"fs": 50.0}, "there is no vector of samples in it."),
                       ({"fs": -1.0, "a": np.arange(9.0)},
                        "no rate: it needs a number 'rate_hz', or a vector 'time' in seconds."),
                       ({"fs": 50.0, "a": np.array([1.0, np.nan])}, "a channel holds values that are not numbers."),
                       ({"fs": 50.0, "a": np.array([1.0, 2j])},
                        "it holds complex samples, which are no time record: give real ones.")):  # fmt: skip
        place = mat(tmp_path, **held)
        refused(f"{place}: {said}", read, place)


def test_a_matrix_that_is_cut_says_by_how_much(tmp_path: Path) -> None:
    place = mat(tmp_path, data=np.arange(20.0).reshape(10, 2), rate_hz=50.0)
    whole = place.read_bytes()
    check_mat(place)
    place.write_bytes(whole[:-3])
    with pytest.raises(BadInput, match=r"the file is cut: 3 bytes are missing; take it whole\."):
        check_mat(place)
    place.write_bytes(whole + b"\0\0\0")
    with pytest.raises(BadInput, match=r"the file is cut in an element; take it whole\."):
        check_mat(place)
    place.write_bytes(whole[:100])
    check_mat(place)  # too short to be one at all: its own reader says so


def sheet(folder: Path, rows: list[list[Any]], about: list[list[Any]] | None = None) -> Path:
    book = openpyxl.Workbook()
    for row in rows:
        book.active.append(row)
    if about:
        more = book.create_sheet("about")
        for row in about:
            more.append(row)
    place = folder / "s.xlsx"
    book.save(place)
    return place


def test_spreadsheets(tmp_path: Path) -> None:
    made = read(sheet(tmp_path, [["time [ms]", "a [V]"], [0, 1], [20, 2]]))
    assert made.channels[0].rate == 50 and made.channels[0].samples().tolist() == [1, 2] and made.channels[0].unit == "V"
    made = read(sheet(tmp_path, [["a [V]", None], [1, 4], [2, 5], [None, None], [3, 6]], [["rate_hz", 25], ["a.serial", "S"]]))
    assert made.labels == ["a", "ch1"] and made.channels[0].samples().tolist() == [1, 2, 3]
    assert made.channels[0].rate == 25 and made.channels[0].meta["serial"] == "S"
    for rows, said in (
        ([["time [s]", "a [V]"], [0, 1]], "a heading row and at least two rows of numbers are needed."),
        ([[0, 1], [1, 2], [2, 3]], "a heading row and at least two rows of numbers are needed."),
        ([["time [s]", "a [V]"], [0, 1], [1, None]], "a cell below the heading is empty or no number: mend the sheet."),
        ([["a [V]"], [1], [2]], "no rate: a first column 'time [s]' is needed, or rate_hz on a sheet 'about'."),
        ([["time since start", "a [V]"], [0, 1], [1, 2]],
         "'time since start' does not say its unit: head the time like 'time [s]'."),
        ([["time [V]", "a [V]"], [0, 1], [1, 2]],
         "the time is in 'V', which is no time: name its column like 'time [s]'."),
        ([["time [s]", "a [V]"], [0, 1], [1, 2], [3, 3]],
         "time steps are uneven by more than 0.1 %: resample to an even rate."),
    ):  # fmt: skip
        place = sheet(tmp_path, rows)
        refused(f"{place}: {said}", read, place)


# --- sound, universal files --------------------------------------------------------------------------------------------


def record(rate: float = 2000.0, count: int = 2, length: int = 64) -> Recording:
    x = np.arange(length, dtype=float)
    return Recording("here", tuple(channel_of(f"c{i}", "V", rate, x * (i + 1)) for i in range(count)))


@pytest.mark.parametrize(("ending", "kind"), [(".wav", "WAV"), (".w64", "W64"), (".rf64", "RF64")])
def test_sound_files_are_of_the_kind_that_their_ending_says(tmp_path: Path, ending: str, kind: str) -> None:
    place = tmp_path / f"s{ending}"
    write(place, record())
    assert soundfile.info(str(place)).format == kind and soundfile.info(str(place)).subtype == "DOUBLE"
    made = read(place)
    assert made.meta["format"] == "wav" and made.channels[1].samples().tolist() == (2 * np.arange(64.0)).tolist()
    whole = place.read_bytes()
    check_sound(place)
    place.write_bytes(whole[:-8])
    with pytest.raises(BadInput, match="the file is cut"):
        check_sound(place)


def test_a_chunk_that_is_not_known_is_passed_over(tmp_path: Path) -> None:
    place = tmp_path / "s.wav"
    soundfile.write(str(place), np.zeros(50), 1000, subtype="PCM_16")
    whole = place.read_bytes()
    for extra in (b"odd\0" + struct.pack("<I", 3) + b"abc\0", b"even" + struct.pack("<I", 4) + b"abcd"):
        place.write_bytes(whole[:12] + extra + whole[12:])
        check_sound(place)
        place.write_bytes((whole[:12] + extra + whole[12:])[:-10])
        refused(f"{place}: the file is cut: its header says 100 bytes of samples and 90 are there; take it whole.",
                check_sound, place)  # fmt: skip
    place.write_bytes(whole[: whole.index(b"data")])
    refused(f"{place}: the file is cut: there are no samples in it; take it whole.", check_sound, place)


def test_writers_refuse_what_their_format_can_not_hold(tmp_path: Path) -> None:
    x = np.arange(8.0)
    two = Recording("here", (channel_of("a", "V", 10.0, x), channel_of("b", "V", 20.0, x)))
    for ending in (".csv", ".wav", ".mat", ".xlsx"):
        place = tmp_path / f"two{ending}"
        part = place.with_name(f".two.part{ending}")
        refused(f"{part}: the channels differ in rate or length, which this format can't hold: use .h5.", write, place, two)
    place = tmp_path / "odd.wav"
    refused(f"{place.with_name('.odd.part.wav')}: a rate of 10.5 Hz is not whole, which this format needs.", write, place,
            record(10.5))  # fmt: skip
    refused("here: there is no channel to write.", write, tmp_path / "none.csv", Recording("here", ()))
    place = tmp_path / "r.csv"
    marked = Recording("here", (channel_of("a,b", "V", 10.0, x),))
    refused(f"{place.with_name('.r.part.csv')}: the label 'a,b' can't stand in a CSV row: rename that channel.", write, place,
            marked)  # fmt: skip
    assert list(tmp_path.iterdir()) == []


def test_universal_files_say_what_is_wrong(tmp_path: Path) -> None:
    import pyuff

    base = {"type": 58, "func_type": 1, "rsp_node": 1, "rsp_dir": 1, "ref_dir": 1, "ref_node": 1, "binary": 0, "id1": "NONE",
            "data": np.arange(8.0), "x": np.arange(8.0) * 20, "abscissa_spacing": 1, "abscissa_inc": 20.0, "abscissa_min": 0,
            "abscissa_axis_units_lab": "ms", "ordinate_axis_units_lab": "NONE"}  # fmt: skip
    for axis in ("abscissa", "ordinate", "orddenom", "z_axis"):
        for name in ("spec_data_type", "len_unit_exp", "force_unit_exp", "temp_unit_exp"):
            base[f"{axis}_{name}"] = 0
        for name in ("axis_lab", "axis_units_lab"):
            base.setdefault(f"{axis}_{name}", "NONE")

    def made(**more: Any) -> Path:
        place = tmp_path / "u.uff"
        place.unlink(missing_ok=True)
        pyuff.UFF(str(place)).write_sets({**base, **more}, "overwrite")
        return place

    held = read(made())
    assert held.labels == ["ch1"] and held.channels[0].unit == "" and held.channels[0].rate == 50
    assert held.channels[0].samples().tolist() == list(range(8)) and held.meta["format"] == "uff58"
    place = made(abscissa_inc=0.0, x=np.zeros(8))
    refused(f"{place}: ch1 states no step of time: write it with an even abscissa.", read, place)
    assert read(made(abscissa_spacing=0, x=np.arange(8.0) * 4)).channels[0].rate == 250
    place = made(func_type=4)
    refused(f"{place}: there is no time record (dataset 58, function type 1) in it.", read, place)
    place = made(data=np.arange(8) * 1j)
    refused(f"{place}: ch1 holds complex samples, which are no time record: give real ones.", read, place)
    ours = tmp_path / "ours.uff"
    write(ours, record(count=3))
    sets = [pyuff.UFF(str(ours)).read_sets(i) for i in range(3)]
    assert [s["id1"] for s in sets] == ["c0", "c1", "c2"] and [s["rsp_node"] for s in sets] == [1, 2, 3]
    assert {s["abscissa_inc"] for s in sets} == {5e-4} and {s["ordinate_axis_units_lab"] for s in sets} == {"V"}
    assert np.array_equal(sets[2]["data"], 3 * np.arange(64.0)) and sets[0]["abscissa_axis_units_lab"] == "s"
    assert read(ours).channels[2].rate == 2000


def test_what_is_no_record(tmp_path: Path) -> None:
    refused(f"{tmp_path / 'no.csv'}: there is no such file.", read, tmp_path / "no.csv")
    refused(f"{tmp_path}: this is a folder, not a record.", read, tmp_path)
    place = tmp_path / "a.docx"
    place.write_text("x")
    with pytest.raises(BadInput, match=r"the ending '\.docx' is not known: use one of \.csv"):
        read(place)
    with pytest.raises(BadInput, match=r"the ending '\.docx' can't be written"):
        write(tmp_path / "b.docx", record())
    csv(tmp_path, "x")
    refused(f"{tmp_path / 'r.csv'}: it exists already: choose another name.", write, tmp_path / "r.csv", record())
    refused(f"{tmp_path / 'no' / 'r.csv'}: the folder {tmp_path / 'no'} does not exist: make it first.", write,
            tmp_path / "no" / "r.csv", record())  # fmt: skip
    refused(f"{tmp_path / 'q.csv'}: a record needs two samples at least in each channel: take a longer stretch.", write,
            tmp_path / "q.csv", record(length=1))  # fmt: skip


# --- and what else a small fault could change --------------------------------------------------------------------------


def test_a_folder_is_read_by_the_record_in_it_and_a_log_only_where_logs_are_wanted(tmp_path: Path) -> None:
    write(tmp_path / "raw.h5", record())
    assert read(tmp_path).channels[1].samples().tolist() == (2 * np.arange(64.0)).tolist()
    uneven = csv(tmp_path, "time [s];a [V]\n0;1\n1;2\n3;4\n7;8\n")
    assert read(uneven, logs=True).channels[0].time().tolist() == [0, 1, 3, 7]
    with pytest.raises(BadInput, match="uneven"):
        read(uneven)
    place = tmp_path / "even.mat"
    write(place, record())
    assert read(place, logs=True).labels == ["c0", "c1"]


def test_sound_files_of_few_samples(tmp_path: Path) -> None:
    place = tmp_path / "few.wav"
    soundfile.write(str(place), np.array([0.25, -0.5]), 8000, subtype="DOUBLE")
    made = read(place)
    assert made.channels[0].samples().tolist() == [0.25, -0.5] and made.labels == ["ch1"] and made.source == str(place)
    soundfile.write(str(place), np.array([0.25]), 8000, subtype="DOUBLE")
    refused(f"{place}: the sound file holds no samples.", read, place)
    ours = tmp_path / "ours.wav"
    write(ours, record())
    assert read(ours).source == str(ours) and read(ours).labels == ["c0", "c1"]


def test_spreadsheets_with_the_record_on_another_sheet(tmp_path: Path) -> None:
    book = openpyxl.Workbook()
    book.active.title = "cover"
    book.active.append(["Made by hand"])
    held = book.create_sheet("record")
    for row in (["t", "a [V]"], [0, 1], [0.5, 2], [1, 4]):
        held.append(row)
    more = book.create_sheet("about")
    more.append(["a.note", "x"])
    more.append(["a.fixed.torque", 2])
    place = tmp_path / "two.xlsx"
    book.save(place)
    made = read(place)
    assert made.channels[0].rate == 2 and made.channels[0].samples().tolist() == [1, 2, 4]
    assert dict(made.channels[0].meta) == {"note": "x", "fixed.torque": 2}
    ours = tmp_path / "ours.xlsx"
    write(ours, record())
    there = openpyxl.load_workbook(ours)
    assert there.sheetnames[:2] == ["record", "about"] and there["about"]["A2"].value == "rate_hz"
    assert there["about"]["B2"].value == 2000 and there["record"]["A1"].value == "time [s]"


def test_times_of_matrices(tmp_path: Path) -> None:
    a = np.arange(4.0)
    assert read(mat(tmp_path, a=a, time=np.arange(4) * 0.1)).channels[0].rate == 10
    assert read(mat(tmp_path, a=a[:2], time=np.array([0.0, 0.25]))).channels[0].rate == 4
    assert read(mat(tmp_path, a=a, time=np.arange(4) / 3.3)).channels[0].rate == pytest.approx(3.3)
    for time in ([0, 0.1, np.nan, 0.3], [0.3, 0.2, 0.1, 0.0], [0, 0.1, 0.2, 0.35]):
        place = mat(tmp_path, a=a, time=np.array(time))
        refused(f"{place}: time steps are uneven by more than 0.1 %: resample to an even rate.", read, place)
    place = mat(tmp_path, a=a, time=a, time_unit="V")
    refused(f"{place}: the time is in 'V', which is no time: name its column like 'time [s]'.", read, place)
    vector = read(mat(tmp_path, a=a, b=np.array([7.0]), fs=5.0))  # a number is no channel
    assert vector.labels == ["a"]


def test_a_rate_of_nothing_and_marks_in_capitals(tmp_path: Path) -> None:
    place = csv(tmp_path, "# rate_hz=0\na [V]\n1\n2\n")
    refused(f"{place}: '# rate_hz=0' gives no rate: write '# rate_hz=51200'.", read, place)
    made = read(csv(tmp_path, 'SEP=;\n"time [s]";"a [V]"\n0;1\n0.5;2\n1;3\n'))
    assert made.labels == ["a"] and made.channels[0].rate == 2
    plain = read(csv(tmp_path, "# rate_hz=10\r\na [V],b\r\n1,4\r\n2,5\r\n3,6\r\n"))
    assert plain.labels == ["a", "b"] and plain.channels[1].samples().tolist() == [4, 5, 6]
    cut = tmp_path / "cut.uff"
    write(cut, record(count=1))
    text = cut.read_text().replace("        64 ", "        65 ", 1)
    cut.write_text(text)
    with pytest.raises(BadInput, match=r"c0 is cut: 65 samples are stated and 64 are there; take it whole"):
        read(cut)


def test_writing_says_what_the_disk_says(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    from lucid_anvil.formats import files

    def full(_path: Path, _recording: Recording) -> None:
        raise OSError(28, "No space left on device")

    monkeypatch.setitem(files._WRITERS, ".csv", full)
    refused(f"{tmp_path / 'r.csv'}: it can't be written (No space left on device).", write, tmp_path / "r.csv", record())
    write(tmp_path / "two.mat", record(length=2))
    assert read(tmp_path / "two.mat").channels[0].samples().tolist() == [0, 1]


@pytest.mark.parametrize(
    ("row", "says"),
    [("0,3; 2,0; 3", "line 5: 3 cells where the first row has 2"), ("0,3; inf", "line 5, column 2: 'inf' is not a number"),
     ("0,3; loud", "line 5, column 2: 'loud' is not a number"), ("x; 4,0", "line 5, column 1: 'x' is not a number")],
)  # fmt: skip
def test_a_cell_among_blanks_and_decimal_commas_is_named(tmp_path: Path, row: str, says: str) -> None:
    place = tmp_path / "a.csv"
    place.write_text(f"time; a\n0,0; 1,0\n0,1; 1,5\n0,2; 2,0\n{row}\n0,4; 2,0\n")
    with pytest.raises(BadInput, match=says):
        read(place)
    place.write_text("time; a\n0,0; 1,0\n0,1; 1,5\n0,2; 2,0\n")
    assert read(place).channel("a").samples() == pytest.approx([1.0, 1.5, 2.0])


def test_whole_numbers_between_commas_are_no_decimals(tmp_path: Path) -> None:
    place = tmp_path / "a.csv"
    place.write_text("time,a\r\n0,10\r\n1,12\r\n2,15\r\n")
    held = read(place)
    assert held.labels == ["a"] and held.channel("a").samples() == pytest.approx([10.0, 12.0, 15.0])


def mat_of(order: str, *elements: tuple[int, bytes]) -> bytes:
    """A MAT version 5 file of raw elements (kind, data), each padded to eight bytes but compressed ones."""
    made = b"a".ljust(124) + struct.pack(order + "H", 0x0100) + (b"IM" if order == "<" else b"MI")
    for kind, data in elements:
        made += struct.pack(order + "II", kind, len(data)) + data
        made += b"\0" * (-len(data) % 8 if kind != 15 else 0)
    return made


@pytest.mark.parametrize("order", ["<", ">"])
def test_elements_of_a_matrix_file_are_followed_to_its_end(tmp_path: Path, order: str) -> None:
    place = tmp_path / "a.mat"
    whole = mat_of(order, (14, b"x" * 13), (15, b"y" * 13), (14, b"z" * 20))
    place.write_bytes(whole)
    check_mat(place)
    place.write_bytes(whole[:-8])  # padding and four bytes of the last one
    with pytest.raises(BadInput, match=r": 4 bytes are missing"):
        check_mat(place)
    place.write_bytes(mat_of(order, (14, b"x" * 12)) + b"abc")
    with pytest.raises(BadInput, match="cut in an element"):
        check_mat(place)


def test_a_sound_of_no_samples_is_whole(tmp_path: Path) -> None:
    place = tmp_path / "a.wav"
    form = b"fmt " + struct.pack("<IHHIIHH", 16, 1, 1, 8000, 16000, 2, 16)
    place.write_bytes(b"RIFF" + struct.pack("<I", 4 + len(form) + 8) + b"WAVE" + form + b"data" + struct.pack("<I", 0))
    check_sound(place)
    place.write_bytes(place.read_bytes()[:-1])
    with pytest.raises(BadInput, match="no samples in it"):
        check_sound(place)


def test_a_universal_file_states_what_it_holds(tmp_path: Path) -> None:
    place = tmp_path / "a.uff"
    write(place, Recording("r", (channel_of("control", "m/s^2", 1000.0, np.arange(10.0)),)))
    lines = place.read_text().splitlines()
    at = next(i for i, line in enumerate(lines) if line.strip() == "58")
    kind, count, even, start, step, _ = lines[at + 7].split()
    assert (int(kind), int(count), int(even), float(start)) == (4, 10, 1, 0.0) and float(step) == pytest.approx(1e-3)
    assert lines[at + 6].split() == ["1", "0", "0", "0", "NONE", "1", "0", "NONE", "0", "0"]
    assert [lines[at + k].split() for k in (8, 9, 10)] == [
        ["0", "0", "0", "0", "time", "s"], ["0", "0", "0", "0", "control", "m/s^2"], ["0", "0", "0", "0", "NONE", "NONE"]]  # fmt: skip
    assert lines[at + 1].strip() == "control"
