"""Who asks, and what they may reach: sessions, tokens, rates."""
