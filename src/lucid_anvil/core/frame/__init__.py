"""What a load frame's records show: stress and strain, cycles, complex stiffness."""
