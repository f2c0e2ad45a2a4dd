"""What explains a difference: filters, curves, moving gains, clicks, gaps, lossy encoding, noise."""
