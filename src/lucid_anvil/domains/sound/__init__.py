"""What makes sound: drivers, headsets, handsets, and driving them for long."""

from ...contracts.domain import Domain

DOMAIN = Domain(
    "sound",
    "Sound makers",
    {
        "driver-check": f"{__name__}.driver_check",
        "headset-check": f"{__name__}.headset_check",
        "handset-cases": f"{__name__}.handset_cases",
        "power-endurance": f"{__name__}.power_endurance",
    },
    guards={
        "coil_heat": f"{__name__}.coil_guard:HEAT",
        "coil_whole": f"{__name__}.coil_guard:WHOLE",
        "excursion": f"{__name__}.coil_guard:EXCURSION",
    },
    scenes={
        "driver": f"{__name__}.standin_driver:DriverScene",
        "hot-driver": f"{__name__}.standin:HotDriverScene",
        "headset": f"{__name__}.standin_headset:HeadsetScene",
        "handset": f"{__name__}.standin_handset:HandsetScene",
    },
    demo=f"{__name__}.demo:make",
)
