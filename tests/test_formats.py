"""Files in and out: the same numbers come back, and bad ones are told in one sentence."""

from __future__ import annotations

from pathlib import Path

import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from lucid_anvil.contracts.recording import channel_of
from lucid_anvil.core.errors import BadInput
from lucid_anvil.formats import Recording, read, write
from lucid_anvil.formats.csvfile import split_label


def sample(n: int = 500, rate: float = 51200.0) -> Recording:
    rng = np.random.default_rng(1)
    return Recording(
        "made",
        (
            channel_of("reference", "V", rate, rng.normal(size=n)),
            channel_of("unit out", "mV", rate, 100 * rng.normal(size=n)),
        ),
    )


@pytest.mark.parametrize("ending", [".csv", ".wav", ".w64", ".rf64", ".uff", ".mat", ".h5"])
def test_what_is_written_comes_back(tmp_path: Path, ending: str) -> None:
    place = tmp_path / f"record{ending}"
    write(place, sample())
    back = read(place)
    assert len(back.channels) == 2
    for before, after in zip(sample().channels, back.channels, strict=True):
        assert after.rate == pytest.approx(before.rate, rel=1e-6)
        assert after.samples() == pytest.approx(before.samples(), rel=1e-6, abs=1e-9)
        if ending not in (".wav", ".w64", ".rf64"):
            assert (after.label, after.unit) == (before.label, before.unit)
    assert list(tmp_path.iterdir()) == [place]


def test_conversion_chain_keeps_the_numbers(tmp_path: Path) -> None:
    write(tmp_path / "a.h5", sample())
    for before, after in (("a.h5", "b.mat"), ("b.mat", "c.uff"), ("c.uff", "d.csv"), ("d.csv", "e.h5")):
        write(tmp_path / after, read(tmp_path / before))
    assert read(tmp_path / "e.h5").channel("unit out").samples() == pytest.approx(
        sample().channels[1].samples(), rel=1e-6
    )


def test_a_file_that_exists_is_never_written_over(tmp_path: Path) -> None:
    place = tmp_path / "x.csv"
    place.write_text("mine")
    with pytest.raises(BadInput, match="exists already"):
        write(place, sample())
    assert place.read_text() == "mine"


def put(tmp_path: Path, text: str, name: str = "r.csv") -> Path:
    place = tmp_path / name
    place.write_text(text, encoding="utf-8")
    return place


def test_csv_with_time_semicolons_and_decimal_comma(tmp_path: Path) -> None:
    rows = "".join(f"{i / 1000:.4f};{i};{-i / 2}\n".replace(".", ",") for i in range(50))
    record = read(put(tmp_path, "time [s];a [mV];b [V]\n" + rows))
    assert record.channels[0].rate == pytest.approx(1000)
    assert record.labels == ["a", "b"]
    assert record.channels[1].samples()[3] == -1.5


def test_csv_with_tabs_rate_line_blanks_and_bom(tmp_path: Path) -> None:
    place = tmp_path / "r.csv"
    place.write_bytes(b"\xef\xbb\xbf# rate_hz=2000\n# anything\na [V]\tb [g]\n 1\t2 \n3\t4\n")
    record = read(place)
    assert record.channels[0].rate == 2000
    assert record.channel("b").in_unit("m/s^2").samples() == pytest.approx([19.6133, 39.2266])


def test_csv_time_in_milliseconds(tmp_path: Path) -> None:
    record = read(put(tmp_path, "time [ms],a [V]\n0,1\n0.5,2\n1.0,3\n"))
    assert record.channels[0].rate == pytest.approx(2000)


@pytest.mark.parametrize(
    ("text", "words"),
    [
        ("", "empty"),
        ("1,2\n3,4\n", "first row must name"),
        ("time [s],a [V]\n0,1\n", "fewer than two rows"),
        ("a [V],b [V]\n1,2\n3,4\n", "no rate"),
        ("time [s],a [V]\n0,1\n0.1,x\n0.2,3\n", "line 3, column 2"),
        ("time [s],a [V]\n0,1\n0.1,2,7\n0.2,3\n", "line 3"),
        ("time [s],a [V]\n0,1\n0.1\n0.2,3\n", "line 3"),
        ("time [s],a [V]\n0,1\n0.1,nan\n0.2,3\n", "line 3"),
        ("time [s],a [V]\n0,1\n0.1,2\n0.1,3\n", "does not rise"),
        ("time [s],a [V]\n0,1\n0.1,2\n0.2005,3\n0.3,4\n", "uneven"),
        ("# rate_hz=fast\na [V]\n1\n2\n", "gives no rate"),
        ("# rate_hz=-5\na [V]\n1\n2\n", "gives no rate"),
        ("time [s]\n0\n1\n2\n", "no column beside"),
        ("time [foo],a [V]\n0,1\n1,2\n", "not known"),
    ],
)
def test_bad_csv_is_told_with_its_place(tmp_path: Path, text: str, words: str) -> None:
    with pytest.raises(BadInput, match=words) as caught:
        read(put(tmp_path, text))
    assert "\n" not in str(caught.value)


@pytest.mark.parametrize(
    ("name", "content", "words"),
    [
        ("x.wav", b"not a wav", "sound file"), ("x.mat", b"no", "MAT"), ("x.uff", b"no", "universal file|time record"),
        ("x.h5", b"no", "HDF5"), ("x.foo", b"", "ending"), ("x.csv", b"\xff\xfe\x00", "UTF-8"),
    ],
)  # fmt: skip
def test_bad_files_of_every_kind(tmp_path: Path, name: str, content: bytes, words: str) -> None:
    place = tmp_path / name
    place.write_bytes(content)
    with pytest.raises(BadInput, match=words) as caught:
        read(place)
    assert str(place) in str(caught.value)


