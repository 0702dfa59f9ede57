"""Pictures for reports, as SVG text."""

from __future__ import annotations

import io
from typing import Any

from ..lab.findings import Curve, Finding

INK, MUTED, TEAL, PLUM, CLAY, CORRIDOR, LINE = (
    "#23282D", "#6D726F", "#0D6E6E", "#6B4C7A", "#B3452C", "#D5E3DC", "#D9D2C3",
)  # fmt: skip


def _figure(width: float, height: float) -> tuple[Any, Any]:
    import matplotlib

    matplotlib.use("svg")
    from matplotlib.figure import Figure

    matplotlib.rcParams.update({"font.family": ["Inter", "DejaVu Sans"], "font.size": 8, "svg.fonttype": "path"})
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


def curve_svg(curve: Curve, y_label: str, width: float = 6.8, height: float = 2.7) -> str:
    """A curve with its whiskers, over a log frequency axis, inside its corridor."""
    from matplotlib.ticker import FixedLocator, FuncFormatter, NullFormatter

    figure, axes = _figure(width, height)
    x = list(curve.x)
    if curve.low is not None and curve.high is not None:
        axes.fill_between(x, _numbers(curve.low), _numbers(curve.high), color=CORRIDOR, linewidth=0)
    ok = [i for i, y in enumerate(curve.y) if y is not None]
    doubts = curve.uncertainty or (0.0,) * len(x)
    axes.errorbar(
        [x[i] for i in ok], [curve.y[i] for i in ok], yerr=[doubts[i] or 0.0 for i in ok], color=TEAL,
        ecolor=TEAL, linewidth=1.2, elinewidth=0.8, capsize=1.6, marker="o", markersize=2.4,
    )  # fmt: skip
    axes.set_xscale("log")
    axes.xaxis.set_major_locator(FixedLocator([10, 20, 50, 100, 200, 500, 1000, 2000, 5000, 10000]))
    axes.xaxis.set_major_formatter(FuncFormatter(lambda v, _: f"{v:g}" if v < 1000 else f"{v / 1000:g}k"))
    axes.xaxis.set_minor_formatter(NullFormatter())
    axes.set_xlabel("Hz", color=MUTED, loc="right")
    axes.set_ylabel(y_label, color=MUTED)
    out = io.StringIO()
    figure.savefig(out, format="svg", transparent=True)
    text = out.getvalue()
    return text[text.index("<svg") :]


def _numbers(values: Any) -> list[float]:
    return [float("nan") if v is None else float(v) for v in values]


def deviation_svg(finding: Finding) -> str:
    return curve_svg(finding.curve("deviation"), "deviation, %")
