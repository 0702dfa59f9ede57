"""Small parts of the window: what meaning rests on is drawn, with words and shapes and not by colour alone."""

from __future__ import annotations

from typing import Any

import numpy as np
import pytest
from PyQt6.QtCore import QRectF, Qt
from PyQt6.QtGui import QColor, QImage, QPainter
from PyQt6.QtTest import QTest
from PyQt6.QtWidgets import QWidget
from tests.test_soundcard import card_rig

from lucid_anvil.core.errors import BadInput
from lucid_anvil.core.signal.filterwords import bands_of, text_of
from lucid_anvil.desktop.parts import theme
from lucid_anvil.desktop.parts.widgets import Bar, Elided, Tabs, Verdict, draw_verdict, three
from lucid_anvil.domains.amplifier.window.card_view import HookUp


def pixels(widget: QWidget) -> np.ndarray:
    """(height, width, 3)"""
    image = widget.grab().toImage().convertToFormat(QImage.Format.Format_RGB888)
    held = image.constBits()
    held.setsize(image.sizeInBytes())
    rows = np.frombuffer(held, np.uint8).reshape(image.height(), image.bytesPerLine())
    return np.array(rows[:, : 3 * image.width()].reshape(image.height(), image.width(), 3))


def near(picture: np.ndarray, colour: QColor, within: int = 6) -> np.ndarray:
    """Where a picture has about that colour."""
    wanted = np.array([colour.red(), colour.green(), colour.blue()])
    return np.all(np.abs(picture.astype(int) - wanted) <= within, axis=2)


def glyph(verdict: str) -> np.ndarray:
    """A verdict's shape: where anything is drawn at all."""
    image = QImage(40, 20, QImage.Format.Format_RGB888)
    image.fill(QColor("white"))
    painter = QPainter(image)
    draw_verdict(painter, verdict, QRectF(2, 2, 36, 16))
    painter.end()
    held = image.constBits()
    held.setsize(image.sizeInBytes())
    rows = np.frombuffer(held, np.uint8).reshape(20, image.bytesPerLine())[:, :120].reshape(20, 40, 3)
    return np.array(rows.min(axis=2) < 200)


def test_verdicts_differ_by_shape_not_only_by_colour(qapp: Any) -> None:
    shapes = {v: glyph(v) for v in ("inside", "outside", "open", "running", "none")}
    share = {v: float(s[2:18, 2:38].mean()) for v, s in shapes.items()}
    assert share["inside"] > 0.95  # a solid bar
    assert 0.4 < share["open"] < 0.6  # half of it
    assert share["outside"] < 0.4 and shapes["outside"][10, 20]  # strokes that cross in the middle
    assert 0.4 < share["running"] < 0.7 and not shapes["running"][10, 12]  # strokes with gaps
    assert share["none"] < 0.25 and not shapes["none"][10, 20]  # hollow
    names = list(shapes)
    for i, a in enumerate(names):
        for b in names[i + 1 :]:
            assert np.mean(shapes[a] != shapes[b]) > 0.1, (a, b)


def test_a_verdict_says_its_word_too(qtbot: Any) -> None:
    one = Verdict()
    qtbot.addWidget(one)
    for verdict, word in theme.VERDICT_WORDS.items():
        one.set(verdict)
        assert one.toolTip() == word


