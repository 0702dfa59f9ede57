"""What series of steps show: characteristics of force and pressure sensors, leaks, rundowns, hysteresis."""
