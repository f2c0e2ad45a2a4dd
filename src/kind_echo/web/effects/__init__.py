"""Effects and their builds."""
