"""What a tester would write with numpy, scipy and pyloudnorm to compare two files: the yardstick for our own speed."""

import sys

import numpy as np
import pyloudnorm
import soundfile
from scipy import signal


def levels(samples: np.ndarray, rate: int) -> dict[str, float]:
    """Levels, loudness and true peak of one file."""
    fine = signal.resample_poly(samples, 4, 1, axis=0)
    return {
        "sample_peak": 20 * np.log10(np.abs(samples).max()),
        "true_peak": 20 * np.log10(np.abs(fine).max()),
        "rms": 10 * np.log10(2 * np.mean(samples**2)),
        "dc_offset": float(samples.mean()),
        "loudness_integrated": pyloudnorm.Meter(rate).integrated_loudness(samples),
    }


def main(reference_path: str, render_path: str) -> None:
    """Print everything."""
    reference, rate = soundfile.read(reference_path, always_2d=True)
    render, _ = soundfile.read(render_path, always_2d=True)
    for samples in (reference, render):
        print(levels(samples, rate))
    correlation = signal.correlate(render[:, 0], reference[:, 0], method="fft")
    delay = int(np.abs(correlation).argmax()) - (len(reference) - 1)
    lined_up = np.roll(render, -delay, axis=0)
    gain = float((reference * lined_up).sum() / (reference**2).sum())
    residual = lined_up - reference
    changed = np.flatnonzero((np.abs(residual) > 2**-24).any(axis=1))
    frequency, power = signal.welch(residual, rate, nperseg=1 << 15, axis=0)
    _, h = signal.csd(reference, lined_up, rate, nperseg=1 << 12, axis=0)
    print(
        {
            "delay": delay,
            "gain": 20 * np.log10(abs(gain)),
            "residual_rms": 10 * np.log10(2 * np.mean(residual**2)),
            "residual_loudness": pyloudnorm.Meter(rate).integrated_loudness(residual),
            "after_gain": 10 * np.log10(2 * np.mean((lined_up / gain - reference) ** 2)),
            "changed": len(changed),
            "regions": int((np.diff(changed) > rate // 1000).sum()) + 1,
            "loudest_band": float(frequency[power.sum(axis=1).argmax()]),
            "response": float(np.abs(h).max()),
        }
    )


if __name__ == "__main__":
    main(sys.argv[1], sys.argv[2])
