"""What a plan would miss, over HTTP."""
