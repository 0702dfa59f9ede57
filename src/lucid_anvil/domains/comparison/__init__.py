"""Calibration of accelerometers by comparison with a reference (ISO 16063-21)."""

from ...contracts.domain import Domain

DOMAIN = Domain(
    "comparison", "Calibration by comparison", {"accelerometer-comparison": f"{__name__}.accelerometer_comparison"}
)
