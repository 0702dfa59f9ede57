"""Calibration of accelerometers by comparison with a reference (ISO 16063-21)."""

from ...contracts.domain import Domain

DOMAIN = Domain(
    "comparison", "Calibration by comparison", {"accelerometer-comparison": f"{__name__}.accelerometer_comparison"},
    papers={"accelerometer-comparison": f"{__name__}.paper:PAPER"},
    sides=(f"{__name__}.window.bench:ComparisonBench",),
)
