"""The sheet of a run, its findings, trends, and one run compared with another."""
