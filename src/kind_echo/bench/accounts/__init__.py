"""People, what each may do, tokens, and the log of what was done."""
