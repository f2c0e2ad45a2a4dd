"""Trends, searches and runs compared with each other."""
