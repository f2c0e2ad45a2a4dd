"""The measures themselves, family by family: one declaration each."""

from kind_echo.core.registry.declared_systems import SYSTEMS
from kind_echo.core.registry.declaring import AES17, COUNT, FLAG, FOLD, GCC, IEC3, NONE, PRACTICE, R128, SIGN, family
from kind_echo.core.registry.measure import Limit, Measure

_LEVELS = family(
    "levels", "file",
    ("sample_peak", "Sample peak", "dBFS",
     "20·log10 of the greatest absolute sample. All channels: the greatest of them.", AES17),
    ("true_peak", "True peak", "dBTP",
     "Peak of the signal between its samples: interpolated to four times the rate, summits by a parabola; within "
     "0.1 dB up to 0.45 of the rate. At either end of the file, where the interpolation would reach beyond, the "
     "samples alone count.", "ITU-R BS.1770-5 Annex 2."),
    ("rms", "RMS, AES17", "dBFS",
     "RMS level over the whole file, 3.01 dB above the plain mean square, so that a full-scale sine reads 0.00. "
     "All channels: the power over all samples.", AES17),
    ("rms_raw", "RMS, mean square", "dB re FS",
     "10·log10 of the mean square: a full-scale sine reads −3.01, a full-scale square 0.00.",
     "The mean square in decibels; the other of the trade's two conventions."),
    ("crest_factor", "Crest factor", "dB", "Sample peak less plain RMS: 3.01 for a sine.", "IEC 60268-1."),
    ("dc_offset", "DC offset", "FS",
     "Mean of all samples, signed. All channels: the one furthest from zero. Limits hold for its absolute value.",
     PRACTICE, {"decimals": 6, "limit": Limit(at_most=0.001), "signed": True, "absolute": True}),
    ("rms_window_max", "Windowed RMS, greatest", "dBFS",
     "Greatest RMS (AES17) of a sliding window of 300 ms that moves by an eighth of itself. No reading for a file "
     "shorter than a window.", AES17),
    ("rms_window_min", "Windowed RMS, least", "dBFS",
     "Least RMS of the sliding window. Windows under the silence gate of −70 dBFS are left out and counted, so that "
     "silence at the start is no level.", AES17),
    ("rms_window_range", "Windowed RMS, range", "dB",
     "Greatest less least windowed RMS, silence left out.", AES17),
    ("vu_max", "VU maximum", "VU",
     "Greatest deflection of an average-responding needle: 99 % after 300 ms, 1.25 % overshoot, driven by the "
     "rectified signal at four times its rate. On a sound that is steady from the start of the file the needle begins "
     "where it settles. 0 VU is a sine of −18 dBFS unless set otherwise.", "IEC 60268-17."),
)  # fmt: skip

_LOUDNESS = family(
    "loudness", "file",
    ("loudness_integrated", "Integrated loudness", "LUFS",
     "Mean of K-weighted 400 ms blocks, 75 % overlapped, that pass −70 LUFS and then 10 LU under their own mean. One "
     "channel counts as one speaker unless asked for as two. No reading under 400 ms. ±0.1 LU from 16 kHz up, ±0.3 LU "
     "below.", R128),
    ("loudness_momentary_max", "Momentary loudness, greatest", "LUFS",
     "Greatest K-weighted level in 400 ms, looked at every 10 ms.", R128),
    ("loudness_short_max", "Short-term loudness, greatest", "LUFS",
     "Greatest K-weighted level in 3 s, looked at every 10 ms. No reading under 3 s.", R128),
    ("loudness_range", "Loudness range", "LU",
     "10th to 95th percentile of short-term loudness over −70 LUFS and over 20 LU under its mean. No reading under 3 "
     "s.",
     "EBU Tech 3342."),
    ("peak_to_loudness", "Peak to loudness", "LU", "True peak less integrated loudness.", "EBU Tech 3341.",
     {"better": "more"}),
)  # fmt: skip

