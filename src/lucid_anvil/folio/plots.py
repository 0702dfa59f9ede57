"""Pictures for reports, as SVG text."""

from __future__ import annotations

import io
import math
from collections.abc import Iterable, Sequence
from typing import Any

from ..contracts.finding import Curve, Finding
from ..contracts.method import Axis
from ..core.figures import axis_unit

INK, MUTED, TEAL, PLUM, CLAY, CORRIDOR, LINE, COPPER = (
    "#23282D", "#6D726F", "#0D6E6E", "#6B4C7A", "#B3452C", "#D5E3DC", "#D9D2C3", "#A8631B",
)  # fmt: skip


def _figure(width: float, height: float) -> tuple[Any, Any]:
    import matplotlib

    matplotlib.use("svg")
    from matplotlib.figure import Figure

    matplotlib.rcParams.update({
        "font.family": ["Inter", "DejaVu Sans"], "font.size": 8, "svg.fonttype": "path",
        "svg.hashsalt": "lucid-anvil",  # the same finding, the same picture, byte for byte
    })  # fmt: skip
    figure = Figure(figsize=(width, height), layout="constrained")
    axes = figure.add_subplot()
    for side in ("top", "right"):
        axes.spines[side].set_visible(False)
    for side in ("left", "bottom"):
        axes.spines[side].set_color(MUTED)
    axes.tick_params(colors=INK, width=0.6)
    axes.grid(True, which="major", color=LINE, linewidth=0.5)
    axes.set_axisbelow(True)
    return figure, axes


def _log_hertz(axes: Any) -> None:
    """A logarithmic axis with ticks that a person reads: 1, 2, 5."""
    from matplotlib.ticker import FixedLocator, FuncFormatter, NullFormatter

    axes.set_xscale("log")
    axes.xaxis.set_major_locator(FixedLocator([m * 10**k for k in range(5) for m in (1, 2, 5)]))
    axes.xaxis.set_major_formatter(FuncFormatter(lambda v, _: f"{v:g}" if v < 1000 else f"{v / 1000:g}k"))
    axes.xaxis.set_minor_formatter(NullFormatter())


def _plain_decades(axes: Any) -> None:
    """A logarithmic y axis in plain numbers: 1, 2, 5 where it spans little, else decades."""
    from matplotlib.ticker import FixedLocator, FuncFormatter, NullFormatter

    axes.set_yscale("log")
    low, high = axes.get_ylim()
    marks = (1, 2, 5) if high / low < 1e3 else (1,)
    axes.yaxis.set_major_locator(FixedLocator([m * 10.0**k for k in range(-12, 9) for m in marks]))
    axes.yaxis.set_major_formatter(FuncFormatter(lambda v, _: f"{v:g}"))
    axes.yaxis.set_minor_formatter(NullFormatter())
    axes.set_ylim(low, high)


def _svg(figure: Any) -> str:
    out = io.StringIO()
    figure.savefig(out, format="svg", transparent=True, metadata={"Date": None})
    text = out.getvalue()
    return text[text.index("<svg") :]


def _ground(axes: Any, x: Sequence[float], low: Sequence[float], high: Sequence[float]) -> None:
    """The corridor between two lines; where one of them is open the other is a line alone."""
    axes.fill_between(x, low, high, color=CORRIDOR, linewidth=0)
    for line, other in ((low, high), (high, low)):
        alone = [v if math.isnan(o) else math.nan for v, o in zip(line, other, strict=True)]
        if not all(math.isnan(v) for v in alone):
            axes.plot(x, alone, "--", color=MUTED, linewidth=0.8, zorder=1)


def curve_svg(curve: Curve, y_label: str, width: float = 6.8, height: float = 2.7) -> str:
    """A curve with its whiskers, over a log frequency axis, inside its corridor."""
    figure, axes = _figure(width, height)
    x = list(curve.x)
    if curve.low is not None and curve.high is not None:
        _ground(axes, x, _numbers(curve.low), _numbers(curve.high))
    ok = [i for i, y in enumerate(curve.y) if y is not None]
    doubts = curve.uncertainty or (0.0,) * len(x)
    axes.errorbar(
        [x[i] for i in ok], [curve.y[i] for i in ok], yerr=[doubts[i] or 0.0 for i in ok], color=TEAL,
        ecolor=TEAL, linewidth=1.2, elinewidth=0.8, capsize=1.6, marker="o", markersize=2.4,
    )  # fmt: skip
    _log_hertz(axes)
    axes.set_xlabel("Hz", color=MUTED, loc="right")
    axes.set_ylabel(y_label, color=MUTED)
    return _svg(figure)


