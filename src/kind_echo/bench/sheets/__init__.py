"""The sheet of a run, its findings, trends, and one run laid over another."""