_INTEGRITY = family(
    "integrity", "file",
    ("non_finite", "Samples not finite", "",
     "Count of samples that are NaN, infinite, or beyond 10³⁰ (600 dB over full scale). Where there is one, nothing "
     "else is measured.", "IEEE 754.",
     {**COUNT, "limit": NONE, "phrase": "Samples that are not finite", "unfit": True}),
    ("silent", "Silent", "",
     "1 when no sample passes −90 dBFS. All channels: 1 when every channel is silent.", PRACTICE,
     {**FLAG, "limit": NONE, "phrase": "Silent", "unfit": True}),
    ("lead_in_silence", "Silence at the start", "s",
     "Start of the file until the level in 1 ms first passes the greater of the file's quietest 1 ms + 20 dB and "
     "−90 dBFS; a level that climbs there slowly is a signal and no floor. 0 when the first window already stands at "
     "signal level. All channels: the first to sound. No reading for a silent file.", PRACTICE, {"decimals": 3}),
    ("clipped_runs", "Clipped runs", "",
     "Count of runs of three or more samples at the rail: the greatest positive or negative code of an integer file, "
     "1.0 or more in a float file.", PRACTICE, COUNT),
) + family(
    "integrity", "pair",
    ("lead_in_excess", "Silence beyond the reference's", "s",
     "Silence at the start of the render beyond that of the reference, with the delay taken off where one was "
     "found: where the render is 10 dB further under its usual level than the reference, or stays below −90 dBFS "
     "where the reference does not. No reading when either is silent.", PRACTICE,
     {"decimals": 3, "limit": Limit(at_most=0.005), "phrase": "Silence at the start", "unfit": True}),
    ("length_difference", "Length difference", "frames",
     "Frames of the render less frames of the reference.", PRACTICE,
     {**COUNT, "limit": Limit(0, 0), "phrase": "Wrong length", "unfit": True, "signed": True}),
    ("gaps", "Gaps", "",
     "Stretches in which the render stays below −90 dBFS while the reference passes −70 for at least 1 ms. All "
     "channels: those that overlap in time count once. The list is the curve of the same name.", PRACTICE,
     {**COUNT, "limit": NONE, "follows": ("channel_swap", "channel_missing")}),
    ("clicks", "Clicks", "",
     "Steps from one sample to the next in render − reference, both at one level, that are over −80 dBFS and 12 times "
     "the mean step of the 2 ms on either side, unless the reference has a greater step of its own within 16 "
     "samples. Edges of gaps are none; of a render whose shape is bent or cut, only steps that are twice those of the "
     "reference.", PRACTICE,
     {**COUNT, "limit": NONE, "follows": ("channel_swap", "channel_missing", "gaps")}),
    ("channel_swap", "Channels swapped", "",
     "1 when two channels of the render correlate better with each other's reference than with their own.", PRACTICE,
     {**FLAG, "limit": NONE, "phrase": "Channels swapped"}),
    ("channel_missing", "Channel missing", "",
     "1 for a channel that is silent where the reference's is not. All channels: 1 when one is.", PRACTICE,
     {**FLAG, "limit": NONE}),
)  # fmt: skip

