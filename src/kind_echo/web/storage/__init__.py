"""What takes the space, and the rule for it."""