def view_svg(
    finding: Finding, view: Axis, width: float = 6.8, height: float = 2.6, *,
    x_range: tuple[float, float] | None = None, y_range: tuple[float, float] | None = None, marks: Sequence[float] = (),
) -> str | None:  # fmt: skip
    """One of a method's views: its curves on their axes, the first strong, a corridor where one is stated. None when
    the finding has no such curve. Ranges of the axes and places of numbered marks are in the curves' own units."""
    there = [c for c in finding.curves if view.shows(c.key) and any(y is not None for y in c.y)]
    if not there:
        return None
    if view.single:
        there = [c for c in there if c.key.startswith(view.curves[0].rstrip("*"))][:1] or there[:1]
    figure, axes = _figure(width, height)
    by_x, x_unit = (1.0, view.x_label) if view.x_log else axis_unit(_most(c.x for c in there), view.x_label)
    y_label = view.y_label or there[0].y_unit
    by_y, y_unit = (1.0, y_label) if view.y_log else axis_unit(_most(c.y for c in there), y_label)
    for i, curve in enumerate(there):
        x = [by_x * v for v in _numbers(curve.x)]
        if curve.low is not None and curve.high is not None:
            low, high = ([by_y * v for v in _numbers(edge)] for edge in (curve.low, curve.high))
            _ground(axes, x, low, high)
        colour, wide = ((TEAL, 1.2), (INK, 0.9), (MUTED, 0.7))[i % 3]
        dash = ("-", "--", ":")[min(i // 3, 2)]
        y = [by_y * v for v in _numbers(curve.y)]
        axes.plot(x, y, dash, color=colour, linewidth=wide, label=curve.label, zorder=5 - min(i, 4))
    if view.x_log:
        _log_hertz(axes)
        axes.set_xlim(min(v for v in there[0].x if v > 0), max(there[0].x))
    if view.y_log:
        _plain_decades(axes)
    last = next((r.value for r in finding.readings if view.upto and r.key == view.upto), None)
    if last:
        axes.set_xlim(0, 1.1 * last * by_x)
    if x_range is not None:
        axes.set_xlim(x_range[0] * by_x, x_range[1] * by_x)
    if y_range is not None:
        axes.set_ylim(y_range[0] * by_y, y_range[1] * by_y)
    for number, at in enumerate(marks, 1):
        _numbered(axes, number, at * by_x)
    if len(there) > 1:
        axes.legend(frameon=False, fontsize=7, ncols=min(len(there), 4), loc="upper right")
    axes.set_xlabel(x_unit, color=MUTED, loc="right")
    axes.set_ylabel(y_unit, color=MUTED)
    return _svg(figure)


def _numbered(axes: Any, number: int, x: float) -> None:
    """A number in a ring above its place on the x axis, where that is in sight."""
    low, high = axes.get_xlim()
    if not low <= x <= high:
        return
    axes.axvline(x, color=COPPER, linewidth=0.6, linestyle=(0, (2, 2)), zorder=6)
    axes.annotate(
        str(number), (x, 1.0), xycoords=("data", "axes fraction"), ha="center", va="center", color=COPPER, fontsize=7,
        bbox={"boxstyle": "circle,pad=0.25", "facecolor": "white", "edgecolor": COPPER, "linewidth": 0.8},
        annotation_clip=False, zorder=9,
    )  # fmt: skip


def _most(rows: Iterable[Sequence[float | None]]) -> float:
    """The largest magnitude of all."""
    return max((abs(v) for row in rows for v in row if v is not None and math.isfinite(v)), default=0.0)


def _numbers(values: Any) -> list[float]:
    return [float("nan") if v is None else float(v) for v in values]


def deviation_svg(finding: Finding) -> str:
    return curve_svg(finding.curve("deviation"), "deviation, %")
