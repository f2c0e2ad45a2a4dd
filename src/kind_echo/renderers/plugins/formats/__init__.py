"""One module for each standard: a host that runs within the child process."""
