"""A rig being put together: looked at, and driven by hand."""

from ...contracts.domain import Domain

DOMAIN = Domain("hookup", "Hook-up", {"by-hand": f"{__name__}.by_hand"},
    sides=(f"{__name__}.window.bench:HookUpBench",),
)