_COMPARE = family(
    "compare", "pair",
    ("identical", "Identical", "", "1 when rate, channels, length and every sample are equal.", PRACTICE, FLAG),
    ("delay", "Delay", "samples",
     "Greatest magnitude of the cross-correlation, refined below a sample; positive when the render is later. "
     "Uncertainty at 95 %. All channels: one common value. No reading when nothing correlates, nor on a periodic "
     "signal, whose delay is known up to whole periods only, unless the search is kept under half a period.", GCC,
     {"decimals": 3, "limit": Limit(-0.05, 0.05), "signed": True, "phrase": "Late or early", "undone": "account_delay",
      "follows": ("channel_swap", "channel_missing"), "apart": (0.2, 0.02)}),
    ("delay_time", "Delay, time", "ms", "The delay in milliseconds.", GCC, {"decimals": 4, "signed": True}),
    ("delay_drift", "Delay drift", "ppm",
     "Slope of the delay over the file, from the delays of up to 24 parts of it; positive when the render plays "
     "slower. Uncertainty at 95 %. No reading under 2 s, or when too few parts correlate.", GCC,
     {"signed": True, "common": True}),
    ("polarity", "Polarity", "",
     "Sign of the correlation at the delay: −1 for an inverted render. No reading without a delay, nor where the "
     "squared correlation at zero phase is under 0.5.", PRACTICE,
     {**SIGN, "limit": Limit(at_least=1), "phrase": "Polarity inverted", "undone": "account_polarity",
      "follows": ("channel_swap",)}),
    ("gain", "Gain", "dB",
     "Level of the render over the reference: power of that part of the render which is coherent with the reference "
     "over the reference's own, once both are lined up; noise does not count, and an all-pass reads 0. Of a periodic "
     "signal it is the same at each delay that fits. Uncertainty at 95 %, from the spectra of noise and signal. All "
     "channels: powers added up. No reading when either side is silent, no delay was found, or noise leaves over 3 dB "
     "of uncertainty.",
     "J. S. Bendat, A. G. Piersol, Random Data: coherent output power.",
     {"decimals": 3, "limit": Limit(-0.05, 0.05), "signed": True, "phrase": "Level differs", "undone": "account_gain",
      "follows": ("channel_swap", "channel_missing"), "apart": (0.02, 0.02)}),
    ("gain_in_phase", "Gain in phase", "dB",
     "Least-squares gain of the render over the reference once both are lined up, below a sample too: what a change of "
     "phase takes from it counts. Uncertainty at 95 %. All channels: one fit over all. No reading where no delay was "
     "found, the squared correlation is under 0.9, or the uncertainty over 1 dB.",
     "Least squares: <x, y> / <x, x>.", {"decimals": 3, "signed": True}),
    ("residual_peak", "Residual, peak", "dBFS",
     "Sample peak of render − reference over the overlap that the alignment leaves.", AES17),
    ("residual_rms", "Residual, RMS", "dBFS",
     "RMS level (AES17) of render − reference over the overlap that the alignment leaves. Only what was asked "
     "for is taken off: whole samples of delay, unless set otherwise.", AES17,
     {"limit": Limit(at_most=-120.0), "phrase": "Differs from {other}", "is_difference": True,
      "follows": ("channel_swap", "channel_missing", "gaps", "clicks")}),
    ("null_depth", "Null depth", "dB",
     "RMS of the reference less RMS of the residual: greater is deeper. No reading for a perfect null.", PRACTICE,
     {"better": "more"}),
    ("residual_loudness", "Residual, loudness", "LUFS",
     "Integrated loudness of render − reference; without gates where these leave nothing.", R128,
     {"common": True}),
    ("changed_samples", "Changed samples", "",
     "Frames in which any channel differs by more than half a step of the coarser file's word length "
     "(float: 2⁻²⁴). All channels: frames that changed in any.", PRACTICE, COUNT),
    ("changed_share", "Changed samples, share", "%", "Changed samples as a share of the frames compared.", PRACTICE,
     {"decimals": 3}),
    ("changed_regions", "Changed regions", "",
     "Changed frames closer than 1 ms form a region; the count of them.", PRACTICE, {**COUNT, "common": True}),
    ("longest_change", "Longest change", "ms", "Length of the longest region, both ends counted.", PRACTICE,
     {"common": True}),
    ("changed_below", "Changed below the ceiling", "",
     "Changed samples whose reference magnitude is under the ceiling asked for. All channels: changed frames at which "
     "it is so in every channel that changed.", PRACTICE,
     COUNT),
)  # fmt: skip

_LEFT = "Residual RMS (AES17), at the reference's level, "
_ACCOUNT = family(
    "account", "pair",
    ("account_raw", "As rendered", "dBFS", _LEFT + "with nothing taken off.", AES17),
    ("account_delay", "Delay off", "dBFS", _LEFT + "with whole samples of delay off.", AES17),
    ("account_polarity", "Polarity off", "dBFS", _LEFT + "with an inverted render inverted back as well.", AES17),
    ("account_gain", "Gain off", "dBFS", _LEFT + "with the least-squares gain off as well.", AES17),
    ("account_fraction", "Fraction of a sample off", "dBFS",
     _LEFT + "with the rest of the delay off as well, band-limited.", AES17),
    ("account_filter", "Linear filter off", "dBFS",
     _LEFT + "with what the best linear filter from reference to render explains off, of up to 512 taps before and "
     "1536 after its main one; regularised least squares, fitted on every other part and judged on the rest, over "
     "144 000 frames of a long file. No reading where the reference is one steady tone.",
     "Least squares, normal equations."),
    ("account_remainder", "Left over", "dBFS", "The least of all steps: what nothing linear explains.", AES17),
)  # fmt: skip

_TAKES = family(
    "takes", "takes",
    ("take_spread", "Spread of takes", "dBFS", "Greatest residual RMS (AES17) between any two takes.", PRACTICE),
    ("take_shift", "Shift of takes", "samples",
     "Greatest delay between any two takes, by which they are laid over each other for their spread.", PRACTICE),
)  # fmt: skip

