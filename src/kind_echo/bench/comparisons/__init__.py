"""Pairs: analysing them, their readings as documents, their audio by address."""
