"""The queue of jobs."""
