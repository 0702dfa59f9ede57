"""Vibration tests under control: sine, random, replication (IEC 60068-2-6 and -64)."""

from ...contracts.domain import Domain

DOMAIN = Domain(
    "shaker",
    "Vibration",
    {
        "sine-sweep": f"{__name__}.sine_sweep",
        "random-vibration": f"{__name__}.random_vibration",
        "time-replication": f"{__name__}.time_replication",
    },
    sides=(f"{__name__}.window.bench:ShakerBench",),
    demo=f"{__name__}.demo:make",
)
