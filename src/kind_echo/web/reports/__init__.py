"""Reports to print and to send."""
