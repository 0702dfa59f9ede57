"""What runs: keeper (devices, guards, ramp), conductor (method, recorder, door), and evaluation of what was kept."""
