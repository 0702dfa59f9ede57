"""Closed-loop control of a shaker: profiles, sweeps, and the control laws over arrays."""
