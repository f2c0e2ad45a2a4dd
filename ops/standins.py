"""Compile every loop of the stand-ins once, so that no user waits for it: the machine code is kept on disk."""

import numpy as np

from kind_echo.standins.catalogue import STAND_INS

if __name__ == "__main__":
    samples = np.random.default_rng(1).uniform(-1.0, 1.0, (4096, 1))
    for stand_in in STAND_INS.values():
        stand_in.load(stand_in.builds[0].version, {}, 48_000, 1).process(samples)
    STAND_INS["Skerry"].load("2.0.3", {"oversampling": 4}, 48_000, 1).process(samples)
    STAND_INS["Towpath"].load("1.4.0", {"character": "heron"}, 48_000, 1).process(samples)
