"""Who is told of what, and what was answered."""
