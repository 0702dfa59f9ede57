"""Is the stated doubt right? Seeded runs on the demo bench with every systematic error drawn from the budget.

Prints, by frequency, how many runs had the truth inside the stated uncertainty and the rms of error over
expanded uncertainty; and, with no error drawn, how far the readings are from the truth on other rigs.
Usage: doubt.py [runs] [steps_per_octave]
"""

from __future__ import annotations

import sys
from concurrent.futures import ProcessPoolExecutor

from lucid_anvil.engine.study import accuracy, one_run, rig_variants, summary


def main() -> None:
    runs = int(sys.argv[1]) if len(sys.argv) > 1 else 100
    density = int(sys.argv[2]) if len(sys.argv) > 2 else 1
    print("No error drawn, other rigs: worst deviation from the truth")
    with ProcessPoolExecutor(2) as pool:
        for name, kind, s, low, high in pool.map(accuracy, rig_variants()):
            print(f"  {name} {kind}: sensitivity {s:.4f} %, deviation to 5 kHz {low:.4f}, to 10 kHz {high:.4f} points")
        print(f"Every error drawn, {runs} runs")
        rows = list(pool.map(one_run, [(seed, density, "stepped") for seed in range(1, runs + 1)]))
    for f, inside, rms, dev_inside, dev_rms in summary(rows):
        print(f"  {f:8g} Hz: inside {inside} of {runs}, rms error/U {rms:.3f}; deviation {dev_inside}, {dev_rms:.3f}")


if __name__ == "__main__":
    main()
