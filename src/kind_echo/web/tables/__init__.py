"""Tables to take away."""
