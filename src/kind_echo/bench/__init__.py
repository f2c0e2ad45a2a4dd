"""The rules of the job: plans, runs, comparing, verdicts, references. Knows no Flask."""
