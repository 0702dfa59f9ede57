"""Open formats in and out, all through one recording type. `read` and `write` choose by file ending."""

from .files import ENDINGS, read, write
from .recording import Channel, Recording

__all__ = ["ENDINGS", "Channel", "Recording", "read", "write"]
