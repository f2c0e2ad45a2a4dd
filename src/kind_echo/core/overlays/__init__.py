"""Curves of many files over each other, and how far each lies from the reference's."""
