"""Measures of an effect by what went in and came out, and of all that is no level of a file: one declaration each."""

from kind_echo.core.registry.declaring import COUNT, FLAG, FOLD, PRACTICE, R128, family
from kind_echo.core.registry.measure import Limit, Measure

_H = (
    "Cross-spectrum over input spectrum, A. V. Oppenheim and R. W. Schafer; coherence: G. C. Carter, Proc. IEEE 75"
    " (1987)."
)
_RESPONSE = family(
    "response", "input and output",
    ("gain_1k", "Gain at 1 kHz", "dB", "Magnitude of output over input at 1 kHz.", _H),
    ("edge_low", "Lower edge", "Hz", "Where the magnitude is 3 dB under that at 1 kHz on the way down from there.",
     _H, {"decimals": 1}),
    ("edge_high", "Upper edge", "Hz", "Where the magnitude is 3 dB under that at 1 kHz on the way up from there.",
     _H, {"decimals": 0, "better": "more"}),
    ("wall_frequency", "Wall", "Hz",
     "Where the level has fallen by 20 dB on its way down at least 40 dB within a sixth of an octave.", PRACTICE,
     {"decimals": 0}),
    ("slope_low", "Lower slope", "dB/octave",
     "Fall towards low frequencies, fitted between −20 and −80 dB where the floor allows.", PRACTICE, {"decimals": 1}),
    ("slope_high", "Upper slope", "dB/octave",
     "Fall towards high frequencies, likewise; up to a tenth of the rate where that leaves half an octave, for a "
     "digital filter falls faster towards half the rate. The note says between which frequencies.", PRACTICE,
     {"decimals": 1}),
    ("ripple", "Ripple", "dB", "Greatest less least magnitude inside the edges.", PRACTICE),
    ("flatness_error", "Flatness error", "dB",
     "Signed magnitude of greatest distance from 0 dB in the band, 20 Hz to 20 kHz or 0.45 of the rate.", PRACTICE,
     {"decimals": 3, "signed": True, "repeats": ("gain", 0.1)}),
    ("phase_deviation", "Phase deviation", "°",
     "Greatest distance of the phase from a straight line in the band, latency taken off first.", PRACTICE),
    ("group_delay_1k", "Group delay at 1 kHz", "ms", "Slope of the phase at 1 kHz beyond the latency.", PRACTICE,
     {"decimals": 4}),
)  # fmt: skip

_EVENT = "Delay of each click, or part of a broadband signal, by correlation around it."
_LATENCY = family(
    "latency", "input and output",
    ("latency", "Latency", "samples",
     "Median over events, the first left out where there are three or more. Positive when the output is later.", _EVENT,
     {"decimals": 2}),
    ("latency_time", "Latency, time", "ms", "The same in milliseconds.", _EVENT, {"decimals": 3}),
    ("latency_first", "Latency of the first event", "samples", "Start-up, kept beside the rest.", _EVENT,
     {"follows": ("delay",), "apart": (2.0, 0.02), "repeats": ("latency_error", 2.0)}),
    ("latency_jitter", "Latency jitter", "samples",
     "Greatest less least, the first event left out. No reading with fewer than 3 usable events.", _EVENT),
    ("latency_events", "Events", "", "Events of the input.", _EVENT, COUNT),
    ("latency_missing", "Events missing", "", "Events of the input that the output lacks.", _EVENT, COUNT),
    ("latency_doubled", "Events doubled", "", "Events that the output has twice.", _EVENT, COUNT),
    ("latency_reported", "Latency claimed", "samples", "What the effect or host claims.", "As it was told.", COUNT),
    ("latency_error", "Latency, measured less claimed", "samples", "Measured less claimed.", _EVENT,
     {"limit": Limit(-0.5, 0.5), "signed": True, "phrase": "Later or earlier than claimed", "follows": ("delay",),
      "apart": (2.0, 0.02)}),
    ("compensation", "Compensation", "ms", "What to dial in: the latency with its sign turned.", _EVENT,
     {"decimals": 3, "signed": True}),
    ("latency_buffer", "Latency of the buffers", "ms",
     "Frames × periods / rate: the theoretical share, never a measurement.", "Arithmetic.", {"decimals": 3}),
    ("distance", "Distance in air", "m", "What sound travels in the latency, at 343 m/s.", "ISO 9613-1, 20 °C."),
)  # fmt: skip

