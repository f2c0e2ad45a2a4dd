"""The workers: one beside the database, one on a render machine."""
