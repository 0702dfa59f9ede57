"""What a domain gives so that its findings get a paper of their own."""

from __future__ import annotations

from collections.abc import Callable, Mapping
from dataclasses import dataclass
from pathlib import Path
from typing import Any


@dataclass(frozen=True)
class PaperKind:
    """A paper in place of the test report that any take has."""

    template: Path
    """The page (Jinja and HTML); a lab's own of that name goes before it. May include what is in `folio/templates`"""
    values: Callable[[Any, Any, Any, Any], Mapping[str, Any]]
    """From take, finding, lab and accepted calibration (the last two may be None) what the template may use. Raises
    BadInput where the paper can't be made"""
