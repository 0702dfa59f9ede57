"""Devices, channels and how they are wired; what drives real hardware, and the stand-ins that ship with us."""
