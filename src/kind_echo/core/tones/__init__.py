"""Steady and stepped tones: harmonics, aliases, noise, intermodulation."""
