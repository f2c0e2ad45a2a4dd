"""References, verdicts as they are kept, and what people decide."""
