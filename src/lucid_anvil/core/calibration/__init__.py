"""Calibration: comparison against a reference, doubt and decision."""
