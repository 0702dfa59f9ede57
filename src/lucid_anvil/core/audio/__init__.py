"""Amplifiers and other audio equipment, after IEC 60268-3: tones, distortion, noise, response, source impedance."""
