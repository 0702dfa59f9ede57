"""What makes sound: drivers, headsets, handsets, and driving them for long."""

from ...contracts.domain import Domain

DOMAIN = Domain("sound", "Sound makers", {})
