"""Speed and memory, as ratios measured in one run."""