_CURVE = (
    "D. Giannoulis, M. Massberg and J. D. Reiss, Digital Dynamic Range Compressor Design, J. Audio Eng. Soc. 60 (2012)."
)
_TRANSFER = family(
    "transfer", "input and output",
    ("curve_error_worst", "Transfer curve, worst error", "dB",
     "Measured less expected level of greatest distance, over the steps of the staircase; level of the tone by a sine "
     "fit over the last 40 % of each step.", _CURVE,
     {"signed": True}),
    ("curve_error_rms", "Transfer curve, RMS error", "dB", "RMS of measured less expected.", _CURVE),
    ("threshold_estimate", "Threshold, estimated", "dBFS",
     "Of the curve of one threshold, ratio and knee that fits what was measured. No reading where the gain does not "
     "fall with the level, under two steps lie above it, a level lies over 0.6 dB off the curve, or its uncertainty is "
     "over 2 dB.", _CURVE),
    ("ratio_estimate", "Ratio, estimated", "",
     "Likewise; a lower bound over 50 : 1, as of a limiter, or where its uncertainty is over half of the slope.",
     _CURVE),
    ("knee_estimate", "Knee, estimated", "dB", "Likewise; none where its uncertainty is over 4 dB.", _CURVE),
    ("gain_below_threshold", "Gain below threshold", "dB",
     "Mean gain of the steps below threshold and knee, make-up taken off.", _CURVE),
    ("engages", "Engages", "", "1 when the gain falls by at least 1 dB from the quietest steps to the loudest.",
     PRACTICE, FLAG),
)  # fmt: skip

_LAW = family(
    "law", "input and output",
    ("law_level", "Expected level", "dBFS", "What the law that the plan expects makes of the input's sample peak.",
     _CURVE),
    ("law_error_tone", "Error of the tone's level", "dB",
     "Gain of the steady tone, by a sine fit, less the gain that the law has at the input's sample peak.", _CURVE,
     {"signed": True}),
    ("law_error_peak", "Error of the peak", "dB", "Gain by sample peaks, less that of the law.", _CURVE,
     {"signed": True}),
    ("law_error_rms", "Error of the RMS level", "dB", "Gain by RMS over the whole file, less that of the law.", _CURVE,
     {"signed": True}),
    ("law_error_loudness", "Error of the loudness", "dB",
     "Gain by integrated loudness, less that of the law.", _CURVE,
     {"signed": True}),
)  # fmt: skip

_DYNAMICS = family(
    "dynamics", "input and output",
    ("attack_time", "Attack time", "ms",
     "From the step up until the gain stays within 1 dB of its settled value. A lower bound where the gain still moves "
     "by over 0.15 dB in the last 30 % of the part.", PRACTICE),
    ("release_time", "Release time", "ms", "From the step down likewise.", PRACTICE),
    ("attack_constant", "Attack time constant", "ms",
     "Of an exponential fitted to the gain in decibels, the gain that it settles at free as well. No reading where the "
     "gain has not settled, or one half of the way is over 1.5 times as steep as the other: it is not one exponential. "
     "Of a detector of amplitude or power whose exponential explains the gain better, the detector's constant; the "
     "note says so. Of a gain that is bent less, ± half of what the halves differ by.",
     _CURVE),
    ("release_constant", "Release time constant", "ms", "After the step down, likewise.", _CURVE),
    ("overshoot", "Overshoot", "dB", "By how much the gain passes its settled value after the step up.", PRACTICE),
    ("lookahead", "Look-ahead", "ms",
     "By how much the gain starts to fall before the step up, and stays down: by 0.1 dB, or out of the noise.",
     PRACTICE),
    ("settled_gain_high", "Settled gain, high", "dB",
     "Gain at the end of the high part. No reading where it still moves.", PRACTICE),
    ("settled_gain_low", "Settled gain, low", "dB", "Gain at the end of the first low part.", PRACTICE),
)  # fmt: skip

_CODEC = "The encoder itself, through libsndfile."
_LOSSY = family(
    "lossy", "file",
    ("lossy_sample_peak", "Decoded sample peak", "dBFS",
     "After encoding and decoding; where the encoder lacks the file's rate, the file is resampled for it.", _CODEC),
    ("lossy_true_peak", "Decoded true peak", "dBTP", "After encoding and decoding.", _CODEC),
    ("lossy_peak_rise", "Rise of the peak", "dB", "Decoded sample peak less the original's.", _CODEC),
    ("lossy_overs", "Samples over full scale", "", "Decoded samples beyond ±1.0: what a fixed-point decoder cuts off.",
     _CODEC, COUNT),
    ("lossy_headroom", "Headroom needed", "dB",
     "What to take off before encoding so that nothing clips, found by encoding again at that level, in steps of "
     "0.1 dB and at most four times; the uncertainty is how far below lies what was seen to clip.", _CODEC,
     {"decimals": 1}),
    ("lossy_edge", "Edge of the codec", "Hz", "Wall in the decoded spectrum; no reading where there is none.", _CODEC,
     {"decimals": 0, "better": "more"}),
)  # fmt: skip

