"""Audio as numbers: sources and blocks of samples, resampling, alignment, spectra, pictures of a waveform."""
