"""The command line. `main` is its entry; each command's module is imported only when it is called."""
