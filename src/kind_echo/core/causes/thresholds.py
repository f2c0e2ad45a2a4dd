"""When a cause is named: choices of this product, which `benchmarks.causes` holds to real sounds with planted changes.

Where something else fixed a value, it stands beside it.
"""

from dataclasses import dataclass


@dataclass(frozen=True)
class Naming:
    """Thresholds of the naming of causes; decibels of residual power where the name does not say otherwise.

    Attributes:
        worth_db: that undoing a cause must take off, for it to be one: a quarter of the power.
        floor: mean square, −140 dBFS: what is under it need not be explained. 24 bits end at −146.
        silent_dbfs: peak of what differs in all of a file, under which nothing differs.
        least_power: what stands for no power at all in a share.
        least_gain_db: of all channels.
        channels_apart_db: by which the gains of channels differ.
        bent_apart_db: the same where a curve or a clipping stands beside the gains.
        filters_gain_db: twice the width of the level part of a filter, from which that is a gain.
        no_filter_db, no_filter_degrees: within which a filter beside a curve changes nothing.
        least_filter_db: of a filter that turns no phase either.
        well_explained_db: off what there was, after which what is left is how well the causes are known.
        doubtful_db: that a filter or a curve must take off where something is left that nothing explains.
        filters_own, curves_own: times what is left, that a model has explained: then what is left is the model's own.
        deep_db: off what there was, after which nothing further is looked for.
        rounded: of the most that rounding leaves, which it leaves at least.
        codec_edge_db: that the filter of a codec takes off.
        all_pass_seconds: a delay longer than that is none of an all-pass.
        all_pass_share, all_pass_enough_db: times what is left beside a delay, or decibels off, at which an all-pass
            explains it all.
        all_pass_degrees: that such a filter turns the phase by at least.
        least_unmasked: share of a sound that must be left once gaps and clicks are left out.
        line_share: of the power in one line, from which an all-pass is not told from a delay.
        faded: of its level, under which a channel has part in the gap of another.
        told_events_db: that leaving gaps and clicks out takes off, from which it is told.
        least_delay_samples: under which a delay is the rounding of a search.
        barely_late_samples: under which a delay may be a filter's.
        drift_samples: over the whole file, from which a drift is told; filters_drift_samples: beside a filter.
    """

    worth_db: float = 1.0
    floor: float = 0.5e-14
    silent_dbfs: float = -130.0
    least_power: float = 1e-20
    least_gain_db: float = 0.005
    channels_apart_db: float = 0.02
    bent_apart_db: float = 0.1
    filters_gain_db: float = 0.25
    no_filter_db: float = 0.15
    no_filter_degrees: float = 2.0
    least_filter_db: float = 0.02
    well_explained_db: float = 20.0
    doubtful_db: float = 6.0
    filters_own: float = 1e5
    curves_own: float = 10**3.8
    deep_db: float = 50.0
    rounded: float = 0.05
    codec_edge_db: float = 8.0
    all_pass_seconds: float = 0.001
    all_pass_share: float = 2.0
    all_pass_enough_db: float = 40.0
    all_pass_degrees: float = 10.0
    least_unmasked: float = 0.5
    line_share: float = 0.995
    faded: float = 0.5
    told_events_db: float = 0.1
    least_delay_samples: float = 5e-4
    barely_late_samples: float = 0.05
    drift_samples: float = 0.05
    filters_drift_samples: float = 0.5


NAMING = Naming()
