"""Curves of many over each other, over HTTP."""
