"""Plans that run by themselves."""
