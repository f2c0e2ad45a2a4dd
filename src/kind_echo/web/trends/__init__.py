"""Trends, searches and runs laid over each other."""