_TONE = family(
    "tone", "file",
    ("fundamental_frequency", "Fundamental, frequency", "Hz",
     "Frequency of the tone, refined on its phase. All channels: of the strongest. No reading when no line of at "
     "least −120 dBFS stands 20 dB out of what is around it within 0.5 % of what was asked for.", AES17,
     {"decimals": 4}),
    ("fundamental_level", "Fundamental, level", "dBFS", "Peak level of the sine.", AES17,
     {"phrase": "Level of the tone is off", "apart": (0.1, 0.02), "repeats": ("gain", 0.1)}),
    *((f"harmonic_{n}", f"Harmonic {n}", "dB",
       f"Level of the line at {n} times the fundamental, re fundamental. Only a bound where it does not stand 6 dB out "
       "of the lines around it; no reading at or above half the rate.", IEC3) for n in range(2, 11)),
    ("thd", "Harmonic distortion", "dB",
     "Power sum of all harmonics below half the rate, re fundamental; one exactly there is left out.", IEC3),
    ("thd_percent", "Harmonic distortion, percent", "%", "The same as a share of the fundamental's amplitude.", IEC3,
     {"decimals": 4}),
    ("thd_n", "Distortion and noise", "dB",
     "All that is not the fundamental in the band, 20 Hz to 20 kHz unless set, re fundamental.", IEC3),
    ("noise_floor", "Noise floor", "dBFS",
     "RMS (AES17) over the same band of all that is neither fundamental, harmonic nor alias.", AES17),
    ("spurious_level", "Greatest spurious line", "dBFS",
     "Peak level of the greatest line that is neither fundamental, harmonic nor alias; a bound where none stands out.",
     PRACTICE),
    ("spurious_frequency", "Greatest spurious line, frequency", "Hz", "Where it lies.", PRACTICE, {"decimals": 1}),
)  # fmt: skip

_ALIASES = family(
    "aliases", "file",
    ("alias_first_level", "First alias", "dBFS",
     "Peak level of the alias of lowest order that stands at least 6 dB out of the lines around it, orders up to 100.",
     FOLD),
    ("alias_first_frequency", "First alias, frequency", "Hz", "Where it lies.", FOLD, {"decimals": 1}),
    ("alias_first_order", "First alias, order", "", "Its order.", FOLD, COUNT),
    ("alias_worst_level", "Worst alias", "dBFS",
     "Peak level of the greatest alias that stands out. One that falls beside the fundamental or a harmonic is solved "
     "by least squares. Closer than one over the length, or at zero or half the rate, none can be told apart: these "
     "are counted, and where under two of lower order, odd or even alike, can be told, the reading is a bound by what "
     "they fall on. Of stepped tones: the worst of all steps.",
     FOLD + " Limit: the floor of 16-bit audio, common practice.", {"limit": Limit(at_most=-96.0)}),
    ("alias_worst_frequency", "Worst alias, frequency", "Hz", "Where it lies.", FOLD, {"decimals": 1}),
    ("alias_worst_order", "Worst alias, order", "", "Its order.", FOLD, COUNT),
    ("alias_total", "All aliases", "dBFS", "Power sum of the aliases that stand out, as the peak of one sine.", FOLD),
)  # fmt: skip

_IMD = family(
    "imd", "file",
    ("imd_smpte", "Intermodulation, SMPTE", "dB",
     "RMS sum of the side lines of the upper tone, at multiples of the lower up to 500 Hz away, re upper tone. A meter "
     "that demodulates adds the two sides and reads 3.01 dB more where they are equal. No reading unless the tones are "
     "at least 8:1 apart.", "SMPTE RP 120; of demodulation, arithmetic of amplitude modulation."),
    ("imd_smpte_percent", "Intermodulation, SMPTE, percent", "%", "The same in percent.", "SMPTE RP 120.",
     {"decimals": 4}),
    ("imd_difference", "Intermodulation, difference tone", "dB",
     "Root of the squares of second order, the line at f2 − f1, and third order, the sum of the lines at 2·f1 − f2 and "
     "2·f2 − f1, each re the sum of both tones. No reading unless the tones are within an octave.", "IEC 60268-3."),
    ("imd_difference_percent", "Intermodulation, difference tone, percent", "%", "The same in percent.",
     "IEC 60268-3.", {"decimals": 4}),
)  # fmt: skip

DECLARED: tuple[Measure, ...] = (
    *_LEVELS,
    *_LOUDNESS,
    *_INTEGRITY,
    *_COMPARE,
    *_ACCOUNT,
    *_TAKES,
    *_TONE,
    *_ALIASES,
    *_IMD,
    *SYSTEMS,
)