def test_missing_and_folder(tmp_path: Path) -> None:
    with pytest.raises(BadInput, match="no such file"):
        read(tmp_path / "no.csv")
    with pytest.raises(BadInput, match="folder"):
        read(tmp_path)


def test_what_a_format_cannot_hold_is_refused_and_nothing_is_left(tmp_path: Path) -> None:
    two_rates = Recording("m", (channel_of("a", "V", 100, np.zeros(5)), channel_of("b", "V", 200, np.zeros(5))))
    for name in ("x.csv", "x.wav", "x.mat"):
        with pytest.raises(BadInput, match="differ in rate"):
            write(tmp_path / name, two_rates)
    with pytest.raises(BadInput, match="not whole"):
        write(tmp_path / "x.wav", Recording("m", (channel_of("a", "V", 100.5, np.zeros(5)),)))
    with pytest.raises(BadInput, match="label"):
        write(tmp_path / "x.csv", Recording("m", (channel_of("a,b", "V", 100, np.zeros(5)),)))
    with pytest.raises(BadInput, match="does not exist"):
        write(tmp_path / "no" / "x.csv", sample())
    assert list(tmp_path.iterdir()) == []


def test_plain_mat_vectors(tmp_path: Path) -> None:
    import scipy.io

    place = tmp_path / "v.mat"
    scipy.io.savemat(place, {"time": np.arange(10) / 500, "force": np.arange(10.0)})
    record = read(place)
    assert record.channels[0].label == "force"
    assert record.channels[0].rate == pytest.approx(500)
    scipy.io.savemat(place, {"force": np.arange(10.0)})
    with pytest.raises(BadInput, match="no rate"):
        read(place)


def test_integer_wav_has_full_scale_one(tmp_path: Path) -> None:
    import soundfile

    place = tmp_path / "i.wav"
    soundfile.write(place, np.array([0.5, -0.5, 0.25]), 8000, subtype="PCM_16")
    record = read(place)
    assert record.channels[0].samples() == pytest.approx([0.5, -0.5, 0.25], abs=1e-4)
    assert record.channels[0].meta["full_scale"]


def test_roles_by_label_number_and_equal_names() -> None:
    r = sample()
    assert r.roles({"unit": "2"}, ("reference", "unit"))["unit"].label == "unit out"
    assert r.roles({"unit": "unit out [mV]"}, ("reference", "unit"))["unit"].unit == "mV"
    with pytest.raises(BadInput, match="no channel for the role 'unit'"):
        r.roles({}, ("reference", "unit"))
    with pytest.raises(BadInput, match="no channel 'x'"):
        r.roles({"unit": "x"}, ("reference", "unit"))
    with pytest.raises(BadInput, match="not one of"):
        r.roles({"foo": "1"}, ("reference", "unit"))
    one = Recording("m", (channel_of("whatever", "V", 10, np.zeros(3)),))
    assert one.roles({}, ("output",))["output"].label == "whatever"


@given(
    st.text(
        st.characters(blacklist_characters='[]\n\r"', blacklist_categories=("Cs", "Cc", "Zs", "Zl", "Zp")), min_size=1
    )
)
def test_label_and_unit_come_apart(label: str) -> None:
    assert split_label(f"{label} [mV/(m/s²)]") == (label.strip(), "mV/(m/s²)")


@settings(max_examples=20, deadline=None)
@given(st.lists(st.floats(-1e6, 1e6, width=32), min_size=2, max_size=30), st.integers(0, 40), st.integers(0, 40))
def test_pieces_of_a_channel_are_slices(values: list[float], a: int, b: int) -> None:
    c = channel_of("x", "V", 100.0, np.array(values))
    whole = c.samples()
    assert np.array_equal(c.samples(a, b), whole[min(a, len(whole)) : max(min(b, len(whole)), min(a, len(whole)))])


@pytest.mark.parametrize("ending", ["wav", "rf64", "mat", "uff", "xlsx", "h5"])
def test_what_is_known_of_a_channel_travels_with_it(tmp_path: Path, ending: str) -> None:
    facts = {"sensor": "GA-11", "sensitivity": 9.87, "range": 10.0}
    x = np.sin(np.arange(2000) / 7)
    made = Recording("x", (channel_of("unit", "m/s²", 4800.0, x, facts), channel_of("ref", "V", 4800.0, 2 * x)))
    write(tmp_path / f"r.{ending}", made)
    back = read(tmp_path / f"r.{ending}")
    assert [c.label for c in back.channels] == ["unit", "ref"]
    assert {k: back.channels[0].meta[k] for k in facts} == facts
    assert "sensor" not in back.channels[1].meta
    assert np.allclose(back.channels[1].samples(), 2 * x)
    assert back.channels[0].unit.replace("^2", "²") == "m/s²" and not back.channels[0].meta.get("full_scale")


def test_a_foreign_comment_is_no_metadata(tmp_path: Path) -> None:
    import soundfile

    for text in ("take three", '{"lucid-anvil": 1, "channels": []}', '{"lucid-anvil": broken'):
        place = tmp_path / f"{len(text)}.wav"
        with soundfile.SoundFile(str(place), "w", 8000, 1, "PCM_16") as file:
            file.comment = text
            file.write(np.zeros(100))
        assert read(place).channels[0].label == "ch1" and read(place).channels[0].meta["full_scale"]
