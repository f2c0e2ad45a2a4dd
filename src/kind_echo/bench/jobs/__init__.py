"""What workers do for each kind of job."""