@pytest.mark.parametrize(("used", "share"), [(0.0, 0.0), (0.5, 0.4), (1.0, 0.8), (1.25, 1.0), (9.0, 1.0), (-1.0, 0.0)])
def test_a_bar_is_as_long_as_what_is_used_of_its_span(qtbot: Any, used: float, share: float) -> None:
    bar = Bar()
    qtbot.addWidget(bar)
    bar.resize(200, bar.height())
    bar.set(used, "teal", mark=None)
    filled = near(pixels(bar), theme.color("teal"))[bar.height() // 2]
    assert filled.mean() == pytest.approx(share, abs=0.02)
    assert not filled[int(share * 200) + 2 :].any()


def test_a_bars_doubt_and_mark_stand_where_they_should(qtbot: Any) -> None:
    bar = Bar()
    qtbot.addWidget(bar)
    bar.resize(250, bar.height())
    bar.set(0.5, "sand", doubt=0.25, mark=1.0)
    ink = near(pixels(bar), theme.color("ink"), 60)
    whisker = np.flatnonzero(ink[bar.height() // 2])
    assert whisker.min() == pytest.approx(50, abs=3)  # 0.25 of 1.25
    top = np.flatnonzero(ink[0])
    assert top.size and top.mean() == pytest.approx(200, abs=2)  # 1 of 1.25
    assert 150 in [pytest.approx(x, abs=3) for x in whisker]


def test_tabs_choose_by_hand_and_by_name(qtbot: Any) -> None:
    tabs = Tabs([("a", "First"), ("b", "Second"), ("c", "Third")])
    qtbot.addWidget(tabs)
    tabs.show()
    chosen: list[str] = []
    tabs.chosen.connect(chosen.append)
    assert tabs.now == "a"
    QTest.mouseClick(tabs.buttons["b"], Qt.MouseButton.LeftButton)
    assert tabs.now == "b" and chosen == ["b"]
    tabs.choose("c", quiet=True)
    assert tabs.now == "c" and chosen == ["b"]
    assert [k for k, b in tabs.buttons.items() if b.isChecked()] == ["c"]


def test_a_long_line_is_shortened_and_kept_whole_in_its_tip(qtbot: Any) -> None:
    line = Elided("The supply was outside its window for the whole of the last reading")
    qtbot.addWidget(line)
    line.resize(90, 20)
    line.grab()
    assert line.toolTip() == line.text()
    line.resize(900, 20)
    line.grab()
    assert line.toolTip() == ""


@pytest.mark.parametrize(
    ("value", "text"), [(0.0, "0"), (1.0, "1"), (12.345, "12.3"), (1234.5, "1234"), (-0.0012345, "-0.00123")]
)
def test_three_digits(value: float, text: str) -> None:
    assert three(value).replace("−", "-") == text


def test_the_hook_up_shows_which_cable_is_live(qtbot: Any) -> None:
    view = HookUp(card_rig())
    qtbot.addWidget(view)
    view.resize(600, 240)
    view.show_state(0, False, -80.0)
    quiet = pixels(view)
    assert not near(quiet, theme.color("brass")).any() and not near(quiet, theme.color("teal")).any()
    view.show_state(0, True, -20.0)
    first = pixels(view)
    view.show_state(1, True, -60.0)
    second = pixels(view)
    for picture in (first, second):
        assert near(picture, theme.color("brass")).sum() > 100
    # The cable of the other channel lies lower, and its quieter level fills less of the bar.
    rows = [np.flatnonzero(near(p, theme.color("brass")).any(axis=1)).min() for p in (first, second)]
    assert rows[1] > rows[0] + 20
    lengths = [near(p, theme.color("teal")).any(axis=0).sum() for p in (first, second)]
    assert lengths[0] == pytest.approx(0.75 * 190, abs=4) and lengths[1] == pytest.approx(0.25 * 190, abs=4)


def test_night_and_day_have_the_same_roles_and_both_can_be_read(qapp: Any) -> None:
    roles = ("ground", "card", "line", "sand", "ink", "muted", "brass", "teal", "plum", "clay")
    seen = {}
    try:
        for night in (False, True):
            theme.use(night)
            held = {r: theme.color(r) for r in roles}
            seen[night] = {r: c.name() for r, c in held.items()}
            assert len(set(seen[night].values())) == len(roles)
            ground = held["ground"].lightness()
            assert (ground < 128) == night
            assert abs(held["ink"].lightness() - ground) > 120  # from two metres
            for role in ("brass", "teal", "plum", "clay"):
                assert abs(held[role].lightness() - ground) > 45, (night, role)
    finally:
        theme.use(False)
    assert all(seen[False][r] != seen[True][r] for r in ("ground", "card", "ink"))


def test_a_librarys_report_is_cut_to_what_the_system_said() -> None:
    from lucid_anvil.engine.ending import reason

    report = "Unable to flush file (file write failed: time = Sun\n, filename = 'raw.h5', error message = 'No space left on device', buf = 0x1)"
    assert reason(RuntimeError(report)) == "No space left on device"
    assert reason(OSError(28, "No space left on device")) == "No space left on device"
    assert reason(ValueError()) == "ValueError"


@pytest.mark.parametrize(
    ("text", "room", "lines"),
    [
        ("Power at 1 %", 90, ["Power at 1 %"]),
        ("Power at 1 %", 48, ["Power at", "1 %"]),
        ("Distortion against power, both driven", 66, ["Distortion"]),
        ("Distortion", 20, []),
    ],
)
def test_a_course_shows_whole_words_or_a_number(text: str, room: float, lines: list[str]) -> None:
    from lucid_anvil.desktop.bench.stretch_view import in_words

    assert in_words(text, room, lambda t: 6.0 * len(t)) == lines


@pytest.mark.parametrize(
    ("value", "digits", "text"),
    [
        (110.3, 2, "110"),
        (0.00093, 2, "0.00093"),
        (-12345.0, 3, "−12300"),
        (0.0, 2, "0"),
        (9.96, 2, "10"),
        (3e9, 2, "3e+09"),
    ],
)
def test_significant_digits_without_exponents(value: float, digits: int, text: str) -> None:
    from lucid_anvil.core.figures import significant

    assert significant(value, digits) == text


def test_lengths_take_a_prefix_that_fits() -> None:
    from lucid_anvil.contracts.finding import Reading
    from lucid_anvil.desktop.parts.panels import reading_row
    from lucid_anvil.folio.testreport import reading_row as on_paper

    stroke = Reading("stroke", "Stroke", 0.00093, "m", 0.00002, 2.0)
    assert reading_row(stroke)[1] == "0.930 ± 0.020 mm"
    # Of what has a least alone the bar shows how near it is; a margin, whose least is nothing, has none.
    strength = Reading("s", "Strength", 500e6, "Pa", 10e6, low=470e6, verdict="inside")
    assert reading_row(strength)[2:4] == (pytest.approx(0.94), pytest.approx(0.0188))
    assert reading_row(Reading("m", "Margin", 3.4, "dB", 0.3, low=0.0, verdict="inside"))[2] is None
    assert [on_paper(stroke)[k] for k in ("value", "uncertainty", "unit")] == ["0.930", "0.020", "mm"]


def test_a_walk_round_whose_checks_have_not_come_yet_is_not_said_to_be_none(qtbot: object) -> None:
    from lucid_anvil.desktop.bench.walk_panel import WalkRoundPanel

    panel = WalkRoundPanel("K.B.")
    panel.show_checks([], "walk-round", 3)
    assert panel.why.text() == "Waiting for the devices." and not panel.go.isEnabled()
    panel.show_checks([], "walk-round", 0)
    assert "no walk-round" in panel.why.text()


@pytest.mark.parametrize(
    ("text", "read"),
    [("band-pass 300 to 3000 Hz", "band-pass 300 to 3000 Hz"), ("Low pass to 2k", "low-pass to 2000 Hz"),
     ("highpass from 0.02 kHz; bandstop 45–55", "high-pass from 20 Hz, band-stop 45 to 55 Hz"), ("", "")],
)  # fmt: skip
def test_filters_in_words(text: str, read: str) -> None:
    bands = bands_of(text)
    assert ", ".join(text_of(b) for b in bands) == read and bands_of(read) == bands


@pytest.mark.parametrize(
    ("text", "why"),
    [("loud", "no filter"), ("band-pass 300 Hz", "write filters like"), ("low-pass to 3 V", "V"),
     ("band-stop 55 to 45", "comes first"), ("high-pass from -3 Hz", "above zero")],
)  # fmt: skip
def test_what_is_no_filter_is_told(text: str, why: str) -> None:
    with pytest.raises(BadInput, match=why):
        bands_of(text)