_MATCH = family(
    "match", "file",
    ("match_gain", "Gain to apply", "dB", "Target less measured.", "By the measure named.",
     {"signed": True}),
    ("match_error", "Match error", "dB", "Measured again after applying the gain, less target.",
     "By the measure named.", {"decimals": 3, "limit": Limit(-0.1, 0.1), "signed": True}),
    ("loudest_start", "Loudest passage, start", "s", "Of the 3 s of greatest short-term loudness.", R128),
    ("loudest_end", "Loudest passage, end", "s", "Of the same passage.", R128),
)  # fmt: skip

_LISTENING = family(
    "listening", "trials",
    ("abx_p", "p-value", "",
     "P(X ≥ correct) of the binomial with the trials and ½, exact.", "Exact binomial test, one-sided.",
     {"decimals": 4}),
    ("abx_low", "Share right, at least", "",
     "Lower bound, at 95 %, of the share of answers that the listener gives right.",
     "Clopper and Pearson, Biometrika 26 (1934).", {"decimals": 3}),
    ("abx_high", "Share right, at most", "", "Upper bound, at 95 %, of the same.",
     "Clopper and Pearson, Biometrika 26 (1934).", {"decimals": 3}),
    ("abx_ratio", "Evidence of hearing it", "",
     "Logarithm of how much likelier the answers are for one who hears it than for a guesser; up to where it reached a "
     "bound.", "Wald, Annals of Mathematical Statistics 16 (1945).", {"decimals": 3}),
    ("abx_upper", "Upper bound of the evidence", "", "At which the answers are evidence against guessing.",
     "Wald, Annals of Mathematical Statistics 16 (1945).", {"decimals": 3}),
    ("abx_lower", "Lower bound of the evidence", "", "At which there is no sign of hearing it.",
     "Wald, Annals of Mathematical Statistics 16 (1945).", {"decimals": 3}),
    ("abx_needed", "Right answers needed", "", "The fewest for which the chance of guessing is at most 0.05.",
     "Exact binomial test, one-sided.", COUNT),
    ("abx_power", "Power", "", "Chance that a listener who hears it 7 times in 10, or as set, reaches that.",
     "Exact binomial tail.", {"decimals": 3}),
)  # fmt: skip

_FOLDING = family(
    "folding", "frequency",
    ("fold_frequency", "Folded frequency", "Hz", "|((f + R/2) mod R) − R/2|.", FOLD, {"decimals": 3}),
)  # fmt: skip

_COST = family(
    "cost", "render",
    ("render_factor", "Render speed", "", "Audio seconds per wall second.", "Measured where it was rendered.",
     {"better": "more"}),
    ("render_cpu", "Processor time", "s/s", "Processor seconds per audio second.", "Measured where it was rendered.",
     {"decimals": 4}),
    ("render_memory", "Memory", "MB", "Greatest memory of the render.", "Measured where it was rendered."),
)  # fmt: skip

_TIMED = "Measured where it was rendered, around each call."
_HOSTING = family(
    "hosting", "render",
    ("load_time", "Time to load", "ms", "From the start of loading until the plug-in can be used.", _TIMED,
     {"decimals": 0}),
    ("block_first", "First block", "ms", "What the first block took.", _TIMED),
    ("block_median", "Block, median", "ms", "What half of the blocks took at most.", _TIMED, {"decimals": 3}),
    ("block_99", "Block, 99th percentile", "ms", "What 99 of 100 blocks took at most.", _TIMED, {"decimals": 3}),
    ("block_worst", "Block, worst", "ms", "What the slowest block took.", _TIMED, {"decimals": 3}),
    ("block_decay", "Last blocks against first", "",
     "Median of what blocks of the last quarter took over that of the first quarter: more than 1 where what fades away "
     "costs more than what sounds, as denormal numbers do.", PRACTICE),
    ("end_level", "Level at the end", "dBFS", "Greatest sample of the last half second.", PRACTICE),
    ("latency_told", "Latency told to the host", "samples",
     "What the effect tells its host, whether that takes it off or not.", "As it was told.", COUNT),
    ("input_written", "Writes to its input", "", "Whether it changed samples that it was only to read.",
     "Compared after each block, where the host can see it.", {**FLAG, "limit": Limit(None, 0)}),
    ("blocks_late", "Blocks that came late", "",
     "Of a render by the clock: blocks that were not ready one block's length after their samples were there.", _TIMED,
     COUNT),
)  # fmt: skip

SYSTEMS: tuple[Measure, ...] = (
    *_RESPONSE,
    *_LATENCY,
    *_TRANSFER,
    *_LAW,
    *_DYNAMICS,
    *_LOSSY,
    *_MATCH,
    *_LISTENING,
    *_FOLDING,
    *_COST,
    *_HOSTING,
)
