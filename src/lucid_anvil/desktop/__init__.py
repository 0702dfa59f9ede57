"""The window (PyQt6)."""
