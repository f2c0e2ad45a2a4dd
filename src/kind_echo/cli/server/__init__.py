"""Commands of the bench: plans, runs, people, the database."""
