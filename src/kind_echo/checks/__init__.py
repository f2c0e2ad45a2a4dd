"""Checks of a folder of renders against a folder of references, without a server: what `kind-echo check` does."""
