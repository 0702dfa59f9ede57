"""What the tests of methods that read records share."""

from __future__ import annotations

from typing import Any

import numpy as np
from tests.test_output_robust import keeps_the_contract

from lucid_anvil.contracts import registry
from lucid_anvil.contracts.finding import Curve, Finding
from lucid_anvil.contracts.recording import channel_of
from lucid_anvil.contracts.settings import check


def read(name: str, rate: float, channels: dict[str, tuple[str, Any]], **settings: Any) -> Finding:
    """A method over channels of role: (unit, samples); the finding keeps the contract."""
    method = registry.get(name)
    record = {role: channel_of(role, unit, rate, np.asarray(x)) for role, (unit, x) in channels.items()}
    found = method.evaluate(record, check(method.Settings, settings, name), ())
    keeps_the_contract(found, name)
    return found


def value(found: Finding, key: str) -> Any:
    return found.reading(key).value


def doubt(found: Finding, key: str) -> Any:
    return found.reading(key).uncertainty


def arrays(curve: Curve) -> tuple[np.ndarray, np.ndarray]:
    return np.array(curve.x), np.array([np.nan if v is None else v for v in curve.y])
