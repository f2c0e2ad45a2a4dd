"""Loops over samples, compiled by Cython."""
