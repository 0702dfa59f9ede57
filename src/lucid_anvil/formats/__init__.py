"""Open formats in and out, all through one recording type. `read` and `write` choose by file ending."""

from ..contracts.recording import Channel, Recording
from .files import ENDINGS, read, write

__all__ = ["ENDINGS", "Channel", "Recording", "read", "write"]
